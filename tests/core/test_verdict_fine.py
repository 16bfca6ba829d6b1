"""More small things of judging, each worked out beside it; common practice, no published source, but where one is named."""

from __future__ import annotations

from dataclasses import replace
from statistics import NormalDist
from typing import Any

import numpy as np
import pytest

from tests.core.test_kinds import LFP, analysed, claim, discharge, verdict, with_temperature
from tests.making import piecewise
from wintry_tally.core.battery import CLAIM_KINDS, Claim, Direction
from wintry_tally.core.message import NOTHING
from wintry_tally.core.quantity import Quantity, Term
from wintry_tally.core.verdict import Outcome, School, judge
from wintry_tally.core.verdict.effects import cutoff_condition
from wintry_tally.core.verdict.evidence import LogEvidence, MeasuredEvidence, capacity_evidence
from wintry_tally.core.verdict.judging import SETTLERS
from wintry_tally.core.verdict.outcome import Condition
from wintry_tally.core.verdict.probability import outcome_by
from wintry_tally.core.verdict.settle_charge import _at_current, _time_to
from wintry_tally.core.verdict.settle_cold import _below
from wintry_tally.core.verdict.settle_time import _DeviceRun
from wintry_tally.core.verdict.settling import NONE, REMEDIES, Way, cheapest


def ways(*likely: float) -> list[Way]:
    return [Way((REMEDIES[place],), chance) for place, chance in enumerate(likely)]


@pytest.mark.parametrize(
    ("likely", "taken"),
    [((0.60, 0.62), 0), ((0.60, 0.66), 1), ((0.60, 0.64, 0.90), 2), ((0.2, 0.4), None), ((0.70, 0.60), 0)],
)
def test_the_cheapest_way_is_left_only_for_a_clearly_likelier_one(likely: tuple[float, ...], taken: int | None) -> None:
    found = ways(*likely)
    assert cheapest(found) == (NONE if taken is None else found[taken])


def test_a_meter_held_against_a_good_one_is_as_good_as_a_tenth_of_its_error() -> None:
    held = next(one for one in REMEDIES if "gain of the meter" in one.marks)
    assert held.after(Term("gain of the meter", 0.2, "m")).standard == pytest.approx(0.02)
    assert held.after(Term("clock", 0.2, "m")).standard == 0.2


def test_a_strict_rule_without_a_probability_calls_nothing() -> None:
    given: tuple[Any, ...] = (40.0, Direction.AT_LEAST, 0.0)
    assert outcome_by(School.STRICT, 45.0, None, *given) is Outcome.TOO_CLOSE
    assert outcome_by(School.PLAIN, 45.0, None, *given) is Outcome.MET


@pytest.mark.parametrize(("end_V", "effect"), [(10.0, False), (10.1, False), (10.2, True), (10.5, True)])
def test_an_end_a_tenth_above_the_cut_off_is_the_cut_off(end_V: float, effect: bool) -> None:
    run = capacity_evidence("run", analysed(discharge(5.0, 2.0, opened=True), rated=10.0))
    assert run is not None
    wanted = claim("capacity", 10.0, "Ah", "at-least", cutoff_V=10.0)
    ended = cutoff_condition(LFP, wanted, replace(run, end_V=end_V, ended_by="set-cutoff"), 10.0)
    assert ended is not None and (ended.effect is not None) == effect


def test_more_current_than_claimed_shortens_the_part_at_constant_current() -> None:
    # at 8 A for the 10 A claimed: the constant-current part takes 20 % less at the claimed one
    log = analysed(piecewise((600, 0.0, 12.8), (7200, -8.0, 13.6), (1800, -0.2, 14.4), (60, 0.0, 13.5)), rated=20.0)
    charge = log.charge
    assert charge is not None
    charge = replace(charge, share_constant_current=0.7)
    told = _at_current(10.0, 8.0, 9000.0, charge)
    assert told.effect is not None
    assert told.effect.value == pytest.approx(-0.2 * 9000.0 * 0.7)
    assert _at_current(10.0, 9.6, 9000.0, charge).effect is None


