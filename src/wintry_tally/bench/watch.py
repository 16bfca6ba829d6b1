"""Whether what an instrument says can be: against the command in force, against the battery, against itself."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field, replace
from itertools import pairwise
from statistics import median

from wintry_tally.bench.vigil import GONE_SHARE
from wintry_tally.core.engine import LIVE, Command, Observation, Phase
from wintry_tally.core.engine.rules import at_limit
from wintry_tally.core.message import NOTHING, Message, as_message, said
from wintry_tally.core.protocol import Recipe, Step

MOST_V = 1000.0
TURNED_SHARE = 0.2
APART_SHARE = 0.25
"""A current further than this from what was set, and further than its meter may err, is not what was set."""
LEAPT_SHARE, LEAPT_ZEROS = 0.05, 5.0
"""A charge's current that was at least so much of what was set, and so many times the meter's zero, tapers no further in one reading."""
NEAR_SET = 0.1
FREE_A = 0.3
"""What a current may read with nothing flowing, where nothing is known of its meter."""
SETTLING = 3
"""Readings after a command before its effect is judged: instruments take their time."""
TOGETHER = 3
"""So many readings together before something is said of an output."""
STUCK, STUCK_S = 12, 10.0
"""So many readings in a row, over this time, equal to the last digit, are no measurement - of a meter that was seen to
flicker by several digits before. One that never did may only be coarse."""
FLICKER, HISTORY = 12, 64
LOG_CHANCE = math.log(1e-7)
"""Stuck is what a living meter would show by chance, at the worst place within a digit, no more than once in some hundreds of
long runs."""
RUNNING_DIGITS, LEAP_DIGITS, NO_NOISE = 3, 4.0, 0.45
"""What runs moves by so many digits at each reading; a step counts as no more than so many; less of a variance, digits², may be
rounding alone."""
RAN, RAN_DIGITS, RAN_ON = 4, 1.5, 0.6
"""It still ran at the last so many readings where they moved by so many digits, and by this share of what those before did."""
OWN_CUTOFF = 1.025
"""A load that stops by itself does so up to this share above its own setting, by another meter."""
RETURNED = 0.5


@dataclass(frozen=True)
class Witness:
    """What else is known at a reading.

    Parts:
        on: whether each driven instrument says that its output is on; None where it cannot say.
        own_A: what the instrument in command itself says of its current, drawn positive; None for nothing.
        own_cutoff_V: where a load stops by itself, as set in this step; None where it does not.
    """

    on: dict[str, bool | None] = field(default_factory=dict)
    own_A: float | None = None
    own_cutoff_V: float | None = None


@dataclass(frozen=True)
class Judged:
    """A reading, usable or not; `disturbed`: an output was changed by other hands, in words; `cut_off`: a load that
    stops by itself has done so; `warning`: worth telling, and no reason to stop."""

    seen: Observation
    disturbed: str = ""
    cut_off: str = ""
    warning: str = ""


class _Still:
    """Whether one quantity stands still to the last digit after it was seen to flicker, and how unlikely that is."""

    def __init__(self) -> None:
        self.last: deque[float] = deque(maxlen=FLICKER)
        self._equal: deque[bool] = deque(maxlen=HISTORY)
        self._steps: deque[float] = deque(maxlen=HISTORY)
        self.lively = False
        self.same, self.since_s = 0, 0.0

    def forget(self) -> None:
        self.same = 0

    def follow(self, value: float, now_s: float) -> None:
        if self.last and value == self.last[-1]:
            self.same += 1
        else:
            self._equal.extend([True] * min(self.same, HISTORY))
            self._equal.append(False)
            self._steps.extend([0.0] * min(self.same, HISTORY))
            self._steps.append(value - self.last[-1] if self.last else 0.0)
            self.same, self.since_s = 0, now_s
        self.last.append(value)
        if not self.lively and len(self.last) == FLICKER:
            last = list(self.last)
            self.lively = _flickers(last) or _flickers_on_its_way(last) or _runs(last)

    def log_chance(self, now_s: float) -> float:
        """The logarithm of the chance that a living meter shows the same for so long; 0 where it may well."""
        if not self.lively or self.same < STUCK or now_s - self.since_s < STUCK_S:
            return 0.0
        # a meter of little noise often shows the same twice: by its own history, never by a fixed count
        share = (sum(self._equal) + 1.0) / (len(self._equal) + 2.0)
        return self.same * math.log(max(share, self._within_a_digit()))

    def _within_a_digit(self) -> float:
        """The chance that a reading falls into one digit, at the best place within it, by how the last ones moved.

        A meter of little noise between two digits shows either as often, and a moment later, in the middle of one, that
        one alone: up to NO_NOISE digits² may be rounding and no noise at all, beyond it a twelfth is (Sheppard's
        correction, from memory). Nor is noise what goes on in one direction, or leaps: of noise, a step up is followed by one down.
        """
        steps = [round(1e6 * one) for one in self._steps]
        digit = math.gcd(*steps)
        if digit == 0 or max(map(abs, steps)) <= digit:
            return 1.0  # two digits in turn
        before, just = abs(math.fsum(steps[-FLICKER:])) / FLICKER, abs(median(steps[-RAN:]))
        if just >= max(RAN_DIGITS * digit, RAN_ON * before):
            return 0.0  # what runs on so does not stop at once; what slows down may
        moved = [max(-LEAP_DIGITS, min(LEAP_DIGITS, one / digit)) for one in steps]
        spread = -math.fsum(one * other for one, other in pairwise(moved)) / (len(moved) - 1)
        return math.erf(0.5 / math.sqrt(2.0 * (spread - 1.0 / 12.0))) if spread > NO_NOISE else 1.0


class ReadingWatch:
    """Turns a reading that cannot be into one that is not usable, with the reason in words.

    The engine ends a run after three such readings together, outputs off. Values are never mended here.
    """

    def __init__(self, recipe: Recipe, zero_A: float = FREE_A) -> None:
        self._recipe = recipe
        self._stops = recipe.stops
        self.zero_A = zero_A
        self._command = Command("off")
        self._since = 0
        self._volts, self._amps = _Still(), _Still()
        self._settled = 0
        self._rest_V = self._loaded_V = math.nan
        self._odd = 0
        self._flowed_A = 0.0

    def told(self, command: Command) -> None:
        """The bench was told to do something."""
        if command.kind == "ask":
            return
        if command.kind != self._command.kind:
            self._amps = _Still()
            self._loaded_V = math.nan
        self._command, self._since, self._settled, self._odd = command, 0, 0, 0
        self._flowed_A = 0.0
        self._volts.forget()

    def judge(
        self, seen: Observation, phase: Phase, now_s: float = math.inf, witness: Witness | None = None, index: int = 0
    ) -> Judged:
        """The reading itself, or one that is not usable and says why."""
        self._since += 1
        known = witness or Witness()
        fault: str = self._impossible(seen, phase)
        judged = Judged(seen)
        if not fault and phase in LIVE:
            part = self._recipe.steps[index]
            if self._since > SETTLING:
                judged = self._against_command(seen, known, part)
                fault = judged.seen.fault
            self._follow(seen, now_s, part)
            fault = fault or self._stands_still(seen, now_s, part)
        elif not fault:
            self._volts.follow(seen.voltage_V, now_s)
            if self._command.kind == "off" and abs(seen.current_A) <= self.zero_A:
                self._rest_V = seen.voltage_V
        if fault:
            return replace(judged, seen=replace(seen, voltage_V=math.nan, current_A=math.nan, fault=fault))
        return judged

    def _follow(self, seen: Observation, now_s: float, part: Step) -> None:
        self._volts.follow(seen.voltage_V, now_s)
        self._amps.follow(seen.current_A, now_s)
        expected = self._expected_A(seen)
        if self._way * seen.current_A > self.zero_A:
            self._flowed_A = self._way * seen.current_A
        near = expected > 0 and abs(self._way * seen.current_A - expected) <= NEAR_SET * expected + self.zero_A
        if near:
            self._settled += 1
            self._loaded_V = seen.voltage_V

    @property
    def _way(self) -> float:
        return 1.0 if self._command.kind == "draw" else -1.0

    def _expected_A(self, seen: Observation) -> float:
        """What should flow by the command, A; 0 where it says nothing of that."""
        command, volts = self._command, seen.voltage_V
        if command.mode in {"current", "charge"}:
            return command.setting
        if command.mode == "power":
            return command.setting / volts if volts > 1.0 else 0.0
        if command.mode == "resistance":
            return volts / command.setting if command.setting > 0 else 0.0
        return 0.0

    def _impossible(self, seen: Observation, phase: Phase) -> Message:
        volts, amps = seen.voltage_V, seen.current_A
        if not (math.isfinite(volts) and math.isfinite(amps)):
            return as_message(seen.fault) or said("no-number")
        if not -2.0 < volts < MOST_V:
            return said("impossible-volts", volts=volts)
        most = 4.0 * max(self._stops.current_high_A, self._finite(self._stops.charge_high_A)) + 10.0
        if abs(amps) > most:
            return said("impossible-amps", amps=amps)
        if seen.temperature_C is not None and not -90.0 < seen.temperature_C < 300.0:
            return said("impossible-celsius", celsius=seen.temperature_C)
        return NOTHING

    @staticmethod
    def _finite(value: float) -> float:
        return value if math.isfinite(value) else 0.0

    def _stands_still(self, seen: Observation, now_s: float, part: Step) -> Message:
        held = part.kind == "charge" and at_limit(
            seen.voltage_V, part.limit_V
        )  # a charger may hold its limit to the digit
        volts = 0.0 if held else self._volts.log_chance(now_s)
        amps = self._amps.log_chance(now_s) if abs(seen.current_A) > self.zero_A else 0.0
        if volts + amps > LOG_CHANCE:
            return NOTHING
        if volts < 0.0:
            return said("stuck-volts", volts=seen.voltage_V, readings=self._volts.same)
        return said("stuck-amps", amps=seen.current_A, readings=self._amps.same)

    # --- against the command ---

    def _against_command(self, seen: Observation, known: Witness, part: Step) -> Judged:
        amps = self._way * seen.current_A
        expected = self._expected_A(seen)
        if amps < -max(2.0 * self.zero_A, TURNED_SHARE * expected):
            return self._unusable(seen, said("turned-draw" if self._way > 0 else "turned-charge"))
        if self._gone(seen, part):
            return self._unusable(seen, said("battery-gone", volts=seen.voltage_V))
        if self._leapt(amps, expected, part):
            return self._unusable(seen, said("charge-gone", amps=self._flowed_A))
        allowed = APART_SHARE * expected + self.zero_A
        more = expected > 0 and amps > expected + allowed
        less = expected > 0 and amps < expected - allowed and not self._may_be_less(seen, part)
        if (
            any(on is False for on in known.on.values())
            and abs(amps) <= self.zero_A
            and not self._may_be_less(seen, part)
        ):
            less = True
        if not (more or less):
            self._odd = 0
            return Judged(seen)
        return self._apart(seen, known, part, amps, expected, more)

    def _gone(self, seen: Observation, part: Step) -> bool:
        """Whether neither voltage nor current is left under a load, in a step that waits for no protection to open."""
        if self._command.kind != "draw" or self._command.mode == "hand" or abs(seen.current_A) > self.zero_A:
            return False
        waited_for = any(rule.kind == "protection" for rule in part.ends)
        had_V = self._rest_V if math.isfinite(self._rest_V) else self._stops.voltage_low_V
        return not waited_for and seen.voltage_V < GONE_SHARE * had_V

    def _leapt(self, amps: float, expected: float, part: Step) -> bool:
        """Whether a charge's current went from much to none at once, in a step that does not wait for the battery to refuse it."""
        refuses = any(rule.kind == "refused" for rule in part.ends)
        least = max(LEAPT_SHARE * expected, LEAPT_ZEROS * self.zero_A)
        return self._command.kind == "charge" and amps <= self.zero_A and not refuses and self._flowed_A >= least

    def _may_be_less(self, seen: Observation, part: Step) -> bool:
        """Whether less may flow than was set: the battery's own protection, a charge at its limit."""
        volts = seen.voltage_V
        if self._command.kind == "charge":
            return at_limit(volts, part.limit_V)
        opened = max((rule.value for rule in part.ends if rule.kind == "protection"), default=0.0)
        return volts < max(opened, self._stops.voltage_low_V) or self._command.mode == "hand"

    def _apart(self, seen: Observation, known: Witness, part: Step, amps: float, expected: float, more: bool) -> Judged:
        shown = said("not-as-set", amps=abs(amps), setting=expected)
        off = [name for name, on in known.on.items() if on is False]
        stopped = not more and abs(amps) <= self.zero_A
        if stopped and known.own_cutoff_V is not None and self._loaded_V <= OWN_CUTOFF * known.own_cutoff_V:
            return Judged(seen, cut_off=said("load-stopped", volts=self._loaded_V))
        own = None if known.own_A is None else self._way * known.own_A
        if own is not None and abs(own - amps) > APART_SHARE * expected + 2.0 * self.zero_A:
            whose = "load" if self._way > 0 else "charger"
            return self._unusable(seen, said(f"disagree-{whose}", amps=amps, own=own))
        if not more and own is None and all(on is not False for on in known.on.values()) and not self._came_back(seen):
            return self._unusable(seen, said("meter-wrong", seen=shown))
        if self._command.kind == "charge" and self._settled < TOGETHER and not stopped:
            return Judged(seen, warning=said("gives-less", amps=abs(amps), setting=expected))
        self._odd += 1
        words = said("switched-elsewhere", names=tuple(off)) if off and stopped else shown
        if self._settled < TOGETHER and not off:
            return self._unusable(seen, words)
        return Judged(seen, disturbed=said("disturbed", seen=words) if self._odd >= TOGETHER else NOTHING)

    def _came_back(self, seen: Observation) -> bool:
        """Whether the voltage has left what it was under load, so that less does flow; True where it cannot tell."""
        step = self._rest_V - self._loaded_V
        if not math.isfinite(step) or abs(step) < 0.01:
            return True
        return (seen.voltage_V - self._loaded_V) / step >= RETURNED / 2.0

    @staticmethod
    def _unusable(seen: Observation, words: Message) -> Judged:
        return Judged(replace(seen, fault=words))


