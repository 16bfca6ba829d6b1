"""Dialects: the words an instrument understands, as data files; the shipped ones and a person's own."""

from __future__ import annotations

import re
import tomllib
from dataclasses import dataclass, field
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from wintry_tally.core.errors import InputError

KINDS = ("scpi", "line", "file")


@dataclass(frozen=True)
class Dialect:
    """How one sort of instrument is spoken to.

    Parts:
        kind: "scpi" (asked and told in text), "line" (sends lines by itself), "file" (another program's log).
        load, supply: commands by what is to be done, with {setting} and {limit}; `off`, and `is_off` to make sure.
        reads, thermometer: the question for each quantity.
        pattern: of a line, with groups named after quantities; columns: header pattern by quantity.
        pairs: quantity by the word a line puts before its value; the pattern then has a group key and a group value.
    """

    name: str
    kind: str
    title: str
    identify: str = ""
    line_end: str = "\n"
    load: dict[str, Any] = field(default_factory=dict)
    supply: dict[str, Any] = field(default_factory=dict)
    reads: dict[str, str] = field(default_factory=dict)
    thermometer: dict[str, str] = field(default_factory=dict)
    baud: int = 9600
    pattern: str = ""
    delimiter: str = ","
    columns: dict[str, str] = field(default_factory=dict)
    pairs: dict[str, str] = field(default_factory=dict)


def dialect_from(data: dict[str, Any], name: str) -> Dialect:
    """A dialect from plain data.

    Raises:
        InputError: a part missing or unknown, or a pattern that is none.
    """
    unknown = set(data) - set(Dialect.__dataclass_fields__)
    if unknown:
        raise InputError(f'"{sorted(unknown)[0]}" is no part of a dialect', name)
    if data.get("kind") not in KINDS or not data.get("title"):
        raise InputError(f"a dialect needs a title and a kind of {', '.join(KINDS)}", name)
    made = Dialect(name=data.get("name", name), **{key: value for key, value in data.items() if key != "name"})
    for text in (made.pattern, *made.columns.values()):
        try:
            re.compile(text)
        except re.error as error:
            raise InputError(f'"{text}" is no pattern ({error})', name) from None
    if made.kind == "line" and "(?P<" not in made.pattern:
        raise InputError("a line's pattern needs a group named voltage, current or temperature", name)
    return made


@cache
def shipped_dialects() -> dict[str, Dialect]:
    """Every dialect that ships, by name."""
    found = {}
    for entry in sorted(resources.files("wintry_tally.bench.dialects").iterdir(), key=lambda item: item.name):
        if entry.name.endswith(".toml"):
            name = entry.name.removesuffix(".toml")
            found[name] = dialect_from(tomllib.loads(entry.read_text(encoding="utf-8")), name)
    return found


def dialect_named(name: str) -> Dialect:
    """A shipped dialect by name, or one from a TOML file by its path.

    Raises:
        InputError: there is none.
    """
    known = shipped_dialects().get(name)
    if known is not None:
        return known
    path = Path(name)
    if not name.endswith(".toml") or not path.is_file():
        raise InputError(f'no dialect is called "{name}"', mend=f"use {', '.join(shipped_dialects())}, or a .toml file")
    try:
        return dialect_from(tomllib.loads(path.read_text(encoding="utf-8")), path.stem)
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise InputError(f"cannot be read as TOML ({error})", name) from None
