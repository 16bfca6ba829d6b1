"""More of the analysis that a small change to the code would move, each worked out beside it.

The two wells: Manwell & McGowan, Solar Energy 50 (1993) (from memory), solved anew by a matrix exponential. The rest is
common practice, no published source.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from scipy.linalg import expm
from scipy.optimize import minimize

from tests.core.test_charge_edges import ABSORPTION, curve
from tests.core.test_charge_edges import analysed as charged
from tests.core.test_kinds import LFP, analysed, discharge, with_temperature
from tests.making import piecewise
from wintry_tally.core.analysis.audits import _other_way
from wintry_tally.core.analysis.beginning import COLD_CHART_V, COLD_SAG, _counted_on, _sag_of
from wintry_tally.core.analysis.cells import Cells, cell_remarks
from wintry_tally.core.analysis.charging import _as_heated, _between
from wintry_tally.core.analysis.clock import PLAUSIBLE
from wintry_tally.core.analysis.consistency import drift
from wintry_tally.core.analysis.counting import Integral, Span, _inside
from wintry_tally.core.analysis.ending import PROTECTION
from wintry_tally.core.analysis.holding import stretches_held
from wintry_tally.core.analysis.place import LOOK_BACK_S, place_history
from wintry_tally.core.analysis.rate import fit_two_wells
from wintry_tally.core.analysis.stages import (
    Stage,
    StageKind,
    _constant_voltage_apart,
    _plateau_apart,
    leapt_zero,
    scale_of,
)
from wintry_tally.core.analysis.trips import LOW_TEMPERATURE, _last_rise
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace import Trace
from wintry_tally.core.working import Working

TIME = frozenset({"time"})


@pytest.mark.parametrize("drawn_h", [0.0, 3.0])
def test_a_float_is_part_of_what_went_in_once_something_was_taken_out_after_it(drawn_h: float) -> None:
    charge = charged(curve(*ABSORPTION, (drawn_h, 12.5, 20.0)), "agm", 100.0).charge
    assert charge is not None and charge.all_in is not None
    taper = 80.0 + 19.0 * 3.0 / math.log(20.0)  # 20 A to 1 A in 3 h
    assert charge.all_in.charge.value == pytest.approx(taper + (4.5 if drawn_h else 0.0), rel=0.005)


@pytest.mark.parametrize("missing", [False, True])
def test_what_a_heater_took_ends_half_an_interval_after_its_last_reading(missing: bool) -> None:
    """5 A for 600 s, read every 10 s, then a gap of 10 min: of what flowed in it nothing is known."""
    log = piecewise((600, 0.0, 13.2), (600, -5.0, 14.4), (7200, -20.0, 13.5), (600, 0.0, 13.4), interval_s=10.0)
    if missing:
        log = replace(log, time_s=log.time_s + np.where(log.time_s >= 1200.0, 600.0, 0.0))
    charge = analysed(with_temperature(log, -10.0), rated=100.0).charge
    assert charge is not None and charge.heating is not None
    assert charge.heating.energy.value == pytest.approx(5.0 * 14.4 * 600.0 / 3600.0, rel=2e-3)


def test_a_mark_that_a_current_fell_through_unread_is_placed_by_equal_shares() -> None:
    """3 A, and half an hour later 0.05 A: e^-x falls to 2 A after ln 1.5 / ln 60 of it; a meter's zero tells nothing."""
    at = np.arange(9.0) * 1800.0
    amps = -np.array([20.0, 20.0, 20.0, 18.0, 12.0, 8.0, 5.0, 3.0, 0.05])
    stage = Stage(StageKind.CHARGE, 0, 8, "voltage")
    full, doubt = _between(Trace(at, np.full(9, 14.4), amps), [stage], 2.0)
    assert full == pytest.approx(at[7] + 1800.0 * math.log(1.5) / math.log(60.0))
    assert doubt == pytest.approx(1800.0 / math.sqrt(12.0))
    nothing = Trace(at, np.full(9, 14.4), np.where(np.arange(9) == 8, 0.0, amps))
    assert _between(nothing, [stage], 2.0) == (at[8], 0.0)


