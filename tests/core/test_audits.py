"""What the audits of a log ask of it, at their limits and just beyond. Common practice, no published source; invented values."""

from __future__ import annotations

from dataclasses import replace
from random import Random

import numpy as np
import pytest

from tests.core.test_kinds import AGM, LFP, analysed, with_temperature
from tests.making import discharge, piecewise
from wintry_tally.core.analysis.audits import family_remarks, mean_voltage_remarks
from wintry_tally.core.analysis.counters import counter_remarks
from wintry_tally.core.analysis.counting import Integral
from wintry_tally.core.analysis.place import place_history
from wintry_tally.core.analysis.trips import LOW_TEMPERATURE
from wintry_tally.core.battery import Family

TIME = frozenset({"time"})


@pytest.mark.parametrize(
    ("times", "share", "offer"),
    [(1000.0, 0.3, "millivolts"), (1000.0, 0.8, "millivolts"), (10.0, 0.8, "tenth"), (10.0, 0.3, ""), (3.0, 0.8, "")],
)
def test_volts_that_no_pack_has_are_offered_as_what_they_would_be(times: float, share: float, offer: str) -> None:
    log = analysed(piecewise((600, 0.0, 13.2), (600, 8.0, 13.0), interval_s=10.0))
    volts = log.trace.voltage_V.copy()
    volts[: int(share * len(volts))] *= times
    (told,) = family_remarks(replace(log.trace, voltage_V=volts), LFP, [one.stage for one in log.stages])
    assert told.rows == (1, int(share * len(volts))) and offer in getattr(told.offer, "code", "")
    assert bool(told.offer) == bool(offer)


@pytest.mark.parametrize("family", [LFP, AGM])
def test_digits_that_are_offered_would_give_a_mean_well_within_the_familys(family: Family) -> None:
    random, (low, high), seen = Random(4), family.mean_V, 0
    for _ in range(400):
        charge = round(random.uniform(5.0, 120.0), 2)
        energy = round(charge * random.choice((low - 0.8, low - 0.4, high + 0.3, high + 0.9)))
        for told in mean_voltage_remarks(family, charge, energy):
            assert not low <= energy / charge <= high
            for offer in told.offer.parts.get("messages", (told.offer,)) if told.offer else ():
                seen += 1
                assert low + 0.15 <= offer.parts["volts"] <= high - 0.15
    assert seen > 40
    assert not mean_voltage_remarks(family, 40.0, 40.0 * low) and not mean_voltage_remarks(family, 40.0, 40.0 * high)


@pytest.mark.parametrize(
    ("amps", "moved", "turned"),
    [(8.0, 0.06, False), (8.0, 0.10, True), (8.0, -0.2, False), (-8.0, -0.13, False), (-8.0, -0.17, True)],
)
def test_a_current_alone_in_its_log_has_the_other_sign_where_no_battery_moves_so(
    amps: float, moved: float, turned: bool
) -> None:
    flat = piecewise((3600, amps, 12.0), interval_s=10.0)
    log = analysed(replace(flat, voltage_V=np.linspace(12.0, 12.0 * (1.0 + moved), len(flat)).round(3)), family=AGM)
    assert ("sign-flipped" in {remark.code for remark in log.remarks}) is turned


@pytest.mark.parametrize(
    ("beyond", "minutes", "told"),
    [(-0.75, 60, False), (-0.65, 60, True), (-0.30, 60, True), (-0.20, 60, False), (-0.5, 29, False), (-0.5, 35, True)],
)
def test_a_lithium_pack_is_not_floated(beyond: float, minutes: float, told: bool) -> None:
    limit = LFP.charge_V[0] + beyond
    shape = ((600, 0.0, 12.9), (3600, -20.0, 13.4), (60.0 * minutes, -0.2, limit), (600, 0.0, 13.3))
    log = analysed(piecewise(*shape, interval_s=10.0))
    floated = [remark.message for remark in log.remarks if remark.code == "charger-setting"]
    assert bool(floated) is told, [r.code for r in log.remarks]
    assert not told or floated[0].parts["minutes"] == pytest.approx(minutes, abs=1.0)


