"""Claims as printed: the closed list of kinds, a claim, and reading one from the words on a label."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.quantity.typed import parse_typed
from wintry_tally.core.quantity.units import KEPT, find_unit


class Direction(StrEnum):
    """How a value is claimed."""

    AT_LEAST = "at-least"
    AT_MOST = "at-most"
    WITHIN = "within"
    IS = "is"


@dataclass(frozen=True)
class ClaimKind:
    """One kind of claim.

    Parts:
        key, label: its name in files, and in words.
        dimension: of its value; empty for yes-no kinds.
        direction: what a bare printed value means.
        evidence: the method that settles it; empty where this bench cannot.
        words: what a label calls it, lower case; the longest match wins.
        beyond: why this bench cannot test it, where that is so.
        repeatable: whether a battery may truthfully carry several (surge at several durations).
        unit: the unit shown and written in files, where it is not the dimension's kept one.
    """

    key: str
    label: str
    dimension: str
    direction: Direction
    evidence: str
    words: tuple[str, ...] = ()
    beyond: str = ""
    repeatable: bool = False
    unit: str = ""

    @property
    def shown_unit(self) -> str:
        """The unit its value is shown in."""
        return self.unit or (KEPT[self.dimension] if self.dimension else "")


_L, _M, _W, _I = Direction.AT_LEAST, Direction.AT_MOST, Direction.WITHIN, Direction.IS

CLAIM_KINDS: dict[str, ClaimKind] = {
    kind.key: kind
    for kind in (
        ClaimKind("capacity", "Capacity", "charge", _L, "capacity", ("capacity", "rated capacity", "c20", "c5")),
        ClaimKind("energy", "Energy", "energy", _L, "capacity", ("energy",)),
        ClaimKind("reserve", "Reserve capacity", "duration", _L, "reserve", ("reserve", "rc"), unit="min"),
        ClaimKind("runtime", "Runtime with a device", "duration", _L, "runtime", ("runtime", "runs for"), unit="h"),
        ClaimKind(
            "continuous-discharge",
            "Continuous discharge",
            "current",
            _L,
            "hold",
            ("continuous", "continuous discharge", "max discharge", "maximum discharge", "discharge current"),
        ),
        ClaimKind("surge", "Surge", "current", _L, "surge", ("surge", "peak", "pulse"), repeatable=True),
        ClaimKind(
            "over-current-trip",
            "Over-current trip",
            "current",
            _W,
            "overload",
            ("trip", "trips at", "over-current", "overcurrent"),
        ),
        ClaimKind(
            "low-voltage-cut",
            "Low-voltage cut",
            "voltage",
            _W,
            "capacity",
            ("cuts at", "cut-off", "cutoff", "cut off", "low-voltage cut", "low voltage cut", "end of discharge"),
        ),
        ClaimKind(
            "low-voltage-release",
            "Low-voltage release",
            "voltage",
            _W,
            "measured",
            ("low-voltage release", "low voltage release", "recovers at", "release"),
        ),
        ClaimKind(
            "over-voltage-cut",
            "Over-voltage cut",
            "voltage",
            _W,
            "charge",
            ("over-voltage cut", "over voltage cut", "overvoltage", "over-voltage"),
        ),
        ClaimKind(
            "over-voltage-release",
            "Over-voltage release",
            "voltage",
            _W,
            "measured",
            ("over-voltage release", "over voltage release"),
        ),
        ClaimKind("charge-voltage", "Charge voltage", "voltage", _W, "charge", ("charge voltage", "charging voltage")),
        ClaimKind(
            "charge-current",
            "Charge current",
            "current",
            _L,
            "charge",
            ("charge current", "charging current", "max charge", "maximum charge", "charge"),
        ),
        ClaimKind("charge-time", "Charge time", "duration", _M, "charge", ("charge time", "charges in"), unit="h"),
        ClaimKind(
            "cold-charge-block",
            "Low-temperature charge block",
            "temperature",
            _W,
            "charge-block",
            ("charge block", "low-temperature charge", "no charge below"),
        ),
        ClaimKind(
            "cold-charge-release", "Charge release after cold", "temperature", _W, "charge-block", ("charge release",)
        ),
        ClaimKind(
            "high-temperature-cut",
            "High-temperature cut",
            "temperature",
            _W,
            "",
            ("high-temperature cut",),
            beyond="heating a battery to its cut is not a bench procedure offered here",
        ),
        ClaimKind("heater-power", "Heater, least input", "power", _L, "heater", ("heater power", "heater")),
        ClaimKind("heater-time", "Time to warm", "duration", _M, "heater", ("warms in", "heater time"), unit="min"),
        ClaimKind("heater-stop", "Heater stops", "temperature", _W, "heater", ("heater stops", "heater stop")),
        ClaimKind("cold-loss", "Loss in the cold", "share", _M, "cold-loss", ("cold loss",)),
        ClaimKind(
            "self-discharge",
            "Self-discharge",
            "monthly share",
            _M,
            "self-discharge",
            ("self-discharge", "self discharge"),
        ),
        ClaimKind(
            "shelf-life",
            "Shelf life",
            "duration",
            _L,
            "",
            ("shelf life", "shelf"),
            beyond="it takes as long as it claims; a shelf test over months speaks to self-discharge instead",
            unit="months",
        ),
        ClaimKind(
            "cycles",
            "Cycle life",
            "count",
            _L,
            "",
            ("cycles", "cycle life"),
            beyond="thousands of cycles take years; re-tests over time show the fade",
        ),
        ClaimKind("mass", "Mass", "mass", _W, "measured", ("mass", "weight", "weighs")),
        ClaimKind("length", "Length", "length", _W, "measured", ("length", "long")),
        ClaimKind("width", "Width", "length", _W, "measured", ("width", "wide")),
        ClaimKind("height", "Height", "length", _W, "measured", ("height", "high")),
        ClaimKind("price", "Price", "money", _I, "measured", ("price", "costs")),
        ClaimKind(
            "ingress",
            "Ingress code",
            "",
            _I,
            "",
            ("ip65", "ip67", "ip68", "ingress", "waterproof"),
            beyond="an ingress code needs the standard's spray and immersion rigs",
        ),
        ClaimKind(
            "warranty",
            "Warranty",
            "duration",
            _I,
            "",
            ("warranty", "guarantee"),
            beyond="a warranty is a promise to be read, not measured",
            unit="years",
        ),
        ClaimKind("feature", "Feature", "", _I, "measured", ("handle", "app", "display", "indicator"), repeatable=True),
    )
}
"""Every claim kind of the trade, in the order of a data sheet."""


@dataclass(frozen=True)
class Claim:
    """One printed claim.

    Parts:
        kind: a key of CLAIM_KINDS.
        value: in the kind's kept unit (s, V, A, Ah, Wh, °C, kg, mm), or None for yes-no kinds.
        wanted: the yes or no of a yes-no claim.
        tolerance: half-width for "within".
        conditions: c_rate, cutoff_V, temperature_C, duration_s and kin.
        source: where it was printed; dated: when, as an ISO date.
        text: the words as typed.
    """

    kind: str
    value: float | None
    unit: str
    direction: Direction
    tolerance: float = 0.0
    conditions: Mapping[str, float] = field(default_factory=dict)
    source: str = "label"
    dated: str = ""
    text: str = ""
    wanted: bool | None = None
    id: int | None = None

    @property
    def definition(self) -> ClaimKind:
        """Its kind's row in the table."""
        return CLAIM_KINDS[self.kind]

    @property
    def printed_unit(self) -> str:
        """The unit it is printed in; where that cannot be read out of its words, its kind's own."""
        dimension = self.definition.dimension
        for word in re.findall(r"(?<![A-Za-z%°])(?:%/month|[A-Za-z%°Ω]+)", self.text):
            found = find_unit(word, dimension)
            if found is not None and found.dimension == dimension and dimension == "duration":
                return str(word)
        return self.definition.shown_unit or self.unit

    def shown(self, quantity: Quantity) -> Quantity:
        """A result in this claim's own unit: hours for hours, minutes for minutes."""
        unit = find_unit(self.printed_unit, self.definition.dimension)
        if unit is None or quantity.unit != self.unit or unit.shift or self.definition.dimension != "duration":
            return quantity
        return quantity.scaled(1.0 / unit.factor, self.printed_unit)


