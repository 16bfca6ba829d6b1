"""Effects and thresholds of judging, each worked out a second time beside it: what small changes to the code would move.

The rate law is Peukert's (common form, from memory); warmth after IEC 60095-1 and 60896-11 (from memory); the families'
exponents and coefficients: common practice, no published source.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from tests.core.test_kinds import LFP, analysed, claim, discharge, verdict, warming, with_temperature
from tests.making import piecewise
from wintry_tally.core.analysis import Analysis
from wintry_tally.core.battery import Claim, Direction, family_named
from wintry_tally.core.quantity import Quantity, Term
from wintry_tally.core.verdict import School, judge
from wintry_tally.core.verdict.effects import rate_condition, temperature_condition, warmth_condition
from wintry_tally.core.verdict.evidence import (
    CapacityEvidence,
    LogEvidence,
    MeasuredEvidence,
    capacity_evidence,
    likely_method,
)
from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.core.verdict.settle_capacity import scatter_beyond

CAPACITY = Claim("capacity", 10.0, "Ah", Direction.AT_LEAST)


def _evidence(amps: float, temperature: float | None = 25.0, hours: float = 5.0) -> CapacityEvidence:
    found = capacity_evidence("run", analysed(discharge(1.0, 2.0, opened=True), rated=10.0))
    assert found is not None
    return replace(found, mean_current_A=amps, temperature_C=temperature, duration_s=3600.0 * hours, rates=(amps,))


@pytest.mark.parametrize(
    ("family", "exponent", "doubt"),
    [("lfp", 1.02, 0.015), ("nmc", 1.03, 0.02), ("agm", 1.15, 0.05), ("gel", 1.18, 0.05), ("flooded", 1.22, 0.06)],
)
def test_the_rate_law_of_each_family(family: str, exponent: float, doubt: float) -> None:
    kind = family_named(family)
    usual = kind.reference_rate_C * 10.0
    for ratio in (0.5, 2.0):
        found = rate_condition(kind, CAPACITY, _evidence(ratio * usual), 10.0, 9.0)
        assert found is not None and found.effect is not None
        assert found.effect.value == pytest.approx(9.0 * (ratio ** (exponent - 1.0) - 1.0))
        assert found.effect.standard == pytest.approx(9.0 * math.log(2.0) * doubt * ratio ** (exponent - 1.0))
        assert (found.claimed, found.actual) == (pytest.approx(usual / 10.0), pytest.approx(ratio * usual / 10.0))
    for ratio, told in ((1.09, False), (1.11, True), (0.91, False), (0.89, True)):
        found = rate_condition(kind, CAPACITY, _evidence(ratio * usual), 10.0, 9.0)
        assert found is not None and (found.effect is not None) is told
    mixed = rate_condition(kind, CAPACITY, replace(_evidence(usual), rates=(usual, 1.5 * usual)), 10.0, 9.0)
    assert mixed is not None and mixed.name == "mixed rates" and mixed.effect is not None
    assert mixed.effect.standard == pytest.approx(9.0 * math.log(1.5) * (exponent - 1.0) / 2.0)


@pytest.mark.parametrize(
    ("family", "slope", "doubt"),
    [
        ("lfp", 0.003, 0.002),
        ("nmc", 0.004, 0.002),
        ("agm", 0.01, 0.003),
        ("gel", 0.01, 0.003),
        ("flooded", 0.01, 0.003),
    ],
)
def test_warmth_of_each_family(family: str, slope: float, doubt: float) -> None:
    kind = family_named(family)
    found = warmth_condition(kind, CAPACITY, 15.0, 3600.0, 9.0)
    assert found is not None and found.effect is not None
    assert found.effect.value == pytest.approx(9.0 * slope * 10.0) and found.effect.standard == pytest.approx(
        9.0 * doubt * 10.0
    )
    slow = temperature_condition(kind, CAPACITY, _evidence(1.0, 15.0, 3.0), 9.0)
    assert slow is not None and slow.effect is not None
    wanted = (slope, doubt) if kind.lithium else (0.008, 0.0015)
    assert (slow.effect.value, slow.effect.standard) == (
        pytest.approx(90.0 * wanted[0]),
        pytest.approx(90.0 * wanted[1]),
    )
    for actual, told in ((22.1, False), (21.9, True), (27.9, False), (28.1, True)):
        near = warmth_condition(kind, CAPACITY, actual, 3600.0, 9.0)
        assert near is not None and (near.effect is not None) is told
    assert warmth_condition(kind, CAPACITY, None, 3600.0, 9.0) is None


def test_runs_that_scatter_are_told_by_chi_square_and_widened_by_student() -> None:
    def runs(*values: float) -> list[Quantity]:
        return [
            Quantity.from_terms(v, "Ah", [Term("own", 0.1), Term("gain", 0.5, "gain of one meter")]) for v in values
        ]

    for spread, beyond in ((0.9, False), (1.1, True)):
        # the sum of squares over the meters' own variance stands just inside, and just outside, chi-square's 95 %
        limit = -2.0 * math.log(0.05)  # chi-square with two degrees of freedom, closed form
        step = 0.1 * math.sqrt(limit / 2.0) * math.sqrt(spread)
        found = runs(40.0 - step, 40.0, 40.0 + step)
        mean = Quantity.from_terms(
            40.0, "Ah", [Term("own", 0.1 / math.sqrt(3.0)), Term("gain", 0.5, "gain of one meter")]
        )
        scatter = scatter_beyond(found, mean)
        assert (scatter is not None) is beyond
        if scatter is not None:
            assert scatter[0] == pytest.approx(step / math.sqrt(3.0))
            assert scatter[1] == pytest.approx(0.95 * math.sqrt(2.0 / (1.0 - 0.95**2)))
    assert scatter_beyond(runs(40.0), runs(40.0)[0]) is None
    assert scatter_beyond(runs(40.0, 50.0), Quantity(45.0, None, "Ah")) is None


def test_a_block_that_is_said_not_to_be_there() -> None:
    """ "No low-temperature block" printed as a warning: seen refused it is missed, seen flowing it is met."""
    none = replace(claim("cold-charge-block", None, "", "is"), wanted=False)
    refused = verdict(none, "charge-block", analysed(warming()))
    assert refused.outcome is Outcome.MISSED and refused.probability is not None and refused.probability < 0.01
    flowed = verdict(none, "charge-block", analysed(warming(blocked=False)))
    assert flowed.outcome is Outcome.MET and flowed.probability is not None and 0.99 < flowed.probability <= 1.0
    # with no temperature printed it is the freezing point: refused at 0.4 °C says nothing of what is below it
    trace = with_temperature(piecewise((20, 0.0, 12.9), (3, -4.0, 14.4), (60, 0.0, 14.4)), -9.0)
    there = verdict(replace(none, wanted=True), "charge-block", analysed(trace))
    assert there.outcome is Outcome.MET


@pytest.mark.parametrize(
    ("kind", "digit", "standard"),
    [("mass", 0.01, 0.005 / math.sqrt(3.0)), ("mass", 0.0, None), ("heater-power", 0.01, None), ("price", 0.01, 0.0)],
)
def test_what_is_read_off_a_scale_is_good_to_half_its_last_digit(
    kind: str, digit: float, standard: float | None
) -> None:
    # a reading of resolution d is anywhere within ± d/2: JCGM 100:2008, F.2.2.1 (from memory)
    read = MeasuredEvidence("by hand", kind, Quantity(6.9, None, "kg"), digit=digit).as_read()
    assert read.standard == (standard if standard is None else pytest.approx(standard))


def test_an_overload_opens_at_the_end_of_its_heaviest_step_and_not_where_it_opened_before() -> None:
    """A pack of no known rating, pulled down by 30 A: no reading says that it opened for the current."""
    parts = ((20, 0.0, 13.2), (300, 10.0, 12.6), (120, 0.0, 0.2), (600, 0.0, 13.0), (700, 30.0, 12.4), (60, 0.0, 0.2))
    log = analysed(piecewise(*parts), rated=100.0)
    found = verdict(claim("over-current-trip", 30.0, "A", "within", 1.0), "overload", log)
    assert found.measured is not None and found.measured.value == pytest.approx(30.0), found.advice


@pytest.mark.parametrize(("went_in", "bound"), [(96.0, None), (93.0, "at-least")])
def test_a_charge_of_what_the_battery_is_known_to_give_began_empty(went_in: float, bound: str | None) -> None:
    """100 Ah were drawn of it before; a charge that puts in as much, but for a twentieth, began empty."""
    known = analysed(discharge(20.0, 5.0, opened=True), rated=120.0)
    hours = (went_in - 1.3) / 20.0  # the taper puts in the rest
    taper = tuple((60.0, -20.0 * math.exp(-n / 4.0), 14.4) for n in range(1, 12))
    log = analysed(piecewise((600, 0.0, 13.0), (hours * 3600.0, -20.0, 13.7), *taper, (600, 0.0, 13.5), interval_s=10.0), rated=120.0)  # fmt: skip
    evidence = [capacity_evidence("before", known, 23.0), LogEvidence("charge", ("charge",), (log,))]
    found = judge(LFP, 120.0, [claim("charge-time", 4.5 * 3600, "s", "at-most")], evidence, School.STRICT)[0]
    assert log.charge.count.charge.value == pytest.approx(went_in, abs=0.6)
    assert found.bound == bound and found.outcome is Outcome.MISSED


def test_a_twin_at_another_rate_is_told_with_what_that_did() -> None:
    warm = analysed(discharge(1.0, 9.0, opened=True), rated=10.0)
    for amps, told in ((1.04, False), (1.06, True), (0.94, True)):
        cold = analysed(discharge(amps, 8.0 / amps, opened=True), rated=10.0)
        found = verdict(claim("cold-loss", 15.0, "%", "at-most"), "cold-loss", cold, warm, rated=10.0)
        rate = next(c for c in found.conditions if c.name == "rate of the warm twin")
        assert (rate.effect is not None) is told
        assert (rate.claimed, rate.actual) == (pytest.approx(1.0, abs=1e-3), pytest.approx(amps, abs=1e-3))
        if rate.effect is not None and found.measured is not None:
            kept = 100.0 - found.measured.value
            assert rate.effect.value == pytest.approx(-kept * (amps**0.02 - 1.0), rel=1e-2)
            assert rate.effect.standard == pytest.approx(kept * abs(math.log(amps)) * 0.015, rel=1e-2)


def test_what_a_log_most_likely_is_of() -> None:
    assert likely_method(analysed(discharge(1.0, 2.0, opened=True), rated=10.0)) == "capacity"
    assert likely_method(analysed(warming())) == "charge-block"
    shape = piecewise((60, 0.0, 12.9), (1500, -4.6, 14.3), (1800, -18.2, 13.37), (300, 0.0, 13.2))
    heated = with_temperature(shape, np.interp(shape.time_s, [0, 60, 1560, 4000], [-12.0, -12.0, 5.0, 12.0]))
    assert likely_method(analysed(heated)) == "heater"
    overload = piecewise((30, 0.0, 13.2), (10, 100.0, 12.8), (5, 300.0, 12.2), (60, 0.0, 0.2), interval_s=0.5)
    assert likely_method(analysed(overload)) == "overload"
    charge = piecewise((60, 0.0, 12.9), (1800, -8.0, 13.6), (900, -2.0, 14.2), (600, -0.3, 14.2), (300, 0.0, 13.6))
    assert likely_method(analysed(charge, rated=10.0)) == "charge"


def _device(amps: float, hours: float, opened: bool = True) -> Analysis:
    return analysed(discharge(amps, hours, opened=opened), rated=10.0)


def test_hours_with_a_device_from_a_run_at_another_draw() -> None:
    """9 Ah drawn at 1.8 A last 10 h at 0.9 A; the rate law says how much more that likely was."""
    wanted = claim("runtime", 8 * 3600.0, "s", "at-least", device_A=0.9)
    found = verdict(wanted, "runtime", _device(1.8, 5.0), rated=10.0)
    assert found.measured is not None and found.measured.value == pytest.approx(36_000.0, rel=1e-3)
    draw = next(c for c in found.conditions if c.name == "draw")
    assert (draw.claimed, draw.actual) == (0.9, pytest.approx(1.8, abs=2e-3)) and draw.effect is not None
    assert draw.effect.value == pytest.approx(36_000.0 * (2.0**0.02 - 1.0), rel=1e-2)
    assert draw.effect.standard == pytest.approx(36_000.0 * math.log(2.0) * 0.015, rel=1e-2)
    for amps, told in ((0.98, False), (1.0, True)):
        near = verdict(wanted, "runtime", _device(amps, 9.0 / amps), rated=10.0)
        assert (next(c for c in near.conditions if c.name == "draw").effect is not None) is told


def test_of_several_runs_with_a_device_the_one_that_says_most_counts() -> None:
    def judged(hours: float, *runs: tuple[str, Analysis]) -> tuple[str, ...]:
        wanted = claim("runtime", hours * 3600.0, "s", "at-least", device_A=0.9)
        evidence = [LogEvidence("runtime", (name,), (log,)) for name, log in runs]
        return judge(LFP, 10.0, [wanted], evidence, School.STRICT)[0].evidence

    whole, stopped = ("whole", _device(1.8, 5.0)), ("stopped", _device(0.9, 7.0, opened=False))
    # stopped short of what is claimed it is a bound that settles nothing; past it, its like conditions count for more
    assert judged(8.0, whole, stopped) == judged(8.0, stopped, whole) == ("whole",)
    assert judged(6.5, whole, stopped) == judged(6.5, stopped, whole) == ("stopped",)
    like = ("like", _device(0.9, 9.0))
    assert judged(8.0, like, whole) == judged(8.0, whole, like) == ("like",)
    assert judged(8.0, ("first", _device(0.9, 9.0)), ("second", _device(0.9, 9.0))) == ("second",), (
        "the later of two alike"
    )


def test_a_trip_that_a_gap_hides_is_a_bound() -> None:
    """300 A claimed to trip within 250 to 350 A; nothing was read for the half minute in which it opened."""
    trace = piecewise((30, 0.0, 13.2), (30, 100.0, 12.9), (20, 300.0, 12.4), (60, 0.0, 0.2), interval_s=0.5)
    wanted = claim("over-current-trip", 300.0, "A", "within", 50.0)
    seen = verdict(wanted, "overload", analysed(trace))
    assert seen.outcome is Outcome.MET and seen.bound is None and seen.measured is not None
    assert seen.measured.value == pytest.approx(300.0, rel=1e-3)
    unread = trace.taking((trace.time_s < 78.0) | (trace.time_s > 110.0))
    hidden = verdict(wanted, "overload", analysed(unread))
    assert hidden.outcome is not Outcome.MISSED and (hidden.bound == "at-least" or "hides" in (hidden.advice or ""))
