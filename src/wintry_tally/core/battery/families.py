"""One profile for each battery family: cells, voltages, limits, rest, and rested voltage to charge state.

Source of every value here: common practice, no published source. The manual of the battery under test wins.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, replace

from wintry_tally.core.errors import InputError


@dataclass(frozen=True)
class Family:
    """What is usual for a family of batteries: of 12 V as they stand in FAMILIES, of others by `pack_of`.

    Parts (V for the whole battery, temperatures in °C):
        cells, cell_nominal_V: in series, and each cell's nominal voltage.
        charge_V: gentle, usual and upper charge limits.
        float_V: lowest and highest float voltage, or None where there is no float.
        cutoff_V: the usual end of discharge; cutoff_floor_V: never set a load's cut-off lower.
        full_taper_C: charge current, as a share of capacity per hour, at which it is full.
        plausible_V: no healthy terminal reading lies outside; reading_V: nor any reading but a sleeping pack's.
        mean_V: window of the mean discharge voltage at usual rates (0.05 to 0.5 C).
        rest_s: the usual rest before a rested voltage or a discharge.
        reference_rate_C: the rate a capacity is stated at.
        own_protection: whether packs of this family open the circuit themselves.
        charge_state: rested voltage to state of charge in percent, falling; `schools` holds other charts.
        arrival_V: the rested voltages a new one is usually shipped at.
        cell_revival_V: a single cell read lower is not charged any more (-inf where no such limit is known).
        share: cells in series over those of the 12 V battery; fixed voltages elsewhere go by it.
    """

    key: str
    words: str
    cells: int
    cell_nominal_V: float
    charge_V: tuple[float, float, float]
    float_V: tuple[float, float] | None
    cutoff_V: float
    cutoff_floor_V: float
    full_taper_C: float
    plausible_V: tuple[float, float]
    mean_V: tuple[float, float]
    rest_s: float
    reference_rate_C: float
    own_protection: bool
    charge_C: tuple[float, float]
    discharge_C: tuple[float, float]
    self_discharge_month: tuple[float, float]
    charge_state: tuple[tuple[float, float], ...]
    schools: tuple[tuple[tuple[float, float], ...], ...] = ()
    arrival_V: tuple[float, float] | None = None
    arrival_state: tuple[float, float] | None = None
    cell_revival_V: float = -math.inf
    share: float = 1.0

    @property
    def nominal_V(self) -> float:
        """Cells in series × the cell's nominal voltage."""
        return round(self.cells * self.cell_nominal_V, 3)

    @property
    def lithium(self) -> bool:
        """True for lithium packs, whose protection ends a discharge."""
        return self.own_protection


_AGM_CHART = ((12.85, 100.0), (12.59, 80.0), (12.33, 70.0), (12.05, 50.0), (11.8, 0.0))

FAMILIES: dict[str, Family] = {
    family.key: family
    for family in (
        Family(
            key="lfp",
            words="lithium iron phosphate",
            cells=4,
            cell_nominal_V=3.2,
            charge_V=(14.0, 14.4, 14.6),
            float_V=None,
            cutoff_V=10.0,
            cutoff_floor_V=8.0,
            full_taper_C=0.05,
            plausible_V=(8.0, 15.0),
            mean_V=(12.2, 13.2),
            rest_s=3600.0,
            reference_rate_C=0.2,
            own_protection=True,
            charge_C=(0.0, 45.0),
            discharge_C=(-20.0, 60.0),
            self_discharge_month=(0.0, 3.0),
            charge_state=(
                *((13.6, 100.0), (13.4, 99.0), (13.3, 90.0), (13.2, 70.0), (13.1, 40.0), (13.0, 30.0)),
                *((12.9, 20.0), (12.8, 17.0), (12.5, 14.0), (12.0, 9.0), (10.0, 0.0)),
            ),
            schools=(((13.6, 100.0), (13.3, 90.0), (13.0, 50.0), (12.8, 17.0), (12.0, 9.0), (10.0, 0.0)),),
            arrival_V=(13.0, 13.3),
            arrival_state=(30.0, 60.0),
            cell_revival_V=2.0,
        ),
        Family(
            key="agm",
            words="sealed lead-acid (AGM)",
            cells=6,
            cell_nominal_V=2.0,
            charge_V=(14.4, 14.6, 14.7),
            float_V=(13.5, 13.8),
            cutoff_V=10.5,
            cutoff_floor_V=9.6,
            full_taper_C=0.02,
            plausible_V=(8.0, 15.5),
            mean_V=(11.5, 12.6),
            rest_s=4 * 3600.0,
            reference_rate_C=0.05,
            own_protection=False,
            charge_C=(-15.0, 40.0),
            discharge_C=(-20.0, 50.0),
            self_discharge_month=(1.0, 3.0),
            charge_state=_AGM_CHART,
            schools=(((12.85, 100.0), (12.55, 75.0), (12.3, 50.0), (11.8, 0.0)),),
            arrival_V=(12.5, 13.1),
        ),
        Family(
            key="gel",
            words="gel lead-acid",
            cells=6,
            cell_nominal_V=2.0,
            charge_V=(14.1, 14.2, 14.4),
            float_V=(13.5, 13.8),
            cutoff_V=10.5,
            cutoff_floor_V=9.6,
            full_taper_C=0.02,
            plausible_V=(8.0, 15.0),
            mean_V=(11.5, 12.6),
            rest_s=4 * 3600.0,
            reference_rate_C=0.05,
            own_protection=False,
            charge_C=(-15.0, 40.0),
            discharge_C=(-20.0, 50.0),
            self_discharge_month=(1.0, 3.0),
            charge_state=_AGM_CHART,
            schools=(((12.85, 100.0), (12.55, 75.0), (12.3, 50.0), (11.8, 0.0)),),
            arrival_V=(12.5, 13.1),
        ),
        Family(
            key="flooded",
            words="flooded lead-acid",
            cells=6,
            cell_nominal_V=2.0,
            charge_V=(14.4, 14.6, 14.8),
            float_V=(13.2, 13.5),
            cutoff_V=10.5,
            cutoff_floor_V=9.6,
            full_taper_C=0.02,
            plausible_V=(8.0, 16.5),
            mean_V=(11.3, 12.5),
            rest_s=4 * 3600.0,
            reference_rate_C=0.05,
            own_protection=False,
            charge_C=(-15.0, 45.0),
            discharge_C=(-20.0, 50.0),
            self_discharge_month=(4.0, 8.0),
            charge_state=((12.65, 100.0), (12.45, 75.0), (12.24, 50.0), (12.06, 25.0), (11.89, 0.0)),
            arrival_V=(12.35, 12.8),
        ),
        Family(
            key="nmc",
            words="lithium-ion of the NMC type",
            cells=3,
            cell_nominal_V=3.7,
            charge_V=(12.3, 12.6, 12.6),
            float_V=None,
            cutoff_V=9.0,
            cutoff_floor_V=8.4,
            full_taper_C=0.05,
            plausible_V=(7.5, 12.9),
            mean_V=(10.3, 11.8),
            rest_s=3600.0,
            reference_rate_C=0.2,
            own_protection=True,
            charge_C=(0.0, 45.0),
            discharge_C=(-20.0, 60.0),
            self_discharge_month=(1.0, 3.0),
            charge_state=((12.6, 100.0), (11.9, 75.0), (11.3, 50.0), (11.0, 25.0), (9.0, 0.0)),
            arrival_V=(10.9, 11.6),
            arrival_state=(25.0, 60.0),
        ),
    )
}


