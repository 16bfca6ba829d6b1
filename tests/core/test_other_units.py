"""Clocks and thermometers in another unit, currents without a sign: seen, offered to be mended, nothing judged before.

Common practice, no published source; 0 °C = 273.15 K = 32 °F (Système International, exact). Invented data.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.making import RESOLUTION, discharge
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse
from wintry_tally.core.analysis.analyse import mended_trace
from wintry_tally.core.battery import FAMILIES, Claim, Direction
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import School, Verdict, judge
from wintry_tally.core.verdict.evidence import evidence_from_log
from wintry_tally.core.verdict.outcome import Outcome

LFP, TIME = FAMILIES["lfp"], frozenset({"time"})
METER = Instrument(parse_accuracy("0.1%+2d"), parse_accuracy("0.5%+0.005"))
TRACE = discharge()


def looked_at(trace: Trace, rated: float | None = 40.0, repair: str = "safe") -> Analysis:
    return analyse(trace, Options(LFP, rated, METER, repair=repair))  # type: ignore[arg-type]


def codes(analysis: Analysis) -> set[str]:
    return {remark.code for remark in analysis.remarks}


def verdict(analysis: Analysis, claimed_Ah: float = 38.0) -> Verdict:
    claim = Claim("capacity", claimed_Ah, "Ah", Direction.AT_LEAST)
    return judge(LFP, 40.0, [claim], evidence_from_log("capacity", "a.csv", analysis), School.STRICT)[0]


@pytest.mark.parametrize("factor", [60.0, 3600.0, 1 / 60.0, 1 / 3600.0, 0.001])
def test_a_clock_in_another_unit_is_offered_to_be_mended_and_bars_a_verdict(factor: float) -> None:
    slow = replace(TRACE, time_s=TRACE.time_s / factor, unnamed=TIME)
    found = looked_at(slow)
    assert codes(found) == {"unit-suspect"} and verdict(found).outcome is Outcome.TOO_CLOSE
    mended = looked_at(slow, repair="offered")
    assert mended.capacity is not None and mended.capacity.count.charge.value == pytest.approx(40.0, rel=1e-3)
    assert "as offered" in mended.remarks[0].message and verdict(mended).outcome is Outcome.MET
    assert mended_trace(slow, mended.options).time_s == pytest.approx(mended.trace.time_s)


def test_a_run_that_waits_for_a_decision_holds_up_no_other() -> None:
    slow, good = looked_at(replace(TRACE, time_s=TRACE.time_s / 60.0, unnamed=TIME)), looked_at(TRACE)
    claims = [
        Claim("capacity", 38.0, "Ah", Direction.AT_LEAST),
        Claim("low-voltage-cut", 10.4, "V", Direction.WITHIN, 0.3),
    ]
    waits, sound = evidence_from_log("capacity", "slow", slow), evidence_from_log("capacity", "good", good)
    for evidence in (waits + sound, sound + waits):
        amount, cut = judge(LFP, 40.0, claims, evidence, School.STRICT)
        assert [(found.outcome, found.evidence) for found in (amount, cut)] == [(Outcome.MET, ("good",))] * 2
        assert "slow left aside: readings of the log wait" in str(amount.advice)
    assert verdict(slow).outcome is Outcome.TOO_CLOSE


def test_a_clock_that_was_named_is_believed_as_long_as_it_can_be() -> None:
    minutes = replace(TRACE, time_s=TRACE.time_s / 60.0)
    assert not codes(looked_at(minutes)) and verdict(looked_at(minutes)).outcome is Outcome.MISSED
    # sixty times the rating cannot be, whatever the heading says
    assert codes(looked_at(replace(TRACE, time_s=TRACE.time_s * 60.0))) == {"unit-suspect"}


def test_a_charge_that_no_unit_explains_bars_every_verdict() -> None:
    for repair in ("safe", "offered"):
        found = looked_at(TRACE, 4.0, repair)
        assert codes(found) == {"more-than-possible"} and verdict(found).outcome is Outcome.TOO_CLOSE
    assert codes(looked_at(TRACE, 40.0 / 2.9)) == set(), "a rating far too low may still be one"
    assert codes(looked_at(TRACE, 40.0 / 3.1)) == {"more-than-possible"}


@pytest.mark.parametrize(("rated", "suspect"), [(40.0 * 60, True), (40.0 * 60 / 1.39, True), (40.0 * 60 / 1.41, False), (40.0 * 60 / 0.26, True), (40.0 * 300, False), (160.0 * 0.99, False), (40.0 * 3600, True)])  # fmt: skip
def test_a_short_clock_is_seen_where_the_rating_makes_a_test_of_it(rated: float, suspect: bool) -> None:
    short = replace(discharge(noise_A=0.0), unnamed=TIME)
    assert ("unit-suspect" in codes(looked_at(short, rated))) == suspect


@pytest.mark.parametrize(("rested_V", "suspect"), [(12.6, False), (13.3, True)])
def test_a_battery_that_rested_nearly_empty_gave_little_and_its_clock_is_right(rested_V: float, suspect: bool) -> None:
    short = discharge(8.0, 0.1, interval_s=1.0, rest_s=600.0, after_s=60.0, noise_A=0.0, noise_V=0.0)
    volts = short.voltage_V.copy()
    volts[short.time_s < 600.0] = rested_V
    assert ("unit-suspect" in codes(looked_at(replace(short, voltage_V=volts, unnamed=TIME)))) == suspect


@pytest.mark.parametrize(
    ("interval_s", "factor"),
    [
        *((s, 60.0) for s in (1.0, 2.0, 5.0, 10.0, 20.0)),
        *((s, 3600.0) for s in (1.0, 2.0, 5.0, 10.0, 15.0, 20.0, 30.0)),
    ],
)
def test_an_interval_that_is_whole_in_another_unit_is_seen_without_a_rating(interval_s: float, factor: float) -> None:
    ticks = replace(discharge(interval_s=interval_s), unnamed=TIME)
    shown = replace(ticks, time_s=np.round(ticks.time_s / factor, 4))
    (remark,) = looked_at(shown, None).remarks
    assert remark.code == "unit-suspect" and f" {factor:.0f} times " in remark.offer
    assert not codes(looked_at(ticks, None)), "in seconds it is a usual one"
    assert codes(looked_at(shown, 40.0 / 1.39)) == {"unit-suspect"}
    assert not codes(looked_at(shown, 40.0 / 1.41)), "in that unit it would be more than the rating"


@pytest.mark.parametrize(
    ("factor", "every_s", "digits"), [(60.0, 130, 5), (60.0, 70, 3), (3600.0, 95, 5), (3600.0, 95, 6)]
)
def test_whole_seconds_written_in_another_unit_are_seen_by_their_digits(
    factor: float, every_s: int, digits: int
) -> None:
    # no interval that loggers are set to, and no rating: thirds and sixths of a unit are what no clock counts
    seldom = discharge(interval_s=float(every_s), rest_s=1200.0)
    late = seldom.time_s + 7.0 * (seldom.time_s > 3000.0)
    shown = replace(seldom, time_s=np.round(late / factor, digits), unnamed=TIME)
    (remark,) = (one for one in looked_at(shown, None).remarks if one.code == "unit-suspect")
    assert f" {factor:.0f} times " in remark.offer and "even seconds" in remark.message
    assert "unit-suspect" not in codes(looked_at(replace(shown, unnamed=frozenset()), None)), "a heading names it"
    assert "unit-suspect" not in codes(looked_at(shown, 40.0 / 1.41)), "in that unit it would be more than the rating"


@given(
    st.sampled_from([0.0, 0.13, 0.377]), st.sampled_from([1.0, 0.999, 1.00013, 60.0, 7.3]), st.sampled_from([2, 3, 5])
)
def test_no_clock_of_seconds_is_taken_for_another_by_its_digits(begins_s: float, every_s: float, digits: int) -> None:
    ticks = discharge(20.0, 0.02, interval_s=every_s, rest_s=60.0, after_s=30.0)
    shown = replace(ticks, time_s=np.round(ticks.time_s + begins_s, digits), unnamed=TIME)
    assert "unit-suspect" not in codes(looked_at(shown, None))


@pytest.mark.parametrize(("end_V", "suspect"), [(11.8, True), (12.9, False)])
def test_a_test_that_ended_nearly_empty_without_a_cause_is_held_against_its_rating(end_V: float, suspect: bool) -> None:
    whole = discharge(interval_s=120.0, rest_s=1200.0, end_V=end_V - 0.1, opened=False)
    shown = looked_at(replace(whole, time_s=np.round(whole.time_s / 60.0, 2), unnamed=TIME))
    assert shown.capacity is not None and shown.capacity.ended_by == "operator"
    assert ("unit-suspect" in codes(shown)) == suspect


@given(st.sampled_from([0.05, 0.1, 0.2, 0.25, 0.5, 1.0, 30.0]))
def test_usual_intervals_in_seconds_are_no_slip(interval_s: float) -> None:
    ticks = discharge(60.0, 0.02, interval_s=interval_s, rest_s=60.0, after_s=30.0)
    assert "unit-suspect" not in codes(looked_at(replace(ticks, unnamed=TIME), None))


def test_a_clock_that_may_be_two_things_settles_nothing_unless_the_charge_does() -> None:
    both = frozenset({"time", "clock"})
    short = discharge(40.0, 0.05, rest_s=60.0, after_s=60.0, interval_s=60.0)
    assert "unit-suspect" in codes(looked_at(replace(short, unnamed=both)))
    assert "unit-suspect" not in codes(looked_at(replace(short, unnamed=TIME)))
    assert not codes(looked_at(replace(TRACE, unnamed=both))), "an ordinary test of its rating"
    assert codes(looked_at(replace(TRACE, unnamed=both), None)) == {"unit-suspect"}


# --- temperatures ---


def warm(celsius: np.ndarray | float, unnamed: bool = True) -> Trace:
    column = np.broadcast_to(celsius, TRACE.time_s.shape).astype(float)
    return replace(TRACE, temperature_C=column, unnamed=frozenset({"temperature"} if unnamed else ()))


@given(st.floats(14.0, 44.0), st.booleans())
def test_fahrenheit_is_left_out_until_it_is_said(celsius: float, unnamed: bool) -> None:
    shown = warm(celsius * 1.8 + 32.0, unnamed)
    found = looked_at(shown)
    assert ("temperature-suspect" in codes(found)) == unnamed, "where the heading says °C it is believed"
    assert (found.stages[0].temperature_mean is None) == unnamed
    if unnamed:
        mended = looked_at(shown, repair="offered")
        assert mended.stages[0].temperature_mean == pytest.approx(celsius, abs=1e-6)


@pytest.mark.parametrize(("celsius", "unnamed", "suspect"), [(54.9, True, False), (55.1, True, True), (70.0, False, False), (222.0, True, False), (296.0, False, True), (223.1, False, True), (342.9, False, True), (343.1, False, False), (114.9, True, True), (115.1, True, False)])  # fmt: skip
def test_the_reading_just_beyond(celsius: float, unnamed: bool, suspect: bool) -> None:
    assert ("temperature-suspect" in codes(looked_at(warm(celsius, unnamed)))) == suspect


@pytest.mark.parametrize(
    ("around", "value", "wrong"),
    [
        ((23.0, 23.0), 38.1, True), ((23.0, 23.0), 37.9, False), ((23.0, 23.0), 7.9, True), ((23.0, 27.9), 43.0, True),
        ((23.0, 28.1), 44.0, False), ((-55.0, -55.0), -59.9, False), ((-55.0, -55.0), -60.1, True), ((148.0, 148.0), 149.9, False),
        ((148.0, 148.0), 150.1, True),
    ],
)  # fmt: skip
def test_the_single_temperature_just_beyond(around: tuple[float, float], value: float, wrong: bool) -> None:
    celsius = np.where(np.arange(len(TRACE)) < 900, *around)
    celsius[900] = value
    found = looked_at(warm(celsius))
    assert ("outlier-reading" in codes(found)) == wrong
    assert found.trace.temperature_C is not None and np.isnan(found.trace.temperature_C[900]) == wrong


def test_a_battery_that_was_heated_is_no_fahrenheit() -> None:
    for lowest, suspect in ((44.9, False), (45.1, True)):
        heated = np.where(TRACE.time_s < 600.0, lowest, 70.0)
        assert ("temperature-suspect" in codes(looked_at(warm(heated)))) == suspect


def test_kelvin() -> None:
    mended = looked_at(warm(296.15, unnamed=False), repair="offered")
    assert mended.stages[0].temperature_mean == pytest.approx(23.0)


def test_single_temperatures_that_cannot_be_are_left_out_alone() -> None:
    celsius = np.full(len(TRACE), 23.0)
    celsius[[40, 900, 1500]] = [-127.0, 85.0, 200.0]
    found = looked_at(warm(celsius))
    (remark,) = found.remarks
    assert remark.code == "outlier-reading" and remark.rows == (41, 1501) and "3 temperatures" in remark.message
    assert [stage.temperature_mean for stage in found.stages] == [23.0, 23.0, 23.0]
    assert found.rows == len(TRACE) and len(found.trace) == len(TRACE), "the volts and amperes of these rows stand"
    celsius[:] = np.where(np.arange(len(celsius)) % 5, -127.0, 23.0)
    assert looked_at(warm(celsius)).trace.temperature_C is None
    step = np.where(TRACE.time_s < 9000.0, 5.0, 30.0)
    assert not codes(looked_at(warm(step))), "a sensor that was moved"


# --- currents without a sign ---


def cycle(unsigned: bool, rest_s: float = 900.0, ohm: float = 0.02) -> Trace:
    """A charge, a rest and a discharge, all of 8 A."""
    down = discharge()
    seconds = np.arange(0.0, rest_s + 18000.0, 10.0)
    amps = np.where(seconds < rest_s, 0.0, -8.0)
    volts = 13.0 + 0.3 * np.clip((seconds - rest_s) / 18000.0, 0.0, 1.0) - amps * ohm
    current = np.append(amps, down.current)
    return Trace(
        np.append(seconds, down.time_s + seconds[-1] + 10.0), np.round(np.append(volts, down.voltage_V), 3),
        np.abs(current) if unsigned else current, resolution=RESOLUTION,
    )  # fmt: skip


@pytest.mark.parametrize("rest_s", [0.0, 900.0])
def test_a_charge_written_without_its_sign_is_no_discharge(rest_s: float) -> None:
    found = looked_at(cycle(True, rest_s))
    flipped = [remark for remark in found.remarks if remark.code == "sign-flipped"]
    first = int(rest_s / 10) + 1
    assert [remark.rows for remark in flipped] == [(first, first + 1799)]
    barred = verdict(found)
    assert barred.outcome in {Outcome.TOO_CLOSE, Outcome.NOT_TESTED}
    assert str(barred.advice).startswith("readings of the log wait for a decision"), (
        "before what else may be said of it"
    )
    mended = looked_at(cycle(True, rest_s), repair="offered")
    assert mended.capacity is not None and mended.capacity.count.charge.value == pytest.approx(40.0, rel=1e-3)
    assert mended.charge is not None and mended.charge.count.charge.value == pytest.approx(40.0, rel=2e-3)
    assert "sign-flipped" not in codes(looked_at(cycle(False, rest_s)))


def test_a_step_that_a_meter_may_make_turns_no_sign() -> None:
    assert "sign-flipped" not in codes(looked_at(cycle(True, ohm=0.003)))
    # a cold pack warms under load and its voltage rises, but it stands below what it had at rest
    hump = discharge()
    volts = hump.voltage_V.copy()
    load = (hump.time_s > 1800.0) & (hump.time_s < 9000.0)
    volts[load] = 12.2 + 0.6 * (hump.time_s[load] - 1800.0) / 7200.0
    assert "sign-flipped" not in codes(looked_at(replace(hump, voltage_V=volts)))


# --- a temperature that nobody wrote down ---


@pytest.mark.parametrize(("claimed_C", "decided"), [(None, True), (25.0, True), (-10.0, False)])
def test_a_claim_for_the_cold_is_not_settled_by_a_log_of_which_nobody_knows_how_warm_it_was(
    claimed_C: float | None, decided: bool
) -> None:
    conditions = {} if claimed_C is None else {"temperature_C": claimed_C}
    claim = Claim("capacity", 36.0, "Ah", Direction.AT_LEAST, conditions=conditions)
    found = judge(LFP, 40.0, [claim], evidence_from_log("capacity", "a.csv", looked_at(TRACE)), School.STRICT)[0]
    assert (found.outcome is Outcome.MET) == decided
    unknown = [condition for condition in found.conditions if condition.name == "temperature"]
    assert [condition.actual for condition in unknown] == ([None] if claimed_C is not None else [])
    if claimed_C is not None and unknown[0].effect is not None:
        # 0.3 % a kelvin from a room of 22 °C
        assert unknown[0].effect.value == pytest.approx(0.003 * (claimed_C - 22.0) * 40.0, rel=1e-3)
    if not decided:
        assert found.advice is not None and found.advice.startswith("say how warm")
