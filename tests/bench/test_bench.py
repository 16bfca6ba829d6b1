"""The stand-in bench, the journal, the loop and its worker, hand readings."""

from __future__ import annotations

import itertools
import math
import time
from datetime import datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.bench.hand import HandReading, check_reading, parse_moment
from wintry_tally.bench.interfaces import Channel, InstrumentChannel, Measures, Sinks
from wintry_tally.bench.journal import AT_RISK_S, Journal
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.simulated import MeterSpec, SimulatedChannel
from wintry_tally.bench.worker import RunWorker
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.engine import Command, Observation, Phase, Request
from wintry_tally.core.errors import BookError, InputError, InstrumentError
from wintry_tally.core.protocol import EndCause
from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, capacity_recipe

LFP = FAMILIES["lfp"]
RECIPE = capacity_recipe(LFP, 40.0, CapacityPlan("current", 8.0, 10.0), LoadLimits(180.0, 20.0))


class Store:
    """A store in memory that can be made to fail."""

    def __init__(self) -> None:
        self.rows: list = []
        self.events: list = []
        self.state = None
        self.writes = 0
        self.full = False

    def append(self, run_id, rows, events, state, bench) -> None:
        if self.full:
            raise BookError("the book cannot be written (database or disk is full)", mend="free some space")
        self.rows += rows
        self.events += events
        self.state = state
        self.writes += 1


def channel(seed: int = 7, state: float = 1.0, **spec) -> SimulatedChannel:
    return SimulatedChannel(parameters_for(LFP, 40.0), MeterSpec(**spec), seed, state_of_charge=state)


def loop(bench: Channel, store: Store, clock=time.monotonic, interval: float = 1.0) -> RunLoop:
    return RunLoop(RECIPE, bench, Journal(store, 1, clock), interval)


# --- the stand-in ---


def test_the_meter_stays_inside_its_specification() -> None:
    for seed in range(40):
        bench = channel(seed, noise_V=0.0, noise_A=0.0, current_accuracy="1%+2d", voltage_accuracy="0.5%+2d")
        bench.carry_out(Command("draw", "current", 8.0))
        bench.wait(10.0)
        seen, world = bench.read(), bench.world
        assert abs(seen.current_A - world.current_A) <= 0.08 + 0.002 + 0.0006
        assert abs(seen.voltage_V - world.voltage_V) <= 0.005 * world.voltage_V + 0.002 + 0.0006


def test_the_same_seed_gives_the_same_readings() -> None:
    def readings(seed: int) -> list[Observation]:
        bench = channel(seed)
        bench.carry_out(Command("draw", "current", 8.0))
        found = []
        for _ in range(5):
            bench.wait(1.0)
            found.append(bench.read())
        return found

    assert readings(3) == readings(3) != readings(4)


def test_a_load_refuses_what_is_above_its_ceiling_and_is_off_after() -> None:
    bench = channel()
    with pytest.raises(InstrumentError, match="180 W and 20 A"):
        bench.carry_out(Command("draw", "current", 19.0))
    bench.wait(1.0)
    assert bench.read().current_A == pytest.approx(0.0, abs=0.02)
    bench.carry_out(Command("draw", "power", 100.0))
    bench.wait(1.0)
    assert bench.read().current_A == pytest.approx(7.6, abs=0.4)
    bench.carry_out(Command("off"))
    bench.carry_out(Command("off"))
    bench.wait(1.0)
    assert bench.read().current_A == pytest.approx(0.0, abs=0.02)
    with pytest.raises(InstrumentError, match="does not know"):
        bench.carry_out(Command("dance"))


def test_the_stand_in_can_be_taken_up_again() -> None:
    bench = channel()
    bench.carry_out(Command("draw", "current", 8.0))
    bench.wait(7200.0)
    again = channel()
    again.restore(bench.snapshot())
    assert again.world.model.state_of_charge == pytest.approx(bench.world.model.state_of_charge)
    assert again.world.voltage_V > 12


def test_interfaces_cannot_be_skipped() -> None:
    for kind in (Sinks, Measures, Channel):
        with pytest.raises(TypeError):
            kind()


# --- journal and loop ---


