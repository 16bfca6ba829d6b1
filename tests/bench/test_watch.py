"""Readings held against the command in force: what passes, and what is called unusable, with its reason."""

from __future__ import annotations

import math

import pytest

from wintry_tally.bench.watch import STUCK, ReadingWatch
from wintry_tally.core.engine import Command, Observation, Phase
from wintry_tally.core.protocol import Recipe, Step, StopLimits

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
        fault = watch.judge(item, phase).fault
    return fault


@pytest.mark.parametrize(
    ("command", "seen", "phase", "says"),
    [
        (DRAW, Observation(13.0, -8.0), Phase.DISCHARGING, "turned"),
        (CHARGE, Observation(13.6, 8.0), Phase.CHARGING, "turned"),
        (DRAW, Observation(13.0, 12.0), Phase.DISCHARGING, "8 A were set"),
        (OFF, Observation(13.0, 4.0), Phase.RESTING, "still flow"),
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
        (DRAW, Observation(0.4, 0.0), Phase.DISCHARGING),  # a protection that opened
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
        assert watch.judge(seen, phase) == seen


def test_an_instrument_is_given_time_to_follow() -> None:
    watch = ReadingWatch(RECIPE)
    watch.told(DRAW)
    assert not watch.judge(Observation(13.0, -8.0), Phase.DISCHARGING).fault
    assert "turned" in after(DRAW, Observation(13.0, -8.0))


def test_a_stuck_meter_is_told_from_a_calm_one() -> None:
    lively = [Observation(13.0 - 0.001 * (n * 7 % 5), 8.0) for n in range(20)]
    same = [Observation(12.999, 8.0)] * (STUCK + 3)
    drifting = [Observation(13.0 - 0.01 * n, 8.0) for n in range(20)]
    assert "stuck" in after(DRAW, *lively, *same)
    assert not after(DRAW, *same), "a coarse meter on a plateau shows the same for long, from the first"
    assert not after(DRAW, *drifting, *same), "a coarse meter settles from the sag onto the plateau"
    assert not after(OFF, *[Observation(13.2, 0.0)] * (STUCK + 50), phase=Phase.RESTING)
