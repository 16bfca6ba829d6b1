"""A recipe walked through by hand: a person turns the switches and types the readings; here it is asked and counted."""

from __future__ import annotations

import contextlib
import math
import queue
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

from wintry_tally.bench.journal import Journal
from wintry_tally.bench.snapshot import NOT_SAVED, Snapshot, Trouble
from wintry_tally.core.engine import (
    LIVE,
    OFF,
    Command,
    Event,
    Observation,
    Phase,
    Request,
    Result,
    RunState,
    begin,
    command_for,
    step,
)
from wintry_tally.core.engine.proof import Expected, Level, at_rest, level_of
from wintry_tally.core.engine.pulse import judge_pulse
from wintry_tally.core.engine.rules import IDLE_A
from wintry_tally.core.errors import InputError
from wintry_tally.core.message import said
from wintry_tally.core.protocol import Recipe

TICK_S = 0.2
READ_EVERY_S = 1800.0
LEAST_EVERY_S, SHARE_OF_STEP = 30.0, 0.25
"""In a short step readings are asked for four times, half a minute apart at the least."""
NEAR_END = 1.05
NEAR_END_SHARE = 0.2
"""At no more than so much of the cut-off readings are asked for in this share of the usual interval."""
CHARGER_ON = 0.98
"""A pack without current below this share of the charger's limit is one whose charger is still off."""
MODE_WORDS = {"current": "at {0:g} A", "power": "at {0:g} W", "resistance": "with {0:g} Ω", "hand": "as you have them"}


def guided(recipe: Recipe) -> Recipe:
    """The same recipe for a person: silence ends nothing, people take their time, one reading is as good as two in a row."""
    steps = tuple(replace(part, ends=tuple(replace(rule, readings=1) for rule in part.ends)) for part in recipe.steps)
    return replace(recipe, steps=steps, stops=replace(recipe.stops, silence_s=math.inf, time_most_s=math.inf))


@dataclass(frozen=True)
class Typed:
    """A reading as typed: when, on the run's clock, s, what was read, and a note."""

    elapsed_s: float
    seen: Observation
    note: str = ""


