"""Small things of the analysis that a small change to the code would move, each worked out beside it.

Trapezoids and their uncertainty: JCGM 100:2008, 4.3.7; the rest is common practice, no published source.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from tests.core.test_kinds import LFP, analysed, discharge
from tests.making import piecewise
from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.analysis.crossing import _error
from wintry_tally.core.analysis.ending import _fell_at_a_limit
from wintry_tally.core.analysis.holding import SHOWN, stretches_held
from wintry_tally.core.analysis.shelf import loss_by_capacity
from wintry_tally.core.analysis.stages import Stage, StageKind, _plateau_apart
from wintry_tally.core.analysis.trips import LOW_TEMPERATURE, OVER_VOLTAGE
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.battery.families import of_cells
from wintry_tally.core.quantity import Quantity, Term, parse_accuracy
from wintry_tally.core.trace import Trace


@pytest.mark.parametrize(("minutes", "empties"), [(14.0, False), (16.0, False), (19.0, True)])
def test_a_stretch_that_draws_less_than_a_seventh_of_the_rating_empties_nothing(minutes: float, empties: bool) -> None:
    # a quarter of an hour, and 15 % of 40 Ah: 20 A for 18 min
    log = analysed(piecewise((600, 0.0, 13.3), (60 * minutes, 20.0, 12.9), (600, 0.0, 13.2)), rated=40.0)
    assert log.capacity is not None and log.capacity.empties is empties


def test_a_step_between_two_readings_gives_a_resistance_though_the_load_ripples() -> None:
    dice = np.random.default_rng(3)
    amps = np.concatenate([np.zeros(40), np.full(200, 20.0) + dice.normal(0.0, 0.05, 200), np.zeros(40)])
    amps[140:180] += 10.0
    volts = 13.2 - 0.010 * amps
    log = analysed(Trace(np.arange(280.0), volts, amps, resolution={"voltage_V": 0.001, "current_A": 0.01}))
    within = [step for step in log.resistance if step.from_A > 15.0 and step.to_A > 25.0]
    assert within and within[0].ohm.value == pytest.approx(0.010, rel=0.02)
    # a ramp caught half way is no step, nor is one of which a fifteenth is still to come
    amps[139] = 28.0
    creeping = analysed(
        Trace(np.arange(280.0), 13.2 - 0.010 * amps, amps, resolution={"voltage_V": 0.001, "current_A": 0.01})
    )
    assert not [step for step in creeping.resistance if step.from_A > 15.0 and 27.0 < step.to_A < 29.0]
    amps[139] = 24.0
    ramped = analysed(
        Trace(np.arange(280.0), 13.2 - 0.010 * amps, amps, resolution={"voltage_V": 0.001, "current_A": 0.01})
    )
    assert not [step for step in ramped.resistance if step.from_A > 15.0 and 22.0 < step.to_A < 26.0]


@pytest.mark.parametrize(
    ("cells", "drop_V", "apart"), [(4, 0.35, True), (4, 0.25, False), (16, 1.4, True), (16, 1.0, False)]
)
def test_a_plateau_at_the_charger_s_limit_ends_where_the_volts_fall(cells: int, drop_V: float, apart: bool) -> None:
    """0.3 V of a 12 V pack, and as many times as there are such packs in series; the current goes on as it was."""
    family, share = of_cells(LFP, cells), cells / 4.0
    limit = 14.4 * share
    trace = piecewise(
        (60, 0.0, 12.9 * share),
        (900, -5.0, limit),
        (900, -5.0, limit - drop_V),
        (300, 0.0, 13.2 * share),
        interval_s=5.0,
    )
    log = analyse(trace, Options(family=family, rated_Ah=100.0, cells_known=True))
    parts = _plateau_apart(log.trace, log.scale, Stage(StageKind.CHARGE, 12, 371, "current"))
    assert [(one.first, one.last) for one in parts] == ([(12, 191), (192, 371)] if apart else [(12, 371)])


def test_a_gap_in_a_long_log_counts_once_however_it_is_looked_at() -> None:
    """A log of 100,000 readings is looked at in windows: its gaps' uncertainty is brought to the whole."""
    size = 100_000
    time = np.arange(size, dtype=float)
    for gaps in (40, 80):
        later = time.copy()
        for place in np.linspace(1000, size - 1000, gaps).astype(int):
            later[place:] += 30.0
        amps = 10.0 + np.where(np.arange(size) % 2, 0.5, -0.5)
        volts = np.linspace(13.2, 10.0, size)
        after = Trace(np.concatenate([later, later[-1] + 1.0 + np.arange(60)]), np.concatenate([volts, np.full(60, 0.3)]),
                      np.concatenate([amps, np.zeros(60)]), resolution={"voltage_V": 0.001, "current_A": 0.001})  # fmt: skip
        test = analysed(after, rated=300.0).capacity
        assert test is not None
        found = next(term.standard for term in test.count.charge.terms if term.name == "gaps bridged")
        one = 0.5 * 1.0 * 31.0 / math.sqrt(3.0) / 3600.0
        assert found == pytest.approx(one * math.sqrt(gaps), rel=0.3), gaps


