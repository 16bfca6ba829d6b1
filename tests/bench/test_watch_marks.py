"""The marks of what watches over readings: each on both sides, worked out beside its rule.

Common practice, no published source, where nothing else is said.
"""

from __future__ import annotations

import math
from dataclasses import replace
from statistics import NormalDist

import pytest

from wintry_tally.bench.watch import (
    FLICKER,
    SETTLING,
    ReadingWatch,
    Witness,
    _flickers,
    _flickers_on_its_way,
    _runs,
    _Still,
)
from wintry_tally.core.engine import Command, Observation, Phase
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits

STOPS = StopLimits(8.0, 15.0, 25.0, 400.0, -20.0, 60.0, charge_high_A=25.0)
RECIPE = Recipe("r", "R", 1, (Step("discharge", "d", "current", 8.0, (EndRule("voltage", 10.0, EndCause.SET_CUTOFF, 2),)),), STOPS)  # fmt: skip
DRAW, CHARGE, REST = Command("draw", "current", 8.0), Command("charge", "charge", 8.0, 14.4), Command("off")
LIVE = {"draw": Phase.DISCHARGING, "charge": Phase.CHARGING}


def told(
    command: Command, *readings: tuple[float, float], witness: Witness | None = None, zero_A: float = 0.02, part: Step | None = None,
    settled: int = 0,
) -> list[str]:  # fmt: skip
    """What is said of each reading, V and A, after `settled` readings as they were set."""
    recipe = RECIPE if part is None else replace(RECIPE, steps=(part,))
    watch = ReadingWatch(recipe, zero_A)
    watch.told(command)
    way = 1.0 if command.kind == "draw" else -1.0
    for _ in range(settled):
        watch.judge(Observation(13.0, way * command.setting), LIVE[command.kind], witness=witness)
    found = []
    for at, (volts, amps) in enumerate(readings):
        judged = watch.judge(Observation(volts, amps), LIVE[command.kind], float(at), witness)
        found.append(judged.seen.fault or judged.cut_off or judged.disturbed or judged.warning)
    return found


def test_three_readings_after_a_command_are_given_to_it() -> None:
    assert SETTLING == 3
    found = told(DRAW, *[(13.0, -8.0)] * 5)
    assert [bool(one) for one in found] == [False, False, False, True, True]
    watch = ReadingWatch(RECIPE, 0.02)
    for _ in range(3):  # nor before anything was told
        assert not watch.judge(Observation(13.0, -8.0), Phase.DISCHARGING).seen.fault


@pytest.mark.parametrize(
    ("seen", "says"),
    [
        (Observation(999.0, 8.0), ""), (Observation(1001.0, 8.0), "cannot be"), (Observation(-1.99, 8.0), ""),
        (Observation(-2.01, 8.0), "cannot be"), (Observation(13.0, 109.0), ""), (Observation(13.0, 111.0), "flow"),
        (Observation(13.0, -109.0), ""), (Observation(13.0, -111.0), "flow"), (Observation(13.0, 8.0, 299.0), ""),
        (Observation(13.0, 8.0, 301.0), "thermometer"), (Observation(13.0, 8.0, -89.0), ""),
        (Observation(13.0, 8.0, -91.0), "thermometer"),
    ],
)  # fmt: skip
def test_what_cannot_be_begins_here(seen: Observation, says: str) -> None:
    """1,000 V, 2 V below nothing, four times the stop limit of 25 A and 10 A, −90 and 300 °C."""
    watch = ReadingWatch(RECIPE, 0.02)
    fault = watch.judge(seen, Phase.DISCHARGING).seen.fault
    assert says in fault if says else not fault
    endless = ReadingWatch(replace(RECIPE, stops=replace(STOPS, current_high_A=20.0, charge_high_A=math.inf)), 0.02)
    for amps, odd in ((89.0, False), (91.0, True)):
        assert bool(endless.judge(Observation(13.0, amps), Phase.DISCHARGING).seen.fault) is odd