class GuidedLoop:
    """Stands where RunLoop stands, for a bench with nothing connected.

    `kept`: what was typed so far, in order; of a run that goes on, what the book has of it.
    `clock` gives the seconds since the run began, on the wall's clock: readings are timed by it too, so a program
    that was closed for a while has lost nothing. `put` may be called from any thread.
    """

    interval_s = TICK_S

    def __init__(
        self,
        recipe: Recipe,
        journal: Journal,
        clock: Callable[[], float],
        state: RunState | None = None,
        read_every_s: float = READ_EVERY_S,
        last_s: float | None = None,
        expected: Expected | None = None,
        kept: Iterable[Typed] = (),
    ) -> None:
        self.recipe, self.journal = guided(recipe), journal
        self.kept: tuple[Typed, ...] = tuple(kept)
        self.state = state or RunState()
        self.read_every_s = read_every_s
        self._expected = expected
        self._rest: Level | None = None
        self._clock = clock
        self._typed: queue.SimpleQueue[Typed] = queue.SimpleQueue()
        self._seen = Observation(self.state.last_V, self.state.last_A)
        self._read_at = last_s
        self._switches, self._to_switch = "", True
        self._trouble = ""
        self._fresh = False
        self._undo: tuple[RunState, Observation, float | None, bool] | None = None
        self._first = last_s is None or last_s < self.state.step_since_s

    # --- what a worker calls ---

    def start(self) -> Snapshot:
        """Begin; or go on where the run stands: what was switched on by hand is still as it was left."""
        if self.state.phase is Phase.READY:
            self._after(begin(self.recipe, self._clock()))
        else:
            live = self.state.phase in LIVE
            self._told(command_for(self.recipe.steps[self.state.index], self.state.setting) if live else OFF)
            self._to_switch = self._first or not live
            self.journal.events((Event(self._clock(), "reopened", said("reopened")),))
        self._keep()
        return self.snapshot()

    def tick(self) -> Snapshot:
        """Take what was typed; let time pass for a rest."""
        self._fresh = False
        with contextlib.suppress(queue.Empty):
            self._take(self._typed.get_nowait())  # one at a time, so that whoever looks on sees each
        self._after(step(self.recipe, self.state, None, self._clock()))
        if self._trouble or self.journal.due():
            self._keep()
        return self.snapshot()

    def ask(self, request: Request) -> Snapshot:
        """Carry out what a person asks.

        Raises:
            InputError: the run's phase does not allow it.
        """
        if request.kind == "take-back":
            self._take_back()
        else:
            self._undo = None
            self._after(step(self.recipe, self.state, request, self._clock()))
        self._keep()
        return self.snapshot()

    def _take_back(self) -> None:
        """The last reading as if it had not been typed; the record tells of it."""
        if self._undo is None:
            raise InputError("the last reading has moved the run on, or none was typed", mend="write a note instead")
        seen, at = self._seen, self._read_at
        self.journal.take_back()
        self.kept = self.kept[:-1]
        self.state, self._seen, self._read_at, self._first = self._undo
        self._undo = None
        words = said("taken-back", volts=seen.voltage_V, amps=seen.current_A, seconds=at or 0.0)
        self.journal.events((Event(self._clock(), "taken-back", words),))

    def park(self) -> bool:
        """Write everything; nothing here could switch anything off."""
        self._keep()
        return True

    def look_off(self) -> bool:
        """Nothing here can be seen to be off: hands switch it."""
        return True

    def let_go(self) -> bool:
        """There are no lines to let go of."""
        return True

    def fail(self, words: str) -> None:
        """This program failed: the run is over, and a person is told to switch everything off."""
        self._after(step(self.recipe, self.state, Request("fault", words=words), self._clock()))
        self._keep()

    def snapshot(self) -> Snapshot:
        """What it is doing now."""
        seen = self._seen
        at = self._read_at if self._fresh and self._read_at is not None else self._clock()
        return Snapshot(
            self.state, at, seen.voltage_V, seen.current_A, seen.temperature_C, self._trouble, seen.beside,
            self.asks, self._fresh,
            troubles=(Trouble(NOT_SAVED, self._trouble),) if self._trouble else (),
            settled=self.state.phase is Phase.ENDED and not self._trouble,
        )  # fmt: skip

    # --- what a person does ---

    def put(self, typed: Typed) -> None:
        """A reading, in the order of its time."""
        self._typed.put(typed)

    @property
    def can_take_back(self) -> bool:
        """Whether the last reading can still be taken back: it has not moved the run on."""
        return self._undo is not None

    @property
    def asks(self) -> str:
        """What a person has to do now: a switch to turn, and when the next reading is due."""
        state, part = self.state, self.recipe.steps[self.state.index]
        if state.phase is Phase.ENDED:
            return "Switch everything off now, at the load and at the charger."
        switches = self._switches
        if state.phase in LIVE and not self._to_switch:
            switches = f"The {'load' if part.kind == 'discharge' else 'charger'} is on; read it now and then."
        due = self.due_in_s
        reading = "" if due is None else " A reading is due now." if due <= 0 else ""
        over = next((rule for rule in part.ends if rule.kind == "time" and state.phase in LIVE), None)
        if over is not None and state.step_live_s + self._clock() - state.step_since_s >= over.value:
            reading = " The time of this step is over: read, type it in, and it goes on."
        return f"{switches}{reading}".strip()

    @property
    def unread_s(self) -> float:
        """How long current has flowed since the last reading, s, as far as is known."""
        if self.state.phase not in LIVE or self._read_at is None or self._first:
            return 0.0
        return max(0.0, self._clock() - self._read_at)

    @property
    def due_in_s(self) -> float | None:
        """Seconds until the next reading is due, below zero when it is overdue; None where none is wanted."""
        state = self.state
        watched = state.phase is Phase.RESTING and any(
            rule.kind != "time" for rule in self.recipe.steps[state.index].ends
        )
        if state.phase not in LIVE and not watched:
            return None
        since = state.step_since_s if self._read_at is None else max(self._read_at, state.step_since_s)
        part = self.recipe.steps[state.index]
        lasts = min((rule.value for rule in part.ends if rule.kind == "time"), default=math.inf)
        every = min(self.read_every_s, max(LEAST_EVERY_S, SHARE_OF_STEP * lasts))
        low = max((rule.value for rule in part.ends if rule.kind in {"voltage", "protection"}), default=None)
        near = low is not None and part.kind == "discharge" and self._seen.voltage_V < NEAR_END * low
        wait = 0.0 if not watched and (self._first or self._to_switch) else every * (NEAR_END_SHARE if near else 1.0)
        return since + wait - self._clock()

    def _take(self, typed: Typed) -> None:
        before = (self.state, self._seen, self._read_at, self._first)
        still_off = self._first and self.state.phase in LIVE and self._still_off(typed.seen)
        self._seen, self._read_at, self._fresh = typed.seen, typed.elapsed_s, True
        self.journal.reading(typed.elapsed_s, typed.seen)
        self.kept = (*self.kept, typed)
        if typed.note:
            self.journal.events((Event(typed.elapsed_s, "mark", typed.note),))
        if still_off:
            self._rest = level_of(0.0, [typed.seen], [])
            self._undo = before
            self._keep()
            return
        if self._first and self.state.phase in LIVE:
            # people take a moment to switch on: a step goes from its first reading
            self.state = replace(self.state, step_since_s=typed.elapsed_s)
            self._prove(typed)
        self._first = self._to_switch = False
        self._after(step(self.recipe, self.state, typed.seen, max(typed.elapsed_s, self.state.step_since_s)))
        moved_on = (self.state.index, self.state.phase) != (before[0].index, before[0].phase)
        self._undo = None if moved_on else before
        self._keep()

    def _prove(self, typed: Typed) -> None:
        """What the rested voltage and the first reading with current say of leads, clamps, meter and battery."""
        rest, self._rest = self._rest, None
        if rest is None or self._expected is None:
            return
        doing = "charge" if self.state.phase is Phase.CHARGING else "draw"
        loaded = level_of(typed.seen.current_A, [typed.seen], [])
        found = [*at_rest(rest, self._expected), *judge_pulse(rest, rest, loaded, self._expected, doing).findings]
        for finding in found:
            self.state = replace(self.state, warned=(*self.state.warned, (finding.code, finding.message)))
            self.journal.events((Event(typed.elapsed_s, "warning", finding.message),))

    def _still_off(self, seen: Observation) -> bool:
        """Whether a reading was taken before the switch was turned: no current, and a voltage of a battery at rest."""
        part = self.recipe.steps[self.state.index]
        if abs(seen.current_A) > IDLE_A:
            return False
        if part.kind == "charge":
            return seen.voltage_V < CHARGER_ON * part.limit_V
        opened = max((rule.value for rule in part.ends if rule.kind == "protection"), default=0.0)
        return seen.voltage_V >= opened

    def _after(self, result: Result) -> None:
        resumed = self.state.phase is Phase.PAUSED and result.state.phase in LIVE
        self._first = self._first or resumed or result.state.index != self.state.index
        self.state = result.state
        self.journal.events(result.events)
        for command in result.commands:
            self._told(command)

    def _told(self, command: Command) -> None:
        """A command, in words for the hands that carry it out."""
        self._to_switch = True
        paused = self.state.phase is Phase.PAUSED
        verb = "Type the rested voltage with 0 A; then switch" if self._first else "Set"
        if command.kind == "draw":
            how = MODE_WORDS[command.mode].format(command.setting)
            low = next(
                (rule.value for rule in self.recipe.steps[self.state.index].ends if rule.kind == "voltage"), None
            )
            cutoff = f", its cut-off at {low:g} V" if low is not None else ""
            self._switches = f"{verb} the load on {how}{cutoff}, and type the first reading."
        elif command.kind == "charge":
            self._switches = (
                f"{verb} the charger on: {command.setting:g} A up to {command.limit_V:g} V, and type the first reading."
            )
        elif command.kind == "off":
            self._switches = "Switch everything off" + (" while it is paused." if paused else ".")

    def _keep(self) -> None:
        self.journal.write(self.state, {})
        problem = self.journal.problem
        self._trouble = f"{problem}. What was typed is held and written as soon as it can be." if problem else ""
