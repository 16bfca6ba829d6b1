"""Probability, schools, unlike conditions, several runs, and how often intervals and verdicts are right."""

from __future__ import annotations

from dataclasses import replace
from random import Random
from statistics import NormalDist

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.amount import some
from tests.making import discharge
from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import CLAIM_KINDS, FAMILIES, Claim, Direction, parse_claim
from wintry_tally.core.quantity import Quantity, Term, parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import MeasuredEvidence, Outcome, School, conformity, judge
from wintry_tally.core.verdict.deciding import implied_tolerance
from wintry_tally.core.verdict.evidence import CapacityEvidence, capacity_evidence
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS
from wintry_tally.core.working import Working

LFP, AGM = FAMILIES["lfp"], FAMILIES["agm"]
NORMAL = NormalDist()
INSTRUMENT = Instrument(parse_accuracy("0.1%+2d"), parse_accuracy("0.5%+2d"), "meter")


def run(value: float, standard: float | None = 0.1, **changes: object) -> CapacityEvidence:
    step = Working("x")
    terms = () if standard is None else (Term("current gain", 0.9 * standard, "m:g"), Term("edges", 0.43589 * standard))
    base = CapacityEvidence(
        "run", Quantity(value, standard, "Ah", terms), Quantity(12.8 * value, None if standard is None else 12.8 * standard, "Wh"),
        8.0, 18000.0, 10.0, "battery-protection", 25.0, (8.0,), "", step, step,
    )  # fmt: skip
    return replace(base, **changes)


def only(claim: str | Claim, *evidence: object, school: School = School.STRICT, family=LFP, rated: float | None = 40.0):
    kept = parse_claim(claim) if isinstance(claim, str) else claim
    return judge(family, rated, [kept], list(evidence), school)[0]


@given(st.floats(-50, 50), st.floats(0.01, 5), st.floats(-50, 50), st.floats(0.01, 5))
def test_conformity_agrees_with_scipy(value: float, standard: float, required: float, half: float) -> None:
    # P3: JCGM 106:2012, clause 7: p = Φ((y - T_L)/u); reference library: statistics.NormalDist, of Python itself
    assert conformity(value, standard, required, Direction.AT_LEAST) == pytest.approx(
        NORMAL.cdf((value - required) / standard), abs=1e-12
    )
    assert conformity(value, standard, required, Direction.AT_MOST) == pytest.approx(
        NORMAL.cdf((required - value) / standard), abs=1e-12
    )
    inside = NORMAL.cdf((required + half - value) / standard) - NORMAL.cdf((required - half - value) / standard)
    assert conformity(value, standard, required, Direction.WITHIN, half) == pytest.approx(inside, abs=1e-9)


def test_conformity_without_doubt() -> None:
    assert [conformity(v, 0.0, 10.0, Direction.AT_LEAST) for v in (9.0, 10.0, 11.0)] == [0.0, 0.5, 1.0]
    assert [conformity(v, 0.0, 10.0, Direction.AT_MOST) for v in (9.0, 10.0, 11.0)] == [1.0, 0.5, 0.0]
    assert [conformity(v, 0.0, 10.0, Direction.WITHIN, 1.0) for v in (8.0, 9.0, 10.5)] == [0.0, 1.0, 1.0]


@pytest.mark.parametrize(
    ("value", "strict", "plain", "lenient"),
    [
        (41.1, "met", "met", "met"),
        (40.1, "too-close", "met", "met"),
        (39.9, "too-close", "missed", "met"),
        (39.2, "missed", "missed", "met"),
        (37.5, "missed", "missed", "missed"),
    ],
)
def test_schools(value: float, strict: str, plain: str, lenient: str) -> None:
    # handbook 6: strict p ≥ 0.95 / ≤ 0.05; plain compares; lenient within 5 % of the rating
    for school, expected in zip(School, (strict, plain, lenient), strict=True):
        assert only("40 Ah", run(value), school=school).outcome.value == expected


