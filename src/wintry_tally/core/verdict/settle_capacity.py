"""Capacity and energy from one or more capacity tests."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

from wintry_tally.core.analysis.ending import ENDING_WORDS, PROTECTION, SET_CUTOFF, STOPPED
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.quantity import Quantity, Term, combine_linear, format_quantity
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import as_bound, decide
from wintry_tally.core.verdict.effects import (
    cutoff_condition,
    rate_condition,
    temperature_condition,
    unread_condition,
    unseen_condition,
)
from wintry_tally.core.verdict.evidence import CapacityEvidence
from wintry_tally.core.verdict.leads import LEADS_AT_END, beyond_own_V, leads_condition
from wintry_tally.core.verdict.outcome import Condition, Outcome, Verdict, up_to
from wintry_tally.core.working import Working

FROM_FULL = said("from-full")
CUTOFF_ABOVE_V = 0.15
HIDDEN_SHARE = 0.002
"""A gap at the end that may hide more than this share of the charge leaves the end unseen."""


def settle_capacity(case: Case) -> Verdict | None:
    return _amount(case, lambda run: run.charge, lambda run: run.charge_step)


def settle_energy(case: Case) -> Verdict | None:
    return _amount(case, lambda run: run.energy, lambda run: run.energy_step)


def _amount(
    case: Case, pick: Callable[[CapacityEvidence], Quantity], step: Callable[[CapacityEvidence], Working]
) -> Verdict | None:
    """Charge or energy of one or more capacity tests against the claim."""
    runs = case.capacity_runs
    if not runs:
        return None
    whole = [run for run in runs if not _stopped(case, run)]
    runs, doubtful = _sound(whole or runs)
    runs, notes = _like_runs(case, runs, pick)
    runs, unsure = _of_known_meters(runs, pick)
    notes = [*doubtful, *notes, *unsure]
    measured, steps, conflicts = _combined(runs, pick, step)
    conditions = _conditions(case, runs[-1], measured.value)
    undecided = next((run.undecided for run in runs if run.undecided), NOTHING)
    names = tuple(run.name for run in runs)
    told = [*notes, *conflicts]
    verdict = decide(case, measured, steps, conditions, names, told, undecided)
    bridged = sum(run.bridged_Ah * pick(run).value / run.charge.value for run in runs) / len(runs)
    if whole and undecided and bridged:
        verdict = _either_way(case, measured, bridged, steps, conditions, names, told) or verdict
    if whole and notes and verdict.working is not None:
        return replace(verdict, working=verdict.working.with_input("left aside", "; ".join(notes)))
    if whole:
        return verdict
    # of tests that were stopped the one that went farthest says most
    farthest = max(runs, key=lambda run: pick(run).value)
    alone = decide(case, pick(farthest), [step(farthest)], _conditions(case, farthest, pick(farthest).value), (farthest.name,), notes, farthest.undecided)  # fmt: skip
    settles = FROM_FULL if farthest.begun_low else said("on-to-end")
    return as_bound(case, alone, "at-least", _stopped(case, farthest), settles)


def _either_way(
    case: Case, measured: Quantity, bridged: float, steps: list[Working], conditions: list[Condition],
    names: tuple[str, ...], notes: list[Message],
) -> Verdict | None:  # fmt: skip
    """The verdict, where it is the same whether the current flowed through the gaps or not at all; else None."""
    less = replace(measured, value=measured.value - bridged)
    told = [*notes, said("gap-bridged-either-way")]
    flowed = decide(case, measured, steps, conditions, names, told, NOTHING)
    stood = decide(case, less, steps, conditions, names, told, NOTHING)
    return flowed if flowed.outcome is stood.outcome and flowed.outcome in {Outcome.MET, Outcome.MISSED} else None


def _stopped(case: Case, run: CapacityEvidence) -> Message:
    """Why a test did not begin full, or did not reach its end, or nobody saw it; nothing where it did."""
    why = _why_stopped(case, run)
    return said("of-run", run=run.name, why=why) if why else NOTHING


def _why_stopped(case: Case, run: CapacityEvidence) -> Message:
    if run.begun_low:
        return run.begun_low
    if run.hidden_Ah > HIDDEN_SHARE * run.charge.value:
        return said("gap-unseen", seconds=run.hidden_s, charge_Ah=run.hidden_Ah)
    claimed = case.claim.conditions.get("cutoff_V")
    # whoever ended it there: down to the claim's own cut-off it went
    reached = claimed is not None and run.end_V <= claimed + run.near_V
    if run.ended_by in STOPPED and not reached:
        return said("ended-at", ending=ENDING_WORDS[run.ended_by], volts=run.end_V)
    if run.ended_by == SET_CUTOFF and claimed is not None and run.end_V > claimed + CUTOFF_ABOVE_V * case.family.share:
        return said("cut-off-above", volts=run.end_V, claimed=claimed)
    return NOTHING


def _conditions(case: Case, run: CapacityEvidence, share: float) -> list[Condition]:
    """The claim's conditions against the run's; `share` is the amount an effect is a part of."""
    rated = case.rated_Ah
    if not rated:
        return []
    maybe = [
        rate_condition(case.family, case.claim, run, rated, share),
        temperature_condition(case.family, case.claim, run, share),
        cutoff_condition(case.family, case.claim, run, share),
        unseen_condition(run.before, share, case.claim.unit),
        unread_condition(run.unread_s, share * run.unread_Ah / run.charge.value, case.claim.unit),
    ]
    found = beyond_own_V(case.family, rated, run.sag, run.mean_current_A, run.temperature_C)
    if case.claim.kind == "energy":
        maybe.append(leads_condition(case.claim, found, run.charge.value))
    if found is not None and run.ended_by != PROTECTION:
        # it ended by volts read at the load: what the battery gave over as many volts before is the most it had left
        above = case.counted_down_to(run, run.end_V + found.most_V)
        left = 1.0 - above.charge.value / run.charge.value
        if left > HIDDEN_SHARE:
            maybe.append(up_to(share * left, case.claim.unit, LEADS_AT_END, f"{run.end_V:.2f} V", found.words))
    return [condition for condition in maybe if condition is not None]


def _sound(runs: list[CapacityEvidence]) -> tuple[list[CapacityEvidence], list[Message]]:
    """The runs that settle something by themselves, where there are such; what the others wait for is told."""
    sound = [run for run in runs if not run.undecided]
    if not sound or len(sound) == len(runs):
        return runs, []
    return sound, [said("left-aside", run=run.name, why=run.undecided) for run in runs if run.undecided]


def _like_runs(
    case: Case, runs: list[CapacityEvidence], pick: Callable[[CapacityEvidence], Quantity]
) -> tuple[list[CapacityEvidence], list[Message]]:
    """The runs under the claim's own conditions where there are such; the others are named, not averaged in."""
    unlike = {
        run.name: tuple(c.name for c in _conditions(case, run, pick(run).value) if c.effect is not None) for run in runs
    }
    like = [run for run in runs if not unlike[run.name]]
    if not like or len(like) == len(runs):
        return runs, []
    notes = [
        said("left-aside", run=run.name, why=said("unlike-conditions", names=unlike[run.name]))
        for run in runs
        if unlike[run.name]
    ]
    return like, notes


