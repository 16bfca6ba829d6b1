"""A narrow band beside a wide measurement, and an end that nobody read: what no reading could rule out is not missed.

Expected probabilities from scipy; what a voltage does between two readings from tests/reference; else common practice, no
published source.
"""

from __future__ import annotations

import math
from pathlib import Path
from statistics import NormalDist

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.test_kinds import LFP, analysed, claim, verdict, with_temperature
from tests.making import piecewise
from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import Direction
from wintry_tally.core.quantity import Quantity, parse_accuracy
from wintry_tally.core.trace import Trace, mend
from wintry_tally.core.verdict import Outcome, School, judge
from wintry_tally.core.verdict.evidence import LogEvidence, MeasuredEvidence
from wintry_tally.core.verdict.openings import STEADY_SHARE, STEEPER, UNREAD_SHARE
from wintry_tally.core.verdict.probability import Chance, chance_of, outcome_by

BAND = (12.5, Direction.WITHIN, 0.2)


@given(st.floats(8.0, 16.0), st.floats(0.001, 5.0), st.floats(0.05, 2.0))
def test_beyond_is_the_likelier_side(value: float, standard: float, half: float) -> None:
    chance = chance_of(value, standard, 12.5, Direction.WITHIN, half)
    known = NormalDist(value, standard)
    below, above = known.cdf(12.5 - half), 1.0 - known.cdf(12.5 + half)
    assert chance.beyond == pytest.approx(max(below, above), abs=1e-9)
    assert chance.holds == pytest.approx(1.0 - below - above, abs=1e-9)
    for direction in (Direction.AT_LEAST, Direction.AT_MOST):
        one = chance_of(value, standard, 12.5, direction)
        assert one.holds + one.beyond == pytest.approx(1.0)


@pytest.mark.parametrize(
    ("value", "standard", "outcome"),
    [
        (12.5, 0.05, Outcome.MET), (12.9, 0.05, Outcome.MISSED), (12.1, 0.05, Outcome.MISSED), (12.7, 0.05, Outcome.TOO_CLOSE),
        (12.8, 3.8, Outcome.TOO_CLOSE), (12.5, 20.0, Outcome.TOO_CLOSE), (15.0, 1.4, Outcome.TOO_CLOSE), (15.1, 1.4, Outcome.MISSED),
        (12.7, 0.0, Outcome.MET), (12.71, 0.0, Outcome.MISSED),
    ],
)  # fmt: skip
def test_a_band_is_missed_only_by_what_lies_on_one_side_of_it(value: float, standard: float, outcome: Outcome) -> None:
    assert outcome_by(School.STRICT, value, chance_of(value, standard, *BAND), *BAND) is outcome


def test_an_unlikely_claim_that_nothing_refutes_is_open() -> None:
    assert outcome_by(School.STRICT, 0.0, Chance(0.02, 0.5), *BAND) is Outcome.TOO_CLOSE
    assert outcome_by(School.STRICT, 0.0, Chance(0.02, 0.96), *BAND) is Outcome.MISSED


def steps(*amps: float) -> Trace:
    parts = [part for level in amps for part in ((5.0, level, 13.2 - 0.004 * level),)]
    return piecewise((20.0, 0.0, 13.3), *parts, (20.0, 0.0, 0.1), interval_s=0.1)


@pytest.mark.parametrize(
    ("amps", "outcome", "advised"),
    [
        ((60.0, 140.0), Outcome.TOO_CLOSE, True),  # from below the window to far above it: it may have opened within
        ((60.0, 99.9, 140.0), Outcome.TOO_CLOSE, True),  # its lower end was carried, and no more
        ((60.0, 101.95, 140.0), Outcome.MISSED, False),  # carried through nearly all of it
    ],
)
def test_a_step_over_a_window_does_not_tell_that_it_opens_outside(
    amps: tuple[float, ...], outcome: Outcome, advised: bool
) -> None:
    wanted = claim("over-current-trip", 101.0, "A", "within", 1.0)
    found = verdict(wanted, "overload", analysed(steps(*amps), rated=100.0), rated=100.0)
    assert found.outcome is outcome, (found.probability, found.working)
    assert ("smaller steps" in f"{found.advice}") is advised


def read_by_hand(every_s: float, until_s: float = 5 * 3600.0) -> Trace:
    """A discharge at C/5 of which somebody reads the plateau; its end, at 10 V, comes between two readings."""
    times = np.append(np.arange(60.0, until_s, every_s), [until_s + 60.0, until_s + 120.0, until_s + 180.0])
    volts = np.where(times < until_s, 13.2 - 0.4 * (times / until_s) ** 6, 0.02)
    return Trace(times, volts, np.where(times < until_s, 20.0, 0.0), resolution={"voltage_V": 0.01, "current_A": 0.1})


