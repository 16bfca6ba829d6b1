"""Whether what an instrument says can be: against the command in force, against the battery, against itself."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import replace
from itertools import pairwise

from wintry_tally.core.engine import LIVE, Command, Observation, Phase
from wintry_tally.core.protocol import Recipe

MOST_V = 1000.0
TURNED_SHARE = 0.2
EXCESS_SHARE = 0.25
FREE_A = 0.3
SETTLING = 3
"""Readings after a command before its effect is judged: instruments take their time."""
STUCK = 45
"""So many readings in a row, equal to the last digit in voltage and current while current flows, are no measurement -
of a meter that was seen to flicker by several digits before. One that never did may only be coarse."""
FLICKER = 12


class ReadingWatch:
    """Turns a reading that cannot be into one that is not usable, with the reason in words.

    The engine ends a run after three such readings together, outputs off. Values are never mended here.
    """

    def __init__(self, recipe: Recipe) -> None:
        self._stops = recipe.stops
        self._command = Command("off")
        self._since = 0
        self._same = 0
        self._lively = False
        self._last: deque[Observation] = deque(maxlen=FLICKER)

    def told(self, command: Command) -> None:
        """The bench was told to do something."""
        if command.kind != "ask":
            self._command, self._since, self._same = command, 0, 0

    def judge(self, seen: Observation, phase: Phase) -> Observation:
        """The reading itself, or one that is not usable and says why."""
        self._since += 1
        fault = self._fault(seen, phase)
        self._follow(seen)
        return replace(seen, voltage_V=math.nan, current_A=math.nan, fault=fault) if fault else seen

    def _follow(self, seen: Observation) -> None:
        if self._last:
            before = self._last[-1]
            same = seen.voltage_V == before.voltage_V and seen.current_A == before.current_A
            self._same = self._same + 1 if same else 0
        self._last.append(seen)
        if not self._lively and self._since > FLICKER:
            self._lively = _flickers([item.voltage_V for item in self._last]) or _flickers(
                [item.current_A for item in self._last]
            )

    def _fault(self, seen: Observation, phase: Phase) -> str:
        volts, amps = seen.voltage_V, seen.current_A
        if not (math.isfinite(volts) and math.isfinite(amps)):
            return seen.fault or "the instrument shows no number"
        if not -2.0 < volts < MOST_V:
            return f"the voltage reads {volts:g} V, which cannot be"
        most = 4.0 * max(self._stops.current_high_A, self._finite(self._stops.charge_high_A)) + 10.0
        if abs(amps) > most:
            return f"the current reads {amps:g} A, which nothing here can make flow"
        if seen.temperature_C is not None and not -90.0 < seen.temperature_C < 300.0:
            return f"the thermometer reads {seen.temperature_C:g} °C, which cannot be"
        if phase in LIVE and self._since > SETTLING:
            return self._against_command(seen)
        if phase not in LIVE and self._since > SETTLING and self._command.kind == "off" and abs(amps) > FREE_A:
            return f"{amps:.2f} A still flow though everything was switched off: unplug the battery"
        return ""

    @staticmethod
    def _finite(value: float) -> float:
        return value if math.isfinite(value) else 0.0

    def _against_command(self, seen: Observation) -> str:
        command, amps = self._command, seen.current_A
        way = 1.0 if command.kind == "draw" else -1.0
        setting = command.setting if command.mode in {"current", "charge"} else 0.0
        floor = max(FREE_A, TURNED_SHARE * setting)
        if way * amps < -floor:
            doing, reads = ("load draws", "charge") if way > 0 else ("charger gives", "discharge")
            return f"the current reads as a {reads} while the {doing}: its sign, or the shunt's leads, are turned"
        if setting and way * amps > setting * (1.0 + EXCESS_SHARE) + FREE_A:
            return f"{abs(amps):.2f} A flow where {setting:g} A were set"
        if self._same >= STUCK and self._lively and abs(amps) > FREE_A:
            return f"the meter has shown the very same {seen.voltage_V:g} V and {amps:g} A for {self._same} readings: it is stuck"
        return ""


def _flickers(values: list[float]) -> bool:
    """Whether readings go up and down over several digits: a meter whose noise exceeds its last digit."""
    steps = [after - before for before, after in pairwise(values) if after != before]
    turns = sum(1 for one, other in pairwise(steps) if one * other < 0)
    return len(set(values)) >= 4 and turns >= 3
