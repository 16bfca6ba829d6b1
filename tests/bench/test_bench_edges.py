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
from datetime import datetime, timedelta
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
from wintry_tally.bench.hand import HandReading, Slip, check_reading, parse_moment
from wintry_tally.bench.journal import Journal
from wintry_tally.bench.proving import Proving, plan_proof
from wintry_tally.bench.simulated import MeterSpec, SimulatedChannel, SimulatedCharger, SimulatedLoad
from wintry_tally.bench.simulation import SimulatedBattery, battery_from, simulate
from wintry_tally.bench.taken import Thing, folder, take
from wintry_tally.bench.vigil import Body, Vigil
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


# --- hand readings ---


def slips(
    volts: float | None, amps: float | None = None, counter: float | None = None, after: timedelta = timedelta(hours=1),
    last: HandReading | None = None, expected_A: float | None = None, nominal_V: float = 12.8,
) -> list[Slip]:  # fmt: skip
    before = last or HandReading(NOON, 13.0 * nominal_V / 12.8, None, None)
    typed = HandReading(NOON + after, volts, amps, counter)
    return check_reading(typed, [before], pack_of(LFP, nominal_V), expected_A, NOON + timedelta(days=2))


@pytest.mark.parametrize("nominal_V", [12.8, 25.6, 51.2])
@pytest.mark.parametrize(("away_V", "told"), [(1.19, False), (-1.19, False), (1.21, True), (-1.21, True)])
def test_a_voltage_far_from_the_one_before_is_looked_at_again(nominal_V: float, away_V: float, told: bool) -> None:
    """1.2 V of 12.8 V; of a pack of more cells, as much a cell."""
    times = nominal_V / 12.8
    assert bool(slips((13.0 + away_V) * times, nominal_V=nominal_V)) is told


def test_what_is_offered_for_a_voltage_lies_near_the_one_before() -> None:
    """11.30 for 13.10: between 0.4 V below and 0.2 V above 13.0 V, of a pack of 16 cells four times as far."""
    assert slips(11.3)[0].offered == pytest.approx(13.1)
    far = slips(42.0, nominal_V=51.2, last=HandReading(NOON, 52.0, None, None))
    assert far and far[0].offered is not None and 52.0 - 1.6 <= far[0].offered <= 52.0 + 0.8


@pytest.mark.parametrize(
    ("amps", "told", "offered"),
    [
        (8.0 * 1.79, False, None), (8.0 * 1.81, True, None), (8.0 * 0.41, False, None), (8.0 * 0.39, True, None),
        (8.0 * 599, True, None), (8.0 * 601, True, 4.808), (8.0 * 1699, True, 13.592), (8.0 * 1701, True, None),
        (-8.0, True, 8.0), (0.0, False, None), (80.0, True, 8.0),
    ],
)  # fmt: skip
def test_a_current_is_held_against_what_the_load_was_set_to(amps: float, told: bool, offered: float | None) -> None:
    """8 A were set: from 0.4 to 1.8 times it may be read; 600 to 1700 times is a thousand times, in mA."""
    found = slips(13.0, amps, expected_A=8.0)
    assert bool(found) is told
    if offered is not None:
        assert found[0].offered == pytest.approx(offered)


@pytest.mark.parametrize(
    ("after", "words"),
    [
        (timedelta(0), "does not go forward"), (timedelta(seconds=1), ""), (timedelta(hours=20), ""),
        (timedelta(hours=20, minutes=1), "right day"),
    ],
)  # fmt: skip
def test_a_time_too_late_or_too_early_is_looked_at_again(after: timedelta, words: str) -> None:
    found = slips(13.0, after=after)
    assert bool(found) is bool(words) and (
        not words or (words in found[0].message and found[0].may_be is (after > timedelta(0)))
    )


def test_a_time_still_to_come_is_told_past_ten_minutes() -> None:
    for minutes, told in ((10, False), (11, True)):
        typed = HandReading(NOON + timedelta(minutes=minutes), 13.0, None, None)
        assert bool(check_reading(typed, [], LFP, None, NOON)) is told


@pytest.mark.parametrize(
    ("moved_Ah", "told"), [(8.0, False), (6.01, False), (5.99, True), (9.99, False), (10.01, True), (-0.06, True)]
)
def test_a_counter_moves_by_current_times_time(moved_Ah: float, told: bool) -> None:
    """8 A for an hour: 8 Ah, a quarter more or less."""
    before = HandReading(NOON - timedelta(hours=1), 13.0, 8.0, 0.0), HandReading(NOON, 13.0, 8.0, 8.0)
    typed = HandReading(NOON + timedelta(hours=1), 13.0, 8.0, 8.0 + moved_Ah)
    assert bool(check_reading(typed, list(before), LFP, 8.0, NOON + timedelta(days=1))) is told


