"""The tests going on in the open book: starting, following, taking up again, ending."""

from __future__ import annotations

import time
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any

from wintry_tally.book import Run, RunSettings, RunStatus
from wintry_tally.book.recipes import recipe_data, recipe_from
from wintry_tally.book.records import SECOND_PARTS
from wintry_tally.book.runs import DRIVEN, GUIDED, owner_lives, this_process
from wintry_tally.core.battery import Sample, family_named
from wintry_tally.core.engine import LIVE, Event, Phase, Request, RunState
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.protocol import EndCause, Recipe
from wintry_tally.core.protocol.recipe import CAUSE_WORDS
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.desk.live import LiveRun, ambient_of, full_of

# the battery model needs NumPy: it is loaded when a run is planned, started or taken up, not when a book is opened
if TYPE_CHECKING:
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.bench.guided import GuidedLoop
    from wintry_tally.bench.interfaces import Channel
    from wintry_tally.bench.journal import Journal
    from wintry_tally.bench.loop import Snapshot
    from wintry_tally.core.plan import Forecast
    from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits
    from wintry_tally.desk.session import Session


SOON_S, SOON_AFTER_S = 300.0, 1800.0
"""A run of more than half an hour calls five minutes before its end."""
SWITCHED_OFF_WITHIN_S = 8.0
"""So long a bench may take to be switched off before a run is handed over."""


