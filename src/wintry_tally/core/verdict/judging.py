"""Judging claims: one function a way of settling, chosen by the claim's kind."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from wintry_tally.core.battery import Claim, Direction, Family
from wintry_tally.core.quantity import Quantity, combine_linear, format_plain, format_quantity
from wintry_tally.core.verdict.effects import cutoff_condition, rate_condition, temperature_condition
from wintry_tally.core.verdict.evidence import CapacityEvidence, MeasuredEvidence
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS, SCHOOL_WORDS, Condition, Outcome, School, Verdict
from wintry_tally.core.verdict.probability import MET_AT, MISSED_AT, conformity, outcome_by
from wintry_tally.core.working import Working

Evidence = CapacityEvidence | MeasuredEvidence


@dataclass(frozen=True)
class Case:
    """Everything a judging function may look at."""

    claim: Claim
    family: Family
    rated_Ah: float | None
    evidence: tuple[Evidence, ...]
    school: School

    @property
    def capacity_runs(self) -> list[CapacityEvidence]:
        """The capacity tests among the evidence."""
        return [item for item in self.evidence if isinstance(item, CapacityEvidence)]

    def measured(self, kind: str) -> list[MeasuredEvidence]:
        """Direct measurements of a kind."""
        return [item for item in self.evidence if isinstance(item, MeasuredEvidence) and item.kind == kind]


def judge(
    family: Family,
    rated_Ah: float | None,
    claims: Sequence[Claim],
    evidence: Sequence[Evidence],
    school: School = School.STRICT,
) -> list[Verdict]:
    """A verdict for every claim, in their order; a claim without evidence is not tested, never dropped."""
    return [_judge_one(Case(claim, family, rated_Ah, tuple(evidence), school)) for claim in claims]


def _judge_one(case: Case) -> Verdict:
    kind = case.claim.definition
    direct = case.measured(kind.key)
    if direct:
        return _by_measurement(case, direct)
    if kind.beyond:
        return Verdict(
            case.claim,
            Outcome.CANNOT_TEST,
            advice=kind.beyond,
            working=Working(kind.label, "", {}, OUTCOME_WORDS[Outcome.CANNOT_TEST], kind.beyond),
        )
    settle = SETTLERS.get(kind.key)
    verdict = settle(case) if settle is not None else None
    if verdict is not None:
        return verdict
    way = {"capacity": "run a capacity test", "measured": "measure it and enter the value"}.get(
        kind.evidence, f"it needs {_article(kind.evidence)} test"
    )
    return Verdict(
        case.claim,
        Outcome.NOT_TESTED,
        advice=way,
        working=Working(kind.label, "", {}, OUTCOME_WORDS[Outcome.NOT_TESTED], f"To settle it: {way}."),
    )


def _article(word: str) -> str:
    return f"{'an' if word[:1] in 'aeiou' else 'a'} {word}"


def _capacity(case: Case) -> Verdict | None:
    return _amount(case, lambda run: run.charge, lambda run: run.charge_step)


def _energy(case: Case) -> Verdict | None:
    return _amount(case, lambda run: run.energy, lambda run: run.energy_step)


def _amount(
    case: Case, pick: Callable[[CapacityEvidence], Quantity], step: Callable[[CapacityEvidence], Working]
) -> Verdict | None:
    """Charge or energy of one or more capacity tests against the claim."""
    runs = case.capacity_runs
    if not runs or case.claim.value is None:
        return None
    measured, steps, notes = _combined(runs, pick, step)
    rated = case.rated_Ah
    conditions: list[Condition] = []
    latest = runs[-1]
    if rated:
        maybe = [
            rate_condition(case.family, case.claim, latest, rated, measured.value),
            temperature_condition(case.family, case.claim, latest, measured.value),
            cutoff_condition(case.family, case.claim, latest, measured.value),
        ]
        conditions = [condition for condition in maybe if condition is not None]
    undecided = next((run.undecided for run in runs if run.undecided), "")
    return _decide(case, measured, steps, conditions, tuple(run.name for run in runs), notes, undecided)


def _combined(
    runs: Sequence[CapacityEvidence],
    pick: Callable[[CapacityEvidence], Quantity],
    step: Callable[[CapacityEvidence], Working],
) -> tuple[Quantity, list[Working], list[str]]:
    if len(runs) == 1:
        return pick(runs[0]), [step(runs[0])], []
    share = 1.0 / len(runs)
    quantities = [pick(run) for run in runs]
    mean = combine_linear([(share, quantity) for quantity in quantities], quantities[0].unit)
    notes = []
    for index in range(1, len(runs)):
        apart = combine_linear([(1.0, quantities[index]), (-1.0, quantities[0])], quantities[0].unit)
        if apart.standard is not None and abs(apart.value) > 2.0 * apart.standard + 0.01 * abs(mean.value):
            notes.append(
                f"{runs[index].name} and {runs[0].name} differ by {format_quantity(apart)}, more than their own doubt: "
                "they conflict"
            )
    working = Working(
        "Mean of the runs",
        "y = Σ y_i / n; errors of one meter are shared by its runs and do not average out",
        {run.name: format_quantity(quantity) for run, quantity in zip(runs, quantities, strict=True)},
        format_quantity(mean),
        "JCGM 100:2008, 5.2",
        tuple(step(run) for run in runs),
    )
    return mean, [working], notes


def _low_voltage_cut(case: Case) -> Verdict | None:
    cuts = [run for run in case.capacity_runs if run.cut is not None]
    if not cuts or case.claim.value is None:
        return None
    run = cuts[-1]
    assert run.cut is not None
    steps = [
        Working(
            "Voltage at which the protection opened",
            "the last reading under load",
            {"run": run.name, "current": f"{run.mean_current_A:.2f} A"},
            format_quantity(run.cut),
            "common practice",
        )
    ]
    return _decide(case, run.cut, steps, [], (run.name,), [], "")


def _by_measurement(case: Case, direct: Sequence[MeasuredEvidence]) -> Verdict:
    latest = direct[-1]
    step = latest.step or Working(
        case.claim.definition.label, "as measured", {"from": latest.name}, format_quantity(latest.quantity)
    )
    if case.claim.value is None:
        holds = bool(latest.quantity.value) == (case.claim.wanted is not False)
        return Verdict(
            case.claim,
            Outcome.MET if holds else Outcome.MISSED,
            latest.quantity,
            1.0 if holds else 0.0,
            evidence=(latest.name,),
            working=step,
        )
    return _decide(case, latest.quantity, [step], [], (latest.name,), [], "")


SETTLERS: dict[str, Callable[[Case], Verdict | None]] = {
    "capacity": _capacity,
    "energy": _energy,
    "low-voltage-cut": _low_voltage_cut,
}
"""How each kind is settled from tests; kinds measured directly need no line here."""


def implied_tolerance(claim: Claim) -> float:
    """Half-width meant by a value printed without one: half its last digit, but 0.1 V or 2 % at least.

    Source: common practice, no published source.
    """
    if claim.tolerance or claim.value is None or claim.direction not in {Direction.WITHIN, Direction.IS}:
        return claim.tolerance
    text = f"{claim.value:g}"
    decimals = len(text.split(".")[1]) if "." in text and "e" not in text else 0
    least = 0.1 if claim.unit == "V" else 0.02 * abs(claim.value)
    return max(0.5 * 10.0**-decimals if claim.unit == "V" else 0.0, least)


def _decide(
    case: Case,
    measured: Quantity,
    steps: list[Working],
    conditions: list[Condition],
    evidence: tuple[str, ...],
    notes: list[str],
    undecided: str,
) -> Verdict:
    """Probability with and without the effect of unlike conditions; the less certain of the two counts."""
    claim, school = case.claim, case.school
    assert claim.value is not None
    tolerance = implied_tolerance(claim)
    effects = [condition.effect for condition in conditions if condition.effect is not None]
    shift = math.fsum(effect.value for effect in effects)
    spread = math.sqrt(math.fsum((effect.standard or 0.0) ** 2 for effect in effects))
    as_measured = adjusted = None
    probability: float | None = None
    if measured.standard is not None:
        as_measured = conformity(measured.value, measured.standard, claim.value, claim.direction, tolerance)
        probability = as_measured
        if effects:
            adjusted = conformity(
                measured.value + shift, math.hypot(measured.standard, spread), claim.value, claim.direction, tolerance
            )
            probability = min((as_measured, adjusted), key=lambda p: abs(p - 0.5))
    outcome = outcome_by(school, measured.value, probability, claim.value, claim.direction, tolerance)
    if school is School.STRICT and as_measured is not None and adjusted is not None:
        apart = outcome_by(school, measured.value, as_measured, claim.value, claim.direction, tolerance)
        also = outcome_by(school, measured.value, adjusted, claim.value, claim.direction, tolerance)
        if apart != also:
            outcome = Outcome.TOO_CLOSE
    advice = _advice(case, measured, outcome, shift, spread, undecided)
    if undecided:
        outcome = Outcome.TOO_CLOSE
    if notes:
        advice = "; ".join([*notes, *([advice] if advice else [])])
    working = _working(case, measured, tolerance, steps, conditions, as_measured, adjusted, probability, outcome)
    return Verdict(claim, outcome, measured, probability, tuple(conditions), evidence, advice, working)


def _working(
    case: Case,
    measured: Quantity,
    tolerance: float,
    steps: list[Working],
    conditions: list[Condition],
    as_measured: float | None,
    adjusted: float | None,
    probability: float | None,
    outcome: Outcome,
) -> Working:
    claim = case.claim
    assert claim.value is not None
    sign = {"at-least": "≥", "at-most": "≤", "within": "within", "is": "="}[claim.direction.value]
    claimed = f"{sign} {format_plain(claim.value, claim.unit)}"
    if claim.direction in {Direction.WITHIN, Direction.IS}:
        claimed += f" ± {format_plain(tolerance, claim.unit)}"
        if not claim.tolerance:
            claimed += " (no tolerance printed: half the last digit, 0.1 V or 2 % at least)"
    formula = {"at-least": "p = Φ((y − T) / u)", "at-most": "p = Φ((T − y) / u)"}.get(
        claim.direction.value, "p = Φ((T + a − y) / u) − Φ((T − a − y) / u)"
    )
    inputs = {"claimed": claimed, "measured y": format_quantity(measured)}
    inputs["u"] = "unknown" if measured.standard is None else f"{measured.standard:.3g} {measured.unit}"
    if as_measured is not None:
        inputs["p as measured"] = f"{as_measured:.3f}"
    if adjusted is not None:
        inputs["p with the conditions' effect"] = f"{adjusted:.3f}"
    parts = list(steps)
    for condition in conditions:
        if condition.effect is not None:
            parts.append(
                Working(
                    f"Effect of unlike conditions: {condition.name}",
                    "estimated and shown beside; the number stays as measured",
                    {"claimed or usual": f"{condition.claimed}", "this test": f"{condition.actual}"},
                    f"would be {'+' if condition.effect.value >= 0 else ''}{format_quantity(condition.effect)}",
                    "Peukert (1897) for the rate; IEC 60095-1 for lead-acid temperature; else common practice",
                )
            )
    shown = "no probability without the instrument's accuracy" if probability is None else f"p = {probability:.3f}"
    return Working(
        f"{claim.definition.label}: {OUTCOME_WORDS[outcome].lower()}",
        formula,
        inputs,
        f"{shown}; {OUTCOME_WORDS[outcome].lower()} ({case.school.value}: {SCHOOL_WORDS[case.school]})",
        "JCGM 106:2012, clause 7 (from memory)",
        tuple(parts),
    )


def _advice(
    case: Case, measured: Quantity, outcome: Outcome, shift: float, spread: float, undecided: str
) -> str | None:
    if undecided:
        return undecided
    if measured.standard is None:
        return "give the instrument's accuracy (from its manual), so that the doubt is known"
    if outcome is not Outcome.TOO_CLOSE:
        return None
    assert case.claim.value is not None
    margin = abs(measured.value - case.claim.value)
    if max(abs(shift), spread) > measured.standard:
        return "repeat the test at the claim's own rate, temperature and cut-off; the conditions leave more doubt than the meters"
    wanted = margin / 1.645
    if measured.value and wanted > 0:
        percent = 100.0 * wanted * math.sqrt(3.0) / abs(measured.value)
        largest = max(measured.terms, key=lambda term: abs(term.standard), default=None)
        name = f"; most of the doubt is the {largest.name}" if largest is not None else ""
        if percent >= 0.05:
            return f"instruments good to about {percent:.1g} % together would settle this{name}"
    return f"it lies on the limit: no usual meter settles it (met needs p ≥ {MET_AT}, missed p ≤ {MISSED_AT})"
