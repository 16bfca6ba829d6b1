"""More of the bench that a small change to the code would move, each worked out beside it.

Common practice, no published source.
"""

from __future__ import annotations

import contextlib
import math
import os
import signal
import socket
import threading
import time
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from statistics import NormalDist
from types import SimpleNamespace

import numpy as np
import pytest

from tests.bench.live import LiveBench
from tests.bench.test_bench import Store
from tests.bench.test_bench_small import STOPS, one_step
from tests.bench.test_guided import BEGUN, Hand
from wintry_tally.bench.bounded import Hand as Line
from wintry_tally.bench.connect import BenchChannel, JoinedMeter, _limit
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.guard import guardian
from wintry_tally.bench.guard.guardian import NoGuard, ProcessGuard
from wintry_tally.bench.hand import HandReading, _counter
from wintry_tally.bench.journal import Journal
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.off_watch import OffWatch
from wintry_tally.bench.offplan import OffPlan
from wintry_tally.bench.simulated import MeterSpec, SimulatedChannel
from wintry_tally.bench.simulation import SimulatedBattery, simulate
from wintry_tally.bench.watch import _Still
from wintry_tally.bench.worker import RunWorker
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.engine import Phase, Request
from wintry_tally.core.errors import InstrumentError
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step

LFP = family_named("lfp")
TEN_MINUTES = EndRule("time", 600.0, EndCause.TIME)


def test_a_guard_that_does_not_answer_is_ended_and_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    silent = tmp_path / "silent.py"
    silent.write_text("import time; time.sleep(20)\n")
    monkeypatch.setattr(guardian, "SCRIPT", silent)
    monkeypatch.setattr(guardian, "START_S", 0.3)
    guard, begun = ProcessGuard([], 1, "b", "x"), time.monotonic()
    with pytest.raises(InstrumentError, match="does not answer"):
        guard.begin()
    assert time.monotonic() - begun < 10.0 and guard.pid == 0 and not guard.lives


def test_a_guard_that_is_let_go_of_has_ended_and_leaves_no_record(own_places: Path) -> None:
    guard = ProcessGuard([], 1, "b", "x")
    guard.begin()
    number, record = guard.pid, guard.record
    assert guard.lives and record is not None
    guard.release()
    assert guard.pid == 0 and not guard.lives and not record.exists() and not Path(f"/proc/{number}").exists()
    assert guard.acted() is None  # of nobody


def test_a_guard_that_shouts_stops_where_the_program_says_that_it_is_over(own_places: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]  # from here on nobody answers there
    guard = ProcessGuard([OffPlan("load", "the load's lead", "127.0.0.1", port)], 1, "b", "x")
    guard.begin()
    number, until = guard.pid, time.monotonic() + 20.0
    guard.switch_off()
    while (news := guard.acted()) is None and time.monotonic() < until:
        time.sleep(0.05)
    assert news is not None and list(news.left) == ["load"]
    guard.release()
    try:
        while Path(f"/proc/{number}").exists() and time.monotonic() < until:
            time.sleep(0.05)
        assert not Path(f"/proc/{number}").exists()
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.kill(number, signal.SIGKILL)


def test_a_guard_shouts_to_the_terminal_there_is(monkeypatch: pytest.MonkeyPatch) -> None:
    for terminal, is_one, to in ((7, False, 7), (None, True, 2), (None, False, guardian.subprocess.DEVNULL)):
        monkeypatch.setattr(os, "isatty", lambda number, is_one=is_one: number == 2 and is_one)
        assert ProcessGuard([], 1, "b", "x", terminal=terminal)._shouts_to() == to


def test_a_guard_looks_at_another_meter_s_current(tmp_path: Path, own_places: Path) -> None:
    bench = LiveBench(tmp_path)
    channel = BenchChannel(bench.equipment, bench.equipment.channel("one"))
    try:
        plan = channel.off_plans()[0]
        assert plan.asks is not None and plan.meter is None  # one that says itself whether it is off
        plan = channel._seen_by(replace(plan, asks=None))
        assert plan.meter is not None and plan.meter.name == "meter" and plan.zero_A > 0.0
        assert plan.current is not None and b"CURR" in plan.current.send.upper()
    finally:
        channel.close()
        bench.stop()


class Told(NoGuard):
    """Notes what it was told."""

    def __init__(self) -> None:
        self.words: list[str] = []

    def release(self) -> None:
        self.words.append("release")

    def switch_off(self) -> None:
        self.words.append("off")

    def leave(self) -> None:
        self.words.append("leave")


