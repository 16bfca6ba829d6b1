"""What a place was like, and what that makes of a soak and of months on a shelf.

The core is held against the same body integrated by scipy's solver; the rules of a thaw and of self-discharge by
temperature are common practice, no published source.
"""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import solve_ivp

from tests.amount import some
from tests.core.test_kinds import claim
from tests.making import piecewise
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse
from wintry_tally.core.analysis.place import GAP_S, PlaceHistory, place_history
from wintry_tally.core.battery import family_named
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace.trace import Trace
from wintry_tally.core.verdict import judge
from wintry_tally.core.verdict.evidence import LogEvidence
from wintry_tally.core.verdict.outcome import Outcome, School, Verdict

HOUR = 3600.0
LFP = family_named("lfp")
METER = Instrument(parse_accuracy("0.2%"), parse_accuracy("0.5%"), "one meter")


def _of(at_h: list[float], temperature: list[float], begin_h: float, end_h: float, tau_h: float = 0.0) -> PlaceHistory:
    at, read = np.array(at_h) * HOUR, np.array(temperature)
    return place_history("freezer", at, read, begin_h * HOUR, end_h * HOUR, tau_h * HOUR)


def test_mean_span_and_what_nobody_knows() -> None:
    steady = _of([0, 2, 4], [-18.0, -18.0, -18.0], 0, 4)
    assert (steady.mean_C, steady.low_C, steady.high_C, steady.covered) == (-18.0, -18.0, -18.0, 1.0)
    ramp = _of([0, 3, 6], [0.0, 3.0, 6.0], 0, 6)
    assert ramp.mean_C == pytest.approx(3.0, abs=0.01) and ramp.high_C == 6.0 and ramp.readings == 3
    # a reading speaks of half the gap on both of its sides: three hours from one to the next are bridged, ten are not
    bridged, gap = _of([0, 3], [0.0, 9.0], 0, 3), _of([0, 10], [0.0, 9.0], 0, 10)
    assert bridged.covered == 1.0 and gap.covered == pytest.approx(0.3, abs=0.01)
    alone = _of([10], [5.0], 0, 20)
    assert alone.covered == pytest.approx(2 * 0.5 * GAP_S / (20 * HOUR), abs=0.01) and alone.mean_C == 5.0
    assert _of([], [], 0, 4) == PlaceHistory("freezer") and _of([9, 10], [1.0, 1.0], 0, 4) == PlaceHistory("freezer")
    assert _of([0, 1], [np.nan, 4.0], 0, 1).mean_C == 4.0
    # read two hours after the span: so near that it is looked at, too far to speak of any of it
    assert _of([6], [5.0], 0, 4) == PlaceHistory("freezer") == _of([-2], [5.0], 0, 4)
    assert _of([5], [5.0], 0, 4).covered == pytest.approx(0.125, abs=0.01), "and of the last half hour it does speak"
    assert _of([0, 1], [1.0, 1.0], 1, 1) == PlaceHistory("freezer") and PlaceHistory("freezer").readings == 0


@settings(max_examples=some(12, 100))
@given(
    st.lists(st.floats(-30.0, 30.0), min_size=13, max_size=13), st.floats(0.5, 3.0),
)  # fmt: skip
def test_the_core_follows_as_the_solver_says(levels: list[float], tau_h: float) -> None:
    at = np.arange(13.0) * 2.0
    found = _of(list(at), levels, 0.0, 24.0, tau_h)

    def slope(hour: float, core: list[float]) -> list[float]:
        return [(np.interp(hour, at, levels) - core[0]) / tau_h]

    held = solve_ivp(slope, (0.0, 24.0), [23.0], max_step=0.5, rtol=1e-6)
    assert found.core_C == pytest.approx(float(held.y[0][-1]), abs=0.05)


