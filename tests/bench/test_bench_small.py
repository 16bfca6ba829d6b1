"""Small things of the bench that a small change to the code would move, each worked out beside it.

Common practice, no published source.
"""

from __future__ import annotations

import math
import threading
from dataclasses import replace
from datetime import datetime
from types import SimpleNamespace
from typing import Any

import pytest

from tests.bench.test_bench import Store
from wintry_tally.bench.bounded import Hand
from wintry_tally.bench.guard.guardian import Acted, NoGuard
from wintry_tally.bench.hand import parse_moment
from wintry_tally.bench.interfaces import InstrumentChannel
from wintry_tally.bench.journal import Journal
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.pace import QUICK_READINGS, Pace
from wintry_tally.bench.proving import Proving, plan_proof
from wintry_tally.bench.simulated import STAND_IN_METER, Connected, MeterSpec, SimulatedChannel, SimulatedCharger
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.bench.watch import ReadingWatch
from wintry_tally.bench.zero import LEAST_A, MOST_A, Zero
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import BatteryModel, parameters_for
from wintry_tally.core.engine import Command, Observation, Phase, Request, RunState
from wintry_tally.core.engine.proof import Expected
from wintry_tally.core.errors import InstrumentError, StuckError
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits
from wintry_tally.core.protocol.preflight import Bench

STOPS = StopLimits(8.0, 15.0, 25.0, 400.0, -20.0, 60.0, charge_high_A=25.0)


def one_step(kind: str, *ends: EndRule, mode: str = "current", **more: Any) -> Recipe:
    return Recipe("r", "R", 1, (Step(kind, "it", mode, 8.0, ends, **more),), STOPS)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("text", "hour"),
    [("12:30 am", 0), ("1:30 am", 1), ("11:30am", 11), ("12:30 pm", 12), ("1.30pm", 13), ("13:30", 13)],
)
def test_midnight_and_noon_of_a_clock_of_twelve(text: str, hour: int) -> None:
    # ISO 8601 has no such clock; NIST: 12 am is midnight, 12 pm noon (from memory)
    found = parse_moment(text, datetime(2026, 11, 29, 23, 50), datetime(2026, 11, 29, 0, 0))
    assert (found.day, found.hour, found.minute) == (29, hour, 30)


@pytest.mark.parametrize(
    ("kind", "rule", "seen", "now_s", "quick"),
    [
        ("discharge", ("voltage", 10.0), (10.13, 8.0), 0.0, False), ("discharge", ("voltage", 10.0), (10.11, 8.0), 0.0, True),
        ("discharge", ("voltage", 10.0), (10.11, 0.0), 0.0, False), ("discharge", ("time", 600.0), (13.0, 8.0), 596.0, False),
        ("discharge", ("time", 600.0), (13.0, 8.0), 598.0, True), ("charge", ("taper", 1.0), (14.3, -1.02), 0.0, True),
        ("charge", ("taper", 1.0), (14.3, -1.04), 0.0, False), ("charge", ("taper", 1.0), (14.18, -1.02), 0.0, False),
    ],
)  # fmt: skip
def test_readings_follow_quickly_near_an_end(
    kind: str, rule: tuple[str, float], seen: tuple[float, float], now_s: float, quick: bool
) -> None:
    recipe = one_step(kind, EndRule(*rule, EndCause.TIME), limit_V=14.4)
    pace = Pace(recipe, 8.0)
    state = RunState(phase=Phase.DISCHARGING if kind == "discharge" else Phase.CHARGING)
    assert pace.next_s(state, Observation(*seen), now_s) == (2.0 if quick else 8.0)
    assert pace.next_s(RunState(phase=Phase.RESTING), Observation(*seen), now_s) == 8.0, "nothing flows"
    pace.switched()
    for _ in range(QUICK_READINGS):
        assert pace.next_s(state, Observation(*seen), now_s) == 1.0
        pace.taken()
    assert not pace.quick


def test_a_zero_is_learned_where_nobody_says_it_and_the_bench_is_real() -> None:
    recipe = one_step("discharge")
    for specified, real in ((0.02, True), (None, False), (0.02, False)):
        zero = Zero(specified, recipe, real=real)
        before = (zero.amps, zero.for_rules)
        assert not zero.look(Observation(13.0, 0.03)) and (zero.amps, zero.for_rules) == before
    zero = Zero(None, recipe, real=True)
    assert zero.for_rules == 0.0 and zero.look(Observation(13.0, 0.03))
    assert zero.amps == zero.for_rules == pytest.approx(0.035)
    assert zero.look(Observation(13.0, 0.01)) and zero.amps == pytest.approx(0.02 + 2 * 0.02 + 0.005)
    quiet, loud = Zero(None, recipe, real=True), Zero(None, recipe, real=True)
    quiet.look(Observation(13.0, 0.0))
    loud.look(Observation(13.0, 3.0))
    assert quiet.amps == LEAST_A and loud.amps == max(MOST_A, 0.02 * 8.0), "more is a current"


