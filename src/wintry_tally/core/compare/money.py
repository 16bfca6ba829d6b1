"""What a battery costs over years of a need: bought, replaced as its cycles are used up, charged; and when one overtakes another.

Source of every relation here: common practice, no published source.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from wintry_tally.core.battery import Family
from wintry_tally.core.battery.economy import replacements

EFFICIENCY = {True: 0.94, False: 0.78}
"""Energy that comes back of what a charger puts in, lithium or lead-acid, where no run of its own says it."""
HALF = 0.5


@dataclass(frozen=True)
class Bill:
    """Money over years.

    Parts:
        totals: all that was spent by the end of year 0 (bought), 1, 2 …; replaced: the years in which it is bought again.
        life_years: how long one lasts at so many cycles a year; None where nobody claims or knows it.
        energy: what the energy lost in charging costs a year.
    """

    totals: tuple[float, ...]
    replaced: tuple[int, ...] = ()
    life_years: float | None = None
    energy: float = 0.0

    @property
    def total(self) -> float:
        """Over all the years."""
        return self.totals[-1]


def bill(
    price: float, years: float, life_years: float | None, charger: float = 0.0, energy: float = 0.0
) -> Bill:  # fmt: skip
    """What is spent, year by year.

    Args:
        price: of all units; life_years: how long they last; charger: bought once; energy: lost in charging, a year.
    """
    last = max(0, math.ceil(years - 1e-9))
    times = 0 if life_years is None or years <= 0 else replacements(years, life_years)
    bought = [(n + 1) * (life_years or 0.0) for n in range(times)]
    totals = tuple(
        price * (1 + sum(at <= year - 1e-9 for at in bought)) + charger + energy * min(year, years)
        for year in range(last + 1)
    )
    return Bill(totals, tuple(math.floor(at) + 1 for at in bought), life_years, energy)


def lost_kWh(drawn_Wh: float, cycles: float, family: Family, efficiency: float | None = None) -> float:
    """Energy lost in so many charges that give back what was drawn each time, kWh; `efficiency`: energy out over in."""
    share = efficiency if efficiency is not None else EFFICIENCY[family.lithium]
    return cycles * drawn_Wh * (1.0 / share - 1.0) / 1000.0


def overtakes(one: Sequence[float], other: Sequence[float]) -> int | None:
    """The year by whose end `one`, cheaper at first, has cost more than `other`; None where it never has."""
    if not one or not other or one[0] >= other[0]:
        return None
    return next((year for year, (a, b) in enumerate(zip(one, other, strict=False)) if a > b), None)