def test_cells_beside_terminals_that_show_nothing_add_up_to_nothing_that_is_told() -> None:
    cells = {f"cell_{n}_V": np.full(20, 3.3) for n in (1, 2, 3, 4)}
    dead = Trace(np.arange(20.0), np.full(20, 0.2), np.zeros(20), beside=cells)
    rest = [Stage(StageKind.REST, 0, 19, None)]
    assert cell_remarks(dead, Cells((1, 2, 3, 4), (), Working("", "", {}, "", "")), rest) == []
    apart = replace(dead, voltage_V=np.full(20, 12.0))
    assert [one.code for one in cell_remarks(apart, Cells((1, 2, 3, 4), (), Working("", "", {}, "", "")), rest)] == [
        "meters-disagree"
    ]
    assert (
        cell_remarks(apart, Cells((1, 2, 3, 4), (), Working("", "", {}, "", "")), [Stage(StageKind.PAUSE, 0, 19, None)])
        == []
    )


@pytest.mark.parametrize(("shown_A", "idle"), [(0.45, True), (0.6, False)])
def test_a_current_that_stands_through_a_leap_is_a_meter_s_zero_up_to_half_an_ampere(
    shown_A: float, idle: bool
) -> None:
    volts = np.where(np.arange(60) < 30, 12.9, 14.4)
    assert (leapt_zero(Trace(np.arange(60.0), volts, np.full(60, shown_A)), 1.0) > shown_A - 0.01) is idle


def test_a_big_pack_that_is_charged_well_below_its_limit_stands_on_no_plateau() -> None:
    """16 cells: 52 V are 13 V of four, which no charger's limit is; and its first reading alone makes none."""
    for volts, parts in (
        (np.r_[np.full(60, 52.0), np.full(60, 50.0)], 1),
        (np.r_[np.full(60, 57.6), np.full(60, 53.0)], 2),
        (np.r_[57.6, 53.0, np.full(58, 57.6), np.full(60, 53.0)], 1),
    ):
        trace = Trace(np.arange(120.0), volts, np.full(120, -20.0))
        stage = Stage(StageKind.CHARGE, 0, 119, "current")
        assert len(_plateau_apart(trace, scale_of(trace, share=4.0), stage)) == parts


@pytest.mark.parametrize(("rising", "parts"), [(2, 1), (3, 2), (5, 2)])
def test_a_charge_that_is_at_its_limit_after_two_readings_was_there_from_the_first(rising: int, parts: int) -> None:
    volts = np.r_[np.linspace(13.0, 14.0, rising), np.full(40, 14.4)]
    amps = -np.r_[np.full(rising, 20.0), np.geomspace(20.0, 2.0, 40)]
    trace = Trace(np.arange(len(volts)) * 60.0, volts, amps)
    stage = Stage(StageKind.CHARGE, 0, len(volts) - 1, "mixed")
    assert len(_constant_voltage_apart(trace, scale_of(trace), stage)) == parts


@pytest.mark.parametrize(("rated", "minutes"), [(100.0, True), (20.0, False)])
def test_minutes_by_their_digits_are_offered_where_the_battery_could_have_given_it(rated: float, minutes: bool) -> None:
    """Every 7 s, written in minutes: 8 A for 5 h, 40 Ah, which no battery of 20 Ah gives."""
    log = replace(
        discharge(8.0, 5.0, interval_s=7.0, noise_A=0.0, top_V=13.4, end_V=13.1, opened=False), unnamed=TIME, row=None
    )
    log = replace(log, time_s=(log.time_s / 60.0).round(5))
    assert PLAUSIBLE[1] * 20.0 < 40.0
    assert ("unit-suspect" in {remark.code for remark in analysed(log, rated=rated).remarks}) is minutes
    odd = replace(log, time_s=(log.time_s * 1.0137).round(5))  # on no grid of seconds
    assert "unit-suspect" not in {remark.code for remark in analysed(odd, rated=rated).remarks}


