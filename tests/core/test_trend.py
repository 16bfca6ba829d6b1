"""The trend of a battery from test to test, against numpy's own fit, and against batteries whose fade is known.

Fade in proportion to the cycles is the simplest law; common practice, no published source.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from random import Random

import numpy as np
import pytest

from wintry_tally.core.battery import family_named
from wintry_tally.core.compare.figures import Conditions, Figure
from wintry_tally.core.compare.trend import Trend, trend
from wintry_tally.core.quantity import Quantity, Term

LFP = family_named("lfp")
BEGUN = datetime(2026, 3, 1, tzinfo=UTC)
YEAR_S = 365.25 * 86_400.0


def _figure(
    number: int, value: float, year: float, own: float = 0.05, gain: float = 0.002, meter: str = "meter"
) -> Figure:
    terms = [Term("own", own), Term("gain", gain * value, f"gain of {meter}")]
    when = BEGUN + timedelta(seconds=year * YEAR_S)
    at = Conditions(c_rate=0.2, temperature_C=23.0, rest_s=3600.0, end="protection", started=when)
    return Figure("charge", Quantity.from_terms(value, "Ah", terms), f"run {number}", at)


def _of(
    values: list[float], years: list[float], cycles: list[float] | None = None, end: float | None = None, **more: float
) -> Trend:
    figures = [_figure(n, value, year, **more) for n, (value, year) in enumerate(zip(values, years, strict=True))]
    counted = {} if cycles is None else {f"run {n}": count for n, count in enumerate(cycles)}
    found = trend("charge", figures, LFP, counted, end)
    assert found is not None
    return found


def test_the_line_is_numpy_s_and_a_shared_gain_drops_out() -> None:
    values, years = [40.0, 39.6, 39.5, 38.9], [0.0, 0.4, 1.1, 2.0]
    found = _of(values, years)
    slope, covariance = np.polyfit(years, values, 1, cov="unscaled")
    assert found.per_year is not None and found.per_year.unit == "Ah a year"
    assert found.per_year.value == pytest.approx(slope[0], rel=1e-3)
    own = float(np.hypot(0.05, 0.003 * 39.5 / 3**0.5))
    off = np.array(values) - np.polyval(slope, years)
    birge = max(1.0, float(np.sqrt((off**2).sum() / own**2 / 2)))
    assert found.per_year.standard == pytest.approx(own * birge * covariance[0, 0] ** 0.5, rel=0.02)
    # another meter each time: nothing cancels
    apart = [_figure(n, v, y, meter=f"meter {n}") for n, (v, y) in enumerate(zip(values, years, strict=True))]
    other = trend("charge", apart, LFP, {})
    assert (
        other is not None
        and other.per_year is not None
        and (other.per_year.standard or 0) > 1.0 * (found.per_year.standard or 0)
    )
    pair, alone = (
        _of(values[::3], [0.0, 1.0]),
        [_figure(n, v, y, meter=f"{n}") for n, v, y in ((0, 40.0, 0.0), (1, 38.9, 1.0))],
    )
    loose = trend("charge", alone, LFP, {})
    assert loose is not None and (loose.per_year.standard or 0) > 1.2 * (pair.per_year.standard or 0)  # type: ignore[union-attr]


def test_the_surer_counts_for_more_as_in_numpy() -> None:
    values, years, own = [40.0, 39.9, 39.0, 38.9], [0.0, 0.5, 1.0, 2.0], [0.05, 0.4, 0.05, 0.02]
    figures = [_figure(n, v, y, o) for n, (v, y, o) in enumerate(zip(values, years, own, strict=True))]
    found = trend("charge", figures, LFP, {})
    spread = [float(np.hypot(o, 0.003 * v / 3**0.5)) for o, v in zip(own, values, strict=True)]
    slope, covariance = np.polyfit(years, values, 1, w=[1.0 / one for one in spread], cov="unscaled")
    off = (np.array(values) - np.polyval(slope, years)) / spread
    birge = max(1.0, float(np.sqrt((off**2).sum() / 2)))
    assert found is not None and found.per_year is not None
    assert found.per_year.value == pytest.approx(slope[0], rel=1e-6)
    assert found.per_year.standard == pytest.approx(birge * covariance[0, 0] ** 0.5, rel=0.02)


@pytest.mark.parametrize(
    ("quantity", "limit"),
    [("charge", 0.003), ("energy", 0.003), ("resistance", 0.02), ("recharge-time", 0.01), ("self-discharge", 0.05)],
)
def test_how_well_each_repeats_is_in_its_slope(quantity: str, limit: float) -> None:
    pair = [replace(_figure(n, 2.0, float(n), own=0.0, gain=0.0), quantity=quantity) for n in range(2)]
    pair = [replace(one, value=Quantity(2.0, 0.0, "x")) for one in pair]
    found = trend(quantity, pair, LFP, {})
    assert found is not None and found.per_year is not None
    assert found.per_year.standard == pytest.approx(2.0**0.5 * 2.0 * limit / 3**0.5, rel=1e-3)


def test_the_end_s_interval_is_the_span_that_is_not_surely_off() -> None:
    """Fieller's limits against a scan of every count, the doubt of the line worked out from its own weights."""
    values, cycles, gain = [40.0, 38.7, 38.1, 36.4], [0.0, 150.0, 420.0, 800.0], 0.004
    found = _of(values, [0.0, 0.5, 1.0, 2.0], cycles, 32.0, gain=gain)
    own = np.array([float(np.hypot(0.05, 0.003 * v / 3**0.5)) for v in values])
    w = 1.0 / own**2
    middle = float((w * cycles).sum() / w.sum())
    away = np.array(cycles) - middle
    by_slope, by_level = w * away / (w * away**2).sum(), w / w.sum()
    slope, level = float((by_slope * values).sum()), float((by_level * values).sum())
    off = np.array(values) - level - slope * away
    birge = max(1.0, float(np.sqrt((off**2 / own**2).sum() / 2)))
    counts = np.arange(0.0, 6000.0, 0.5)
    weights = by_level[None, :] + (counts - middle)[:, None] * by_slope[None, :]
    doubt = np.sqrt(
        (weights**2 * (own * birge) ** 2).sum(axis=1) + (weights * gain * np.array(values)).sum(axis=1) ** 2
    )
    inside = counts[np.abs(level + slope * (counts - middle) - 32.0) <= 1.96 * doubt]
    assert found.end is not None and found.end.low == pytest.approx(inside[0], abs=1.0)
    assert found.end.high == pytest.approx(inside[-1], abs=1.0)
    assert found.end.at == pytest.approx(middle + (32.0 - level) / slope, rel=1e-6)


