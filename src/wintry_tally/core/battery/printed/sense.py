"""What a printed number can mean for a kind of claim: marks of three digits, rates of a rating, volts a cell, limits."""

from __future__ import annotations

from dataclasses import dataclass

from wintry_tally.core.battery.claims import CLAIM_KINDS, Claim, Direction, currency_of
from wintry_tally.core.battery.printed.quantities import Item, Number
from wintry_tally.core.battery.sample import Sample
from wintry_tally.core.quantity.units import KEPT, find_unit

PLAUSIBLE = {
    "capacity": (0.5, 3000.0), "energy": (5.0, 60_000.0), "cycles": (50.0, 30_000.0), "price": (5.0, 50_000.0), "mass": (0.05, 600.0),
    "length": (20.0, 3000.0), "width": (20.0, 3000.0), "height": (20.0, 3000.0), "continuous-discharge": (0.5, 5000.0),
    "surge": (1.0, 20_000.0), "over-current-trip": (1.0, 20_000.0), "charge-current": (0.1, 2000.0), "heater-power": (1.0, 5000.0),
    "reserve": (60.0, 3e5), "low-voltage-cut": (1.0, 90.0), "over-voltage-cut": (1.0, 90.0), "charge-voltage": (1.0, 90.0),
}  # fmt: skip
"""Between what a claim of a 6 to 48 V battery lies, in the kept unit; common practice, no published source."""
BEYOND, BELOW = 3.0, 20.0
"""A number so many times beyond the highest, or below the lowest, is a slip of whoever typed or scanned it."""
AGREES = 0.15
MARKS = frozenset({
    "low-voltage-cut", "low-voltage-release", "over-voltage-cut", "over-voltage-release", "cold-charge-block", "cold-charge-release",
    "high-temperature-cut", "heater-stop",
})  # fmt: skip
"""Kinds whose value is a mark at which something acts."""


CELLS_STOP = frozenset(
    {"low-voltage-cut", "low-voltage-release", "over-voltage-cut", "over-voltage-release", "charge-voltage"}
)
ONE_CELL_V = 4.5
"""No pack of three cells or more stops at so few volts."""


@dataclass(frozen=True)
class Sense:
    """What else the text says, or is known of the battery besides, to settle a number by."""

    nominal_V: float | None = None
    capacity_Ah: float | None = None
    cells: int | None = None
    currency: str = ""
    """Of a price that has none of its own; empty where nobody says."""
    chosen: bool = False
    """Whether a person chose the kind: then no side of the pack's own voltage speaks against it."""


UNKNOWN = Sense()


def sense_of(sample: Sample, currency: str = "") -> Sense:
    """What is known of a battery that hangs on the rack, and in which currency bare prices are meant."""
    return Sense(sample.family.nominal_V, sample.rated_Ah, sample.family.cells, currency)