@pytest.mark.parametrize(
    ("mode", "setting", "amps", "works"),
    [("power", 100.0, 8.0, True), ("power", 100.0, 3.0, False), ("resistance", 1.5, 8.3, True), ("resistance", 1.5, 3.0, False)],
)  # fmt: skip
def test_what_should_flow_at_constant_power_and_through_a_resistor(
    mode: str, setting: float, amps: float, works: bool
) -> None:
    # 100 W at 12.5 V: 8 A; 12.5 V through 1.5 Ω: 8.3 A
    watch = ReadingWatch(one_step("discharge", mode=mode))
    watch.told(Command("draw", mode, setting))
    watch.told(Command("ask"))  # a person is asked for something meanwhile
    faults = [watch.judge(Observation(12.5, amps), Phase.DISCHARGING).seen.fault for _ in range(8)]
    assert (not any(faults)) is works, faults


class Driver:
    """Keeps what it was told."""

    def __init__(self) -> None:
        self.told: list[tuple[Any, ...]] = []

    def off(self) -> None:
        self.told.append(("off",))

    def draw(self, mode: str, setting: float) -> None:
        self.told.append(("draw", mode, setting))

    def charge(self, amps: float, limit_V: float) -> None:
        self.told.append(("charge", amps, limit_V))


class Apart(InstrumentChannel):
    """One for which no time passes."""

    def wait(self, seconds: float) -> float:
        return seconds


def test_one_is_off_before_the_other_goes_on_and_hands_need_no_load() -> None:
    load, charger = Driver(), Driver()
    both = Apart(load, None, charger)  # type: ignore[arg-type]
    both.carry_out(Command("draw", "hand", 8.0))
    assert load.told == [("draw", "hand", 8.0)] and charger.told == [("off",)], "a load that is there is told"
    both.carry_out(Command("charge", "charge", 5.0, 14.4))
    assert load.told[-1] == ("off",) and charger.told[-1] == ("charge", 5.0, 14.4)
    alone = Apart(None, None, charger)  # type: ignore[arg-type]
    alone.carry_out(Command("draw", "hand", 8.0))
    assert charger.told[-1] == ("off",)
    with pytest.raises(InstrumentError, match="no load"):
        alone.carry_out(Command("draw", "current", 8.0))


@pytest.mark.parametrize(
    ("rated", "bench", "most", "draw"),
    [
        (100.0, Bench(300.0, 30.0), 25.0, 8.0),  # what the run itself draws
        (10.0, Bench(300.0, 30.0), 25.0, 4.0),  # 0.4 C
        (100.0, Bench(300.0, 5.0), 25.0, 4.5),  # nine tenths of the load's amperes,
        (100.0, Bench(75.0, 30.0), 25.0, 4.5),  # of its watts at the most volts,
        (100.0, Bench(300.0, 30.0), 6.0, 5.4),  # and of what ends the run
        (100.0, Bench(0.0, 30.0), 25.0, 0.0),
    ],
)
def test_a_pulse_stays_within_every_ceiling(rated: float, bench: Bench, most: float, draw: float) -> None:
    known = Expected(family_named("lfp"), 0.010, (8.0, 15.0))
    recipe = one_step("discharge", EndRule("voltage", 10.0, EndCause.SET_CUTOFF))
    recipe = replace(recipe, stops=replace(STOPS, current_high_A=most))
    made = plan_proof(recipe, replace(bench, charger_A=20.0, charger_V=16.0), rated, known)
    assert (made.draw_A, made.charge_A) == (pytest.approx(draw), 0.0), "nothing is charged where no step does"
    by_hand = replace(recipe.steps[0], mode="hand", setting=20.0)
    gentle = replace(recipe, steps=(replace(recipe.steps[0], setting=3.0), by_hand))
    assert plan_proof(gentle, bench, 100.0, known).draw_A == pytest.approx(min(3.0, plan_proof(recipe, bench, 100.0, known).draw_A))  # fmt: skip
    charge = one_step("charge", EndRule("taper", 1.0, EndCause.TAPER), limit_V=14.4)
    plan = plan_proof(charge, Bench(0.0, 0.0, 6.0, 16.0), rated, known)
    assert plan.charge_A == pytest.approx(min(8.0, 0.2 * rated, 5.4)) and plan.limit_V == 14.4 and plan.draw_A == 0.0


def test_a_book_that_takes_nothing_is_told_at_the_end_and_the_readings_kept() -> None:
    store = Store()
    journal = Journal(store, 1)  # type: ignore[arg-type]
    assert journal.flush(1.0), "nothing is waiting"
    store.full = True
    journal.reading(1.0, Observation(12.8, 8.0))
    journal.write(RunState(), {})
    assert not journal.flush(1.0) and journal.problem and not store.rows
    store.full = False
    assert journal.flush(1.0) and [row[0] for row in store.rows] == [1.0] and journal.flush(1.0)


