"""Charges that go on after full: absorption and float, a deeper taper, a meter's zero, and what comes back of it.

Invented data; the criteria are those of the command-line contract (common practice, no published source).
"""

from __future__ import annotations

from random import Random

import numpy as np
import pytest

from tests.amount import some
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace

EVERY = 10.0


def curve(*parts: tuple[float, object, object], gain: float = 1.0, zero: float = 0.0) -> Trace:
    """(hours, volts, amperes drawn), each a number or (from, to), read by a meter that is off."""
    volts, amps = [], []
    for hours, v, i in parts:
        n = int(3600 * hours / EVERY)
        volts.append(np.linspace(*v, n) if isinstance(v, tuple) else np.full(n, float(v)))
        amps.append(np.geomspace(*i, n) if isinstance(i, tuple) else np.full(n, float(i)))
    current = np.concatenate(amps) * gain + zero
    return Trace(
        np.arange(len(current)) * EVERY, np.concatenate(volts).round(3), current.round(3),
        resolution={"voltage_V": 0.001, "current_A": 0.001},
    )  # fmt: skip


def analysed(trace: Trace, family: str, rated: float, current: str = "0.5%+0.02") -> Analysis:
    return analyse(trace, Options(FAMILIES[family], rated, Instrument(parse_accuracy("0.1%+2d"), parse_accuracy(current))))  # fmt: skip


ABSORPTION = ((0.5, 12.4, 0.0), (4.0, (12.8, 14.4), -20.0), (3.0, 14.4, (-20.0, -1.0)), (0.2, (14.4, 13.6), -0.02), (10.0, 13.6, -0.45), (1.0, 13.1, 0.0))  # fmt: skip


def test_absorption_and_float_are_told_apart() -> None:
    charge = analysed(curve(*ABSORPTION), "agm", 100.0).charge
    assert charge is not None and charge.time_to_full_s is not None
    # 20 A e^(-t ln 20 / 3 h) falls to 2 % of C20, 2 A, at 3 h × ln 10 / ln 20
    hours = 4.0 + 3.0 * np.log(10.0) / np.log(20.0)
    assert charge.time_to_full_s == pytest.approx(3600 * hours, rel=0.005)
    tail = 3.0 / np.log(20.0)
    assert charge.count.charge.value == pytest.approx(80.0 + (20.0 - 2.0) * tail, rel=0.005)
    assert charge.after_full is not None
    assert charge.after_full.charge.value == pytest.approx((2.0 - 1.0) * tail + 4.5, rel=0.02)
    assert charge.all_in is not None and charge.all_in.charge.value == pytest.approx(80.0 + 19.0 * tail, rel=0.005)


def test_a_charger_that_stays_at_its_limit_has_no_float() -> None:
    charge = analysed(curve(*ABSORPTION[:3], (1.0, 13.1, 0.0)), "agm", 100.0).charge
    assert charge is not None and charge.time_to_full_s is not None
    slow = analysed(curve((0.5, 12.4, 0.0), (4.0, (12.8, 14.4), -20.0), (3.0, 14.4, (-20.0, -3.0))), "agm", 100.0).charge  # fmt: skip
    assert slow is not None and slow.time_to_full_s is None, "3 A is not full yet"


def test_a_mark_below_the_meters_zero_leaves_full_undecided() -> None:
    fine, coarse = (analysed(curve(*ABSORPTION), "agm", 100.0, text) for text in ("1%+1.9", "1%+2.1"))
    assert fine.charge is not None and fine.charge.time_to_full_s is not None
    assert coarse.charge is not None and coarse.charge.time_to_full_s is None
    assert "full-undecided" in {remark.code for remark in coarse.remarks}
    assert fine.charge.full_doubt_s > 600.0, "so near the mark its zero is an hour's doubt"


