"""A plan as `plan --json` prints it, and for people."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from types import MappingProxyType
from typing import Any

from wintry_tally.core.plan.campaign import Plan, Task
from wintry_tally.core.plan.hands import hands
from wintry_tally.core.plan.programme import Untestable
from wintry_tally.core.plan.standing import Standing
from wintry_tally.core.quantity import format_duration, format_number
from wintry_tally.core.quantity.moments import clock_words
from wintry_tally.exchange.recipe_file import shipped

SCHEMA = "wintry-tally.plan/1"
Hours = Mapping[str, tuple[float, float, float]]


def plan_dict(
    plan: Plan,
    untestable: Sequence[tuple[str, Untestable]] = (),
    hours: Hours | None = None,
    assumed: Sequence[str] = (),
    standings: Mapping[int, Standing] = MappingProxyType({}),
) -> dict[str, Any]:
    """The object that is printed: moments are local with their offset.

    Beyond the contract: `likely_h`, `soonest_h`, `latest_h` of tasks whose duration is a forecast (`ends` is the latest:
    until then its places are held), `moved`, `assumed` (what tests take that the file names no place of), `turned_down`
    (tests that go on through the night, what takes their place, and why).
    """
    calendar = plan.campaign.calendar

    def moment(slot: float) -> str:
        return calendar.moment(slot).isoformat(timespec="minutes")

    tasks = sorted((task for task in plan.campaign.tasks if task.id in plan.starts), key=lambda t: plan.starts[t.id])
    return {
        "schema": SCHEMA,
        "begins": moment(0),
        "ends": moment(plan.end),
        "bound_ends": moment(plan.bound_end),
        "optimal": plan.optimal,
        "tasks": [_task(plan, task, moment, hours or {}) for task in tasks],
        "unplaced": [{"id": one.id, "reason": one.reason} for one in plan.unplaced],
        "untestable": [
            {"sample": code, "claim": one.claim.kind, "reason": one.reason} for code, one in untestable
        ],
        "moved": list(plan.moved),
        "assumed": list(assumed),
        "turned_down": [
            {"sample": one.code, "recipe": recipe, "by": down.by, "why": down.why, "cost": _cost(down.by)}
            for one in standings.values()
            for recipe, down in one.asked.over_night.items()
        ],
    }  # fmt: skip


def _cost(recipe: str) -> str:
    here = shipped()[recipe].programme
    return here.cost if here is not None else ""


def _task(plan: Plan, task: Task, moment: Any, hours: Hours) -> dict[str, Any]:
    begins = plan.starts[task.id]
    made: dict[str, Any] = {
        "id": task.id, "sample": task.sample, "recipe": task.recipe or None, "begins": moment(begins),
        "ends": moment(plan.ends(task)), "uses": list(plan.takes(task)),
        "hands": [{"at": moment(one.slot), "minutes": one.minutes, "what": one.what} for one in hands(plan, task)],
        "settles": list(task.settles), "late_h": round(plan.late_h(task), 4), "words": task.words or task.id,
    }  # fmt: skip
    if task.id in hours:
        made |= dict(zip(("soonest_h", "likely_h", "latest_h"), (round(h, 3) for h in hours[task.id]), strict=True))
    return made


def plan_text(found: dict[str, Any]) -> str:
    """The same for people: a day after the other."""
    lines, day = [], ""
    begins = datetime.fromisoformat(found["begins"])
    for task in found["tasks"]:
        at, ends = datetime.fromisoformat(task["begins"]), datetime.fromisoformat(task["ends"])
        if f"{at:%a %d %b}" != day:
            day = f"{at:%a %d %b}"
            lines.append(day)
        late = f"  late by {format_duration(3600 * task['late_h'])}" if task["late_h"] else ""
        words = f" · {task['words']}" if task["words"] != task["id"] else ""
        lines.append(f"  {at:%H:%M} to {clock_words(ends, at)}  {task['id']}{words}{late}")
        lines += [
            f"      {datetime.fromisoformat(one['at']):%a %H:%M}  {one['what']} ({one['minutes']} min)"
            for one in task["hands"]
        ]
    if found["tasks"]:
        ends, bound = datetime.fromisoformat(found["ends"]), datetime.fromisoformat(found["bound_ends"])
        sure = "the best there is" if found["optimal"] else f"no plan ends before {clock_words(bound, begins)}"
        person = sum(one["minutes"] for task in found["tasks"] for one in task["hands"]) / 60.0
        lines.append(f"All done {clock_words(ends, begins)} ({sure}); {format_number(person, 2)} h of somebody's time")
    lines += [f"not placed: {one['id']}: {one['reason']}" for one in found["unplaced"]]
    lines += [f"cannot be tested: {one['sample']} {one['claim']}: {one['reason']}" for one in found["untestable"]]
    lines += [
        f"through the night: {one['by']} instead of {one['recipe']} of {one['sample']}, {one['why']}; {one['cost']}"
        for one in found["turned_down"]
    ]
    if found["assumed"]:
        lines.append(f"taken as always free, for the file names none: {', '.join(found['assumed'])}")
    return "\n".join(lines)