@pytest.mark.parametrize(
    ("value", "direction", "outcome"),
    [
        (10.0, "within", Outcome.NOT_TESTED), (10.0, "at-least", Outcome.NOT_TESTED), (10.0, "at-most", Outcome.NOT_TESTED),
        (13.5, "at-most", Outcome.MET), (13.5, "at-least", Outcome.MISSED),
    ],
)  # fmt: skip
def test_a_cut_between_readings_far_apart_lies_anywhere_below_the_last(
    value: float, direction: str, outcome: Outcome
) -> None:
    wanted = claim("low-voltage-cut", value, "V", direction, 0.2 if direction == "within" else 0.0)
    found = verdict(wanted, "capacity", analysed(read_by_hand(1800.0), rated=100.0), rated=100.0)
    assert (found.outcome, found.bound) == (outcome, "at-most")
    assert found.outcome is not Outcome.NOT_TESTED or "every minute" in f"{found.advice}"
    assert found.working is not None
    assert found.working.steps[0].inputs["next reading"] == "30 min 00 s later", "its doubt stands on it"


@pytest.mark.parametrize(("every_s", "known"), [(150.0, True), (240.0, False)])
def test_a_hundredth_of_its_charge_may_go_unread(every_s: float, known: bool) -> None:
    # at C/5 a hundredth flows in three minutes; what was drawn, where no rating is known
    for rated in (100.0, None):
        wanted = claim("low-voltage-cut", 10.0, "V", "within", 0.2)
        found = verdict(wanted, "capacity", analysed(read_by_hand(every_s), rated=rated), rated=rated)
        assert (found.bound is None) is known


@pytest.mark.parametrize(("every_s", "bound"), [(30.0, None), (120.0, "at-least")])
def test_a_charge_is_read_oftener(every_s: float, bound: str | None) -> None:
    times = np.arange(0.0, 3600.0, every_s)
    charging = (times >= 300.0) & (times < 3000.0)
    volts = np.where(
        charging, 13.4 + 1.3 * (times / 3000.0) ** 6, np.where(times < 300.0, 13.2, 14.7)
    )  # the charger stands
    log = Trace(times, volts, np.where(charging, -20.0, 0.0), resolution={"voltage_V": 0.01, "current_A": 0.1})
    wanted = claim("over-voltage-cut", 14.6, "V", "within", 0.2)
    found = verdict(wanted, "charge", analysed(log, rated=100.0), rated=100.0)
    assert found.measured is not None and found.bound == bound, found.advice


@pytest.mark.parametrize(("next_s", "factor"), [(10.0, 1.0), (11.9, 1.0), (15.0, 1.5), (60.0, 6.0)])
def test_a_longer_wait_for_the_next_reading_lets_it_fall_further(next_s: float, factor: float) -> None:
    plain = piecewise((60, 0.0, 13.2), (600, 8.0, 12.0), interval_s=10.0)
    volts, amps = np.append(plain.voltage_V, [11.4, 10.4, 0.1, 0.1]), np.append(plain.current, [8.0, 8.0, 0.0, 0.0])
    times = np.append(np.arange(len(plain) + 2) * 10.0, 0.0)
    times = np.append(times[:-1], times[-2] + next_s + np.array([0.0, 10.0]))
    found = verdict(
        claim("low-voltage-cut", 10.0, "V", "within", 0.5), "capacity",
        analysed(Trace(times, volts, amps, resolution=plain.resolution), rated=400.0), rated=400.0,
    )  # fmt: skip
    assert found.measured is not None
    (fall,) = (term.standard for term in found.measured.terms if term.name == "one more fall")
    assert fall == pytest.approx(factor / math.sqrt(3.0), rel=1e-6)


@pytest.mark.parametrize("name", ["lfp_0_2C.csv", "lfp_1_0C.csv", "lead_0_05C.csv", "lead_0_5C.csv"])
def test_falls_of_other_models_curves_are_no_longer(name: str, reference: Path) -> None:
    """PyBaMM's curves, cut anywhere between two readings a share of the charge apart."""
    rows = np.loadtxt(reference / name, delimiter=",", skiprows=1)
    live = rows[:, 2] > 0.01
    moved = np.concatenate([[0.0], np.cumsum(np.diff(rows[live, 0]) * rows[live, 2][1:])])
    volts, ends = rows[live, 1], float(moved[-1])
    for share, most in ((STEADY_SHARE, 1.1), (UNREAD_SHARE, STEEPER)):
        last = ends - np.linspace(0.02, 0.98, 49) * share * ends
        at_last, before = np.interp(last, moved, volts), np.interp(last - share * ends, moved, volts)
        assert float(np.max((at_last - volts[-1]) / (before - at_last))) < most