def test_a_whole_run_is_journalled() -> None:
    store = Store()
    run = loop(channel(), store, interval=5.0)
    run.start()
    ticks = 1
    while not run.tick().ended:
        ticks += 1
    assert run.state.cause in {EndCause.SET_CUTOFF, EndCause.PROTECTION}
    assert len(store.rows) == ticks and not run.journal.waiting
    steps = [after[0] - before[0] for before, after in zip(store.rows, store.rows[1:], strict=False)]
    assert steps[:4] == [1.0] * 4 and set(steps) == {1.0, 1.25, 5.0}, "faster at switching, and near the end"
    assert run.state.charge_Ah == pytest.approx(40.0, rel=0.02)
    kinds = [event.kind for event in store.events]
    assert kinds[0] == "start-discharge" and kinds[-1] == "finish"
    assert store.state == run.state


def test_no_reading_waits_longer_than_promised() -> None:
    now = [0.0]
    store = Store()
    journal = Journal(store, 1, lambda: now[0])
    assert AT_RISK_S <= 2.0
    oldest = 0.0
    run = RunLoop(RECIPE, channel(), journal, 1.0)
    run.start()
    for _ in range(200):
        now[0] += 0.13
        run.tick()
        oldest = oldest if journal.waiting else now[0]
        assert now[0] - oldest <= 2.0


def test_a_full_disk_pauses_with_the_load_off_and_loses_nothing() -> None:
    store = Store()
    bench = channel()
    run = loop(bench, store, clock=iter(range(10**6)).__next__)
    run.start()
    for _ in range(10):
        run.tick()
    store.full = True
    for _ in range(5):
        seen = run.tick()
    assert "disk is full" in seen.trouble and "free some space" in seen.trouble
    assert run.state.phase is Phase.PAUSED and bench.world.mode == ""
    run.ask(Request("resume"))
    for _ in range(5):
        run.tick()
    assert run.state.phase is Phase.PAUSED and bench.world.mode == "", "it is still full"
    held = run.journal.waiting
    assert held > 0
    store.full = False
    seen = run.tick()
    assert not seen.trouble and run.journal.waiting == 0
    assert len({row[0] for row in store.rows}) == len(store.rows) >= 11
    run.ask(Request("resume"))
    run.tick()
    assert bench.world.mode == "current"


def test_taking_up_again_marks_the_gap_and_goes_on_counting() -> None:
    store, bench = Store(), channel()
    first = loop(bench, store)
    first.start()
    for _ in range(600):
        first.tick()
    first.park()
    assert bench.world.mode == ""
    second = RunLoop(RECIPE, bench, Journal(store, 1), 1.0, store.state, first.elapsed_s)
    second.start()
    assert bench.world.mode == "current" and "interrupted" in [event.kind for event in store.events]
    before = second.state.charge_Ah
    for _ in range(600):
        second.tick()
    assert second.state.charge_Ah - before == pytest.approx(8.0 / 6, rel=0.02)


class Silent(Measures):
    """A meter that is gone."""

    def read(self) -> Observation:
        raise InstrumentError("no answer from the meter")


class Stuck(Sinks):
    """A load that cannot be reached to switch it off."""

    def draw(self, mode: str, setting: float) -> None:
        pass

    def off(self) -> None:
        raise InstrumentError("no answer from the load")

    def is_on(self) -> bool | None:
        return None

    def off_plan(self) -> None:
        return None


class Broken(InstrumentChannel):
    """Both of them on a bench whose time need not be waited for."""

    def wait(self, interval_s: float) -> float:
        return interval_s


def test_a_lost_meter_ends_within_three_readings_and_a_load_out_of_reach_is_shouted() -> None:
    run = loop(Broken(Stuck(), Silent()), Store())
    run.start()
    for _ in range(3):
        seen = run.tick()
    assert seen.ended and seen.state.cause is EndCause.INSTRUMENT
    assert "Unplug the load" in seen.trouble


def test_a_refused_set_point_ends_the_run_with_its_reason() -> None:
    store = Store()
    bench = channel()
    bench.load.power_W = 50.0
    run = loop(bench, store)
    assert run.start().ended
    assert any(event.kind == "refused" and "50 W" in event.message for event in store.events)