def test_the_time_to_a_share_is_found_across_a_pause() -> None:
    # 10 A for an hour, a pause, 10 A for another: 75 % of what goes in is in half an hour into the second
    log = analysed(
        piecewise((600, 0.0, 12.8), (3600, -10.0, 13.4), (600, 0.0, 13.2), (3600, -10.0, 13.6), (1200, -0.1, 14.4)),
        rated=20.0,
    )
    charge = log.charge
    assert charge is not None and len(charge.count.spans) > 1
    found = _time_to(0.75, log, charge, 0.0)
    whole_s = 0.75 * charge.count.charge.value / 10.0 * 3600.0
    assert found.value == pytest.approx(whole_s + 600.0, rel=0.01)


def test_all_of_a_charge_is_in_when_it_is_full_whatever_the_sum_lacks() -> None:
    log = analysed(piecewise((600, 0.0, 12.8), (7200, -10.0, 13.6), (1200, -0.1, 14.4)), rated=20.0)
    charge = log.charge
    assert charge is not None and charge.time_to_full_s is not None
    more = replace(charge.count, charge=replace(charge.count.charge, value=1.001 * charge.count.charge.value))
    found = _time_to(1.0, log, replace(charge, count=more), 0.0)
    assert found.value == pytest.approx(charge.time_to_full_s, abs=1.0) and found.value > 7000.0


def test_the_chance_that_a_temperature_lay_below_a_limit_is_the_normal_one() -> None:
    # outside: SciPy's normal distribution
    for value, limit, standard in ((-3.0, 2.0, 1.5), (3.0, 2.0, 0.8), (-8.0, -6.5, 2.0), (0.5, -0.5, 0.7)):
        measured = Quantity(value, standard, "°C")
        assert _below(measured, limit) == pytest.approx(NormalDist().cdf((limit - value) / standard), abs=1e-12)


def test_how_unlike_a_run_was_is_its_effects_with_their_uncertainty_as_a_share() -> None:
    effects = (Quantity(-4.0, 1.0, "h"), Quantity(2.0, 0.0, "h"), None)
    conditions = tuple(Condition("temperature", 25.0, 5.0, effect) for effect in effects)
    for hours, share in ((50.0, 7.0 / 50.0), (-50.0, 7.0 / 50.0), (20.0, 7.0 / 20.0)):
        run = _DeviceRun(None, Quantity(hours, 0.1, "h"), conditions, True, NOTHING, "", {})  # type: ignore[arg-type]
        assert run.unlike == pytest.approx(share)


def test_where_a_heater_began_stands_beside_its_time() -> None:
    trace = piecewise((300, 0.0, 13.0), (1500, -5.0, 14.3), (600, -20.0, 13.9), interval_s=5.0)
    warms = np.interp(trace.time_s, [300.0, 1800.0], [-12.0, 5.0])
    told = verdict(claim("heater-time", 1800.0, "s", "at-most"), "heater", analysed(with_temperature(trace, warms)))
    (start,) = (one for one in told.conditions if one.name == "temperature at the start")
    assert start.actual == pytest.approx(-12.0, abs=0.5)
    unlogged = verdict(claim("heater-time", 1800.0, "s", "at-most"), "heater", analysed(trace))
    assert not [one for one in unlogged.conditions if one.name == "temperature at the start"]


def test_a_runtime_without_a_printed_drop_out_goes_by_the_devices() -> None:
    trace = discharge(0.8, 20.0, top_V=13.0, end_V=9.0)
    conditions = {"device_A": 0.8}
    by_claim = verdict(
        claim("runtime", 18 * 3600.0, "s", "at-least", dropout_V=12.2, **conditions),
        "runtime",
        analysed(trace, rated=16.0),
        rated=16.0,
    )
    wanted = claim("runtime", 18 * 3600.0, "s", "at-least", **conditions)
    by_device = verdict(wanted, "runtime", analysed(trace, rated=16.0, dropouts_V=(12.2,)), rated=16.0)
    without = verdict(wanted, "runtime", analysed(trace, rated=16.0), rated=16.0)
    assert by_claim.measured is not None and by_device.measured is not None and without.measured is not None
    assert by_device.measured.value == pytest.approx(by_claim.measured.value)
    assert without.measured.value > by_device.measured.value


