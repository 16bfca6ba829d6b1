"""Watching for what no fixed limit tells: leads that get worse, heat that no current explains, a voltage off its way."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass

from wintry_tally.core.engine import LIVE, Observation, Phase
from wintry_tally.core.engine.kind_band import KindBand
from wintry_tally.core.message import said
from wintry_tally.core.room import ROOM_C

LEAD_READINGS = 8
LEAD_WORSE, LEAD_BAD = 1.5, 3.0
LEAD_WORSE_OHM, LEAD_BAD_OHM = 0.005, 0.020
LEAST_AMPS_C = 0.05
APART_SHARE = 0.015
"""The voltmeters at the two ends of a lead may be apart by so much of what they read: at another voltage or current that is
another resistance."""
HEAT_WARN, HEAT_STOP = 2.0, 3.0
HEAT_WARN_K, HEAT_STOP_K = 5.0, 12.0
"""A case may warm by so many times what the current explains, and by as much again for its surroundings."""
AMBIENT_K_H = 2.0
ABOVE_REST, BELOW_REST = 1.012, 0.988
GONE_SHARE = 0.1
"""Less than so much of the rested voltage, with nothing flowing or with a load that gets nothing, is no battery."""
JUDGED_AFTER_S = 60.0
OFF_READINGS, OFF_S = 3, 20.0
"""A voltage is off its kind's band when so many readings over so long say so."""
CELL_SHARE = 0.3
"""Below the band by so much of a cell's voltage, a cell has failed."""


@dataclass(frozen=True)
class Body:
    """A pack for the sum of its warmth: heat capacity J/K, capacity Ah."""

    heat_J_K: float
    capacity_Ah: float


@dataclass(frozen=True)
class Alarm:
    """Something noticed: a key (told once a step), words, and whether the run has to stop."""

    key: str
    words: str
    stop: bool = False


