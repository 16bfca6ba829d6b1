"""Every stop limit and every early warning, by the reading at it and the one just beyond.

A limit is the last value that is let be; the values themselves are common practice, no published source.
"""

from __future__ import annotations

from dataclasses import replace

import pytest

from wintry_tally.core.engine import Observation, Phase, RunState
from wintry_tally.core.engine.near_limits import near_limits
from wintry_tally.core.engine.rules import WARMING_MIN, stop_limit, warming_K_min
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits

STOPS = StopLimits(
    8.0, 15.0, 25.0, 300.0, -20.0, 60.0, charge_high_A=10.0, temperature_rate_K_min=5.0, charge_most_Ah=100.0,
    time_most_s=7200.0, cold_charge_C=0.0, cold_charge_s=10.0, cell_low_V=2.0,
)  # fmt: skip
DRAWING, CHARGING = RunState(Phase.DISCHARGING), RunState(Phase.CHARGING)


def crossed(seen: Observation, state: RunState = DRAWING, now_s: float = 10.0) -> str:
    return stop_limit(STOPS, state, seen, now_s)


@pytest.mark.parametrize(
    ("state", "at", "beyond", "words"),
    [
        (DRAWING, Observation(15.0, 1.0), Observation(15.01, 1.0), "15.01 V is above 15 V"),
        (DRAWING, Observation(8.0, 1.0), Observation(7.99, 1.0), "under load is below 8 V"),
        (DRAWING, Observation(10.0, 25.0), Observation(10.0, 25.01), "25.01 A is above 25 A"),
        (CHARGING, Observation(13.0, -10.0), Observation(13.0, -10.01), "10.01 A of charge is above 10 A"),
        (DRAWING, Observation(12.5, 24.0), Observation(12.51, 24.0), "300 W is above 300 W"),
        (CHARGING, Observation(13.0, -1.0, beside={"cell_2_V": 2.0}), Observation(13.0, -1.0, beside={"cell_2_V": 1.99}), "cell 2 reads 1.99 V"),
        (DRAWING, Observation(13.0, 1.0, 60.0), Observation(13.0, 1.0, 60.1), "60.1 °C is outside"),
        (DRAWING, Observation(13.0, 1.0, -20.0), Observation(13.0, 1.0, -20.1), "-20.1 °C is outside"),
        (replace(CHARGING, cold_s=10.1), Observation(13.0, -1.0, 0.0), Observation(13.0, -1.0, -0.1), "it is being damaged"),
    ],
    ids=["high V", "low V", "most A drawn", "most A charged", "most W", "a cell", "hot", "cold", "charged in the cold"],
)  # fmt: skip
def test_a_limit_is_the_last_value_let_be(state: RunState, at: Observation, beyond: Observation, words: str) -> None:
    assert crossed(at, state) == ""
    assert words in crossed(beyond, state)


def test_what_was_moved_how_long_it_took_and_how_long_it_was_cold() -> None:
    quiet = Observation(13.0, 1.0)
    for name in ("charge_Ah", "put_in_Ah"):
        assert crossed(quiet, replace(DRAWING, **{name: 100.0})) == ""
        assert "100.01 Ah is above 100 Ah" in crossed(quiet, replace(DRAWING, **{name: 100.01}))
    assert crossed(quiet, DRAWING, 7200.0) == "" and "beyond the 7200 s" in crossed(quiet, DRAWING, 7200.5)
    cold = Observation(13.0, -1.0, -5.0)
    assert crossed(cold, replace(CHARGING, cold_s=10.0)) == ""
    assert "damaged" not in crossed(cold, replace(DRAWING, cold_s=60.0)), "drawing in the cold harms nothing"