def test_the_worker_runs_fast_answers_and_parks() -> None:
    store = Store()
    closed: list = []
    worker = RunWorker(loop(channel(), store), 3600.0, closed.append)
    worker.start()
    deadline = time.monotonic() + 10
    while worker.latest.state.charge_Ah < 1.0 and time.monotonic() < deadline:
        time.sleep(0.01)
    assert worker.latest.state.charge_Ah >= 1.0 and worker.alive
    worker.ask(Request("resume"))
    worker.ask(Request("pause"))
    while worker.latest.state.phase is not Phase.PAUSED and time.monotonic() < deadline:
        time.sleep(0.01)
    worker.ask(Request("resume"))
    worker.ask(Request("dance"))
    while not worker.refusal and time.monotonic() < deadline:
        time.sleep(0.01)
    assert "not a request" in worker.refusal
    assert len(worker.curve()) > 10
    worker.stop_thread()
    assert not worker.alive and not closed and store.state.phase in {Phase.DISCHARGING, Phase.PAUSED} and worker.parked


def test_the_worker_closes_a_run_that_ended() -> None:
    store, closed = Store(), []
    worker = RunWorker(loop(channel(state=0.05), store, interval=5.0), 1e6, closed.append)
    worker.start()
    worker._thread.join(20)
    assert not worker.alive and len(closed) == 1 and closed[0].ended and not worker.parked
    points = worker.curve()
    worker.seed_curve(points)
    assert worker.curve() == points


def test_a_run_is_not_closed_before_the_book_has_its_last_readings() -> None:
    taken = [False, False, True]
    closed: list = []
    worker = RunWorker(loop(channel(state=0.05), Store(), interval=5.0), 1e6, closed.append, lambda _: taken.pop(0))
    worker.start()
    while len(taken) > 2:
        time.sleep(0.01)
    assert not closed
    worker._thread.join(20)
    assert not worker.alive and not taken and len(closed) == 1 and not worker.refusal
    leaving = RunWorker(loop(channel(state=0.05), Store(), interval=5.0), 1e6, closed.append, lambda _: False)
    leaving.start()
    while not leaving.refusal:
        time.sleep(0.01)
    leaving.stop_thread()
    assert not leaving.alive and len(closed) == 1 and leaving.refusal == "the book has not taken the last readings"


# --- hand readings ---

NOON = datetime(2026, 1, 20, 12, 0)


@pytest.mark.parametrize(
    ("text", "previous", "expected"),
    [
        ("", None, NOON),
        ("now", None, NOON),
        ("11:45", None, NOON.replace(hour=11, minute=45)),
        ("2.05pm", NOON, NOON.replace(hour=14, minute=5)),
        ("14:05:30", NOON, NOON.replace(hour=14, minute=5, second=30)),
        ("+30 min", NOON, NOON + timedelta(minutes=30)),
        ("+15", NOON, NOON + timedelta(minutes=15)),
        ("00:10", NOON.replace(hour=23, minute=50), NOON.replace(hour=0, minute=10) + timedelta(days=1)),
        ("23:00", None, NOON.replace(hour=23) - timedelta(days=1)),
        ("12:05 am", NOON.replace(hour=23), NOON.replace(hour=0, minute=5) + timedelta(days=1)),
    ],
)
def test_times_of_day_as_typed(text: str, previous: datetime | None, expected: datetime) -> None:
    assert parse_moment(text, NOON, previous) == expected


@pytest.mark.parametrize("text", ["25:00", "noonish", "12:61", "7"])
def test_times_that_are_none(text: str) -> None:
    with pytest.raises(InputError, match="14:05"):
        parse_moment(text, NOON, None)


def reading(minutes: float, volts: float | None, amps: float | None = 8.0, counter: float | None = None) -> HandReading:
    return HandReading(NOON + timedelta(minutes=minutes), volts, amps, counter)


EARLIER = [reading(0, 13.3, 8.0, 0.0), reading(30, 13.1, 8.0, 4.0)]


