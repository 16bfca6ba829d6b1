"""What stands at the edges of the bench's rules: the reading just within, the reading just beyond.

Common practice, no published source, where nothing else is said; every value is worked out beside its rule.
"""

from __future__ import annotations

import math
import os
import tempfile
import threading
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from random import Random
from types import SimpleNamespace
from typing import Any

import pytest

from tests.bench.benches import Bench as BenchOfStandIns
from tests.bench.benches import hold
from tests.bench.test_bench import Store
from tests.bench.test_bench_small import one_step
from tests.bench.test_guided import Hand
from wintry_tally.bench.drivers.drives import ModbusLoad, Register, Write
from wintry_tally.bench.drivers.modbus import ModbusLink
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.guard.guardian import ProcessGuard
from wintry_tally.bench.journal import Journal
from wintry_tally.bench.proving import Proving, plan_proof
from wintry_tally.bench.simulated import MeterSpec, SimulatedChannel, SimulatedCharger, SimulatedLoad
from wintry_tally.bench.simulation import SimulatedBattery, battery_from, simulate
from wintry_tally.bench.taken import Thing, folder, take
from wintry_tally.bench.watch import ReadingWatch, Witness, _runs
from wintry_tally.bench.zero import Zero
from wintry_tally.core.battery import family_named, pack_of
from wintry_tally.core.cell import BatteryModel, parameters_for
from wintry_tally.core.cell.connected import Connected
from wintry_tally.core.engine import OFF, Command, Observation, Phase, Request, RunState
from wintry_tally.core.engine.proof import Expected
from wintry_tally.core.errors import InputError, InstrumentError
from wintry_tally.core.protocol import EndCause, EndRule
from wintry_tally.core.protocol.preflight import Bench

LFP = family_named("lfp")
NOON = datetime(2026, 11, 30, 12, 0)


# --- the run's thread, its journal, its guard ---


def test_what_was_handed_over_before_the_journal_closed_is_written() -> None:
    store, go_on, first = Store(), threading.Event(), threading.Event()
    append: Callable[..., None] = store.append

    def slow(*what: Any) -> None:
        first.set()
        go_on.wait(30.0)
        append(*what)

    store.append = slow  # type: ignore[method-assign]
    journal = Journal(store, 1, apart=True)
    for at in range(2):
        journal.reading(float(at), Observation(13.0, 1.0))
        journal.write(RunState(), {})
        assert first.wait(30.0)
    journal.close()
    go_on.set()
    assert journal.flush(30.0) and [row[0] for row in store.rows] == [0.0, 1.0]


def test_a_reading_that_the_book_has_not_yet_is_taken_back_from_the_journal() -> None:
    store = Store()
    store.remove_last = lambda _run: pytest.fail("the book has nothing to take back")  # type: ignore[attr-defined]
    journal = Journal(store, 1)
    for at in range(2):
        journal.reading(float(at), Observation(13.0, 1.0))
    journal.take_back()
    assert journal.waiting == 1
    store.full = True
    journal.write(RunState(), {})
    journal.take_back()
    assert journal.waiting == 0, "what the book refused can be taken back, too"


@pytest.mark.parametrize(("left", "kept"), [({}, False), ({"load": "unknown"}, True)])
def test_a_guard_that_switched_everything_off_leaves_no_record(left: dict, kept: bool, tmp_path: Path) -> None:
    guard = ProcessGuard([], 1, "b", "x")
    ends = os.pipe(), os.pipe()
    for pipe in ends:
        os.set_blocking(pipe[0], False)
    guard._process = SimpleNamespace(stdout=os.fdopen(ends[0][0], "rb", 0), stdin=os.fdopen(ends[1][1], "wb", 0), pid=1)  # type: ignore[assignment]
    guard.record = tmp_path / "record.json"
    guard.record.write_text("{}")
    os.write(
        ends[0][1],
        f'no words\n{{"acted": "off", "why": "held up", "left": {str(left).replace(chr(39), chr(34))}}}\n'.encode(),
    )
    news = guard.acted()
    assert news is not None and news.why == "held up" and news.left == left
    assert guard.record.exists() is kept
    told = b"" if kept else b"a\n"
    try:
        assert (os.read(ends[1][0], 10) if told else b"") == told
        with pytest.raises(BlockingIOError):
            os.read(ends[1][0], 10)
    finally:
        for end in (ends[0][1], ends[1][0]):
            os.close(end)
        guard._process.stdout.close()  # type: ignore[union-attr]
        guard._process.stdin.close()  # type: ignore[union-attr]
        guard._process = None


