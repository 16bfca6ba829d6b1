"""Several units of one model: how far they are apart, whether one is weak, and what that says of the model at large."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from wintry_tally.core.battery import Claim, Family
from wintry_tally.core.compare.comparing import SPREAD_OF, Comparison, Row
from wintry_tally.core.compare.figures import QUANTITIES
from wintry_tally.core.quantity import Quantity, Term, combine_linear, format_quantity
from wintry_tally.core.verdict import School, Verdict
from wintry_tally.core.verdict.deciding import implied_tolerance
from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.core.verdict.probability import chance_of, outcome_by
from wintry_tally.core.working import Working

OF_MODEL = ("charge", "energy", "mean-voltage", "resistance", "recharge-time", "cold-loss", "self-discharge", "mass")
"""Quantities in which units of one model differ."""
CLAIMED = ("capacity", "energy", "reserve", "runtime", "charge-time", "self-discharge", "cold-loss", "mass")
WORTH = 4.0
"""The usual spread between units counts like this many more units of the model; common practice, no published source."""
WEAK_AT, APART_AT = 0.01, 0.05
"""A unit is called weak where fewer than one in a hundred lots of so many units would have one so low; two are apart where one pair in
twenty would be. Common practice, no published source."""


@dataclass(frozen=True)
class ModelRow:
    """One quantity over the units of a model.

    Parts:
        values: by code, brought to the first's conditions; mean: of these units, by the meters alone.
        model: of the model at large: the doubt of so few units in it. spread: between units, one standard deviation, as
        a share: seen, with its 95 % interval (high None where two or three say next to nothing), and the one reckoned with.
        weak: the unit that stands out to the worse, and how rare that would be; "" where none does.
        apart: two units further apart than two of one model usually are, with no telling which is unusual.
    """

    quantity: str
    label: str
    values: Mapping[str, Quantity]
    mean: Quantity
    model: Quantity
    seen: float
    low: float
    high: float | None
    reckoned: float
    weak: str
    rarity: float | None
    apart: bool
    working: Working


@dataclass(frozen=True)
class ModelClaim:
    """A claim held against the model at large."""

    claim: Claim
    outcome: Outcome
    probability: float | None
    model: Quantity
    units: tuple[str, ...]
    working: Working


def model_rows(found: Comparison, family: Family) -> tuple[ModelRow, ...]:
    """What several units of one model say of it, for every quantity that two of them have."""
    made = [_row(row, family) for row in found.rows if row.quantity in OF_MODEL]
    return tuple(one for one in made if one is not None)


def _row(row: Row, family: Family) -> ModelRow | None:
    values = {code: _alike(row, code, value) for code, value in row.values.items() if value is not None}
    if len(values) < 2 or any(value.standard is None for value in values.values()):
        return None
    usual = SPREAD_OF.get(row.quantity, family.unit_spread)
    mean = _mean(list(values.values()))
    seen, low, high = _seen(list(values.values()))
    reckoned = _reckoned(list(values.values()), usual)
    model = _at_large(mean, reckoned, len(values))
    weak, rarity, apart = _weak(values, usual, QUANTITIES[row.quantity].better)
    size = abs(mean.value) or 1.0
    return ModelRow(
        row.quantity, row.label, values, mean, model, seen / size, low / size, None if high is None else high / size,
        reckoned / size, weak, rarity, apart, _working(row.label, values, mean, model, seen / size, reckoned / size, usual),
    )  # fmt: skip


def _alike(row: Row, code: str, value: Quantity) -> Quantity:
    """A unit's value brought to the first's conditions, with the doubt of that as its own."""
    effects = [one.effects[code] for one in row.unlike if one.effects.get(code) is not None]
    if not effects or value.standard is None:
        return value
    own = [Term("unlike conditions", effect.standard or 0.0) for effect in effects if effect is not None]
    moved = value.value + math.fsum(effect.value for effect in effects if effect is not None)
    return Quantity.from_terms(moved, value.unit, [*(value.terms or (Term("as given", value.standard),)), *own])


def _mean(values: Sequence[Quantity]) -> Quantity:
    return combine_linear([(1.0 / len(values), value) for value in values], values[0].unit)


def _own(values: Sequence[Quantity]) -> float:
    """Mean variance of what the values do not share."""
    each = [
        math.fsum(term.standard**2 for term in value.terms if not term.shared)
        if value.terms
        else (value.standard or 0.0) ** 2
        for value in values
    ]
    return math.fsum(each) / len(each)


def _seen(values: Sequence[Quantity]) -> tuple[float, float, float | None]:
    """The spread between units as seen, what meters add taken off, and its 95 % interval by chi square.

    Source: interval of a variance, as in textbooks of statistics (from memory).
    """
    from scipy.special import gammaincinv

    free = len(values) - 1
    middle = math.fsum(value.value for value in values) / len(values)
    variance = math.fsum((value.value - middle) ** 2 for value in values) / free
    own = _own(values)
    below, above = (2.0 * float(gammaincinv(free / 2.0, share)) for share in (0.025, 0.975))
    low, high = (math.sqrt(max(0.0, variance * free / chi - own)) for chi in (above, below))
    return math.sqrt(max(0.0, variance - own)), low, high if free > 1 else None


def _reckoned(values: Sequence[Quantity], usual: float) -> float:
    """The spread that is reckoned with: the one seen, and the usual one as so many units' worth beside it."""
    free = len(values) - 1
    middle = math.fsum(value.value for value in values) / len(values)
    seen = 0.0
    if free:
        seen = max(0.0, math.fsum((value.value - middle) ** 2 for value in values) / free - _own(values))
    return math.sqrt((free * seen + WORTH * (usual * middle) ** 2) / (free + WORTH))