def test_too_near_together_unlike_and_too_few_say_nothing() -> None:
    near = _of([40.0, 39.9], [0.0, 0.01], [0.0, 4.0])
    assert near.per_year is None and near.per_hundred is None and near.working.result == "too near together to say"
    assert _of([40.0, 39.9], [0.0, 0.021], [0.0, 5.0]).per_hundred is not None
    assert trend("charge", [_figure(0, 40.0, 0.0)], LFP, {}) is None and trend("charge", [], LFP, {}) is None
    cold = _figure(2, 30.0, 1.0)
    cold = replace(cold, at=replace(cold.at, temperature_C=-10.0))
    found = trend("charge", [_figure(0, 40.0, 0.0), _figure(1, 39.5, 1.0), cold], LFP, {})
    assert found is not None and len(found.points) == 2 and found.aside == ("run 2: unlike temperature",)
    assert trend("charge", [_figure(0, 40.0, 0.0), cold], LFP, {}) is None
    partly = trend("charge", [_figure(0, 40.0, 0.0), _figure(1, 39.5, 1.0)], LFP, {"run 0": 0.0})
    assert partly is not None and partly.per_hundred is None, "cycles that nobody counted for one of them"
    unknown = replace(_figure(1, 39.0, 1.0), value=Quantity(39.0, None, "Ah"))
    bare = trend("charge", [_figure(0, 40.0, 0.0), unknown], LFP, {"run 0": 0.0, "run 1": 90.0}, 32.0)
    assert bare is not None and bare.per_year is not None and bare.per_year.standard is None
    assert bare.end is not None and bare.end.low is None


def test_an_end_is_told_only_when_it_is_worth_telling() -> None:
    sure = _of([40.0, 39.0, 38.0], [0.0, 1.0, 2.0], [0.0, 250.0, 500.0], 32.0)
    assert sure.per_hundred is not None and sure.per_hundred.value == pytest.approx(-0.4, abs=1e-6)
    assert sure.end is not None and sure.end.at == pytest.approx(2000.0) and sure.end.low is not None
    assert 1500.0 < sure.end.low < 2000.0 < (sure.end.high or 0) < 2700.0
    vague = _of([40.0, 39.95, 39.9], [0.0, 1.0, 2.0], [0.0, 50.0, 100.0], 32.0)
    assert vague.end is not None and vague.end.low is None and vague.end.at is None
    rising = _of([39.0, 39.6, 40.0], [0.0, 1.0, 2.0], [0.0, 50.0, 100.0], 32.0)
    assert rising.end is not None and rising.end.low is None
    sure_rise = _of([39.0, 39.6, 40.2], [0.0, 1.0, 2.0], [0.0, 250.0, 500.0], 32.0)
    assert sure_rise.end is not None and (sure_rise.end.at, sure_rise.end.low, sure_rise.end.high) == (None, None, None)
    over = _of([40.0, 36.0, 31.0], [0.0, 1.0, 2.0], [0.0, 250.0, 500.0], 32.0)
    assert over.end is not None and over.end.low is None and over.end.at is not None and over.end.at < 500.0
    assert _of([40.0, 39.0], [0.0, 1.0], [0.0, 250.0]).end is None, "nothing claims an end"


def test_intervals_hold_on_batteries_whose_fade_is_known() -> None:
    """Of 400 batteries that fade in proportion to their cycles, 92 to 98 % of both intervals hold the truth."""
    random = Random(5)
    slopes = ends = told = 0
    for _ in range(400):
        fade, health, gain = random.uniform(0.2, 0.8), random.uniform(39.0, 42.0), random.gauss(0.0, 0.002)
        cycles = [0.0, random.uniform(150.0, 250.0), random.uniform(350.0, 450.0), random.uniform(550.0, 700.0)]
        truth = [health - fade * count / 100.0 for count in cycles]
        spread = float(np.hypot(0.05, 0.003 * 40.0 / 3**0.5))
        seen = [value * (1.0 + gain) + random.gauss(0.0, spread) for value in truth]
        found = _of(seen, [count / 300.0 for count in cycles], cycles, 32.0)
        assert found.per_hundred is not None and found.end is not None
        slopes += abs(found.per_hundred.value + fade) <= (found.per_hundred.expanded or 0.0)
        if found.end.low is not None and found.end.high is not None:
            told += 1
            ends += found.end.low <= 100.0 * (health - 32.0) / fade <= found.end.high
    assert 0.92 <= slopes / 400 <= 0.995
    assert told > 250 and 0.92 <= ends / told <= 0.995
