"""Numbers as people write them: "12,9", "1280 Wh", "21.7 lb", "8h42", "1 1/2 h"."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity.units import KEPT, find_unit, units_of

_NUMBER = re.compile(
    r"^(?P<sign>[+\-−–]?)\s*(?P<number>\d[\d.,' \u00a0\u202f]*\d|\d|[.,]\d+)(?P<exponent>[eE][+\-]?\d+)?\s*"
)
_MIXED_DURATION = re.compile(
    r"^\s*(?:(?P<d>\d+)\s*d(?:ays?)?\s*)?(?:(?P<h>\d+)\s*h(?:(?:ou)?rs?|ours?)?\s*)?"
    r"(?:(?P<m>\d+)\s*(?:(?:m|min|mins|minutes?|')(?![a-z])|(?<=\d)(?=\s*$))\s*)?"
    r"(?:(?P<s>\d+(?:[.,]\d+)?)\s*(?:s|sec|seconds?|\")\s*)?$",
    re.IGNORECASE,
)
_CLOCK = re.compile(r"^\s*(?P<h>\d+):(?P<m>[0-5]?\d)(?::(?P<s>[0-5]?\d(?:[.,]\d+)?))?\s*$")


@dataclass(frozen=True)
class Typed:
    """What was typed, understood: the value in the kept unit of its dimension."""

    value: float
    unit: str
    dimension: str
    text: str


def parse_number(text: str) -> float:
    """A number with either decimal mark and optional grouping: "1.280,5", "1,280.5", "12,9", "1 280".

    A single comma or point followed by exactly three digits, with one to three digits before it, could be
    either; a point is then the decimal mark, a comma too ("1,280" reads 1.28): the field shows what it read.

    Raises:
        InputError: not a number.
    """
    match = _NUMBER.match(text.strip())
    if match is None or match.end() != len(text.strip()):
        raise InputError(f'"{text.strip()}" is not a number', mend='write it like "12.9" or "12,9"')
    body = re.sub(r"[' \u00a0\u202f]", "", match["number"])
    last_comma, last_point = body.rfind(","), body.rfind(".")
    if last_comma >= 0 and last_point >= 0:
        decimal = "," if last_comma > last_point else "."
        grouping = "." if decimal == "," else ","
        if body.count(decimal) > 1:
            raise InputError(f'"{text.strip()}" has two decimal marks', mend="keep one")
        body = body.replace(grouping, "").replace(decimal, ".")
    elif body.count(",") > 1 or body.count(".") > 1:
        mark = "," if "," in body else "."
        groups = body.split(mark)
        if any(len(group) != 3 for group in groups[1:]) or not 1 <= len(groups[0]) <= 3:
            raise InputError(f'"{text.strip()}" has two decimal marks', mend="keep one")
        body = body.replace(mark, "")
    else:
        body = body.replace(",", ".")
    value = float(body + (match["exponent"] or ""))
    if not math.isfinite(value):
        raise InputError(f'"{text.strip()}" is too large', mend="check the exponent")
    return -value if match["sign"] in {"-", "−", "–"} else value


def parse_duration(text: str) -> float:
    """Seconds from "8h42", "8 h 42 min", "10:53", "1:02:03", "90 min", "1.5 h" or "2d 4h".

    Raises:
        InputError: not a duration; a bare number has no unit.
    """
    stripped = text.strip()
    clock = _CLOCK.match(stripped)
    if clock:
        seconds = float((clock["s"] or "0").replace(",", "."))
        return int(clock["h"]) * 3600 + int(clock["m"]) * 60 + seconds
    mixed = _MIXED_DURATION.match(stripped)
    if (mixed and stripped and (mixed["d"] or mixed["h"] or mixed["s"])) or (mixed and _ends_in_minutes(stripped)):
        assert mixed is not None
        parts = [(mixed["d"], 86400.0), (mixed["h"], 3600.0), (mixed["m"], 60.0), (mixed["s"], 1.0)]
        return sum(float(part.replace(",", ".")) * scale for part, scale in parts if part)
    number = _NUMBER.match(stripped)
    unit = find_unit(stripped[number.end() :], "duration") if number else None
    if number is None or unit is None or unit.dimension != "duration":
        raise InputError(f'"{stripped}" is not a duration', mend='write it like "8h42", "90 min", "1.5 h" or "10:53"')
    return parse_number(stripped[: number.end()]) * unit.factor


def _ends_in_minutes(text: str) -> bool:
    return re.search(r"\d\s*(m|min|mins|minutes?|')$", text, re.IGNORECASE) is not None


def parse_typed(text: str, dimension: str) -> Typed:
    """Read a number with or without its unit; a bare number has the dimension's kept unit.

    Args:
        text: as typed.
        dimension: one of `units.KEPT`.

    Raises:
        InputError: not a number, an unknown unit, or a unit of another dimension (the message says which).
    """
    stripped = text.strip()
    kept = KEPT[dimension]
    example = f"12.9 {kept}".strip()
    if not stripped:
        raise InputError("nothing is typed", mend=f'write it like "{example}"')
    if dimension == "duration":
        try:
            seconds = parse_number(stripped)
        except InputError:
            seconds = parse_duration(stripped)
        return Typed(seconds, kept, dimension, stripped)
    lead = re.match(r"^[€$£]\s*", stripped)
    body = stripped[lead.end() :] if lead and dimension == "money" else stripped
    number = _NUMBER.match(body)
    if number is None:
        raise InputError(f'"{stripped}" does not begin with a number', mend=f'write it like "{example}"')
    value = parse_number(body[: number.end()])
    written = body[number.end() :].strip()
    if not written:
        return Typed(value, kept, dimension, stripped)
    unit = find_unit(written, dimension)
    if unit is None:
        known = ", ".join(units_of(dimension)[:6])
        raise InputError(f'the unit "{written}" is not known', mend=f"use one of {known}" if known else "leave it out")
    if unit.dimension != dimension:
        article = "an" if unit.dimension[0] in "aeiou" else "a"
        raise InputError(
            f'"{written}" is {article} {unit.dimension}; {dimension} is asked', mend=f'write it like "{example}"'
        )
    return Typed(value * unit.factor + unit.shift, kept, dimension, stripped)