def charged_by_hand(*rows: tuple[float, float, float], rest: tuple[float, float] = (0.0, 10.0)) -> Trace:
    """Readings of a charge of 100 Ah: minutes, V, A."""
    minutes, volts, amps = np.array([(rest[0], rest[1], 0.0), *rows]).T
    return Trace(60.0 * minutes, volts, -amps, resolution={"voltage_V": 0.01, "current_A": 0.01})


BULK = tuple((20.0 * n, 13.2 + 0.02 * n, 20.0) for n in range(1, 15))
"""Until 280 min at 20 A; with half an interval before it, 270 min."""


@pytest.mark.parametrize(
    ("tail", "minutes"),
    [
        # 0.05 C is 5 A: between 10 A and 2.5 A, by equal shares, in the middle
        (((300.0, 14.4, 10.0), (320.0, 14.4, 2.5)), 300.0),
        (((300.0, 14.4, 10.0), (320.0, 14.4, 2.5), (340.0, 14.4, 1.0)), 300.0),
        (((300.0, 14.4, 10.0), (310.0, 14.4, 7.0), (320.0, 14.4, 5.5), (330.0, 14.4, 5.2), (340.0, 14.4, 4.807692), (350.0, 14.4, 3.0)), 325.0),
        (((300.0, 14.4, 10.0), (320.0, 14.4, 6.0)), None),  # not full yet
        (((300.0, 13.5, 2.5), (320.0, 13.5, 2.5)), None),  # turned down, and not at a full one's voltage
    ],
)  # fmt: skip
def test_a_charge_read_now_and_then_is_full_between_two_readings(
    tail: tuple[tuple[float, float, float], ...], minutes: float | None
) -> None:
    found = analysed(charged_by_hand(*BULK, *tail), rated=100.0).charge
    assert found is not None
    if minutes is None:
        assert found.time_to_full_s is None
        return
    assert found.time_to_full_s == pytest.approx(60.0 * minutes, abs=1.0)
    assert found.full_doubt_s >= 60.0 * (20.0 if len(tail) < 4 else 10.0) / math.sqrt(12.0)


@pytest.mark.parametrize(("claimed_min", "outcome"), [(250.0, Outcome.MISSED), (285.0, Outcome.NOT_TESTED)])
def test_what_was_not_full_at_one_reading_may_be_at_the_next(claimed_min: float, outcome: Outcome) -> None:
    # at 280 min, 270 after its beginning, it takes all there is; at 300 it is turned off
    log = analysed(charged_by_hand(*BULK, (300.0, 13.3, 0.0), (320.0, 13.3, 0.0)), rated=100.0)
    assert log.charge is not None and log.charge.time_to_full_s is None
    wanted = claim("charge-time", 60.0 * claimed_min, "s", "at-most")
    found = verdict(wanted, "charge", log, rated=100.0)
    assert found.outcome is outcome
    if outcome is Outcome.MISSED:  # what it had lasted by then, and no less
        assert found.bound == "at-least" and found.measured is not None
        assert found.measured.value == 60.0 * 260.0, "from its first reading to its last"


def test_the_instants_of_a_charge_are_as_uncertain_as_the_intervals_they_lie_in() -> None:
    # first half an hour before a reading, then every ten minutes
    rows = [(30.0 + 10.0 * n, 13.2 + 0.01 * n, 20.0) for n in range(25)]
    log = analysed(charged_by_hand(*rows, (280.0, 14.6, 0.0), (290.0, 14.6, 0.0), (300.0, 14.6, 0.0)), rated=100.0)
    assert log.charge is not None and log.charge.time_to_full_s is not None
    found = verdict(claim("charge-time", 5.0 * 3600.0, "s", "at-most"), "charge", log, rated=100.0)
    assert found.measured is not None
    assert found.measured.standard == pytest.approx(60.0 * math.hypot(30.0, 10.0) / math.sqrt(12.0), rel=0.01)


@pytest.mark.parametrize(("stirred_V", "kept"), [(0.05, False), (0.4, True)])
def test_one_reading_of_a_current_that_moved_the_volts_is_one(stirred_V: float, kept: bool) -> None:
    # few readings, of which every other one leaps: they differ by volts, and by what flowed
    volts = np.array([12.76, 12.76 + stirred_V, 12.76, 12.76, 14.4, 14.4, 12.76, 14.4, 14.4, 12.76])
    amps = np.array([0.0, -10.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0])
    log = Trace(34.0 * np.arange(10), volts, amps, resolution={"voltage_V": 0.01, "current_A": 0.01})
    assert (-10.0 in mend(log)[0].current) is kept


