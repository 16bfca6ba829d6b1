"""The loop that feeds the engine: wait, read, step, carry out, keep, and see that what was switched off is off."""

from __future__ import annotations

import math
from dataclasses import replace

from wintry_tally.bench.guard.guardian import Guardian, NoGuard
from wintry_tally.bench.interfaces import Channel
from wintry_tally.bench.journal import Journal
from wintry_tally.bench.off_watch import NOT_OFF, OffWatch
from wintry_tally.bench.pace import QUICK_SHARE, QUICKEST_S, Pace
from wintry_tally.bench.proving import EVERY_S as PROOF_EVERY_S
from wintry_tally.bench.proving import Proving
from wintry_tally.bench.snapshot import NOT_SAVED, Snapshot, Trouble
from wintry_tally.bench.vigil import Vigil
from wintry_tally.bench.watch import ReadingWatch, Witness
from wintry_tally.bench.zero import Zero
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
    step,
)
from wintry_tally.core.engine.rules import stop_limit
from wintry_tally.core.errors import InstrumentError, StillOnError, StuckError
from wintry_tally.core.message import NOTHING, said, several
from wintry_tally.core.protocol import Recipe

OFF_AGAIN_S = 1.0
"""What cannot be switched off is told again so often."""
NOTICE_EVERY_S = 600.0
"""What the bench goes on noticing is recorded so often, not at every reading."""
UNSAVED_MOST_S = 60.0
"""Readings that the book does not take are held in memory; after so long nothing more is drawn."""
RESUME_LOOKS = 3


