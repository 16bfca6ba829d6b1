"""Dialects: the words an instrument understands, as data files; the shipped ones and a person's own.

A dialect is checked whole when it is loaded: an unknown key, a placeholder that nothing fills, a unit of another
quantity, a pattern that is none, or a load or supply without a way to be switched off, is refused before anything flows.
"""

from __future__ import annotations

import tomllib
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Annotated, Any, Literal

import regex
from pydantic import Field, TypeAdapter, ValidationError, model_validator

from wintry_tally.bench.drivers.drives import (
    Asks,
    ModbusLoad,
    ModbusSupply,
    Register,
    Strict,
    TextLoad,
    TextSupply,
    as_it_stands,
    pattern_checked,
)
from wintry_tally.bench.drivers.quantities import quantities_checked
from wintry_tally.core.errors import InputError, InstrumentError
from wintry_tally.files import table_of

KINDS = ("scpi", "line", "file", "asked", "modbus")
PATTERN_S = 0.05
"""A pattern that takes longer for one line is no pattern to live with."""
MOST_LINE = 1024


class _Named(Strict):
    title: str = Field(min_length=1)
    name: str = ""

    @property
    def load_words(self) -> TextLoad | ModbusLoad | None:
        """How a load of this dialect is driven."""
        return getattr(self, "load", None)

    @property
    def supply_words(self) -> TextSupply | ModbusSupply | None:
        """How a supply of this dialect is driven."""
        return getattr(self, "supply", None)


class ScpiDialect(_Named):
    """Asked and told in text, a question for each quantity."""

    kind: Literal["scpi"]
    identify: str = ""
    line_end: str = "\n"
    decimal: Literal[".", ","] = "."
    baud: int = Field(default=9600, ge=50, le=4_000_000)
    load: TextLoad | None = None
    supply: TextSupply | None = None
    reads: Asks = Field(default_factory=dict)
    thermometer: Asks = Field(default_factory=dict)

    @model_validator(mode="after")
    def _whole(self) -> ScpiDialect:
        for asks in (self.reads, self.thermometer):
            quantities_checked({name: question.unit for name, question in asks.items()})
            as_it_stands(tuple(question.ask for question in asks.values()), "a question")
        _end(self.line_end)
        return self


class LineDialect(_Named):
    """Sends lines by itself: values by the groups of a pattern, or by the words that stand before them."""

    kind: Literal["line"]
    baud: int = Field(default=9600, ge=50, le=4_000_000)
    decimal: Literal[".", ","] = "."
    pattern: str
    pairs: dict[str, str] = Field(default_factory=dict)
    units: dict[str, str] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _whole(self) -> LineDialect:
        _line_pattern(self.pattern, self.pairs)
        quantities_checked(self.units)
        return self


class FileDialect(_Named):
    """Another program's log: columns found by patterns of their titles."""

    kind: Literal["file"]
    delimiter: str = Field(default=",", min_length=1, max_length=1)
    decimal: Literal[".", ","] = "."
    columns: dict[str, str]
    units: dict[str, str] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _whole(self) -> FileDialect:
        quantities_checked(dict.fromkeys(self.columns, "") | self.units)
        for text in self.columns.values():
            pattern_checked(text)
        return self


class AskedDialect(_Named):
    """One question answered by a line of several values; loads and supplies are told in lines."""

    kind: Literal["asked"]
    ask: str
    line_end: str = "\n"
    baud: int = Field(default=9600, ge=50, le=4_000_000)
    decimal: Literal[".", ","] = "."
    pattern: str
    pairs: dict[str, str] = Field(default_factory=dict)
    units: dict[str, str] = Field(default_factory=dict)
    load: TextLoad | None = None
    supply: TextSupply | None = None

    @model_validator(mode="after")
    def _whole(self) -> AskedDialect:
        _line_pattern(self.pattern, self.pairs)
        quantities_checked(self.units)
        _end(self.line_end)
        return self


class ModbusDialect(_Named):
    """Registers over a network or a serial line."""

    kind: Literal["modbus"]
    unit_id: int = Field(default=1, ge=0, le=247)
    baud: int = Field(default=9600, ge=50, le=4_000_000)
    parity: Literal["N", "E", "O"] = "N"
    reads: dict[str, Register] = Field(default_factory=dict)
    load: ModbusLoad | None = None
    supply: ModbusSupply | None = None

    @model_validator(mode="after")
    def _whole(self) -> ModbusDialect:
        quantities_checked({name: register.unit for name, register in self.reads.items()})
        return self


Dialect = ScpiDialect | LineDialect | FileDialect | AskedDialect | ModbusDialect
_ANY: TypeAdapter[Dialect] = TypeAdapter(Annotated[Dialect, Field(discriminator="kind")])


def _line_pattern(text: str, pairs: dict[str, str]) -> None:
    pattern_checked(text)
    groups = set(regex.compile(text).groupindex)
    if pairs:
        if not {"key", "value"} <= groups:
            raise ValueError("with pairs, the pattern needs the groups key and value")
        quantities_checked(dict.fromkeys(pairs.values(), ""))
    elif not groups:
        raise ValueError("the pattern needs a group named after a quantity, like voltage or current")
    else:
        quantities_checked(dict.fromkeys(groups, ""))


def _end(text: str) -> None:
    if text not in {"\n", "\r", "\r\n", ";"}:
        raise ValueError(f"a line ends with \\n, \\r, \\r\\n or ;, not {text!r}")


def matched(pattern: str, text: str) -> list[regex.Match[str]]:
    """Every place where a dialect's pattern fits a line.

    Raises:
        InstrumentError: it takes too long.
    """
    try:
        return list(regex.finditer(pattern, text[:MOST_LINE], timeout=PATTERN_S))
    except TimeoutError:
        raise InstrumentError(
            f"the dialect's pattern takes longer than {1000 * PATTERN_S:.0f} ms for one line",
            mend="write a simpler one",
        ) from None


def dialect_from(data: dict[str, Any], name: str) -> Dialect:
    """A dialect from plain data.

    Raises:
        InputError: what is wrong with it, every fault in one line.
    """
    try:
        made = _ANY.validate_python(data)
    except ValidationError as error:
        raise InputError("; ".join(_said(item) for item in error.errors()[:6]), name) from None
    return made.model_copy(update={"name": made.name or name})


def _said(item: Any) -> str:
    """A validation error in words: where it is, and what."""
    place = ".".join(str(part) for part in item["loc"] if part not in KINDS)
    text = str(item["msg"]).removeprefix("Value error, ")
    if item["type"] == "extra_forbidden":
        text = "no part of a dialect"
    elif item["type"] in {"union_tag_invalid", "union_tag_not_found"}:
        place, text = "kind", f"must be one of {', '.join(KINDS)}"
    elif item["type"] == "missing":
        text = "is missing"
    return f"{place}: {text}" if place else text


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
    if not name.endswith(".toml") or not path.exists():
        raise InputError(f'no dialect is called "{name}"', mend=f"use {', '.join(shipped_dialects())}, or a .toml file")
    return dialect_from(table_of(path, "a dialect: TOML"), name)
