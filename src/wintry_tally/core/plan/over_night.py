"""The rate at which a discharge begun by day ends while somebody is there again, over as many nights of a week as can be."""

from __future__ import annotations

from collections.abc import Sequence

from wintry_tally.core.battery.families import Family
from wintry_tally.core.plan.calendar import PER_HOUR, Calendar
from wintry_tally.core.plan.programme import KNOWN_SHARE, Z_95

SLOWEST_C = 40
"""No slower than this part of the rating: more hours are no test of a rate. Common practice, no published source."""
TO_BEGIN_H = 1.0
"""Somebody has so long to begin it, at the least."""
WEEK = 7 * 24 * PER_HOUR
REBOUND_H = 5.0 / 60.0


def over_night_A(family: Family, rated_Ah: float, known: bool, calendar: Calendar) -> float | None:
    """The highest current below the reference at which 5 % and 95 % of the ends lie in attended hours of another day.

    Of the parts of the rating (C/6, C/7, …) that which suits the most nights of the first week, and of those the quickest.
    None where none suits any. Hours are those of what the rating says, its rest and its rebound; the plan forecasts anew.

    Args:
        known: a run of this battery says what it holds.
    """
    nights = [(day, later) for day, *later in _from_each(calendar.stretches)]
    spread = KNOWN_SHARE if known else Z_95 * family.spreads.capacity
    best: tuple[int, int] | None = None
    for part in range(round(1.0 / family.reference_rate_C) + 1, SLOWEST_C + 1):
        fixed = family.rest_s / 3600.0 + REBOUND_H
        early, late = (fixed + (1.0 + sign * spread) * part for sign in (-1.0, 1.0))
        suits = sum(_suits(day, later, PER_HOUR * early, PER_HOUR * late) for day, later in nights)
        if suits and (best is None or suits > best[0]):
            best = suits, part
    return None if best is None else rated_Ah / best[1]


def _from_each(stretches: Sequence[tuple[int, int]]) -> list[Sequence[tuple[int, int]]]:
    """Each day's stretch of the first week with those behind it, whole ones only: today's has begun."""
    return [stretches[n:] for n in range(1, len(stretches)) if stretches[n][0] < WEEK]


def _suits(day: tuple[int, int], later: Sequence[tuple[int, int]], early: float, late: float) -> bool:
    """Whether it may be begun in one stretch, over a time long enough, so that it ends in one of the later ones."""
    for opens, closes in later:
        if min(day[1], closes - late) - max(day[0], opens - early) >= TO_BEGIN_H * PER_HOUR:
            return True
        if opens - early > day[1]:
            return False
    return False