NEAR_ENOUGH = 0.05
"""So far from the known ones a run of an unknown meter may lie and still say the same; common practice, no published source."""


def _of_known_meters(
    runs: list[CapacityEvidence], pick: Callable[[CapacityEvidence], Quantity]
) -> tuple[list[CapacityEvidence], list[Message]]:
    """The runs whose uncertainty is known, where the others say much the same: a log of an unknown meter takes nothing from
    what is known. Where one says something else, all stand."""
    known = [run for run in runs if pick(run).standard is not None]
    if not known or len(known) == len(runs):
        return runs, []
    middle = math.fsum(pick(run).value for run in known) / len(known)
    others = [run for run in runs if pick(run).standard is None]
    if any(abs(pick(run).value - middle) > NEAR_ENOUGH * middle for run in others):
        return runs, []
    why = [said("meter-unknown", value=format_quantity(pick(run))) for run in others]
    return known, [said("left-aside", run=run.name, why=one) for run, one in zip(others, why, strict=True)]


def _combined(
    runs: Sequence[CapacityEvidence],
    pick: Callable[[CapacityEvidence], Quantity],
    step: Callable[[CapacityEvidence], Working],
) -> tuple[Quantity, list[Working], list[Message]]:
    if len(runs) == 1:
        return pick(runs[0]), [step(runs[0])], []
    share = 1.0 / len(runs)
    quantities = [pick(run) for run in runs]
    mean = combine_linear([(share, quantity) for quantity in quantities], quantities[0].unit)
    inputs = {run.name: format_quantity(quantity) for run, quantity in zip(runs, quantities, strict=True)}
    scatter = scatter_beyond(quantities, mean)
    notes: list[Message] = []
    if scatter is not None:
        scattered, factor = scatter
        mean = Quantity.from_terms(
            mean.value, mean.unit, [*mean.terms, Term("scatter of the runs", scattered * factor / 2.0)]
        )
        inputs["scatter of the mean, s / √n"] = f"{scattered:.2g} {mean.unit}, more than the meters explain"
        inputs[f"Student's t, {len(runs) - 1} degrees of freedom"] = f"{factor:.3g}"
        values = [quantity.value for quantity in quantities]
        if max(values) - min(values) > CONFLICT_SHARE * abs(mean.value):
            gave = tuple(
                said("run-gave", run=run.name, charge=format_quantity(item))
                for run, item in zip(runs, quantities, strict=True)
            )
            notes.append(said("runs-conflict", runs=gave))
    working = Working(
        "Mean of the runs",
        "y = Σ y_i / n; errors of one meter are shared by its runs and do not average out",
        inputs,
        format_quantity(mean),
        "JCGM 100:2008, 5.2; 4.2.3 and G.3 for the scatter",
        tuple(step(run) for run in runs),
    )
    return mean, [working], notes


CHANCE, CONFLICT_SHARE = 0.95, 0.01


def scatter_beyond(quantities: Sequence[Quantity], mean: Quantity) -> tuple[float, float] | None:
    """Standard deviation of the mean and Student's t, where runs scatter by more than their meters explain; else None.

    Held against chi-square at 95 % with the doubt that the runs do not share. Source: JCGM 100:2008, 4.2.3, G.3.
    """
    from scipy.special import chdtri, stdtrit

    size = len(quantities)
    if mean.standard is None or size < 2:
        return None
    share = 1.0 / size
    expected = 0.0
    for n in range(size):
        parts = [((1.0 if m == n else 0.0) - share, quantities[m]) for m in range(size)]
        expected += (combine_linear(parts, mean.unit).standard or 0.0) ** 2
    squares = math.fsum((quantity.value - mean.value) ** 2 for quantity in quantities)
    if squares * (size - 1) <= float(chdtri(size - 1, 1.0 - CHANCE)) * expected:
        return None
    return math.sqrt(squares / (size - 1) / size), float(stdtrit(size - 1, 0.5 + CHANCE / 2.0))