@pytest.mark.parametrize(("counter", "told"), [(0.0, False), (4.99, True), (5.0, False)])
def test_a_counter_that_does_not_begin_at_nothing(counter: float, told: bool) -> None:
    typed = HandReading(NOON, 13.0, 8.0, counter)
    assert bool(check_reading(typed, [], LFP, 8.0, NOON)) is told


@pytest.mark.parametrize(
    ("text", "second"), [("14:59", 0), ("23:59:59", 59), ("0:59", 0), ("00:00", 0), ("14.05", 0), ("14h05", 0)]
)
def test_the_last_minute_and_second_of_an_hour_are_times(text: str, second: int) -> None:
    assert parse_moment(text, NOON, None).second == second


@pytest.mark.parametrize("text", ["24:00", "12:60", "12:30:60", "1230", "12:5"])
def test_what_no_clock_shows_is_no_time(text: str) -> None:
    with pytest.raises(InputError, match="is not a time"):
        parse_moment(text, NOON, None)


# --- the watch for what no fixed limit tells ---


def led(*ohms: float, amps: float = 8.0, body: Body | None = Body(5000.0, 40.0)) -> list[str]:
    """What the leads' resistances, one a reading, make known; the first eight are the measure."""
    vigil = Vigil(body, 0.05)
    vigil.see(Observation(13.2, 0.0), Phase.RESTING, 0.0, None)
    told = [
        vigil.see(Observation(13.0, amps), Phase.DISCHARGING, float(at), 13.0 - amps * ohm)
        for at, ohm in enumerate(ohms, 1)
    ]
    return [alarm.key for found in told for alarm in found]


def test_leads_are_measured_by_the_middle_of_eight_readings() -> None:
    """5 mΩ, then 13 mΩ is more than 1.5 times and 5 mΩ, 35.1 more than three times and 20; the fifth of eight counts."""
    first = [0.005] * 8
    assert led(*first, *[0.0124] * 8) == [] and "leads" in led(*first, *[0.0126] * 8)
    assert "leads-bad" not in led(*first, *[0.0349] * 8) and "leads-bad" in led(*first, *[0.0351] * 8)
    assert led(*first, *[0.030] * 3) == [] and "leads" in led(*first, *[0.030] * 4), "the fifth of eight in order"
    assert led(*[0.005] * 7, *[0.030] * 3) == [], "there is no first before eight"
    # a current of less than a twentieth of the capacity an hour, or of ten zeros, tells nothing of leads
    assert led(*first, *[0.030] * 8, amps=1.99) == [] and "leads" in led(*first, *[0.030] * 8, amps=2.01)
    assert led(*first, *[0.030] * 8, amps=0.99, body=None) == []
    assert "leads" in led(*first, *[0.030] * 8, amps=1.01, body=None)


@pytest.mark.parametrize(
    ("apart_V", "lead_ohm", "key"),
    [(0.19, 0.004, ""), (0.0, 0.030, ""), (0.30, 0.020, "leads"), (0.0, 0.140, "leads-bad")],
)
def test_two_voltmeters_apart_are_no_worse_leads_where_the_current_tapers(
    apart_V: float, lead_ohm: float, key: str
) -> None:
    """Charged at 20 A through 4 mΩ, then at 2 A: 1.5 % of 14.4 V between the meters may be 97 mΩ more, whatever the leads."""
    vigil = Vigil(Body(5000.0, 40.0), 0.05)
    vigil.see(Observation(13.2, 0.0), Phase.RESTING, 0.0, None)
    told = []
    for at in range(40):
        amps, ohm = (20.0, 0.004) if at < 20 else (2.0, lead_ohm)
        told += vigil.see(Observation(14.4, -amps), Phase.CHARGING, float(at), 14.4 + apart_V + amps * ohm)
    assert list(dict.fromkeys(item.key for item in told)) == ([key] if key else [])


