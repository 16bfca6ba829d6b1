"""How batteries fade: with cycles and with time, sooner when warm; a share of the capacity lost, resistance risen."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wintry_tally.core.cell.parameters import Parameters, aged

REFERENCE_C = 25.0
TWICE_PER_K = 10.0
"""Fading with time goes twice as fast for so many kelvin more: the usual rule; common practice, no published source."""


@dataclass(frozen=True)
class Ageing:
    """How a family fades.

    Parts:
        cycles, depth: full-depth-equivalent life: so many cycles of this depth leave 80 %.
        years: on the shelf at 25 °C, so many leave 80 %; the loss goes with the root of time for lithium (a film that
            slows its own growth), straight with time for lead-acid (corrosion).
        depth_exponent: shallower cycles wear less: life goes with (depth / given depth) to minus this.
        bend: loss goes with (cycles / life) to this power: 1 is straight, above 1 it begins slowly and ends fast.
    """

    cycles: float
    depth: float
    years: float
    depth_exponent: float
    bend: float
    root_of_time: bool


AGEING: dict[str, Ageing] = {
    "lfp": Ageing(3500.0, 1.0, 15.0, 1.1, 0.9, True),
    "nmc": Ageing(800.0, 1.0, 10.0, 1.4, 1.2, True),
    "agm": Ageing(450.0, 0.5, 6.0, 1.2, 1.6, False),
    "gel": Ageing(600.0, 0.5, 7.0, 1.2, 1.6, False),
    "flooded": Ageing(350.0, 0.5, 5.0, 1.2, 1.6, False),
}
"""Usual lives by family; common practice, no published source (makers print 2000 to 6000 cycles for LFP)."""


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
        KeyError: no such family.
    """
    return aged(parameters, health_after(AGEING[family], cycles, years, depth, mean_C))
