"""Making a log fit to be counted: left out, joined, offered; never silently altered."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from tests.making import discharge, piecewise
from wintry_tally.core.errors import LogError
from wintry_tally.core.trace import REMARK_CODES, Remark, Trace, mend, resolution_of
from wintry_tally.core.trace.trace import noise_of, usual_interval


def codes(remarks: list[Remark]) -> list[str]:
    return [remark.code for remark in remarks]


def test_a_clean_log_is_left_alone() -> None:
    trace = discharge()
    mended, remarks = mend(trace)
    assert not remarks and len(mended) == len(trace)
    assert mended.voltage_V is trace.voltage_V


def test_blank_rows_are_skipped_and_rows_keep_their_numbers() -> None:
    trace = discharge()
    volts = trace.voltage_V.copy()
    volts[[5, 9]] = np.nan
    mended, remarks = mend(replace(trace, voltage_V=volts))
    assert codes(remarks) == ["blank-rows"] and remarks[0].rows == (6, 10)
    assert len(mended) == len(trace) - 2 and mended.row_at(5) == 7


def test_times_begin_at_the_first_used_row() -> None:
    trace = discharge()
    mended, _ = mend(replace(trace, time_s=trace.time_s + 1234.5))
    assert mended.time_s[0] == 0.0 and mended.time_s[-1] == pytest.approx(trace.time_s[-1])


def test_repeated_times_are_merged() -> None:
    trace = discharge()
    time_s = trace.time_s.copy()
    time_s[10] = time_s[9]
    mended, remarks = mend(replace(trace, time_s=time_s))
    assert codes(remarks) == ["duplicate-times"] and remarks[0].rows == (11, 11)
    assert len(mended) == len(trace) - 1


def test_a_restarted_clock_is_joined() -> None:
    trace = discharge()
    time_s = trace.time_s.copy()
    half = len(trace) // 2
    time_s[half:] -= time_s[half]
    mended, remarks = mend(replace(trace, time_s=time_s))
    assert codes(remarks) == ["clock-backwards"] and remarks[0].rows == (half, half + 1)
    assert np.all(np.diff(mended.time_s) > 0) and mended.time_s[-1] == pytest.approx(trace.time_s[-1])


def test_what_goes_back_in_every_few_rows_is_no_clock() -> None:
    trace = discharge()
    wavering = 25.0 + np.round(np.random.default_rng(5).standard_normal(len(trace)), 1)
    with pytest.raises(LogError, match="no clock") as told:
        mend(replace(trace, time_s=wavering))
    assert "--map time=" in str(told.value)
    # a clock that begins anew every six readings is one
    again = 10.0 * (np.arange(len(trace)) % 6)
    mended, _ = mend(replace(trace, time_s=again))
    assert len(mended) == len(trace)


@pytest.mark.parametrize("rows", [(900,), (900, 901), (900, 901, 902), (40, 900)])
@pytest.mark.parametrize("wrong", [0.0, 57.0, -4321.0, 1.8e9, 99_999.0, None])
def test_a_few_rows_whose_time_cannot_be_cost_no_more_than_themselves(
    rows: tuple[int, ...], wrong: float | None
) -> None:
    trace = discharge()
    time_s = trace.time_s.copy()
    time_s[list(rows)] = time_s[list(rows)] / 10.0 if wrong is None else wrong
    mended, remarks = mend(replace(trace, time_s=time_s))
    assert codes(remarks)[0] == "clock-backwards" and remarks[0].rows == (rows[0] + 1, rows[-1] + 1)
    assert np.array_equal(mended.time_s, np.delete(trace.time_s, rows)) and set(codes(remarks)) <= {"clock-backwards", "duplicate-times"}  # fmt: skip


def test_two_rows_in_each_other_s_place_cost_one_of_them() -> None:
    trace = discharge()
    order = np.arange(len(trace))
    order[[500, 501]] = order[[501, 500]]
    mended, remarks = mend(trace.taking(order))
    assert codes(remarks) == ["clock-backwards"] and len(mended) == len(trace) - 1
    assert mended.time_s[-1] == trace.time_s[-1]


@pytest.mark.parametrize("at", [1, 3, 900])
def test_a_clock_that_is_told_the_date_in_mid_log_is_joined(at: int) -> None:
    # many loggers begin in 1970; half a year on a shelf between two readings is a gap, and stays one
    trace = discharge()
    for leap_s, code in ((1.75e9, "clock-set"), (180 * 86400.0, "gap")):
        time_s = trace.time_s.copy()
        time_s[at:] += leap_s
        mended, remarks = mend(replace(trace, time_s=time_s))
        assert codes(remarks) == [code] and remarks[0].rows == (at, at + 1)
        assert mended.time_s[-1] == pytest.approx(trace.time_s[-1] + (leap_s if code == "gap" else 0.0), abs=15.0)
    plain, remarks = mend(
        replace(trace, time_s=np.where(np.arange(len(trace)) < at, 0.0, 1.75e9) + trace.time_s), "none"
    )
    assert codes(remarks) == ["gap"] and len(plain) == len(trace)


def test_an_hour_back_is_said_to_be_daylight_saving() -> None:
    trace = discharge()
    time_s = trace.time_s.copy()
    time_s[900:] -= 3600.0
    _, remarks = mend(replace(trace, time_s=time_s))
    assert "daylight saving" in remarks[0].message


def test_without_repair_a_clock_set_back_only_loses_rows() -> None:
    trace = discharge()
    time_s = trace.time_s.copy()
    time_s[900:] -= 600.0
    mended, remarks = mend(replace(trace, time_s=time_s), "none")
    assert codes(remarks) == ["clock-backwards"] and np.all(np.diff(mended.time_s) > 0)
    assert len(mended) < len(trace)


@pytest.mark.parametrize(
    ("column", "value"), [("voltage_V", 1.3), ("voltage_V", 99.9), ("current_A", 0.0), ("current_A", 80.0)]
)
def test_single_readings_that_cannot_be_are_left_out(column: str, value: float) -> None:
    trace = discharge()
    values = getattr(trace, column).copy()
    values[700] = value
    mended, remarks = mend(replace(trace, **{column: values}))
    assert codes(remarks) == ["outlier-reading"] and remarks[0].rows == (701, 701)
    assert len(mended) == len(trace) - 1
    untouched, none = mend(replace(trace, **{column: values}), "none")
    assert not none and len(untouched) == len(trace)


@pytest.mark.parametrize(("volts", "out"), [(123_000.0, True), (140.0, True), (-140.0, True), (30.0, False)])
def test_volts_that_no_supply_has_are_left_out_whatever_the_current_beside_them_did(volts: float, out: bool) -> None:
    # two rows run into one: "2990,12" and "3000,12.6,8.0" give 123000 V and 12.6 A; a charger at 30 V shows at an open pack
    trace = discharge()
    shown, amps = trace.voltage_V.copy(), trace.current.copy()
    shown[700], amps[700] = volts, 12.6
    mended, remarks = mend(replace(trace, voltage_V=shown, current_A=amps))
    assert (codes(remarks) == ["outlier-reading"]) is out and len(mended) == len(trace) - out


def test_a_real_pulse_is_no_outlier() -> None:
    trace = discharge()
    amps, volts = trace.current.copy(), trace.voltage_V.copy()
    amps[700], volts[700] = 24.0, volts[700] - 0.4
    _, remarks = mend(replace(trace, current_A=amps, voltage_V=volts))
    assert not remarks


def test_milliamperes_for_amperes_are_offered_not_changed() -> None:
    trace = discharge()
    amps = trace.current.copy()
    amps[600:700] *= 1000.0
    changed = replace(trace, current_A=amps)
    safe, remarks = mend(changed)
    assert codes(remarks) == ["unit-suspect"] and remarks[0].rows == (601, 700) and remarks[0].offer
    assert safe.current[650] == amps[650]
    offered, _ = mend(changed, "offered")
    assert np.allclose(offered.current, trace.current)
    assert amps[650] > 1000


def test_a_log_in_millivolts_and_milliamperes_throughout() -> None:
    trace = discharge()
    _, remarks = mend(replace(trace, voltage_V=trace.voltage_V * 1000, current_A=trace.current * 1000))
    assert codes(remarks) == ["unit-suspect", "unit-suspect"]


def test_gaps_are_remarked_and_counted() -> None:
    trace = discharge()
    keep = np.ones(len(trace), dtype=bool)
    keep[800:840] = False
    _, remarks = mend(trace.taking(keep))
    assert codes(remarks) == ["gap"] and "410 s" in remarks[0].message and remarks[0].rows == (800, 841)
    many = np.ones(len(trace), dtype=bool)
    for start in range(200, 1800, 100):
        many[start : start + 10] = False
    _, remarks = mend(trace.taking(many))
    assert len(remarks) == 11 and "6 more gaps" in remarks[-1].message


def test_current_from_power_and_from_a_counter() -> None:
    trace = piecewise((100, 0.0, 13.3), (7200, 8.0, 13.0), (100, 0.0, 13.2))
    power = trace.voltage_V * trace.current
    mended, remarks = mend(replace(trace, current_A=None, power_W=power))
    assert codes(remarks) == ["current-from-power"] and np.allclose(mended.current, trace.current)
    counter = np.round(np.cumsum(trace.current) / 3600.0, 2)
    for values in (counter, 50.0 - counter):
        mended, remarks = mend(replace(trace, current_A=None, counter_Ah=values))
        assert codes(remarks) == ["current-from-counter"]
        charge = np.trapezoid(mended.current, mended.time_s) / 3600.0
        assert charge == pytest.approx(16.0, abs=0.02)


def test_what_cannot_be_mended_is_refused() -> None:
    trace = discharge()
    with pytest.raises(LogError, match="at least two"):
        mend(replace(trace, voltage_V=np.full(len(trace), np.nan)))
    with pytest.raises(LogError, match="same time"):
        mend(replace(trace, time_s=np.zeros(len(trace))))
    with pytest.raises(LogError, match="no current"):
        mend(replace(trace, current_A=None))


def test_resolution_interval_and_noise() -> None:
    assert resolution_of(np.array([8.0, 8.01, 7.95])) == pytest.approx(0.01)
    assert resolution_of(np.array([8.0, 9.0])) == 1.0
    assert resolution_of(np.array([np.nan])) == 0.0
    assert np.isnan(usual_interval(np.array([1.0])))
    random = np.random.default_rng(3)
    slope = np.linspace(13, 10, 50_000) + 0.01 * random.standard_normal(50_000)
    assert noise_of(slope) == pytest.approx(0.01, rel=0.05)
    assert usual_interval(np.arange(0.0, 300_000.0)) == 1.0


def test_every_remark_code_is_in_the_table() -> None:
    with pytest.raises(AssertionError):
        Remark("no-such-code", "x")
    assert all(REMARK_CODES.values())
    assert Remark("gap", "x", (1, 2), "do it").as_dict() == {
        "code": "gap",
        "message": "x",
        "rows": [1, 2],
        "offer": "do it",
    }


def test_taking_keeps_every_column() -> None:
    trace = replace(discharge(), temperature_C=np.full(2041, 20.0)[: len(discharge())])
    part = trace.taking(np.arange(10, 20))
    assert isinstance(part, Trace) and len(part) == 10 and part.row_at(0) == 11
    assert part.temperature_C is not None and len(part.temperature_C) == 10


@pytest.mark.parametrize("row", [61, 700, 361, 1858])
@pytest.mark.parametrize("amps", [None, 0.0])
def test_a_row_of_no_volts_is_a_reading_lost_and_no_opening(row: int, amps: float | None) -> None:
    trace = discharge()
    volts, current = trace.voltage_V.copy(), trace.current.copy()
    volts[row] = 0.0
    current[row] = current[row] if amps is None else amps
    mended, remarks = mend(replace(trace, voltage_V=volts, current_A=current))
    assert codes(remarks) == ["outlier-reading"] and len(mended) == len(trace) - 1


def test_amperes_noted_now_and_then_stand_until_they_are_noted_again_where_that_is_wanted() -> None:
    nan = np.nan
    volts = np.array([13.5, 13.3, 13.2, 13.1, nan, 12.8, 10.0, 0.0, 12.0])
    amps = np.array([nan, 20.0, nan, 19.0, nan, nan, nan, 0.0, nan])
    log = Trace(60.0 * np.arange(9), volts, amps, resolution={"voltage_V": 0.1, "current_A": 1.0})
    left, told = mend(log, "safe")
    assert left.current.tolist() == [20.0, 19.0, 0.0] and [one.code for one in told[:2]] == [
        "amps-not-noted",
        "blank-rows",
    ]
    assert told[0].rows == (3, 9) and told[0].offer
    taken, _ = mend(log, "offered")
    assert taken.current.tolist() == [20.0, 20.0, 19.0, 19.0, 19.0, 0.0, 0.0], (
        "nothing before the first, nothing without volts"
    )
    assert taken.voltage_V.tolist() == [13.3, 13.2, 13.1, 12.8, 10.0, 0.0, 12.0]


@pytest.mark.parametrize(("blank", "offered"), [(19, False), (20, True)])
def test_a_blank_here_and_there_is_a_reading_lost(blank: int, offered: bool) -> None:
    amps = np.full(100, 5.0)
    amps[5 : 5 + 4 * blank : 4] = np.nan
    log = Trace(np.arange(100.0), np.full(100, 13.0), amps, resolution={"voltage_V": 0.1, "current_A": 1.0})
    trace, told = mend(log, "offered")
    assert ("amps-not-noted" in {one.code for one in told}) is offered
    assert len(trace) == (100 if offered else 100 - blank)


@pytest.mark.parametrize(
    ("usual_s", "hours", "told"), [(60.0, 1, True), (300.0, 1, True), (360.0, 1, False), (60.0, 2, False)]
)
def test_an_interval_of_an_hour_tells_of_a_clock_set_forward_only_in_a_log_that_is_read_often(
    usual_s: float, hours: int, told: bool
) -> None:
    steps = np.full(40, usual_s)
    steps[10 : 10 + 10 * hours : 10] += 3600.0
    times = np.concatenate([[0.0], np.cumsum(steps)])
    log = Trace(times, np.full(41, 13.0), np.full(41, 5.0), resolution={"voltage_V": 0.1, "current_A": 1.0})
    said = [f"{one.message}" for one in mend(log)[1] if one.code == "gap"]
    assert len(said) == hours and any("daylight saving" in one for one in said) is told
