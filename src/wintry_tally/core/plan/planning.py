"""From a campaign to its plan: what cannot be placed is told with its reason, and the rest is planned."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Mapping
from dataclasses import replace

from wintry_tally.core.plan.calendar import PER_HOUR, SLOT_S
from wintry_tally.core.plan.campaign import Campaign, Plan, Task, Unplaced, in_order, score
from wintry_tally.core.plan.placing import Allowed, Placing
from wintry_tally.core.plan.solver import HERE, LATER_SHARE, Keep, Solver
from wintry_tally.core.plan.ways import chosen_ways
from wintry_tally.core.plan.windows import Windows, all_windows, windows
from wintry_tally.core.protocol.in_programme import Presence
from wintry_tally.core.quantity import format_duration

USUAL_S = 4.0
"""How long a plan is thought about."""
FIRST_SHARE, FIRST_MOST_S = 0.03, 1.0
NEAR_DAYS = 2
MOST_DAYS = 3660


def plan(
    campaign: Campaign, seconds: float = USUAL_S, before: Mapping[str, int] | None = None,
    cancelled: Callable[[], bool] = lambda: False, clock: Callable[[], float] = time.monotonic, thorough: bool = True,
    solver: Solver = HERE,
) -> Plan:  # fmt: skip
    """The plan of a campaign.

    Args:
        before: the starts of a plan before this one: of the plans that are as good, one that moves little of the next
            two days. thorough: the solver is asked after the quick way; without it, a sound plan at once.
        solver: what is asked then, and where the quick way places not all; window and shell have it asked in a process of
            its own.

    Raises:
        InputError: tasks that wait for each other, or for none, or of one name.
    """
    until = clock() + seconds
    order = in_order(campaign.tasks)
    calendar = campaign.calendar
    if calendar.days < (wanted := days_needed(campaign, order)):
        campaign = replace(campaign, calendar=replace(calendar, days=wanted))
    latest = latest_starts(order)
    allowed = all_windows(order, campaign.calendar)
    allowed |= {name: allowed[name].until(slot) for name, slot in latest.items()}
    reasons = impossible(campaign, order, allowed)
    placeable = [task for task in order if task.id not in reasons]
    first = replace(campaign, tasks=tuple(placeable))
    placing = Placing(first, placeable, allowed)
    starts = placing.best(min(FIRST_MOST_S, FIRST_SHARE * seconds) if thorough else 0.0, clock, cancelled)
    if starts is None:
        horizon = max((span[1] for task in placeable for span in allowed[task.id].spans[-1:]), default=0)
        most_s = max(1.0, 0.5 * (until - clock()))
        latest_end = horizon + max(task.slots for task in placeable)
        starts = solver.most(first, placeable, allowed, latest_end, most_s, cancelled)
        starts = starts or _one_by_one(first, placeable, allowed, cancelled)
        for task in placeable:
            if task.id not in starts:
                reasons[task.id] = Unplaced(task.id, _no_room(task, campaign))
        placeable = [task for task in placeable if task.id in starts]
        first = replace(campaign, tasks=tuple(placeable))
        placing = Placing(first, placeable, allowed)
        starts = placing.drawn_up(starts)
    unplaced = tuple(reasons[task.id] for task in campaign.tasks if task.id in reasons)
    near = {} if not before else {name: slot for name, slot in before.items() if slot < NEAR_DAYS * 24 * PER_HOUR}
    staying = _staying(first, placeable, allowed, near) if near else None
    if not thorough or not placeable:
        chosen = _calmer(first, starts, staying, near)
        chosen, ways = _with_ways(placing, chosen)
        return Plan(campaign, chosen, unplaced, 0, not placeable, _moved(chosen, before), ways)
    keep = Keep(before, NEAR_DAYS * 24 * PER_HOUR) if before else None
    solved = solver.best(first, placeable, allowed, starts, until - clock(), clock, cancelled, keep)
    found = placing.drawn_up(solved.starts) if keep is None else _calmer(first, solved.starts, staying, near)
    found, ways = _with_ways(placing, found)
    ends = score(first, found)[1]
    bound = min(ends, max(solved.bound_end, simple_bound(first, placeable, allowed)))
    if solved.end_proven and keep is None:
        bound = ends
    return Plan(campaign, found, unplaced, bound, solved.proven, _moved(found, before), ways)


def _one_by_one(
    campaign: Campaign, tasks: list[Task], allowed: Allowed, cancelled: Callable[[], bool]
) -> dict[str, int]:
    """Where the solver finds nothing: of the tasks in their order each that can be placed with those before it."""
    kept: list[Task] = []
    starts: dict[str, int] = {}
    for task in tasks:
        if cancelled():
            break
        if {wait.task for wait in task.after} <= set(starts):
            placing = Placing(replace(campaign, tasks=(*kept, task)), [*kept, task], allowed)
            found = placing.best(0.0, time.monotonic)
            if found is not None:
                kept, starts = [*kept, task], found
    return starts


def _with_ways(placing: Placing, starts: dict[str, int]) -> tuple[dict[str, int], dict[str, int]]:
    """Which way each task is done; where there are too many to look through, as one by one in the same order finds them."""
    ways = chosen_ways(placing.campaign, starts)
    if ways is not None:
        return starts, ways
    again = placing.placed({name: float(slot) for name, slot in starts.items()}) or placing.best(0.0, time.monotonic)
    if again is None:
        return starts, {}
    return again, {task.id: task.choices.index(placing.takes[task.id][1:]) for task in placing.tasks}


def _staying(
    campaign: Campaign, tasks: list[Task], allowed: Mapping[str, Windows], near: Mapping[str, int]
) -> dict[str, int] | None:
    """A plan in which what stood in the next days stands, and the rest comes round it; None where that cannot be."""
    still = [
        replace(task, fixed=near[task.id])
        if task.id in near and task.fixed is None and allowed[task.id].at_or_after(near[task.id]) == near[task.id]
        else task
        for task in tasks
    ]
    placing = Placing(replace(campaign, tasks=tuple(still)), still, allowed)
    return placing.placed(placing.tied(placing.usual_rank()))


def _calmer(
    campaign: Campaign, best: Mapping[str, int], staying: Mapping[str, int] | None, near: Mapping[str, int]
) -> dict[str, int]:
    """Of two plans the one that moves less of the next days, where it is no later and ends little later."""
    if staying is None:
        return dict(best)
    late, end, _ = score(campaign, best)
    other_late, other_end, _ = score(campaign, staying)

    def moves(starts: Mapping[str, int]) -> int:
        return sum(starts.get(name, slot) != slot for name, slot in near.items())

    good = other_late <= late and other_end <= end * (1.0 + LATER_SHARE)
    return dict(staying if good and moves(staying) < moves(best) else best)


def latest_starts(order: list[Task]) -> dict[str, int]:
    """Of tasks that stand before one that is fixed: the last slot at which each may begin."""
    by_id = {task.id: task for task in order}
    found: dict[str, int] = {}
    for task in reversed(order):
        begins = task.fixed if task.fixed is not None else found.get(task.id)
        if begins is None:
            continue
        for wait in task.after:
            before = by_id[wait.task]
            if before.fixed is None:
                found[before.id] = min(found.get(before.id, begins), begins - wait.least - before.slots)
    return found


def _moved(starts: Mapping[str, int], before: Mapping[str, int] | None) -> tuple[str, ...]:
    return tuple(name for name, slot in starts.items() if before and before.get(name, slot) != slot)


def days_needed(campaign: Campaign, order: list[Task]) -> int:
    """How far to look so that everything finds a place, one after the other at the worst, in days."""
    day = 24 * PER_HOUR
    work = sum(task.slots + max((wait.least for wait in task.after), default=0) for task in order)
    latest = max((max(task.not_before, task.fixed or 0) for task in order), default=0)
    waits = 7 * sum(task.presence is not Presence.NONE for task in order)
    away = len(campaign.calendar.away)
    return min(MOST_DAYS, math.ceil((work + latest) / day) + waits + away + 14)


def simple_bound(campaign: Campaign, tasks: list[Task], allowed: Mapping[str, Windows]) -> int:
    """No plan can end before this, in slots: each chain by its windows, each thing by what is asked of it."""
    head: dict[str, int] = {}
    for task in tasks:
        soonest = max([0, *(head[w.task] + w.least for w in task.after if w.task in head)])
        head[task.id] = (allowed[task.id].at_or_after(soonest) or soonest) + task.slots
    best = max(head.values(), default=0)
    for name, places in campaign.places.items():
        using = [task for task in tasks if name in task.surely]
        if using and places:
            begins = min(head[task.id] - task.slots for task in using)
            best = max(best, begins + math.ceil(sum(task.slots for task in using) / places))
    for sample in {task.sample for task in tasks}:
        own = [task for task in tasks if task.sample == sample]
        best = max(best, min(head[task.id] - task.slots for task in own) + sum(task.slots for task in own))
    return best


def impossible(campaign: Campaign, order: list[Task], allowed: Mapping[str, Windows]) -> dict[str, Unplaced]:
    """Why tasks cannot be placed, whatever else is going on; those that wait for one of them among them."""
    reasons: dict[str, Unplaced] = {}

    def lost(task: Task, reason: str, after: str = "") -> None:
        reasons[task.id] = Unplaced(task.id, reason, after)

    fixed: list[Task] = []
    for task in order:
        missing = _missing(task, campaign)
        blocked = next((wait.task for wait in task.after if wait.task in reasons), None)
        if missing is not None:
            lost(task, f"it needs a {missing}, and there is none")
        elif blocked is not None:
            lost(task, f"it comes after {blocked}, which cannot be placed", blocked)
        elif not allowed[task.id].spans and windows(task, campaign.calendar).spans:
            lost(task, "what is pinned after it begins too soon for it")
        elif not allowed[task.id].spans:
            lost(task, _never(task, campaign))
        elif task.fixed is not None:
            onto = next((other for other in fixed if _collide(task, other, campaign)), None)
            if onto is not None:
                lost(task, f"it is pinned where {onto.id} stands")
            else:
                fixed.append(task)
    return reasons


def _collide(one: Task, other: Task, campaign: Campaign) -> bool:
    single = {name for name, count in campaign.places.items() if count == 1}
    shared = one.sample == other.sample or bool(one.surely & other.surely & single)
    begin, end = one.fixed or 0, (one.fixed or 0) + one.slots
    return shared and begin < (other.fixed or 0) + other.slots and end > (other.fixed or 0)


def _missing(task: Task, campaign: Campaign) -> str | None:
    """What there is none of, whichever way is taken."""
    lacking = [next((name for name in way if campaign.places.get(name, 0) < 1), None) for way in task.choices]
    return None if None in lacking else lacking[0]


def _words(slots: int) -> str:
    return format_duration(SLOT_S * slots)


def _never(task: Task, campaign: Campaign) -> str:
    stretches = campaign.calendar.stretches
    if not stretches:
        return "it needs somebody there, and nobody ever is"
    longest = max(closes - opens for opens, closes in stretches)
    if task.presence is Presence.THROUGHOUT and longest < task.slots:
        return (
            f"somebody has to be there for all of its {_words(task.slots)}, and the longest stretch of attendance is "
            f"{_words(longest)}; attend longer, or split it"
        )
    if task.presence is Presence.ENDS and longest < task.slots - task.soonest:
        return (
            f"its end may fall anywhere within {_words(task.slots - task.soonest)}, and the longest stretch of "
            f"attendance is {_words(longest)}; attend longer"
        )
    if task.presence is Presence.ENDS:
        return (
            f"it lasts {_words(task.slots)}: begun while somebody is there, it always ends while nobody is; attend "
            "longer, or take a rate at which it ends sooner or later"
        )
    return f"nobody is there from its soonest start within {campaign.calendar.days} days"


def _no_room(task: Task, campaign: Campaign) -> str:
    short = [wait for wait in task.after if wait.most is not None]
    if short:
        wait = short[0]
        return (
            f"it has to begin at most {_words(wait.most or 0)} after {wait.task}, and no moment was found that suits both "
            "the attended hours and what they use; allow a longer rest, or attend longer"
        )
    return f"no place was found for it within {campaign.calendar.days} days"
