"""A meter's zero error is no current: in stages, in verdicts, in remarks; real small currents stay visible."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import CLAIM_KINDS, FAMILIES, Claim, parse_claim
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import School, judge
from wintry_tally.core.verdict.evidence import evidence_from_log
from wintry_tally.core.verdict.outcome import Outcome


def traced(
    parts: list[tuple[float, float, float]], zero: float, noise: float, every: float = 2.0, digit: float = 0.01, **more
) -> Trace:
    """(seconds, volts, amperes) one after the other, read by a meter off by `zero`."""
    random = np.random.default_rng(4)
    volts = np.concatenate([np.full(int(s / every), v) for s, v, _ in parts])
    amps = np.concatenate([np.full(int(s / every), a) for s, _, a in parts])
    shown = np.round((amps + zero + noise * random.standard_normal(len(amps))) / digit) * digit
    time_s = np.arange(len(volts)) * every
    volts = np.round(volts + 0.001 * random.standard_normal(len(volts)), 3)
    more = {name: np.full(len(volts), value) for name, value in more.items()}
    return Trace(time_s, volts, shown, resolution={"voltage_V": 0.001, "current_A": digit}, **more)


def options(current: str, family: str = "lfp", **more) -> Options:
    return Options(FAMILIES[family], 40.0, Instrument(parse_accuracy("0.1%+2d"), parse_accuracy(current)), **more)


KIND = CLAIM_KINDS["cold-charge-block"]
BLOCK = Claim(KIND.key, 0.0, "°C", KIND.direction, 0.0, {}, "label")
CYCLE = [(3600.0, 13.3, 0.0), (7200.0, 13.0, 8.0), (1800.0, 13.2, 0.0), (3600.0, 13.7, -8.0), (1800.0, 13.4, 0.0)]
KINDS = ["rest", "discharge", "rest", "charge", "rest"]


@given(st.floats(-0.05, 0.05), st.floats(0.0, 0.02))
def test_within_its_limit_at_zero_nothing_flows(zero: float, noise: float) -> None:
    trace = traced(CYCLE, zero, noise, every=20.0, digit=0.001)
    found = analyse(trace, options("1%+0.05"))
    assert [result.stage.kind.value for result in found.stages] == KINDS
    assert not {"charger-setting", "rest-too-short"} & {remark.code for remark in found.remarks}


def test_the_current_just_beyond_is_one() -> None:
    trace = traced([(3600.0, 13.3, 0.0), (7200.0, 13.25, 0.08), (3600.0, 13.3, 0.0)], 0.0, 0.002, digit=0.001)
    seen = analyse(trace, options("1%+0.05"))
    assert [result.stage.kind.value for result in seen.stages] == ["rest", "discharge", "rest"]
    none = analyse(trace, options("1%+0.1"))
    assert [result.stage.kind.value for result in none.stages] == ["rest"]


def test_a_small_device_on_a_fine_meter_stays_visible() -> None:
    trace = traced([(1800.0, 13.3, 0.0), (36000.0, 13.25, 0.021)], 0.0005, 0.0004, every=30.0, digit=0.0001)
    found = analyse(trace, options("1%+0.001"))
    assert [result.stage.kind.value for result in found.stages] == ["rest", "discharge"]


def test_a_steady_zero_error_is_remarked_with_the_offer_to_subtract_it() -> None:
    remarks = {r.code: r for r in analyse(traced(CYCLE, 0.04, 0.004, digit=0.001), options("1%+0.05")).remarks}
    assert "reads +0.04" in remarks["zero-offset"].message and "subtract 0.04" in remarks["zero-offset"].offer
    clean = analyse(traced(CYCLE, 0.0, 0.004, digit=0.001), options("1%+0.05"))
    assert "zero-offset" not in {remark.code for remark in clean.remarks}


@pytest.mark.parametrize("zero", [-0.15, 0.0, 0.15])
def test_a_charge_that_is_blocked_within_seconds_is_blocked_whatever_the_zero(zero: float) -> None:
    parts = [(60.0, 13.0, 0.0), (1.5, 13.4, -4.0), (180.0, 14.4, 0.0)]
    trace = traced(parts, zero, 0.006, every=0.5, temperature_C=-8.0)
    analysis = analyse(trace, options("1%+0.2", ambient_C=-8.0))
    evidence = evidence_from_log("charge-block", "block", analysis, -8.0)
    verdict = judge(FAMILIES["lfp"], 40.0, [BLOCK], evidence, School.STRICT)[0]
    assert verdict.outcome is Outcome.MET


def test_a_reserve_test_is_not_settled_by_what_it_rebounds_to() -> None:
    """Switched off after 100 of 110 minutes: neither met by the rebound nor missed."""
    parts = [(600.0, 12.7, 0.0), (6000.0, 11.2, 25.0), (1800.0, 11.9, 0.0)]
    for zero in (0.0, 0.15):
        trace = traced(parts, zero, 0.01, every=5.0, temperature_C=25.0)
        analysis = analyse(trace, options("1%+0.2", "agm", rated_minutes=110.0))
        evidence = evidence_from_log("reserve", "r", analysis, 25.0)
        verdict = judge(FAMILIES["agm"], 75.0, [parse_claim("reserve 110 min at 25 A")], evidence, School.STRICT)[0]
        assert verdict.outcome is Outcome.NOT_TESTED and verdict.bound == "at-least"
        assert verdict.measured is not None and verdict.measured.value == pytest.approx(6000.0, rel=0.01)
        shorter = judge(FAMILIES["agm"], 75.0, [parse_claim("reserve 90 min at 25 A")], evidence, School.STRICT)[0]
        assert shorter.outcome is Outcome.MET


def refused(zero: float, flowed_s: float, noise: float = 0.004) -> Trace:
    """A charger put on a cold pack: its voltage stands, and what is read is the meter's zero, before and after."""
    parts = [(60.0, 12.75, 0.0), (flowed_s, 12.9, -9.9), (300.0, 14.39, 0.0), (60.0, 12.76, 0.0)]
    return traced(parts, zero, noise, every=0.5, temperature_C=-8.0)


