"""American wire gauges and cross-sections. ASTM B258: 39 steps of equal ratio from 0.005 in (36) to 0.46 in (4/0)."""

from __future__ import annotations

import math

THICKEST = -3
"""4/0; thicker ones are told in thousands of circular mils."""
INCH_MM = 25.4
SLACK = 0.05
"""Of a gauge: what is printed in mm² is rounded, and that makes no other gauge of it."""


def awg_diameter_mm(gauge: int) -> float:
    """Of a solid conductor, mm; 0 is 1/0, -1 is 2/0."""
    return float(0.127 * 92.0 ** ((36 - gauge) / 39.0))


def awg_area_mm2(gauge: int) -> float:
    """Cross-section of a gauge, mm²."""
    return math.pi / 4.0 * awg_diameter_mm(gauge) ** 2


def gauge_of(area_mm2: float) -> str:
    """The gauge of at most this cross-section: "AWG 10", "AWG 2/0"; beyond 4/0 in thousands of circular mils, "250 kcmil"."""
    diameter_mm = math.sqrt(4.0 * area_mm2 / math.pi)
    number = math.ceil(36.0 - 39.0 * math.log(diameter_mm / 0.127, 92.0) - SLACK)
    if number < THICKEST:
        return f"{(diameter_mm / INCH_MM) ** 2 * 1000.0:.0f} kcmil"
    return f"AWG {number}" if number > 0 else f"AWG {1 - number}/0"
