"""The recipes that ship, one TOML file each: data, read by `exchange.recipe_file`."""
