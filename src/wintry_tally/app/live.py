"""The tests going on in the open book: starting, following, taking up again, handing over, parking, ending."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from functools import partial, wraps
from typing import TYPE_CHECKING, Any, Protocol, TypeVar, cast

from wintry_tally.app.calls import Calls
from wintry_tally.app.launch import battery_things, channel_for, expected_by_hand, keep_resistances, launch, method_of
from wintry_tally.app.listening import Background, Listener
from wintry_tally.app.live_run import LiveRun, foretold, show_past
from wintry_tally.app.safety import AllOff, barred_by_quarantine, put_into_quarantine
from wintry_tally.book import Run, RunSettings, RunStatus
from wintry_tally.book.owner import RENEWED_S
from wintry_tally.book.recipes import recipe_data, recipe_from
from wintry_tally.book.records import read_as
from wintry_tally.core.battery import Sample
from wintry_tally.core.engine import Event, Observation, RunState
from wintry_tally.core.errors import BookError, InputError, WintryError
from wintry_tally.core.message import said
from wintry_tally.core.protocol import EndCause, Recipe
from wintry_tally.core.protocol.method import DRIVEN, Method

# the battery model needs NumPy: it is loaded when a run is planned, started or taken up, not when a book is opened
if TYPE_CHECKING:
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.bench.guided import GuidedLoop
    from wintry_tally.bench.journal import Journal
    from wintry_tally.bench.snapshot import Snapshot
    from wintry_tally.bench.taken import Taken
    from wintry_tally.book import Book
    from wintry_tally.core.plan import Forecast
    from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits
    from wintry_tally.report.dossier import Dossier


SAFE = said("all-off")
PUT_DOWN_TRIES = 60


class Observer(Protocol):
    """Whoever wants every snapshot of a run; called on the run's own thread, and must not wait for anything."""

    def begins(self, run: Run) -> None:
        """Before anything is switched on."""

    def saw(self, snapshot: Snapshot) -> None:
        """A new snapshot."""


Act = TypeVar("Act", bound=Callable[..., Any])


def _in_place(method: Act) -> Act:
    """What begins, goes on with or ends a run asks the book where it is called."""

    @wraps(method)
    def called(self: LiveRuns, *given: Any, **named: Any) -> Any:
        with self.book.in_place():
            return method(self, *given, **named)

    return cast("Act", called)


