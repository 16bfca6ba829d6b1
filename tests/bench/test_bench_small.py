"""Small things of the bench that a small change to the code would move, each worked out beside it.

Common practice, no published source.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any

import pytest

from wintry_tally.bench.hand import parse_moment
from wintry_tally.bench.interfaces import InstrumentChannel
from wintry_tally.bench.pace import QUICK_READINGS, Pace
from wintry_tally.bench.watch import ReadingWatch
from wintry_tally.bench.zero import LEAST_A, MOST_A, Zero
from wintry_tally.core.engine import Command, Observation, Phase, RunState
from wintry_tally.core.errors import InstrumentError
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits

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
        ("charge", ("taper", 1.0), (14.3, -1.04), 0.0, False), ("charge", ("taper", 1.0), (14.2, -1.02), 0.0, False),
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