def family_named(key: str) -> Family:
    """The family of that key.

    Raises:
        InputError: no such family; the message lists those known.
    """
    try:
        return FAMILIES[key.strip().lower()]
    except KeyError:
        raise InputError(f'family "{key}" is not known', mend=f"use one of {', '.join(FAMILIES)}") from None


PACKS = {
    "lfp": (2, 4, 8, 12, 16), "agm": (3, 6, 12, 18, 24), "gel": (3, 6, 12, 18, 24), "flooded": (3, 6, 12, 18, 24),
    "nmc": (2, 3, 4, 6, 7, 10, 13, 14),
}  # fmt: skip
"""Cells in series of the packs of 6, 12, 24, 36 and 48 V that are sold; common practice, no published source."""
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
        cutoff_floor_V=volts(family.cutoff_floor_V), plausible_V=both(family.plausible_V), mean_V=both(family.mean_V),
        charge_state=chart(family.charge_state), schools=tuple(chart(points) for points in family.schools),
        arrival_V=None if family.arrival_V is None else both(family.arrival_V),
    )  # fmt: skip


def pack_of(family: Family, nominal_V: float | None) -> Family:
    """The profile of the pack whose printed nominal voltage that is; the 12 V one where none is printed.

    Raises:
        InputError: no pack of the family has it.
    """
    if nominal_V is None:
        return family
    cells = min(
        PACKS[family.key], key=lambda count: abs(math.log(count * family.cell_nominal_V / max(nominal_V, 1e-9)))
    )
    found = of_cells(family, cells)
    if abs(found.nominal_V - nominal_V) > FAR_OFF * found.nominal_V:
        known = ", ".join(f"{of_cells(family, count).nominal_V:g} V" for count in PACKS[family.key])
        raise InputError(f"a {family.words} pack of {nominal_V:g} V is not known", mend=f"there are {known}")
    return found


def packs_of(family: Family) -> list[Family]:
    """Every pack of a family that is sold, fewest cells first."""
    return [of_cells(FAMILIES[family.key], cells) for cells in PACKS[family.key]]


def packs_that_fit(family: Family, low_V: float, high_V: float) -> list[Family]:
    """Packs of the family that can show voltages from `low_V` to `high_V`: from empty under load to its charge limit."""
    return [
        pack for pack in packs_of(family) if pack.cutoff_V <= low_V and high_V <= pack.charge_V[2] + 0.2 * pack.share
    ]


CHART_DOUBT_V = 0.05
"""How far makers' charts disagree, as a voltage either side; it turns a reading into a band."""


def charge_state_band(family: Family, rested_V: float, reading_limit_V: float = 0.02) -> tuple[float, float]:
    """State of charge in percent, as (low, high), that a rested voltage allows.

    The band spans every chart of the family at the voltage minus and plus the charts' and the meter's doubt:
    a flat chart gives a wide band. Source: common practice, no published source.
    """
    doubt = CHART_DOUBT_V + reading_limit_V
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