def test_seconds_with_tenths_are_no_minutes() -> None:
    # every 7.5 s: on the grid of a twentieth, as a logger's clock is
    log = replace(discharge(8.0, 5.0, interval_s=7.5, noise_A=0.0, opened=False), unnamed=TIME, row=None)
    assert "unit-suspect" not in {remark.code for remark in analysed(log, rated=None).remarks}


@pytest.mark.parametrize(("rated", "offered"), [(None, True), (20.0, False), (100.0, True)])
def test_a_usual_interval_is_offered_only_where_the_battery_could_have_given_it(
    rated: float | None, offered: bool
) -> None:
    log = discharge(8.0, 5.0, interval_s=5.0, noise_A=0.0, top_V=13.4, end_V=13.1, opened=False)
    log = replace(log, time_s=log.time_s / 60.0, unnamed=TIME, row=None)
    assert ("unit-suspect" in {remark.code for remark in analysed(log, rated=rated).remarks}) is offered


def test_how_far_a_load_makes_a_battery_sag_goes_with_its_rate() -> None:
    """20 A of 100 Ah, half an hour after the log begins; in the cold a chart is off too."""
    log = piecewise((1800, 0.0, 13.3), (3600, 20.0, 12.9))
    stages = [Stage(StageKind.DISCHARGE, 1800, 5399, "current")]
    sag, off, rate = _sag_of(log, Integral(log), stages, LFP, None, 100.0)
    assert (sag, off, rate) == (pytest.approx(0.2 * LFP.build.ohm_Ah, rel=1e-3), 0.0, pytest.approx(0.2, rel=1e-3))
    assert _sag_of(log, Integral(log), stages, LFP, None, None)[2] == pytest.approx(1.0, rel=1e-3), "in an hour, 1 C"
    cold, off, _ = _sag_of(log, Integral(log), stages, LFP, -10.0, 100.0)
    assert cold == pytest.approx(COLD_SAG * sag) and off == pytest.approx(COLD_CHART_V)


def test_a_hold_knows_the_voltage_of_the_reading_before_it() -> None:
    log = piecewise((60, 0.0, 13.31), (1, 0.0, 13.24), (600, 40.0, 12.6), (60, 0.0, 13.1))
    found = analysed(log)
    (held,) = stretches_held(log, found.scale, found.plain_stages, found.endings, found.options.instrument, 300.0)
    assert held.rested_V == 13.24


@pytest.mark.parametrize(("interval_s", "begins_s", "late"), [(200.0, 350.0, True), (200.0, 290.0, False), (5.0, 61.0, True), (5.0, 59.0, False), (20.0, 90.0, False), (20.0, 101.0, True)])  # fmt: skip
def test_how_late_by_its_own_clock_a_log_begins(interval_s: float, begins_s: float, late: bool) -> None:
    """A minute; five readings, but no more than five minutes; a hundredth of what is logged."""
    at = np.arange(20.0) * interval_s
    trace = Trace(at, np.full(20, 12.9), np.full(20, 8.0), begins_s=begins_s)
    assert _counted_on(trace, float(at[-1])) is late
    assert _counted_on(replace(trace, begins_s=1000.0), 99_000.0)
    assert not _counted_on(replace(trace, begins_s=1000.0), 101_000.0)


def test_a_drift_of_two_runs_is_their_difference() -> None:
    told, _ = drift([0.0, 10.0], [Quantity(100.0, 0.1, "Ah"), Quantity(90.0, 0.1, "Ah")])
    assert told.value == pytest.approx(-1.0)


def test_a_rest_that_ends_with_a_charger_s_leap_gives_no_resistance() -> None:
    """The charger is put on in its last two readings: the step to the charge begins at the charger's volts."""
    volts = np.r_[np.full(50, 12.9), np.full(2, 14.4), np.full(60, 13.4)]
    amps = np.r_[np.zeros(52), np.full(60, -20.0)]
    assert not analysed(Trace(np.arange(112.0), volts, amps), rated=100.0).resistance
    volts[50:52] = 12.9
    assert analysed(Trace(np.arange(112.0), volts, amps), rated=100.0).resistance