def test_probability_and_advice() -> None:
    close = only("40 Ah", run(40.1))
    assert close.probability == pytest.approx(NORMAL.cdf(1.0), abs=1e-6)
    assert close.advice is not None and "would settle this" in close.advice and "current gain" in close.advice
    on_it = only("40 Ah", run(40.0))
    assert on_it.probability == pytest.approx(0.5) and "no usual reading" in (on_it.advice or "")
    unknown = only("40 Ah", run(45.0, None))
    assert unknown.outcome is Outcome.TOO_CLOSE and unknown.probability is None and "accuracy" in (unknown.advice or "")
    assert only("40 Ah", run(45.0, None), school=School.PLAIN).outcome is Outcome.MET


def test_every_kind_of_claim_has_an_outcome_and_none_is_dropped() -> None:
    claims = [
        Claim(kind.key, 1.0 if kind.dimension else None, "", kind.direction, wanted=None if kind.dimension else True)
        for kind in CLAIM_KINDS.values()
    ]
    verdicts = judge(LFP, 40.0, claims, [])
    assert [verdict.claim.kind for verdict in verdicts] == list(CLAIM_KINDS)
    for verdict in verdicts:
        kind = verdict.claim.definition
        assert verdict.outcome is (Outcome.CANNOT_TEST if kind.beyond else Outcome.NOT_TESTED)
        assert verdict.advice and verdict.working is not None and OUTCOME_WORDS[verdict.outcome]
        assert verdict.as_dict()["measured"] is None


def test_unlike_rate_is_shown_beside_and_widens_not_moves() -> None:
    slow = run(40.5, 0.1, mean_current_A=3.0, rates=(3.0,))
    verdict = only("40 Ah", slow)
    assert verdict.measured is not None and verdict.measured.value == 40.5
    rate = next(c for c in verdict.conditions if c.name == "rate")
    assert rate.claimed == 0.2 and rate.actual == 0.075 and rate.effect is not None and rate.effect.value < 0
    # P4: W. Peukert (1897), from memory: amounts at two currents differ by (I1/I2)^(k-1), k about 1.02 for LFP
    assert rate.effect.value == pytest.approx(40.5 * ((3 / 8) ** 0.02 - 1), rel=1e-6)
    assert verdict.outcome is Outcome.TOO_CLOSE and "claim's own rate" in (verdict.advice or "")
    assert only("40 Ah", run(40.5)).outcome is Outcome.MET


def test_a_heavy_load_on_lead_acid_settles_nothing_against_c20() -> None:
    fast = run(88.0, 0.3, mean_current_A=20.0, rates=(20.0,), end_V=10.4, ended_by="set-cutoff")
    verdict = only("100 Ah at C/20", fast, family=AGM, rated=100.0)
    assert verdict.outcome is Outcome.TOO_CLOSE
    gives_more_at_a_heavier_load = run(
        101.0, 0.3, mean_current_A=20.0, rates=(20.0,), end_V=10.4, ended_by="set-cutoff"
    )
    assert only("100 Ah at C/20", gives_more_at_a_heavier_load, family=AGM, rated=100.0).outcome is Outcome.MET


def test_mixed_rates_are_named() -> None:
    mixed = run(98.0, 0.3, mean_current_A=8.0, rates=(20.0, 5.0), end_V=10.4)
    names = [condition.name for condition in only("100 Ah", mixed, family=AGM, rated=100.0).conditions]
    assert "mixed rates" in names


def test_cold_and_an_early_end_are_conditions_too() -> None:
    cold = only("40 Ah", run(39.0, 0.1, temperature_C=5.0))
    effect = next(c.effect for c in cold.conditions if c.name == "temperature")
    assert effect is not None and effect.value > 0
    early = only("40 Ah", run(39.0, 0.1, end_V=12.4, ended_by="operator"))
    left = next(c.effect for c in early.conditions if c.name == "end of discharge")
    assert left is not None and left.value > 0 and early.outcome is Outcome.NOT_TESTED and early.bound == "at-least"
    unknown = only("40 Ah", run(41.0, 0.1, temperature_C=None))
    assert "temperature" not in [c.name for c in unknown.conditions]


