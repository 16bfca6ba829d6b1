"""Leads: their resistance, how much of the voltage they keep, how warm they get, and what they may carry."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity.wires import awg_area_mm2

CLASS_5_OHM_PER_KM = {
    0.5: 39.0, 0.75: 26.0, 1.0: 19.5, 1.5: 13.3, 2.5: 7.98, 4.0: 4.95, 6.0: 3.30, 10.0: 1.91, 16.0: 1.21, 25.0: 0.780,
    35.0: 0.554, 50.0: 0.386, 70.0: 0.272,
}  # fmt: skip
"""Ω/km at 20 °C of fine-stranded copper by its cross-section in mm². Source: IEC 60228, class 5 (from memory)."""
COPPER_PER_K = 0.00393
AWG_AMPACITY = {
    14: 15.0,
    12: 20.0,
    10: 30.0,
    8: 40.0,
    6: 55.0,
    4: 70.0,
    3: 85.0,
    2: 95.0,
    1: 110.0,
    0: 125.0,
    -1: 145.0,
    -2: 165.0,
    -3: 195.0,
}
KCMIL_AMPACITY = {250: 215.0, 300: 240.0, 350: 260.0, 400: 280.0, 500: 320.0, 600: 355.0, 750: 400.0, 1000: 455.0}
KCMIL_MM2 = 0.5067075
"""A, copper, 60 °C column; gauges below 0 are 2/0, 3/0, 4/0, and above those a thousand circular mils. Source: NFPA 70, table 310.16 (from memory); local codes rule."""
AIR_W_M2_K = 10.0
"""Heat a lead in still air gives off, radiation included; common practice."""
INSULATION_MM = 1.0
ROUGH_OHM_MM2_M = 0.0199


def ohm_per_m(area_mm2: float, celsius: float = 20.0) -> float:
    """Of one conductor: the table where it has the size, else by its cross-section; × (1 + 0.00393 (T - 20))."""
    base = next(
        (ohm / 1000.0 for size, ohm in CLASS_5_OHM_PER_KM.items() if math.isclose(size, area_mm2, rel_tol=1e-3)),
        ROUGH_OHM_MM2_M / area_mm2,
    )
    return base * (1.0 + COPPER_PER_K * (celsius - 20.0))


def ampacity_A(area_mm2: float) -> float:
    """What a lead of this cross-section may carry for long: that of the next thinner gauge in the table, A.

    Thinner than the thinnest in the table: in proportion to its cross-section.
    """
    best = 0.0
    for gauge, amps in AWG_AMPACITY.items():
        if area_mm2 >= 0.95 * awg_area_mm2(gauge):
            best = max(best, amps)
    for size, amps in KCMIL_AMPACITY.items():
        if area_mm2 >= 0.95 * KCMIL_MM2 * size:
            best = max(best, amps)
    return best or AWG_AMPACITY[14] * area_mm2 / awg_area_mm2(14)


@dataclass(frozen=True)
class Leads:
    """A pair of leads: cross-section mm², length one way m; `sensed` when the voltage is read at the battery."""

    area_mm2: float = 6.0
    length_m: float = 1.0
    sensed: bool = True

    def __post_init__(self) -> None:
        if not 0.05 <= self.area_mm2 <= 500.0:
            raise InputError(f"a lead of {self.area_mm2:g} mm² cannot be", mend="give 0.05 to 500 mm²")
        if not 0.0 < self.length_m <= 100.0:
            raise InputError(f"a lead of {self.length_m:g} m cannot be", mend="give up to 100 m, one way")

    @property
    def ohm(self) -> float:
        """Of both conductors, at 20 °C."""
        return 2.0 * self.length_m * ohm_per_m(self.area_mm2)

    def drop_V(self, current_A: float) -> float:
        """What both conductors keep of the voltage: I × R."""
        return abs(current_A) * self.ohm

    def rise_K(self, current_A: float) -> float:
        """How much warmer than the air a conductor gets in the end: I² R' / (h π D), its resistance rising with it."""
        outer_m = (math.sqrt(4.0 * self.area_mm2 / math.pi) + 2.0 * INSULATION_MM) / 1000.0
        rise = 0.0
        for _ in range(20):
            rise = min(1000.0, current_A**2 * ohm_per_m(self.area_mm2, 20.0 + rise) / (AIR_W_M2_K * math.pi * outer_m))
        return rise