def test_the_time_base_is_in_a_charge_and_not_in_a_mean_current() -> None:
    test = analysed(discharge(10.0, 5.0, opened=True), rated=50.0).capacity
    assert test is not None
    assert "time base" in {term.name for term in test.count.charge.terms}
    names = {term.name for term in test.count.mean_current.terms}
    assert "time base" not in names and "current gain" in names


@pytest.mark.parametrize("unit_s", [3600.0, 86400.0])
def test_hours_that_are_taken_for_seconds_show_by_a_logger_s_usual_interval(unit_s: float) -> None:
    # and a spreadsheet's fractions of a day
    for interval_s, told in ((5.0, True), (15.0, True), (7.6, False)):
        time = np.arange(400) * interval_s / unit_s
        volts = np.concatenate([np.full(40, 13.2), np.linspace(13.0, 12.9, 320), np.full(40, 13.1)])
        amps = np.concatenate([np.zeros(40), np.full(320, 10.0), np.zeros(40)])
        log = analyse(Trace(time, volts, amps, unnamed=frozenset({"time"})), Options(family=LFP))
        assert ("unit-suspect" in {remark.code for remark in log.remarks}) is told, interval_s


def test_a_refusal_without_a_current_stands_where_the_charger_s_volts_leapt_up() -> None:
    volts = np.concatenate([np.full(30, 12.9), np.full(60, 14.4), np.full(30, 12.9)])
    trace = Trace(np.arange(120.0), volts, np.zeros(120), temperature_C=np.full(120, -8.0))
    (trip,) = analysed(trace).trips
    assert (trip.kind, trip.index, trip.at_s, trip.voltage_V) == (LOW_TEMPERATURE, 30, 29.5, 14.4)


@pytest.mark.parametrize(("volts", "kind"), [(14.35, OVER_VOLTAGE), (14.25, LOW_TEMPERATURE)])
def test_a_cold_charge_that_ends_near_the_highest_limit_was_ended_by_its_volts(volts: float, kind: str) -> None:
    # within 0.3 V of the highest that a charger gives an LFP pack, 14.6 V; a quarter of an hour is no blocked charge
    trace = piecewise((120, 0.0, 13.2), (900, -5.0, volts), (600, 0.0, 15.0))
    (trip,) = analysed(replace(trace, temperature_C=np.full(len(trace), -3.0)), rated=40.0).trips
    assert trip.kind == kind


def test_readings_outside_a_family_s_volts_are_counted_and_the_farthest_told() -> None:
    log = analysed(piecewise((120, 0.0, 13.2), (300, 5.0, 12.9), (100, 5.0, 15.05), (300, 5.0, 12.8)), rated=40.0)
    (remark,) = [one for one in log.remarks if one.code == "voltage-outside-family"]
    assert remark.rows == (421, 520) and remark.message.startswith("100 readings") and "15.05 V" in remark.message


def test_a_counter_is_held_against_the_current_to_a_hundredth_where_no_accuracy_is_known() -> None:
    for share, apart in ((1.015, False), (1.03, True)):
        trace = piecewise((60, 0.0, 13.3), (7200, 10.0, 12.9), (60, 0.0, 13.2), interval_s=10.0)
        counter = np.concatenate([[0.0], np.cumsum(np.diff(trace.time_s) * trace.current[1:])]) / 3600.0 * share
        log = analyse(
            Trace(
                trace.time_s,
                trace.voltage_V,
                trace.current_A,
                counter_Ah=counter.round(3),
                resolution={"counter_Ah": 0.001},
            ),
            Options(family=LFP, rated_Ah=40.0),
        )
        assert ("counter-disagrees" in {remark.code for remark in log.remarks}) is apart, share


def test_a_threshold_is_known_to_a_digit_s_rectangle_and_the_noise() -> None:
    trace = piecewise((60, 0.0, 13.3), (7200, 10.0, 12.9), (60, 0.0, 13.2))
    log = analysed(Trace(trace.time_s, trace.voltage_V, trace.current_A, resolution={"voltage_V": 0.1}))
    assert _error(log.trace, log.scale, 10.0, Instrument()) == pytest.approx(
        math.hypot(log.scale.noise_V, 0.1 / math.sqrt(12.0))
    )