def test_no_core_where_the_last_hours_are_unknown() -> None:
    assert _of([0, 3, 6, 9], [-18.0] * 4, 0, 10, 1.0).core_C == pytest.approx(-18.0, abs=0.1)
    assert _of([0, 3, 6], [-18.0] * 3, 0, 10, 1.0).core_C is None, "of the last hours nothing is known"
    # a gap long ago does not matter, but in it the body is taken to have been warm
    barely = _of([0, 6.9, 7.5, 9], [-18.0] * 4, 0, 9, 1.0)
    assert barely.core_C is not None, "known from 5.4 h on: three time constants before 9 h are all that it needs"
    early = _of([0, 6, 8, 10, 12, 14], [-18.0] * 6, 0, 14, 1.0)
    assert early.core_C is not None and -18.0 < early.core_C < -17.9


def _discharge(hours: float, ambient: float) -> Analysis:
    trace = piecewise(
        (600.0, 0.0, 13.3), (hours * HOUR, 10.0, 12.9), (60.0, 10.0, 9.5), (300.0, 0.0, 13.0), interval_s=30.0
    )
    return analyse(trace, Options(family=LFP, rated_Ah=40.0, ambient_C=ambient, cutoff_V=9.6, instrument=METER))


def _loss(stood: PlaceHistory | None, measured: bool = False) -> Verdict:
    cold, warm = _discharge(3.4, -18.0), _discharge(4.0, 23.0)
    if measured:
        trace = cold.trace
        whole = Trace(
            trace.time_s,
            trace.voltage_V,
            trace.current_A,
            temperature_C=np.full(len(trace), -17.0),
            resolution=trace.resolution,
        )
        cold = analyse(whole, cold.options)
    wanted = claim("cold-loss", 25.0, "%", "at-most", temperature_C=-18.0)
    evidence = LogEvidence("cold-loss", ("cold", "warm"), (cold, warm), stood=stood)
    return judge(LFP, 40.0, [wanted], [evidence], School.STRICT)[0]


def _soaked(thaw_from_h: float, thaw_h: float) -> PlaceHistory:
    at = np.arange(0.0, 72.01, 0.02)
    warm = (at > thaw_from_h) & (at <= thaw_from_h + thaw_h)
    return _of(list(at), list(np.where(warm, 20.0, -18.0)), 0.0, 72.0, 0.9)


def test_a_thaw_before_it_makes_a_cold_verdict_untested() -> None:
    assert _loss(None).outcome is Outcome.MET and not any(c.name == "soak" for c in _loss(None).conditions)
    sound = _loss(_soaked(0.0, 0.0))
    assert sound.outcome is Outcome.MET
    assert next(c for c in sound.conditions if c.name == "soak").actual == "core near -18 °C by the log of the freezer"
    thawed = _loss(_soaked(70.0, 2.0))
    assert thawed.outcome is Outcome.NOT_TESTED and thawed.measured is not None
    assert "no longer that cold" in (thawed.advice or "") and "not -18 °C" in (thawed.advice or "")
    # a door left open the day before has been slept off; five minutes just before it do not count
    assert _loss(_soaked(40.0, 2.0)).outcome is Outcome.MET
    assert _loss(_soaked(71.95, 0.05)).outcome is Outcome.MET
    # the pack's own thermometer knows better than the place's
    assert _loss(_soaked(70.0, 2.0), measured=True).outcome is Outcome.MET


def test_the_edge_of_a_thaw_is_three_kelvin_and_stands_in_the_working() -> None:
    def at(core: float) -> Verdict:
        return _loss(PlaceHistory("freezer", 99, 1.0, -18.0, -18.0, core, core))

    assert at(-15.1).outcome is Outcome.MET and at(-14.9).outcome is Outcome.NOT_TESTED
    working = at(-18.0).working
    assert working is not None and working.inputs["soak"] == "core near -18 °C by the log of the freezer"


def test_a_place_never_logged_is_told_and_settles_as_before() -> None:
    unknown = _loss(PlaceHistory("freezer"))
    assert unknown.outcome is Outcome.MET
    assert next(c for c in unknown.conditions if c.name == "soak").actual == "the freezer was not logged before it"
    seldom = _loss(PlaceHistory("freezer", readings=2, covered=0.1, mean_C=-18.0, low_C=-18.0, high_C=-18.0))
    assert next(c for c in seldom.conditions if c.name == "soak").actual == "the freezer was logged too seldom"


