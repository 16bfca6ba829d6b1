"""Capacity and energy from one or more capacity tests."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from wintry_tally.core.quantity import Quantity, combine_linear, format_quantity
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import decide
from wintry_tally.core.verdict.effects import cutoff_condition, rate_condition, temperature_condition
from wintry_tally.core.verdict.evidence import CapacityEvidence
from wintry_tally.core.verdict.outcome import Condition, Verdict
from wintry_tally.core.working import Working


def settle_capacity(case: Case) -> Verdict | None:
    return _amount(case, lambda run: run.charge, lambda run: run.charge_step)


def settle_energy(case: Case) -> Verdict | None:
    return _amount(case, lambda run: run.energy, lambda run: run.energy_step)


def _amount(
    case: Case, pick: Callable[[CapacityEvidence], Quantity], step: Callable[[CapacityEvidence], Working]
) -> Verdict | None:
    """Charge or energy of one or more capacity tests against the claim."""
    runs = case.capacity_runs
    if not runs or case.claim.value is None:
        return None
    runs, notes = _like_runs(case, runs, pick)
    measured, steps, conflicts = _combined(runs, pick, step)
    conditions = _conditions(case, runs[-1], measured.value)
    undecided = next((run.undecided for run in runs if run.undecided), "")
    names = tuple(run.name for run in runs)
    return decide(case, measured, steps, conditions, names, [*notes, *conflicts], undecided)


def _conditions(case: Case, run: CapacityEvidence, share: float) -> list[Condition]:
    """The claim's conditions against the run's; `share` is the amount an effect is a part of."""
    rated = case.rated_Ah
    if not rated:
        return []
    maybe = [
        rate_condition(case.family, case.claim, run, rated, share),
        temperature_condition(case.family, case.claim, run, share),
        cutoff_condition(case.family, case.claim, run, share),
    ]
    return [condition for condition in maybe if condition is not None]


def _like_runs(
    case: Case, runs: list[CapacityEvidence], pick: Callable[[CapacityEvidence], Quantity]
) -> tuple[list[CapacityEvidence], list[str]]:
    """The runs under the claim's own conditions where there are such; the others are named, not averaged in."""
    unlike = {
        run.name: [c.name for c in _conditions(case, run, pick(run).value) if c.effect is not None] for run in runs
    }
    like = [run for run in runs if not unlike[run.name]]
    if not like or len(like) == len(runs):
        return runs, []
    notes = [
        f"{run.name} left aside: unlike conditions ({', '.join(unlike[run.name])})" for run in runs if unlike[run.name]
    ]
    return like, notes


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
