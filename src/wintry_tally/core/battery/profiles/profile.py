"""What is usual for a family of batteries: the one place where everything that a family differs in stands.

Source of every value in this folder: common practice, no published source, where nothing else is said. The manual of the
battery under test wins.
"""

from __future__ import annotations

import math
from collections.abc import Collection
from dataclasses import dataclass

LITHIUM, LEAD_ACID, ALL = "lithium", "lead-acid", "all"
Chart = tuple[tuple[float, float], ...]


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


@dataclass(frozen=True)
class Spreads:
    """How far batteries of a family are apart, new and worn, cold and oddly rated: standard deviations.

    Of the capacity's logarithm, the curve's offset (V), and the logarithms of its stretch about its middle and of how its
    charge is spread along it.
    """

    capacity: float
    offset: float
    stretch: float
    bend: float


@dataclass(frozen=True)
class Build:
    """What a usual, healthy model battery of 12 V is made of.

    Parts:
        ohm_Ah: its resistance × its rating; kg_Ah: its mass by its rating.
        ocv: (state of charge 0 to 1, rested V), rising; empty for the straight line of a lead-acid chart.
        exchange_per_h: between the two wells of lead-acid; self_discharge_month: share lost in 30.44 days at 25 °C.
        hysteresis_V, surface_V: see `core.cell.parameters`.
        protection_V: low cut and release, high cut and release, of a pack with its own; least_trip_A: its over-current trip.
    """

    ohm_Ah: float
    kg_Ah: float
    ocv: Chart = ()
    exchange_per_h: float = 0.0
    self_discharge_month: float = 0.0
    hysteresis_V: float = 0.0
    surface_V: float = 0.0
    protection_V: tuple[float, float, float, float] | None = None
    least_trip_A: float = 0.0


@dataclass(frozen=True)
class Family:
    """What is usual for a family of batteries: of 12 V as they stand in FAMILIES, of others by `pack_of`.

    Parts (V for the whole battery, temperatures in °C):
        cells, cell_nominal_V: in series, and each cell's nominal voltage.
        charge_V: gentle, usual and upper charge limits.
        float_V: lowest and highest float voltage, or None where there is no float.
        cutoff_V: the usual end of discharge; other_cutoff_V: the other one that loads are set to (1.8 V a cell of lead-acid,
            2.8 of lithium; common practice, no published source); cutoff_floor_V: never set a load's cut-off lower.
        full_taper_C: charge current, as a share of capacity per hour, at which it is full.
        plausible_V: no healthy terminal reading lies outside; reading_V: nor any reading but a sleeping pack's.
        mean_V: window of the mean discharge voltage at usual rates (0.05 to 0.5 C).
        rest_s: the usual rest before a rested voltage or a discharge.
        reference_rate_C: the rate a capacity is stated at.
        own_protection: whether packs of this family open the circuit themselves.
        charge_state: rested voltage to state of charge in percent, falling; `schools` holds other charts.
        arrival_V: the rested voltages a new one is usually shipped at.
        cell_revival_V: a single cell read lower is not charged any more (-inf where no such limit is known).
        packs: cells in series of the packs that are sold, of 6 to 48 V.
        peukert: exponent and its standard uncertainty; per_kelvin: relative capacity per kelvin, with its own.
        spreads, unit_spread: how far batteries of the family are apart, and two units of one model, as shares.
        ageing: how it fades; build: what its model battery is made of.
        flat: its curve is so flat that a voltage tells little of the charge.
        doubtful_below_V: a new one rested lower is likely another family's (None where nothing is known).
        mistaken_for_lead_V: a discharge on average below the first that began below the second looks like lead-acid.
        share: cells in series over those of the 12 V battery; fixed voltages elsewhere go by it.
    """

    key: str
    words: str
    cells: int
    cell_nominal_V: float
    charge_V: tuple[float, float, float]
    float_V: tuple[float, float] | None
    cutoff_V: float
    other_cutoff_V: float
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
    charge_state: Chart
    packs: tuple[int, ...]
    peukert: tuple[float, float]
    per_kelvin: tuple[float, float]
    spreads: Spreads
    unit_spread: float
    ageing: Ageing
    build: Build
    schools: tuple[Chart, ...] = ()
    arrival_V: tuple[float, float] | None = None
    arrival_state: tuple[float, float] | None = None
    cell_revival_V: float = -math.inf
    flat: bool = False
    doubtful_below_V: float | None = None
    mistaken_for_lead_V: tuple[float, float] | None = None
    share: float = 1.0

    @property
    def nominal_V(self) -> float:
        """Cells in series × the cell's nominal voltage."""
        return round(self.cells * self.cell_nominal_V, 3)

    @property
    def lithium(self) -> bool:
        """True for lithium packs, whose protection ends a discharge."""
        return self.own_protection

    @property
    def chemistry(self) -> str:
        """What it is of, in the one word by which recipes name all families alike."""
        return LITHIUM if self.lithium else LEAD_ACID

    def is_named(self, names: Collection[str]) -> bool:
        """Whether a list names it: by its key, by its chemistry, or by all."""
        return self.key in names or self.chemistry in names or ALL in names