class LiveRuns:
    """The live runs of a book, in this process."""

    def __init__(
        self, book: Book, equipment: Callable[[], Equipment], listener: Listener, background: Background | None = None,
        under_way: Callable[[], list[Run]] | None = None, held: Callable[[Run], bool] | None = None,
        before: Callable[[int], Dossier | None] = lambda _sample: None,
    ) -> None:  # fmt: skip
        self.book, self._equipment, self._listener, self._background = book, equipment, listener, background
        self._under_way, self._held = under_way or book.runs.under_way, held or book.runs.in_hands
        self._before = before
        self.live: dict[int, LiveRun] = {}
        self._taken: dict[int, Taken] = {}
        self._calls = Calls(listener)
        self._unsafe: set[int] = set()
        self._next_renewal = 0.0
        self._all_off: AllOff | None = None
        self.left: list[str] = []
        """What ended or was parked without being seen to be off, in words."""

    def of_sample(self, sample_id: int) -> LiveRun | None:
        """The live run of a sample."""
        return next((item for item in self.live.values() if item.run.sample_id == sample_id), None)

    def on_channel(self, name: str) -> LiveRun | None:
        """The live run on a channel of the bench."""
        return next((item for item in self.live.values() if name and item.run.settings.channel == name), None)

    def open_hand_run(self, sample_id: int, station: str) -> Run | None:
        """The run by hand of a sample, at a station, that is not finished."""
        return next(
            (
                run
                for run in self._under_way()
                if run.sample_id == sample_id and run.method is Method.HAND and run.station == station
            ),
            None,
        )

    def interrupted(self) -> list[Run]:
        """Driven runs that nobody holds any more: the program ended, or was killed, in the middle of them."""
        return [
            run for run in self._under_way() if run.method in DRIVEN and run.id not in self.live and not self._held(run)
        ]

    def elsewhere(self, run: Run) -> bool:
        """Whether another window holds this run."""
        return run.id not in self.live and run.status is RunStatus.RUNNING and self._held(run)

    def plan_of(self, sample: Sample, plan: CapacityPlan, limits: LoadLimits) -> tuple[Recipe, Forecast]:
        """The recipe for a plan, and its forecast on the battery model (the dry run)."""
        from wintry_tally.app.comparison import battery_of
        from wintry_tally.core.plan import forecast
        from wintry_tally.core.protocol.capacity import capacity_recipe

        recipe = capacity_recipe(sample.family, sample.rated_Ah or 1.0, plan, limits)
        return recipe, forecast(recipe, battery_of(sample, self._before(sample.id)))

    def hear_guards(self) -> list[str]:
        """What guards did while this book was closed, or are still doing: kept with their runs, and told; in the book's own
        thread, where there is one."""
        from wintry_tally.bench.guard import take_records

        told = []
        for record in take_records(self.book.path):
            known = [run for run in self.book.runs.all() if run.id == record.run]
            if known and record.done:
                self.book.runs.add_event(
                    record.run, Event(self.book.runs.last_elapsed_s(record.run) or 0.0, "guard", record.words)
                )
            going = "" if record.done else " It goes on trying: unplug what is still on."
            told.append(f"{record.title}: {record.words}.{going}")
        return told

    # --- starting ---

    @_in_place
    def start(
        self,
        sample: Sample,
        recipe: Recipe,
        settings: RunSettings,
        acknowledged: tuple[str, ...],
        station: str = "capacity",
        channel: str = "",
        by_hand: bool = False,
        observer: Observer | None = None,
    ) -> int:
        """Start a run on the stand-in bench, on a channel of the real one, or by hand; returns its number.

        Raises:
            InputError: the battery is in quarantine, or it or an instrument is taken by another run, or cannot be.
            InstrumentError: an instrument is out of the guard's reach.
        """
        method = method_of(channel, by_hand=by_hand)
        if method is not Method.SIMULATED:
            barred_by_quarantine(self.book, sample.id, sample.id in self._unsafe)
        busy = self.on_channel(channel)
        if channel and busy is not None:
            raise InputError(
                f"channel {channel} is busy with {busy.run.title}", mend="choose another, or stop that run"
            )
        words = "Capacity" if recipe.method == "capacity" and station == "capacity" else recipe.title
        number = sum(1 for run in self.book.runs.all(sample.id) if run.title.startswith(words)) + 1
        title = f"{words} {number}"
        settings = replace(settings, channel=channel or settings.channel)
        taken = self._take(sample, method, channel, f"{title} of {sample.code} ({self.book.path.name})")
        run_id = None
        try:
            run_id = self.book.runs.begin(
                sample.id, title, method, datetime.now(UTC), settings, recipe_data(recipe), station
            )
            for text in acknowledged:
                self.book.runs.add_event(run_id, Event(0.0, "acknowledged", text))
            self._launch(self.book.runs.get(run_id), recipe, None, 0.0, taken, observer)
        except BaseException:
            taken.release()
            if run_id is not None:
                self.book.runs.remove(run_id)  # nothing was drawn, nothing read
            raise
        return run_id

    def _take(self, sample: Sample, method: Method, channel: str, by: str) -> Taken:
        """The battery and the instruments of a run, for it alone; before one command is sent."""
        from wintry_tally.bench.taken import Taken, take

        if method is Method.SIMULATED:
            return Taken([])
        self._leave_on()
        things = battery_things(self.book, sample)
        if method is Method.BENCH:
            from wintry_tally.bench.connect import BenchChannel

            equipment = self._equipment()
            things += BenchChannel(equipment, equipment.channel(channel)).things()
        return take(things, by)

    @_in_place
    def take_up(self, run: Run, elapsed_s: float = 0.0, observer: Observer | None = None) -> None:
        """Go on with an interrupted run where its last kept reading stands (or later, as told); the gap is an event.

        Raises:
            InputError: another process has it, or has the battery or an instrument.
        """
        book = self.book
        sample = next(item for item in book.samples.all() if item.id == run.sample_id)
        if run.method is not Method.SIMULATED:
            barred_by_quarantine(book, sample.id)
        if book.runs.in_hands(run):
            raise InputError(f"{run.title} runs in another window or process", mend="go on with it there")
        channel = run.settings.channel
        taken = self._take(sample, run.method, channel, f"{run.title} of {sample.code} ({book.path.name})")
        try:
            if not book.runs.claim(run.id, run.owner):
                raise InputError(
                    f"{run.title} has just been taken up by another window or process", mend="go on with it there"
                )
            rows = book.runs.last_elapsed_s(run.id)
            elapsed = max(elapsed_s, rows or 0.0)
            with read_as(f"how far {run.title} had come"):
                state = RunState.from_dict(run.state) if run.state else None
            try:
                self._launch(book.runs.get(run.id), recipe_from(run.recipe), state, elapsed, taken, observer)
            except WintryError:
                book.runs.change(run.id, owner="")
                raise
        except BaseException:
            taken.release()
            raise
        self._listener.runs_changed(run.sample_id)

    def _launch(
        self, run: Run, recipe: Recipe, state: RunState | None, elapsed_s: float, taken: Taken,
        observer: Observer | None = None,
    ) -> None:  # fmt: skip
        from wintry_tally.app.comparison import held_by
        from wintry_tally.bench.journal import Journal
        from wintry_tally.bench.worker import RunWorker

        book, settings = self.book, run.settings
        guide = proving = None
        if run.method is Method.GUIDED:
            journal = Journal(book.runs, run.id)
            guide = self._guide(run, recipe, journal, state)
            loop: Any = guide
        else:
            equipment = self._equipment() if run.method is Method.BENCH else None
            channel = channel_for(run, equipment)  # type: ignore[arg-type]
            made = launch(run, recipe, book, equipment, channel, taken, state, elapsed_s)  # type: ignore[arg-type]
            loop, journal, proving = made.loop, made.journal, made.proving

        def closing(snapshot: Snapshot) -> None:
            if proving is not None:
                keep_resistances(book, run.sample_id, proving)
            if snapshot.state.over is EndCause.MADE_SAFE:
                put_into_quarantine(book, run.sample_id, SAFE)
            # the bench may run in fast time: its end is when it ended here, and never still to come
            ended = min(datetime.now(UTC), run.started + timedelta(seconds=snapshot.elapsed_s))
            cause = snapshot.state.cause.value if snapshot.state.cause else ""
            book.runs.finish(run.id, cause, snapshot.state.detail, ended)

        def flushed(limit_s: float) -> bool:
            done = journal.flush(limit_s)
            if done:
                journal.close()
            return done

        if observer is not None:
            observer.begins(run)
        worker = RunWorker(loop, settings.speed, closing, flushed, observer.saw if observer is not None else None)
        if elapsed_s:
            # a long past is read beside the watching, which begins at once
            threading.Thread(target=show_past, args=(worker, book, run.id), daemon=True, name="past").start()
        held = held_by(self._before(run.sample_id))
        parameters, curve = foretold(run, recipe, held)
        self.live[run.id] = LiveRun(
            run, recipe, worker, curve, parameters, guide, partial(self._before, run.sample_id), held
        )
        self._taken[run.id] = taken
        worker.start()

    def _guide(self, run: Run, recipe: Recipe, journal: Journal, state: RunState | None) -> GuidedLoop:
        """For a bench with nothing connected: timed by the clock on the wall, as its readings are."""
        from wintry_tally.bench.guided import READ_EVERY_S, GuidedLoop, Typed

        def clock() -> float:
            return max(0.0, (datetime.now(UTC) - run.started).total_seconds())

        every = run.settings.read_every_s or READ_EVERY_S
        rows = self.book.runs.readings(run.id)
        kept = [Typed(r[0], Observation(r[1], 0.0 if r[2] is None else r[2])) for r in rows if r[1] is not None]
        expected = None if recipe.no_proof else expected_by_hand(run)
        return GuidedLoop(recipe, journal, clock, state, every, rows[-1][0] if rows else None, expected, kept)

    def set_speed(self, run_id: int, speed: float) -> None:
        """How many times real time the simulated bench runs; kept with the run."""
        item = self.live.get(run_id)
        if item is not None:
            item.worker.speed = speed
            settings = replace(item.run.settings, speed=speed)
            item.run = replace(item.run, settings=settings)
            self._beside(lambda: self.book.runs.change(run_id, settings=settings))

    def _beside(self, act: Callable[[], object]) -> None:
        """Done in the background, where there is one."""
        if self._background is None:
            act()
            return

        def job() -> str:
            act()
            return ""

        self._background(job, lambda _words: None, self._listener.failed)

    @_in_place
    def hand_over(self, item: LiveRun, channel: str) -> None:
        """Go on with a live run on another channel, or (channel empty) by hand; see app.hand_over.

        Raises:
            InputError: the channel is busy, or cannot do what is still to come.
        """
        from wintry_tally.app.hand_over import hand_over

        assert self._background is not None
        hand_over(self, item, channel, self._equipment(), self._listener, self._background)

    # --- ending ---

    def close_interrupted(self, run: Run) -> None:
        """Close an interrupted run as it stands; in the book's own thread, where there is one. One that is closed stays so.

        Raises:
            InputError: it was taken up again meanwhile, here or elsewhere.
        """
        now = self.book.runs.get(run.id)
        if now.status is not RunStatus.RUNNING:
            return
        if self.book.runs.in_hands(now):
            raise InputError(f"{run.title} has been taken up again", mend="stop it where it runs")
        elapsed = self.book.runs.last_elapsed_s(run.id) or 0.0
        self.book.runs.add_event(run.id, Event(elapsed, "interrupted", said("closed-interrupted")))
        self.book.runs.finish(
            run.id,
            "interrupted",
            "",
            min(datetime.now(UTC), run.started + timedelta(seconds=elapsed)),
            RunStatus.INTERRUPTED,
        )

    def make_safe(self, sample_id: int | None = None) -> AllOff:
        """Everything of this bench off, at once; the batteries of live runs (and the one named) go into quarantine.

        Does not wait: not for instruments, and not for the book to take the quarantine down.
        """
        runs = list(self.live.values())
        numbers = {item.run.sample_id for item in runs if item.run.method is not Method.SIMULATED}
        numbers |= {sample_id} if sample_id is not None else set()
        self._unsafe |= numbers
        self._leave_on()
        self._all_off = allof = AllOff(runs, self._equipment(), numbers)
        threading.Thread(target=self._put_down, args=(numbers,), name="quarantine", daemon=True).start()
        return allof

    def _leave_on(self) -> None:
        """What an earlier all-off still tries to switch off is let be: the bench is in somebody's hands again."""
        if self._all_off is not None:
            self._all_off.let_be()

    def _put_down(self, numbers: set[int]) -> None:
        for number in numbers:
            for _ in range(PUT_DOWN_TRIES):
                try:
                    put_into_quarantine(self.book, number, SAFE)
                    break
                except WintryError:
                    time.sleep(1.0)  # the book may be locked just now

    def looked_at(self, sample_id: int) -> None:
        """Somebody has looked at a battery, and the book has it."""
        self._unsafe.discard(sample_id)

    def let_go(self, run_id: int) -> None:
        """Its battery and instruments may be taken by another run."""
        taken = self._taken.pop(run_id, None)
        if taken is not None:
            taken.release()

    def notice(self) -> None:
        """Call for what needs a person; asks no book."""
        self._renew()
        for item in self.live.values():
            self._calls.for_what_it_wants(item)

    def follow(self) -> bool:
        """Notice runs that ended; whether anything is going on."""
        self.notice()
        over = [item for item in self.live.values() if not item.worker.alive and not item.handing]
        for item in over:
            del self.live[item.run.id]
            self.let_go(item.run.id)
            if item.worker.refusal:
                self._listener.failed(f"{item.run.title}: {item.worker.refusal}")
            if item.worker.left:
                self.left.append(f"{item.run.title}: {item.worker.left}")
                self._listener.failed(f"{self.left[-1]} The guard goes on switching it off.")
            self._listener.runs_changed(item.run.sample_id)
            self._calls.ended(item)
        return bool(self.live) or bool(over)

    def _renew(self) -> None:
        """Say to other computers that the live runs are in hands still, also while nothing is read; beside everything."""
        if self.live and time.monotonic() >= self._next_renewal:
            self._next_renewal = time.monotonic() + RENEWED_S
            threading.Thread(target=self._renewed, args=(list(self.live),), daemon=True, name="lease").start()

    def _renewed(self, numbers: list[int]) -> None:
        with contextlib.suppress(BookError):  # that nothing can be written is told by the journal
            self.book.runs.renew(numbers)

    # --- leaving ---

    def begin_parking(self) -> None:
        """Ask every live run to be left written and switched off; does not wait."""
        for item in self.live.values():
            item.worker.halt()

    @property
    def parking(self) -> list[LiveRun]:
        """Those that are still being switched off."""
        return [item for item in self.live.values() if item.worker.alive]

    def park(self, limit_s: float = 10.0) -> list[str]:
        """Leave every live run written and switched off, to be taken up again; what could not be seen off, in words."""
        self._leave_on()
        self.begin_parking()
        left = []
        until = time.monotonic() + limit_s
        for item in list(self.live.values()):
            item.worker.stop_thread(max(0.1, until - time.monotonic()))
            if item.worker.alive or item.worker.left:
                words = item.worker.left or item.latest.trouble or "it is still being switched off"
                left.append(f"{item.run.title}: {words}")
            if not item.latest.ended and not item.worker.alive:
                try:  # whoever opens the book next may take it up
                    self.book.runs.change(item.run.id, owner="")
                except WintryError as error:
                    self._listener.failed(str(error))
            self.let_go(item.run.id)
        self.live.clear()
        return left