@pytest.mark.parametrize(("times", "factor"), [(20.0, 60), (80.0, 60), (300.0, 1000), (1300.0, 1000), (1500.0, 3600), (4900.0, 3600), (0.9, 0), (6000.0, 0), (150.0, 0)])  # fmt: skip
def test_a_clock_that_counts_too_much_is_another_unit_where_one_would_do(times: float, factor: int) -> None:
    log = analysed(replace(discharge(8.0, 1.0, noise_A=0.0), unnamed=TIME), rated=8.0 / times)
    said = [remark.offer.parts["part"] for remark in log.remarks if remark.code == "unit-suspect" and remark.offer]
    assert said == ([factor] if factor else [])


def test_a_usual_interval_is_found_among_others() -> None:
    """Every fifth interval is longer by seven tenths, as of a busy logger: the usual ones are two seconds, in minutes."""
    steps = np.where(np.arange(1500) % 5 == 0, 3.4, 2.0) / 60.0
    plain = discharge(8.0, 0.4, interval_s=1.0, noise_A=0.0)
    trace = replace(plain.taking(np.arange(len(steps))), time_s=np.cumsum(steps), unnamed=TIME, row=None)
    assert "unit-suspect" in {remark.code for remark in analysed(trace, rated=1e3).remarks}
    odd = replace(trace, time_s=trace.time_s * 1.55)  # 3.1 s is no logger's
    assert "unit-suspect" not in {remark.code for remark in analysed(odd, rated=1e3).remarks}


def test_a_drop_out_above_the_start_leaves_nothing_and_is_reached() -> None:
    log = analysed(discharge(8.0, 1.0, rest_s=0.0), dropouts_V=(13.6, 12.0, 5.0))
    above, within, never = log.usable
    assert (above.charge.value, above.duration_s, above.reached) == (0.0, 0.0, True)
    assert 0.0 < within.charge.value < never.charge.value and within.reached and not never.reached


def test_a_charger_refused_at_the_beginning_of_a_log_that_ends_with_a_charge() -> None:
    parts = ((60, 0.0, 12.9), (60, 0.0, 14.4), (60, 0.0, 12.9), (600, -8.0, 13.6))
    log = analysed(with_temperature(piecewise(*parts), -9.0))
    assert [trip.kind for trip in log.trips] == [LOW_TEMPERATURE]


@pytest.mark.parametrize(
    ("celsius", "volts", "refused"), [(-9.0, 14.4, True), (20.0, 14.4, False), (-9.0, 13.55, True), (-9.0, 13.4, False)]
)
def test_a_charger_s_voltage_that_stands_at_a_pack_is_a_refusal_only_in_the_cold(
    celsius: float, volts: float, refused: bool
) -> None:
    log = analysed(with_temperature(piecewise((60, 0.0, 12.9), (60, 0.0, volts)), celsius))
    assert bool(log.trips) is refused


@pytest.mark.parametrize(("hours", "core_C"), [(60.0, -18.0), (9.5, None)])
def test_a_core_is_known_where_its_place_was_for_three_time_constants(hours: float, core_C: float | None) -> None:
    # after three of them nineteen twentieths of what was before are gone: e^-3 of 38 K, here of 4 h
    at = np.arange(72.0 - hours, 72.1, 0.25) * 3600.0
    told = place_history("freezer", at, np.full(len(at), -18.0), 0.0, 72.0 * 3600.0, 4.0 * 3600.0)
    assert told.core_C == (core_C if core_C is None else pytest.approx(core_C, abs=0.01))


def test_a_counter_without_a_last_digit_is_known_to_what_it_shows() -> None:
    """20 Ah by the integral; a counter of unknown digits may be apart by the meter's doubt, and no more."""
    log = analysed(discharge(8.0, 2.5, noise_A=0.0), rated=20.0)
    test = log.capacity
    for more, codes in ((0.0, []), (0.18, ["counter-disagrees"])):
        counted = np.cumsum(np.r_[0.0, np.diff(log.trace.time_s)] * log.trace.current) / 3600.0
        trace = replace(log.trace, counter_Ah=counted * (1.0 + more / 20.0))
        exact = replace(test.count, charge=replace(test.count.charge, standard=0.01))
        first, last = test.count.spans[0].first, test.count.spans[-1].last
        assert [one.code for one in counter_remarks(trace, Integral(trace), first, last, exact)] == codes
