"""More small things of the analysis that a small change to the code would move, each worked out beside it.

Common practice, no published source; the values are invented.
"""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest

from tests.core.test_kinds import METER, analysed, discharge, with_temperature
from tests.making import piecewise
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.analysis.cells import _at
from wintry_tally.core.analysis.consistency import drift
from wintry_tally.core.analysis.counting import Integral
from wintry_tally.core.analysis.second_meter import SecondMeter, second_meter_remarks
from wintry_tally.core.analysis.stages import StageKind
from wintry_tally.core.analysis.trips import LOW_TEMPERATURE
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.battery.families import of_cells
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace import Trace
from wintry_tally.core.trace.trace import BLOCK
from wintry_tally.core.working import Working


@pytest.mark.parametrize("times", [(), (3.0,), (3.0, 3.0)])
def test_a_drift_needs_two_times(times: tuple[float, ...]) -> None:
    with pytest.raises(ValueError, match="two times"):
        drift(times, [Quantity(40.0, 0.1, "Ah") for _ in times])


@pytest.mark.parametrize(
    ("known", "taken"), [((1, 1, 1, 1), 2), ((1, 1, 0, 1), 1), ((1, 0, 0, 1), 3), ((1, 0, 0, 0), None)]
)
def test_cells_read_in_turn_are_taken_from_the_row_beside(known: tuple[int, ...], taken: int | None) -> None:
    volts = np.array([[3.30, 3.31, 3.32, 3.33], [3.20, 3.25, 3.28, 3.30]])
    found = _at("under load", volts, np.array(known, dtype=bool), (1, 2), 2)
    assert [one.lowest_V for one in found] == ([] if taken is None else [volts[1, taken]])
    assert _at("at the end", volts, np.array([0, 0, 0, 1], dtype=bool), (1, 2), 4)[0].lowest_V == 3.30
    assert _at("at the end", volts, np.array([1, 1, 1, 0], dtype=bool), (1, 2), 4) == []


@pytest.mark.parametrize(
    ("apart", "allowed", "codes"),
    [
        ((0.30, None), (0.10, None), ["volts"]),
        ((None, 0.5), (None, 0.2), ["amps"]),
        ((0.30, 0.5), (0.10, None), ["volts"]),
        ((0.30, 0.1), (0.10, 0.2), ["volts"]),
        ((-0.30, -0.5), (0.10, 0.2), ["volts", "amps"]),
    ],
)
def test_a_second_meter_is_told_apart_by_what_it_has_and_what_is_known_of_it(
    apart: tuple[float | None, ...], allowed: tuple[float | None, ...], codes: list[str]
) -> None:
    log = analysed(discharge(5.0, 1.0), rated=10.0)
    found = SecondMeter(*apart, *allowed, None, 5.0, Working("", "", {}, ""))
    told = second_meter_remarks(log.trace, log.capacity, found)
    assert {remark.code for remark in told} == {"meters-disagree"}
    assert [str(remark.message.code).split("-")[1] for remark in told] == codes


def test_a_charger_put_on_after_a_test_is_refused_in_the_cold_as_one_at_the_beginning() -> None:
    parts = ((60, 8.0, 12.8), (60, 0.0, 12.9), (60, 0.0, 14.4))
    for before in ((), parts[:1]):
        log = analysed(with_temperature(piecewise((20, 0.0, 13.0), *before, *parts[1:]), -9.0))
        assert [trip.kind for trip in log.trips] == [LOW_TEMPERATURE], before
    charged = ((60, 0.0, 12.9), (60, -8.0, 13.6), (60, 0.0, 14.4))
    log = analysed(with_temperature(piecewise(*charged), -9.0))
    assert len(log.trips) == 1, "what stands after a charge is that charge's own"


