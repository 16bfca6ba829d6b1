"""Where a sample stands in its campaign, and the tasks that are still to come: from its programme to the plan's tasks."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from wintry_tally.core.battery.sample import CyclesHad
from wintry_tally.core.plan.calendar import PER_HOUR, Calendar, slots_up
from wintry_tally.core.plan.campaign import After, Task
from wintry_tally.core.plan.programme import (
    EMPTY_SHARE,
    RECHARGE_MOST_H,
    SHORT_SHARE,
    Asked,
    Programme,
    Stand,
    programme,
    tasks_of,
)
from wintry_tally.core.protocol.in_programme import Charged, Presence
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import Template

LONG_AGO = timedelta(days=14)
"""What a run left a battery in so long ago says nothing of how it stands; it is told, and not planned for to the hour."""


@dataclass(frozen=True)
class Running:
    """A test under way: its name in the plan, since when, its likely and its latest end, what it takes and settles."""

    id: str
    words: str
    begun: datetime
    ends: datetime
    latest: datetime
    uses: tuple[str, ...]
    leaves: Charged
    recipe: str = ""
    settles: tuple[str, ...] = ()


@dataclass(frozen=True)
class Standing:
    """What is known of a sample.

    Parts:
        settled: claim kinds with a verdict; left, since: how its last test left it, and when that ended.
        shelved: since when it lies on the shelf for its self-discharge; known: a run of its own says what it holds.
        asked: what a person wants otherwise; barred: recipes that the bench cannot run, each with what stands in the way.
        ways: by recipe, the sets of instruments that can run it, the better ones first; had: its cycles.
        shares: batteries that it shares with others: a bank its units, a unit itself.
    """

    code: str
    facts: Facts
    settled: Collection[str] = ()
    left: Charged = Charged.ANY
    since: datetime | None = None
    shelved: datetime | None = None
    running: Running | None = None
    known: bool = False
    asked: Asked = field(default_factory=Asked)
    barred: Mapping[str, str] = field(default_factory=dict)
    ways: Mapping[str, tuple[tuple[str, ...], ...]] = field(default_factory=dict)
    had: CyclesHad = field(default_factory=CyclesHad)
    shares: tuple[str, ...] = ()


def programme_of(standing: Standing, recipes: Mapping[str, Template], now: datetime) -> Programme:
    """What is still to be done to a sample, after the test that is under way."""
    running = standing.running
    settled = set(standing.settled) | set(running.settles if running is not None else ())
    left, since = (running.leaves, running.latest) if running is not None else (standing.left, standing.since)
    if since is not None and now - since > LONG_AGO and left is not Charged.EMPTY:
        left = Charged.ANY
    share = {Charged.FULL: 1.0, Charged.EMPTY: EMPTY_SHARE, Charged.CHARGED: SHORT_SHARE}.get(left)
    stand = Stand(left, share, standing.shelved is not None)
    return programme(standing.facts, recipes, settled, stand, standing.known, standing.asked, standing.barred)


def tasks_to_come(
    standing: Standing, made: Programme, calendar: Calendar, places: Mapping[str, int],
    hours: dict[str, tuple[float, float, float]],
) -> list[Task]:  # fmt: skip
    """The running test, where it stands, and the tasks of a programme after it.

    A battery that was left empty is charged again within hours: that charge is due.
    """
    tasks = tasks_of(made, standing.code, places, hours, set(), standing.ways)
    found: list[Task] = []
    running = standing.running
    if running is not None:
        begins = int(calendar.slot(running.begun))
        lasts = max(1, slots_up((running.latest - running.begun).total_seconds() / 3600.0))
        uses = tuple(use for use in running.uses if use in places)
        found.append(
            Task(running.id, standing.code, lasts, uses=uses, fixed=begins, presence=Presence.ENDS, recipe=running.recipe,
                 settles=running.settles, words=running.words)
        )  # fmt: skip
        if tasks:
            tasks[0] = replace(tasks[0], after=(After(running.id, 0),))
    if standing.shelved is not None and tasks and "shelf" in tasks[0].uses:
        tasks[0] = shelf = replace(tasks[0], fixed=int(calendar.slot(standing.shelved)), after=())
        if len(tasks) > 1:  # what lies there longer than it should is late, and not beyond planning
            over = (shelf.fixed or 0) + shelf.slots
            waits = [replace(wait, most=None) for wait in tasks[1].after]
            longest = [wait.most for wait in tasks[1].after if wait.most is not None]
            by = over + min(longest) + tasks[1].slots if longest else None
            tasks[1] = replace(tasks[1], after=tuple(waits), due=by)
    left, since = (running.leaves, running.latest) if running is not None else (standing.left, standing.since)
    if tasks and left is Charged.EMPTY and since is not None and "charger" in made.steps[0].uses:
        most = RECHARGE_MOST_H["lithium" if standing.facts.family.lithium else "lead"]
        due = since + timedelta(hours=most) + timedelta(hours=tasks[0].slots / PER_HOUR)
        if calendar.begins - since < LONG_AGO:
            tasks[0] = replace(tasks[0], due=int(calendar.slot(due)))
    return [replace(task, uses=(*task.uses, *standing.shares)) for task in (*found, *tasks)]