def test_a_run_by_hand_that_is_opened_again_knows_whether_it_was_switched(tmp_path: Path) -> None:
    """Left before its first reading under load, the switch is still to be turned; after it, it was."""
    hand = Hand(tmp_path, "hold")
    while hand.loop.state.phase is not Phase.DISCHARGING:
        hand.reads(hand.now + 3600.0, 13.3)
    begun = hand.now
    again = hand.made(hand.loop.state, begun - 60.0)
    again.start()
    assert again._to_switch
    hand.reads(begun + 60.0, 13.0, 8.0)
    again = hand.made(hand.loop.state, begun + 60.0)
    again.start()
    assert not again._to_switch
    hand.book.close()


# --- ceilings, proofs, zeros ---


def test_a_channel_without_a_load_draws_nothing_and_without_ceilings_any_amount() -> None:
    load, supply = Instrument("l", "load", power_W=180.0), Instrument("s", "charger", current_A=20.0)
    bench = Equipment((load, supply, Instrument("m", "meter")), ())
    drawn = bench.limits(ChannelSpec("a", load="l", voltage="m"))
    assert (drawn.load_W, drawn.load_A, drawn.charger_A, drawn.charger_V) == (180.0, 1e9, 0.0, 0.0)
    charged = bench.limits(ChannelSpec("b", charger="s", voltage="m"))
    assert (charged.load_W, charged.load_A, charged.charger_A, charged.charger_V) == (0.0, 0.0, 20.0, 1e9)


def test_a_load_and_a_charger_give_up_to_their_ceilings_and_what_they_give_of_it() -> None:
    world = Connected(BatteryModel(parameters_for(LFP, 40.0)))
    load, charger = SimulatedLoad(world, 1e9, 20.0, 0.995), SimulatedCharger(world, 20.0, 16.0, 1.005, 0.997)
    load.draw("current", 20.0)
    assert world.setting == pytest.approx(19.9)
    charger.charge(20.0, 14.4)
    assert (world.setting, world.limit_V) == (pytest.approx(20.1), pytest.approx(14.3568))
    for refused in (
        lambda: load.draw("current", 20.1),
        lambda: charger.charge(20.1, 14.4),
        lambda: charger.charge(1.0, 16.1),
    ):
        with pytest.raises(InstrumentError, match="ceiling"):
            refused()
    with pytest.raises(InstrumentError, match="ceiling"):
        SimulatedLoad(world, 180.0, 20.0).draw("current", 15.0)  # about 200 W


def test_a_proof_says_what_it_moved_and_one_that_moved_nothing_does_not() -> None:
    recipe = one_step("discharge", EndRule("time", 600.0, EndCause.TIME))
    channel = SimulatedChannel(parameters_for(LFP, 40.0), MeterSpec(), 3)
    proving = Proving(plan_proof(recipe, Bench(300.0, 30.0), 40.0, Expected(LFP, 0.010, (8.0, 15.0))), channel)
    assert "Ah" not in proving.words
    channel.carry_out(proving.command)
    now = 0.0
    while not proving.done:
        channel.wait(0.25)
        now += 0.25
        command = proving.see(channel.read(), now)
        if command is not None:
            channel.carry_out(command)
    # five readings of half the current, five of all of it (8 A, a quarter of a second each): 15 A s
    assert proving.moved_Ah == pytest.approx(15.0 / 3600.0, rel=0.15)
    assert "Ah" in proving.words


@pytest.mark.parametrize("times", [1.0, 4.0])
@pytest.mark.parametrize(
    ("rests_V", "pulses"),
    [(10.9, ["charge"]), (11.1, ["draw", "charge"]), (14.1, ["draw", "charge"]), (14.2, ["draw"])],
)
def test_an_empty_battery_is_not_drawn_from_and_a_full_one_not_charged(
    rests_V: float, pulses: list[str], times: float
) -> None:
    """LFP: nothing is drawn below 1.1 times the cut-off of 10 V; at 10.9 V it is charged. None is charged at 98.3 % of 14.4 V."""
    family = pack_of(LFP, 12.8 * times)
    steps = [
        one_step(kind, EndRule("time", 600.0, EndCause.TIME), limit_V=14.4 * times).steps[0]
        for kind in ("discharge", "charge")
    ]
    recipe = replace(one_step("discharge", EndRule("time", 600.0, EndCause.TIME)), steps=tuple(steps))
    channel = SimulatedChannel(parameters_for(family, 40.0), MeterSpec(), 3)
    plan = plan_proof(
        recipe, Bench(900.0, 30.0, 30.0, 60.0), 40.0, Expected(family, 0.010 * times, (8.0 * times, 15.0 * times))
    )
    proving = Proving(plan, channel)
    for at in range(4):
        proving.see(Observation(rests_V * times, 0.0), 0.25 * at)
    told = list(dict.fromkeys(stage.doing for stage in proving._stages if stage.doing in {"draw", "charge"}))
    assert told == pulses


