"""The battery families by name, their packs of more or fewer cells, and rested voltage to charge state."""

from __future__ import annotations

import itertools
import math
from dataclasses import replace

from wintry_tally.core.battery.profiles.lead import AGM, FLOODED, GEL
from wintry_tally.core.battery.profiles.lfp import LFP
from wintry_tally.core.battery.profiles.nmc import NMC
from wintry_tally.core.battery.profiles.profile import ALL, LEAD_ACID, LITHIUM
from wintry_tally.core.battery.profiles.profile import Family as Family
from wintry_tally.core.errors import InputError

FAMILIES: dict[str, Family] = {family.key: family for family in (LFP, AGM, GEL, FLOODED, NMC)}
"""By key. A new family is a file in `profiles`, its name here, and its words in `vocabulary/claims.toml`."""


NAMES = (*FAMILIES, LITHIUM, LEAD_ACID, ALL)
"""What a list of families may hold, in a recipe."""


def family_named(key: str) -> Family:
    """The family of that key.

    Raises:
        InputError: no such family; the message lists those known.
    """
    try:
        return FAMILIES[key.strip().lower()]
    except KeyError:
        raise InputError(f'family "{key}" is not known', mend=f"use one of {', '.join(FAMILIES)}") from None


FAR_OFF = 0.2
"""A printed nominal voltage further off than this share is no pack's."""


def of_cells(family: Family, cells: int) -> Family:
    """The profile of a pack of so many cells in series: every voltage by the cell."""
    if cells == family.cells:
        return family
    ratio = cells / family.cells

    def volts(value_V: float) -> float:
        return round(ratio * value_V, 4)

    def both(window: tuple[float, float]) -> tuple[float, float]:
        return volts(window[0]), volts(window[1])

    def chart(points: tuple[tuple[float, float], ...]) -> tuple[tuple[float, float], ...]:
        return tuple((volts(at_V), state) for at_V, state in points)

    gentle, usual, upper = family.charge_V
    return replace(
        family, cells=cells, share=ratio * family.share, charge_V=(volts(gentle), volts(usual), volts(upper)),
        float_V=None if family.float_V is None else both(family.float_V), cutoff_V=volts(family.cutoff_V),
        other_cutoff_V=volts(family.other_cutoff_V),
        cutoff_floor_V=volts(family.cutoff_floor_V), plausible_V=both(family.plausible_V), mean_V=both(family.mean_V),
        charge_state=chart(family.charge_state), schools=tuple(chart(points) for points in family.schools),
        arrival_V=None if family.arrival_V is None else both(family.arrival_V),
        doubtful_below_V=None if family.doubtful_below_V is None else volts(family.doubtful_below_V),
        mistaken_for_lead_V=None if family.mistaken_for_lead_V is None else both(family.mistaken_for_lead_V),
    )  # fmt: skip


def pack_of(family: Family, nominal_V: float | None) -> Family:
    """The profile of the pack whose printed nominal voltage that is; the 12 V one where none is printed.

    Raises:
        InputError: no pack of the family has it.
    """
    if nominal_V is None:
        return family
    cells = min(family.packs, key=lambda count: abs(math.log(count * family.cell_nominal_V / max(nominal_V, 1e-9))))
    found = of_cells(family, cells)
    if abs(found.nominal_V - nominal_V) > FAR_OFF * found.nominal_V:
        known = ", ".join(f"{of_cells(family, count).nominal_V:g} V" for count in family.packs)
        raise InputError(f"a {family.words} pack of {nominal_V:g} V is not known", mend=f"there are {known}")
    return found


def packs_of(family: Family) -> list[Family]:
    """Every pack of a family that is sold, fewest cells first."""
    return [of_cells(FAMILIES[family.key], cells) for cells in family.packs]


def packs_that_fit(family: Family, low_V: float, high_V: float) -> list[Family]:
    """Packs of the family that can show voltages from `low_V` to `high_V`: from empty under load to its charge limit."""
    return [
        pack for pack in packs_of(family) if pack.cutoff_V <= low_V and high_V <= pack.charge_V[2] + 0.2 * pack.share
    ]


CHART_DOUBT_V = 0.05
"""How far makers' charts of 12 V disagree, as a voltage either side; it turns a reading into a band."""


def charge_state_band(family: Family, rested_V: float, reading_limit_V: float = 0.02) -> tuple[float, float]:
    """State of charge in percent, as (low, high), that a rested voltage allows.

    The band spans every chart of the family at the voltage minus and plus the charts' and the meter's doubt:
    a flat chart gives a wide band. Source: common practice, no published source.
    """
    doubt = CHART_DOUBT_V * family.share + reading_limit_V
    low, high = 100.0, 0.0
    for chart in (family.charge_state, *family.schools):
        low = min(low, charge_state_at(chart, rested_V - doubt))
        high = max(high, charge_state_at(chart, rested_V + doubt))
    return low, high


def charge_state_at(chart: tuple[tuple[float, float], ...], voltage: float) -> float:
    """State of charge in percent on one chart, straight between its points, level beyond its ends."""
    if voltage >= chart[0][0]:
        return chart[0][1]
    for (upper_V, upper), (lower_V, lower) in itertools.pairwise(chart):
        if voltage >= lower_V:
            return lower + (upper - lower) * (voltage - lower_V) / (upper_V - lower_V)
    return chart[-1][1]


def likely_families(rested_V: float) -> list[Family]:
    """Families whose usual rested window (flat to full) holds this voltage, the narrowest fit first."""
    fits = []
    for family in FAMILIES.values():
        top, bottom = family.charge_state[0][0], family.charge_state[-1][0]
        if bottom - 0.05 <= rested_V <= top + 0.2:
            fits.append((top - bottom, family))
    return [family for _, family in sorted(fits, key=lambda pair: pair[0])]
