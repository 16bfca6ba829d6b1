"""Readings just beyond what an orderly log has: what they may be taken for, and what not.

Common practice, no published source.
"""

from __future__ import annotations

import numpy as np
import pytest

from tests.making import piecewise
from wintry_tally.core.analysis import Analysis, Instrument, Options, StageKind, analyse
from wintry_tally.core.analysis.counting import Integral, Span, count
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.exchange.cells import last_digit

LFP, NMC, GEL = FAMILIES["lfp"], FAMILIES["nmc"], FAMILIES["gel"]


def _codes(found: Analysis) -> set[str]:
    return {remark.code for remark in found.remarks}


@pytest.mark.parametrize(
    ("readings", "digit"),
    [
        (np.tile([0.0, -0.01, -0.02, 9.97], 12), 0.01),  # a few, but they change again and again
        (np.tile([0.0, 0.01], 40), 0.0001),  # two alone may be settings
        (np.repeat([0.0, 5.0, 10.0, 20.0], 30), 0.0001),  # and so may what hardly changes
        (np.tile([0.0, -0.01, -0.0201, 9.97], 12), 0.0001),
        (np.arange(12) / 100.0, 0.01),
        (np.arange(11) / 100.0, 0.0001),
    ],
)
def test_the_last_digit_is_the_one_that_moves(readings: np.ndarray, digit: float) -> None:
    assert last_digit(readings, 4) == pytest.approx(digit)


def test_a_log_of_a_meter_s_zero_is_a_rest_and_one_of_a_small_device_a_discharge() -> None:
    dice = np.random.default_rng(5)

    def log(amps: np.ndarray) -> Analysis:
        time = 60.0 * np.arange(len(amps))
        return analyse(Trace(time, np.full(len(amps), 13.3), amps, resolution={"voltage_V": 0.001, "current_A": 0.001}), Options(family=LFP))  # fmt: skip

    flicker = log(dice.choice([-0.001, 0.0, 0.001, 0.002, 0.003], 400))
    assert [stage.stage.kind for stage in flicker.stages] == [StageKind.REST]
    device = log(0.021 + dice.choice([-0.001, 0.0, 0.001], 400))
    assert {stage.stage.kind for stage in device.stages} == {StageKind.DISCHARGE}
    small = log(0.003 + dice.choice([-0.001, 0.0, 0.001], 400))
    assert {stage.stage.kind for stage in small.stages} == {StageKind.DISCHARGE}
    # as small as the flicker, but steady: something flows
    steady = log(np.where(np.arange(400) % 9 == 4, 0.004, 0.003))
    assert {stage.stage.kind for stage in steady.stages} == {StageKind.DISCHARGE}


def _opened(amps_dead: float, after: tuple[float, float]) -> Analysis:
    """Six amperes drawn, one reading of no volts with a current, and what comes after."""
    trace = piecewise((5, 0.0, 13.2), (300, 6.0, 12.9), (1, amps_dead, 0.001), (300, *after), (5, 0.0, 13.2))
    return analyse(trace, Options(family=LFP, rated_Ah=100.0))


def test_no_volts_for_one_reading_are_lost_where_the_current_was_not() -> None:
    assert "outlier-reading" in _codes(_opened(6.0, (6.0, 12.9)))
    assert "outlier-reading" in _codes(_opened(0.0, (6.0, 12.9)))  # a row lost: it went on as it was
    # the protection opened, and the charger woke it
    for dead in (0.0, 0.2, 1.7):
        assert "outlier-reading" not in _codes(_opened(dead, (-6.0, 13.4))), dead
    assert "outlier-reading" in _codes(_opened(5.8, (-6.0, 13.4)))


def test_terminals_that_come_alive_for_one_reading_are_no_slip() -> None:
    def log(volts: float) -> Analysis:
        alive = (1, 0.0, volts)
        return analyse(piecewise((300, 6.0, 12.9), (20, 0.0, 0.001), alive, (20, 0.0, 0.001)), Options(family=LFP))

    assert "outlier-reading" not in _codes(log(12.4))
    assert "outlier-reading" in _codes(log(30.0)) and "outlier-reading" in _codes(log(5.0))