_SOURCES = ("label", "manual", "web page", "packaging")
_QUALIFIER = re.compile(
    r"(?P<atleast>\bat least\b|≥|>=|\bmin(?:imum)?\.?\s(?=\d))|(?P<atmost>\bat most\b|\bup to\b|≤|<=|<|\bunder\b|\bless than\b)",
    re.IGNORECASE,
)
_TOLERANCE = re.compile(r"(?:±|\+/-|\+-)\s*(\d+(?:[.,]\d+)?)\s*(%|°\s?[CF]|[A-Za-zΩ]+(?![A-Za-z/]))?")
_CONDITIONS = (
    ("c_rate", re.compile(r"(?:@|\bat\b)\s*(\d*[.,]?\d+)\s*C(?![a-z])"), 1.0),
    ("c_rate", re.compile(r"(?:@|\bat\b)\s*C\s*/\s*(\d+)", re.IGNORECASE), -1.0),
    ("cutoff_V", re.compile(r"\bto\s+(\d+(?:[.,]\d+)?)\s*V", re.IGNORECASE), 1.0),
    ("temperature_C", re.compile(r"(?:@|\bat\b)\s*(-?\d+(?:[.,]\d+)?)\s*°\s*C"), 1.0),
    ("duration_s", re.compile(r"\bfor\s+(\d+(?:[.,]\d+)?)\s*s(?:ec|econds?)?\b", re.IGNORECASE), 1.0),
    ("duration_s", re.compile(r"\bfor\s+(\d+(?:[.,]\d+)?)\s*min", re.IGNORECASE), 60.0),
)
_VALUE = re.compile(
    r"(?<![A-Za-z\d])[+\-−]?\d[\d.,'\u00a0]*\s*(?:°\s?[CF]|%/month|[%€$£]|[A-Za-zΩ″\"]+)?|[€$£]\s*\d[\d.,]*"
)


