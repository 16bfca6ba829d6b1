"""Counting, stages, endings, usable charge, counters and audits."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from uncertainties import ufloat

from tests.amount import some
from tests.making import discharge, piecewise
from wintry_tally.core.analysis import Instrument, Integral, Options, analyse, count
from wintry_tally.core.analysis.audits import mean_voltage_remarks
from wintry_tally.core.analysis.counters import read_counter
from wintry_tally.core.analysis.counting import Span
from wintry_tally.core.analysis.derivation import charge_working, energy_working, mean_voltage_working
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace

LFP = FAMILIES["lfp"]
INSTRUMENT = Instrument(parse_accuracy("0.5%+2d"), parse_accuracy("1%+0.01"), "meter")


def options(**changes: object) -> Options:
    return replace(Options(LFP, 40.0, INSTRUMENT), **changes)


# --- counting ---


@given(
    st.lists(st.tuples(st.floats(0.1, 500.0), st.floats(-30.0, 30.0), st.floats(8.0, 15.0)), min_size=2, max_size=60)
)
def test_the_trapezoid_is_exact_for_straight_lines(points: list[tuple[float, float, float]]) -> None:
    # a current that is straight between readings has this exact integral; numpy.trapezoid is the reference
    time_s = np.cumsum([point[0] for point in points])
    current = np.array([point[1] for point in points])
    voltage = np.array([point[2] for point in points])
    integral = Integral(Trace(time_s, voltage, current))
    charge, energy, _ = integral.between(0, len(points) - 1)
    assert charge == pytest.approx(np.trapezoid(current, time_s), rel=1e-9, abs=1e-9)
    assert energy == pytest.approx(np.trapezoid(current * voltage, time_s), rel=1e-9, abs=1e-9)


def test_parts_add_up_to_the_whole_over_many_blocks() -> None:
    random = np.random.default_rng(5)
    size = 150_000
    trace = Trace(np.cumsum(random.uniform(0.5, 1.5, size)), random.uniform(10, 13, size), random.uniform(0, 9, size))
    integral = Integral(trace)
    cuts = [0, 7, 32_768, 40_000, 65_536, 100_001, size - 1]
    whole = integral.between(0, size - 1)
    parts = [integral.between(a, b) for a, b in zip(cuts, cuts[1:], strict=False)]
    assert [sum(part[k] for part in parts) for k in range(3)] == pytest.approx(list(whole))
    assert whole[0] == pytest.approx(np.trapezoid(trace.current, trace.time_s))


def test_doubt_agrees_with_the_uncertainties_package() -> None:
    # JCGM 100:2008, 5.1 and 5.2; reference library: uncertainties. Gain and offset are common to all readings.
    hours, amps, volts = 5.0, 8.0, 12.8
    trace = Trace(np.array([0.0, 3600 * hours]), np.array([volts, volts]), np.array([amps, amps]))
    instrument = Instrument(parse_accuracy("0.5%+0.02"), parse_accuracy("1%+0.01"), timebase_ppm=0.0)
    counted = count(trace, Integral(trace), [Span(0, 1)], instrument)
    root = np.sqrt(3)
    gain_a, offset_a = ufloat(1, 0.01 / root), ufloat(0, 0.01 / root)
    gain_v, offset_v = ufloat(1, 0.005 / root), ufloat(0, 0.02 / root)
    current, voltage = amps * gain_a + offset_a, volts * gain_v + offset_v
    charge, energy = current * hours, current * voltage * hours
    assert counted.charge.standard == pytest.approx(charge.std_dev, rel=1e-6)
    assert counted.energy.standard == pytest.approx(energy.std_dev, rel=1e-6)
    # the current's errors cancel in E/Q
    assert counted.mean_voltage.standard == pytest.approx((energy / charge).std_dev, rel=1e-6)


def test_gain_does_not_average_out_and_unknown_accuracy_is_none() -> None:
    short, long = (analyse(discharge(hours=h), options()).capacity for h in (1.0, 10.0))
    assert short is not None and long is not None
    relative = [test.count.charge.standard / test.count.charge.value for test in (short, long)]
    assert relative[1] > 0.9 * 0.01 / np.sqrt(3) and relative[1] == pytest.approx(relative[0], rel=0.2)
    bare = analyse(discharge(), options(instrument=Instrument())).capacity
    assert bare is not None and bare.count.charge.expanded is None


def test_a_gap_adds_half_the_bridged_change_times_its_length() -> None:
    # contract: standard uncertainty = half the bridged change of current × the gap / √3
    before, after = np.arange(0.0, 100.0, 10.0), np.arange(290.0, 400.0, 10.0)
    time_s = np.concatenate([before, after])
    current = np.where(time_s < 200.0, 8.0, 7.4)
    trace = Trace(time_s, np.full(len(time_s), 13.0), current)
    counted = count(trace, Integral(trace), [Span(0, len(time_s) - 1)], INSTRUMENT)
    gap = next(term for term in counted.charge.terms if term.name == "gaps bridged")
    assert gap.standard == pytest.approx(0.5 * 0.6 * 200.0 / np.sqrt(3) / 3600.0)


# --- the reference curves ---


@pytest.mark.parametrize(
    ("name", "kinds", "rated"),
    [
        ("lfp_0_2C.csv", ["rest", "discharge", "rest"], 2.3),
        ("lfp_1_0C.csv", ["rest", "discharge", "rest"], 2.3),
        ("lead_0_05C.csv", ["discharge"], 17.0),
        ("lead_0_5C.csv", ["discharge"], 17.0),
    ],
)
def test_curves_of_an_independent_model_are_counted_as_it_counts(
    reference, name: str, kinds: list[str], rated: float
) -> None:
    # PyBaMM (Prada2013 SPM for LFP; Sulzer2019 LOQS for lead-acid), its own charge beside each row
    rows = np.loadtxt(reference / name, delimiter=",", skiprows=1)
    scale = 4.0 if name.startswith("lfp") else 1.0
    trace = Trace(rows[:, 0], rows[:, 1] * scale, rows[:, 2], resolution={"current_A": 1e-6, "voltage_V": 1e-6})
    family = LFP if scale == 4.0 else FAMILIES["agm"]
    analysis = analyse(trace, Options(family, rated, INSTRUMENT))
    assert [result.stage.kind.value for result in analysis.stages] == kinds
    test = analysis.capacity
    assert test is not None
    assert test.count.charge.value == pytest.approx(rows[-1, 3], rel=2e-3)
    live = analysis.stages[kinds.index("discharge")]
    assert live.stage.control == "current"
    assert "mean-voltage-implausible" not in [remark.code for remark in analysis.remarks]


def test_lead_acid_of_the_independent_model_shows_the_rate_effect(reference) -> None:
    slow, fast = (np.loadtxt(reference / f"lead_{n}C.csv", delimiter=",", skiprows=1)[-1, 3] for n in ("0_05", "0_5"))
    assert fast < 0.97 * slow


# --- stages ---


def test_stages_cover_every_reading_once() -> None:
    analysis = analyse(discharge(), options())
    edges = [(result.stage.first, result.stage.last) for result in analysis.stages]
    assert edges[0][0] == 0 and edges[-1][1] == len(analysis.trace) - 1
    assert all(a[1] + 1 == b[0] for a, b in zip(edges, edges[1:], strict=False))


@pytest.mark.parametrize("noise", [0.0, 0.002, 0.02])
@pytest.mark.parametrize("interval", [1.0, 10.0, 60.0])
def test_one_discharge_stays_one_stage(noise: float, interval: float) -> None:
    trace = discharge(interval_s=interval, noise_A=noise, noise_V=noise / 4)
    kinds = [result.stage.kind.value for result in analyse(trace, options()).stages]
    assert kinds == ["rest", "discharge", "rest"]


def test_rest_charge_discharge_and_pause() -> None:
    trace = piecewise(
        (600, 0.0, 13.2), (1800, -8.0, 13.8), (1800, 0.0, 13.4), (1800, 8.0, 13.0), (300, 0.0, 13.2), (1800, 8.0, 12.9),
        (600, 0.0, 13.1),
    )  # fmt: skip
    analysis = analyse(trace, options())
    kinds = [result.stage.kind.value for result in analysis.stages]
    assert kinds == ["rest", "charge", "rest", "discharge", "pause", "discharge", "rest"]
    test = analysis.capacity
    assert test is not None and test.count.charge.value == pytest.approx(8.0, rel=2e-3)
    assert test.count.duration_s == pytest.approx(3600.0, abs=5) and test.pauses_s == pytest.approx(299, abs=2)
    assert analysis.stages[1].count.charge.value == pytest.approx(4.0, rel=2e-3)


def test_a_change_of_rate_and_a_slow_night() -> None:
    trace = piecewise((60, 0.0, 13.3), (3600, 8.0, 13.0), (7200, 0.5, 13.1), (3600, 8.0, 12.8), (60, 0.0, 13.0))
    analysis = analyse(trace, options())
    live = [result for result in analysis.stages if result.stage.kind == "discharge"]
    assert [round(result.count.mean_current.value, 1) for result in live] == [8.0, 0.5, 8.0]
    assert [result.ended_by for result in live] == ["set-point", "set-point", "operator"]
    test = analysis.capacity
    assert test is not None and test.count.charge.value == pytest.approx(17.0, rel=2e-3) and len(test.rates) == 3


@pytest.mark.parametrize(("control", "power"), [("current", 0.0), ("power", -1.0), ("resistance", 1.0)])
def test_how_a_load_was_controlled(control: str, power: float) -> None:
    base = discharge(noise_A=0.0, noise_V=0.0)
    live = base.current > 0
    amps = base.current.copy()
    amps[live] = 8.0 * (base.voltage_V[live] / 12.8) ** power
    result = next(
        r for r in analyse(replace(base, current_A=np.round(amps, 3)), options()).stages if r.stage.kind == "discharge"
    )
    assert result.stage.control == control


def test_household_loads_are_mixed_and_still_counted() -> None:
    random = np.random.default_rng(2)
    levels = np.repeat(random.uniform(2, 12, 60), 60)
    volts = 13.2 - 0.02 * levels
    trace = Trace(np.arange(len(levels)) * 1.0, volts, levels, resolution={"current_A": 0.001, "voltage_V": 0.001})
    analysis = analyse(trace, options())
    assert [result.stage.control for result in analysis.stages] == ["mixed"]
    assert analysis.capacity is not None
    assert analysis.capacity.count.charge.value == pytest.approx(np.trapezoid(levels, trace.time_s) / 3600)


def test_constant_current_then_constant_voltage() -> None:
    time_s = np.arange(0.0, 4 * 3600.0, 10.0)
    taper = time_s > 2 * 3600
    amps = np.where(taper, 8.0 * np.exp(-(time_s - 7200) / 1800), 8.0)
    volts = np.where(taper, 14.4, 13.4 + 1.0 * (time_s / 7200) ** 4)
    after = np.zeros(60)
    trace = Trace(
        np.append(time_s, time_s[-1] + 10.0 * np.arange(1, 61)), np.append(volts, 13.5 + after), np.append(-amps, after),
        resolution={"voltage_V": 0.001, "current_A": 0.001},
    )  # fmt: skip
    found = [(r.stage.kind.value, r.stage.control, r.ended_by) for r in analyse(trace, options()).stages]
    assert found[0] == ("charge", "current", "set-point")
    assert found[1] == ("charge", "voltage", "current-taper")


# --- endings ---


def test_protection_cutoff_dropout_operator_and_log_end() -> None:
    def ended(trace: Trace, **changes: object) -> str:
        test = analyse(trace, options(**changes)).capacity
        assert test is not None
        return test.ended_by

    assert ended(discharge(opened=True)) == "battery-protection"
    assert ended(discharge(opened=True), cutoff_V=10.0) == "battery-protection"
    rebounds = discharge(opened=False, end_V=10.9, noise_V=0.0)
    assert ended(rebounds, cutoff_V=10.9) == "set-cutoff"
    assert ended(rebounds, dropouts_V=(10.9,)) == "device-dropout"
    assert ended(discharge(opened=False, end_V=10.5, noise_V=0.0)) == "set-cutoff"
    assert ended(discharge(opened=False, end_V=11.33, noise_V=0.0)) == "operator"
    assert ended(discharge(opened=False, end_V=11.23, noise_V=0.0)) == "set-cutoff", "2.8 V a cell"
    assert ended(piecewise((100, 0.0, 13.3), (3600, 8.0, 13.0), (100, 0.0, 13.2))) == "operator"
    assert ended(piecewise((100, 0.0, 13.3), (3600, 8.0, 13.0))) == "log-end"


def test_a_charge_whose_protection_opens_jumps_up() -> None:
    trace = piecewise((60, 0.0, 13.2), (3600, -8.0, 14.2), (120, 0.0, 14.6))
    assert analyse(trace, options()).stages[1].ended_by == "charge-protection"


def test_a_low_voltage_trip_is_listed() -> None:
    trips = analyse(discharge(), options()).trips
    assert len(trips) == 1 and trips[0].kind == "low-voltage" and 10.0 < trips[0].voltage_V < 10.8


# --- usable charge ---


def test_usable_charge_above_a_drop_out() -> None:
    # T12, common practice, no published source: 16.0 Ah to the protection, 10.45 above 10.8 V: 65 %; / 0.8 A = 13.1 h
    hours = 20.0
    time_s = np.arange(0.0, hours * 3600 + 1, 60.0)
    share = 0.8 * time_s / 3600 / 16.0
    volts = np.where(share < 0.653, 12.6 - 1.8 * share / 0.653, 10.8 - 2.0 * (share - 0.653) / 0.347)
    tail = np.array([0.0, 0.0, 0.0])
    trace = Trace(
        np.append(time_s, time_s[-1] + 60 * np.arange(1, 4)), np.append(volts, tail + 0.3), np.append(np.full(len(time_s), 0.8), tail),
        resolution={"voltage_V": 0.001, "current_A": 0.001},
    )  # fmt: skip
    analysis = analyse(trace, Options(FAMILIES["nmc"], 16.0, INSTRUMENT, dropouts_V=(10.8, 8.0, 13.0)))
    above, never, at_once = analysis.usable
    assert above.charge.value == pytest.approx(10.45, abs=0.03)
    assert above.duration_s / 3600 == pytest.approx(13.1, abs=0.05)
    assert 100 * above.charge.value / 16.0 == pytest.approx(65, abs=0.5)
    assert never.charge.value == pytest.approx(16.0, abs=0.03) and not never.reached
    assert at_once.charge.value == 0.0 and at_once.duration_s == 0.0


@settings(max_examples=some(10, 25))
@given(st.floats(0.001, 0.02), st.floats(11.6, 12.6), st.integers(0, 1000))
def test_noise_does_not_move_the_crossing_far(noise: float, threshold: float, seed: int) -> None:
    random = np.random.default_rng(seed)
    time_s = np.arange(0.0, 18000.0, 10.0)
    clean = 13.0 - 2.0 * time_s / 18000.0
    trace = Trace(time_s, clean + noise * random.standard_normal(len(time_s)), np.full(len(time_s), 8.0))
    usable = analyse(trace, Options(LFP, 40.0, INSTRUMENT, dropouts_V=(threshold,))).usable[0]
    truth = (13.0 - threshold) / 2.0 * 18000.0
    assert usable.duration_s == pytest.approx(truth, abs=3.5 * noise / (2.0 / 18000.0) + 20.0)


def test_a_cutoff_given_above_the_end_counts_to_its_crossing() -> None:
    full = analyse(discharge(noise_V=0.0), options()).capacity
    cut = analyse(discharge(noise_V=0.0), options(cutoff_V=12.0)).capacity
    assert full is not None and cut is not None
    assert cut.ended_by == "set-cutoff" and cut.voltage_end == 12.0
    assert 36.0 < cut.count.charge.value < full.count.charge.value
    relative = [test.count.charge.standard / test.count.charge.value for test in (cut, full)]
    assert relative[0] > relative[1]


# --- counters ---


@pytest.mark.parametrize(
    ("values", "moved"),
    [
        ([0.0, 10.0, 20.0, 40.6], 40.6),
        ([120.0, 80.0, 40.0, 18.1], 101.9),  # T7, common practice: preset to 120, reading 18.1: 101.9 Ah drawn
        ([50.0, 30.0, 8.6], 41.4),  # handbook 4.4: preset 50, 8.6 left, 41.4 drawn
        ([3.3, 5.0, 13.3], 10.0),
    ],
)
def test_counters_up_down_and_from_anywhere(values: list[float], moved: float) -> None:
    assert read_counter(np.array(values), 0, len(values) - 1, "Ah", 0.1).moved.value == pytest.approx(moved)


def test_a_reset_counter_goes_on() -> None:
    up = np.concatenate([np.arange(0, 20, 0.1), np.arange(0, 10, 0.1)])
    reading = read_counter(up, 0, len(up) - 1, "Ah", 0.1)
    assert reading.resets == (200,) and reading.moved.value == pytest.approx(19.9 + 9.9)


def test_counter_against_integral() -> None:
    trace = discharge()
    counter = np.round(np.cumsum(trace.current) * 10 / 3600, 2)

    def found(values: np.ndarray) -> list[str]:
        return [remark.code for remark in analyse(replace(trace, counter_Ah=values), options()).remarks]

    assert found(counter) == []
    assert "counter-disagrees" in found(np.round(counter * 1.08, 2))
    assert "counter-not-zero" in found(counter + 7.5)
    reset = counter.copy()
    reset[1000:] -= reset[1000]
    assert "counter-reset" in found(reset)


# --- audits ---


@pytest.mark.parametrize(
    ("energy", "charge", "plausible"),
    [
        (1279.0, 109.72, False),  # T9, common practice: 11.66 V on average, not an LFP pack
        (1279.0, 102.0, True),  # T9: 12.54 V, plausible (a slipped digit)
        (1261.93, 101.81, True),  # T10: 12.39 V
        (124.5, 9.781, True),  # T10: 12.73 V
        (1268.74, 105.15, False),  # T10: 12.07 V, low: remarked, and the meter's accuracy asked for
    ],
)
def test_mean_voltage_is_the_cheapest_slip_detector(energy: float, charge: float, plausible: bool) -> None:
    remarks = mean_voltage_remarks(LFP, charge, energy)
    assert bool(remarks) is not plausible
    if remarks:
        assert remarks[0].code == "mean-voltage-implausible" and "accuracy" in remarks[0].message


def test_a_slipped_digit_is_offered() -> None:
    remark = mean_voltage_remarks(LFP, 109.72, 1279.0)[0]
    assert "would give" in remark.offer


def test_short_rest_coarse_sampling_and_charge_left_in() -> None:
    def found(trace: Trace, **changes: object) -> list[str]:
        return [remark.code for remark in analyse(trace, options(**changes)).remarks]

    hasty = piecewise((1800, -8.0, 13.9), (120, 0.0, 13.5), (3600, 8.0, 13.0), (60, 0.0, 13.2))
    assert "rest-too-short" in found(hasty)
    assert "rest-too-short" not in found(hasty, rest_s=60.0)
    coarse = discharge(interval_s=600.0)
    assert "coarse-sampling" in found(coarse) and "coarse-sampling" not in found(discharge())
    assert "not-to-protection" in found(discharge(opened=False, end_V=11.6, noise_V=0.0))
    assert "not-to-protection" not in found(discharge(opened=True))


def test_a_flipped_sign_is_offered_and_turned_on_request() -> None:
    trace = discharge(noise_V=0.0)
    amps = trace.current.copy()
    amps[900:1100] *= -1
    flipped = replace(trace, current_A=amps)
    analysis = analyse(flipped, options())
    remark = next(r for r in analysis.remarks if r.code == "sign-flipped")
    assert remark.rows == (901, 1100) and remark.offer
    mended = analyse(flipped, options(repair="offered")).capacity
    assert mended is not None and mended.count.charge.value == pytest.approx(40.0, rel=2e-3)


def test_readings_outside_the_family() -> None:
    codes = [r.code for r in analyse(discharge(top_V=18.5, end_V=16.0), options()).remarks]
    assert "voltage-outside-family" in codes


def test_a_long_log_is_linear_and_right() -> None:
    small = analyse(discharge(interval_s=10.0), options()).capacity
    large = analyse(discharge(interval_s=0.1), options()).capacity
    assert small is not None and large is not None
    assert large.count.charge.value == pytest.approx(small.count.charge.value, rel=2e-3)


def test_workings_name_formula_terms_and_source() -> None:
    analysis = analyse(discharge(), options())
    assert analysis.capacity is not None
    counted = analysis.capacity.count
    for working in (
        charge_working(counted, INSTRUMENT, 10), energy_working(counted, INSTRUMENT, 10), mean_voltage_working(counted, LFP.mean_V),
    ):  # fmt: skip
        text = working.as_text()
        assert (
            working.formula and working.source and "JCGM 100:2008" in text and "current" in text
        ) or "voltage" in text
        assert working.as_dict()["steps"][0]["label"] == "Uncertainty"


def test_progress_can_cancel() -> None:
    class Stop(Exception):
        pass

    def refuse(share: float) -> None:
        if share > 0.5:
            raise Stop

    with pytest.raises(Stop):
        analyse(discharge(), options(), refuse)


def test_duration_times_current() -> None:
    # T3 and T4, common practice, no published source
    assert pytest.approx(41.3) == 2478 / 60 and pytest.approx(209, abs=0.1) == 41.3 * 5.06
    trace = piecewise((36 * 3600, 5.0, 12.6), interval_s=60.0)
    test = analyse(trace, Options(LFP, 200.0, INSTRUMENT)).capacity
    assert test is not None
    assert test.count.charge.value == pytest.approx(180.0, rel=1e-3)
    assert test.percent_of_rated is not None and test.percent_of_rated.value == pytest.approx(90.0, rel=1e-3)
