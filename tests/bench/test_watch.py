"""Readings held against the command in force: what passes, and what is called unusable, with its reason."""

from __future__ import annotations

import itertools
import math
from dataclasses import replace

import numpy as np
import pytest

from tests.amount import some
from wintry_tally.bench.watch import LOG_CHANCE, STUCK, Judged, ReadingWatch, Witness, _flickers_on_its_way, _Still
from wintry_tally.core.engine import Command, Observation, Phase
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits

STOPS = StopLimits(8.0, 15.0, 25.0, 400.0, -20.0, 60.0, charge_high_A=25.0)
RECIPE = Recipe("r", "R", 1, (Step("rest", "rest"),), STOPS)
DRAW, CHARGE, OFF = Command("draw", "current", 8.0), Command("charge", "charge", 8.0, 14.4), Command("off")


def after(command: Command, *seen: Observation, phase: Phase = Phase.DISCHARGING, settle: int = 4) -> str:
    watch = ReadingWatch(RECIPE)
    watch.told(command)
    for _ in range(settle):
        watch.judge(Observation(13.0, {"draw": 8.0, "charge": -8.0}.get(command.kind, 0.0)), phase)
    fault = ""
    for item in seen:
        fault = watch.judge(item, phase).seen.fault
    return fault


@pytest.mark.parametrize(
    ("command", "seen", "phase", "says"),
    [
        (DRAW, Observation(13.0, -8.0), Phase.DISCHARGING, "turned"),
        (CHARGE, Observation(13.6, 8.0), Phase.CHARGING, "turned"),
        (DRAW, Observation(5000.0, 8.0), Phase.DISCHARGING, "cannot be"),
        (DRAW, Observation(-40.0, 8.0), Phase.DISCHARGING, "cannot be"),
        (DRAW, Observation(13.0, 4711.0), Phase.DISCHARGING, "nothing here can make flow"),
        (DRAW, Observation(13.0, 8.0, 900.0), Phase.DISCHARGING, "thermometer"),
        (DRAW, Observation(math.nan, 8.0), Phase.DISCHARGING, "no number"),
        (DRAW, Observation(math.inf, 8.0), Phase.DISCHARGING, "no number"),
    ],
)
def test_what_cannot_be_is_said(command: Command, seen: Observation, phase: Phase, says: str) -> None:
    assert says in after(command, seen, phase=phase)


@pytest.mark.parametrize(
    ("command", "seen", "phase"),
    [
        (DRAW, Observation(13.0, 8.3), Phase.DISCHARGING),
        (CHARGE, Observation(14.4, -0.4), Phase.CHARGING),  # a taper
        (OFF, Observation(13.2, 0.02), Phase.RESTING),
        (Command("draw", "power", 100.0), Observation(12.0, 8.4), Phase.DISCHARGING),
        (DRAW, Observation(13.0, 8.0, -20.0), Phase.DISCHARGING),
    ],
)
def test_honest_readings_pass_unchanged(command: Command, seen: Observation, phase: Phase) -> None:
    watch = ReadingWatch(RECIPE)
    watch.told(command)
    for _ in range(6):
        assert watch.judge(seen, phase).seen == seen


OPENS = EndRule("protection", 6.4, EndCause.PROTECTION, 2)
EMPTY = EndRule("voltage", 10.0, EndCause.SET_CUTOFF, 2)


@pytest.mark.parametrize(
    ("rested_V", "seen", "ends", "mode", "gone"),
    [
        (13.2, Observation(0.4, 0.0), (EMPTY,), "current", True), (13.2, Observation(0.4, 0.0), (EMPTY, OPENS), "current", False),
        (13.2, Observation(-0.002, -0.004), (EMPTY,), "resistance", True), (13.2, Observation(1.31, 0.0), (EMPTY,), "current", True),
        (13.2, Observation(1.33, 0.0), (EMPTY,), "current", False), (13.2, Observation(0.4, 0.03), (EMPTY,), "current", False),
        (13.2, Observation(0.4, 0.0), (EMPTY,), "hand", False), (None, Observation(0.79, 0.0), (EMPTY,), "current", True),
        (None, Observation(0.81, 0.0), (EMPTY,), "current", False),
    ],
)  # fmt: skip
def test_a_battery_that_is_gone_from_its_leads_ends_a_test_that_waits_for_no_protection(
    rested_V: float | None, seen: Observation, ends: tuple[EndRule, ...], mode: str, gone: bool
) -> None:
    """A tenth of what it rested at, or of the lowest stop limit where that was not seen: 1.32 V of 13.2 V, 0.8 V of 8 V.

    A reading a little below zero is its meter's zero and no current the other way round.
    """
    watch = ReadingWatch(replace(RECIPE, steps=(Step("discharge", "d", mode, 8.0, ends),)), zero_A=0.02)  # type: ignore[arg-type]
    watch.told(OFF)
    if rested_V is not None:
        watch.judge(Observation(rested_V, 0.0), Phase.RESTING)
    watch.told(Command("draw", mode, 8.0))
    for _ in range(4):
        watch.judge(Observation(13.0, 8.0 if mode == "current" else 13.0 / 8.0), Phase.DISCHARGING)
    assert ("a clamp, a lead or a fuse" in watch.judge(seen, Phase.DISCHARGING).seen.fault) is gone