@pytest.mark.parametrize("zero", [0.0, -0.01, 0.02, -0.3])
@pytest.mark.parametrize("flowed_s", [0.0, 1.5])
@pytest.mark.parametrize("accuracy", ["1%+0.005", None])
def test_where_the_terminals_leap_and_the_current_stands_nothing_flows(
    zero: float, flowed_s: float, accuracy: str | None
) -> None:
    # Ohm's law: no current flows on unmoved through 1.6 V more, whatever a meter's own specification allows at zero
    meter = Instrument(parse_accuracy("0.1%+2d"), parse_accuracy(accuracy)) if accuracy else Instrument()
    found = analyse(refused(zero, flowed_s), Options(FAMILIES["lfp"], 40.0, meter))
    evidence = evidence_from_log("charge-block", "cold.csv", found)
    verdict = judge(FAMILIES["lfp"], 40.0, [BLOCK], evidence, School.STRICT)[0]
    assert verdict.outcome is Outcome.MET, verdict.advice


@pytest.mark.parametrize(
    ("parts", "why"),
    [
        (
            [(60.0, 12.75, 0.0), (300.0, 14.39, -0.4), (60.0, 12.75, 0.0)],
            "0.4 A that come with the voltage are a charge",
        ),
        ([(60.0, 12.75, -0.8), (300.0, 14.39, -0.8), (60.0, 12.75, 0.0)], "0.8 A are more than a zero"),
        ([(60.0, 12.75, -0.3), (300.0, 13.2, -0.3), (60.0, 12.75, 0.0)], "0.45 V is no leap"),
    ],
)
def test_the_current_just_beyond_such_a_zero_is_one(parts: list[tuple[float, float, float]], why: str) -> None:
    found = analyse(traced(parts, 0.0, 0.004, every=0.5), Options(FAMILIES["lfp"], 40.0, Instrument()))
    assert "charge" in [result.stage.kind.value for result in found.stages], why


@pytest.mark.parametrize(("flows", "drawn_s"), [(0.018, 7200.0), (0.045, 8400.0)])
def test_a_digit_or_two_of_an_unknown_meter_is_no_current(flows: float, drawn_s: float) -> None:
    # common practice, no published source: 18 mA read by 10 mA beside 0.7 A; four digits are a current
    parts = [(300.0, 13.3, 0.0), (600.0, 13.3, flows), (7200.0, 13.0, 0.7), (600.0, 13.2, flows), (300.0, 13.2, 0.0)]
    found = analyse(traced(parts, 0.0, 0.003, every=10.0), Options(FAMILIES["lfp"], 7.0, Instrument()))
    discharged = sum(one.end_s - one.start_s for one in found.stages if one.stage.kind.value == "discharge")
    assert discharged == pytest.approx(drawn_s, abs=60.0)
