"""What a verdict is sure of and what it tells beside its number, each worked out beside it.

Rules of common practice, no published source; the interval's uncertainty is JCGM 100:2008, 4.3.7 (triangular: a/√6).
"""

from __future__ import annotations

import math
from statistics import NormalDist

import numpy as np
import pytest

from tests.core.test_kinds import LFP, METER, analysed, claim, discharge, verdict, warming, with_temperature
from tests.core.test_verdict_small import _cycle
from tests.making import piecewise
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.quantity import Quantity, Term
from wintry_tally.core.verdict import Outcome, School, judge
from wintry_tally.core.verdict.evidence import capacity_evidence
from wintry_tally.core.verdict.leads import Beyond, leads_condition
from wintry_tally.core.verdict.settling import ways


@pytest.mark.parametrize(("amps", "judged"), [(25.0, True), (25.9, True), (26.3, False), (23.7, False), (12.5, False)])
def test_a_log_of_no_kind_is_of_a_reserve_only_near_its_current(amps: float, judged: bool) -> None:
    trace = piecewise((600, 0.0, 12.8), (6000, amps, 12.0), (60, amps, 10.4), (600, 0.0, 11.6), interval_s=10.0)
    log = analyse(trace, Options(family=FAMILIES["agm"], rated_Ah=60.0, instrument=METER, ambient_C=25.0))
    told = verdict(claim("reserve", 5400.0, "s", "at-least"), "", log, family=FAMILIES["agm"], rated=60.0)
    assert (told.outcome is not Outcome.NOT_TESTED) is judged


def test_the_working_has_a_step_for_every_effect_of_the_conditions() -> None:
    warm = with_temperature(discharge(20.0, 5.0, opened=True), np.float64(5.0))
    run = capacity_evidence("run", analysed(warm), 5.0)
    assert run is not None
    told = judge(LFP, 100.0, [claim("capacity", 99.0, "Ah", "at-least", temperature_C=25.0)], [run], School.STRICT)[0]
    steps = {step.label: step for step in told.working.steps}
    effect = next(one.effect for one in told.conditions if one.name == "temperature")
    assert effect is not None
    step = steps["Effect of unlike conditions: temperature"]
    assert f"+{effect.value:.1f}" in step.result and step.inputs["this test"] == "5.0"
    # the doubt of the effect counts beside the meter's: p by the normal distribution of both
    y, u = told.measured.value + effect.value, math.hypot(told.measured.standard, effect.standard)
    assert float(told.working.inputs["p with the conditions' effect"]) == pytest.approx(
        float(NormalDist().cdf((y - 99.0) / u)), abs=2e-3
    )


@pytest.mark.parametrize(("amps", "sure"), [(10.2, 1.0), (9.95, 1.0), (9.8, 0.95)])
def test_a_current_carried_at_a_setting_just_below_the_claim_is_as_good_as_sure(amps: float, sure: float) -> None:
    log = analysed(piecewise((60, 0.0, 13.0), (600, -amps, 13.6), (60, 0.0, 13.4), interval_s=1.0))
    told = verdict(claim("charge-current", 10.0, "A", "at-least"), "charge", log)
    assert told.outcome is Outcome.MET and told.probability == sure


def test_leads_take_from_an_efficiency_on_the_way_out_and_in() -> None:
    plain = verdict(claim("efficiency", 90.0, "%", "at-least"), "cycle", _cycle(), rated=20.0)
    assert not [one for one in plain.conditions if one.effect is not None]
    # 10 A through a battery of 20 Ah of this family: where 0.6 V went at once, more than half a volt may be its leads'
    fallen = _cycle(rest_V=13.6)
    told = verdict(claim("efficiency", 90.0, "%", "at-least"), "cycle", fallen, rated=20.0)
    (leads,) = [one for one in told.conditions if one.effect is not None]
    assert leads.name == "voltage under load" and told.measured is not None
    beyond_V = 0.8 - LFP.build.ohm_Ah / 20.0 * 10.0
    assert leads.most == pytest.approx(2.0 * told.measured.value / 12.8 * beyond_V, rel=0.05)


def test_what_is_told_of_leads_says_where_the_volts_were_read() -> None:
    wanted = claim("energy", 100.0, "Wh", "at-least")
    seen = leads_condition(wanted, Beyond(0.05, 0.35, 0.3), 10.0)
    said = leads_condition(wanted, Beyond(0.05, 0.35, 0.35, at_load=True), 10.0)
    assert seen is not None and said is not None
    assert "read at the load" not in str(seen.actual) and "read at the load" in str(said.actual)
    assert (seen.most, said.most) == (pytest.approx(3.0), pytest.approx(3.5))
    assert (
        "fell by 0.35 V" in Beyond(0.05, 0.35, 0.3).words and "beyond its leads" in Beyond(0.05, 0.35, 0.3, True).words
    )


def test_the_time_a_heater_took_is_known_to_an_interval_and_the_clock() -> None:
    parts = ((60, 0.0, 12.9), (1500, -4.6, 14.3), (1800, -18.2, 13.37), (300, 0.0, 13.2))
    for every in (2.0, 10.0):
        told = verdict(
            claim("heater-time", 1800.0, "s", "at-most"), "heater", analysed(piecewise(*parts, interval_s=every))
        )
        assert told.measured is not None and told.measured.value == pytest.approx(1500.0, abs=every)
        assert told.measured.standard == pytest.approx(every / math.sqrt(6.0), rel=1e-6)
    assert (
        verdict(claim("heater-time", 1800.0, "s", "at-most"), "heater", analysed(warming())).outcome
        is Outcome.NOT_TESTED
    )


def test_what_has_no_parts_or_no_doubt_has_no_ways_to_settle_it() -> None:
    limits = (10.0,)
    assert ways(Quantity(9.9, None, "Ah"), limits) == [] and ways(Quantity(9.9, 0.1, "Ah"), limits) == []
    assert ways(Quantity.from_terms(9.9, "Ah", [Term("current gain", 0.1)]), limits)


@pytest.mark.parametrize(("second_A", "unseen"), [(101.0, False), (110.0, True)])
def test_a_long_interval_before_an_opening_hides_nothing_where_the_current_stood(second_A: float, unseen: bool) -> None:
    parts = ((20, 0.0, 13.2), (30, 100.0, 12.9), (30, second_A, 12.8), (60, 0.0, 0.2))
    log = analysed(piecewise(*parts, interval_s=8.0))
    told = verdict(claim("over-current-trip", 100.0, "A", "within", 30.0), "overload", log)
    assert (told.bound == "at-least") is unseen, told.advice