@pytest.mark.parametrize("cause", ["operator", "log-end", "device-dropout"])
def test_a_stopped_test_is_a_bound_that_can_settle_met_and_nothing_else(cause: str) -> None:
    half = only("40 Ah", run(21.0, 0.1, end_V=13.1, ended_by=cause))
    assert half.outcome is Outcome.NOT_TESTED and half.bound == "at-least" and half.probability is None
    assert half.measured is not None and half.measured.value == 21.0 and "would settle it" in (half.advice or "")
    beyond = only("40 Ah", run(42.0, 0.1, end_V=12.6, ended_by=cause))
    assert beyond.outcome is Outcome.MET and beyond.bound == "at-least"
    just_there = only("40 Ah", run(40.0, 0.1, end_V=12.6, ended_by=cause))
    assert just_there.outcome is Outcome.NOT_TESTED, "neither beyond its doubt nor at its end"
    whole = only("40 Ah", run(21.0, 0.1, end_V=13.1, ended_by=cause), run(39.0, name="whole"))
    assert whole.outcome is Outcome.MISSED and whole.evidence == ("whole",) and whole.bound is None


def test_a_cut_off_above_the_claim_s_is_a_bound() -> None:
    claim = replace(parse_claim("40 Ah"), conditions={"cutoff_V": 10.0})
    for cut, outcome in ((10.1, Outcome.MISSED), (11.5, Outcome.NOT_TESTED)):
        verdict = judge(
            FAMILIES["lfp"], 40.0, [claim], [run(36.0, 0.05, end_V=cut, ended_by="set-cutoff")], School.STRICT
        )[0]
        assert verdict.outcome is outcome


def test_several_runs_share_their_meter_s_gain() -> None:
    one, two = run(40.4), run(40.5, name="second")
    verdict = only("40 Ah", one, two)
    assert verdict.measured is not None and verdict.measured.value == pytest.approx(40.45)
    # the shared 0.09 stays, the own 0.0436 averages: JCGM 100:2008, 5.2
    assert verdict.measured.standard == pytest.approx(np.hypot(0.09, 0.043589 / np.sqrt(2)), rel=1e-4)
    assert verdict.evidence == ("run", "second")
    apart = only("40 Ah", run(40.4), run(43.0, name="second"))
    assert "conflict" in (apart.advice or "")


def test_slips_awaiting_a_decision_settle_nothing() -> None:
    verdict = only("40 Ah", run(60.0, undecided="readings of the log wait for a decision"))
    assert verdict.outcome is Outcome.TOO_CLOSE and "wait for a decision" in (verdict.advice or "")


def test_the_cut_is_judged_within_what_a_label_means() -> None:
    assert implied_tolerance(parse_claim("cuts at 10 V")) == 0.5
    assert implied_tolerance(parse_claim("cuts at 10.5 V")) == pytest.approx(0.1)
    assert implied_tolerance(parse_claim("cuts at 10.5 ± 0.3 V")) == pytest.approx(0.3)
    assert implied_tolerance(parse_claim("5 kg")) == pytest.approx(0.1)


def test_things_measured_directly() -> None:
    weighed = MeasuredEvidence("scale", "mass", Quantity(4.36, 0.006, "kg"))
    assert only("4.4 kg", weighed).outcome is Outcome.MET
    assert only("3.9 kg", weighed).outcome is Outcome.MISSED
    handle = MeasuredEvidence("seen", "feature", Quantity(1.0, 0.0, ""))
    assert only("carrying handle", handle).outcome is Outcome.MET
    assert only("no handle", handle).outcome is Outcome.MISSED


def test_a_verdict_shows_its_whole_working() -> None:
    analysis = analyse(discharge(), Options(LFP, 40.0, INSTRUMENT, ambient_C=23.0))
    evidence = capacity_evidence("log.csv", analysis, 23.0)
    assert evidence is not None
    verdict = only("39 Ah", evidence)
    assert verdict.working is not None
    labels = [step.label for _, step in verdict.working.walk()]
    assert labels == ["Capacity: met", "Charge drawn", "Uncertainty"]
    data = verdict.as_dict()
    assert data["working"][0]["source"].startswith("JCGM 106:2012") and data["evidence"] == ["log.csv"]
    assert data["required"] == {
        "direction": "at-least",
        "value": 39.0,
        "tolerance": 0.0,
        "unit": "Ah",
        "shown": "39 Ah",
    }