@pytest.mark.parametrize(
    ("command", "volts", "right_A", "wrong_A"),
    [
        (Command("draw", "power", 100.0), 12.5, 8.0, 5.9), (Command("draw", "power", 2.0), 1.25, 1.6, 1.1),
        (Command("draw", "resistance", 0.5), 12.5, 25.0, 18.0), (Command("draw", "resistance", 2.5), 12.5, 5.0, 3.6),
        (Command("draw", "current", 0.8), 12.5, 0.8, 0.5), (Command("charge", "charge", 0.8, 14.4), 13.0, -0.8, -0.5),
    ],
)  # fmt: skip
def test_what_should_flow_follows_from_the_setting(
    command: Command, volts: float, right_A: float, wrong_A: float
) -> None:
    """Watts by volts, volts by ohms, amperes; a quarter less is not what was set."""
    low = Step("discharge", "d", "current", 8.0, (EndRule("voltage", 1.0, EndCause.SET_CUTOFF, 2),))
    part = low if command.kind == "draw" else Step("charge", "c", "charge", 0.8, limit_V=14.4)
    stops = replace(STOPS, voltage_low_V=1.0, current_high_A=40.0)
    for amps, odd in ((right_A, False), (wrong_A, True)):
        watch = ReadingWatch(replace(RECIPE, steps=(part,), stops=stops), 0.02)
        watch.told(command)
        for _ in range(6):
            judged = watch.judge(
                Observation(volts, amps), LIVE[command.kind], witness=Witness({"it": True}, own_A=amps)
            )
        assert bool(judged.seen.fault or judged.disturbed or judged.warning) is odd, amps


def test_without_a_known_zero_it_is_three_tenths_of_an_ampere() -> None:
    assert ReadingWatch(RECIPE).zero_A == 0.3


@pytest.mark.parametrize(("own_A", "disagree"), [(3.0, False), (3.5, False), (4.01, False), (4.08, True), (8.0, True)])
def test_the_load_and_the_meter_disagree_by_a_quarter_and_two_zeros(own_A: float, disagree: bool) -> None:
    """2 A read where 8 A were set: 2 A and 40 mA more or less the load itself may say."""
    found = told(DRAW, *[(13.0, 2.0)] * 3, witness=Witness({"load": True}, own_A=own_A), settled=4)
    assert found[-1].startswith("the meter reads" if disagree else "2.00 A flow"), found


def test_one_that_says_it_is_off_and_draws_nothing_is_off_however_little_was_set() -> None:
    """50 mA of a meter that reads 0.05 A at zero: by the current alone it cannot be told."""
    small = Command("draw", "current", 0.05)
    for on, odd in ((False, True), (True, False), (None, False)):
        found = told(small, *[(13.0, 0.0)] * 6, witness=Witness({"load": on}), zero_A=0.05)
        assert bool(found[-1]) is odd, on


def test_by_hand_any_less_may_flow_and_below_the_lowest_limit_too() -> None:
    assert not any(told(Command("draw", "hand"), *[(13.0, 0.0)] * 6, witness=Witness({"load": False})))
    opens = Step("discharge", "d", "current", 8.0, (EndRule("protection", 9.0, EndCause.PROTECTION, 2),))
    for volts, odd in ((8.9, False), (9.1, True)):
        found = told(DRAW, *[(volts, 0.0)] * 6, witness=Witness({"load": True}), part=opens)
        assert bool(found[-1]) is odd, volts
    for volts, odd in ((7.9, False), (8.1, True)):
        assert bool(told(DRAW, *[(volts, 0.0)] * 6, witness=Witness({"load": True}))[-1]) is odd, volts


@pytest.mark.parametrize(("volts", "wrong"), [(13.07, True), (13.03, True), (13.06, True), (13.09, False)])
def test_a_voltage_that_left_what_it_was_under_load_says_that_less_flows(volts: float, wrong: bool) -> None:
    """It rested at 13.3 V, and 13.0 V under load: a quarter of the way back is 13.075 V."""
    watch = ReadingWatch(RECIPE, 0.02)
    watch.told(REST)
    watch.judge(Observation(13.3, 0.0), Phase.RESTING)
    watch.told(DRAW)
    for _ in range(6):
        watch.judge(Observation(13.0, 8.0), Phase.DISCHARGING)
    fault = watch.judge(Observation(volts, 2.0), Phase.DISCHARGING).seen.fault
    assert ("the meter is wrong" in fault) is wrong
    # of a step of less than 10 mV nobody can tell
    flat = ReadingWatch(RECIPE, 0.02)
    flat.told(REST)
    flat.judge(Observation(13.009, 0.0), Phase.RESTING)
    flat.told(DRAW)
    for _ in range(6):
        flat.judge(Observation(13.0, 8.0), Phase.DISCHARGING)
    assert "the meter is wrong" not in flat.judge(Observation(13.0, 2.0), Phase.DISCHARGING).seen.fault


