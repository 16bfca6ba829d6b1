"""What a battery loses from test to test: a line through like figures, and when it would reach its claimed end."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from wintry_tally.core.battery import Family
from wintry_tally.core.compare.figures import QUANTITIES, Figure
from wintry_tally.core.compare.like import apart
from wintry_tally.core.quantity import Quantity, Term, combine_linear, format_quantity
from wintry_tally.core.working import Working

YEAR_S = 365.25 * 86400.0
FOLLOWED = ("charge", "energy", "resistance", "recharge-time", "self-discharge")
"""What is followed over time."""
REPEATS = {"charge": 0.003, "energy": 0.003, "resistance": 0.02, "recharge-time": 0.01, "self-discharge": 0.05}
"""How well a test repeats on an unchanged battery, as a limit in shares of its value; common practice, no published source."""
AGE = "age"
WIDEST = 3.0
"""An end that is foretold no better than within this factor is not worth telling."""
SURE = 1.96
LEAST_YEARS, LEAST_CYCLES = 0.02, 5.0
"""Tests nearer together than a week, or than five cycles, say nothing of a year or of a hundred cycles."""


@dataclass(frozen=True)
class Point:
    """One figure of a trend: whose run, when, after how many cycles (None where nobody counted), its value."""

    run: str
    when: datetime
    cycles: float | None
    value: Quantity


@dataclass(frozen=True)
class Line:
    """A straight line through values over x: its slope per unit of x, and its level at any x as a linear sum."""

    slope: Quantity
    middle: float
    level: Quantity

    def at(self, x: float) -> Quantity:
        """Its value at x."""
        return combine_linear([(1.0, self.level), (x - self.middle, self.slope)], self.level.unit)


@dataclass(frozen=True)
class End:
    """At which count it would reach a value: the likeliest, and the 95 % interval; None where nothing can be said yet."""

    value: float
    at: float | None
    low: float | None
    high: float | None


@dataclass(frozen=True)
class Trend:
    """How one quantity of a sample changes.

    Parts:
        points: in order of time; aside: runs that are unlike the first, each with why.
        per_year, per_hundred: slopes, the second per hundred cycles; None where the tests lie too near together.
        end: of the charge, the count of cycles at which it would reach its claimed end; None where nothing claims one.
    """

    quantity: str
    label: str
    points: tuple[Point, ...]
    aside: tuple[str, ...]
    per_year: Quantity | None
    per_hundred: Quantity | None
    end: End | None
    working: Working


def trend(
    quantity: str, figures: Sequence[Figure], family: Family, cycles: Mapping[str, float], end: float | None = None
) -> Trend | None:
    """The trend of one quantity; None for fewer than two like figures at known moments.

    Args:
        figures: all of that quantity; cycles: by run, how many it had had before it; end: its claimed end, in its unit.
    """
    known = sorted((one for one in figures if one.at.started is not None), key=lambda one: str(one.at.started))
    if not known:
        return None
    first, points, aside = known[0], [], []
    for one in known:
        unlike = (
            [what.condition for what in apart(family, first, one) if what.condition != AGE] if one is not first else []
        )
        if unlike:
            aside.append(f"{one.of}: unlike {', '.join(unlike)}")
        elif one.at.started is not None:
            points.append(Point(one.of, one.at.started, cycles.get(one.of), _repeating(quantity, one.value)))
    if len(points) < 2:
        return None
    begun = points[0].when
    years = [(point.when - begun).total_seconds() / YEAR_S for point in points]
    counts = [point.cycles for point in points if point.cycles is not None]
    values = [point.value for point in points]
    by_year = _line(years, values, LEAST_YEARS)
    by_count = _line(counts, values, LEAST_CYCLES) if len(counts) == len(points) else None
    per_year = None if by_year is None else replace(by_year.slope, unit=f"{values[0].unit} a year")
    hundred = None if by_count is None else by_count.slope.scaled(100.0, f"{values[0].unit} per 100 cycles")
    reached = _reaches(by_count, end, counts[-1]) if by_count is not None and end is not None else None
    return Trend(
        quantity, QUANTITIES[quantity].label, tuple(points), tuple(aside), per_year, hundred, reached,
        _working(QUANTITIES[quantity].label, points, per_year, hundred, aside),
    )  # fmt: skip


def _repeating(quantity: str, value: Quantity) -> Quantity:
    """With how well such a test repeats as one more error, its own."""
    if value.standard is None:
        return value
    own = Term("how well it repeats", REPEATS[quantity] * abs(value.value) / math.sqrt(3.0))
    return Quantity.from_terms(value.value, value.unit, [*(value.terms or (Term("as given", value.standard),)), own])


def _line(x: Sequence[float], values: Sequence[Quantity], least: float) -> Line | None:
    """Least squares, weighted by what each value does not share with the others; scatter beyond that widens it (Birge).

    What all share goes through the sums with its correlation, so that a common gain drops out of the slope.
    Source: least squares and JCGM 100:2008, 5.2; the ratio of Birge (1932), from memory.
    """
    if max(x) - min(x) < least:
        return None
    own = [math.fsum(term.standard**2 for term in value.terms if not term.shared) for value in values]
    usual = max(own) or 1.0
    weights = [usual / one if one > 0 else 1.0 for one in own]
    total = math.fsum(weights)
    middle = math.fsum(w * at for w, at in zip(weights, x, strict=True)) / total
    spread = math.fsum(w * (at - middle) ** 2 for w, at in zip(weights, x, strict=True))
    unit = values[0].unit
    slope = combine_linear([(w * (at - middle) / spread, v) for w, at, v in zip(weights, x, values, strict=True)], unit)
    level = combine_linear([(w / total, v) for w, v in zip(weights, values, strict=True)], unit)
    if len(values) > 2 and slope.standard is not None:
        off = [v.value - level.value - slope.value * (at - middle) for at, v in zip(x, values, strict=True)]
        birge = math.sqrt(
            math.fsum(d * d / (one or usual) for d, one in zip(off, own, strict=True)) / (len(values) - 2)
        )
        if birge > 1.0:
            slope, level = _wider(slope, birge), _wider(level, birge)
    return Line(slope, middle, level)


def _wider(value: Quantity, factor: float) -> Quantity:
    """With the terms of its own that much larger."""
    terms = [term if term.shared else replace(term, standard=term.standard * factor) for term in value.terms]
    return Quantity.from_terms(value.value, value.unit, terms)


def _reaches(line: Line, end: float, latest: float) -> End:
    """Where the line reaches a value: every x whose level is not surely off it (Fieller), if that is a finite span.

    Source: Fieller (1954), from memory.
    """
    slope, level = line.slope, line.level
    if slope.standard is None or level.standard is None or slope.value >= 0:
        return End(end, None, None, None)
    both = line.at(line.middle + 1.0).standard or 0.0
    shared = 0.5 * (both**2 - level.standard**2 - slope.standard**2)
    # (level + slope d - end)² = SURE² (u_level² + 2 shared d + u_slope² d²), a quadratic in d
    a = slope.value**2 - (SURE * slope.standard) ** 2
    b = 2.0 * (slope.value * (level.value - end) - SURE**2 * shared)
    c = (level.value - end) ** 2 - (SURE * level.standard) ** 2
    inside = b * b - 4.0 * a * c
    if a <= 0 or inside < 0:
        return End(end, None, None, None)
    low, high = ((-b + sign * math.sqrt(inside)) / (2.0 * a) + line.middle for sign in (-1.0, 1.0))
    at = line.middle + (end - level.value) / slope.value
    if high > WIDEST * max(low, 1.0) or at < latest:
        return End(end, at if at < latest else None, None, None)
    return End(end, at, low, high)


def _working(
    label: str, points: Sequence[Point], per_year: Quantity | None, hundred: Quantity | None, aside: Sequence[str]
) -> Working:
    seen = {
        f"{point.run}, {point.when:%Y-%m-%d}": format_quantity(point.value)
        + ("" if point.cycles is None else f" after {point.cycles:.0f} cycles")
        for point in points
    }
    slopes = [format_quantity(slope) for slope in (per_year, hundred) if slope is not None]
    return Working(
        f"{label} from test to test", "y = level + slope × (x − middle), least squares",
        seen | ({"left aside": "; ".join(aside)} if aside else {}), "; ".join(slopes) or "too near together to say",
        "common practice; propagation by JCGM 100:2008, 5.2",
    )  # fmt: skip