@pytest.mark.parametrize(("volts", "celsius", "refused"), [(13.55, -9.0, True), (13.2, -9.0, False), (14.4, None, False), (14.4, 4.5, True), (14.4, 6.0, False)])  # fmt: skip
def test_a_charger_is_put_on_above_half_a_volt_below_its_least_limit(
    volts: float, celsius: float | None, refused: bool
) -> None:
    """LFP: 14.0 V at the least; where no temperature is known, nothing says that it was the cold."""
    parts = ((60, 0.0, 12.7), (60, 0.0, volts), (60, 0.0, 12.7))
    log = piecewise(*parts) if celsius is None else with_temperature(piecewise(*parts), celsius)
    assert ([trip.kind for trip in analysed(log).trips] == [LOW_TEMPERATURE]) is refused


def test_the_last_rise_before_an_opening_is_the_one_that_stays() -> None:
    """60 A, 100 A from 40 s, a dip of regulation at 70 s that comes back: it rose at 40 s."""
    amps = np.r_[np.full(40, 60.0), np.full(60, 100.0)]
    amps[70] = 90.0
    trace = Trace(np.arange(100.0), np.full(100, 12.4), amps)
    assert _last_rise(trace, scale_of(trace), 0, 99) == (39.5, 40.0)
    amps[80:] = 140.0
    assert _last_rise(replace(trace, current_A=amps), scale_of(trace), 0, 99) == (79.5, 80.0)


def test_a_core_is_not_known_where_its_place_was_not_read_for_three_time_constants() -> None:
    at = np.r_[np.arange(0.0, 4.0, 0.25), np.arange(40.0, 48.1, 0.25)] * 3600.0
    told = [place_history("p", at, np.full(len(at), 5.0), 0.0, 48.0 * 3600.0, hours * 3600.0).core_C for hours in (2.0, 4.0)]  # fmt: skip
    assert told[0] is not None and told[1] is None
    assert place_history("p", at[:0], at[:0], 0.0, 3600.0).covered == 0.0


def test_two_wells_need_two_rates_however_long_a_rest_is() -> None:
    with pytest.raises(InputError, match="one rate alone"):
        fit_two_wells([[(10.0, 8.0), (0.0, 2.0), (10.0, 0.5)]])


def test_two_wells_of_two_ends_are_those_nearest_to_the_usual_shape() -> None:
    """10 A for 8 h and 40 A for 1.6 h, from full: of all wells that both empty, the one of the least prior."""
    ends = ((10.0, 8.0), (40.0, 1.6))

    def left(capacity: float, share: float, rate: float, amps: float, hours: float) -> float:
        flow = np.array(
            [[-rate / share, rate / (1.0 - share), -amps], [rate / share, -rate / (1.0 - share), 0.0], [0, 0, 0]]
        )
        return float((expm(flow * hours) @ [share * capacity, (1.0 - share) * capacity, 1.0])[0]) / capacity

    def cost(values: np.ndarray) -> float:
        capacity, share, rate = 80.0 * math.exp(values[0]), 1.0 / (1.0 + math.exp(-values[1])), math.exp(values[2])
        misfit = [left(capacity, share, share * (1.0 - share) * rate, *end) for end in ends]
        return 1e6 * float(np.dot(misfit, misfit)) + float(
            (values[0] - 0.05) ** 2 + (values[1] + 0.4) ** 2 + values[2] ** 2
        )

    best = minimize(
        cost, [0.1, 0.0, 0.0], method="Nelder-Mead", options={"xatol": 1e-7, "fatol": 1e-10, "maxiter": 20_000}
    ).x
    found = fit_two_wells([[end] for end in ends])
    assert found.capacity_Ah == pytest.approx(80.0 * math.exp(best[0]), rel=2e-3)
    assert found.share == pytest.approx(1.0 / (1.0 + math.exp(-best[1])), rel=5e-3)
    assert found.rate_per_h == pytest.approx(math.exp(best[2]), rel=5e-3)