class RunLoop:
    """Runs one recipe on one channel. `tick` is one reading; nothing here sleeps or knows the wall clock.

    Every reading is watched and counted; with `keep_every_s` only one in so long is kept, more near an end, and every one
    round switching or with an event. After the end it goes on reading until everything is seen to be off.
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
        *,
        guard: Guardian | None = None,
        proving: Proving | None = None,
        vigil: Vigil | None = None,
        digit_V: float = 0.001,
        own_cutoff: bool = False,
    ) -> None:
        self.keep_every_s, self._kept_at = keep_every_s, -math.inf
        self.recipe, self.channel, self.journal = recipe, channel, journal
        self.interval_s = interval_s
        self._paced = Pace(recipe, interval_s)
        self.state = state or RunState()
        self.elapsed_s = elapsed_s
        self.guard = guard or NoGuard()
        self._proving, self._vigil, self._own_cutoff = proving, vigil, own_cutoff
        self._zero = Zero(channel.zero_A(), recipe, real=channel.goes_on_alone)
        self._watch = ReadingWatch(recipe, self._zero.amps)
        self._off = OffWatch(self._zero.amps, digit_V, channel.sees_apart, channel.plugs())
        self._seen = Observation(math.nan, 0.0)
        self._looks = 0
        self._unplugged = False
        self._off_tried_s = -math.inf
        self._noticed_again_s = -math.inf
        self._said_unsaved = self._paused_unsaved = False
        self._warned: dict[str, str] = {}
        self._fresh = False
        self._bad = 0
        self.stood_still = self._stuck = ""

    @property
    def real(self) -> bool:
        """Whether something real is switched."""
        return self.channel.goes_on_alone

    # --- beginning ---

    def start(self) -> Snapshot:
        """Begin, or take up a run again after an interruption: OFF and a look come first, the gap is an event.

        Raises:
            InstrumentError: there is no guard: nothing may be switched on.
        """
        self.guard.begin()
        self.channel.watch_with(self.guard.beat)
        if self.state.phase is Phase.READY:
            if self._proving is not None:
                self._carry_out(OFF)
            else:
                self._after(begin(self.recipe, self.elapsed_s, self._zero.for_rules))
        elif self.state.phase in LIVE:
            self._after(step(self.recipe, self.state, Request("pause"), self.elapsed_s))
            self._note("interrupted", said("not-running-real" if self.real else "not-running"))
            if self.real:
                self._looks = RESUME_LOOKS
            else:
                self._after(step(self.recipe, self.state, Request("resume"), self.elapsed_s))
        elif self.real:
            self._carry_out(OFF)
        self._keep(force=True)
        self._pace()
        return self.snapshot()

    def tick(self) -> Snapshot:
        """One interval and one reading; `fresh` in what comes of it alone, so that no reading is told twice."""
        self._fresh = False
        self.guard.beat()
        self._hear_guard()
        if self._off.trouble is not None and not self._unplugged:
            self._try_off_again()
        passed = self.channel.wait(self.interval_s)
        self.elapsed_s += passed
        if self.state.phase is Phase.ENDED:
            return self._after_end()
        if passed > 5.0 * self.interval_s + 5.0:
            self._note("gap", said("held-up", seconds=passed))
        seen = self._read()
        if self._proving is not None and self.state.phase is Phase.READY:
            self._prove(seen)
        elif self._looks:
            self._look_again(seen)
        else:
            self._go_on(seen)
        self._keep()
        self._pace()
        return self.snapshot(fresh=self._fresh)

    def _pace(self) -> None:
        """How long until the next reading."""
        if (self._proving is not None and self.state.phase is Phase.READY) or self._looks:
            self.interval_s = PROOF_EVERY_S
        elif self.state.phase is Phase.ENDED:
            self.interval_s = QUICKEST_S
        else:
            self.interval_s = self._paced.next_s(self.state, self._seen, self.elapsed_s)

    def _note(self, kind: str, words: str) -> None:
        self.journal.events((Event(self.elapsed_s, kind, words),))

    def _read(self) -> Observation:
        try:
            return self.channel.read()
        except InstrumentError as error:
            self._stuck = str(error) if isinstance(error, StuckError) else ""
            return Observation(math.nan, math.nan, fault=str(error))

    def _go_on(self, raw: Observation) -> None:
        state = self.state
        off = self._off.see(raw, self.channel.outputs(), self.elapsed_s, people=self._people_switch())
        judged = self._watch.judge(raw, state.phase, self.elapsed_s, self._witness(), state.index)
        self._seen = judged.seen
        if off is not None and state.phase is Phase.RESTING and not self._seen.fault:
            self._seen = replace(raw, voltage_V=math.nan, current_A=math.nan, fault=off.words)
        usable = math.isfinite(self._seen.voltage_V) and math.isfinite(self._seen.current_A)
        self._fresh = True
        if not usable:
            self._paced.doubted()
        self._record_noticed()
        asked = self._asked_by_bench(judged.disturbed, judged.cut_off, judged.warning, usable)
        if asked is not None and self.state.phase not in {Phase.ENDED, Phase.READY}:
            result = step(self.recipe, self.state, asked, self.elapsed_s)
        else:
            result = step(self.recipe, self.state, self._seen, self.elapsed_s)
        self._keep_reading(usable, result)
        self._after(result)

    def _people_switch(self) -> bool:
        """Whether a current may be of somebody's hands: while a person is asked, and from a step switched by hand to the next."""
        steps = self.recipe.steps[: self.state.index + 1]
        last = next((step for step in reversed(steps) if step.kind in {"discharge", "charge"}), None)
        return self.state.phase is Phase.PROMPTING or (last is not None and last.by_hand)

    def _asked_by_bench(self, disturbed: str, cut_off: str, warning: str, usable: bool) -> Request | None:
        """What the watching over a reading wants of the engine."""
        if self._stuck and self.state.phase in LIVE:
            return Request("lost", words=self._stuck)
        if warning:
            self._warn("gives-less", warning)
        if disturbed:
            return Request("disturbed", words=disturbed)
        if cut_off and self.state.phase is Phase.DISCHARGING:
            return Request("cut-off", words=cut_off)
        if usable and self._vigil is not None:
            doing = "charge" if self.state.phase is Phase.CHARGING else "draw"
            for alarm in self._vigil.see(self._seen, self.state.phase, self.elapsed_s, self.channel.own_voltage(doing)):
                if alarm.stop:
                    return Request("limit", words=alarm.words)
                self._warn(alarm.key, alarm.words)
        return None

    def _warn(self, key: str, words: str) -> None:
        """Told once in its step, with the engine's own warnings."""
        known = {name for name, _ in self.state.warned}
        if key not in known:
            self.state = replace(self.state, warned=(*self.state.warned, (key, words)))
            self._note("warning", words)

    def _witness(self) -> Witness:
        part = self.recipe.steps[self.state.index]
        doing = "charge" if self.state.phase is Phase.CHARGING else "draw"
        low = next((rule.value for rule in part.ends if rule.kind == "voltage"), None) if self._own_cutoff else None
        on = self.channel.outputs()
        mine = self.channel.commanded(doing)
        return Witness(
            {name: value for name, value in on.items() if name == mine}, self.channel.own_current(doing), low
        )

    def _keep_reading(self, usable: bool, result: Result) -> None:
        switched = self._paced.quick or bool(result.events)
        self._paced.taken()
        seldom = self.keep_every_s * (QUICK_SHARE if self.interval_s < self._paced.usual_s else 1.0)
        if usable and (switched or self.elapsed_s - self._kept_at >= seldom - 1e-6):
            self._kept_at = self.elapsed_s
            self.journal.reading(self.elapsed_s, self._seen)

    def _record_noticed(self) -> None:
        noticed = self.channel.noticed()
        if noticed and self.elapsed_s >= self._noticed_again_s:
            self._note("meters-disagree", noticed)
            self._noticed_again_s = self.elapsed_s + NOTICE_EVERY_S

    def _prove(self, raw: Observation) -> None:
        """A reading of the proof of connection; whatever is unusable or beyond a limit ends it."""
        proving = self._proving
        assert proving is not None
        drawing = proving.command.kind != "off"
        off = self._off.see(raw, self.channel.outputs(), self.elapsed_s)
        phase = {"draw": Phase.DISCHARGING, "charge": Phase.CHARGING}.get(proving.command.kind, Phase.RESTING)
        self._seen = raw
        if not (math.isfinite(raw.voltage_V) and math.isfinite(raw.current_A)):
            self._bad += 1
            if self._bad >= 3:
                self._end_ready(Request("lost", words=raw.fault or said("no-number")))
            return
        self._bad = 0
        held = RunState(phase=phase, zero_A=self._zero.amps)
        crossed = stop_limit(self.recipe.stops, held, raw, self.elapsed_s) if drawing else NOTHING
        if crossed:
            self._end_ready(Request("limit", words=said("in-proof", limit=crossed)))
            return
        if off is not None and not drawing:
            self._end_ready(Request("not-proven", words=off.words))
            return
        if not drawing:
            self._look_at_zero(raw)
        command = proving.see(raw, self.elapsed_s)
        if command is not None:
            self._carry_out(command)
        if proving.done and self.state.phase is Phase.READY:
            self._proved(proving)

    def _proved(self, proving: Proving) -> None:
        kind = "proof-left-out" if proving.left_out else "proof"
        self._note(kind, proving.words)
        barred = proving.proof.bars
        self._proving = None
        if barred and not proving.plan.override:
            self._carry_out(OFF)
            self._end_ready(Request("not-proven", words=several([item.message for item in barred])))
            return
        if barred:
            self._note("override", said("overridden", why=proving.plan.override))
        self._after(begin(self.recipe, self.elapsed_s, self._zero.for_rules))
        for finding in proving.proof.findings:
            self._warn(finding.code, finding.message)

    def _end_ready(self, request: Request) -> None:
        """End a run that has not begun."""
        self._proving = None
        self._after(step(self.recipe, self.state, request, self.elapsed_s))

    def _look_at_zero(self, raw: Observation) -> None:
        if self._zero.look(raw):
            self._watch.zero_A = self._off.zero_A = self._zero.amps

    def _look_again(self, raw: Observation) -> None:
        """A run taken up again: everything off, and seen to be, before it goes on."""
        self._seen = raw
        trouble = self._off.see(raw, self.channel.outputs(), self.elapsed_s)
        if math.isfinite(raw.voltage_V) and math.isfinite(raw.current_A) and trouble is None:
            self._looks -= 1
            self._look_at_zero(raw)
            if not self._looks:
                self._after(step(self.recipe, self.state, Request("resume"), self.elapsed_s))

    def _after_end(self) -> Snapshot:
        """Reading goes on until everything is seen to be off."""
        if self.real and not self._unplugged and not self._off.seen_off:
            raw = self._read()
            people = not self.channel.outputs()
            before = self._off.trouble
            trouble = self._off.see(raw, self.channel.outputs(), self.elapsed_s)
            overdue = self._off.overdue(self.elapsed_s)
            if overdue and not people:
                self._off.failed(overdue)
                trouble = self._off.trouble
            if trouble is not None and (before is None or before.code != trouble.code):
                self._note(trouble.code, trouble.words)
                self.state = replace(self.state, detail=several([self.state.detail, trouble.words]))
            if before is not None and trouble is None and self._off.seen_off:
                self._note("reached", said("off-after-all"))
            self._seen = replace(self._seen, voltage_V=raw.voltage_V, current_A=raw.current_A)
        self._keep()
        self._pace()
        return self.snapshot()

    @property
    def settled(self) -> bool:
        """Whether it has ended, everything is seen to be off (or said to be unplugged), and all of it is written."""
        if self.state.phase is not Phase.ENDED:
            return False
        return (not self.real or self._unplugged or self._off.seen_off) and not self.journal.problem

    @property
    def outputs(self) -> str:
        """ "off" when everything is seen to be off, else "unknown"."""
        return "off" if not self.real or self._off.seen_off else "unknown"

    def ask(self, request: Request) -> Snapshot:
        """Carry out what a person asks.

        Raises:
            InputError: the run's phase does not allow it.
        """
        if request.kind == "unplugged":
            self._let_be()
            return self.snapshot()
        if request.kind == "resume":
            self._paused_unsaved = False
        if (
            self._proving is not None
            and self.state.phase is Phase.READY
            and request.kind in {"stop", "make-safe", "fault"}
        ):
            self._proving = None
        self._after(step(self.recipe, self.state, request, self.elapsed_s))
        self._keep(force=True)
        self._pace()
        return self.snapshot()

    def _let_be(self) -> None:
        """Whoever says so has pulled the lead: of what would not go off there is nothing more to be switched off."""
        if self.state.phase is Phase.ENDED and self._off.trouble is not None:
            self._note("unplugged", said("said-unplugged"))
            self._unplugged = True
            self._keep(force=True)

    def fail(self, words: str) -> None:
        """This program failed somewhere in the loop: everything off, by the guard too, and said."""
        self._proving = None
        self.guard.switch_off()
        if self.state.phase is not Phase.ENDED:
            self._after(step(self.recipe, self.state, Request("fault", words=words), self.elapsed_s))
        else:
            self._note("fault", words)
            self._carry_out(OFF)
        self._keep(force=True)

    def park(self) -> bool:
        """Switch off and have everything written, leaving the run to be taken up again; whether it is seen to be off."""
        self._carry_out(OFF)
        self._keep(force=True)
        return not self.real or self._off.seen_off

    def look_off(self) -> bool:
        """One more look whether everything is off."""
        if not self.real or self._off.seen_off:
            return True
        self.guard.beat()
        self.elapsed_s += self.channel.wait(QUICKEST_S)
        self._off.see(self._read(), self.channel.outputs(), self.elapsed_s)
        return self._off.seen_off

    def let_go(self) -> bool:
        """Let go of lines and guard; the guard goes on by itself where something is not seen to be off."""
        off = not self.real or self._unplugged or self._off.seen_off
        self.channel.close()
        if off:
            self.guard.release()
        else:
            self.guard.switch_off()
            self.guard.leave()
        return off

    def snapshot(self, *, fresh: bool = False) -> Snapshot:
        """What it is doing now; `fresh` where a reading was just taken."""
        seen = self._seen
        troubles = self._troubles()
        return Snapshot(
            self.state, self.elapsed_s, seen.voltage_V, seen.current_A, seen.temperature_C,
            " ".join(item.words for item in troubles), seen.beside, fresh=fresh, troubles=troubles,
            settled=self.settled, outputs=self.outputs, fault=seen.fault,
            proving="proving the connection" if self._proving is not None and self.state.phase is Phase.READY else "",
        )  # fmt: skip

    def _troubles(self) -> tuple[Trouble, ...]:
        found = []
        if self._off.trouble is not None and not self._unplugged:
            found.append(Trouble(self._off.trouble.code, f"{self._off.trouble.words}. It goes on being tried."))
        problem = self.journal.problem
        if problem:
            held = (
                "The load is off; the readings" if self._paused_unsaved else "It is watched all the same; the readings"
            )
            found.append(Trouble(NOT_SAVED, f"{problem}. {held} so far are held and written as soon as it can be."))
        return tuple(found)

    # --- commands ---

    def _after(self, result: Result) -> None:
        self.state = result.state
        self.journal.events(result.events)
        for command in result.commands:
            self._paced.switched()
            self._carry_out(command)

    def _carry_out(self, command: Command) -> None:
        self._watch.told(command)
        self._off.told(command, self.elapsed_s)
        try:
            if command.kind in {"draw", "charge"}:
                self.guard.begin()  # without it nothing is switched on
            self.channel.carry_out(command)
        except InstrumentError as error:
            if command.kind == "off":
                told = isinstance(error, StillOnError)  # it names what to unplug
                self._off.failed(str(error) if told else said("unplug-leads", fault=str(error)))
                self._off_tried_s = self.elapsed_s
                self.guard.switch_off()  # over lines of its own
                self._note(NOT_OFF, str(error))
            elif self.state.phase is not Phase.ENDED:
                self._note("refused", str(error))
                self._proving = None
                self._after(step(self.recipe, self.state, Request("lost", words=str(error)), self.elapsed_s))

    def _try_off_again(self) -> None:
        """What could not be switched off is told again and again, until it is seen to be off."""
        if self.elapsed_s - self._off_tried_s < OFF_AGAIN_S:
            return
        self._off_tried_s = self.elapsed_s
        try:
            self.channel.carry_out(OFF)
        except InstrumentError as error:
            self._off.failed(str(error))
            return
        if self._off.trouble is not None and self._off.trouble.code == NOT_OFF:
            self._off.trouble = None  # it answers now; whether it obeys is seen by the next readings
            self._note("reached", said("could-be-off"))
            self._keep(force=True)

    def _hear_guard(self) -> None:
        """The guard may have acted by itself: this program stood still for too long."""
        acted = self.guard.acted()
        if acted is None:
            return
        words = acted.words
        self._note("guard", words)
        if not acted.asked:
            self.stood_still = words
        self._watch.told(OFF)
        self._off.told(OFF, self.elapsed_s)
        if self.state.phase in LIVE:
            self._after(step(self.recipe, self.state, Request("pause"), self.elapsed_s))
        elif self._proving is not None and self.state.phase is Phase.READY:
            self._end_ready(Request("lost", words=words))

    # --- keeping ---

    def _keep(self, force: bool = False) -> None:
        if force or self.state.phase is Phase.ENDED or self.journal.due():
            self.journal.write(self.state, self.channel.snapshot())
        problem = self.journal.problem
        too_long = self.journal.unsaved_s > (UNSAVED_MOST_S if self.real else -1.0)
        if problem and too_long and not self._paused_unsaved and self.state.phase in LIVE:
            # saving may not fail for long: nothing is drawn while it cannot be written down
            self._paused_unsaved = True
            self._after(step(self.recipe, self.state, Request("pause"), self.elapsed_s))
        elif not problem:
            self._paused_unsaved = False
