"""The loop that feeds the engine: wait, read, step, carry out, keep. One run, one loop."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

from wintry_tally.bench.interfaces import Channel
from wintry_tally.bench.journal import Journal
from wintry_tally.bench.watch import ReadingWatch
from wintry_tally.core.engine import LIVE, Command, Event, Observation, Phase, Request, Result, RunState, begin, step
from wintry_tally.core.engine.rules import lasted_s
from wintry_tally.core.errors import BookError, InstrumentError
from wintry_tally.core.protocol import Recipe

QUICK_SHARE, QUICKEST_S, QUICK_S, QUICK_READINGS = 0.25, 0.2, 1.0, 5
"""Near an end readings follow at a quarter of the usual interval (no finer than a fifth of a second; a log whose usual
interval is far longer would read as full of gaps), and just after every switching by a second at the most."""
NEAR_V, NEAR_TAPER, NEAR_S = 0.12, 1.03, 3.0
"""An end is near within so many volts of a cut-off, this share of the taper current, so many seconds of a time."""
RETRY_TICKS = 50
"""So many looks (about a second) until an instrument that cannot be reached is told to go off again."""
NOTICE_EVERY_S = 600.0
"""What the bench goes on noticing is recorded so often, not at every reading."""


@dataclass(frozen=True)
class Snapshot:
    """What a run is doing, for whoever looks on.

    `asks`: what a person has to do now, on a bench with nothing connected; `fresh`: a reading was just taken.
    """

    state: RunState
    elapsed_s: float
    voltage_V: float
    current_A: float
    temperature_C: float | None
    trouble: str = ""
    beside: Mapping[str, float] = field(default_factory=dict)
    asks: str = ""
    fresh: bool = True

    @property
    def ended(self) -> bool:
        """Whether it is over."""
        return self.state.phase is Phase.ENDED


class RunLoop:
    """Runs one recipe on one channel. `tick` is one reading; nothing here sleeps or knows the wall clock.

    Every reading is watched and counted; with `keep_every_s` only one in so long is kept, more near an end, and every one
    round switching or with an event.
    """

    def __init__(
        self,
        recipe: Recipe,
        channel: Channel,
        journal: Journal,
        interval_s: float = 1.0,
        state: RunState | None = None,
        elapsed_s: float = 0.0,
        keep_every_s: float = 0.0,
    ) -> None:
        self.keep_every_s, self._kept_at = keep_every_s, -math.inf
        self.recipe, self.channel, self.journal = recipe, channel, journal
        self.interval_s = self._usual_s = interval_s
        self.state = state or RunState()
        self.elapsed_s = elapsed_s
        self._seen = Observation(math.nan, 0.0)
        self._quick = 0
        self._trouble = ""
        self._unreachable = ""
        self._until_retry = 0
        self._noticed_again_s = -math.inf
        self._watch = ReadingWatch(recipe)

    def start(self) -> Snapshot:
        """Begin, or take up a run again after an interruption: the gap is an event, and its load is off in it."""
        if self.state.phase is Phase.READY:
            self._after(begin(self.recipe, self.elapsed_s))
        elif self.state.phase in LIVE:
            self._after(step(self.recipe, self.state, Request("pause"), self.elapsed_s))
            alone = (
                "; what was switched on may have stayed on, and is not counted"
                if self.channel.goes_on_alone
                else "; load off"
            )
            self.journal.events((Event(self.elapsed_s, "interrupted", f"the program was not running{alone}"),))
            self._after(step(self.recipe, self.state, Request("resume"), self.elapsed_s))
        self._keep(force=True)
        return self.snapshot()

    def tick(self) -> Snapshot:
        """One interval and one reading."""
        if self._unreachable:
            self._try_off_again()
        if self.state.phase is Phase.ENDED or self._trouble:
            self._keep(force=bool(self._trouble))
            return self.snapshot()
        self.interval_s = self._next_interval_s()
        passed = self.channel.wait(self.interval_s)
        self.elapsed_s += passed
        if passed > 5.0 * self.interval_s + 5.0:
            late = f"no reading for {passed:.0f} s: the computer slept or was held up; the gap stands in the record"
            self.journal.events((Event(self.elapsed_s, "gap", late),))
        try:
            self._seen = self._watch.judge(self.channel.read(), self.state.phase)
        except InstrumentError as error:
            self._seen = Observation(math.nan, math.nan, fault=str(error))
        usable = math.isfinite(self._seen.voltage_V) and math.isfinite(self._seen.current_A)
        self._record_noticed()
        result = step(self.recipe, self.state, self._seen, self.elapsed_s)
        switched = self._quick > 0 or bool(result.events)
        seldom = self.keep_every_s * (QUICK_SHARE if self.interval_s < self._usual_s else 1.0)
        if usable and (switched or self.elapsed_s - self._kept_at >= seldom - 1e-6):
            self._kept_at = self.elapsed_s
            self.journal.reading(self.elapsed_s, self._seen)
        self._after(result)
        self._keep()
        return self.snapshot()

    def _next_interval_s(self) -> float:
        """Until the next reading: the step's or the run's usual interval, shorter round switching and near an end."""
        usual = self.recipe.steps[self.state.index].every_s or self._usual_s
        fine = min(usual, max(QUICKEST_S, QUICK_SHARE * usual))
        if self._quick > 0:
            self._quick -= 1
            return min(fine, QUICK_S)
        return fine if self._near_end() else usual

    def _near_end(self) -> bool:
        """Whether a rule of this step is about to hold."""
        if self.state.phase not in LIVE:
            return False
        part, volts, amps = self.recipe.steps[self.state.index], self._seen.voltage_V, abs(self._seen.current_A)
        for rule in part.ends:
            if rule.kind == "voltage" and volts <= rule.value + NEAR_V and amps > 0.0:
                return True
            if rule.kind == "taper" and volts >= part.limit_V - NEAR_V and amps <= NEAR_TAPER * rule.value:
                return True
            if rule.kind == "time" and rule.value - lasted_s(self.state, self.elapsed_s) <= NEAR_S:
                return True
        return False

    def _record_noticed(self) -> None:
        noticed = self.channel.noticed()
        if noticed and self.elapsed_s >= self._noticed_again_s:
            self.journal.events((Event(self.elapsed_s, "meters-disagree", noticed),))
            self._noticed_again_s = self.elapsed_s + NOTICE_EVERY_S

    def ask(self, request: Request) -> Snapshot:
        """Carry out what a person asks.

        Raises:
            InputError: the run's phase does not allow it.
        """
        if request.kind == "resume":
            self._trouble = ""
        if self._unreachable and self.state.phase is Phase.ENDED and request.kind == "stop":
            # whoever says so has pulled the lead: there is nothing more to be switched off
            self.journal.events((Event(self.elapsed_s, "unplugged", "said to be unplugged by hand"),))
            self._unreachable = ""
            self._keep(force=True)
            return self.snapshot()
        self._after(step(self.recipe, self.state, request, self.elapsed_s))
        self._keep(force=True)
        return self.snapshot()

    def park(self) -> None:
        """Switch the load off, write everything and let go of every line, leaving the run to be taken up again."""
        self._carry_out(Command("off"))
        self._keep(force=True)
        self.channel.close()

    def snapshot(self) -> Snapshot:
        """What it is doing now."""
        seen = self._seen
        return Snapshot(
            self.state, self.elapsed_s, seen.voltage_V, seen.current_A, seen.temperature_C,
            self._unreachable or self._trouble, seen.beside,
        )  # fmt: skip

    def _after(self, result: Result) -> None:
        self.state = result.state
        self.journal.events(result.events)
        for command in result.commands:
            self._quick = QUICK_READINGS
            self._carry_out(command)

    def _carry_out(self, command: Command) -> None:
        self._watch.told(command)
        try:
            self.channel.carry_out(command)
        except InstrumentError as error:
            if command.kind == "off":
                hint = (
                    ""
                    if "unplug" in str(error).lower()
                    else " Unplug the load's lead at the battery, and the charger's."
                )
                self._unreachable = f"{error}.{hint} It goes on being tried."
                self._until_retry = RETRY_TICKS
            else:
                self.journal.events((Event(self.elapsed_s, "refused", str(error)),))
                self._after(step(self.recipe, self.state, Request("lost", words=str(error)), self.elapsed_s))

    def _try_off_again(self) -> None:
        """What could not be switched off is tried again and again, until it is off."""
        self._until_retry -= 1
        if self._until_retry > 0:
            return
        self._unreachable = ""
        self._carry_out(Command("off"))
        if not self._unreachable:
            self.journal.events((Event(self.elapsed_s, "reached", "it could be switched off after all"),))
            self._keep(force=True)

    def _keep(self, force: bool = False) -> None:
        if not (force or self.state.phase is Phase.ENDED or self.journal.due()):
            return
        try:
            self.journal.write(self.state, self.channel.snapshot())
            self._trouble = ""
        except BookError as error:
            # saving may not fail silently: nothing is drawn while it cannot be written down
            if not self._trouble and self.state.phase in LIVE:
                result = step(self.recipe, self.state, Request("pause"), self.elapsed_s)
                self._after(result)
            self._trouble = f"{error}. The load is off; the readings so far are held and written as soon as it can be."
