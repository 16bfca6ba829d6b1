"""Whether what was told to go off is off: its own answer, the current, and the voltage coming back."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from wintry_tally.core.engine import Command, Observation
from wintry_tally.core.message import NOTHING, Message, said

NOT_OFF, FLOWS = "not-off", "flows-though-off"
AFTER_READINGS = 2
"""So many readings after OFF before a current is trouble: instruments and meters take their time."""
MUCH, MEAN_READINGS = 2.0, 8
"""A meter's noise goes beyond what it may read at zero: so many times that is a current, or the mean of so many readings beyond it."""
ZEROS = 3
"""So many readings at zero of another meter stand for an answer of an instrument that cannot be asked."""
RETURN_S, RETURN_SHARE = 10.0, 0.5
STEP_S = 10.0
DROWNED = 4.0
"""A step on switching on below so many last digits is drowned in noise, and shows nothing."""
SEEN_WITHIN_S = 12.0


@dataclass(frozen=True)
class OffTrouble:
    """What is wrong though everything was told to go off: a code and words."""

    code: str
    words: str


class OffWatch:
    """Follows every command and reading of a run on a channel."""

    def __init__(self, zero_A: float, digit_V: float, apart: bool, plugs: Mapping[str, str]) -> None:
        self.zero_A, self._digit_V, self._apart, self._plugs = zero_A, digit_V, apart, plugs
        self._command = Command("off")
        self._off_at: float | None = None
        self._flowing = self._much = self._zeros = self._says_on = self._says_off = 0
        self._amps: deque[float] = deque(maxlen=MEAN_READINGS)
        self._rest_V = self._step_V = self._step_A = self._last_V = self._last_A = math.nan
        self._on_at = 0.0
        self._from_V = math.nan
        self._owed_V = 0.0
        self._returned = True
        self.trouble: OffTrouble | None = None

    def _pull(self, names: Iterable[str] = ()) -> Message:
        """What to unplug: of these instruments, or of all that are switched."""
        plugs = [self._plugs[name] for name in names if name in self._plugs] or list(self._plugs.values())
        return said("unplug", plugs=tuple(dict.fromkeys(plugs))) if plugs else said("unplug-all")

    def told(self, command: Command, now_s: float) -> None:
        """The bench was told to do something."""
        if command.kind == "ask":
            return
        if command.kind == "off":
            if self._command.kind != "off" or self._off_at is None:
                self._gone_off(now_s)
        elif self._command.kind != command.kind:
            self._rest_V = self._last_V if self._command.kind == "off" else math.nan
            self._step_V, self._on_at = math.nan, now_s
            self._off_at, self.trouble = None, None
        self._command = command

    def _gone_off(self, now_s: float) -> None:
        self._off_at = now_s
        self._flowing = self._much = self._zeros = self._says_on = self._says_off = 0
        self._amps.clear()
        self._from_V, self._returned, self._owed_V = self._last_V, True, 0.0
        if not self._apart and abs(self._last_A) > self.zero_A and math.isfinite(self._step_V) and self._step_A:
            owed = RETURN_SHARE * self._step_V * min(1.0, abs(self._last_A / self._step_A))
            if abs(owed) > RETURN_SHARE * DROWNED * self._digit_V:
                self._owed_V, self._returned = owed, False

    def failed(self, words: str) -> None:
        """OFF could not be said, or was not answered."""
        self.trouble = OffTrouble(NOT_OFF, words)

    def see(
        self, seen: Observation, on: dict[str, bool | None], now_s: float, *, people: bool = False
    ) -> OffTrouble | None:
        """The newest reading (NaN where there was none); what is wrong, if anything.

        `people`: somebody may be switching loads by hand just now; a current is theirs.
        """
        usable = math.isfinite(seen.voltage_V) and math.isfinite(seen.current_A)
        if self._off_at is None:
            if usable:
                self._under_way(seen, now_s)
            return None
        self._answers(on)
        if usable:
            flows = abs(seen.current_A) > self.zero_A
            self._flowing = self._flowing + 1 if flows and not people else 0
            self._much = self._much + 1 if abs(seen.current_A) > MUCH * self.zero_A and not people else 0
            self._amps.append(seen.current_A if not people else 0.0)
            self._zeros = 0 if flows else self._zeros + 1
            self._last_V, self._last_A = seen.voltage_V, seen.current_A
            if not self._returned and (seen.voltage_V - self._from_V) / self._owed_V >= 1.0:
                self._returned = True
        self.trouble = self._judged(seen, on, now_s)
        return self.trouble

    def _under_way(self, seen: Observation, now_s: float) -> None:
        self._last_V, self._last_A = seen.voltage_V, seen.current_A
        if abs(seen.current_A) > self.zero_A and now_s - self._on_at <= STEP_S and math.isfinite(self._rest_V):
            self._step_V, self._step_A = self._rest_V - seen.voltage_V, seen.current_A

    def _answers(self, on: dict[str, bool | None]) -> None:
        self._says_on = self._says_on + 1 if any(value for value in on.values()) else 0
        if on and all(value is False for value in on.values()):
            self._says_off += 1
        else:
            self._says_off = 0

    def _judged(self, seen: Observation, on: dict[str, bool | None], now_s: float) -> OffTrouble | None:
        assert self._off_at is not None
        if self._says_on >= AFTER_READINGS:
            on_still = [name for name, value in on.items() if value]
            return OffTrouble(NOT_OFF, said("says-on", names=tuple(on_still), unplug=self._pull(on_still)))
        unsaid = self.trouble is not None and self.trouble.code == NOT_OFF and not self._says_off
        if self._flows and not unsaid:
            return OffTrouble(FLOWS, said("flows-though-off", amps=abs(seen.current_A), unplug=self._pull()))
        if not self._returned and now_s - self._off_at > RETURN_S:
            return OffTrouble(FLOWS, said("not-come-back", unplug=self._pull()))
        if self.trouble is not None and not self.seen_off:
            return self.trouble  # until it is seen otherwise
        return None

    @property
    def _flows(self) -> bool:
        """Whether a current flows for certain: twice what its meter may read at zero, or its mean more than that."""
        if self._flowing < AFTER_READINGS:
            return False
        mean = math.fsum(self._amps) / max(1, len(self._amps))
        return self._much >= AFTER_READINGS or (len(self._amps) == MEAN_READINGS and abs(mean) > self.zero_A)

    @property
    def seen_off(self) -> bool:
        """Whether everything switched is seen to be off."""
        if self._off_at is None or self._flowing or self._says_on or not self._returned:
            return False
        if self._says_off:
            return True
        return self._apart and self._zeros >= ZEROS

    def overdue(self, now_s: float) -> Message:
        """After an end: why it still is not seen to be off, once that has taken too long; empty before."""
        if self._off_at is None or self.seen_off or self.trouble is not None or now_s - self._off_at < SEEN_WITHIN_S:
            return NOTHING
        return said("nobody-sees", unplug=self._pull())
