"""The reader's units and decimal mark: °F, lb, in and AWG, and 12,9 in words and figures that are worked out in °C, kg, mm and
mm² with a point.

Only what is shown changes: values, files and what is kept have the kept units of `units.KEPT`. What stands between “ and ”
is somebody's own words and is left as it is. International pound and inch (1959), exact.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, TypeVar

from wintry_tally.core.quantity.display import MINUS, decimals_for, format_number, format_plain
from wintry_tally.core.quantity.units import CURRENCIES, KEPT, find_unit
from wintry_tally.core.quantity.wires import gauge_of

# numbers alone are put into words before anything needs arrays
if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

CHOICES: dict[str, tuple[str, ...]] = {
    "temperature": ("°C", "°F"), "mass": ("kg", "lb"), "length": ("mm", "in"), "wire": ("mm²", "AWG"),
    "decimal": (".", ","), "money": ("", *CURRENCIES),
}  # fmt: skip
"""What can be chosen, the kept unit first."""
KELVIN_F = 1.8
"""Degrees Fahrenheit in a kelvin."""


@dataclass(frozen=True)
class Units:
    """The units a reader wants; each one of `CHOICES`."""

    temperature: str = "°C"
    mass: str = "kg"
    length: str = "mm"
    wire: str = "mm²"
    decimal: str = "."
    money: str = ""
    """The currency of a price that is typed without one; prices are shown in their own, and are never converted."""

    @property
    def kept(self) -> bool:
        """Whether nothing is to be changed."""
        return replace(self, money="") == Units()

    def of(self, dimension: str) -> str:
        """The unit of a dimension, the kept one where there is no choice."""
        return str(getattr(self, dimension)) if dimension in {"temperature", "mass", "length"} else KEPT[dimension]


METRIC, US = Units(), Units("°F", "lb", "in", "AWG")
SYSTEMS = {"metric": METRIC, "us": US}

Number = TypeVar("Number", float, "NDArray[np.float64]")

_NUMBER = rf"[{MINUS}\-]?\d+(?:\.\d+)?"
_JOIN = r" ± | to | × |–|(?<=\d)-|/"
_MEASURED = re.compile(
    rf"(?<![\w.,])(?P<chain>{_NUMBER}(?:(?:{_JOIN}){_NUMBER})*|(?<=between ){_NUMBER} and {_NUMBER})"
    r"(?P<gap>(?: ± \?)? ?)(?P<unit>°C|K|kg|mm²|mm|[AW]h/kg|Wh per kg)(?![\w²³])(?P<after>(?: \(AWG)?)"
)
_NUMERAL = re.compile(r"(?<![\w.,:/])\d+\.\d+(?!\.\w)(?![\d])")
"""A number with decimals in words; none are dates, addresses, versions and names of files, which have more points or letters on.
What has a comma already stays, so that words may go through here twice."""
_CITED = re.compile(r"\b(?:JCGM|ISO|IEC|IEEE|DIN|EN) \d")
"""A standard that is cited, by its clauses."""
_QUOTED = re.compile(r"(“[^”]*”)")
_PART = re.compile(rf"({_JOIN}| and )")


def words_in(text: str, units: Units) -> str:
    """Words as they are written in the kept units, in the reader's; quoted words stay."""
    if units.kept or not text:
        return text
    return "".join(part if part.startswith("“") else _worded(part, units) for part in _QUOTED.split(text))


def _worded(text: str, units: Units) -> str:
    said = _MEASURED.sub(lambda found: _said(found, units), text)
    return said if units.decimal == "." or _CITED.search(said) else _NUMERAL.sub(_with_comma, said)


def _with_comma(found: re.Match[str]) -> str:
    return found[0].replace(".", ",")


def name_in(unit: str, units: Units) -> str:
    """A kept unit's name alone, as a column's head or an axis has it."""
    if units.kept:
        return unit
    return {"°C": units.temperature, "kg": units.mass, "mm": units.length}.get(
        unit, f"{unit[:-2]}{units.mass}" if unit.endswith("/kg") else unit
    )


def value_in(value: Number, unit: str, units: Units) -> Number:
    """A value kept in a unit, in the reader's; arrays too."""
    if unit.endswith("/kg"):
        pound = find_unit(units.mass)
        return value if pound is None else value * pound.factor
    wanted = find_unit(name_in(unit, units))
    return value if wanted is None or name_in(unit, units) == unit else (value - wanted.shift) / wanted.factor


def typed_in(text: str, dimension: str, units: Units) -> str:
    """What is typed, a bare number with the reader's unit behind it; a reader's comma is never one of thousands."""
    if units.decimal == "," and "." not in text and text.count(",") == 1:
        text = text.replace(",", ".")
    bare = re.fullmatch(r"\s*[+\-−–]?[\d.,' ]+\s*", text)
    return f"{text.strip()} {units.of(dimension)}" if bare and units.of(dimension) != KEPT[dimension] else text


def _said(found: re.Match[str], units: Units) -> str:
    chain, gap, unit, after = found["chain"], found["gap"], found["unit"], found["after"]
    if unit == "mm²":
        if units.wire != "AWG" or after:
            return found[0]
        return f"{found[0]} ({gauge_of(float(_PART.split(chain)[-1]))})"
    if unit == "K":
        if units.temperature != "°F":
            return found[0]
        return _each(chain, KELVIN_F, 0.0, plain=False) + f"{gap}°F{after}"
    if unit.endswith(("/kg", " kg")):
        pound = find_unit(units.mass)
        assert pound is not None
        return (
            found[0] if units.mass == "kg" else _each(chain, pound.factor, 0.0) + f"{gap}{unit[:-2]}{units.mass}{after}"
        )
    name = name_in(unit, units)
    wanted = find_unit(name)
    if name == unit or wanted is None:
        return found[0]
    return _each(chain, 1.0 / wanted.factor, -wanted.shift / wanted.factor, plain=unit != "°C") + f"{gap}{name}{after}"


def _each(chain: str, factor: float, shift: float, plain: bool = True) -> str:
    """Every number of a chain in the other unit; what stands behind ± is a width and has no zero to move.

    `plain`: a number without a doubt gets four digits, else as many decimals as it had.
    """
    parts = _PART.split(chain)
    doubt = f"{factor * float(parts[2]):.12g}" if len(parts) == 3 and parts[1] == " ± " else ""
    if doubt:
        decimals = decimals_for(float(doubt)) if float(doubt) > 0.0 else _decimals(parts[0])
        value = format_number(_number(parts[0]) * factor + shift, decimals)
        return f"{value} ± {format_number(float(doubt), decimals)}"
    for place in range(0, len(parts), 2):
        number = _number(parts[place]) * factor + shift
        parts[place] = format_plain(number) if plain else format_number(number, _decimals(parts[place]))
    return "".join(parts)


def _number(text: str) -> float:
    return float(text.replace(MINUS, "-"))


def _decimals(text: str) -> int:
    return len(text.partition(".")[2])