@pytest.mark.parametrize("interval_s", [0.05, 0.1, 0.25, 1.0])
def test_a_log_of_many_readings_a_second_is_in_seconds(interval_s: float) -> None:
    # 0.05 s is a whole number of seconds in minutes, as any time is that has a grid of its own
    log = analysed(piecewise((20, 0.0, 13.2), (30, 100.0, 12.6), (20, 0.0, 13.1), interval_s=interval_s))
    assert "unit-suspect" not in {remark.code for remark in log.remarks}


def test_stages_cover_every_reading_once_with_a_float_behind_a_charge() -> None:
    hours = np.arange(0.0, 8.0, 30.0 / 3600.0)
    volts = np.select([hours < 2.0, hours < 5.0], [12.6 + 0.95 * hours, 14.5], 13.6)
    amps = -np.select([hours < 2.0, hours < 5.0], [10.0, 10.0 * np.exp(-(hours - 2.0) / 0.7)], 0.12)
    trace = Trace(3600.0 * hours, volts, amps, resolution={"voltage_V": 0.01, "current_A": 0.01})
    log = analyse(trace, Options(family=FAMILIES["agm"], rated_Ah=50.0, instrument=METER))
    stages = [result.stage for result in log.stages]
    assert stages[0].first == 0 and stages[-1].last == len(trace) - 1
    assert all(one.last + 1 == other.first for one, other in itertools.pairwise(stages))
    assert stages[-1].kind == StageKind.CHARGE and stages[-1].first == int(np.argmax(hours >= 5.0))