@pytest.mark.parametrize(
    ("amps", "rated", "outcome"),
    [(0.05, 100.0, Outcome.NOT_TESTED), (0.2, 100.0, Outcome.MISSED), (0.01, None, Outcome.NOT_TESTED), (0.05, None, Outcome.MISSED)],
)  # fmt: skip
def test_a_trickle_in_the_cold_is_no_charge(amps: float, rated: float | None, outcome: Outcome) -> None:
    log = with_temperature(piecewise((60, 0.0, 12.9), (300, -amps, 12.9), (60, 0.0, 12.9)), -9.0)
    found = analyse(
        log,
        Options(
            family=LFP, rated_Ah=rated, instrument=Instrument(parse_accuracy("1%"), parse_accuracy("1%+0.001"), "m")
        ),
    )
    wanted = claim("cold-charge-block", 0.0, "°C", "at-most")
    assert verdict(wanted, "charge-block", found, rated=rated).outcome is outcome  # type: ignore[arg-type]


@pytest.mark.parametrize("turned", [False, True])
def test_of_two_runs_the_one_that_was_read_to_its_end_settles_it(turned: bool) -> None:
    seldom = read_by_hand(1800.0)
    often = Trace(
        10.0 * np.arange(1000), np.where(np.arange(1000) < 900, 10.0 + 3.0 * (1 - (np.arange(1000) / 900) ** 4), 0.02),
        np.where(np.arange(1000) < 900, 20.0, 0.0), resolution=seldom.resolution,
    )  # fmt: skip
    logs = [analysed(one, rated=100.0) for one in (seldom, often)][:: -1 if turned else 1]
    wanted = claim("low-voltage-cut", 10.0, "V", "within", 0.3)
    evidence = [LogEvidence("capacity", (f"{n}",), (one,)) for n, one in enumerate(logs)]
    (found,) = judge(LFP, 100.0, [wanted], evidence, School.STRICT)
    assert found.outcome is Outcome.MET and found.evidence == ("0" if turned else "1",)


@pytest.mark.parametrize(
    ("seen_s", "outcome"), [((0.0, 0.2, 0.4), Outcome.TOO_CLOSE), ((0.0, 0.4, 0.8, 1.2, 1.6, 2.0, 2.4, 2.8, 3.2), Outcome.MET)]
)  # fmt: skip
def test_a_current_held_is_one_that_readings_show(seen_s: tuple[float, ...], outcome: Outcome) -> None:
    # a small current flows before and after as far as this meter can tell; 200 A for a part of the three seconds, or for all
    rest = 0.6 * np.arange(20)
    times = np.concatenate([rest, 12.0 + np.array(seen_s), 15.5 + rest])
    loaded = (times >= 12.0) & (times < 15.5)
    log = Trace(
        times,
        np.where(loaded, 12.4, 13.2),
        np.where(loaded, 200.8, 0.5),
        resolution={"voltage_V": 0.01, "current_A": 0.001},
    )
    wanted = claim("surge", 190.0, "A", "at-least", duration_s=3.0)
    assert verdict(wanted, "surge", analysed(log, rated=100.0), rated=100.0).outcome is outcome


@pytest.mark.parametrize(("zero", "outcome"), [("1%+0.01", Outcome.MISSED), ("1%+7", Outcome.NOT_TESTED)])
def test_what_a_meter_cannot_tell_from_nothing_is_not_still_charging(zero: str, outcome: Outcome) -> None:
    # 6 A of 100 Ah, above the mark of 5 A: a meter that may be off by 7 A at zero does not tell
    log = charged_by_hand(*BULK, *((20.0 * n, 14.4, 6.0) for n in range(15, 20)))
    meter = Instrument(parse_accuracy("0.1%"), parse_accuracy(zero), "m")
    found = analyse(log, Options(family=LFP, rated_Ah=100.0, instrument=meter))
    assert verdict(claim("charge-time", 330.0 * 60.0, "s", "at-most"), "charge", found, rated=100.0).outcome is outcome


def test_the_working_says_where_neither_side_is_shown() -> None:
    wanted = claim("charge-voltage", 14.4, "V", "within", 0.05)
    for expanded, told in ((4.0, True), (0.4, False)):
        given = MeasuredEvidence("by hand", "charge-voltage", Quantity(14.9, 0.5 * expanded, "V"))
        (found,) = judge(LFP, 100.0, [wanted], [given], School.STRICT)
        assert found.outcome is (Outcome.TOO_CLOSE if told else Outcome.MISSED)
        assert found.working is not None and ("either side" in f"{found.working.result}") is told