class Vigil:
    """Follows a run's readings. Common practice, no published source; every threshold is a multiple of its own start."""

    def __init__(self, body: Body | None, zero_A: float, kind: KindBand | None = None) -> None:
        self._body, self._zero_A, self._kind = body, zero_A, kind
        self._off: list[float] = []
        self._leads: deque[tuple[float, float]] = deque(maxlen=LEAD_READINGS)
        self._first_lead: tuple[float, float] | None = None
        self._rest_V = self._resting_V = math.nan
        self._ohm = math.nan
        self._warm_C: float | None = None
        self._warm_s = self._heat_J = self._last_s = 0.0
        self._since_s = 0.0
        self._live = False

    def see(self, seen: Observation, phase: Phase, now_s: float, own_V: float | None) -> list[Alarm]:
        """What a usable reading tells. `own_V`: what the instrument in command reads at its own terminals."""
        live = phase in LIVE
        if not live:
            return self._at_rest(seen, now_s)
        self._resting_V = math.nan
        if not self._live:
            self._live, self._since_s, self._last_s = True, now_s, now_s
            self._ohm = math.nan
            self._leads.clear()
            self._first_lead = None
        amps = abs(seen.current_A)
        if (
            amps > self._zero_A
            and math.isnan(self._ohm)
            and now_s - self._since_s >= 5.0
            and math.isfinite(self._rest_V)
        ):
            self._ohm = abs(self._rest_V - seen.voltage_V) / amps
        found = [
            *self._lead(seen, amps, own_V),
            *self._heat(seen, amps, now_s),
            *self._way(seen, phase, amps, now_s),
            *self._of_its_kind(seen, phase, now_s),
        ]
        self._last_s = now_s
        return found

    def _at_rest(self, seen: Observation, now_s: float) -> list[Alarm]:
        """What it rests at, kept; and that it is gone from its leads, where there was a voltage in this very rest."""
        self._live = False
        if math.isfinite(self._resting_V) and seen.voltage_V < GONE_SHARE * self._resting_V:
            return [Alarm("gone-at-rest", said("gone-at-rest", volts=seen.voltage_V, rest=self._resting_V))]
        self._rest_V = self._resting_V = seen.voltage_V
        if self._kind is not None and seen.voltage_V > 0.0:
            self._kind.rested(seen.voltage_V)
        self._cooled(seen, now_s)
        return []

    def _lead(self, seen: Observation, amps: float, own_V: float | None) -> list[Alarm]:
        """The leads' and clamps' own resistance, where load or charger read the voltage at their end."""
        least = LEAST_AMPS_C * self._body.capacity_Ah if self._body is not None else 1.0
        if own_V is None or amps < max(least, 10.0 * self._zero_A):
            return []
        self._leads.append((abs(seen.voltage_V - own_V) / amps, abs(seen.voltage_V) / amps))
        if len(self._leads) < LEAD_READINGS:
            return []
        ohm, whole_ohm = sorted(self._leads)[LEAD_READINGS // 2]
        if self._first_lead is None:
            self._first_lead = ohm, whole_ohm
            return []
        first, first_whole = self._first_lead
        surely = ohm - APART_SHARE * abs(whole_ohm - first_whole)
        words = said("leads-worse", mohm=1000 * ohm, first_mohm=1000 * first)
        if surely > LEAD_BAD * first + LEAD_BAD_OHM:
            return [Alarm("leads-bad", words, stop=True)]
        return [Alarm("leads", words)] if surely > LEAD_WORSE * first + LEAD_WORSE_OHM else []

    def _cooled(self, seen: Observation, now_s: float) -> None:
        """At rest the warmth is counted anew from what it is."""
        if seen.temperature_C is not None:
            self._warm_C, self._warm_s, self._heat_J = seen.temperature_C, now_s, 0.0

    def _heat(self, seen: Observation, amps: float, now_s: float) -> list[Alarm]:
        """Warmth against I²R in the pack's own resistance."""
        celsius = seen.temperature_C
        if celsius is None or self._body is None:
            return []
        if self._warm_C is None:
            self._cooled(seen, now_s)
            return []
        if math.isfinite(self._ohm):
            self._heat_J += amps * amps * self._ohm * max(0.0, now_s - self._last_s)
        else:
            return []
        explained = self._heat_J / self._body.heat_J_K
        rise = celsius - self._warm_C - AMBIENT_K_H * (now_s - self._warm_s) / 3600.0
        words = said("warmer", rise_K=celsius - self._warm_C, explained_K=explained)
        if rise > HEAT_STOP * explained + HEAT_STOP_K:
            return [Alarm("heat-unexplained", words, stop=True)]
        return [Alarm("heat", words)] if rise > HEAT_WARN * explained + HEAT_WARN_K else []

    def _way(self, seen: Observation, phase: Phase, amps: float, now_s: float) -> list[Alarm]:
        """A voltage that goes where none of its kind goes: above its own rest under load, below it on charge."""
        if not math.isfinite(self._rest_V) or now_s - self._since_s < JUDGED_AFTER_S or amps <= self._zero_A:
            return []
        if phase is Phase.DISCHARGING and seen.voltage_V > ABOVE_REST * self._rest_V:
            words = said("above-rest", volts=seen.voltage_V, rest=self._rest_V)
            return [Alarm("above-rest", words)]
        if phase is Phase.CHARGING and seen.voltage_V < BELOW_REST * self._rest_V:
            words = said("below-rest", volts=seen.voltage_V, rest=self._rest_V)
            return [Alarm("below-rest", words)]
        return []

    def _of_its_kind(self, seen: Observation, phase: Phase, now_s: float) -> list[Alarm]:
        """A voltage outside of what a battery of this family and rating can show after what has flowed."""
        if self._kind is None or not math.isfinite(self._rest_V):
            return []
        self._kind.flowed(seen.current_A, max(0.0, now_s - self._last_s))
        celsius = ROOM_C if seen.temperature_C is None else seen.temperature_C
        low, high = self._kind.limits(seen.current_A, celsius, self._ohm)
        if low <= seen.voltage_V <= high or now_s - self._since_s < JUDGED_AFTER_S:
            self._off.clear()
            return []
        self._off.append(now_s)
        if len(self._off) < OFF_READINGS or now_s - self._off[0] < OFF_S:
            return []
        if seen.voltage_V > high:
            code = "above-band-draw" if phase is Phase.DISCHARGING else "above-band-charge"
            return [Alarm("off-band", said(code, volts=seen.voltage_V, limit=high))]
        if seen.voltage_V < low - CELL_SHARE * self._kind.cell_V:
            return [Alarm("cell-failed", said("cell-failed", volts=seen.voltage_V, limit=low), stop=True)]
        return [Alarm("off-band", said("below-band", volts=seen.voltage_V, limit=low))]
