"""Stages that belong together: charges, or discharges, with nothing but pauses between them."""

from __future__ import annotations

from wintry_tally.core.analysis.counting import Integral
from wintry_tally.core.analysis.stages import Stage, StageKind


def groups_of(stages: list[Stage], kind: StageKind) -> list[tuple[int, int]]:
    """(first, last) positions of each group of a kind."""
    groups: list[tuple[int, int]] = []
    for position, stage in enumerate(stages):
        if stage.kind != kind:
            continue
        if groups and all(between.kind == StageKind.PAUSE for between in stages[groups[-1][1] + 1 : position]):
            groups[-1] = (groups[-1][0], position)
        else:
            groups.append((position, position))
    return groups


def largest_group(
    integral: Integral, stages: list[Stage], kind: StageKind
) -> tuple[tuple[int, int], list[Stage]] | None:
    """The group that moved the most charge: its (first, last) positions and its stages of the kind; None without one."""

    def members(group: tuple[int, int]) -> list[Stage]:
        return [stage for stage in stages[group[0] : group[1] + 1] if stage.kind == kind]

    def moved(group: tuple[int, int]) -> float:
        return abs(sum(integral.between(stage.first, stage.last)[0] for stage in members(group)))

    groups = groups_of(stages, kind)
    if not groups:
        return None
    best = max(groups, key=moved)
    return best, members(best)