def test_efficiency_counts_all_that_went_in_and_covers_the_truth() -> None:
    """A charge to 0.02 C, a discharge of 99.5 % of it; gain and zero drawn from the specification many times."""
    taper = 2.0 * 49.0 / np.log(50.0)
    put_in = 2.0 * 50.0 + taper
    random = Random(3)
    covered, shown = 0, []
    for _ in range(some(70, 200)):
        gain, zero = 1 + random.uniform(-0.005, 0.005), random.uniform(-0.02, 0.02)
        out = 0.995 * put_in / 20.0
        trace = curve((0.2, 11.0, 0.0), (2.0, (11.2, 12.6), -50.0), (2.0, 12.6, (-50.0, -1.0)), (0.5, 12.5, 0.0), (out, (12.4, 9.1), 20.0), (0.2, 0.1, 0.0), gain=gain, zero=zero)  # fmt: skip
        found = analysed(trace, "nmc", 100.0)
        assert found.efficiency is not None and found.efficiency.coulombic.expanded is not None
        quantity = found.efficiency.coulombic
        covered += abs(quantity.value - 99.5) <= quantity.expanded
        shown.append(quantity.value - 99.5)
        assert "efficiency-above" not in {remark.code for remark in found.remarks}
    assert 0.9 <= covered / len(shown) <= 1.0 and np.std(shown) > 0.02


def test_more_out_than_in_is_remarked() -> None:
    parts = ((0.2, 11.0, 0.0), (2.0, (11.2, 12.6), -25.0), (2.0, 12.6, (-25.0, -1.0)), (0.5, 12.5, 0.0))
    more = analysed(curve(*parts, (3.45, (12.4, 9.1), 20.0), (0.2, 0.1, 0.0)), "nmc", 100.0)
    assert more.efficiency is not None and more.efficiency.coulombic.value > 102.0
    assert "efficiency-above" in {remark.code for remark in more.remarks}


@pytest.mark.parametrize(
    ("first_h", "last_h", "early", "late"),
    [
        (1.0, 1.5, 0.0, 0.0),  # in the middle of the steady current: nothing of the end is hidden
        (6.0, 6.6, 0.6, 0.0),  # the mark is passed unread: it was full up to so much sooner
    ],
)
def test_a_gap_around_full_says_by_how_much_full_may_be_off(
    first_h: float, last_h: float, early: float, late: float
) -> None:
    whole = curve(*ABSORPTION)
    trace = whole.taking((whole.time_s <= 3600 * (0.5 + first_h)) | (whole.time_s >= 3600 * (0.5 + last_h)))
    charge = analysed(trace, "agm", 100.0).charge
    assert charge is not None
    assert charge.full_early_s == pytest.approx(3600 * early, abs=2 * EVERY) and charge.full_late_s == late


def test_a_protection_that_opened_in_a_gap_may_have_opened_later() -> None:
    whole = curve((0.5, 13.0, 0.0), (1.0, (13.2, 14.0), -50.0), (1.0, 14.5, 0.0))
    trace = whole.taking((whole.time_s <= 3600 * 1.4) | (whole.time_s >= 3600 * 1.6))
    charge = analysed(trace, "lfp", 100.0).charge
    assert charge is not None and charge.time_to_full_s is not None
    assert (charge.full_early_s, charge.full_late_s) == (0.0, pytest.approx(720.0, abs=2 * EVERY))


@pytest.mark.parametrize(
    ("taken_V", "celsius", "small_A", "heated"),
    [
        (14.20, -8.0, (-5.0, -5.0), True),  # cells that take much: the charger is back at its limit within readings
        (14.28, -8.0, (-5.0, -5.0), False),  # it hardly gave way at all
        (14.20, 6.0, (-5.0, -5.0), False),  # nothing is heated in a warm pack
        (14.20, -8.0, (-5.0, -3.5), False),  # a current that tapers goes into cells
    ],
)
def test_cells_that_take_much_at_once_end_a_heater_s_phase(
    taken_V: float, celsius: float, small_A: tuple[float, float], heated: bool
) -> None:
    rest, fed, taken = 30, 300, 200
    volts = np.concatenate([np.full(rest, 12.9), np.full(fed, 14.3), np.full(1, taken_V), np.full(taken, 14.3)])
    amps = np.concatenate([np.zeros(rest), np.linspace(*small_A, fed), np.linspace(-20.0, -12.0, taken + 1)])
    trace = Trace(
        np.arange(len(volts)) * 5.0, volts, amps, temperature_C=np.full(len(volts), celsius),
        resolution={"voltage_V": 0.01, "current_A": 0.01},
    )  # fmt: skip
    found = analyse(trace, Options(family=FAMILIES["lfp"], rated_Ah=100.0)).charge
    assert found is not None and (found.heating is not None) is heated
    if found.heating is not None:
        assert found.heating.duration_s == pytest.approx(1500.0, abs=6.0)
        assert found.heating.power is not None and found.heating.power.value == pytest.approx(71.5, rel=0.01)