def test_leads_between_two_voltmeters_of_another_gain_are_no_worse_as_the_voltage_rises() -> None:
    """At 2.4 A from 28 to 33.4 V: a gain that is 1 % apart makes 22 mΩ of it; a clamp that works loose by 90 mΩ is told."""
    for more_ohm, told in ((0.0, False), (0.09, True)):
        vigil, found = Vigil(Body(5000.0, 12.0), 0.05), []
        vigil.see(Observation(26.0, 0.0), Phase.RESTING, 0.0, None)
        for at in range(40):
            volts = 28.0 + 5.4 * at / 39
            own = volts + 0.01 * (volts - 28.0) + 2.4 * (0.004 + (more_ohm if at > 20 else 0.0))
            found += vigil.see(Observation(volts, -2.4), Phase.CHARGING, float(at), own)
        assert bool(found) is told, more_ohm


@pytest.mark.parametrize(
    ("rise_K", "hours", "alarm"),
    [
        (8.6, 0.5, ""), (9.1, 0.5, "heat"), (17.2, 0.5, "heat"), (17.7, 0.5, "heat-unexplained"), (9.1, 1.0, ""),
    ],
)  # fmt: skip
def test_a_case_is_as_warm_as_its_current_explains(rise_K: float, hours: float, alarm: str) -> None:
    """8 A through (13.2 − 13.0) V / 8 A is 1.6 W: half an hour into 2000 J/K is 1.44 K, twice that and 5 K and 1 K for the room
    is 8.88 K, three times and 12 K and 1 K is 17.32 K; in an hour 2.88 K, hence 12.76 K and 22.64 K."""
    vigil = Vigil(Body(2000.0, 40.0), 0.05)
    vigil.see(Observation(13.2, 0.0, 20.0), Phase.RESTING, 0.0, None)
    last: list[Any] = []
    for at in range(0, int(3600 * hours) + 1, 10):
        warm = 20.0 if at < 3600 * hours else 20.0 + rise_K
        last = vigil.see(Observation(13.0, 8.0, warm), Phase.DISCHARGING, float(at), None)
    assert [item.key for item in last] == ([alarm] if alarm else [])


@pytest.mark.parametrize("times", [1.0, 4.0])
@pytest.mark.parametrize(
    ("phase", "amps", "volts", "at_s", "key"),
    [
        (Phase.DISCHARGING, 8.0, 13.37, 61.0, "above-rest"), (Phase.DISCHARGING, 8.0, 13.35, 61.0, ""),
        (Phase.DISCHARGING, 8.0, 13.37, 59.0, ""), (Phase.DISCHARGING, 0.05, 13.37, 61.0, ""),
        (Phase.CHARGING, -8.0, 13.03, 61.0, "below-rest"), (Phase.CHARGING, -8.0, 13.05, 61.0, ""),
    ],
)  # fmt: skip
def test_a_voltage_goes_down_under_load_and_up_on_charge(
    phase: Phase, amps: float, volts: float, at_s: float, key: str, times: float
) -> None:
    """Rested at 13.2 V; 1.2 % away from it the other way round, after a minute."""
    vigil = Vigil(None, 0.05)
    vigil.see(Observation(13.2 * times, 0.0), Phase.RESTING, 0.0, None)
    vigil.see(Observation(13.2 * times, amps), phase, 0.0, None)
    assert [item.key for item in vigil.see(Observation(volts * times, amps), phase, at_s, None)] == (
        [key] if key else []
    )


def test_a_battery_gone_from_its_leads_at_rest_is_told_and_what_it_rested_at_is_kept() -> None:
    """A tenth of what it rested at in this very rest; a pack that opened under load begins its rest with nothing."""
    vigil = Vigil(Body(5000.0, 40.0), 0.02)

    def told(volts: float, phase: Phase, at_s: float) -> list[str]:
        return [
            item.key
            for item in vigil.see(Observation(volts, 8.0 if phase is Phase.DISCHARGING else 0.0), phase, at_s, None)
        ]

    assert [told(volts, Phase.RESTING, 10.0 * n) for n, volts in enumerate([13.2, 13.2, 1.33, 1.31])] == [
        [],
        [],
        [],
        [],
    ]
    for volts, gone in ((13.2, False), (1.31, True), (0.0, True), (13.2, False)):
        assert (told(volts, Phase.RESTING, 100.0) == ["gone-at-rest"]) is gone
    assert told(12.9, Phase.DISCHARGING, 110.0) == []
    assert [told(volts, Phase.RESTING, 200.0 + n) for n, volts in enumerate([0.35, 0.36, 12.0])] == [[], [], []]
    # what it rested at stays what a load is held against
    vigil.see(Observation(0.0, 0.0), Phase.RESTING, 300.0, None)
    assert vigil._rest_V == 12.0


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