class Running:
    """The live runs of a session's book."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self.live: dict[int, LiveRun] = {}
        self._told: dict[tuple[int, str], str] = {}

    def of_sample(self, sample_id: int) -> LiveRun | None:
        """The live run of a sample."""
        return next((item for item in self.live.values() if item.run.sample_id == sample_id), None)

    def on_channel(self, name: str) -> LiveRun | None:
        """The live run on a channel of the bench."""
        return next(
            (item for item in self.live.values() if name and item.run.settings.extra.get("channel") == name), None
        )

    def open_hand_run(self, sample_id: int, station: str) -> Run | None:
        """The run by hand of a sample, at a station, that is not finished."""
        return next(
            (
                run
                for run in self._session.book.runs.all(sample_id)
                if run.method == "hand" and run.status is RunStatus.RUNNING and run.station == station
            ),
            None,
        )

    def interrupted(self) -> list[Run]:
        """Simulated runs that nobody holds any more: the program ended, or was killed, in the middle of them."""
        return [
            run
            for run in self._session.book.runs.all()
            if run.status is RunStatus.RUNNING
            and run.method in DRIVEN
            and run.id not in self.live
            and not owner_lives(run.owner)
        ]

    def elsewhere(self, run: Run) -> bool:
        """Whether another window holds this run."""
        return run.id not in self.live and run.status is RunStatus.RUNNING and owner_lives(run.owner)

    def plan_of(self, sample: Sample, plan: CapacityPlan, limits: LoadLimits) -> tuple[Recipe, Forecast]:
        """The recipe for a plan, and its forecast on the battery model (the dry run)."""
        from wintry_tally.core.cell import parameters_for
        from wintry_tally.core.plan import forecast
        from wintry_tally.core.protocol.capacity import capacity_recipe

        rated = sample.rated_Ah or 1.0
        recipe = capacity_recipe(sample.family, rated, plan, limits)
        return recipe, forecast(recipe, parameters_for(sample.family, rated))

    def start(
        self,
        sample: Sample,
        recipe: Recipe,
        settings: RunSettings,
        acknowledged: tuple[str, ...],
        station: str = "capacity",
        channel: str = "",
        by_hand: bool = False,
    ) -> int:
        """Start a run on the stand-in bench, on a channel of the real one, or by hand; returns its number."""
        busy = self.on_channel(channel)
        if channel and busy is not None:
            raise InputError(
                f"channel {channel} is busy with {busy.run.title}", mend="choose another, or stop that run"
            )
        book = self._session.book
        words = "Capacity" if recipe.method == "capacity" and station == "capacity" else recipe.title
        number = sum(1 for run in book.runs.all(sample.id) if run.title.startswith(words)) + 1
        settings = replace(settings, extra={**settings.extra, **({"channel": channel} if channel else {})})
        run_id = book.runs.begin(
            sample.id,
            f"{words} {number}",
            GUIDED if by_hand else "bench" if channel else "simulated",
            datetime.now(UTC),
            settings,
            recipe_data(recipe),
            station,
        )
        for text in acknowledged:
            book.runs.add_event(run_id, Event(0.0, "acknowledged", text))
        try:
            self._launch(book.runs.get(run_id), recipe, None, 0.0)
        except WintryError:
            book.runs.remove(run_id)  # nothing was drawn, nothing read
            raise
        return run_id

    def take_up(self, run: Run, elapsed_s: float = 0.0) -> None:
        """Go on with an interrupted run where its last kept reading stands (or later, as told); the gap is an event."""
        book = self._session.book
        rows = book.runs.readings(run.id)
        elapsed = max(elapsed_s, rows[-1][0] if rows else 0.0)
        state = RunState.from_dict(run.state) if run.state else None
        book.runs.change(run.id, owner=this_process())
        try:
            self._launch(book.runs.get(run.id), recipe_from(run.recipe), state, elapsed)
        except WintryError:
            book.runs.change(run.id, owner=run.owner)
            raise
        self._session.touch_runs(run.sample_id)

    def _launch(self, run: Run, recipe: Recipe, state: RunState | None, elapsed_s: float) -> None:
        from wintry_tally.bench.journal import Journal
        from wintry_tally.bench.loop import RunLoop
        from wintry_tally.bench.worker import RunWorker
        from wintry_tally.core.cell import parameters_for
        from wintry_tally.core.plan import forecast

        book, settings = self._session.book, run.settings
        journal = Journal(book.runs, run.id)
        channel = None if run.method == GUIDED else self._channel(run)
        guide = self._guide(run, recipe, journal, state) if channel is None else None
        loop = guide or RunLoop(
            recipe, channel, journal, settings.interval_s, state, elapsed_s,  # type: ignore[arg-type]
            float(settings.extra.get("keep_every_s", 0.0)),
        )  # fmt: skip

        def closing(snapshot: Snapshot) -> None:
            if channel is not None:
                channel.close()
            # the bench may run in fast time: its end is when it ended here, and never still to come
            ended = min(datetime.now(UTC), run.started + timedelta(seconds=snapshot.elapsed_s))
            cause = snapshot.state.cause.value if snapshot.state.cause else ""
            book.runs.finish(run.id, cause, snapshot.state.detail, ended)

        worker = RunWorker(loop, settings.speed, closing)
        past = book.runs.readings(run.id)
        if past:
            worker.seed_curve(_with_charge(past))
        parameters = parameters_for(family_named(settings.family), settings.rated_Ah or 1.0)
        curve = forecast(recipe, parameters, ambient_of(settings), full=full_of(settings))
        self.live[run.id] = LiveRun(run, recipe, worker, curve, parameters, guide)
        worker.start()

    def _guide(self, run: Run, recipe: Recipe, journal: Journal, state: RunState | None) -> GuidedLoop:
        """For a bench with nothing connected: timed by the clock on the wall, as its readings are."""
        from wintry_tally.bench.guided import READ_EVERY_S, GuidedLoop

        rows = self._session.book.runs.readings(run.id)

        def clock() -> float:
            return max(0.0, (datetime.now(UTC) - run.started).total_seconds())

        every = float(run.settings.extra.get("read_every_s", READ_EVERY_S))
        return GuidedLoop(recipe, journal, clock, state, every, last_s=rows[-1][0] if rows else None)

    def _channel(self, run: Run) -> Channel:
        """What the run is connected to: a channel of the bench, or the stand-in."""
        settings = run.settings
        if run.method == "bench":
            from wintry_tally.bench.connect import BenchChannel

            equipment = self._session.equipment
            return BenchChannel(equipment, equipment.channel(str(settings.extra.get("channel", ""))))
        from wintry_tally.bench.simulated import STAND_IN_METER, SimulatedChannel
        from wintry_tally.core.cell import parameters_for
        from wintry_tally.core.cell.parameters import aged

        channel = SimulatedChannel(
            aged(parameters_for(family_named(settings.family), settings.rated_Ah or 1.0), settings.health),
            STAND_IN_METER,
            settings.seed,
            power_W=settings.power_W,
            current_A=settings.load_A,
            ambient_C=ambient_of(settings),
            state_of_charge=full_of(settings),
        )
        if "start_C" in settings.extra:
            channel.world.model.temperature_C = float(settings.extra["start_C"])
        if run.bench:
            channel.restore(run.bench)
        return channel

    def set_speed(self, run_id: int, speed: float) -> None:
        """How many times real time the simulated bench runs; kept with the run."""
        item = self.live.get(run_id)
        if item is not None:
            item.worker.speed = speed
            settings = replace(item.run.settings, speed=speed)
            item.run = replace(item.run, settings=settings)
            self._session.book.runs.change(run_id, settings=settings)

    def hand_over(self, item: LiveRun, channel: str) -> None:
        """Go on with a live run on another channel, or (channel empty) by hand; it is paused, everything off, until then.

        Raises:
            InputError: the channel is busy, or cannot do what is still to come.
        """
        from wintry_tally.core.protocol.preflight import ceilings

        where = f"channel {channel}" if channel else "hands"
        if item.handing:
            raise InputError("it is being handed over already", mend="wait a moment")
        if channel:
            busy = self.on_channel(channel)
            if busy is not None:
                raise InputError(f"{where} is busy with {busy.run.title}", mend="choose another, or stop that run")
            limits = self._session.equipment.limits(self._session.equipment.channel(channel))
            family = family_named(item.run.settings.family)
            barred = ceilings(item.recipe, family, limits, item.latest.state.index)
            if barred:
                raise InputError(f"{where} cannot take it over: {barred[0].name}, {barred[0].message}")
        item.handing = True
        own = str(item.run.settings.extra.get("channel", ""))
        equipment = self._session.equipment

        def change_hands(_job: object) -> str:
            """Off this thread: instruments may take their time. Why it cannot be, or nothing."""
            silent = _silent_on(equipment, channel, own) if channel else ""
            if silent:
                return f"{where} cannot take it over: {silent}"
            item.worker.ask(Request("hand-over", words=where))
            until = time.monotonic() + SWITCHED_OFF_WITHIN_S
            while time.monotonic() < until and (item.latest.state.phase in LIVE or item.worker.busy):
                time.sleep(0.02)
            if item.latest.state.phase in LIVE or item.latest.trouble:
                # whoever cannot be switched off is not let go of: it goes on being tried there
                return f"not handed over: {item.latest.trouble or 'it could not be switched off'}"
            item.worker.stop_thread()
            return ""

        def changed(problem: str) -> None:
            item.handing = False
            if problem:
                self._session.failed.emit(problem)
            else:
                self._handed_over(item, channel)

        def failed(words: str) -> None:
            item.handing = False
            self._session.failed.emit(words)

        self._session.workshop.start(change_hands, changed, failed)

    def _handed_over(self, item: LiveRun, channel: str) -> None:
        if self.live.pop(item.run.id, None) is None:
            return  # the book was closed meanwhile
        book = self._session.book
        kept = book.runs.get(item.run.id)
        if kept.status is not RunStatus.RUNNING:
            return
        # of what a second meter there is good to, nothing is known any more
        gone = {"channel", *(f"second_{part}" for part in SECOND_PARTS)}
        extra = {name: value for name, value in kept.settings.extra.items() if name not in gone}
        settings = replace(kept.settings, extra={**extra, **({"channel": channel} if channel else {})})
        if channel:
            volts, amps = self._session.equipment.meter_of(self._session.equipment.channel(channel))
            settings = replace(
                settings,
                voltage_accuracy=worse(settings.voltage_accuracy, volts.voltage_accuracy, 13.0),
                current_accuracy=worse(settings.current_accuracy, amps.current_accuracy, 10.0),
            )
        else:
            words = "the accuracies of the meters before are taken for those read by hand"
            book.runs.add_event(kept.id, Event(item.latest.elapsed_s, "note", words))
        book.runs.change(kept.id, method="bench" if channel else GUIDED, settings=settings, owner="")
        elapsed = (datetime.now(UTC) - kept.started).total_seconds()
        with self._session.guard():
            self.take_up(book.runs.get(kept.id), elapsed)
        self._session.touch_runs(kept.sample_id)
        self._session.said.emit(f"{kept.title} is paused; resume it when everything is connected.")

    def close_interrupted(self, run: Run) -> None:
        """Close an interrupted run as it stands."""
        book = self._session.book
        rows = book.runs.readings(run.id)
        elapsed = rows[-1][0] if rows else 0.0
        book.runs.add_event(run.id, Event(elapsed, "interrupted", "closed as interrupted"))
        book.runs.finish(
            run.id,
            "interrupted",
            "",
            min(datetime.now(UTC), run.started + timedelta(seconds=elapsed)),
            RunStatus.INTERRUPTED,
        )
        self._session.touch_runs(run.sample_id)

    def follow(self) -> bool:
        """Notice runs that ended; whether anything is going on."""
        for item in self.live.values():
            self._call_for(item)
        over = [item for item in self.live.values() if not item.worker.alive and not item.handing]
        for item in over:
            del self.live[item.run.id]
            if item.worker.refusal:
                self._session.failed.emit(item.worker.refusal)
            self._session.touch_runs(item.run.sample_id)
            ended = self._session.book.runs.get(item.run.id)
            cause = CAUSE_WORDS[EndCause(ended.cause)] if ended.cause in EndCause._value2member_map_ else "it ended"
            by_hand = " Switch everything off now, at the load and at the charger." if item.guide else ""
            self._session.said.emit(f"{item.run.title} has ended: {cause}.{by_hand}")
            if by_hand:  # nothing here can switch it off: said until it is dismissed
                self._session.failed.emit(f"{item.run.title} has ended: {cause}.{by_hand}")
            self._session.rang.emit(f"{item.run.title} has ended", f"{cause}.{by_hand}" if by_hand else cause)
        return bool(self.live) or bool(over)

    def _call_for(self, item: LiveRun) -> None:
        """Call a person once for each thing that needs one: trouble, a prompt, an end that comes near."""
        number, seen = item.run.id, item.latest
        if seen.trouble and seen.trouble != self._told.get((number, "trouble")):
            # wherever one looks just now: this cannot wait
            self._session.failed.emit(f"{item.run.title}: {seen.trouble}")
            self._session.rang.emit("Needs your hands now", seen.trouble)
        self._told[number, "trouble"] = seen.trouble
        place = str(seen.state.index)
        for key, words in seen.state.warned:
            if (number, f"warned {place} {key}") not in self._told:
                self._told[number, f"warned {place} {key}"] = "told"
                self._session.rang.emit("Warning", f"{item.run.title}: {words}")
        if seen.state.phase is Phase.PROMPTING and self._told.get((number, "prompt")) != place:
            step = item.recipe.steps[seen.state.index]
            self._told[number, "prompt"] = place
            self._session.rang.emit("Needs your hands", f"{item.run.title}: {step.words or step.title}")
        self._call_for_reading(item)
        lasted = seen.state.load_s + seen.state.charge_s
        near = seen.state.phase in LIVE and lasted > SOON_AFTER_S and item.worker.speed == 1.0
        if near and (number, "soon") not in self._told:
            remaining = item.remaining_s()
            if remaining is not None and remaining < SOON_S:
                self._told[number, "soon"] = "told"
                words = f"{item.run.title} ends in about {remaining / 60:.0f} min"
                self._session.rang.emit("Ends soon", words)

    def _call_for_reading(self, item: LiveRun) -> None:
        """Call once for each reading that is due on a run by hand."""
        due = item.guide.due_in_s if item.guide is not None else None
        key = (item.run.id, "reading")
        if due is None or due > 0:
            self._told.pop(key, None)
        elif key not in self._told:
            self._told[key] = "told"
            self._session.rang.emit("A reading is due", f"{item.run.title}: {item.latest.asks}")

    def park(self) -> None:
        """Leave every live run written and switched off, to be taken up again."""
        for item in self.live.values():
            item.worker.stop_thread()
            if not item.latest.ended:
                with self._session.guard():  # whoever opens the book next may take it up
                    self._session.book.runs.change(item.run.id, owner="")
        self.live.clear()


def _silent_on(equipment: Equipment, channel: str, own: str) -> str:
    """The first of a channel's instruments that does not answer, with its reason; empty when all do.

    Those that the run's own channel holds are known to be alive, and are not asked by two at once.
    """
    from wintry_tally.bench.connect import tried

    held = set(equipment.channel(own).used) if own else set()
    asked = (name for name in equipment.channel(channel).used if name not in held)
    answers = (tried(equipment.instrument(name)) for name in asked)
    return next((answer.problem for answer in answers if answer.problem), "")


def worse(one: str, other: str, at: float) -> str:
    """Of two accuracies the wider at a reading of about `at`; unknown where either is."""
    if not one or not other:
        return ""
    limits = [part.percent / 100.0 * at + part.offset_limit(0.001) for part in map(parse_accuracy, (one, other))]
    return one if limits[0] >= limits[1] else other


def _with_charge(rows: list[Any]) -> list[tuple[float, float, float, float]]:
    points, charge, before = [], 0.0, None
    for row in rows:
        elapsed, volts, amps = row[0], row[1] or 0.0, row[2] or 0.0
        if before is not None:
            charge += 0.5 * (amps + before[1]) * (elapsed - before[0]) / 3600.0
        points.append((elapsed, volts, amps, charge))
        before = (elapsed, amps)
    return points