def parse_claim(text: str, source: str = "label") -> Claim:
    """Read a claim as printed: "40 Ah", "512 Wh", "cuts at 10 V", "trips at 300 ± 50 A", "5 kg", "100 A continuous".

    The kind comes from the words, or else from the unit alone where that settles it (Ah, Wh, kg).

    Raises:
        InputError: no value, an unknown unit, or a kind that cannot be told; the message says how to write it.
    """
    cleaned = " ".join(text.split())
    if not cleaned:
        raise InputError("nothing is typed", mend='type a claim as printed, like "40 Ah" or "cuts at 10 V"')
    lowered = cleaned.lower()
    conditions: dict[str, float] = {}
    remaining = cleaned
    for name, pattern, factor in _CONDITIONS:
        if name == "duration_s" and "runs for" in lowered:
            continue  # there the time is the claim itself
        match = pattern.search(remaining)
        if match:
            number = float(match[1].replace(",", "."))
            conditions[name] = 1.0 / number if factor < 0 else number * factor
            remaining = remaining[: match.start()] + " " + remaining[match.end() :]
    tolerance, own = 0.0, ""
    match = _TOLERANCE.search(remaining)
    if match:
        tolerance, own = float(match[1].replace(",", ".")), match[2] or ""
        # a unit behind the tolerance is the value's too: "11 ± 0.2 lb"
        remaining = f"{remaining[: match.start()]} {'' if own == '%' else own} {remaining[match.end() :]}"
    kind = _kind_of(lowered, remaining)
    direction = kind.direction
    qualifier = _QUALIFIER.search(remaining)
    if qualifier:
        direction = Direction.AT_LEAST if qualifier["atleast"] else Direction.AT_MOST
    if tolerance:
        direction = Direction.WITHIN
    if not kind.dimension:
        wanted = not re.search(r"\b(no|not|without)\b", lowered)
        return Claim(kind.key, None, "", Direction.IS, 0.0, conditions, source, text=cleaned, wanted=wanted)
    for candidate in _VALUE.findall(_QUALIFIER.sub(" ", remaining)):
        written = candidate.strip()
        lead = re.match(r"[€$£+\-−\d.,'\u00a0\s]+", written)
        unit = written[lead.end() :].strip() if lead else ""
        found = find_unit(unit, kind.dimension) if unit else None
        if unit and found is None and lead is not None:
            written = lead.group(0).strip()
        elif found is not None and found.dimension != kind.dimension:
            continue
        typed = parse_typed(written.rstrip(".,"), kind.dimension)
        if typed.value < 0 and kind.dimension != "temperature":
            raise InputError(f'"{written}" is negative', mend="a claim's value is positive")
        value = typed.value
        if not unit and kind.dimension == "duration":
            raise InputError(f'"{cleaned}" has no unit of time', mend='write it like "90 min" or "10 h"')
        width = _width(tolerance, own, value, unit, kind.dimension)
        return Claim(kind.key, value, typed.unit, direction, width, conditions, source, text=cleaned)
    raise InputError(
        f'no value for {kind.label.lower()} in "{cleaned}"',
        mend=f'write it like "{kind.label.lower()} 10 {kind.shown_unit}"',
    )


def _width(tolerance: float, own: str, value: float, unit: str, dimension: str) -> float:
    """A printed half-width in the kept unit: in its own unit, in percent of the value, or in the value's unit."""
    if own == "%" and dimension not in {"share", "monthly share"}:
        return abs(value) * tolerance / 100.0
    found = find_unit(own, dimension) if own else None
    if found is None or found.dimension != dimension:
        found = find_unit(unit, dimension) if unit else None
    return tolerance * (found.factor if found is not None else 1.0)


def _kind_of(lowered: str, remaining: str) -> ClaimKind:
    best: ClaimKind | None = None
    length = 0
    units = {unit.dimension for unit in map(find_unit, re.findall(r"\d\s*([A-Za-z%°€$£/]+)", remaining)) if unit}
    for kind in CLAIM_KINDS.values():
        for word in kind.words:
            if len(word) > length and re.search(rf"(?<![a-z]){re.escape(word)}(?![a-z])", lowered):
                if kind.dimension and units and kind.dimension not in units and kind.dimension != "temperature":
                    continue
                best, length = kind, len(word)
    if best is not None:
        return best
    by_unit = {"charge": "capacity", "energy": "energy", "mass": "mass", "money": "price", "count": "cycles"}
    for dimension, key in by_unit.items():
        if dimension in units or (dimension == "money" and re.match(r"[€$£]", remaining.strip())):
            return CLAIM_KINDS[key]
    known = ", ".join(kind.words[0] for kind in list(CLAIM_KINDS.values())[:10] if kind.words)
    raise InputError(
        f'cannot tell what "{remaining.strip()}" claims', mend=f"say what it is: {known} … with a value and unit"
    )