def test_terminals_that_showed_nothing_once_were_open_though_they_came_back() -> None:
    parts = ((60, 0.0, 13.3), (3600, 20.0, 12.9), (1, 0.0, 0.2), (1, 0.0, 13.2))
    log = analysed(piecewise(*parts))
    assert log.capacity is not None and log.capacity.ended_by == PROTECTION
    assert analysed(piecewise(*parts[:2], (2, 0.0, 13.2))).capacity.ended_by != PROTECTION


@pytest.mark.parametrize(("times", "told"), [(1.5, True), (1.0, False)])
def test_a_power_column_is_held_against_volts_times_amperes_however_little_flowed(times: float, told: bool) -> None:
    log = piecewise((60, 0.0, 13.3), (120, 1.0, 12.9), (60, 0.0, 13.2))  # 0.43 Wh
    log = replace(log, power_W=times * log.voltage_V * log.current)
    assert ("meters-disagree" in {remark.code for remark in analysed(log, rated=1.0).remarks}) is told


def test_what_lies_further_back_than_is_asked_for_moves_no_core() -> None:
    # 200 Ah have a time constant of some eight hours; from -18 °C into a room
    assert 41.0 * math.exp(-LOOK_BACK_S / (8.0 * 3600.0)) < 0.01


def test_a_flicker_below_the_full_criterion_is_not_full() -> None:
    """20 A e^(-t ln 20 / 3 h) is 2 A, 2 % of C20, after 3 h × ln 10 / ln 20; one reading is low half an hour before."""
    log = curve((0.5, 12.4, 0.0), (1.0, (13.8, 14.4), -20.0), (3.0, 14.4, (-20.0, -1.0)), (0.5, 13.2, 0.0))
    hours = 1.0 + 3.0 * math.log(10.0) / math.log(20.0)
    at = int((0.5 + hours - 0.5) * 360)
    amps = log.current.copy()
    amps[at] = -1.5
    charge = charged(replace(log, current_A=amps), "agm", 100.0).charge
    assert charge is not None and charge.time_to_full_s == pytest.approx(3600.0 * hours, abs=30.0)