REFUSES = EndRule("refused", 14.0, EndCause.CHARGE_PROTECTION, 3)
TAPERS = EndRule("taper", 0.4, EndCause.TAPER, 3)


@pytest.mark.parametrize(
    ("flowed_A", "then_A", "ends", "gone"),
    [
        ([8.0], 0.0, (TAPERS,), True), ([8.0], 0.0, (TAPERS, REFUSES), False), ([8.0, 0.41], 0.02, (TAPERS,), True),
        ([8.0, 0.39], 0.02, (TAPERS,), False), ([8.0, 0.5], 0.021, (TAPERS,), False), ([], 0.0, (TAPERS,), False),
    ],
)  # fmt: skip
def test_a_charge_s_current_that_goes_from_much_to_none_at_once_is_no_taper(
    flowed_A: list[float], then_A: float, ends: tuple[EndRule, ...], gone: bool
) -> None:
    """A twentieth of 8 A, or five times a meter's zero of 20 mA. Lead-acid refuses nothing; lithium's rule waits for that."""
    watch = ReadingWatch(replace(RECIPE, steps=(Step("charge", "c", "charge", 8.0, ends, limit_V=14.4),)), zero_A=0.02)
    watch.told(CHARGE)
    for amps in flowed_A:
        for _ in range(4):
            watch.judge(Observation(14.4, -amps), Phase.CHARGING)
    for _ in range(4):
        judged = watch.judge(Observation(14.4, -then_A), Phase.CHARGING)
    assert ("from one reading to the next" in judged.seen.fault) is gone


@pytest.mark.parametrize(("amps", "turned"), [(-0.039, False), (-0.041, False), (-1.59, False), (-1.61, True)])
def test_what_flows_the_other_way_round_is_a_fifth_of_what_was_set(amps: float, turned: bool) -> None:
    watch = ReadingWatch(RECIPE, zero_A=0.02)
    watch.told(DRAW)
    for _ in range(4):
        watch.judge(Observation(13.0, 8.0), Phase.DISCHARGING)
    assert ("turned" in watch.judge(Observation(13.0, amps), Phase.DISCHARGING).seen.fault) is turned


@pytest.mark.parametrize(("amps", "turned"), [(-0.039, False), (-0.041, True)])
def test_of_a_load_set_by_hand_it_is_twice_the_meter_s_zero(amps: float, turned: bool) -> None:
    watch = ReadingWatch(RECIPE, zero_A=0.02)
    watch.told(Command("draw", "hand"))
    for _ in range(4):
        watch.judge(Observation(13.0, 8.0), Phase.DISCHARGING)
    assert ("turned" in watch.judge(Observation(13.0, amps), Phase.DISCHARGING).seen.fault) is turned


def test_an_instrument_is_given_time_to_follow() -> None:
    watch = ReadingWatch(RECIPE)
    watch.told(DRAW)
    assert not watch.judge(Observation(13.0, -8.0), Phase.DISCHARGING).seen.fault
    assert "turned" in after(DRAW, Observation(13.0, -8.0))


