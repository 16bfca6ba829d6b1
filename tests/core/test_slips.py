"""Every slip has its remark, and a clean log has none: each code of the contract made on purpose, then left out."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.amount import some
from tests.making import discharge, piecewise
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.trace.remarks import REMARK_CODES

LFP, AGM = FAMILIES["lfp"], FAMILIES["agm"]
OPTIONS = Options(LFP, 40.0, Instrument(parse_accuracy("0.5%+2d"), parse_accuracy("1%+0.01"), "meter"))
BASE = discharge(8.0, 5.0, interval_s=10.0)


def codes(analysis: Analysis) -> list[str]:
    return [remark.code for remark in analysis.remarks]


def found(trace: Trace, options: Options = OPTIONS) -> list[str]:
    return codes(analyse(trace, options))


def with_values(**changes: np.ndarray) -> Trace:
    return replace(BASE, **changes)


def counter(scale: float = 1.0, begin: float = 0.0) -> np.ndarray:
    return begin + scale * np.concatenate([[0.0], np.cumsum(BASE.current[:-1] * np.diff(BASE.time_s)) / 3600.0])


def gap() -> Trace:
    keep = np.ones(len(BASE), dtype=bool)
    keep[600:640] = False
    return BASE.taking(keep)


def set_back() -> Trace:
    time_s = BASE.time_s.copy()
    time_s[900:] -= 3000.0
    return with_values(time_s=time_s)


def twice() -> Trace:
    return BASE.taking(np.sort(np.concatenate([np.arange(len(BASE)), [500, 501, 502]])))


def blank() -> Trace:
    volts = BASE.voltage_V.copy()
    volts[[300, 700, 701]] = np.nan
    return with_values(voltage_V=volts)


def outlier() -> Trace:
    volts = BASE.voltage_V.copy()
    volts[800] = 1.31
    return with_values(voltage_V=volts)


def milli() -> Trace:
    amps = BASE.current.copy()
    amps[500:540] *= 1000.0
    return with_values(current_A=amps)


def flipped() -> Trace:
    amps = BASE.current.copy()
    amps[700:900] *= -1.0
    return with_values(current_A=amps)


def coarse() -> Trace:
    return BASE.taking(np.arange(0, len(BASE), 60))


def short_rest() -> Trace:
    return piecewise((3600.0, -8.0, 13.9), (300.0, 0.0, 13.4), (7200.0, 8.0, 12.9), (300.0, 0.0, 0.4), interval_s=10.0)


def reset() -> Trace:
    counted = counter()
    counted[1000:] -= counted[1000]
    return with_values(counter_Ah=counted)


def high_meter() -> Trace:
    return with_values(voltage_V=np.where(BASE.voltage_V > 5.0, BASE.voltage_V * 1.08, BASE.voltage_V))


SLIPS = {
    "gap": gap,
    "clock-backwards": set_back,
    "duplicate-times": twice,
    "blank-rows": blank,
    "outlier-reading": outlier,
    "unit-suspect": milli,
    "sign-flipped": flipped,
    "coarse-sampling": coarse,
    "rest-too-short": short_rest,
    "counter-not-zero": lambda: with_values(counter_Ah=counter(begin=7.5)),
    "counter-reset": reset,
    "counter-disagrees": lambda: with_values(counter_Ah=counter(scale=1.12)),
    "current-from-counter": lambda: with_values(current_A=None, counter_Ah=counter()),
    "current-from-power": lambda: with_values(current_A=None, power_W=BASE.voltage_V * BASE.current),
    "mean-voltage-implausible": high_meter,
    "not-to-protection": lambda: discharge(8.0, 2.0, interval_s=10.0, end_V=12.9, opened=False),
    "voltage-outside-family": lambda: with_values(voltage_V=BASE.voltage_V * 1.4),
}


@pytest.mark.parametrize("code", sorted(SLIPS))
def test_every_slip_has_its_remark_with_its_rows(code: str) -> None:
    # handbook tables of common practice, no published source: the slips of the bench
    analysis = analyse(SLIPS[code](), OPTIONS)
    remark = next((item for item in analysis.remarks if item.code == code), None)
    assert remark is not None, codes(analysis)
    assert remark.message[:1].isupper() or remark.message[:1].isdigit()
    assert remark.message.endswith(".")
    if remark.rows is not None:
        assert 1 <= remark.rows[0] <= remark.rows[1] <= len(BASE) + 10
    assert set(codes(analysis)) <= set(REMARK_CODES)


def test_rows_are_those_of_the_slip() -> None:
    places = {item.code: item.rows for item in analyse(milli(), OPTIONS).remarks}
    assert places["unit-suspect"] == (501, 540)
    places = {item.code: item.rows for item in analyse(outlier(), OPTIONS).remarks}
    assert places["outlier-reading"] == (801, 801)
    first, last = next(item.rows for item in analyse(flipped(), OPTIONS).remarks if item.code == "sign-flipped")
    assert abs(first - 701) <= 2 and abs(last - 900) <= 2
    first, last = next(item.rows for item in analyse(gap(), OPTIONS).remarks if item.code == "gap")
    assert last == first + 1 or last - first == 41


@pytest.mark.parametrize("code", ["unit-suspect", "sign-flipped"])
def test_what_would_change_values_is_offered_and_only_then_done(code: str) -> None:
    true = analyse(BASE, OPTIONS).capacity.count.charge.value
    slip = SLIPS[code]()
    safe, offered = (analyse(slip, replace(OPTIONS, repair=way)) for way in ("safe", "offered"))
    assert next(item.offer for item in safe.remarks if item.code == code)
    assert safe.capacity.count.charge.value != pytest.approx(true, rel=0.01)
    assert offered.capacity.count.charge.value == pytest.approx(true, rel=1e-3)
    assert np.array_equal(slip.current, SLIPS[code]().current), "the readings handed in stay as they are"


@pytest.mark.parametrize(
    "code", ["clock-backwards", "duplicate-times", "blank-rows", "outlier-reading", "counter-reset"]
)
def test_safe_repairs_restore_the_count_without_changing_a_reading(code: str) -> None:
    true = analyse(BASE, OPTIONS).capacity.count.charge.value
    mended = analyse(SLIPS[code](), OPTIONS)
    assert mended.capacity.count.charge.value == pytest.approx(true, rel=2e-3)
    kept = set(np.round(BASE.voltage_V, 6))
    assert set(np.round(mended.trace.voltage_V, 6)) <= kept, "left out or joined, never altered"


def test_a_gap_widens_the_doubt() -> None:
    whole, holed = analyse(BASE, OPTIONS).capacity, analyse(gap(), OPTIONS).capacity
    assert holed.count.charge.value == pytest.approx(whole.count.charge.value, rel=2e-3)
    rising = BASE.current.copy()
    rising[600:] *= 1.2
    moved = replace(with_values(current_A=rising))
    keep = np.ones(len(BASE), dtype=bool)
    keep[580:640] = False
    stepped, full = analyse(moved.taking(keep), OPTIONS).capacity, analyse(moved, OPTIONS).capacity
    assert stepped.count.charge.standard > full.count.charge.standard
    # bridged whole, also where the load changed in it: half the change over the gap is all that can be missing
    assert abs(stepped.count.charge.value - full.count.charge.value) < 0.5 * 1.6 * 600 / 3600


def test_a_clean_log_has_no_remark() -> None:
    assert found(BASE) == []
    assert found(with_values(counter_Ah=counter())) == []
    agm = discharge(2.0, 8.0, interval_s=10.0, top_V=12.75, end_V=10.5, opened=False)
    assert found(agm, replace(OPTIONS, family=AGM, rated_Ah=16.0, cutoff_V=10.5)) == []


@settings(max_examples=some(13, 40))
@given(
    st.floats(1.0, 20.0), st.floats(1.5, 12.0), st.sampled_from([1.0, 5.0, 10.0, 30.0]), st.floats(0.0, 0.004),
    st.floats(0.0, 0.01), st.integers(0, 10**6), st.floats(13.0, 13.5),
)  # fmt: skip
def test_clean_logs_raise_no_alarm(
    amps: float, hours: float, interval: float, noise_V: float, noise_A: float, seed: int, top: float
) -> None:
    if 3600.0 * hours / interval < 400:
        interval = 1.0
    trace = discharge(amps, hours, interval_s=interval, noise_V=noise_V, noise_A=noise_A, seed=seed, top_V=top)
    analysis = analyse(trace, replace(OPTIONS, rated_Ah=amps * hours))
    assert codes(analysis) == [], analysis.remarks
    assert analysis.capacity.ended_by == "battery-protection"


@settings(max_examples=some(10, 30))
@given(
    st.lists(st.sampled_from(sorted(SLIPS)), min_size=1, max_size=3, unique=True),
    st.sampled_from(["none", "safe", "offered"]),
)
def test_slips_together_never_break_the_analysis(names: list[str], repair: str) -> None:
    trace = SLIPS[names[0]]()
    for name in names[1:]:
        other = SLIPS[name]()
        if len(other) == len(trace) and other.current_A is not None and trace.current_A is not None:
            mixed = np.where(np.arange(len(trace)) % 2 == 0, trace.voltage_V, other.voltage_V)
            trace = replace(trace, voltage_V=mixed, time_s=np.minimum(trace.time_s, other.time_s))
    analysis = analyse(trace, replace(OPTIONS, repair=repair))
    if analysis.capacity is not None:
        assert np.isfinite(analysis.capacity.count.charge.value)
    ends = [result.stage.last for result in analysis.stages]
    assert ends == sorted(ends)


# --- slips of the bench itself ---


def test_a_charger_on_another_family_s_setting() -> None:
    lead = piecewise((1800.0, -5.0, 13.4), (3600.0, -4.0, 15.2), (600.0, 0.0, 13.5), interval_s=10.0)
    assert "charger-setting" in found(lead)


def test_a_floor_gone_below() -> None:
    deep = discharge(2.0, 8.0, interval_s=10.0, top_V=12.75, end_V=8.9, opened=False)
    assert "below-floor" in found(deep, replace(OPTIONS, family=AGM, rated_Ah=16.0))


def test_a_lead_acid_test_broken_off() -> None:
    early = discharge(2.0, 3.0, interval_s=10.0, top_V=12.75, end_V=12.2, opened=False)
    assert {"ended-early", "end-unclear"} & set(found(early, replace(OPTIONS, family=AGM, rated_Ah=16.0)))


def test_a_load_changed_in_mid_run_is_no_rated_capacity() -> None:
    slow = discharge(2.0, 6.0, interval_s=10.0, top_V=12.75, end_V=10.5, opened=False)
    amps = slow.current.copy()
    amps[800:] *= 2.5
    stepped = replace(slow, current_A=np.where(slow.current > 0.1, amps, 0.0))
    remark = next(
        item
        for item in analyse(stepped, replace(OPTIONS, family=AGM, rated_Ah=16.0)).remarks
        if item.code == "rate-changed"
    )
    assert "not a capacity at the rated rate" in remark.message and remark.rows is not None


def test_a_family_that_does_not_look_like_one() -> None:
    lead = discharge(2.0, 8.0, interval_s=10.0, top_V=12.6, end_V=10.5, opened=False)
    said = found(lead, replace(OPTIONS, rated_Ah=16.0))
    assert "family-doubt" in said
    assert "family-doubt" in found(BASE, replace(OPTIONS, family=AGM))
    assert "family-doubt" not in found(BASE)


def test_a_counter_that_stands_still() -> None:
    stuck = with_values(counter_Ah=np.zeros(len(BASE)))
    assert any(code.startswith("counter-") for code in found(stuck))


def test_two_slips_are_two_remarks() -> None:
    volts = BASE.voltage_V.copy()
    volts[[800, 1200]] = 1.31, 130.9
    said = analyse(with_values(voltage_V=volts), OPTIONS).remarks
    assert {row for item in said if item.code == "outlier-reading" for row in item.rows} == {801, 1201}


@pytest.mark.parametrize(("ends_V", "turned"), [(13.6, True), (13.3, True), (13.25, False)])
def test_a_charge_whose_sign_turns_on_the_way_goes_on_rising(ends_V: float, turned: bool) -> None:
    # no charger is a load a moment later with the voltage where it was; a battery that is drawn from falls
    volts = np.concatenate([np.full(30, 13.1), np.linspace(13.2, 13.3, 120), np.linspace(13.3, ends_V, 120)]).round(3)
    current = np.concatenate([np.zeros(30), np.full(120, -6.0), np.full(120, 6.0)])
    trace = Trace(np.arange(270) * 10.0, volts, current, resolution={"voltage_V": 0.001, "current_A": 0.001})
    found = [remark for remark in analyse(trace, OPTIONS).remarks if remark.code == "sign-flipped"]
    assert bool(found) == turned
    if turned:
        assert found[0].rows == (151, 270) and "goes on rising" in found[0].message
