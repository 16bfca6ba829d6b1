"""How instruments are spoken to, one TOML file a dialect: data, read by `bench.drivers.dialect`."""