@pytest.mark.parametrize(("off", "words"), [(True, ["release"]), (False, ["off", "leave"])])
def test_a_guard_goes_on_where_something_is_not_seen_to_be_off(off: bool, words: list[str]) -> None:
    bench = SimulatedChannel(parameters_for(LFP, 40.0), MeterSpec(), 7)
    guard = Told()
    run = RunLoop(one_step("discharge", TEN_MINUTES), bench, Journal(Store(), 1), guard=guard)  # type: ignore[arg-type]
    assert run.snapshot().proving == ""  # nothing is proved, ready as it is
    assert run.park()  # of what is simulated nothing stays on
    bench.goes_on_alone, run._off = True, SimpleNamespace(seen_off=off, told=lambda *_: None)  # type: ignore[assignment]
    assert run.park() is off
    bench.close = lambda: guard.words.append("closed")  # type: ignore[method-assign]
    assert run.let_go() is off and guard.words == ["closed", *words]


@pytest.mark.parametrize(
    ("counted", "value", "slips"),
    [
        ([40.0], 39.2, False),  # a counter that counts down, and one that counts up
        ([40.0], 40.8, False), ([0.0, 0.8], 1.6, False), ([40.0, 39.2], 38.4, False),
        ([0.8, 1.6], 0.8, True), ([40.0, 39.2], 40.0, True), ([40.0], 41.6, True),
    ],
)  # fmt: skip
def test_a_counter_goes_one_way(counted: list[float], value: float, slips: bool) -> None:
    """8 A move 0.8 Ah in six minutes."""
    six = timedelta(minutes=6)
    rows = [HandReading(BEGUN + n * six, 13.0, 8.0, counter_Ah=held) for n, held in enumerate(counted)]
    assert bool(_counter(HandReading(BEGUN + len(rows) * six, 13.0, 8.0, counter_Ah=value), rows, 8.0)) is slips


@pytest.mark.parametrize(("value", "back"), [(1.5, True), (1.56, False)])
def test_a_counter_that_goes_back_by_more_than_its_digits_is_told(value: float, back: bool) -> None:
    rows = [HandReading(BEGUN + timedelta(minutes=n), 13.0, None, held) for n, held in enumerate((0.0, 1.6))]
    told = _counter(HandReading(BEGUN + timedelta(minutes=2), 13.0, None, value), rows, None)
    assert [f"back to {value:g} Ah" in str(slip) for slip in told] == ([True] if back else [])


def test_a_rest_that_ends_by_its_time_wants_no_reading_and_a_discharge_to_a_voltage_is_never_over(
    tmp_path: Path,
) -> None:
    hand = Hand(tmp_path)
    assert hand.loop.state.phase is Phase.RESTING and hand.loop.due_in_s is None
    hand.loop.ask(Request("skip"))
    hand.reads(100.0, 13.1, 8.0)
    assert hand.loop.state.phase is Phase.DISCHARGING
    hand.waits(1000.0)
    assert "time of this step is over" not in hand.loop.asks
    hand.book.close()


def test_what_was_true_of_a_simulated_meter_is_told_by_its_names() -> None:
    battery = SimulatedBattery(LFP, 40.0)
    recipe = one_step("discharge", EndRule("time", 1800.0, EndCause.TIME))
    found = simulate(recipe, battery, 3, 10.0, MeterSpec(voltage_accuracy="0.5%+20d", current_accuracy="1%+20d"))
    meter, truth = found.truth["meter"], found.truth
    assert len(set(meter.values())) == 4
    volts = float(found.trace.voltage_V.mean())
    assert truth["drawn_Wh"] / truth["drawn_Ah"] * meter["gain_V"] + meter["offset_V"] == pytest.approx(volts, abs=0.02)
    amps = float(found.trace.current[1:].mean())
    assert 2.0 * truth["drawn_Ah"] * meter["gain_A"] + meter["offset_A"] == pytest.approx(amps, rel=0.01)


def test_what_a_trickle_truly_drew_counts() -> None:
    step = Step("discharge", "it", "current", 0.5, (EndRule("time", 3600.0, EndCause.TIME),))
    truth = simulate(Recipe("r", "R", 1, (step,), STOPS), SimulatedBattery(LFP, 40.0), 3, 10.0).truth
    assert truth["drawn_Ah"] == pytest.approx(0.5, rel=0.01) and truth["put_in_Ah"] == 0.0


def test_of_instruments_that_are_named_those_are_unplugged() -> None:
    plugs = {"load": "the load's lead", "supply": "the charger's lead", "beside": "the load's lead"}
    watch = OffWatch(0.05, 0.01, True, plugs)
    for names, told in ((["supply"], ("the charger's lead",)), (["load", "beside"], ("the load's lead",))):
        assert watch._pull(names).parts["plugs"] == told
    assert (
        watch._pull(["a thermometer"]).parts["plugs"]
        == watch._pull().parts["plugs"]
        == ("the load's lead", "the charger's lead")
    )


