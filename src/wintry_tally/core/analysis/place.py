"""What a place (a shelf, a freezer) really was like while a battery stood in it, from readings now and then."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wintry_tally.core.room import ROOM_C
from wintry_tally.core.trace.trace import Column

Mask = npt.NDArray[np.bool_]

GAP_S = 3.0 * 3600.0
"""A place is taken to have gone straight from one reading to the next over so long; longer, nobody knows."""
STEP_S = 120.0
LOOK_BACK_S = 72.0 * 3600.0
"""So far back what a battery stood in is asked for; before that it is taken to have been in the room."""


@dataclass(frozen=True)
class PlaceHistory:
    """What is known of a place over a span of time.

    Parts:
        place: its name; readings: how many there are; covered: the share of the span that they speak of.
        mean_C, low_C, high_C: over what is covered, by time; None where nothing is.
        core_C: what the core of a battery that stood there would have come to at the end; None where too little is known.
    """

    place: str
    readings: int = 0
    covered: float = 0.0
    mean_C: float | None = None
    low_C: float | None = None
    high_C: float | None = None
    core_C: float | None = None


def place_history(
    place: str, at_s: Column, temperature_C: Column, begin_s: float, end_s: float, tau_s: float = 0.0, start_C: float = ROOM_C
) -> PlaceHistory:  # fmt: skip
    """The history of a place from `begin_s` to `end_s`.

    Args:
        at_s: when it was read, s, ascending, on the clock of the span; temperature_C: what was read, °C.
        tau_s: time constant of the battery's lumped body, s (m c / (h A)); 0 where no core is asked for.
        start_C: its core at `begin_s`.
    """
    keep = np.isfinite(at_s) & np.isfinite(temperature_C) & (at_s > begin_s - GAP_S) & (at_s < end_s + GAP_S)
    at, temperature = at_s[keep], temperature_C[keep]
    if not len(at) or end_s <= begin_s:
        return PlaceHistory(place)
    steps = max(2, math.ceil((end_s - begin_s) / STEP_S) + 1)
    grid = np.linspace(begin_s, end_s, min(steps, 100_000))
    level = np.interp(grid, at, temperature)
    known = _known(grid, at)
    if not known.any():
        return PlaceHistory(place)
    inside = level[known]
    core = _core(grid, level, known, tau_s, start_C) if tau_s > 0 else None
    count = int(((at >= begin_s) & (at <= end_s)).sum())
    mean, low, high = float(inside.mean()), float(inside.min()), float(inside.max())
    return PlaceHistory(place, count, float(known.mean()), mean, low, high, core)


def _known(grid: Column, at: Column) -> Mask:
    """Of which moments the readings speak: each of half the gap before it and after it."""
    after = np.searchsorted(at, grid)
    before, later = np.maximum(after - 1, 0), np.minimum(after, len(at) - 1)
    known: Mask = np.minimum(np.abs(grid - at[before]), np.abs(grid - at[later])) <= 0.5 * GAP_S
    return known


def _core(grid: Column, level: Column, known: Mask, tau_s: float, start_C: float) -> float | None:
    """The lumped body T' = (T_a - T) / τ driven by the place; None where its last three time constants are not known.

    Source: lumped capacitance, as in heat transfer textbooks (from memory).
    """
    last = grid >= grid[-1] - 3.0 * tau_s
    if not known[last].all():
        return None
    kept = math.exp(-float(grid[1] - grid[0]) / tau_s)
    core = start_C
    for before, after, sure in zip(level[:-1], level[1:], known[1:], strict=True):
        around = 0.5 * (before + after) if sure else start_C
        core = around + (core - around) * kept
    return float(core)