def test_a_stuck_meter_is_told_from_a_calm_one() -> None:
    def judged(*parts: list[Observation], command: Command = DRAW, phase: Phase = Phase.DISCHARGING) -> str:
        watch = ReadingWatch(RECIPE, 0.05)
        watch.told(command)
        faults = [watch.judge(item, phase, float(at)).seen.fault for at, item in enumerate(itertools.chain(*parts))]
        return next((fault for fault in faults if fault), "")

    lively = [Observation(13.0 - 0.001 * (n * 7 % 5), 8.0 + 0.001 * (n * 3 % 5)) for n in range(20)]
    same = [Observation(12.999, 8.001)] * (STUCK + 3)
    drifting = [Observation(13.0 - 0.01 * n, 8.0) for n in range(20)]
    assert "the very same" in judged(lively, same) and len(same) <= 15, "within 15 s of readings every second"
    still_V = [Observation(12.999, 8.0 + 0.001 * (n * 3 % 5)) for n in range(STUCK + 3)]
    still_A = [Observation(13.0 - 0.001 * (n * 7 % 5), 8.001) for n in range(STUCK + 3)]
    assert "12.999 V" in judged(lively, still_V) and "8.001 A" in judged(lively, still_A)
    falling = [Observation(13.2 - 0.006 * n - 0.001 * (n % 3), 8.0) for n in range(20)]
    assert "stuck" in judged(falling, [falling[-1]] * 16), (
        "what fell by six digits at each reading does not stop at once"
    )
    assert not judged(same), "a coarse meter on a plateau shows the same for long, from the first"
    assert not judged(drifting, [drifting[-1]] * (STUCK + 3)), "a coarse meter settles from the sag onto the plateau"
    assert not judged([Observation(13.2, 0.0)] * (STUCK + 50), command=OFF, phase=Phase.RESTING)


def test_a_meter_of_little_noise_is_not_stuck_by_chance() -> None:
    """Hours of honest readings whose last digit hardly flickers."""
    random = np.random.default_rng(1)
    watch = ReadingWatch(RECIPE, 0.05)
    watch.told(DRAW)
    seconds = some(36_000, 108_000)
    volts = np.round(13.0 + 0.0007 * random.standard_normal(seconds), 3)
    amps = np.round(8.0 + 0.0007 * random.standard_normal(seconds), 3)
    for at, (volt, amp) in enumerate(zip(volts.tolist(), amps.tolist(), strict=True)):
        assert not watch.judge(Observation(volt, amp), Phase.DISCHARGING, float(at)).seen.fault


SETTLED = [Observation(13.0, 8.0)] * 6


def told(
    command: Command, *seen: Observation, witness: Witness | None = None, before: list[Observation] = SETTLED
) -> Judged:
    """After a rest and readings at what was set: the judgement of the last of `seen`."""
    phase = Phase.DISCHARGING if command.kind == "draw" else Phase.CHARGING
    way = 1.0 if command.kind == "draw" else -1.0
    watch = ReadingWatch(RECIPE if command.kind == "draw" else CHARGING, 0.05)
    watch.judge(Observation(13.2, 0.01), Phase.RESTING, 0.0)
    watch.told(command)
    judged = Judged(SETTLED[0])
    for at, item in enumerate([*(Observation(o.voltage_V, way * o.current_A) for o in before), *seen], 1):
        judged = watch.judge(item, phase, float(at), witness)
        if judged.disturbed or judged.seen.fault or judged.cut_off:
            return judged
    return judged


CHARGING = Recipe("c", "C", 1, (Step("charge", "charge", "charge", 8.0, limit_V=14.4),), STOPS)


def test_more_or_less_than_was_set_is_other_hands_once_it_had_settled() -> None:
    on = Witness({"load": True}, None)
    for amps in (12.0, 3.0):
        assert not told(DRAW, *[Observation(13.1, amps)] * 2, witness=on).disturbed, "a reading or two may be odd"
        assert "8 A were set" in told(DRAW, *[Observation(13.1, amps)] * 3, witness=on).disturbed
    assert "8 A were set" in told(CHARGE, *[Observation(13.4, -3.0)] * 3, witness=on).disturbed
    assert "was switched off" in told(DRAW, *[Observation(13.19, 0.0)] * 3, witness=Witness({"load": False})).disturbed
    assert not told(DRAW, *[Observation(13.0, 6.5)] * 9).disturbed, "within a quarter it may be the meters"


def test_what_may_be_less_is_let_be() -> None:
    assert not told(CHARGE, *[Observation(14.38, -1.0)] * 9).disturbed, "a taper at the limit"
    assert not told(DRAW, *[Observation(0.4, 0.0)] * 9).disturbed, "a protection that opened"
    gives_less = told(CHARGE, *[Observation(13.4, -5.0)] * 3, before=[Observation(13.4, 5.0)] * 4)
    assert not gives_less.disturbed and "gives 5.00 A of the 8 A" in gives_less.warning
    stopped = told(
        DRAW, Observation(11.5, 0.0), witness=Witness({"load": False}, None, 10.0), before=[Observation(10.1, 8.0)] * 6
    )
    assert "stopped by itself at 10.10 V" in stopped.cut_off, "a load with a proven cut-off of its own"