def claim_from(piece: Item, kind: str, hint: str, sense: Sense, source: str, text: str) -> Claim | str:
    """The claim of a kind that a quantity makes, or in words why it makes none."""
    definition = CLAIM_KINDS[kind]
    if piece.kind == "rate":
        if piece.value <= 0.0:
            return f"“{piece.text.strip()}” is no rate"
        if sense.capacity_Ah is None:
            return "a rate of C needs the capacity it is of: none is printed"
        return Claim(kind, piece.value * sense.capacity_Ah, "A", definition.direction, 0.0, {}, source, text=text)
    assert piece.low is not None
    by_cell = piece.unit == "V/cell"
    if by_cell and sense.cells is None:
        return "volts a cell need the number of cells: print or choose the family"
    unit = find_unit("V" if by_cell else piece.unit, definition.dimension)
    if unit is None and not (kind in {"cycles", "price"} and not piece.unit):
        return f"it has no unit of {definition.dimension}" if definition.dimension else "it has no value to be claimed"
    factor = (unit.factor if unit else 1.0) * (sense.cells or 1 if by_cell else 1)
    shift = unit.shift if unit else 0.0
    low = _settled(piece.low, kind, factor, shift, sense)
    high = None if piece.high is None else _settled(piece.high, kind, factor, shift, sense)
    if isinstance(low, str):
        return low
    if isinstance(high, str):
        return high
    if kind in CELLS_STOP and not by_cell and low < ONE_CELL_V and (sense.cells or 0) > 2:
        return f"{low:g} V is of one cell and not of this pack: write {low:g} V/cell, or the pack's"
    tolerance = 0.0
    direction = _direction(kind, hint)
    if piece.within is not None:
        width, own = piece.within
        own_unit = find_unit(own, definition.dimension) if own and own != "%" else None
        scale = own_unit.factor if own_unit is not None and own_unit.dimension == definition.dimension else factor
        if by_cell and own_unit is not None:
            scale *= sense.cells or 1
        amount = width.values[-1] if width.values else 0.0
        tolerance = (
            abs(low) * amount / 100.0
            if own == "%" and definition.dimension not in {"share", "monthly share"}
            else amount * scale
        )
        direction = Direction.WITHIN
    value = low
    if high is not None:
        if definition.direction is Direction.AT_MOST:
            value, direction = high, Direction.AT_MOST
        elif definition.direction is Direction.AT_LEAST:
            value, direction = low, Direction.AT_LEAST
        else:
            value, tolerance, direction = (low + high) / 2.0, abs(high - low) / 2.0, Direction.WITHIN
    beyond = "" if sense.chosen else _on_which_side(kind, value, sense.nominal_V)
    if beyond:
        return beyond
    if value < 0 and definition.dimension != "temperature":
        return "a claim's value is positive"
    kept = KEPT[definition.dimension]
    if kept == "money":
        kept = currency_of(piece.unit) if piece.unit else currency_of(text)
        kept = sense.currency if kept == "money" and sense.currency else kept
    return Claim(kind, round(value, 6), kept, direction, round(tolerance, 6), {}, source, text=text)


def _on_which_side(kind: str, value_V: float, nominal_V: float | None) -> str:
    """Why a voltage cannot be what it is called, by the pack's own; empty where it can."""
    if nominal_V is None:
        return ""
    if kind == "low-voltage-cut" and value_V > HIGHEST_LOW * nominal_V:
        return f"{value_V:g} V is far above what this {nominal_V:g} V pack has when it is empty: say what stops there"
    if kind in {"over-voltage-cut", "charge-voltage"} and value_V < nominal_V:
        return f"{value_V:g} V is less than this {nominal_V:g} V pack has of itself: say what stops there"
    return ""


HIGHEST_LOW = 1.06
"""A discharge is not stopped at more than so many times the nominal voltage; common practice, no published source."""


def _direction(kind: str, hint: str) -> Direction:
    definition = CLAIM_KINDS[kind].direction
    if kind in MARKS:
        return definition  # "< 0 °C" and "> 15 V" say on which side of its mark it acts
    if hint == "at-least":
        return Direction.AT_LEAST
    if hint == "at-most":
        return Direction.AT_MOST
    if hint == "up-to" and definition is Direction.WITHIN and kind in {"mass", "length", "width", "height"}:
        return Direction.AT_MOST
    return definition


def _settled(number: Number, kind: str, factor: float, shift: float, sense: Sense) -> float | str:
    """The one value that makes sense, in the kept unit; or the question to ask."""
    values = [value * factor + shift for value in number.values]
    if not values:
        return f"“{number.text}” is no number"
    if len(values) == 1:
        low, high = PLAUSIBLE.get(kind, (0.0, float("inf")))
        if values[0] > BEYOND * high or 0.0 <= values[0] < low / BELOW:
            end = "more" if values[0] > high else "less"
            return f"“{number.text}” is far {end} than a battery's; a dash, a point or a unit may be missing"
        return values[0]
    if kind == "energy" and sense.nominal_V and sense.capacity_Ah:
        wanted = sense.nominal_V * sense.capacity_Ah
        near = [value for value in values if abs(value - wanted) <= AGREES * wanted]
        if len(near) == 1:
            return near[0]
    low, high = PLAUSIBLE.get(kind, (0.0, float("inf")))
    fits = [value for value in values if low <= value <= high]
    if len(fits) == 1:
        return fits[0]
    if kind not in PLAUSIBLE:
        return values[-1]
    whole, parted = number.values
    return f"“{number.text}” could be {whole:g} or {parted:g}: write it without the mark of thousands"
