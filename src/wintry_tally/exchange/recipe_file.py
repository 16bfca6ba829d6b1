"""Recipes in files: the shipped ones, and a person's own, in TOML or JSON."""

from __future__ import annotations

import json
import tomllib
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.template import Template, template_data, template_from
from wintry_tally.files import table_of


@cache
def shipped() -> dict[str, Template]:
    """Every recipe that ships, by name."""
    found = {}
    for entry in sorted(resources.files("wintry_tally.recipes").iterdir(), key=lambda item: item.name):
        if entry.name.endswith(".toml"):
            template = template_from(tomllib.loads(entry.read_text(encoding="utf-8")), entry.name)
            found[template.name] = template
    return found


def shipped_recipe(name: str) -> Template:
    """The shipped recipe of that name.

    Raises:
        InputError: none is called so; those known are listed.
    """
    try:
        return shipped()[name]
    except KeyError:
        raise InputError(f'no recipe is called "{name}"', mend=f"there are {', '.join(shipped())}") from None


def read_recipe(path: Path) -> Template:
    """A recipe from a TOML or JSON file.

    Raises:
        InputError: it cannot be read, or is no recipe; with its place.
    """
    return template_from(table_of(path, "a recipe: TOML or JSON"), str(path))


def write_recipe(template: Template, path: Path) -> None:
    """Write a recipe as TOML, or as JSON where the file's name ends so.

    Raises:
        InputError: the file cannot be written.
    """
    data = template_data(template)
    text = json.dumps(data, indent=2, ensure_ascii=False) if path.suffix == ".json" else _toml(data)
    try:
        path.write_text(text + "\n", encoding="utf-8")
    except OSError as error:
        raise InputError(f"cannot be written ({error.strerror or error})", str(path)) from None


def _toml(data: dict[str, Any]) -> str:
    lines = [f"{key} = {_value(value)}" for key, value in data.items() if key != "step"]
    for step in data["step"]:
        lines += ["", "[[step]]"]
        lines += [f"{key} = {_value(value)}" for key, value in step.items() if key != "ends"]
        lines.append("ends = [")
        lines += [f"  {_value(rule)}," for rule in step["ends"]]
        lines.append("]")
    return "\n".join(lines)


def _value(value: Any) -> str:
    """A value in TOML; JSON's texts and numbers are TOML's too."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {_value(item)}" for key, item in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(_value(item) for item in value) + "]"
    return json.dumps(value, ensure_ascii=False)