@pytest.mark.parametrize(("at", "drop_V", "outcome"), [
    ("load", 12.6, "not-tested"), ("terminals", 12.6, "missed"), ("", 12.6, "missed"), ("load", 12.2, "met"),
    ("load", None, "met"),
])  # fmt: skip
def test_a_drop_out_read_at_the_load_comes_too_soon_and_is_a_bound(at: str, drop_V: float | None, outcome: str) -> None:
    # Ohm's law: the terminals stand higher by what the leads take
    log = analysed(discharge(0.8, 20.0, top_V=13.0, end_V=9.0), rated=16.0, volts_at=at)
    conditions = {"device_A": 0.8} | ({} if drop_V is None else {"dropout_V": drop_V})
    found = verdict(claim("runtime", 18 * 3600.0, "s", "at-least", **conditions), "runtime", log, rated=16.0)
    assert found.outcome == outcome
    if outcome == "not-tested":
        assert found.bound == "at-least" and "read at the load" in str(found.advice)


def test_an_over_voltage_cut_read_at_the_charger_is_the_most_it_may_be() -> None:
    shape = ((20, 0.0, 13.2), (600, -20.0, 14.0), (4, -20.0, 14.8), (60, 0.0, 15.4), (60, 0.0, 13.9))
    # Ohm's law: a charger's leads add to what the terminals have
    for at, outcomes in (("load", ("not-tested", "met")), ("terminals", ("missed", "met")), ("", ("missed", "met"))):
        log = analysed(piecewise(*shape), volts_at=at)
        within, most = (
            claim("over-voltage-cut", 14.4, "V", "within", 0.1),
            claim("over-voltage-cut", 15.0, "V", "at-most"),
        )
        assert tuple(verdict(one, "charge", log).outcome for one in (within, most)) == outcomes
    never = analysed(
        piecewise((20, 0.0, 13.2), (600, -20.0, 14.0), (300, -20.0, 15.2), (60, 0.0, 13.9)), volts_at="load"
    )
    found = verdict(claim("over-voltage-cut", 14.8, "V", "within", 0.1), "charge", never)
    assert found.outcome is Outcome.NOT_TESTED and found.bound == "at-most" and "leads" in str(found.advice)


@pytest.mark.parametrize(("after", "outcome"), [
    ((15.4, 15.4, 13.9), "met"),  # the charger's limit, which stands until it is taken off
    ((15.4, 15.396, 13.9), "met"),  # and flickers
    ((15.1, 15.0, 14.9), "not-tested"),  # its own volts, higher than the last reading on charge
])  # fmt: skip
def test_volts_that_rise_as_a_charge_ends_were_not_read_at_its_end(after: tuple[float, ...], outcome: str) -> None:
    off = [(1.0, 0.0, volts) for volts in after[:2]]
    log = analysed(
        piecewise((20, 0.0, 13.2), (600, -20.0, 14.0), (4, -20.0, 14.8), *off, (60, 0.0, after[2]), interval_s=1.0)
    )
    found = verdict(claim("over-voltage-cut", 14.8, "V", "within", 0.1), "charge", log)
    assert found.outcome == outcome and (found.bound == "at-least") == (outcome == "not-tested")


@pytest.mark.parametrize("named", [True, False])
def test_which_twin_was_the_cold_one_is_not_told_by_degrees_of_no_unit(named: bool) -> None:
    # 31.8 may be a hot room's, or freezing in °F
    logs = [
        analysed(with_temperature(discharge(0.9, hours), at), rated=10.0) for at, hours in ((31.8, 8.0), (23.0, 10.0))
    ]
    if not named:
        logs[0] = replace(logs[0], held=replace(logs[0].trace, unnamed=frozenset({"temperature"})))
    found = verdict(claim("cold-loss", 30.0, "%", "at-most"), "cold-loss", *logs, rated=10.0)
    assert ("is not known" in str(found.advice)) != named and (found.outcome is Outcome.NOT_TESTED)
    assert ("in the cold?" in str(found.advice)) == named, "the other way round it gave more in the cold"