def test_what_switching_leaves_in_doubt_is_alike_in_a_long_log_and_by_each_of_its_steps() -> None:
    """60,000 readings, of which windows are looked at; 6,000 steps of 15 A within a second: (15 A s)² / 12 each."""
    amps = np.where(np.arange(60_000) // 10 % 2, 20.0, 5.0)
    log = Trace(np.arange(60_000.0), np.full(60_000, 12.9), amps)
    _, stepped, _, readings, _ = _inside(log, Span(0, 59_999), 1.0)
    assert readings == 60_000 and stepped == pytest.approx(5999 * (15.0 / 3600.0) ** 2 / 12.0, rel=0.01)


def test_integrals_of_a_long_log_are_those_of_all_of_it() -> None:
    size = 200_000
    amps = np.sin(np.arange(size) / 9000.0) + 1.5
    log = Trace(np.arange(size) * 0.5, np.full(size, 12.0), amps)
    for first, last in ((0, size - 1), (70_000, 199_000), (65_536, 131_072), (131_071, 131_073)):
        charge, energy, volts = Integral(log).between(first, last)
        assert charge == pytest.approx(np.trapezoid(amps[first : last + 1], dx=0.5))
        assert (energy, volts) == (pytest.approx(12.0 * charge), pytest.approx(6.0 * (last - first)))


@pytest.mark.parametrize(("hours", "told"), [(20.0, True), (50.0, False)])
def test_a_high_mean_speaks_against_lead_acid_where_it_was_drawn_on_in_earnest(hours: float, told: bool) -> None:
    """100 Ah at C/20, and at C/50, where the plates of one hardly sag."""
    log = discharge(100.0 / hours, hours, interval_s=60.0, top_V=13.4, end_V=12.9, opened=False)
    found = analysed(log, FAMILIES["agm"], 100.0)
    assert ("family-doubt" in {remark.code for remark in found.remarks}) is told


@pytest.mark.parametrize(
    ("volts", "other"),
    [
        ((13.0, (13.6, 13.6), 13.1), True),  # higher at both edges, and flat: it was charged
        ((None, (13.50, 13.58), 13.1), True),  # at the one edge that there is, and it rises
        ((None, (13.50, 13.50), 13.1), False),
        ((None, (13.50, 13.58), 13.9), False),
    ],
)
def test_what_is_higher_while_it_flows_was_charged(
    volts: tuple[float | None, tuple[float, float], float], other: bool
) -> None:
    before, (begun, ended), after = volts
    parts = [np.full(40, before), np.linspace(begun, ended, 200), np.full(40, after)][0 if before else 1 :]
    log = Trace(np.arange(float(sum(map(len, parts)))), np.concatenate(parts), np.zeros(sum(map(len, parts))))
    kinds = [StageKind.REST, StageKind.DISCHARGE, StageKind.REST][0 if before else 1 :]
    edges = np.cumsum([0, *map(len, parts)])
    stages = [Stage(kind, int(a), int(b) - 1, None) for kind, a, b in zip(kinds, edges, edges[1:], strict=False)]
    assert _other_way(log, stages, 1 if before else 0, scale_of(log)) is other


@pytest.mark.parametrize(("volts", "heated"), [(28.8, True), (26.4, False)])
def test_a_heater_stands_at_the_limit_of_a_pack_of_its_size(volts: float, heated: bool) -> None:
    log = with_temperature(Trace(np.arange(60.0), np.full(60, volts), np.full(60, -3.0)), -10.0)
    stage = Stage(StageKind.CHARGE, 0, 59, "current")
    assert _as_heated(log, scale_of(log, share=2.0), stage, slice(1, 60)) is heated


@pytest.mark.parametrize(
    ("volts", "parts"),
    [
        (np.r_[np.full(60, 14.4), np.full(60, 13.3)], 2),
        (np.r_[np.linspace(14.0, 14.8, 60), np.full(60, 13.3)], 1),  # no limit was held before
        (np.r_[np.full(60, 14.4), np.full(1, 13.3), np.full(59, 14.4)], 1),  # and here it goes on
    ],
)
def test_a_plateau_is_held_before_it_gives_way_for_good(volts: np.ndarray, parts: int) -> None:
    trace = Trace(np.arange(120.0), volts, np.full(120, -20.0))
    assert len(_plateau_apart(trace, scale_of(trace), Stage(StageKind.CHARGE, 0, 119, "current"))) == parts


def test_one_reading_of_nothing_after_a_load_went_off_opened_no_protection() -> None:
    log = piecewise((60, 0.0, 13.3), (3600, 20.0, 12.9), (2, 0.0, 13.15), (1, 0.0, 0.2), (300, 0.0, 13.2))
    assert analysed(log).capacity.ended_by != PROTECTION
    assert analysed(piecewise((60, 0.0, 13.3), (3600, 20.0, 12.9), (2, 0.0, 0.4), (300, 0.0, 0.2))).capacity.ended_by == PROTECTION  # fmt: skip


@pytest.mark.parametrize(("hours", "pair"), [(1.9, True), (2.1, True), (2.4, False), (0.9, False)])
def test_a_charge_and_a_discharge_of_other_depths_are_no_pair(hours: float, pair: bool) -> None:
    """20 A for 2 h and a taper put 47 Ah in; out come 38, 42, 48 and 18 Ah by 20 A, and the protection opens."""
    taper = 0.5 * 19.0 / math.log(20.0)
    out = hours * (40.0 + taper) / 40.0
    parts = ((0.2, 11.0, 0.0), (2.0, (13.0, 14.4), -20.0), (0.5, 14.4, (-20.0, -1.0)), (0.3, 13.5, 0.0), (out, (13.2, 10.1), 20.0), (0.2, 0.1, 0.0))  # fmt: skip
    assert (charged(curve(*parts), "lfp", 40.0).efficiency is not None) is pair