@pytest.mark.parametrize(("zero_A", "flowed_A", "gone"), [(0.2, 0.99, False), (0.2, 1.01, True), (0.02, 0.41, True)])
def test_a_charge_leaps_from_five_zeros_where_they_are_more(zero_A: float, flowed_A: float, gone: bool) -> None:
    part = Step("charge", "c", "charge", 8.0, (EndRule("taper", 0.4, EndCause.TAPER, 3),), limit_V=14.4)
    found = told(CHARGE, *[(14.4, -flowed_A)] * 4, (14.4, 0.0), zero_A=zero_A, part=part)
    assert ("to none" in found[-1]) is gone


@pytest.mark.parametrize(("loaded_V", "stopped"), [(10.24, True), (10.26, False)])
def test_a_load_stops_by_itself_a_fortieth_above_its_setting_at_the_most(loaded_V: float, stopped: bool) -> None:
    watch = ReadingWatch(RECIPE, 0.02)
    watch.told(DRAW)
    for _ in range(4):
        watch.judge(Observation(loaded_V, 8.0), Phase.DISCHARGING)
    judged = watch.judge(Observation(11.5, 0.0), Phase.DISCHARGING, witness=Witness(own_cutoff_V=10.0))
    assert bool(judged.cut_off) is stopped


# --- standing still ---


def flickering(values: list[float], every_s: float = 1.0) -> _Still:
    still = _Still()
    for at, value in enumerate(values):
        still.follow(value, every_s * at)
    return still


NOISE = [13.0 + 0.001 * step for step in (0, 3, 1, 5, 2, 6, 4, 0, 5, 1, 3, 6)]


def test_a_meter_is_known_to_flicker_after_twelve_readings() -> None:
    assert FLICKER == 12 and len(NOISE) == 12
    assert not _Still().lively and not flickering(NOISE[:11]).lively and flickering(NOISE).lively
    assert not flickering([13.0] * 12 + NOISE[:4]).lively, "of the last twelve"
    # once it is, it stays so
    assert flickering(NOISE + [13.0] * 12).lively


def test_one_that_never_flickered_may_be_coarse() -> None:
    assert flickering([13.0] * 600).log_chance(600.0) == 0.0
    assert flickering([13.0, 13.1] * 300).log_chance(600.0) == 0.0


@pytest.mark.parametrize(("same", "seconds", "known"), [(12, 11.0, True), (11, 11.0, False), (12, 9.0, False)])
def test_twelve_readings_and_ten_seconds_are_needed(same: int, seconds: float, known: bool) -> None:
    """One reading, and twelve more that are as it was, from 100 s on."""
    still = _Still()
    for at, value in enumerate(NOISE * 3):
        still.follow(value, float(at))
    for at in range(same + 1):
        still.follow(13.010, 100.0 + at * seconds / same)
    assert (still.log_chance(100.0 + seconds) < 0.0) is known
    still.forget()
    assert still.log_chance(1000.0) == 0.0


def test_how_unlikely_it_is_goes_by_how_often_it_was_so_before() -> None:
    """Of 36 readings eleven were as the one before: 12 of 38 by the rule of succession (Laplace, from memory), 12 times."""
    pairs = [13.0 + 0.005 * step for step in (0, 0, 3, 3, 1, 1, 5, 5, 2, 2, 6, 6, 4, 0, 5, 1, 3, 6, 2, 7)]
    still = flickering(pairs)
    equal = [after == before for before, after in zip(pairs, pairs[1:], strict=False)]
    for at in range(13):
        still.follow(13.2, 20.0 + at)
    # the last reading that differs counts as one more that was not as the one before
    share = (sum(equal) + 1.0) / (len(equal) + 2 + 2.0)
    assert still.log_chance(33.0) == pytest.approx(12 * math.log(share), rel=0.02)