def _flickers(values: list[float]) -> bool:
    """Whether readings go up and down over several digits: a meter whose noise exceeds its last digit."""
    steps = [after - before for before, after in pairwise(values) if after != before]
    turns = sum(1 for one, other in pairwise(steps) if one * other < 0)
    return len(set(values)) >= 4 and turns >= 3


def _flickers_on_its_way(values: list[float]) -> bool:
    """Whether the steps of a voltage that falls or rises go up and down by several digits.

    Rounding makes them differ by one, and a smooth way to a plateau only shrinks them: neither is a flicker.
    """
    steps = [round(1e6 * (after - before)) for before, after in pairwise(values)]
    digit = math.gcd(*steps)
    bends = [after - before for before, after in pairwise(steps) if abs(after - before) >= 2 * digit]
    turns = sum(1 for one, other in pairwise(bends) if one * other < 0)
    return digit > 0 and len(set(values)) >= 6 and turns >= 3


def _runs(values: list[float]) -> bool:
    """Whether every reading differs from the one before by several digits: what moves so does not stop at once.

    A digit is the greatest common part of the steps; a coarse meter on its way to a plateau moves by one at a time.
    """
    steps = [round(1e6 * abs(after - before)) for before, after in pairwise(values)]
    digit = math.gcd(*steps)
    return digit > 0 and min(steps) >= RUNNING_DIGITS * digit
