"""A campaign as data: tests of several samples, what each takes and waits for; and the plan that is made of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from wintry_tally.core.errors import InputError
from wintry_tally.core.plan.calendar import PER_HOUR, Calendar
from wintry_tally.core.protocol.in_programme import Presence


@dataclass(frozen=True)
class After:
    """What has to have ended before, and the rest between, in slots: at least, and at most where there is a most."""

    task: str
    least: int = 0
    most: int | None = None


@dataclass(frozen=True)
class Task:
    """One task.

    Parts:
        id, sample: its name; whose it is: tasks of one sample never overlap.
        slots: for how long it holds its places; early: the soonest it may be over (as `slots` where that is certain).
        uses: a place of each of these while it lasts; ways: beside them all of one of these sets, the better ones first.
        presence: when somebody has to be there; for an end, all of it from the soonest to the latest.
        not_before, due: slots; late is allowed, and counted.
        fixed: it stands at this slot: it is past, running or pinned; never moved.
        recipe, settles: what it runs, and which claims it speaks to; words: what it is.
        until, stretch: a soak goes on until the task `until` begins, at most so many slots longer than it must.
    """

    id: str
    sample: str
    slots: int
    early: int = 0
    uses: tuple[str, ...] = ()
    after: tuple[After, ...] = ()
    presence: Presence = Presence.NONE
    not_before: int = 0
    due: int | None = None
    fixed: int | None = None
    recipe: str = ""
    settles: tuple[str, ...] = ()
    words: str = ""
    until: str = ""
    stretch: int = 0
    ways: tuple[tuple[str, ...], ...] = ()

    @property
    def choices(self) -> tuple[tuple[str, ...], ...]:
        """Every set of places it may take, the better ones first."""
        return tuple(tuple(dict.fromkeys((*self.uses, *way))) for way in self.ways) or (
            tuple(dict.fromkeys(self.uses)),
        )

    @property
    def surely(self) -> frozenset[str]:
        """The places it takes whichever way is chosen."""
        return frozenset.intersection(*(frozenset(choice) for choice in self.choices))

    def lasts(self, starts: Mapping[str, int]) -> int:
        """For how long it holds its places in a plan, slots."""
        follower = starts.get(self.until)
        if follower is None or self.id not in starts:
            return self.slots
        return min(max(self.slots, follower - starts[self.id]), self.slots + self.stretch)

    @property
    def soonest(self) -> int:
        """The soonest it may be over, slots from its start."""
        return self.early or self.slots


@dataclass(frozen=True)
class Campaign:
    """All of it: the tasks, how many places of each there are, and the calendar."""

    tasks: tuple[Task, ...]
    places: Mapping[str, int]
    calendar: Calendar

    def by_id(self) -> dict[str, Task]:
        """The tasks by their names."""
        return {task.id: task for task in self.tasks}


@dataclass(frozen=True)
class Unplaced:
    """A task that cannot be placed at all, and why; `after`: what it waits for, where it is that which has no place."""

    id: str
    reason: str
    after: str = ""


@dataclass(frozen=True)
class Plan:
    """When each task begins, in slots.

    Parts:
        starts: by task; unplaced: the others, each with its reason.
        bound_end: no plan can end sooner, in slots; optimal: this is proven the best.
        moved: the tasks that stood elsewhere in the plan before.
        chosen: of tasks that may take one of several sets of places, which; the first where none is named.
    """

    campaign: Campaign
    starts: Mapping[str, int]
    unplaced: tuple[Unplaced, ...] = ()
    bound_end: int = 0
    optimal: bool = False
    moved: tuple[str, ...] = field(default=())
    chosen: Mapping[str, int] = field(default_factory=dict)

    def takes(self, task: Task) -> tuple[str, ...]:
        """The places a task takes."""
        return task.choices[self.chosen.get(task.id, 0)]

    @property
    def end(self) -> int:
        """When the last is over; 0 with none."""
        return max((self.ends(task) for task in self.campaign.tasks if task.id in self.starts), default=0)

    def ends(self, task: Task) -> int:
        """When a placed task is over at the latest."""
        return self.starts[task.id] + task.lasts(self.starts)

    def late_h(self, task: Task) -> float:
        """How late it ends, h."""
        return 0.0 if task.due is None else max(0, self.ends(task) - task.due) / PER_HOUR


def score(campaign: Campaign, starts: Mapping[str, int]) -> tuple[int, int, int]:
    """What a plan is measured by, the smaller the better: slots late, the end of all, the sum of starts."""
    late = end = total = 0
    for task in campaign.tasks:
        if task.id not in starts:
            continue
        ends = starts[task.id] + task.lasts(starts)
        late += 0 if task.due is None else max(0, ends - task.due)
        end = max(end, ends)
        total += starts[task.id]
    return late, end, total


def in_order(tasks: tuple[Task, ...]) -> list[Task]:
    """The tasks, each after those it waits for.

    Raises:
        InputError: one waits for itself by way of others, or for one that is not there, or two have one name.
    """
    by_id: dict[str, Task] = {}
    for task in tasks:
        if task.id in by_id:
            raise InputError(f'there are two tasks "{task.id}"', mend="give each a name of its own")
        by_id[task.id] = task
    done: list[Task] = []
    state: dict[str, int] = {}
    for root in tasks:
        stack = [(root, iter(root.after))]
        if state.get(root.id):
            continue
        state[root.id] = 1
        while stack:
            task, waits = stack[-1]
            wait = next(waits, None)
            if wait is None:
                stack.pop()
                state[task.id] = 2
                done.append(task)
                continue
            before = by_id.get(wait.task)
            if before is None:
                raise InputError(f'"{task.id}" comes after "{wait.task}", which is no task', mend="check its name")
            if state.get(before.id) == 1:
                circle = " → ".join([*(part.id for part, _ in stack if state[part.id] == 1), before.id])
                raise InputError(f"tasks wait for each other: {circle}", mend="take one of them out of the circle")
            if not state.get(before.id):
                state[before.id] = 1
                stack.append((before, iter(before.after)))
    return done
