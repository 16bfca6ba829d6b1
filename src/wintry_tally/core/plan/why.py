"""Why a task stands where it does: the rule that keeps it from beginning sooner; and why it cannot stand elsewhere."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime

from wintry_tally.core.plan.calendar import SLOT_S
from wintry_tally.core.plan.campaign import Plan, Task
from wintry_tally.core.plan.windows import windows
from wintry_tally.core.protocol.in_programme import Presence
from wintry_tally.core.quantity import format_duration

THERE = {
    Presence.START: "at its start",
    Presence.ENDS: "at its start and its end",
    Presence.THROUGHOUT: "for all of it",
}


def why(plan: Plan, task: Task) -> str:
    """What keeps a placed task from beginning sooner, in words."""
    begins = plan.starts[task.id]
    if task.fixed is not None:
        return "it is under way" if begins <= 0 else "it is pinned there"
    free, after = _released(plan, task)
    first = windows(task, plan.campaign.calendar).at_or_after(free)
    if first is None or begins < first:
        return "it was placed by an older plan"
    if begins == first:
        if begins > free:
            waits = format_duration(SLOT_S * (begins - free))
            return (
                f"it could begin {after}; the first time that somebody is there {THERE[task.presence]} is {waits} later"
            )
        return f"it begins {after}"
    # the last moment before at which it might have begun: who stands there stands in its way
    last = windows(task, plan.campaign.calendar).until(begins - 1).spans[-1][1]
    blocker = _blocker(plan, task, last, begins)
    if blocker is not None:
        other, thing = blocker
        return f"until then {other.words or other.id} ({other.sample}) has the {thing}"
    return "sooner for this one would make the whole later, or something else late"


def _released(plan: Plan, task: Task) -> tuple[int, str]:
    by_id = plan.campaign.by_id()
    free, words = max(0, task.not_before), "at once" if not task.not_before else "when it may at the soonest"
    for wait in task.after:
        before = by_id.get(wait.task)
        if before is None or before.id not in plan.starts:
            continue
        at = plan.starts[before.id] + before.slots + wait.least
        if at >= free:
            rest = f", {format_duration(SLOT_S * wait.least)} of rest between" if wait.least else ""
            free, words = at, f"after {before.words or before.id}{rest}"
    return free, words


def _blocker(plan: Plan, task: Task, at: int, begins: int) -> tuple[Task, str] | None:
    found = []
    for other in plan.campaign.tasks:
        if other.id == task.id or other.id not in plan.starts:
            continue
        start, end = plan.starts[other.id], plan.ends(other)
        if not (start < at + task.slots and end > at and start < begins):
            continue
        if other.sample == task.sample:
            found.append((end, other, "battery"))
        shared = [use for choice in task.choices for use in choice if use in plan.takes(other)]
        if shared:
            found.append((end, other, shared[0]))
    if not found:
        return None
    _, other, thing = max(found, key=lambda one: one[0])
    return other, thing


def cannot_stand(plan: Plan, task: Task, moment: datetime) -> str:
    """Why a task cannot be pinned at a moment, in words; empty where it can."""
    calendar = plan.campaign.calendar
    slot = round(calendar.slot(moment))
    if task.fixed is not None and plan.starts.get(task.id, 0) <= 0:
        return "it is under way"
    if slot < 0:
        return "that is past"
    spans = windows(replace(task, fixed=None), calendar)
    if spans.at_or_after(slot) != slot:
        return f"nobody is there {THERE.get(task.presence, 'then')} then"
    by_id = plan.campaign.by_id()
    for wait in task.after:
        before = by_id.get(wait.task)
        if before is not None and slot < _soonest_end(by_id, before) + wait.least:
            return f"{before.words or before.id} comes before it, and cannot be over by then"
    there = [
        other
        for other in plan.campaign.tasks
        if other.id != task.id and other.fixed is not None and other.id in plan.starts
        and plan.starts[other.id] < slot + task.slots and plan.ends(other) > slot
    ]  # fmt: skip
    barred = []
    for choice in task.choices:
        if any(plan.campaign.places.get(use, 0) < 1 for use in choice):
            continue
        own = {use for use in choice if plan.campaign.places[use] == 1}
        barred = [other for other in there if other.sample == task.sample or own & set(plan.takes(other))]
        if not barred:
            return ""
    if not barred:
        return "there is nothing that it could run on"
    return f"{barred[0].words or barred[0].id} ({barred[0].sample}) stands there, and cannot be moved"


def _soonest_end(by_id: Mapping[str, Task], task: Task) -> int:
    """When a task could be over at the soonest, were it alone on the bench with what comes before it."""
    if task.fixed is not None:
        return task.fixed + task.slots
    before = [_soonest_end(by_id, by_id[wait.task]) + wait.least for wait in task.after if wait.task in by_id]
    return max([0, task.not_before, *before]) + task.slots
