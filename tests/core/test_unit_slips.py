"""Which currents are another unit's, and which are only large. Common practice, no published source; invented data."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.trace import Trace
from wintry_tally.core.trace.repair import mend
from wintry_tally.core.trace.unit_slips import unit_slips

OHM = 0.004


def pack(levels: list[float], zero: float = 0.0, noise: float = 0.0, ohm: float = OHM, each: int = 30) -> Trace:
    """So many readings at each current, drawn from a pack of 13.2 V; the meter is off by `zero`."""
    amps = np.repeat(np.array(levels, dtype=float), each)
    random = np.random.default_rng(5)
    volts = np.round(13.2 - amps * ohm + 0.001 * random.standard_normal(len(amps)), 3)
    shown = amps + zero + noise * random.standard_normal(len(amps))
    return Trace(np.arange(len(amps)) * 1.0, volts, shown, resolution={"voltage_V": 0.001, "current_A": 0.01})


@pytest.mark.parametrize("levels", [[0, 20, 200, 0], [0, 80, 160, 320, 0], [0, 100, 250, 0], [0, 0.3, 300, 0], [2, 200], [0, 400, 0]])  # fmt: skip
@pytest.mark.parametrize("noise", [0.0, 0.15])
def test_honest_steps_are_no_slips_whatever_the_clamps_zero(levels: list[float], noise: float) -> None:
    for zero in (-0.2, 0.0, 0.2):
        assert not unit_slips(pack(levels, zero, noise))
        assert not unit_slips(pack(levels, zero, noise), 0.5)


@given(st.floats(0.5, 60.0), st.sampled_from([1000.0, 100.0]), st.floats(0.0005, 0.05), st.integers(0, 2))
def test_a_stretch_in_another_unit_is_found_wherever_it_lies(
    amps: float, factor: float, ohm: float, where: int
) -> None:
    trace = pack([0, amps, amps, amps, 0], ohm=ohm)
    first = 30 + 30 * where
    shown = trace.current.copy()
    shown[first : first + 30] *= factor
    found = unit_slips(replace(trace, current_A=shown))
    if amps * factor < 20.0:
        return
    assert [(slip.first, slip.last, slip.factor) for slip in found] == [(first, first + 29, factor)]


def test_a_whole_discharge_between_rests_is_held_against_the_others() -> None:
    trace = pack([0, 8, 0, 8, 0])
    shown = trace.current.copy()
    shown[90:120] *= 1000.0
    assert [(slip.first, slip.last, slip.factor) for slip in unit_slips(replace(trace, current_A=shown))] == [(90, 119, 1000.0)]  # fmt: skip
    alone = pack([0, 0.5, 0])
    assert [slip.factor for slip in unit_slips(replace(alone, current_A=alone.current * 1000.0))] == [1000.0]
    assert not unit_slips(pack([0, 500.0, 0], ohm=0.001)), "half a thousand amperes, and the voltage says so"


def test_the_factor_must_be_near_one_of_a_unit() -> None:
    trace = pack([0, 8, 8, 0])
    for times, slips in ((30.0, 0), (55.0, 0), (70.0, 1), (150.0, 1), (190.0, 0), (550.0, 0), (700.0, 1), (1500.0, 1)):
        shown = trace.current.copy()
        shown[60:90] *= times
        assert len(unit_slips(replace(trace, current_A=shown))) == slips, times


def test_offered_and_applied_by_its_own_factor() -> None:
    trace = pack([0, 8, 8, 0])
    shown = trace.current.copy()
    shown[60:90] *= 100.0
    safe, remarks = mend(replace(trace, current_A=shown))
    assert "look like cA" in remarks[0].message and remarks[0].offer == "divide rows 61 to 90 of the current by 100"
    assert safe.current[70] == shown[70]
    assert np.allclose(mend(replace(trace, current_A=shown), "offered")[0].current, trace.current)


def test_a_whole_log_in_milliamperes_is_found_though_the_meters_zero_stands_in_it() -> None:
    shown = replace(pack([0, 1.5, 0], zero=-0.003, noise=0.0005), resolution={"voltage_V": 0.001, "current_A": 1.0})
    whole = replace(shown, current_A=np.round(1000.0 * shown.current))
    slips = unit_slips(whole)
    assert [(slip.first, slip.last, slip.factor) for slip in slips] == [(0, len(whole) - 1, 1000.0)]
    assert np.allclose(mend(whole, "offered")[0].current, np.round(1000.0 * shown.current) / 1000.0)


def test_what_a_pack_holds_contradicts_a_stretch_though_its_voltage_does_not() -> None:
    trace = pack([0.01, 240, 0.01], ohm=0.001, each=3600)
    assert not unit_slips(trace) and not unit_slips(trace, 0.0, 100.0), "240 Ah of 100 rated: no more than odd"
    assert [slip.factor for slip in unit_slips(trace, 0.0, 79.0)] == [1000.0], "three times the rating"
    brief = pack([0.01, 1010, 0.01], ohm=0.0005)
    assert not unit_slips(brief, 0.0, 20.5) and unit_slips(brief, 0.0, 20.1), "fifty times the rating"


@pytest.mark.parametrize(
    ("from_row", "digit", "times", "slip"),
    [(100, 0.001, 1000.0, True), (100, 0.001, 1.0, False), (10, 0.001, 1000.0, False), (100, 0.01, 100.0, False),
     (290, 0.001, 1000.0, False), (100, 0.001, 10.0, False)],
)  # fmt: skip
def test_a_zero_that_flickers_over_whole_amperes_after_thousandths_is_in_another_unit(
    from_row: int, digit: float, times: float, slip: bool
) -> None:
    # a blocked charge: nothing ever flows, and the meter's last digit is all there is (invented data)
    zero = np.random.default_rng(3).integers(0, 4, 300) * digit
    shown = np.where(np.arange(300) >= from_row, zero * times, zero)
    trace = Trace(np.arange(300.0), np.full(300, 14.395), shown, resolution={"voltage_V": 0.001, "current_A": digit})
    assert [(one.first, one.factor) for one in unit_slips(trace)] == ([(from_row, 1000.0)] if slip else [])


def test_a_supply_that_holds_whole_amperes_is_no_slip() -> None:
    for amps in (np.full(200, 5.0), np.repeat([5.0, 6.0, 7.0, 8.0], 50)):
        current = np.concatenate([np.random.default_rng(1).integers(0, 4, 100) * 0.001, amps])
        trace = Trace(
            np.arange(300.0), np.full(300, 13.0), current, resolution={"voltage_V": 0.001, "current_A": 0.001}
        )
        assert not unit_slips(trace)
