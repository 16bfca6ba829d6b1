"""From a measured figure to an outcome: probability, the effect of unlike conditions, working and advice."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import replace

from wintry_tally.core.battery import Claim, Direction
from wintry_tally.core.message import NOTHING, Message, said, several
from wintry_tally.core.quantity import Quantity, format_plain, format_quantity
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.effects import LAST_READING, UNSEEN
from wintry_tally.core.verdict.leads import LEADS, LEADS_AT_END
from wintry_tally.core.verdict.outcome import (
    OUTCOME_WORDS,
    RULE_NAMES,
    SCHOOL_WORDS,
    Condition,
    Outcome,
    School,
    Verdict,
)
from wintry_tally.core.verdict.probability import MISSED_AT, Chance, chance_of, outcome_by
from wintry_tally.core.verdict.settling import settling_words
from wintry_tally.core.working import Working


def implied_tolerance(claim: Claim) -> float:
    """Half-width meant by a value printed without one: half its last digit, but 0.1 V or 2 % at least.

    For temperatures 2 K; for a price half its last digit. Source: common practice, no published source.
    """
    if claim.tolerance or claim.value is None or claim.direction not in {Direction.WITHIN, Direction.IS}:
        return claim.tolerance
    text = f"{claim.value:g}"
    decimals = len(text.split(".")[1]) if "." in text and "e" not in text else 0
    if claim.kind == "price":
        return 0.5 * 10.0**-decimals
    least = {"V": 0.1, "°C": 2.0}.get(claim.unit, 0.02 * abs(claim.value))
    return max(0.5 * 10.0**-decimals if claim.unit == "V" else 0.0, least)


def decide(
    case: Case,
    measured: Quantity,
    steps: list[Working],
    conditions: list[Condition],
    evidence: tuple[str, ...],
    notes: list[Message],
    undecided: Message,
) -> Verdict:
    """Probability with and without the effect of unlike conditions; the less certain of the two counts.

    What may be anything from nothing to a most is looked at with either.
    """
    claim, school = case.claim, case.school
    tolerance = implied_tolerance(claim)
    effects = [condition.effect for condition in conditions if condition.effect is not None]
    shift = math.fsum(effect.value for effect in effects)
    spread = math.sqrt(math.fsum((effect.standard or 0.0) ** 2 for effect in effects))
    likely = [one.effect for one in conditions if one.effect is not None and not one.most]
    moved = math.fsum(effect.value for effect in likely)
    around = math.fsum((effect.standard or 0.0) ** 2 for effect in likely)
    ends = {0.0, math.fsum(one.most for one in conditions)}
    as_measured = adjusted = chance = None
    every: list[Chance] = []
    if measured.standard is not None:
        chance = as_measured = chance_of(measured.value, measured.standard, claim.figure, claim.direction, tolerance)
        if effects:
            wide = math.sqrt(measured.standard**2 + around)
            every = [
                chance_of(measured.value + moved + end, wide, claim.figure, claim.direction, tolerance) for end in ends
            ]
            adjusted = min(every, key=_sureness)
            chance = min((as_measured, adjusted), key=_sureness)
    outcome = outcome_by(school, measured.value, chance, claim.figure, claim.direction, tolerance)
    if school is School.STRICT and as_measured is not None and every:
        each = (as_measured, *every)
        if len({outcome_by(school, measured.value, one, claim.figure, claim.direction, tolerance) for one in each}) > 1:
            outcome = Outcome.TOO_CLOSE
    probability = None if chance is None else chance.holds
    advice = _advice(case, measured, outcome, shift, spread, undecided, conditions)
    if undecided:
        outcome = Outcome.TOO_CLOSE
    if notes:
        advice = several([*notes, *([advice] if advice else [])])
    working = _working(case, measured, tolerance, steps, conditions, as_measured, adjusted, probability, outcome)
    return Verdict(
        claim, outcome, measured, probability, tuple(conditions), evidence, advice, working, barred=undecided
    )


def _sureness(chance: Chance) -> float:
    return abs(chance.holds - 0.5)


def _working(
    case: Case,
    measured: Quantity,
    tolerance: float,
    steps: list[Working],
    conditions: list[Condition],
    as_measured: Chance | None,
    adjusted: Chance | None,
    probability: float | None,
    outcome: Outcome,
) -> Working:
    claim = case.claim
    sign = {"at-least": "≥", "at-most": "≤", "within": "within", "is": "="}[claim.direction.value]
    wanted, width = (claim.shown(Quantity(value, 0.0, claim.unit)) for value in (claim.figure, tolerance))
    claimed = f"{sign} {format_plain(wanted.value, wanted.unit)}"
    if claim.direction in {Direction.WITHIN, Direction.IS}:
        claimed += f" ± {format_plain(width.value, width.unit)}"
        if not claim.tolerance:
            claimed += " (no tolerance printed: half the last digit, and at least 0.1 V, 2 K or 2 %)"
    formula = {"at-least": "p = Φ((y − T) / u)", "at-most": "p = Φ((T − y) / u)"}.get(
        claim.direction.value, "p = Φ((T + a − y) / u) − Φ((T − a − y) / u)"
    )
    shown = claim.shown(measured)
    inputs = {"claimed": claimed, "measured y": format_quantity(shown)}
    inputs["u"] = "unknown" if shown.standard is None else f"{shown.standard:.3g} {shown.unit}"
    if as_measured is not None:
        inputs["p as measured"] = f"{as_measured.holds:.3f}"
    if adjusted is not None:
        inputs["p with the conditions' effect"] = f"{adjusted.holds:.3f}"
    parts = list(steps)
    for condition in conditions:
        if condition.effect is not None:
            parts.append(
                Working(
                    f"Effect of unlike conditions: {condition.name}",
                    "both its ends are looked at; the number stays as measured"
                    if condition.most
                    else "estimated and shown beside; the number stays as measured",
                    {"claimed or usual": f"{condition.claimed}", "this test": said_of(condition.actual)},
                    _effect_words(claim, condition),
                    "Peukert (1897) for the rate; IEC 60095-1 for lead-acid temperature; else common practice",
                )
            )
    chance = "no probability without the instrument's accuracy" if probability is None else f"p = {probability:.3f}"
    if as_measured is not None and as_measured.holds <= MISSED_AT and as_measured.beyond < 1.0 - MISSED_AT:
        chance += ", and as little is shown of either side of what is claimed"
    return Working(
        f"{claim.definition.label}: {OUTCOME_WORDS[outcome].lower()}",
        formula,
        inputs,
        f"{chance}; {OUTCOME_WORDS[outcome].lower()} ({RULE_NAMES[case.school]}: {SCHOOL_WORDS[case.school]})",
        "JCGM 106:2012, clause 7 (from memory)",
        tuple(parts),
    )


def _effect_words(claim: Claim, condition: Condition) -> str:
    assert condition.effect is not None
    sign = "+" if condition.effect.value >= 0 else ""
    if condition.most:
        most = claim.shown(Quantity(condition.most, None, condition.effect.unit))
        return f"anything up to {sign}{format_plain(most.value, most.unit)}"
    return f"would be {sign}{format_quantity(claim.shown(condition.effect))}"


def said_of(value: float | str | None) -> str:
    """A condition as a test had it, in words."""
    return "not known" if value is None else f"{value}"


def _advice(
    case: Case,
    measured: Quantity,
    outcome: Outcome,
    shift: float,
    spread: float,
    undecided: Message,
    conditions: Sequence[Condition],
) -> Message | None:
    if undecided:
        return undecided
    if measured.standard is None:
        return said("give-accuracy")
    if outcome is not Outcome.TOO_CLOSE:
        return None
    telling = (
        [one for one in conditions if one.effect is not None] if max(abs(shift), spread) > measured.standard else []
    )
    if any(one.name in {LEADS, LEADS_AT_END} for one in telling):
        return said("read-at-terminals")
    if any(one.name == UNSEEN for one in telling):
        return said("log-from-full")
    if any(one.name == LAST_READING for one in telling):
        return said("read-the-end")
    if any(one.actual is None for one in telling):
        return said("say-how-warm")
    if max(abs(shift), spread) > measured.standard:
        return said("repeat-as-claimed")
    wide = implied_tolerance(case.claim)
    return settling_words(measured, tuple({case.claim.figure - wide, case.claim.figure + wide}))


def by_probability(
    case: Case,
    measured: Quantity | None,
    probability: float | None,
    step: Working,
    evidence: tuple[str, ...],
    advice: Message | None = None,
    conditions: tuple[Condition, ...] = (),
    undecided: Message = NOTHING,
    refutable: bool = True,
) -> Verdict:
    """An outcome for a claim that is not one number against another: a block seen, a current held.

    `probability` is that the claim holds; None where the evidence leaves it open. Where it is small and yet nothing rules
    the claim out, it is not `refutable`.
    """
    if probability is None:
        outcome = Outcome.TOO_CLOSE
    elif case.school is School.STRICT:
        chance = Chance(probability, 1.0 - probability if refutable else 0.0)
        outcome = outcome_by(case.school, 0.0, chance, 0.0, case.claim.direction, 0.0)
    else:
        outcome = Outcome.MET if probability >= 0.5 else Outcome.MISSED
    if undecided:
        outcome, advice = Outcome.TOO_CLOSE, undecided
    words = OUTCOME_WORDS[outcome].lower()
    shown = "left open by this evidence" if probability is None else f"p = {probability:.3f}"
    working = Working(
        f"{case.claim.definition.label}: {words}",
        step.formula,
        dict(step.inputs),
        f"{shown}; {words} ({RULE_NAMES[case.school]}: {SCHOOL_WORDS[case.school]})",
        step.source,
        (step,),
    )
    return Verdict(case.claim, outcome, measured, probability, conditions, evidence, advice, working, barred=undecided)


def not_settled(case: Case, why: Message, names: tuple[str, ...], measured: Quantity | None = None) -> Verdict:
    """Evidence there is, but it does not speak to this claim; the advice says what would."""
    working = Working(case.claim.definition.label, "", {}, OUTCOME_WORDS[Outcome.NOT_TESTED], why)
    return Verdict(case.claim, Outcome.NOT_TESTED, measured, None, (), names, why, working)


def first_settled(found: Iterable[Verdict]) -> Verdict | None:
    """The first that settles the claim; of those that do not, the first."""
    seen: list[Verdict] = []
    for verdict in found:
        if verdict.outcome is not Outcome.NOT_TESTED:
            return verdict
        seen.append(verdict)
    return seen[0] if seen else None


BOUNDS = {
    "at-least": {Outcome.MET: Direction.AT_LEAST, Outcome.MISSED: Direction.AT_MOST},
    "at-most": {Outcome.MET: Direction.AT_MOST, Outcome.MISSED: Direction.AT_LEAST},
}
"""What a bound can settle: a claim of its own direction as met, one of the other as missed; nothing else."""


def as_bound(case: Case, verdict: Verdict, bound: str, why: Message, settles: Message) -> Verdict:
    """A verdict whose measurement is a bound: it can settle what BOUNDS says; else nothing was settled.

    `why` it is no more than a bound, and what `settles` it, stand in the advice.
    """
    if BOUNDS[bound].get(verdict.outcome) is case.claim.direction:
        return replace(verdict, bound=bound)
    told = said("a-bound", why=why, settles=settles)
    if verdict.barred and verdict.barred != why:
        told = said("a-bound-barred", barred=verdict.barred, why=why, settles=settles)
    untested = OUTCOME_WORDS[Outcome.NOT_TESTED].lower()
    working = verdict.working and replace(
        verdict.working, label=f"{case.claim.definition.label}: {untested}", result=f"a bound and no more; {untested}"
    )
    return replace(verdict, outcome=Outcome.NOT_TESTED, probability=None, advice=told, bound=bound, working=working)