@pytest.mark.parametrize(("shown_s", "held"), [(3.0, False), (6.0, True)])
def test_a_hold_of_which_less_than_half_was_read_is_no_hold(shown_s: float, held: bool) -> None:
    """Ten seconds wanted, read every five: what the intervals round it add is no reading of it."""
    assert SHOWN == 0.5
    time = np.array([0.0, 5.0, 10.0, 10.0 + shown_s, 25.0, 30.0, 35.0])
    amps = np.array([0.0, 0.0, 100.0, 100.0, 0.0, 0.0, 0.0])
    log = analysed(Trace(time, 13.2 - 0.005 * amps, amps))
    found = stretches_held(log.trace, log.scale, log.plain_stages, log.endings, log.options.instrument, 10.0)
    assert [one.complete for one in found] == [held] if held else not any(one.complete for one in found)


def test_in_the_cold_a_first_voltage_is_read_with_more_doubt_and_not_less() -> None:
    """Lead-acid at 0.25 C: warm, 12.33 V are no full battery's; at −15 °C they may be."""
    size = 1440
    volts = np.concatenate([np.linspace(12.33, 10.5, size), np.full(60, 11.6)]).round(3)
    trace = Trace(
        np.arange(size + 60) * 10.0,
        volts,
        np.concatenate([np.full(size, 10.0), np.zeros(60)]),
        resolution={"voltage_V": 0.001},
    )
    for celsius, low in ((25.0, True), (-15.0, False)):
        log = analyse(trace, Options(family=FAMILIES["agm"], rated_Ah=40.0, ambient_C=celsius, cutoff_V=10.5))
        assert log.capacity is not None and bool(log.capacity.begun_low) is low, celsius


@pytest.mark.parametrize(("gave_V", "heated"), [(0.30, True), (0.15, False)])
def test_how_little_a_charger_s_limit_may_give_way_goes_with_the_pack(gave_V: float, heated: bool) -> None:
    """0.05 V of a 12 V pack, 0.2 V of four in series."""
    volts = np.concatenate([np.full(30, 51.6), np.full(300, 57.2), [57.2 - gave_V], np.full(200, 57.2)])
    amps = np.concatenate([np.zeros(30), np.full(300, -5.0), np.linspace(-20.0, -12.0, 201)])
    trace = Trace(
        np.arange(531) * 5.0,
        volts,
        amps,
        temperature_C=np.full(531, -8.0),
        resolution={"voltage_V": 0.01, "current_A": 0.01},
    )
    found = analyse(trace, Options(family=of_cells(LFP, 16), rated_Ah=100.0, cells_known=True)).charge
    assert found is not None and (found.heating is not None) is heated


def test_a_full_mark_that_the_meter_cannot_see_is_remarked() -> None:
    """A twentieth of 5 Ah is 0.25 A."""
    trace = piecewise((60, 0.0, 13.0), (3000, -2.0, 14.0), (600, -0.2, 14.4), (60, 0.0, 13.5), interval_s=5.0)
    for offset, untold in (("1%+0.5A", True), ("1%+0.01A", False)):
        meter = Instrument(parse_accuracy("0.1%"), parse_accuracy(offset), "meter")
        log = analyse(trace, Options(family=LFP, rated_Ah=5.0, instrument=meter))
        assert ("full-undecided" in {remark.code for remark in log.remarks}) is untold, offset


def test_a_loss_between_two_discharges_is_no_surer_than_a_discharge_repeats() -> None:
    """Each repeats within 0.3 % (uniform, JCGM 100:2008, 4.3.7): two of them, over three months."""
    before, after = (Quantity.from_terms(amount, "Ah", [Term("own", 0.01)]) for amount in (50.0, 47.0))
    lost = loss_by_capacity(before, after, 3.0)
    assert lost.rate.value == pytest.approx(2.0)
    repeats = next(term.standard for term in lost.rate.terms if term.name == "how well a discharge repeats")
    assert repeats == pytest.approx(math.sqrt(2.0) * 0.003 / math.sqrt(3.0) * 100.0 / 3.0)
    assert loss_by_capacity(Quantity(50.0, None, "Ah"), Quantity(47.0, None, "Ah"), 3.0).rate.standard is None


def test_a_charge_held_short_of_its_limit_did_not_taper() -> None:
    """No constant-voltage part, its current hardly lower at its end: only at the limit, and steady there, is that full."""
    for limit_V, spread_V, full in ((14.2, 0.0, True), (13.9, 0.0, False), (14.2, 0.3, False)):
        volts = np.concatenate([np.full(30, 13.2), np.linspace(limit_V - spread_V, limit_V, 200), np.full(40, 13.6)])
        amps = np.concatenate([np.zeros(30), np.full(200, -5.0), np.zeros(40)])
        trace = Trace(np.arange(270) * 5.0, volts, amps, resolution={"voltage_V": 0.01, "current_A": 0.01})
        log = analysed(trace)
        stage = log.plain_stages[1]
        assert _fell_at_a_limit(log.trace, stage, 5.0, log.options.ends) is full, (limit_V, spread_V)
