"""TOML or JSON files, whichever they turn out to be."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

from wintry_tally.core.errors import InputError


def read_plain(path: Path) -> dict[str, Any]:
    """The table in a TOML or JSON file.

    Raises:
        InputError: it is not there, cannot be read, or holds no table; with the file's name.
    """
    name = str(path)
    try:
        text = path.read_text(encoding="utf-8")
        data = json.loads(text) if text.lstrip()[:1] == "{" else tomllib.loads(text)
    except FileNotFoundError:
        raise InputError("there is no such file", name, "check the path") from None
    except (OSError, UnicodeDecodeError, json.JSONDecodeError, tomllib.TOMLDecodeError, RecursionError) as error:
        raise InputError(f"cannot be read as TOML or JSON ({error})", name) from None
    if not isinstance(data, dict):
        raise InputError("holds no table", name)
    return data