def test_a_pack_drawn_on_below_its_cut_off_is_none_of_fewer_cells() -> None:
    fallen = piecewise((600, 0.0, 15.8), (3000, 5.0, 14.4), (60, 5.0, 9.3), (600, 0.0, 12.4))
    found = analyse(fallen, Options(family=NMC, rated_Ah=10.0))
    assert found.options.family is not None and found.options.family.cells == 4
    assert {"pack-voltage", "below-floor"} <= _codes(found)
    # three cells at a charger that is set too high are three cells in danger
    driven = piecewise((60, 0.0, 11.5), (3000, -4.0, 14.2), (60, 0.0, 12.5))
    found = analyse(driven, Options(family=NMC, rated_Ah=10.0))
    assert found.options.family is not None and found.options.family.cells == 3 and "charger-setting" in _codes(found)


def test_the_mean_voltage_of_a_part_says_little_of_digits() -> None:
    def codes(*parts: tuple[float, float, float], family: object = LFP, rated: float = 20.0) -> set[str]:
        return _codes(
            analyse(
                piecewise(*parts, interval_s=5.0),
                Options(family=family, rated_Ah=rated, cells_known=True, cutoff_V=10.5 if family is GEL else None),
            )
        )

    code = "mean-voltage-implausible"
    half = (1800, 0.0, 13.3), (1800, 10.0, 13.2), (60, 0.0, 13.3)
    assert code not in codes(*half, (1800, 0.0, 13.2), (1500, 10.0, 11.4), (600, 10.0, 10.0), (60, 0.0, 0.1))
    # a whole one at volts that are no pack's of its kind: 11.66 V is told
    assert code in codes((1800, 0.0, 13.3), (60, 10.0, 12.9), (6600, 10.0, 11.66), (300, 10.0, 10.2), (60, 0.0, 0.1))
    # from full for a fifth of it: high, and no higher than where it began
    assert code not in codes((1800, 0.0, 13.9), (1200, 10.0, 13.6), (60, 0.0, 13.6))
    # lead-acid at half its capacity an hour lies low of itself; at a tenth it does not
    fast = (1800, 0.0, 12.8), (60, 10.0, 12.3), (4200, 10.0, 11.4), (600, 10.0, 10.5), (60, 0.0, 11.8)
    slow = (1800, 0.0, 12.8), (60, 2.0, 12.3), (21000, 2.0, 11.2), (3000, 2.0, 10.5), (60, 0.0, 11.8)
    assert code not in codes(*fast, family=GEL) and code in codes(*slow, family=GEL)


@pytest.mark.parametrize(
    ("begins_s", "factor", "apart"),
    [(601.0, 1.0, False), (1199.0, 1.0, False), (900.0, 1.25, True), (900.0, 0.75, True)],
)
def test_a_counter_counts_between_readings_too(begins_s: float, factor: float, apart: bool) -> None:
    """Ten minutes between readings and nothing known of the meter: the load came on somewhere between two of them."""
    time = 600.0 * np.arange(10)
    amps = np.array([0.0, 0, 8, 8, 8, 8, 8, 8, 0, 0])
    truly = factor * np.clip(time - begins_s, 0.0, 4200.0 - begins_s) * 8.0 / 3600.0
    volts = np.where(amps > 0, 12.9, 13.2)
    found = analyse(Trace(time, volts, amps, counter_Ah=truly, resolution={"current_A": 0.01, "counter_Ah": 0.001}), Options(family=LFP))  # fmt: skip
    assert ("counter-disagrees" in _codes(found)) is apart


@pytest.mark.parametrize(
    ("amps", "leaps"),
    [([20.0, 40, 60, 60], [20, 20]), ([20.0, 60], [40]), ([20.0, 23, 26, 29], []), ([60.0, 30, 60], [30, 30])],
)
def test_a_current_that_was_switched_somewhere_between_two_readings(amps: list[float], leaps: list[float]) -> None:
    """JCGM 100:2008, 4.3.7: anywhere in an interval of w is known to w/√12."""
    trace = Trace(300.0 * np.arange(len(amps)), np.full(len(amps), 12.0), np.array(amps))
    known = Instrument(None, parse_accuracy("0.0001%"), "m")
    found = count(trace, Integral(trace), [Span(0, len(amps) - 1)], known).charge
    assert found.value == pytest.approx(np.trapezoid(amps, dx=300.0) / 3600.0)
    parts = {term.name: term.standard for term in found.terms}
    assert parts.get("instants of switching", 0.0) == pytest.approx(
        np.hypot.reduce([0.0, *leaps]) * 300.0 / 3600.0 / np.sqrt(12.0)
    )