def _charge(amps: float, seconds: float) -> Analysis:
    trace = piecewise(
        (300.0, 0.0, 13.2),
        (seconds, -amps, 13.9),
        (60.0, -amps / 2, 14.2),
        (120.0, -0.3, 14.2),
        (300.0, 0.0, 13.6),
        interval_s=10.0,
    )
    return analyse(trace, Options(family=LFP, rated_Ah=40.0, ambient_C=23.0, instrument=METER))


def _shelf(value: float, lay: float, stood: PlaceHistory | None, **conditions: float) -> Verdict:
    pair = (_charge(8.0, 2400.0), _charge(8.0, 540.0))
    wanted = claim("self-discharge", value, "%/month", "at-most", **conditions)
    evidence = LogEvidence("self-discharge", ("start", "end"), pair, lay * 30.44 * 24 * HOUR, stood)
    return judge(LFP, 40.0, [wanted], [evidence], School.STRICT)[0]


def test_the_shelf_s_own_time_and_temperature_count() -> None:
    """About 1.28 Ah of 40 Ah go back in: 3.2 % over the time recorded, whatever the claim's own months are."""
    one, two = _shelf(4.0, 1.0, None), _shelf(4.0, 2.0, None, months=1.0)
    assert one.measured is not None and two.measured is not None
    assert one.measured.value == pytest.approx(3.2, abs=0.15) and two.measured.value == pytest.approx(
        0.5 * one.measured.value
    )
    assert one.outcome is Outcome.MET and not one.conditions
    cool = _shelf(4.0, 1.0, _of(list(range(0, 720, 2)), [10.0] * 360, 0.0, 718.0))
    effect = next(c for c in cool.conditions if c.name == "temperature").effect
    assert effect is not None and effect.value == pytest.approx(one.measured.value, rel=0.01), (
        "twice as much 10 K warmer"
    )
    assert cool.outcome is Outcome.TOO_CLOSE, "met as it lay, missed as it is claimed"
    like = _shelf(4.0, 1.0, _of(list(range(0, 720, 2)), [19.0] * 360, 0.0, 718.0))
    assert like.outcome is Outcome.MET and next(c for c in like.conditions if c.name == "temperature").effect is None
    warm = _shelf(4.0, 1.0, PlaceHistory("shelf", 99, 0.8, 30.0, 29.0, 31.0))
    effect = next(c for c in warm.conditions if c.name == "temperature").effect
    half = 0.5 * one.measured.value
    assert effect is not None and effect.value == pytest.approx(half - one.measured.value)
    # between 1.5 and 2.5 times for 10 K: a quarter of it either way, as limits
    assert effect.standard == pytest.approx(0.25 * half / 3**0.5)
    for mean, said in ((18.0, False), (17.9, True), (22.0, False), (22.1, True)):
        told = _shelf(4.0, 1.0, PlaceHistory("shelf", 99, 0.9, mean, mean, mean)).conditions
        assert (next(c for c in told if c.name == "temperature").effect is not None) is said
    partly = next(
        c
        for c in _shelf(4.0, 1.0, PlaceHistory("shelf", 9, 0.79, 30.0, 29.0, 31.0)).conditions
        if c.name == "temperature"
    )
    assert partly.effect is None and "logged for 79 % of the time" in str(partly.actual)
    never = next(c for c in _shelf(4.0, 1.0, PlaceHistory("shelf")).conditions if c.name == "temperature")
    assert never.actual == "the shelf was not logged" and never.effect is None


def test_a_shelf_that_began_less_than_full_settles_nothing() -> None:
    trace = piecewise((300.0, 0.0, 13.2), (600.0, -8.0, 13.6), (300.0, 0.0, 13.3), interval_s=10.0)
    half = analyse(trace, Options(family=LFP, rated_Ah=40.0, ambient_C=23.0, instrument=METER))
    for pair, words in (
        ((half, _charge(8.0, 540.0)), "did not end full"),
        ((_charge(8.0, 540.0), half), "the same full"),
    ):
        evidence = LogEvidence("self-discharge", ("start", "end"), pair, 30.0 * 24 * HOUR)
        found = judge(LFP, 40.0, [claim("self-discharge", 4.0, "%/month", "at-most")], [evidence], School.STRICT)[0]
        assert found.outcome is Outcome.NOT_TESTED and words in (found.advice or "")