def _at_large(mean: Quantity, spread: float, units: int) -> Quantity:
    terms = mean.terms or (Term("as given", mean.standard or 0.0),)
    return Quantity.from_terms(mean.value, mean.unit, [*terms, Term("so few units", spread / math.sqrt(units))])


def _weak(values: Mapping[str, Quantity], usual: float, way: int) -> tuple[str, float | None, bool]:
    """The unit that stands out of the others to the worse, how rare that is, and whether two are too far apart."""
    from scipy.special import stdtr

    found: list[tuple[float, str]] = []
    for code, value in values.items():
        others = [other for name, other in values.items() if name != code]
        off = combine_linear([(1.0, value), *((-1.0 / len(others), other) for other in others)], value.unit)
        spread = _reckoned(others, usual) * math.sqrt(1.0 + 1.0 / len(others))
        doubt = math.hypot(off.standard or 0.0, spread)
        # the spread itself is known from so few units: Student's t
        free = len(others) - 1 + WORTH
        found.append((float(stdtr(free, (way or 1) * off.value / doubt)) if doubt else 0.5, code))
    rarity, code = min(found)
    if len(values) == 2:
        return "", None, min(rarity, 1.0 - max(share for share, _ in found)) < 0.5 * APART_AT
    weak = bool(way) and rarity * len(values) < WEAK_AT  # one of several is lowest
    return (code if weak else ""), (rarity if weak else None), False


def model_claims(verdicts: Mapping[str, Sequence[Verdict]], family: Family, school: School) -> tuple[ModelClaim, ...]:
    """The claims that two units or more have in common, held against the model at large by the decision rule."""
    first, *_ = verdicts.values()
    made = []
    for wanted in (one.claim for one in first if one.claim.kind in CLAIMED and one.claim.value is not None):
        found = {code: value for code, own in verdicts.items() if (value := _measured(own, wanted)) is not None}
        if len(found) < 2 or wanted.value is None:
            continue
        mean = _mean(list(found.values()))
        spread = _reckoned(list(found.values()), SPREAD_OF.get(wanted.kind, family.unit_spread))
        model, tolerance = _at_large(mean, spread, len(found)), implied_tolerance(wanted)
        chance = chance_of(model.value, model.standard or 0.0, wanted.value, wanted.direction, tolerance)
        outcome = outcome_by(school, model.value, chance, wanted.value, wanted.direction, tolerance)
        told = {code: format_quantity(wanted.shown(value)) for code, value in found.items()}
        told |= {"of the model": format_quantity(wanted.shown(model)), "P": f"{chance.holds:.3f}"}
        step = Working(
            f"{wanted.definition.label} of the model", "P that the model's mean conforms; u² = u_mean² + s² / n", told,
            outcome.value.replace("-", " "), "JCGM 106:2012, clause 7 (from memory)",
        )  # fmt: skip
        made.append(ModelClaim(wanted, outcome, chance.holds, model, tuple(found), step))
    return tuple(made)


def _measured(verdicts: Sequence[Verdict], wanted: Claim) -> Quantity | None:
    """What a unit's verdict on the same claim measured, at the claim's conditions; None where it is no value."""
    for verdict in verdicts:
        claim = verdict.claim
        same = (claim.kind, claim.value, claim.direction) == (wanted.kind, wanted.value, wanted.direction)
        if not same or claim.conditions != wanted.conditions or verdict.measured is None or verdict.bound:
            continue
        if verdict.outcome not in {Outcome.MET, Outcome.MISSED, Outcome.TOO_CLOSE} or verdict.measured.standard is None:
            continue
        effects = [one.effect for one in verdict.conditions if one.effect is not None]
        terms = verdict.measured.terms or (Term("as given", verdict.measured.standard),)
        own = [Term("unlike conditions", effect.standard or 0.0) for effect in effects]
        moved = verdict.measured.value + math.fsum(effect.value for effect in effects)
        return Quantity.from_terms(moved, verdict.measured.unit, [*terms, *own])
    return None


def _working(
    label: str,
    values: Mapping[str, Quantity],
    mean: Quantity,
    model: Quantity,
    seen: float,
    reckoned: float,
    usual: float,
) -> Working:
    return Working(
        f"{label} of the model", "mean of its units; u² = u_mean² + s² / n, s² = ((n − 1) s_seen² + 4 s_usual²) / (n + 3)",
        {
            **{code: format_quantity(value) for code, value in values.items()}, "mean of these": format_quantity(mean),
            "spread seen": f"{100 * seen:.2g} %", "usual spread": f"{100 * usual:.2g} %", "reckoned with": f"{100 * reckoned:.2g} %",
        },
        format_quantity(model), "JCGM 100:2008, 5.2; the usual spread: common practice, no published source",
    )  # fmt: skip
