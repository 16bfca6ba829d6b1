"""What of a plan needs a person: when, for how long, and what is to be done."""

from __future__ import annotations

from dataclasses import dataclass

from wintry_tally.core.plan.calendar import SLOT_S, Calendar
from wintry_tally.core.plan.campaign import Plan, Task
from wintry_tally.core.plan.windows import windows
from wintry_tally.core.protocol.in_programme import Presence

START_MIN, END_MIN = 15, 15
"""Minutes at a test's start (leads, settings, cautions) and at its end (off, read, disconnect); common practice."""


@dataclass(frozen=True)
class Hands:
    """A moment that needs somebody: its slot, minutes, and what is to be done."""

    slot: int
    minutes: int
    what: str
    task: Task


def hands(plan: Plan, task: Task) -> tuple[Hands, ...]:
    """What a placed task needs of a person, in order of time."""
    begins, words = plan.starts[task.id], task.words or task.id
    whole = task.slots * SLOT_S // 60
    if task.presence is Presence.NONE:
        return ()
    if task.presence is Presence.THROUGHOUT:
        return (Hands(begins, whole, f"{words}: stay with it", task),)
    start = Hands(begins, min(START_MIN, whole), f"Start: {words}", task)
    if task.presence is Presence.START:
        return (start,)
    return (start, Hands(plan.ends(task), min(END_MIN, whole), f"End: {words}; off, read, disconnect", task))


def ends_unattended(task: Task, calendar: Calendar) -> bool:
    """Whether a task whose end must be attended ends while nobody is there, whenever it is begun."""
    return task.presence is Presence.ENDS and bool(calendar.stretches) and not windows(task, calendar).spans


def people_min(presence: Presence, hours: float) -> float:
    """Minutes of a person's time that a test of so many hours takes."""
    whole = 60.0 * hours
    if presence is Presence.THROUGHOUT:
        return whole
    asked = {Presence.NONE: 0, Presence.START: START_MIN, Presence.ENDS: START_MIN + END_MIN}[presence]
    return min(float(asked), whole)


def all_hands(plan: Plan) -> list[Hands]:
    """Everything that needs a person, in order of time."""
    found = [one for task in plan.campaign.tasks if task.id in plan.starts for one in hands(plan, task)]
    return sorted(found, key=lambda one: (one.slot, one.task.id))