def test_a_long_gap_leaves_open_what_it_may_hide_and_nothing_else() -> None:
    trace = discharge()
    keep = np.ones(len(trace), dtype=bool)
    keep[600:900] = False
    evidence = capacity_evidence("x", analyse(trace.taking(keep), Options(LFP, 40.0, INSTRUMENT)))
    assert evidence is not None and "gap" in evidence.undecided
    # 40 Ah with the current flowing through the gap, 33.3 Ah without: what lies between is open, the rest is not
    assert evidence.bridged_Ah == pytest.approx(8.0 * 3010.0 / 3600.0, rel=0.01)
    for claimed, outcome in (("33 Ah", "met"), ("34 Ah", "too-close"), ("39 Ah", "too-close"), ("41 Ah", "missed")):
        found = only(claimed, evidence)
        assert found.outcome.value == outcome and "gap" in str(found.advice), claimed
    assert [only(f"{wh} Wh", evidence).outcome.value for wh in (410, 450, 520)] == ["met", "too-close", "missed"]
    assert capacity_evidence("x", analyse(Trace(np.arange(9.0), np.full(9, 13.0), np.zeros(9)), Options(LFP))) is None


def _measured(random: Random, true_Ah: float) -> tuple[CapacityEvidence, float]:
    """A test of known truth, read by instruments whose errors are drawn from their specification."""
    amps = random.uniform(4.0, 12.0)
    base = discharge(amps, true_Ah / amps, interval_s=20.0, noise_A=0.002, seed=random.randrange(10**6), noise_V=0.002)
    shift = random.uniform(-9.9, 9.9)
    live = base.current > 1.0
    truth = float(np.sum(base.current[live])) * 20.0 / 3600.0
    gain, offset = 1 + random.uniform(-0.01, 0.01), random.uniform(-0.02, 0.02)
    current = np.where(live, base.current * gain + offset, 0.0)
    trace = replace(
        base,
        time_s=base.time_s + shift,
        current_A=np.round(current, 2),
        resolution={"voltage_V": 0.001, "current_A": 0.01},
    )
    instrument = Instrument(parse_accuracy("0.5%+2d"), parse_accuracy("1%+2d"), "meter")
    evidence = capacity_evidence("x", analyse(trace, Options(LFP, true_Ah, instrument)))
    assert evidence is not None
    return evidence, truth


def test_intervals_cover_the_truth_about_as_often_as_they_say() -> None:
    # JCGM 100:2008, 6.2: U = 2u covers about 95 %; two uniform limits, gain dominating, cover a little more
    random = Random(2026)
    covered = 0
    ratios = []
    for _ in range(some(120, 2000)):
        evidence, truth = _measured(random, random.uniform(20.0, 60.0))
        assert evidence.charge.standard is not None
        error = evidence.charge.value - truth
        covered += abs(error) <= 2 * evidence.charge.standard
        ratios.append(error / evidence.charge.standard)
    assert 0.92 <= covered / len(ratios) <= 1.0
    assert 0.85 < np.std(ratios) < 1.1, "neither too wide nor too narrow"


def test_verdicts_are_seldom_wrong() -> None:
    random = Random(7)
    wrong = settled = 0
    count = some(80, 200)
    for _ in range(count):
        evidence, truth = _measured(random, random.uniform(38.5, 41.5))
        outcome = only("40 Ah", replace(evidence, mean_current_A=8.0, rates=(8.0,), temperature_C=None)).outcome
        if outcome in {Outcome.MET, Outcome.MISSED}:
            settled += 1
            wrong += (outcome is Outcome.MET) is not (truth >= 40.0)
    assert settled > 0.3 * count and wrong <= 0.06 * settled
