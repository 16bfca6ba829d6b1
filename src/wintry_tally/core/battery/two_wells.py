"""The two-well kinetic battery: an available and a bound well, levelling out between them.

Source: Manwell & McGowan, Solar Energy 50 (1993), closed form for a constant current (from memory).
"""

from __future__ import annotations

import math


def two_wells(
    available_Ah: float, bound_Ah: float, current_A: float, hours: float, share: float, rate_per_h: float
) -> tuple[float, float]:
    """Both wells after a constant current (positive while giving) for some hours.

    Args:
        share: of the whole capacity that the available well holds (c of the paper), 0 to 1 exclusive.
        rate_per_h: how fast the wells level out (k of the paper).
    """
    total = available_Ah + bound_Ah
    decay = math.exp(-rate_per_h * hours)
    available = available_Ah * decay + (total * rate_per_h * share - current_A) * (1.0 - decay) / rate_per_h
    available -= current_A * share * (rate_per_h * hours - 1.0 + decay) / rate_per_h
    return available, total - current_A * hours - available


def hours_to_empty(capacity_Ah: float, current_A: float, share: float, rate_per_h: float) -> float:
    """How long a full battery gives a constant current until its available well is empty, h."""
    low, high = 0.0, capacity_Ah / current_A
    for _ in range(60):
        middle = 0.5 * (low + high)
        available, _bound = two_wells(
            share * capacity_Ah, (1.0 - share) * capacity_Ah, current_A, middle, share, rate_per_h
        )
        low, high = (middle, high) if available > 0.0 else (low, middle)
    return 0.5 * (low + high)