def test_a_meter_that_is_wrong_is_told_from_other_hands() -> None:
    wrong = told(DRAW, Observation(13.0, -0.0), witness=Witness({"load": True}, 8.01)).seen
    assert "the load itself 8.01 A" in wrong.fault
    dead = told(DRAW, Observation(13.0, -0.0)).seen
    assert "stays where it was under load" in dead.fault, (
        "nothing flows, says the meter, and the voltage says that it does"
    )
    assert "8 A were set" in told(DRAW, *[Observation(13.19, 0.0)] * 3).disturbed
    never = told(
        DRAW, Observation(13.0, 3.0), before=[Observation(13.0, 3.0)] * 4, witness=Witness({"load": True}, 3.0)
    )
    assert "8 A were set" in never.seen.fault, "what was never reached is no other hand's doing"


def test_a_voltage_on_its_way_flickers_by_its_steps_going_up_and_down() -> None:
    falling = [12.866, 12.862, 12.862, 12.858, 12.854, 12.851, 12.848, 12.846, 12.845, 12.842, 12.837, 12.833]
    noisy = [12.895, 12.889, 12.887, 12.880, 12.879, 12.872, 12.871, 12.865, 12.865, 12.858, 12.857, 12.850]
    decay = [round(12.8 + 0.05 * 0.8**n, 3) for n in range(12)]
    rounded = [round(12.9 - 0.0035 * n, 3) for n in range(12)]
    coarse = [12.90, 12.89, 12.89, 12.88, 12.88, 12.87, 12.87, 12.86, 12.86, 12.85, 12.85, 12.84]
    told = [_flickers_on_its_way(values) for values in (noisy, decay, rounded, coarse, [12.8] * 12)]
    assert told == [True, False, False, False, False] and not _flickers_on_its_way(falling[:6])


@pytest.mark.parametrize("times", [1.0, 4.0])
def test_a_charger_at_its_limit_gives_less_and_its_meter_may_read_low(times: float) -> None:
    """A meter good to a percent shows 14.4 V as 14.26 at the least, and a charger holds its limit to half of one."""
    for volts, at in ((14.4, True), (14.19, True), (14.1, False)):
        watch = ReadingWatch(replace(CHARGING, steps=(replace(CHARGING.steps[0], limit_V=14.4 * times),)), 0.05)
        watch.told(Command("charge", "charge", 8.0, 14.4 * times))
        for amps in [-8.0] * 8 + [-6.0, -4.0, -3.0, -3.0]:
            judged = watch.judge(Observation(volts * times, amps), Phase.CHARGING)
        assert (not judged.disturbed and not judged.seen.fault) is at, volts


@pytest.mark.parametrize("noise", [0.05, 0.15, 0.3, 0.45])
def test_two_digits_in_turn_and_then_one_of_them_is_no_stuck_meter(noise: float) -> None:
    """Little noise between two digits, later in the middle of one: of 100 meters one at the most is called stuck (some
    four were, by their own history alone)."""
    random, found = np.random.default_rng(4), 0
    for _ in range(some(40, 400)):
        still, place = _Still(), random.uniform(0.0, 1.0)
        drift, fall = random.choice([0.001, 0.01, 0.03]), random.choice([0.0, 30.0])
        at = np.arange(1800)
        true = (
            place + drift * at + fall * np.exp(-at / random.choice([5.0, 30.0])) + noise * random.standard_normal(1800)
        )
        for second, digits in enumerate(np.round(true).tolist()):
            still.follow(digits / 1000.0, float(second))
            if still.log_chance(float(second)) < LOG_CHANCE:
                found += 1
                break
    assert found <= some(0, 4)


def test_a_meter_that_was_running_and_stops_is_stuck_and_one_that_slows_down_is_not() -> None:
    running = [0.006 * n + 0.001 * (n % 3) for n in range(40)]
    slowing = [0.030 * (1.0 - math.exp(-n / 4.0)) for n in range(40)]
    for way, stuck in ((running, True), (slowing, False)):
        still = _Still()
        for at, volts in enumerate([*way, *[way[-1]] * 16]):
            still.follow(round(volts, 3), float(at))
        assert (still.log_chance(60.0) < LOG_CHANCE) is stuck