def test_low_voltage_counts_under_load_only() -> None:
    low = Observation(7.0, 1.0)
    assert crossed(low) and not crossed(low, CHARGING)
    assert not crossed(Observation(7.0, 0.05)) and crossed(Observation(7.0, 0.06)), (
        "within a meter's zero nothing flows"
    )
    assert not crossed(low, replace(DRAWING, zero_A=1.0)) and not crossed(Observation(0.9, 1.0)), (
        "an opened pack is no low one"
    )
    assert not crossed(Observation(13.0, 1.0, 70.0), RunState(Phase.RESTING)), "a hot pack at rest is left to cool"


def test_warming_is_told_once_there_is_time_to_say() -> None:
    assert WARMING_MIN == 2.0, "a thermometer of 0.1 K tells 5 K/min to a hundredth over two minutes, and not over one"
    early = replace(DRAWING, warm_s=0.0, warm_C=20.0, last_s=60.0 * WARMING_MIN)
    assert warming_K_min(early, 30.0) == pytest.approx(10.0 / WARMING_MIN)
    assert warming_K_min(replace(early, last_s=60.0 * WARMING_MIN - 1.0), 30.0) is None
    for missing in ("warm_s", "warm_C", "last_s"):
        assert warming_K_min(replace(early, **{missing: None}), 30.0) is None
    at = 20.0 + 5.0 * WARMING_MIN
    assert crossed(Observation(13.0, 1.0, at), early) == ""
    assert "faster than 5 K/min" in crossed(Observation(13.0, 1.0, at + 0.1), early)


RULES = (EndRule("time", 3600.0, EndCause.TIME),)
RECIPE = Recipe("x", "X", 1, (Step("charge", "Charge", "charge", 5.0, RULES, limit_V=14.4),), STOPS)


def keys(seen: Observation, state: RunState, now_s: float = 10.0) -> set[str]:
    return {key for key, _ in near_limits(RECIPE, state, seen, now_s)}


@pytest.mark.parametrize(
    ("state", "calm", "near", "key"),
    [
        (DRAWING, Observation(13.0, 1.0, 50.0), Observation(13.0, 1.0, 50.1), "warm"),
        (DRAWING, Observation(13.0, 1.0, -17.0), Observation(13.0, 1.0, -17.1), "cold"),
        (CHARGING, Observation(14.5, -1.0), Observation(14.502, -1.0), "above-limit"),
        (CHARGING, Observation(13.0, -1.0, beside={"cell_1_V": 2.3}), Observation(13.0, -1.0, beside={"cell_1_V": 2.29}), "cell"),
    ],
)  # fmt: skip
def test_an_early_warning_comes_just_before(state: RunState, calm: Observation, near: Observation, key: str) -> None:
    assert key not in keys(calm, state) and key in keys(near, state)
    assert keys(near, RunState(Phase.RESTING)) == set(), "only while current is meant to flow"


def test_nearly_all_that_may_be_moved_or_taken_is_told() -> None:
    quiet = Observation(13.0, 1.0)
    assert "charge" not in keys(quiet, replace(DRAWING, charge_Ah=90.0))
    assert "charge" in keys(quiet, replace(DRAWING, charge_Ah=90.1)) & keys(quiet, replace(DRAWING, put_in_Ah=90.1))
    assert "time" not in keys(quiet, DRAWING, 6480.0) and "time" in keys(quiet, DRAWING, 6481.0)
    told = dict(near_limits(RECIPE, DRAWING, quiet, 6600.0))
    assert "10 min more" in told["time"]


def test_freezing_is_told_while_a_charge_comes_near_its_cold_limit_and_no_longer() -> None:
    from wintry_tally.core.engine.near_limits import FREEZING_K

    limit = STOPS.cold_charge_C
    for celsius, told in (
        (limit, True),
        (limit + FREEZING_K - 0.01, True),
        (limit + FREEZING_K, False),
        (limit - 0.01, False),
    ):
        assert ("freezing" in keys(Observation(13.0, -1.0, celsius), CHARGING)) is told, celsius
        assert "freezing" not in keys(Observation(13.0, 1.0, celsius), DRAWING)
