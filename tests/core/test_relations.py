"""Rate law, two wells, efficiency, shelf, consistency and economy, against published relations and facts of the trade."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import solve_ivp
from scipy.optimize import curve_fit

from tests.making import piecewise
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse
from wintry_tally.core.analysis.consistency import compare, drift, repeatability
from wintry_tally.core.analysis.efficiency import acceptance
from wintry_tally.core.analysis.rate import RatePoint, effective_current, fit_two_wells, rate_law
from wintry_tally.core.analysis.reserve import c20_from_reserve
from wintry_tally.core.analysis.shelf import charge_efficiency, loss_by_capacity, loss_by_recharge
from wintry_tally.core.battery import FAMILIES, Arrival, Sample, parse_claim
from wintry_tally.core.battery.economy import bank, derived_sums, price_per_kWh, replacements, years_of_cycles
from wintry_tally.core.battery.two_wells import hours_to_empty, two_wells
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import Quantity, Term, parse_accuracy, ratio
from wintry_tally.core.trace import Trace

LFP, AGM = FAMILIES["lfp"], FAMILIES["agm"]


def charge(value: float, gain: float = 0.005, own: float = 0.002, meter: str = "m") -> Quantity:
    terms = [Term("current gain", gain * value, f"{meter}:current-gain"), Term("own", own * value)]
    return Quantity.from_terms(value, "Ah", terms)


# --- rate ---


def test_peukert_s_published_form() -> None:
    # P4: W. Peukert, ETZ 18 (1897), common form (value from memory): C = 100 Ah at 20 h, k = 1.2, I = 10 A: t = 8.7 h
    def hours(amps: float) -> float:
        return 20.0 * (100.0 / (amps * 20.0)) ** 1.2

    assert hours(10.0) == pytest.approx(8.7, abs=0.01)
    points = [RatePoint(f"{amps} A", amps, charge(amps * hours(amps))) for amps in (5.0, 10.0, 25.0)]
    law = rate_law(points)
    assert law.exponent.value == pytest.approx(1.2, abs=1e-9)
    assert law.charge_at(10.0).value == pytest.approx(87.06, abs=0.01)
    assert law.holds_at(20.0) and not law.holds_at(60.0)


def test_one_meter_s_gain_does_not_tilt_the_line() -> None:
    good = rate_law([RatePoint("a", 5.0, charge(100.0)), RatePoint("b", 25.0, charge(80.0))])
    poor = rate_law([RatePoint("a", 5.0, charge(100.0, gain=0.05)), RatePoint("b", 25.0, charge(80.0, gain=0.05))])
    assert good.exponent.standard == pytest.approx(poor.exponent.standard)
    # two points: u(k) = √2 × √(0.002² + 0.005²) / ln 5
    assert good.exponent.standard == pytest.approx(math.sqrt(2) * math.hypot(0.002, 0.005) / math.log(5), rel=1e-6)
    # but the charge itself is known no better than the meter
    assert poor.charge_at(5.0).standard > 4 * good.charge_at(5.0).standard


@given(st.lists(st.tuples(st.floats(1, 50), st.floats(-0.01, 0.01)), min_size=3, max_size=8), st.floats(1.0, 1.4))
def test_the_fit_is_numpy_s_weighted_line(noisy: list[tuple[float, float]], exponent: float) -> None:
    currents = [amps for amps, _ in noisy]
    if max(currents) < 1.2 * min(currents):
        return
    points = [
        RatePoint(str(n), amps, charge(amps * 20 * (5 / amps) ** exponent * math.exp(e)))
        for n, (amps, e) in enumerate(noisy)
    ]
    slope = np.polyfit(np.log(currents), np.log([point.hours for point in points]), 1)[0]
    assert rate_law(points).exponent.value == pytest.approx(-slope, abs=1e-6)


def test_its_doubt_is_scipy_s_of_a_weighted_line() -> None:
    # scipy.optimize.curve_fit with the points' own doubts: covariance of slope and level about the weighted middle
    owns, currents = (0.002, 0.006, 0.02, 0.004), (2.0, 5.0, 11.0, 25.0)
    points = [RatePoint(str(n), amps, charge(100.0 * (5.0 / amps) ** 0.15, own=own)) for n, (amps, own) in enumerate(zip(currents, owns, strict=True))]  # fmt: skip
    law = rate_law(points)
    doubts = [math.hypot(own, 0.005) for own in owns]
    x = np.log(np.array(currents)) - math.log(law.at_A)
    _, covariance = curve_fit(lambda at, level, slope: level + slope * at, x, np.log([point.hours for point in points]), sigma=doubts, absolute_sigma=True)  # fmt: skip
    assert covariance[0, 1] == pytest.approx(0.0, abs=1e-9), "the middle is where level and slope are independent"
    assert law.exponent.standard == pytest.approx(math.sqrt(covariance[1, 1]), rel=1e-4)
    assert law.relative == pytest.approx(math.hypot(math.sqrt(covariance[0, 0]), 0.005), rel=1e-4)


def test_like_rates_show_no_effect() -> None:
    with pytest.raises(InputError, match="too much alike"):
        rate_law([RatePoint("a", 8.0, charge(40)), RatePoint("b", 8.2, charge(40))])


def test_effective_current_of_a_staged_discharge() -> None:
    assert effective_current([(10.0, 3.0), (10.0, 1.0)], 1.2) == pytest.approx(10.0)
    # the mean over time is 8.75 A; the heavy part weighs more
    assert 8.75 < effective_current([(20.0, 1.0), (5.0, 3.0)], 1.2) < 20.0


@given(st.floats(0.5, 30), st.floats(0.05, 3), st.floats(0.2, 0.8), st.floats(0.1, 5))
def test_two_wells_obey_their_differential_equations(amps: float, hours: float, share: float, rate: float) -> None:
    # P18: Manwell & McGowan 1993 (from memory): dq1/dt = -I + k'(h2 - h1), dq2/dt = -k'(h2 - h1), h = q / width,
    # with k = k' / (c (1 - c)); integrated by scipy
    start = (100.0 * share, 100.0 * (1 - share))

    def slope(_t: float, q: np.ndarray) -> list[float]:
        flow = rate * share * (1 - share) * (q[1] / (1 - share) - q[0] / share)
        return [flow - amps, -flow]

    solved = solve_ivp(slope, (0, hours), start, rtol=1e-9, atol=1e-9).y[:, -1]
    assert two_wells(*start, amps, hours, share, rate) == pytest.approx(tuple(solved), abs=1e-5)


def test_two_wells_are_found_again_from_staged_discharges() -> None:
    truth = (100.0, 0.4, 0.8)
    heavy, light = (40.0, hours_to_empty(100.0, 40.0, 0.4, 0.8)), (5.0, hours_to_empty(100.0, 5.0, 0.4, 0.8))
    free, bound = two_wells(40.0, 60.0, *heavy, 0.4, 0.8)
    assert free == pytest.approx(0.0, abs=1e-6) and bound > 20.0, "the available well empties first"
    middle = (15.0, hours_to_empty(100.0, 15.0, 0.4, 0.8))
    fit = fit_two_wells([[heavy], [light], [middle]])
    assert (fit.capacity_Ah, fit.share, fit.rate_per_h) == pytest.approx(truth, rel=0.02)
    assert fit.misfit < 1e-3
    assert fit.charge_at(20.0) == pytest.approx(20.0 * hours_to_empty(100.0, 20.0, 0.4, 0.8), rel=5e-3)
    # T16, common practice: an aged flooded pair gives 28.6 Ah at about 83 A, and 62 Ah in all finished at lighter loads
    aged = fit_two_wells([[(83.0, 28.6 / 83.0), (20.0, 20.0 / 20.0), (5.0, 13.4 / 5.0)]])
    assert aged.misfit < 0.02 and aged.charge_at(83.0) == pytest.approx(28.6, rel=0.1) and aged.capacity_Ah >= 62.0
    with pytest.raises(InputError):
        fit_two_wells([[(10.0, 4.0)]])


def test_reserve_to_the_twenty_hour_capacity() -> None:
    # P5: IEC 60095-1 (value from memory, recomputed): RC = 96 → 61.1 Ah
    assert c20_from_reserve(96.0) == pytest.approx(61.1, abs=0.05)


# --- shelf, efficiency, consistency ---


def test_the_shelf_in_percent_a_month() -> None:
    # T6, common practice: 0.7 Ah back into 100 Ah after 13 months: 0.054 % a month (not the rounded-up 0.06)
    lost = loss_by_recharge(Quantity(0.7, 0.01, "Ah"), 100.0, 13.0, LFP)
    assert round(lost.rate.value, 3) == 0.054
    week = loss_by_recharge(Quantity(0.05, 0.01, "Ah"), 100.0, 0.23, LFP)
    assert not week.shown and week.limit is not None and week.limit > 0.5, "a week cannot show so little"
    assert week.at_most is not None and week.at_most > week.rate.value
    # lead-acid gives back 80 to 90 % of a whole charge, and of its last tenth as little as half to two thirds
    assert loss_by_recharge(Quantity(60.0, 0.1, "Ah"), 100.0, 1.0, AGM).rate.value == pytest.approx(51.0)
    top = loss_by_recharge(Quantity(10.0, 0.1, "Ah"), 100.0, 1.0, AGM).rate
    assert top.value == pytest.approx(7.7) and 5.7 < top.value - (top.expanded or 0.0) < 6.3 < 8.5 < top.value + (
        top.expanded or 0.0
    )
    assert charge_efficiency(AGM, 0.25) == pytest.approx((0.80, 0.115))
    twice = loss_by_capacity(charge(100.0), charge(97.0), 2.0)
    assert twice.rate.value == pytest.approx(1.5)
    assert twice.rate.standard < 0.3, "the gain both runs share cancels"


def test_a_ratio_cancels_what_is_shared() -> None:
    one, other = charge(40.0, gain=0.02, own=0.001), charge(38.0, gain=0.02, own=0.001)
    quotient = ratio(other, one, 100.0, "%")
    assert quotient.value == pytest.approx(95.0)
    assert quotient.standard == pytest.approx(95.0 * 0.001 * math.sqrt(2), rel=1e-6)
    apart = ratio(charge(38.0, meter="a"), charge(40.0, meter="b"))
    assert apart.standard == pytest.approx(0.95 * math.hypot(0.005, 0.002) * math.sqrt(2), rel=1e-6)


def test_units_compared_and_runs_repeated() -> None:
    near = compare("A1", charge(40.0), "A2", charge(40.1))
    assert near.alike and near.relative.value == pytest.approx(0.25, abs=0.01)
    far = compare("A1", charge(40.0), "A2", charge(38.0))
    assert far.alike is False
    runs = repeatability(["1", "2", "3"], [charge(40.0), charge(40.2), charge(39.8)])
    assert runs.scatter == pytest.approx(0.2) and runs.relative_percent == pytest.approx(0.5)
    # the mean of three runs of one meter is no better than its gain
    assert runs.mean.standard == pytest.approx(40.0 * math.hypot(0.005, 0.002 / math.sqrt(3)), rel=1e-3)
    fade, _ = drift([0.0, 6.0, 12.0], [charge(40.0), charge(39.6), charge(39.2)], "month")
    assert fade.value == pytest.approx(-100 * 0.8 / 12 / 40, rel=1e-6) and fade.standard < 0.03


def analysed(trace: Trace, **more: object) -> Analysis:
    meter = Instrument(parse_accuracy("0.5%+2d"), parse_accuracy("1%+0.01"), "m")
    return analyse(trace, Options(**{"family": LFP, "rated_Ah": 20.0, "instrument": meter, **more}))


def test_efficiency_pairs_a_full_charge_with_a_full_discharge() -> None:
    trace = piecewise(
        (60, 0.0, 12.9), (7000, -10.0, 13.8), (600, -0.9, 14.4), (3600, 0.0, 13.4), (7080, 10.0, 12.8), (60, 0.0, 0.3)
    )
    found = analysed(trace).efficiency
    assert found is not None
    assert found.coulombic.value == pytest.approx(100 * 70800 / (70000 + 540), rel=0.01)
    assert found.coulombic.expanded < 0.6, "1 % of gain is in both and cancels"
    assert found.energy.value == pytest.approx(found.coulombic.value * 12.8 / 13.8, rel=0.01)
    assert found.working.inputs["in"].endswith("from 1 min 00 s of the log on"), (
        "which charge it was, of those in the log"
    )
    assert found.working.inputs["out"].endswith("from 3 h 08 min of the log on")


def test_acceptance_against_the_first_current() -> None:
    # T15, common practice: flooded lead-acid 55 A at the start, 27 A at 45 min, 8 A at 2.5 h
    time_s = np.arange(0.0, 4 * 3600.0, 30.0)
    amps = np.interp(time_s / 60, [0, 45, 150, 180, 240], [55, 27, 8, 4, 3.9])
    trace = Trace(time_s, np.full(len(time_s), 14.4), -amps, resolution={"voltage_V": 0.01, "current_A": 0.1})
    shares = dict(analysed(trace, family=FAMILIES["flooded"], rated_Ah=232.0).acceptance)
    assert shares[45.0] == pytest.approx(27 / 55, abs=0.03) and shares[150.0] == pytest.approx(8 / 55, abs=0.02)
    assert set(shares) == {15.0, 45.0, 90.0, 150.0}


# --- slips of the bench ---


def codes(trace: Trace, **more: object) -> set[str]:
    return {remark.code for remark in analysed(trace, **more).remarks}


def test_settings_and_loads_are_remarked() -> None:
    nmc = FAMILIES["nmc"]
    wrong = piecewise((60, 0.0, 11.5), (3000, -4.0, 14.2), (60, 0.0, 12.5))
    assert "charger-setting" in codes(wrong, family=nmc)
    floated = piecewise((60, 0.0, 13.0), (3000, -8.0, 14.3), (5000, -0.2, 13.5), (60, 0.0, 13.4))
    assert "charger-setting" in codes(floated)
    clean = piecewise((60, 0.0, 13.0), (3000, -8.0, 14.3), (60, 0.0, 13.5))
    assert "charger-setting" not in codes(clean)
    added = piecewise((60, 0.0, 13.2), (1800, 4.0, 13.0), (1800, 7.0, 12.8), (60, 0.0, 0.2))
    assert "rate-changed" in codes(added)
    deep = piecewise((60, 0.0, 13.2), (1800, 4.0, 12.9), (60, 4.0, 6.9), (60, 0.0, 12.0))
    assert "below-floor" in codes(deep)
    half = piecewise((60, 0.0, 12.7), (7200, 4.0, 12.2), (600, 0.0, 12.5))
    assert "ended-early" in codes(half, family=AGM) and "ended-early" not in codes(half)


def test_gauges_and_second_meters_are_remarked() -> None:
    base = piecewise((60, 0.0, 13.2), (3000, 4.0, 12.9), (60, 0.0, 13.1))
    gauge = np.where(base.current > 0, 60.0, 95.0)
    parts = {
        "time_s": base.time_s,
        "voltage_V": base.voltage_V,
        "current_A": base.current,
        "resolution": base.resolution,
    }
    assert "gauge-on-voltage" in codes(Trace(**parts, charge_state=gauge))
    assert "gauge-on-voltage" not in codes(Trace(**parts, charge_state=np.linspace(95, 80, len(base))))
    power = base.voltage_V * base.current
    assert "meters-disagree" in codes(Trace(**parts, power_W=1.08 * power))
    assert "meters-disagree" not in codes(Trace(**parts, power_W=power))
    energy = np.cumsum(power) / 3600
    assert "counter-disagrees" in codes(Trace(**parts, counter_Wh=1.1 * energy))
    assert "counter-disagrees" not in codes(Trace(**parts, counter_Wh=energy))


# --- economy ---


def test_sums_of_a_data_sheet() -> None:
    # T8, common practice: 3500 cycles, one a day: 9.6 years; 6000: 16.4 years
    assert years_of_cycles(3500) == pytest.approx(9.6, abs=0.05) and years_of_cycles(6000) == pytest.approx(
        16.4, abs=0.05
    )
    assert price_per_kWh(600.0, 3000, 1000.0) == pytest.approx(0.2)
    assert (replacements(10, 10), replacements(10, 3), replacements(10, 9.9)) == (0, 3, 1)
    # T20, common practice: 4 in series, 4 strings in parallel of 12.8 V 100 Ah: 51.2 V, 400 Ah
    four = bank(12.8, 100.0, 4, 4, most_series=4)
    assert (four.nominal_V, four.capacity_Ah, four.units) == (51.2, 400.0, 16)
    with pytest.raises(InputError, match="more than the 4"):
        bank(12.8, 100.0, 5, 1, most_series=4)
    claims = tuple(
        parse_claim(text)
        for text in (
            "100 Ah",
            "1280 Wh",
            "price 400 €",
            "3500 cycles",
            "length 330 mm",
            "width 170 mm",
            "height 220 mm",
        )
    )
    sums = {item.key: item for item in derived_sums(Sample(1, "S-1", "m", "n", "lfp", claims, Arrival(mass_kg=10.0)))}
    assert sums["price-Ah"].value == pytest.approx(4.0) and sums["Wh-kg"].value == pytest.approx(128.0)
    assert sums["years"].value == pytest.approx(9.58, abs=0.01)
    assert sums["Wh-L"].value == pytest.approx(1280 / (0.33 * 0.17 * 0.22 * 1000), rel=1e-6)
    assert sums["price-kWh"].value == pytest.approx(400 / (3500 * 0.8 * 1.28 * 0.9)), (
        "80 % depth and 80 % left at the end by habit"
    )
    assert derived_sums(Sample(1, "S-2", "m", "n", "agm")) == []


def test_acceptance_where_a_gap_lies_on_the_mark() -> None:
    time_s = np.concatenate([np.arange(0.0, 600.0, 10.0), np.arange(5000.0, 6000.0, 10.0)])
    trace = Trace(time_s, np.full(len(time_s), 14.0), np.full(len(time_s), -5.0))
    found = acceptance(trace, 0, len(time_s) - 1)
    assert all(np.isfinite(share) for _, share in found) and 15.0 not in [minutes for minutes, _ in found]


def test_between_the_rates_tested_a_battery_bends_off_the_straight_line() -> None:
    # P18, Manwell & McGowan (1993), from memory: the two-well model is no power law; the band must hold it
    charges = {amps: amps * hours_to_empty(50.0, amps, 0.6, 0.5) for amps in (2.0, 4.0, 8.0, 16.0)}
    law = rate_law([RatePoint(f"{amps:g}", amps, Quantity(charges[amps], 0.02, "Ah")) for amps in (2.0, 8.0)])
    for amps in (4.0, 16.0):
        told = law.charge_at(amps)
        assert told.expanded is not None and abs(told.value - charges[amps]) < told.expanded, amps

    def bent(amps: float) -> float:
        return sum(term.standard for term in law.charge_at(amps).terms if term.name == "the law itself")

    assert bent(2.0) == 0.0, "at a rate that was tested the line is what was measured"
    assert 0.0 < bent(2.5) < bent(4.0) < bent(16.0)
