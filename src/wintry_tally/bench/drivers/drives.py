"""How loads and supplies are told: the parts of a dialect that make something flow, each checked whole when loaded."""

from __future__ import annotations

import string
from typing import Annotated, Any, Literal

import regex
from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, model_validator


def _tuple(value: Any) -> Any:
    return ((value,) if value.strip() else ()) if isinstance(value, str) else value


def _none_blank(says: tuple[str, ...]) -> tuple[str, ...]:
    if not all(text.strip() for text in says):
        raise ValueError("one of its commands is empty")
    return says


def _asked(value: Any) -> Any:
    return {"ask": value} if isinstance(value, str) else value


class Strict(BaseModel):
    """Unknown keys and values of another type are refused."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


Says = Annotated[tuple[str, ...], BeforeValidator(_tuple), Field(strict=False), AfterValidator(_none_blank)]
"""One command, or several in order; none where it is an empty text."""


class Question(Strict):
    """What is asked for a quantity, and the unit the answer is in."""

    ask: str = Field(pattern=r"\S")
    unit: str = ""


Asks = dict[str, Annotated[Question, BeforeValidator(_asked)]]


class Watchdog(Strict):
    """An instrument's own watchdog: armed before its output goes on, fed while it is driven."""

    arm: Says = Field(min_length=1)
    feed: Says = Field(min_length=1)
    disarm: Says = ()


class TextDrives(Strict):
    """How a load or a supply is told, in text.

    Parts:
        off, is_off: switched off, and asked whether it is; `seen_by = "meter"` for one that cannot be asked.
        refused: asked after a setting; an answer other than 0 is a refusal.
        accepts: pattern of the answer that every command gets, where it gets one.
    """

    off: Says
    is_off: str = ""
    seen_by: Literal["", "meter"] = ""
    refused: str = ""
    accepts: str = ""
    watchdog: Watchdog | None = None
    one_connection: bool = False

    @model_validator(mode="after")
    def _whole(self) -> TextDrives:
        if not self.off:
            raise ValueError("off is empty: whatever drives must be switched off")
        if not self.is_off and not self.seen_by:
            raise ValueError('say how it is seen to be off: is_off = "…", or seen_by = "meter"')
        as_it_stands(self.off, "off")
        as_it_stands((self.is_off, self.refused), "a question")
        if self.watchdog is not None:
            as_it_stands((*self.watchdog.arm, *self.watchdog.feed, *self.watchdog.disarm), "watchdog")
        pattern_checked(self.accepts)
        return self


class TextLoad(TextDrives):
    """A load's words, by the way it draws; each holds {setting}."""

    current: Says = ()
    power: Says = ()
    resistance: Says = ()

    @model_validator(mode="after")
    def _ways(self) -> TextLoad:
        if not any(self.ways.values()):
            raise ValueError("a load needs words for current, power or resistance")
        for name, says in self.ways.items():
            if says:
                _placeholders(says, {"setting"}, name)
        return self

    @property
    def ways(self) -> dict[str, Says]:
        """The words by mode."""
        return {"current": self.current, "power": self.power, "resistance": self.resistance}


class TextSupply(TextDrives):
    """A supply's words; `charge` holds {setting} and {limit}."""

    charge: Says

    @model_validator(mode="after")
    def _ways(self) -> TextSupply:
        _placeholders(self.charge, {"setting", "limit"}, "charge")
        return self


NUMBERS = Literal["u16", "i16", "u32", "i32", "f32"]


class Register(Strict):
    """A register that is read: value = scale × its number, in `unit`."""

    at: int = Field(ge=0, le=65535, alias="register")
    table: Literal["holding", "input"] = "holding"
    type: NUMBERS = "u16"
    scale: float = 1.0
    unit: str = ""