def test_an_instrument_is_asked_by_one_thread_until_it_is_stuck() -> None:
    hand, seen = Hand("asked by one", None), list[int]()
    for _ in range(3):
        seen.append(hand.call(threading.get_ident, 1.0))
    assert len(set(seen)) == 1 and threading.get_ident() not in seen
    assert sum(thread.name == "hand asked by one" for thread in threading.enumerate()) == 1
    stuck = threading.Event()
    with pytest.raises(StuckError):
        hand.call(stuck.wait, 0.15)
    assert hand.call(threading.get_ident, 1.0) not in {*seen, threading.get_ident()}
    stuck.set()
    hand.close()
    with pytest.raises(InstrumentError, match="let go of"):
        hand.call(threading.get_ident, 1.0)


class ActsOnce(NoGuard):
    """A guard that has switched everything off by itself."""

    news: Acted | None = None

    def acted(self) -> Acted | None:
        news, self.news = self.news, None
        return news


@pytest.mark.parametrize("asked", [False, True])
def test_a_run_whose_guard_has_acted_is_paused_and_says_where_it_stood_still(asked: bool) -> None:
    guard, store = ActsOnce(), Store()
    recipe = one_step("discharge", EndRule("time", 600.0, EndCause.TIME))
    bench = SimulatedChannel(parameters_for(family_named("lfp"), 40.0), MeterSpec(), 7)
    run = RunLoop(recipe, bench, Journal(store, 1), guard=guard)  # type: ignore[arg-type]
    run.start()
    assert run.tick().state.phase is Phase.DISCHARGING
    guard.news = Acted("the program has stood still for 3 s", {}, asked)
    assert run.tick().state.phase is Phase.PAUSED
    assert bool(run.stood_still) is not asked and "guard" in {event.kind for event in store.events}


def test_three_readings_in_a_row_have_to_fail_before_a_proof_is_given_up() -> None:
    recipe = one_step("discharge", EndRule("time", 600.0, EndCause.TIME))
    bench = SimulatedChannel(parameters_for(family_named("lfp"), 40.0), MeterSpec(), 7)
    plan = plan_proof(recipe, Bench(300.0, 30.0), 40.0, Expected(family_named("lfp"), 0.010, (8.0, 15.0)))
    run = RunLoop(recipe, bench, Journal(Store(), 1), proving=Proving(plan, bench))  # type: ignore[arg-type]
    good, bad = bench.read, lambda: Observation(math.nan, math.nan, fault="no answer")
    run.start()
    for turn in "-+--+--":  # never three of them together
        bench.read = bad if turn == "-" else good  # type: ignore[method-assign]
        assert run.tick().state.phase is Phase.READY
    assert run.tick().state.phase is Phase.ENDED


def test_a_load_that_other_hands_turn_down_draws_a_fifth() -> None:
    world = StandInWorld(parameters_for(family_named("lfp"), 40.0), STAND_IN_METER, power_W=300.0, current_A=30.0)
    world.draw("current", 10.0)
    world.fault("load", "other-hands")
    world.advance(1.0)
    assert world.true_current_A == pytest.approx(2.0, abs=0.05)


def test_a_warning_is_told_once_in_its_step() -> None:
    class Alarmed:
        def see(self, *_seen: Any) -> list[Any]:
            return [SimpleNamespace(key="cell-low", words="one cell is low", stop=False)]

    store = Store()
    bench = SimulatedChannel(parameters_for(family_named("lfp"), 40.0), MeterSpec(), 7)
    recipe = one_step("discharge", EndRule("time", 600.0, EndCause.TIME))
    run = RunLoop(recipe, bench, Journal(store, 1), vigil=Alarmed())  # type: ignore[arg-type]
    run.start()
    for _ in range(5):
        run.tick()
    run.ask(Request("stop"))
    assert [event.message for event in store.events if event.kind == "warning"] == ["one cell is low"]


@pytest.mark.parametrize(("amps", "limit_V", "gives"), [(50.0, 14.4, True), (50.1, 14.4, False), (10.0, 16.1, False)])
def test_a_charger_refuses_what_is_above_its_ceilings_and_is_off_after(
    amps: float, limit_V: float, gives: bool
) -> None:
    world = Connected(BatteryModel(parameters_for(family_named("lfp"), 40.0), 0.5))
    charger = SimulatedCharger(world)
    charger.charge(5.0, 14.4)
    if gives:
        charger.charge(amps, limit_V)
        assert world.mode == "charge"
        charger.off()
    else:
        with pytest.raises(InstrumentError, match="ceiling is 50 A and 16 V"):
            charger.charge(amps, limit_V)
    assert world.mode == ""