def test_how_much_noise_falls_into_one_digit() -> None:
    """White noise of two digits, seen: half a digit either side of its middle. A leap counts as four digits."""
    digits = [0, 2, -1, 3, 0, -2, 1, 4, -1, 2, -3, 1, 0, 2, -2, 3, -1, 1, -4, 2, 0, 3, -2, 1]
    steps = [after - before for before, after in zip(digits, digits[1:], strict=False)]
    still = flickering([13.0 + 0.001 * one for one in digits])
    cut = [0.0, *(max(-4.0, min(4.0, one)) for one in steps)]
    spread = -sum(one * other for one, other in zip(cut, cut[1:], strict=False)) / (len(cut) - 1) - 1 / 12
    within = 2.0 * NormalDist().cdf(0.5 / math.sqrt(spread)) - 1.0
    assert max(abs(one) for one in steps) > 4 and still._within_a_digit() == pytest.approx(within, rel=1e-6)


def test_two_digits_in_turn_may_be_rounding_and_what_runs_on_does_not_stop_at_once() -> None:
    assert flickering([13.0, 13.001] * 12)._within_a_digit() == 1.0
    assert flickering([13.0] * 24)._within_a_digit() == 1.0
    running = [13.0 - 0.001 * (3 * at + at // 2) for at in range(24)]
    assert flickering(running)._within_a_digit() == 0.0
    slowing = running + [running[-1] - 0.001 * at for at in range(1, 5)]
    assert flickering(slowing)._within_a_digit() > 0.0, "what slows down may stand"


@pytest.mark.parametrize(
    ("values", "flickers"),
    [
        ([0, 3, 1, 5], False), ([0, 3, 1, 5, 2], True), ([0, 2, 0, 2, 0, 2], False), ([0, 1, 3, 6, 5, 9], False),
        ([0, 3, 3, 1, 1, 5, 5, 2], True), ([0, 1, 2, 3, 4, 5], False),
    ],
)  # fmt: skip
def test_what_flickers_turns_three_times_over_four_values(values: list[float], flickers: bool) -> None:
    assert _flickers([float(one) for one in values]) is flickers


@pytest.mark.parametrize(
    ("steps", "flickers"),
    [
        ([5, 2, 5, 2, 5, 2], True), ([5, 4, 5, 4, 5, 4], False), ([8, 7, 6, 5, 4, 3], False), ([5, 2, 5, 5, 5, 5], False),
        ([5, 2, 5, 2, 2, 2], False), ([0, 0, 0, 0, 0, 0], False),
    ],
)  # fmt: skip
def test_a_way_that_bends_to_and_fro_by_two_digits_flickers(steps: list[int], flickers: bool) -> None:
    values = [13.0]
    for one in steps:
        values.append(values[-1] - 0.001 * one)
    assert _flickers_on_its_way(values) is flickers


@pytest.mark.parametrize(("steps", "runs"), [([3, 4, 5, 3], True), ([3, 4, 2, 5], False), ([0, 0, 0], False), ([-3, -4], True), ([1, 1], False)])  # fmt: skip
def test_what_runs_moves_by_three_digits_at_each_reading(steps: list[int], runs: bool) -> None:
    """The digit is the greatest common part of what it moved by; of 3 and 4 that is one."""
    values = [13.0]
    for one in [*steps, 4] if runs else steps:
        values.append(values[-1] + 0.001 * one)
    assert _runs(values) is runs


def test_a_command_of_another_kind_forgets_what_the_current_did_and_one_of_the_same_does_not() -> None:
    watch = ReadingWatch(RECIPE, 0.02)
    watch.told(DRAW)
    for at, value in enumerate(NOISE):
        watch.judge(Observation(value, value - 5.0), Phase.DISCHARGING, float(at))
    assert watch._amps.lively and math.isfinite(watch._loaded_V)
    watch.told(replace(DRAW, setting=7.9))
    assert watch._amps.lively and math.isfinite(watch._loaded_V) and watch._volts.same == 0
    watch.told(Command("ask"))
    assert watch._command.setting == 7.9
    watch.told(CHARGE)
    assert not watch._amps.lively and math.isnan(watch._loaded_V)


def test_a_stuck_voltage_is_counted_from_the_last_command() -> None:
    watch = ReadingWatch(RECIPE, 0.02)
    watch.told(DRAW)
    for at, value in enumerate(NOISE * 3):
        watch.judge(Observation(value, value - 5.0), Phase.DISCHARGING, float(at))
    for at in range(40, 60):
        watch._volts.follow(13.0, float(at))
    assert watch._volts.same >= 19
    watch.told(replace(DRAW, setting=7.9))
    assert watch._volts.same == 0
