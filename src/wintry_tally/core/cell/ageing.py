"""How batteries fade: with cycles and with time, sooner when warm; a share of the capacity lost, resistance risen."""

from __future__ import annotations

import math

from wintry_tally.core.battery.families import family_named
from wintry_tally.core.battery.profiles.profile import Ageing
from wintry_tally.core.cell.parameters import Parameters, aged

REFERENCE_C = 25.0
TWICE_PER_K = 10.0
"""Fading with time goes twice as fast for so many kelvin more: the usual rule; common practice, no published source."""


def health_after(
    ageing: Ageing, cycles: float, years: float = 0.0, depth: float = 1.0, mean_C: float = REFERENCE_C
) -> float:
    """The share of the capacity left, 0.05 at the least.

    Losses by cycles and by time add. Args: `cycles` of `depth` (0 to 1); `years` at `mean_C`.
    """
    life = ageing.cycles * (max(depth, 0.01) / ageing.depth) ** -ageing.depth_exponent
    by_cycles = 0.2 * (cycles / life) ** ageing.bend if cycles > 0 else 0.0
    warm = 2.0 ** ((mean_C - REFERENCE_C) / TWICE_PER_K)
    share = warm * years / ageing.years
    by_time = 0.2 * (math.sqrt(share) if ageing.root_of_time else share) if years > 0 else 0.0
    return max(0.05, 1.0 - by_cycles - by_time)


def worn(
    parameters: Parameters,
    family: str,
    cycles: float,
    years: float = 0.0,
    depth: float = 1.0,
    mean_C: float = REFERENCE_C,
) -> Parameters:
    """The same battery after so many cycles and years; its resistance risen to match.

    Raises:
        InputError: no such family.
    """
    return aged(parameters, health_after(family_named(family).ageing, cycles, years, depth, mean_C))