@pytest.mark.parametrize(("reads_A", "zero_A"), [(0.0, 0.01), (0.02, 0.025), (0.2, 0.16), (0.03, 0.035)])
def test_a_zero_that_nobody_said_is_what_is_read_at_rest(reads_A: float, zero_A: float) -> None:
    """The mean, twice the spread and 5 mA; 10 mA at the least, and 2 % of 8 A at the most."""
    zero = Zero(None, one_step("discharge", EndRule("time", 600.0, EndCause.TIME)), real=True)
    for _ in range(9):
        assert zero.look(Observation(13.0, -reads_A))
    assert zero.amps == zero.for_rules == pytest.approx(zero_A)


@pytest.mark.parametrize(
    ("field", "value", "says"),
    [
        ("rated_Ah", 0.0, "cannot be"), ("rated_Ah", 1.1e6, "cannot be"), ("rated_Ah", "40", "is not a number"),
        ("cycles", -1.0, "give 0 to"), ("cycles", 1.1e5, "give 0 to"), ("years", 101.0, "give 0 to 100"),
        ("depth", 0.0, "give 0.01 to 1"), ("depth", 1.1, "give 0.01 to 1"), ("protection", 3.0, "is not a table"),
        ("heater", "yes", "is not a table"), ("colour", 1.0, "no part of a battery"), ("nominal_V", True, "not a number"),
        ("state_of_charge", 80.0, "give 0 to 1"), ("health", 0.0, "give 0.01 to 1.5"), ("health", math.nan, "cannot be"),
        ("ambient_C", 500.0, "give -60 to 100"), ("start_C", -400.0, "give -60 to 100"), ("sulphation", 1.1, "give 0 to 1"),
        ("rated_Ah", True, "is not a number"), ("no_protection", 1, "true or false"),
        ("protection", {"low_cut_V": "x"}, "low_cut_V: 'x' is not a number"), ("heater", {"power_W": math.inf}, "cannot be"),
    ],
)  # fmt: skip
def test_a_simulated_battery_that_cannot_be_says_why(field: str, value: object, says: str) -> None:
    usual = {"family": "lfp", "rated_Ah": 40.0, "cycles": 100.0, "years": 2.0, "depth": 0.8, "protection": {}}
    assert battery_from(usual, "b.toml").rated_Ah == 40.0
    with pytest.raises(InputError, match=says):
        battery_from({**usual, field: value}, "b.toml")
    with pytest.raises(InputError, match="not a table"):
        battery_from(3, "b.toml")


@pytest.mark.parametrize("nominal_V", [12.0, 48.0])
def test_a_protection_that_a_family_has_not_is_that_of_its_pack(nominal_V: float) -> None:
    """10 V and 14.8 V of 12 V, four times as much of 48 V; what was said stands as it was said."""
    data = {"family": "agm", "rated_Ah": 40.0, "nominal_V": nominal_V, "protection": {"over_current_A": 90.0}}
    made = battery_from(data, "b.toml").parameters(Random(1)).protection
    assert made is not None and made.over_current_A == 90.0
    assert (made.low_cut_V, made.high_cut_V) == (pytest.approx(nominal_V / 1.2), pytest.approx(14.8 * nominal_V / 12.0))


def test_a_run_taken_up_again_is_looked_at_three_times_first(tmp_path: Path) -> None:
    bench = BenchOfStandIns(tmp_path)
    try:
        loop, _, channel = bench.loop(hold())
        loop.start()
        bench.tick(loop, 5)
        state = loop.state
        channel.carry_out(OFF)
        again, _, _ = bench.loop(hold(), state=state, elapsed_s=loop.elapsed_s)
        again.start()
        phases = [bench.tick(again).state.phase for _ in range(4)]
        assert phases == [Phase.PAUSED, Phase.PAUSED, Phase.DISCHARGING, Phase.DISCHARGING]
    finally:
        bench.stand_ins.stop()


# --- dialects ---


def test_a_load_of_registers_needs_a_way_to_draw() -> None:
    told = {"off": [{"coil": 0, "value": 0}], "is_off": {"coil": 0}}
    assert ModbusLoad(**told, current=[{"register": 1, "value": "setting"}]).ways["current"][0].at == 1
    with pytest.raises(ValueError, match="needs writes for current"):
        ModbusLoad(**told)
    for kind, more in ((Register, {}), (Write, {"value": 1.0})):
        assert [kind(register=number, **more).at for number in (0, 65535)] == [0, 65535]
        for number in (-1, 65536):
            with pytest.raises(ValueError, match="equal to"):
                kind(register=number, **more)


