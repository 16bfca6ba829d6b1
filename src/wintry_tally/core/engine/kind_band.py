"""Between which voltages a battery of its kind can stand, by its rested voltage and what has flowed since.

Wide on purpose: from half to 1.3 times its rating, worn and cold. What leaves it is no battery of that kind and size, or
one of whose cells has failed, or one that something else charges or draws from. Common practice, no published source.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from wintry_tally.core.battery.families import CHART_DOUBT_V, Family, charge_state_band
from wintry_tally.core.cell import Parameters

LEAST_SHARE, MOST_SHARE = 0.5, 1.3
SURFACE_V = 0.20
"""Of 12 V: a voltage just after a charge stands so much above a settled one, and just after a discharge below."""
WORN, SLOW = 6.0, 3.0
"""A pack has so many times its family's usual resistance, or so many times what it showed in the first seconds."""
KNEE, FILLING, GASSING, MET = 0.25, 0.75, 0.5, 2.0
"""With less in it than this a voltage falls as it likes; with more, a charge rises as it likes, of lead-acid sooner: its plates'
faces fill first. What a charge meets beyond the resistance may be so many times the usual."""
ROOM_SHARE = 0.02
USUAL_C = 25.0


class KindBand:
    """Follows what flows from one rest to the next. Voltages of the whole pack in V, currents positive while drawn."""

    def __init__(self, family: Family, rated_Ah: float, usual: Parameters) -> None:
        self._family, self._rated_Ah, self._usual = family, rated_Ah, usual
        self._charts = [
            ([state / 100.0 for _, state in reversed(chart)], [volts for volts, _ in reversed(chart)])
            for chart in (family.charge_state, *family.schools)
        ]
        self._states = (0.0, 1.0)
        self._drawn_Ah = 0.0
        self.cell_V = family.cell_nominal_V

    def rested(self, volts: float) -> None:
        """Begin again from a voltage with nothing flowing, settled or not."""
        low = charge_state_band(self._family, volts - SURFACE_V * self._family.share)[0]
        high = charge_state_band(self._family, volts + SURFACE_V * self._family.share)[1]
        self._states, self._drawn_Ah = (low / 100.0, high / 100.0), 0.0

    def flowed(self, amps: float, seconds: float) -> None:
        """Count."""
        self._drawn_Ah += amps * seconds / 3600.0

    def limits(self, amps: float, celsius: float, ohm: float) -> tuple[float, float]:
        """Lowest and highest voltage at a current; infinite where nothing can be said. `ohm`: seen at the start, or NaN."""
        cold_K = max(0.0, USUAL_C - celsius)
        least = self._rated_Ah * LEAST_SHARE * (1.0 - min(0.6, self._usual.capacity_per_K * cold_K))
        most = self._rated_Ah * MOST_SHARE
        small, large = sorted((self._drawn_Ah / least, self._drawn_Ah / most), reverse=True)
        low, high = max(0.0, self._states[0] - small), min(1.0, self._states[1] - large)
        usual = (self._usual.resistance_ohm + self._usual.slow_ohm) * math.exp(self._usual.resistance_per_K * cold_K)
        sag = max(WORN * usual, SLOW * ohm if math.isfinite(ohm) else 0.0) * abs(amps)
        room = ROOM_SHARE * self._family.plausible_V[1] + CHART_DOUBT_V * self._family.share
        if amps >= 0.0:
            floor = -math.inf if low < KNEE else self._rested_V(low, min) - sag - room
            return floor, self._rested_V(high, max) + room
        rises = high > (GASSING if self._usual.charge_rise_V else FILLING)
        met = sag - MET * self._usual.charge_ohm * amps
        return self._rested_V(low, min) - room, math.inf if rises else self._rested_V(high, max) + met + room

    def _rested_V(self, state: float, which: Callable[[list[float]], float]) -> float:
        return which([float(np.interp(state, states, volts)) for states, volts in self._charts])