@pytest.mark.parametrize(
    ("typed", "field", "offered"),
    [
        (reading(60, 1.311), "voltage", 13.11),
        (reading(60, 130.9), "voltage", 13.09),
        (reading(60, 13090.0), "voltage", 13.09),
        (reading(60, 31.09), "voltage", 13.09),
        (reading(60, 10.39), "voltage", None),
        (reading(60, 10.31), "voltage", 13.01),
        (reading(60, 13.0, 80.0), "current", 8.0),
        (reading(60, 13.0, 8000.0), "current", 8.0),
        (reading(60, 13.0, -8.0), "current", 8.0),
        (reading(60, 13.0, 8.0, 80.0), "counter", 8.0),
        (reading(60, 13.0, 8.0, 2.0), "counter", None),
        (reading(20, 13.0), "time", None),
        (reading(3000, 13.0), "time", None),
    ],
)
def test_slips_of_a_tired_hand(typed: HandReading, field: str, offered: float | None) -> None:
    # handbook 7: a digit lost or transposed, mV for V, mA for A, a counter gone back, a clock gone back
    slips = [slip for slip in check_reading(typed, EARLIER, LFP, 8.0, NOON + timedelta(days=4)) if slip.field == field]
    assert slips
    if offered is not None:
        assert slips[0].offered == pytest.approx(offered, abs=0.25)


def test_good_readings_raise_nothing() -> None:
    later = NOON + timedelta(days=1)
    assert not check_reading(reading(60, 13.05, 8.01, 8.0), EARLIER, LFP, 8.0, later)
    assert not check_reading(reading(30, 13.1, 8.0, 4.0), EARLIER[:1], LFP, 8.0, later), "the second of a counter"
    assert not check_reading(reading(60, 0.4, 0.0), EARLIER, LFP, 8.0, later), "an open protection is no slip"
    assert check_reading(reading(0, 13.3, 8.0, 2.2), [], LFP, 8.0, later)[0].field == "counter"
    down = [reading(0, 13.3, 8.0, 50.0), reading(30, 13.1, 8.0, 46.0)]
    assert not check_reading(reading(60, 13.0, 8.0, 42.0), down, LFP, 8.0, later)
    assert check_reading(reading(60 * 48, 13.0), [], LFP, 8.0, NOON)[0].message == "this time is still to come"


@given(
    st.floats(0, 20000, allow_nan=False), st.floats(-100, 20000, allow_nan=False), st.floats(0, 1000, allow_nan=False)
)
def test_checking_never_breaks_and_never_changes(volts: float, amps: float, counter: float) -> None:
    typed = reading(60, volts, amps, counter)
    for slip in check_reading(typed, EARLIER, LFP, 8.0, NOON + timedelta(days=1)):
        assert slip.message and (slip.offered is None or math.isfinite(slip.offered))
    assert (typed.voltage_V, typed.current_A, typed.counter_Ah) == (volts, amps, counter)


# --- how often ---


def intervals(every_s: float, keep_s: float = 0.0, state: float = 0.05) -> list[tuple[float, float]]:
    """(kept at, interval after it) over a whole test that begins nearly empty."""
    store = Store()
    running = RunLoop(RECIPE, channel(state=state), Journal(store, 1), every_s, keep_every_s=keep_s)
    running.start()
    while not running.tick().ended:
        pass
    running.journal.write(running.state, {})
    at = [row[0] for row in store.rows]
    return list(zip(at, [after - before for before, after in itertools.pairwise(at)], strict=False))


def test_readings_are_quicker_round_switching_and_near_the_end() -> None:
    found = intervals(1.0)
    gaps = [gap for _, gap in found]
    assert gaps[:4] == pytest.approx([0.25] * 4), "the load was just switched on"
    assert max(gaps) == pytest.approx(1.0) and gaps.count(pytest.approx(1.0)) > 300
    cut = next(n for n, (at, _) in enumerate(found) if at > found[-1][0] - 301.0)
    assert gaps[cut - 2] == pytest.approx(0.25), "and near the cut-off"
    assert max(gap for _, gap in intervals(0.1)[:50]) == pytest.approx(0.1), "never slower than usual"
    hourly = [gap for _, gap in intervals(60.0, state=0.2)]
    assert hourly[:4] == pytest.approx([1.0] * 4) and max(hourly) == pytest.approx(60.0)


def test_what_is_kept_seldom_is_watched_and_counted_all_the_same() -> None:
    often, seldom = intervals(1.0), intervals(1.0, keep_s=30.0)
    assert len(seldom) < 0.3 * len(often)
    assert max(gap for _, gap in seldom) == pytest.approx(30.0, abs=1.01)
    assert sum(seldom[-1]) == pytest.approx(sum(often[-1])), "it ends at the same moment"
    cut = often[-1][0] - 305.0
    near = [gap for at, gap in seldom if cut - 25.0 < at < cut]
    assert near and max(near) <= 8.5, "near the end more of them are kept"