def test_a_stretch_that_failed_weighs_more_than_one_that_held_whichever_came_first() -> None:
    held, failed = (300, 100.0, 12.5), (140, 100.0, 12.4)
    for parts in ((held, (300, 0.0, 13.1), failed), (failed, (300, 0.0, 0.2), held)):
        end_V = 0.2 if parts[-1] == failed else 13.1
        log = analysed(piecewise((20, 0.0, 13.2), *parts, (60, 0.0, end_V), interval_s=1.0))
        found = verdict(claim("continuous-discharge", 100.0, "A", "at-least", duration_s=300.0), "hold", log)
        assert found.outcome is Outcome.MISSED, found.advice
    only = analysed(piecewise((20, 0.0, 13.2), held, (60, 0.0, 13.1), interval_s=1.0))
    wanted = claim("continuous-discharge", 100.0, "A", "at-least", duration_s=300.0)
    assert verdict(wanted, "hold", only).outcome is Outcome.MET


@pytest.mark.parametrize(("method", "told"), [("capacity", True), ("", False)])
def test_only_a_log_taken_as_a_capacity_test_is_told_that_it_did_not_go_on(method: str, told: bool) -> None:
    log = analysed(discharge(5.0, 1.0, opened=False, end_V=12.9), rated=10.0)
    found = verdict(claim("low-voltage-cut", 10.0, "V", "within", 0.5), method, log, rated=10.0)
    assert found.outcome is Outcome.NOT_TESTED
    assert ("until the pack opened itself" in str(found.advice)) == told


@pytest.mark.parametrize(("unit", "outcome"), [("money", "met"), ("EUR", "met"), ("USD", "not-tested")])
def test_what_was_paid_is_held_against_the_price_in_its_own_currency(unit: str, outcome: str) -> None:
    printed = Claim("price", 300.0, "EUR", Direction.AT_MOST)
    found = judge(LFP, 100.0, [printed], [MeasuredEvidence("the bill", "price", Quantity(250.0, 0.0, unit))])[0]
    assert found.outcome == outcome and found.measured is not None
    assert found.measured.unit == ("USD" if unit == "USD" else "EUR")


def test_a_pair_turned_round_says_how_warm_each_began() -> None:
    logs = [
        analysed(with_temperature(discharge(0.9, hours), at), rated=10.0) for at, hours in ((25.0, 10.0), (-10.0, 9.0))
    ]
    found = verdict(claim("cold-loss", 15.0, "%", "at-most"), "cold-loss", *logs, rated=10.0)
    assert "it began at -10.0 °C, the other at 25.0 °C" in str(found.advice)


@pytest.mark.parametrize("kind", [kind.key for kind in CLAIM_KINDS.values() if kind.dimension and not kind.beyond])
def test_what_is_claimed_without_a_value_asks_for_one_whatever_was_logged(kind: str) -> None:
    log = analysed(discharge(5.0, 2.0, opened=True), rated=10.0)
    methods = ("capacity", "hold", "overload", "charge", "heater", "reserve", "runtime", "charge-block")
    evidence = [
        *(LogEvidence(method, (method,), (log,)) for method in methods),
        *(LogEvidence(method, (method, "other"), (log, log)) for method in ("cold-loss", "self-discharge")),
    ]
    found = judge(LFP, 10.0, [Claim(kind, None, "", Direction.AT_LEAST, wanted=True)], evidence)[0]
    assert found.outcome is Outcome.NOT_TESTED
    assert ("at which value" in str(found.advice)) == (kind in SETTLERS and kind != "cold-charge-block")