class Write(Strict):
    """What is written: a coil (0 or 1) or a register; `value` a number, "setting" or "limit" (divided by `scale`)."""

    coil: int | None = Field(default=None, ge=0, le=65535)
    at: int | None = Field(default=None, ge=0, le=65535, alias="register")
    type: NUMBERS = "u16"
    scale: float = Field(default=1.0, gt=0)
    value: float | Literal["setting", "limit"]

    @model_validator(mode="after")
    def _one(self) -> Write:
        if (self.coil is None) == (self.at is None):
            raise ValueError("write either a coil or a register")
        if self.coil is not None and self.value not in {0, 1}:
            raise ValueError("a coil is 0 or 1")
        return self


class Flag(Strict):
    """What tells whether an output is on: a coil, or a register; `off` is what it holds when it is off."""

    coil: int | None = Field(default=None, ge=0, le=65535)
    at: int | None = Field(default=None, ge=0, le=65535, alias="register")
    off: int = 0

    @model_validator(mode="after")
    def _one(self) -> Flag:
        if (self.coil is None) == (self.at is None):
            raise ValueError("ask either a coil or a register")
        return self


Writes = Annotated[tuple[Write, ...], Field(strict=False)]


class ModbusDrives(Strict):
    """How a load or a supply is told, in registers."""

    off: Writes = Field(min_length=1)
    is_off: Flag | None = None
    seen_by: Literal["", "meter"] = ""
    one_connection: bool = False

    @model_validator(mode="after")
    def _whole(self) -> ModbusDrives:
        if self.is_off is None and not self.seen_by:
            raise ValueError('say how it is seen to be off: is_off = {…}, or seen_by = "meter"')
        if any(isinstance(item.value, str) for item in self.off):
            raise ValueError("off writes numbers, no setting")
        return self


class ModbusLoad(ModbusDrives):
    """A load's writes, by the way it draws."""

    current: Writes = ()
    power: Writes = ()
    resistance: Writes = ()

    @model_validator(mode="after")
    def _ways(self) -> ModbusLoad:
        if not any(self.ways.values()):
            raise ValueError("a load needs writes for current, power or resistance")
        for writes in filter(None, self.ways.values()):
            _settings(writes, {"setting"})
        return self

    @property
    def ways(self) -> dict[str, Writes]:
        """The writes by mode."""
        return {"current": self.current, "power": self.power, "resistance": self.resistance}


class ModbusSupply(ModbusDrives):
    """A supply's writes."""

    charge: Writes

    @model_validator(mode="after")
    def _ways(self) -> ModbusSupply:
        _settings(self.charge, {"setting", "limit"})
        return self


def pattern_checked(text: str) -> None:
    try:
        regex.compile(text)
    except regex.error as error:
        raise ValueError(f'"{text}" is no pattern ({error})') from None


def _fields(text: str) -> list[str]:
    try:
        return [name for _, name, _, _ in string.Formatter().parse(text) if name is not None]
    except ValueError as error:
        raise ValueError(f'"{text}": {error}') from None


def as_it_stands(says: tuple[str, ...], where: str) -> None:
    for text in says:
        if text and not text.strip():
            raise ValueError(f"{where} of nothing but blanks is none")
        if _fields(text):
            raise ValueError(f'"{text}": {where} is said as it stands, without {{…}}')


def _placeholders(says: tuple[str, ...], wanted: set[str], where: str) -> None:
    used = [name for text in says for name in _fields(text)]
    unknown = sorted(set(used) - wanted)
    if unknown:
        raise ValueError(
            f"{where}: {{{unknown[0]}}} is not known; use {', '.join(f'{{{name}}}' for name in sorted(wanted))}"
        )
    missing = sorted(wanted - set(used))
    if missing:
        raise ValueError(f"{where}: {{{missing[0]}}} is missing")
    for text in says:
        try:
            text.format(**dict.fromkeys(wanted, 1.5))
        except (ValueError, IndexError, KeyError, AttributeError) as error:
            raise ValueError(f'{where}: "{text}" cannot be filled in ({error})') from None


def _settings(writes: tuple[Write, ...], wanted: set[str]) -> None:
    used = {item.value for item in writes if isinstance(item.value, str)}
    if used != wanted:
        raise ValueError(f"writes must hold {' and '.join(sorted(wanted))} and nothing else to be filled in")