def test_a_line_is_closed_by_the_thread_that_speaks_on_it() -> None:
    closed: list[str] = []
    driver = SimpleNamespace(close=lambda: closed.append(threading.current_thread().name))
    line = Line("meter", driver)
    assert line.call(lambda: 4, 5.0) == 4
    line.close()
    assert closed == ["hand meter"] and line.closed
    idle = Line("other", driver)
    idle.close()
    assert closed == ["hand meter", "closing"]


def test_all_off_ends_the_run_with_its_reason() -> None:
    store = Store()
    bench = SimulatedChannel(parameters_for(LFP, 40.0), MeterSpec(), 7)
    worker = RunWorker(RunLoop(one_step("discharge", TEN_MINUTES), bench, Journal(store, 1)))  # type: ignore[arg-type]
    worker.start()
    until = time.monotonic() + 30.0
    while worker.latest.state.phase is not Phase.DISCHARGING and time.monotonic() < until:
        time.sleep(0.02)
    worker.make_safe()
    assert bench.read().current_A < 0.1
    while not worker.latest.ended and time.monotonic() < until:
        time.sleep(0.02)
    worker.stop_thread()
    assert worker.latest.ended and any("all off was called for" in event.message for event in store.events)


def test_of_a_guard_that_is_refused_no_pipe_stays_open(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(guardian, "SCRIPT", tmp_path / "nothing.py")
    before = len(list(Path("/proc/self/fd").iterdir()))
    for _ in range(3):
        with pytest.raises(InstrumentError):
            ProcessGuard([], 1, "b", "x").begin()
    assert len(list(Path("/proc/self/fd").iterdir())) <= before


def test_how_far_a_channel_s_current_may_read_from_zero() -> None:
    meter = Instrument("m", "meter", current_accuracy="2%+2d", current_resolution=0.01, voltage_resolution=0.001)
    bare = replace(meter, name="bare", current_accuracy="")
    for channel, zero_A in ((ChannelSpec("c", voltage="m"), 0.03), (ChannelSpec("c", voltage="bare"), None)):
        joined = JoinedMeter(Equipment((meter, bare), (channel,)), channel, {}, {})
        assert joined.zero_A() == (None if zero_A is None else pytest.approx(zero_A)), channel
    # two in a hundred of 8 A and two digits; a percent and a digit where nothing is said
    assert _limit(meter, "current", 8.0) == pytest.approx(0.18)
    assert _limit(bare, "current", -8.0) == pytest.approx(0.09)
    assert _limit(meter, "voltage", 13.0) == pytest.approx(0.131)


def test_how_unlikely_it_is_that_a_living_meter_shows_the_same() -> None:
    """None of 42 readings was as the one before, then 199 are. By its own history alone that is (1/44)¹⁹⁹ (the rule of
    succession, Laplace, from memory); but the noise that its steps show falls into one digit far more often."""
    still = _Still()
    for at in range(41):
        still.follow(13.0 + 0.001 * (0, 3, 1, 5, 2, 6, 4)[at % 7], float(at))
    assert still.lively and still.log_chance(41.0) == 0.0
    for at in range(41, 41 + 200):
        still.follow(13.001, float(at))
    steps = np.clip(np.diff([0, 3, 1, 5, 2, 6, 4] * 5 + [0, 3, 1, 5, 2, 6, 1]), -4, 4)
    noise = np.sqrt(-np.mean(steps[1:] * steps[:-1]) - 1 / 12)
    within = 2.0 * NormalDist().cdf(0.5 / noise) - 1.0
    assert still.log_chance(300.0) == pytest.approx(199 * math.log(within), rel=0.05) and within > 1 / 44


def test_what_is_switched_on_again_while_a_guard_holds_it_off_is_switched_off_again(
    tmp_path: Path, own_places: Path
) -> None:
    bench = LiveBench(tmp_path)
    channel = BenchChannel(bench.equipment, bench.equipment.channel("one"))
    guard = ProcessGuard(channel.off_plans(), 1, str(bench.path), "x")
    guard.begin()
    try:
        guard.switch_off()
        for _ in range(2):
            bench.until(lambda: not bench.flows)
            time.sleep(0.3)
            bench.world.draw("current", 5.0)  # by hand, at the load
            bench.world.advance(0.1)
            assert bench.flows
        bench.until(lambda: not bench.flows)
    finally:
        guard.release()
        channel.close()
        bench.stop()