def test_a_bus_that_cannot_be_reached_is_closed_again(monkeypatch: pytest.MonkeyPatch) -> None:
    closed = []

    class Client:
        def __init__(self, *_: object, **__: object) -> None: ...

        def connect(self) -> bool:
            return False

        def close(self) -> None:
            closed.append(self)

    monkeypatch.setattr("pymodbus.client.ModbusTcpClient", Client)
    link = ModbusLink("meter", "127.0.0.1:502", SimpleNamespace(unit_id=1))  # type: ignore[arg-type]
    with pytest.raises(InstrumentError, match="cannot be reached"):
        link._call("read_coils", 0)
    assert closed


# --- more that a small change to the code would move ---


def test_what_is_taken_is_told_by_the_name_of_who_has_it_now(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("WINTRY_TALLY_TAKEN", str(tmp_path / "taken"))
    assert folder() == tmp_path / "taken"
    thing = Thing("battery:b:M1", "battery M1")
    take([thing], "a run with a very long name that leaves much behind it").release()
    held = take([thing], "short")
    with pytest.raises(InputError, match="battery M1 is taken by short"):
        take([thing], "another", patience_s=0.0)
    held.release()
    monkeypatch.delenv("WINTRY_TALLY_TAKEN")
    monkeypatch.setattr(tempfile, "gettempdir", lambda: str(tmp_path))
    assert folder() == tmp_path / "wintry-tally-taken"


def test_a_reading_can_be_taken_back_once_it_was_typed_and_as_long_as_it_moved_nothing(tmp_path: Path) -> None:
    hand = Hand(tmp_path)
    assert not hand.loop.can_take_back
    hand.reads(60.0, 13.3)
    assert hand.loop.can_take_back and hand.loop.state.phase is Phase.RESTING
    hand.loop.ask(Request("take-back"))
    assert not hand.loop.can_take_back
    hand.book.close()


@pytest.mark.parametrize(("reason", "asked"), [("asked", True), ("silent", False)])
def test_a_guard_that_was_asked_to_switch_off_says_so(reason: str, asked: bool) -> None:
    guard, (reads, writes) = ProcessGuard([], 1, "b", "x"), os.pipe()
    os.set_blocking(reads, False)
    guard._process = SimpleNamespace(stdout=os.fdopen(reads, "rb", 0), stdin=None, pid=1)  # type: ignore[assignment]
    os.write(writes, b'{"acted": "off", "reason": "%s", "left": {}}\n' % reason.encode())
    news = guard.acted()
    os.close(writes)
    guard._process.stdout.close()  # type: ignore[union-attr]
    guard._process = None
    assert news is not None and news.asked is asked


@pytest.mark.parametrize(
    ("amps", "settled", "as_set"),
    [
        (8.0, 1, True),
        (7.16, 1, True),
        (7.14, 0, True),
        (5.96, 0, True),
        (5.94, 0, False),
        (10.04, 0, True),
        (10.06, 0, False),
    ],
)
def test_a_current_is_as_it_was_set_within_a_quarter_and_near_it_within_a_tenth(
    amps: float, settled: int, as_set: bool
) -> None:
    """8 A: a quarter and the meter's zero of 0.05 A are 2.05 A, so that 5.95 to 10.05 A are what was set; a tenth, 0.85 A."""
    watch = ReadingWatch(one_step("discharge", EndRule("time", 600.0, EndCause.TIME)), 0.05)
    watch.judge(Observation(13.2, 0.0), Phase.RESTING, 0.0)
    watch.told(Command("draw", "current", 8.0))
    for at in range(3):
        watch._follow(Observation(13.0, 0.0), float(at), watch._recipe.steps[0])
        watch._since += 1
    judged = watch.judge(Observation(13.0, amps), Phase.DISCHARGING, 4.0, Witness({"load": True}, amps))
    assert watch._settled == (settled if as_set else 0) and (not judged.seen.fault) is as_set


def test_what_moves_by_one_digit_at_a_time_does_not_run() -> None:
    assert _runs([13.0 - 0.001 * (3 * n + n // 2) for n in range(12)])
    assert not _runs([13.0 - 0.001 * n - 0.001 * (n % 2) for n in range(12)]) and not _runs([13.0] * 12)


def test_a_simulated_test_has_an_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("wintry_tally.bench.simulation.MOST_READINGS", 20)
    recipe = one_step("discharge", EndRule("time", 600.0, EndCause.TIME))
    assert len(simulate(recipe, SimulatedBattery(LFP, 40.0), 3, 60.0).trace) < 20
    with pytest.raises(InputError, match="longer than three million readings"):
        simulate(recipe, SimulatedBattery(LFP, 40.0), 3, 1.0)
