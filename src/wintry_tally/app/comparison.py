"""Samples of a book side by side, and held against needs: one way for window, report and shell."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from random import Random
from typing import TYPE_CHECKING, Any

import numpy as np

from wintry_tally.core.cell import Parameters, aged, parameters_for
from wintry_tally.core.compare import (
    Comparison,
    Need,
    NeedResult,
    Tested,
    compare_samples,
    figures_of,
    judge_need,
    share_held,
)
from wintry_tally.core.compare.model import ModelClaim, ModelRow, model_claims, model_rows
from wintry_tally.core.compare.money import Bill
from wintry_tally.core.compare.need import USUAL_V
from wintry_tally.core.quantity import Quantity, format_quantity
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS
from wintry_tally.core.working import Working
from wintry_tally.report.words import bill_lines

if TYPE_CHECKING:
    from wintry_tally.core.battery import Sample
    from wintry_tally.report.dossier import Dossier, RunReport

SCHEMA = "wintry-tally.comparison/2"
COLD_C = 10.0


def tested(dossier: Dossier) -> list[Tested]:
    """The runs of a sample that count."""
    return [one for run in dossier.runs if (one := as_tested(run)) is not None]


def held_by(dossier: Dossier | None) -> float:
    """What a sample is known to hold, as a share of a usual battery of its rating; see `core.compare.share_held`."""
    if dossier is None:
        return 1.0
    return share_held(tested(dossier), dossier.sample.family, dossier.sample.rated_Ah)


def held_words(dossier: Dossier | None, moved_Ah: float) -> str:
    """A sentence to stand behind a forecast; nothing where no test says what it holds, or where that hardly matters."""
    held = held_by(dossier)
    little = dossier is not None and moved_Ah < 0.5 * held * (dossier.sample.rated_Ah or 0.0)
    return (
        ""
        if held == 1.0 or little
        else f" By its last whole discharge it holds {100.0 * held:.0f} % of what is usual for its rating."
    )


def health_of_stand_in(dossier: Dossier | None, seed: int) -> float:
    """What a battery that stands in for a sample holds, as a share: as its last test says, and never quite the same; near its
    rating where there is none. Whoever tests it is not told."""
    held, chance = held_by(dossier), Random(seed)
    return chance.uniform(0.95, 1.04) if held == 1.0 else held * chance.gauss(1.0, 0.005)


def battery_of(sample: Sample, dossier: Dossier | None) -> Parameters:
    """The battery model of a sample, as its tests so far have it; as a usual one of its rating where there is none."""
    return aged(parameters_for(sample.family, sample.rated_Ah or 1.0), held_by(dossier))


def as_tested(run: RunReport) -> Tested | None:
    """A run as it is compared; None where it does not count."""
    if run.analysis is None or run.facts.left_out or run.facts.test in {"overload", "surge"}:
        return None
    return Tested(f"{run.facts.title}", run.facts.test, run.facts.started, run.analysis, run.evidence)


def dropouts_of(dossiers: Iterable[Dossier], needs: Sequence[Need] = ()) -> list[float]:
    """Drop-outs that claims and needs speak of."""
    found = {
        float(claim.conditions["dropout_V"])
        for dossier in dossiers
        for claim in dossier.sample.claims
        if "dropout_V" in claim.conditions
    }
    found |= {device.least_V for need in needs for device in need.devices if device.least_V}
    return sorted(found)


def currents_of(needs: Sequence[Need]) -> list[float]:
    """What needs draw at the most, all their devices on and starting, A at a usual 12.8 V; each once, to two digits."""
    peaks = (
        sum(max(float(device.drawn_at(np.array([USUAL_V]))[0]), device.surge_A) for device in need.devices)
        for need in needs
    )
    return sorted({float(f"{peak:.2g}") for peak in peaks if peak > 0})


def compare_dossiers(dossiers: Sequence[Dossier], needs: Sequence[Need] = ()) -> Comparison:
    """Samples against the first of them."""
    marks = dropouts_of(dossiers, needs)
    codes = [dossier.sample.code for dossier in dossiers]
    figures = {
        dossier.sample.code: figures_of(dossier.sample, tested(dossier), dossier.verdicts, marks, currents_of(needs))
        for dossier in dossiers
    }
    found = compare_samples(codes, {d.sample.code: d.sample.family for d in dossiers}, figures)
    # a model is not held against itself
    same = {dossier.sample.code for dossier in dossiers[1:] if _name(dossier) == _name(dossiers[0])}
    rows = (replace(row, models={c: None if c in same else p for c, p in row.models.items()}) for row in found.rows)
    return replace(found, rows=tuple(rows))


def _name(dossier: Dossier) -> tuple[str, str, str]:
    sample = dossier.sample
    return sample.maker.strip().lower(), sample.model.strip().lower(), sample.family.key


@dataclass(frozen=True)
class Model:
    """Units of one model: its name, their codes, what they say of it, and its claims held against it."""

    title: str
    codes: tuple[str, ...]
    rows: tuple[ModelRow, ...]
    claims: tuple[ModelClaim, ...]


def model_of(dossiers: Sequence[Dossier], found: Comparison) -> Model | None:
    """What is known of the model, where all of them are of one; None for anything else."""
    samples = [dossier.sample for dossier in dossiers]
    if len(samples) < 2 or len({_name(dossier) for dossier in dossiers}) > 1 or not samples[0].model.strip():
        return None
    verdicts = {dossier.sample.code: dossier.verdicts for dossier in dossiers}
    family = samples[0].family
    claims = model_claims(verdicts, family, dossiers[0].school)
    return Model(samples[0].title, tuple(verdicts), model_rows(found, family), claims)


def spread_words(row: ModelRow) -> str:
    """How far units are apart, and how little is known of it."""
    seen = f"{100 * row.seen:.2g} % apart as seen"
    between = (
        f"between {100 * row.low:.2g} and {100 * row.high:.2g} %"
        if row.high is not None
        else "of which two units say next to nothing"
    )
    return f"{seen} ({between}), {100 * row.reckoned:.2g} % reckoned with"


def model_lines(model: Model) -> list[str]:
    """A model in lines."""
    lines = []
    for row in model.rows:
        words = f"{row.label}: {format_quantity(row.model)} of the model, {format_quantity(row.mean)} of these; {spread_words(row)}"
        if row.weak and row.rarity is not None:
            words += f"; {row.weak} is weak: {_rare(row.rarity)} of such a model would be so"
        if row.apart:
            words += "; further apart than two of one model usually are, and two cannot say which of them is unusual"
        lines.append(words)
    for one in model.claims:
        chance = "" if one.probability is None else f" (P = {one.probability:.3f})"
        lines.append(
            f"{one.claim.definition.label}: {OUTCOME_WORDS[one.outcome].lower()} by the model{chance}, "
            f"{format_quantity(one.claim.shown(one.model))} over {len(one.units)} units"
        )
    return lines


def _rare(share: float) -> str:
    return f"one in {round(1.0 / share, -1):.0f}" if share > 1e-5 else "fewer than one in 100000"


def judge_needs(dossiers: Sequence[Dossier], needs: Sequence[Need]) -> list[NeedResult]:
    """Every need on every sample."""
    return [judge_one(need, dossier) for need in needs for dossier in dossiers]


def judge_one(need: Need, dossier: Dossier, units: int = 1) -> NeedResult:
    """One need on one sample, or on so many like it side by side."""
    return judge_need(need, dossier.sample, tested(dossier), _cold_loss(dossier), _lasts(dossier), units)


def _lasts(dossier: Dossier) -> float | None:
    """How many cycles its own tests say that it lasts, where they say it."""
    ends = [one.end.at for one in dossier.trends if one.quantity == "charge" and one.end is not None]
    return ends[0] if ends else None


def _cold_loss(dossier: Dossier) -> tuple[float, float] | None:
    """Its measured loss in the cold, as a share, and at which °C."""
    lost = next(
        (
            v.measured
            for v in dossier.verdicts
            if v.claim.kind == "cold-loss" and v.measured is not None and not v.bound
        ),
        None,
    )
    cold = [
        run.evidence.temperature_C
        for run in dossier.runs
        if run.evidence is not None and run.evidence.temperature_C is not None and run.evidence.temperature_C < COLD_C
    ]
    return (lost.value / 100.0, cold[-1]) if lost is not None and cold else None


def comparison_dict(
    found: Comparison, needs: Sequence[NeedResult] = (), model: Model | None = None
) -> dict[str, Any]:  # fmt: skip
    """The object that is printed.

    Beyond the contract: of a row `label`, `dropout_V`, `current_A`, `runs`, `like` (the differences brought to the first's conditions),
    `models` (P of the models), `missing` (which test would give it), `working`; of what is unlike, `effects`.
    """

    def each(values: Mapping[str, Quantity | None]) -> dict[str, Any]:
        return {code: None if value is None else value.as_dict() for code, value in values.items()}

    return {
        "schema": SCHEMA,
        "codes": list(found.codes),
        "rows": [
            {
                "quantity": row.quantity.split()[0], "label": row.label,
                "dropout_V": float(row.quantity.split()[1]) if row.quantity.startswith("usable ") else None,
                "current_A": float(row.quantity.split()[1]) if row.quantity.startswith("sag ") else None,
                "values": each(row.values), "differences": each(row.differences), "better": dict(row.better),
                "unlike": [
                    {"condition": one.condition, "values": dict(one.values), "effects": each(one.effects)} for one in row.unlike
                ],
                "like": each(row.like), "models": dict(row.models), "runs": dict(row.runs), "missing": dict(row.missing),
                "working": [step.as_dict() for _, step in row.working.walk()],
            }
            for row in found.rows
        ],
        "needs": [need_dict(one) for one in needs],
        "model": None if model is None else _model_dict(model),
    }  # fmt: skip


def _model_dict(model: Model) -> dict[str, Any]:
    return {
        "title": model.title, "codes": list(model.codes),
        "rows": [
            {
                "quantity": row.quantity, "values": {code: value.as_dict() for code, value in row.values.items()},
                "mean": row.mean.as_dict(), "model": row.model.as_dict(),
                "spread": {"seen": row.seen, "low": row.low, "high": row.high, "reckoned": row.reckoned},
                "weak": row.weak or None, "rarity": row.rarity, "apart": row.apart,
            }
            for row in model.rows
        ],
        "claims": [
            {
                "kind": one.claim.kind, "outcome": one.outcome.value, "probability": one.probability,
                "model": one.claim.shown(one.model).as_dict(), "units": list(one.units),
            }
            for one in model.claims
        ],
    }  # fmt: skip


def need_working(one: NeedResult) -> Working:
    """How a need's figures come about: the hours, and the money over its years where there is any."""
    inputs = {"evidence": one.steps[0], "followed": one.steps[1]} if len(one.steps) > 1 else {}
    inputs |= {f"and {number}": words for number, words in enumerate(one.steps[2:], 1)}
    hours = "" if one.hours is None else f"{format_quantity(one.hours)}, the middle of them and how far 95 % lie apart"
    money = []
    if one.bill is not None and len(one.bill.totals) > 1:
        lasts = "nobody says" if one.bill.life_years is None else f"{one.bill.life_years:.3g} years"
        parts = {
            "bought": f"{one.bill.totals[0]:g} {one.currency}".strip(), "lasts": lasts,
            "bought again in year": ", ".join(map(str, one.bill.replaced)) or "never", "lost in charging, a year": f"{one.bill.energy:.3g}",
        }  # fmt: skip
        formula = "units × price × (1 + times bought again) + charger + years × what is lost in charging"
        money.append(Working("Money over the years", formula, parts, f"{one.bill.total:.4g}", "common practice"))
    return Working(
        f"{one.need} on {one.code}", "P = share of the batteries that fit and hold", inputs, hours, "common practice", tuple(money)
    )  # fmt: skip


def need_dict(one: NeedResult) -> dict[str, Any]:
    """A need's result as it is printed."""
    hours = None if one.hours is None else {**one.hours.as_dict(), "bound": one.bound}
    return {
        "need": one.need, "code": one.code, "outcome": one.outcome.value, "probability": one.probability, "hours": hours,
        "left_Ah": None if one.left_Ah is None else one.left_Ah.as_dict(), "limited_by": one.limited_by or None,
        "in_parallel": one.in_parallel, "mass_kg": one.mass_kg,
        "cost": None if one.cost is None else {"value": one.cost, "currency": one.currency},
        "advice": one.advice or None, "working": list(one.steps), "bill": _bill_dict(one.bill), "halved": _bill_dict(one.halved),
    }  # fmt: skip


def things_that_draw(needs: Sequence[str]) -> list[str]:
    """What a need may be put together of: the things of the needs kept, then those that ship."""
    import tomllib
    from importlib import resources

    from wintry_tally.core.compare.typed_need import devices_of

    text = resources.files("wintry_tally.vocabulary").joinpath("devices.toml").read_text(encoding="utf-8")
    return list(dict.fromkeys([*devices_of(needs), *tomllib.loads(text)["things"]]))


def _bill_dict(bill: Bill | None) -> dict[str, Any] | None:
    if bill is None:
        return None
    return {
        "totals": list(bill.totals),
        "replaced": list(bill.replaced),
        "life_years": bill.life_years,
        "energy": bill.energy,
    }


def comparison_text(found: Comparison, needs: Sequence[NeedResult] = (), model: Model | None = None) -> str:
    """The same for people."""
    first = found.codes[0]
    lines = []
    for row in found.rows:
        lines.append(row.label)
        for code in found.codes:
            value = row.values[code]
            words = format_quantity(value) if value is not None else f"no evidence: {row.missing.get(code, '')}"
            if code in row.differences:
                sure = row.better.get(code)
                words += f"; less {first}: {format_quantity(row.differences[code])}"
                words += "" if sure is None else f"; better than {first} with P = {sure:.3f} (these two units)"
            lines.append(f"  {code}  {words}")
        for one in row.unlike:
            told = ", ".join(f"{code} {value}" for code, value in one.values.items())
            effects = ", ".join(f"{code}: about {format_quantity(effect)} to be like {first}" for code, effect in one.effects.items() if effect is not None)  # fmt: skip
            lines.append(f"    unlike {one.condition}: {told}" + (f" ({effects})" if effects else ""))
    if model is not None:
        lines += [f"The model: {model.title}", *(f"  {line}" for line in model_lines(model))]
    for need in needs:
        if need.probability is None or need.hours is None:
            lines.append(f"{need.need}: {need.code}  {OUTCOME_WORDS[need.outcome].lower()}: {need.advice}")
            continue
        least = "at least " if need.bound else ""
        enough = f"{need.in_parallel} would do" if need.in_parallel else "no number tried would do"
        lines.append(
            f"{need.need}: {need.code}  {OUTCOME_WORDS[need.outcome].lower()} (P = {need.probability:.3f}): {least}"
            f"{format_quantity(need.hours)}, limited by {need.limited_by}; {enough}"
        )
    for name in dict.fromkeys(need.need for need in needs):
        lines += [f"{name}: {line}" for line in bill_lines([need for need in needs if need.need == name])]
    return "\n".join(lines)