@pytest.mark.parametrize("before", [(), ((600, 0.0, 13.0),)])
@pytest.mark.parametrize("behind", [(), ((600, 0.0, 13.4),)])
def test_a_charge_written_as_a_discharge_joins_the_charge_behind_it(before: tuple, behind: tuple) -> None:
    whole = piecewise(*before, (3600, -8.0, 13.4), (3600, -8.0, 13.5), *behind, interval_s=10.0)
    live = np.flatnonzero(whole.current < 0.0)
    volts = whole.voltage_V.copy()
    volts[live] = np.linspace(13.3, 13.7, len(live))
    amps = whole.current.copy()
    amps[live[: len(live) // 2]] *= -1.0
    log = analysed(replace(whole, voltage_V=volts, current_A=amps), rated=40.0)
    flipped = [remark for remark in log.remarks if remark.code == "sign-flipped"]
    assert [remark.rows for remark in flipped] == [(int(live[0]) + 1, int(live[len(live) // 2 - 1]) + 1)], log.remarks


def test_what_flowed_between_two_rows_until_the_cut_off_counts_at_its_own_volts() -> None:
    # 10 A while the volts fall by 0.3 V a row of ten minutes: the integral of a straight line, in closed form
    volts = np.round(np.r_[12.9, 12.0 - 0.3 * np.arange(10), 10.9], 3)
    amps = np.r_[0.0, np.full(10, 10.0), 0.0]
    trace = Trace(600.0 * np.arange(len(volts)), volts, amps, resolution={"voltage_V": 0.001, "current_A": 0.001})
    log = analyse(trace, Options(family=FAMILIES["agm"], rated_Ah=20.0, instrument=METER, cutoff_V=10.0))
    assert log.capacity is not None and len(log.capacity.count.spans) == 1
    span = log.capacity.count.spans[0]
    under_s = 600.0 * (12.0 - 10.0) / 0.3
    assert log.capacity.count.duration_s - span.lead_s == pytest.approx(under_s, rel=1e-6)
    led_Wh = 12.0 * 10.0 * span.lead_s / 3600.0
    energy_Wh = 11.0 * 10.0 * under_s / 3600.0
    assert log.capacity.count.energy.value == pytest.approx(energy_Wh + led_Wh, rel=1e-4)


@pytest.mark.parametrize("turned", [False, True])
def test_cells_under_load_are_those_of_the_longest_discharge(turned: bool) -> None:
    parts = [(3600, 8.0, 12.8), (600, 0.0, 13.0), (900, 8.0, 12.6)]
    trace = piecewise((60, 0.0, 13.2), *(parts[::-1] if turned else parts), (60, 0.0, 13.0), interval_s=10.0)
    long = np.abs(trace.voltage_V - 12.8) < 1e-9
    cells = {f"cell_{n}_V": trace.voltage_V / 4.0 + np.where(long, 0.005, 0.040) * (n == 4) for n in range(1, 5)}
    found = analysed(replace(trace, beside=cells), rated=40.0).cells
    assert found is not None
    under = found.at("under load")
    assert under is not None and under.spread_V == pytest.approx(0.005) and under.highest == 4


def test_sums_over_a_block_of_readings_end_where_it_ends() -> None:
    # 3,600 A·s an hour of 1 A, whatever the length in blocks
    for size in (BLOCK, BLOCK + 1, BLOCK + 2):
        log = Trace(np.arange(size, dtype=float), np.full(size, 13.0), np.ones(size))
        whole = Integral(log).to(size - 1)
        assert whole == pytest.approx((size - 1.0, 13.0 * (size - 1), 13.0 * (size - 1)))


@pytest.mark.parametrize(("minutes", "told"), [(29, False), (31, True), (40, True)])
def test_a_float_of_half_an_hour_is_told(minutes: int, told: bool) -> None:
    log = piecewise((60, 0.0, 13.0), (3000, -8.0, 14.3), (60.0 * minutes, -0.2, 13.5), (60, 0.0, 13.4), interval_s=10.0)
    assert ("charger-setting" in {one.code for one in analysed(log).remarks}) is told


def test_all_that_went_in_until_the_discharge_is_what_both_charges_put_in() -> None:
    log = piecewise(
        (60, 0.0, 12.0), (3600, -10.0, 13.6), (600, 0.0, 13.4), (1800, -10.0, 13.7), (600, 0.0, 13.4), (7200, 5.0, 13.0), (60, 0.0, 0.1),
        interval_s=10.0,
    )  # fmt: skip
    found = analysed(log, rated=40.0).charge
    assert found is not None and found.all_in is not None
    assert found.all_in.charge.value == pytest.approx(15.0, rel=0.002)


@pytest.mark.parametrize(("dropout_V", "hours", "reached"), [(12.5, 1.0, True), (11.0, 2.0, False)])
def test_a_drop_out_says_whether_it_was_reached(dropout_V: float, hours: float, reached: bool) -> None:
    log = piecewise((60, 0.0, 13.2), (3600, 5.0, 12.9), (3600, 5.0, 12.1), (60, 0.0, 12.6), interval_s=1.0)
    (found,) = analysed(log, rated=20.0, dropouts_V=(dropout_V,)).usable
    assert found.reached is reached and found.duration_s == pytest.approx(3600.0 * hours, abs=2.0)


@pytest.mark.parametrize(("step_A", "seen"), [(0.32, False), (0.4, False), (0.44, True)])
def test_a_step_is_one_from_a_tenth_of_the_load_on(step_A: float, seen: bool) -> None:
    log = piecewise((60, 4.2, 13.0), (60, 4.2 - step_A, 13.05), (60, 4.2, 13.0), interval_s=1.0)
    assert bool(analysed(log, rated=40.0).resistance) is seen


@pytest.mark.parametrize("cells", [4, 8])
def test_a_heater_on_a_pack_of_any_size_stands_at_the_limit(cells: int) -> None:
    share = cells / 4.0
    rows = ((10, 0.0, 13.0 * share), (1200, -2.0, 14.4 * share))
    log = with_temperature(piecewise(*rows, interval_s=10.0), -10.0)
    family = FAMILIES["lfp"] if cells == 4 else of_cells(FAMILIES["lfp"], cells)
    found = analyse(log, Options(family=family, rated_Ah=100.0, instrument=METER)).charge
    assert found is not None and found.heating is not None and found.count.charge.value == 0.0
