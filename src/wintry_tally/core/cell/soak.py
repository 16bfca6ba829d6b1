"""How long a battery has to stand in the cold until its core is cold: a lumped body with an allowance for its inside."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.trace.trace import Column

WITHIN_K, MARGIN = 1.0, 1.25
"""The core is as cold as the place within so much; the time for it, times a margin for a lid, a shelf, a full freezer."""
CONDUCTION_W_MK, FILM_W_M2K, HALF_THICK_M = 1.0, 8.0, 0.06
"""Across a battery's plates or cells; still air and radiation; half the least side of a usual case. Common practice."""
AREA_M2 = 0.043
"""Of a usual case by its mass: so much × kg^(2/3), of about 2 kg/l and half as long again as it is wide."""
SAFE_S = 24.0 * 3600.0
"""A day in the freezer is the safe common practice."""


@dataclass(frozen=True)
class Soak:
    """One soak.

    Parts:
        tau_s: the time constant; start_C, place_C: of the core at first, and of the place.
        sound_s: the earliest sound moment, its margin in it; 0 where it is as cold already.
    """

    tau_s: float
    start_C: float
    place_C: float
    sound_s: float

    def core(self, at_s: Column) -> Column:
        """The core after so many seconds, °C. Source: lumped capacitance (Incropera & DeWitt, from memory)."""
        return self.place_C + (self.start_C - self.place_C) * np.exp(-np.asarray(at_s, dtype=float) / self.tau_s)


def soak(
    mass_kg: float, heat_J_kgK: float, start_C: float, place_C: float, sides_m: tuple[float, float, float] | None = None
) -> Soak:
    """The soak of a battery from one temperature to that of its place.

    τ = m c / (h A) × (1 + Bi / 3), Bi = h L / k: the slowest part of a wall cooled from outside, for a Biot number of
    the order of one or less (Incropera & DeWitt, one-term solution, from memory).

    Args:
        sides_m: its length, width and height; a usual case of its mass where they are not known.
    """
    area, half = AREA_M2 * mass_kg ** (2 / 3), HALF_THICK_M
    if sides_m is not None:
        a, b, c = sides_m
        area, half = 2.0 * (a * b + b * c + c * a), min(sides_m) / 2.0
    biot = FILM_W_M2K * half / CONDUCTION_W_MK
    tau = mass_kg * heat_J_kgK / (FILM_W_M2K * area) * (1.0 + biot / 3.0)
    apart = abs(start_C - place_C)
    sound = MARGIN * tau * math.log(apart / WITHIN_K) if apart > WITHIN_K else 0.0
    return Soak(tau, start_C, place_C, sound)
