"""A sound plan at once: one task after the other, each as soon as it can be, in an order that is tried again and again."""

from __future__ import annotations

import random
from bisect import bisect_left, insort
from collections.abc import Callable, Mapping
from heapq import heapify, heappop, heappush

from wintry_tally.core.plan.campaign import Campaign, Task, score
from wintry_tally.core.plan.windows import Windows

REPAIRS = 60
"""How often, for each task with a rest that has a most, what it waits for is moved to suit it."""

Allowed = Mapping[str, Windows]


class _Busy:
    """What is taken of a thing with so many places: spans in order of their start."""

    def __init__(self, places: int) -> None:
        self.places = places
        self.spans: list[tuple[int, int, str]] = []

    def free_at(self, begin: int, length: int) -> int:
        """The begin itself where a place is free for so long; else a later slot at which to look again."""
        end, over = begin + length, []
        for start, stop, _ in self.spans:
            if start >= end:
                break
            if stop > begin:
                over.append((start, stop))
        if len(over) < self.places:
            return begin
        if self.places == 1:
            return max(stop for _, stop in over)
        marks = sorted({begin, *(start for start, _ in over if start > begin)})
        for mark in marks:
            if sum(start <= mark < stop for start, stop in over) >= self.places:
                return min(stop for start, stop in over if start <= mark < stop)
        return begin

    def take(self, begin: int, length: int, name: str) -> None:
        insort(self.spans, (begin, begin + length, name))

    def give_back(self, begin: int, length: int, name: str) -> None:
        del self.spans[bisect_left(self.spans, (begin, begin + length, name))]


def _free(way: tuple[str, ...], begin: int, length: int, busy: Mapping[str, _Busy]) -> bool:
    return all(busy[name].free_at(begin, length) == begin for name in way)


class Placing:
    """Places the tasks of a campaign in a given order, keeping all its rules."""

    def __init__(self, campaign: Campaign, tasks: list[Task], allowed: Allowed) -> None:
        self.campaign = campaign
        self.tasks = tasks
        self.allowed = allowed
        self.followers: dict[str, list[tuple[Task, int]]] = {task.id: [] for task in tasks}
        for task in tasks:
            for wait in task.after:
                if wait.task in self.followers:
                    self.followers[wait.task].append((task, wait.least))
        self.by_id = {task.id: task for task in tasks}
        self.waits = {task.id: [wait.task for wait in task.after if wait.task in self.by_id] for task in tasks}
        there = {name for name, count in campaign.places.items() if count > 0}
        self.ways = {
            task.id: [(f"sample {task.sample}", *choice) for choice in task.choices if there.issuperset(choice)]
            for task in tasks
        }
        self.takes: dict[str, tuple[str, ...]] = {}
        """What each takes that is placed: of several ways the one on which it begins the soonest, of like ones the first."""
        self.tail = self._tails()

    def _tails(self) -> dict[str, int]:
        """Of each, the longest way from its start to the end of what follows it."""
        found: dict[str, int] = {}
        for task in reversed(self.tasks):
            found[task.id] = task.slots + max(
                (least + found[follower.id] for follower, least in self.followers[task.id]), default=0
            )
        return found

    def placed(self, rank: Mapping[str, float]) -> dict[str, int] | None:
        """All placed, of those that could come next always the one of the smallest rank; None where one finds no place.

        Where a rest may not last so long as it would, what came before is moved to suit.
        """
        busy: dict[str, _Busy] = {name: _Busy(count) for name, count in self.campaign.places.items()}
        for task in self.tasks:
            busy.setdefault(f"sample {task.sample}", _Busy(1))
        starts: dict[str, int] = {}
        floor: dict[str, int] = {}
        self.takes = {}
        repairs = REPAIRS * (1 + sum(any(wait.most is not None for wait in task.after) for task in self.tasks))
        for task in self.tasks:
            if task.fixed is not None:
                starts[task.id] = task.fixed
                free = (way for way in self.ways[task.id] if _free(way, task.fixed, task.slots, busy))
                taken = next(free, None)
                if taken is None:
                    return None  # two that stand fast want one place
                self.takes[task.id] = taken
                for name in taken:
                    busy[name].take(task.fixed, task.slots, task.id)
        ready = [(rank[task.id], task.id) for task in self.tasks if task.id not in starts and self._ready(task, starts)]
        heapify(ready)
        while len(starts) < len(self.tasks):
            if not ready:
                return None
            _, name = heappop(ready)
            task = self.by_id[name]
            if name in starts or not self._ready(task, starts):
                continue
            begin = self._soonest(task, starts, busy, floor.get(task.id, 0))
            if begin is None:
                return None
            early = self._too_early(task, begin, starts, busy)
            if early is not None:
                repairs -= 1
                if repairs < 0 or self.by_id[early[0]].fixed is not None:
                    return None
                floor[early[0]] = max(floor.get(early[0], 0), early[1])
                self._lift(early[0], starts, busy)
                heappush(ready, (rank[early[0]], early[0]))
                continue
            starts[task.id] = begin
            for name in self.takes[task.id]:
                busy[name].take(begin, task.slots, task.id)
            self._hold_on(task, starts, busy)
            for follower, _ in self.followers[task.id]:
                heappush(ready, (rank[follower.id], follower.id))
        return starts if self._fixed_suit(starts) else None

    def _fixed_suit(self, starts: Mapping[str, int]) -> bool:
        """Whether what was placed before a fixed task leaves it its rest."""
        for task in self.tasks:
            if task.fixed is None:
                continue
            for wait in task.after:
                before = self.by_id.get(wait.task)
                if before is None or before.fixed is not None:
                    continue
                rest = task.fixed - starts[before.id] - before.lasts(starts)
                if rest < wait.least or (wait.most is not None and rest > wait.most):
                    return False
        return True

    def _ready(self, task: Task, starts: Mapping[str, int]) -> bool:
        return all(name in starts for name in self.waits[task.id])

    def _soonest(self, task: Task, starts: Mapping[str, int], busy: Mapping[str, _Busy], floor: int) -> int | None:
        at = max(
            [floor, *(starts[w.task] + self.by_id[w.task].slots + w.least for w in task.after if w.task in self.by_id)]
        )
        best = None
        for way in self.ways[task.id]:
            begin = self._soonest_by(task, way, at, busy)
            if begin is not None and (best is None or begin < best):
                best, self.takes[task.id] = begin, way
        return best

    def _soonest_by(self, task: Task, way: tuple[str, ...], at: int, busy: Mapping[str, _Busy]) -> int | None:
        allowed, takes = self.allowed[task.id], [busy[name] for name in way]
        while True:
            begin = allowed.at_or_after(at)
            if begin is None:
                return None
            at = max([begin, *(taken.free_at(begin, task.slots) for taken in takes)])
            if at == begin:
                return begin

    def _too_early(
        self, task: Task, begin: int, starts: Mapping[str, int], busy: Mapping[str, _Busy]
    ) -> tuple[str, int] | None:
        """What it waits for that ended too long before, and the slot at which that should begin at the soonest."""
        for wait in task.after:
            if wait.most is None or wait.task not in self.by_id:
                continue
            before = self.by_id[wait.task]
            if begin - (starts[before.id] + before.slots) <= wait.most:
                continue
            if before.until != task.id:
                return before.id, begin - wait.most - before.slots
            longest = starts[before.id] + before.slots + before.stretch
            if begin > longest:
                return before.id, begin - before.slots - before.stretch
            grown = starts[before.id] + before.slots
            if any(busy[name].free_at(grown, begin - grown) != grown for name in self.takes[before.id]):
                return before.id, begin - wait.most - before.slots
        return None

    def _hold_on(self, task: Task, starts: Mapping[str, int], busy: Mapping[str, _Busy]) -> None:
        """What goes on until this begins holds its places so long."""
        for wait in task.after:
            before = self.by_id.get(wait.task)
            if before is not None and before.until == task.id and before.fixed is None:
                for name in self.takes[before.id]:
                    busy[name].give_back(starts[before.id], before.slots, before.id)
                    busy[name].take(starts[before.id], before.lasts(starts), before.id)

    def _lift(self, name: str, starts: dict[str, int], busy: Mapping[str, _Busy]) -> None:
        """Take a task and all that follow it out again."""
        stack = [self.by_id[name]]
        while stack:
            task = stack.pop()
            if task.id not in starts or task.fixed is not None:
                continue
            for place in self.takes[task.id]:
                busy[place].give_back(starts[task.id], task.lasts(starts), task.id)
            del starts[task.id]
            self._shrink(task, starts, busy)
            stack.extend(follower for follower, _ in self.followers[task.id])

    def _shrink(self, task: Task, starts: Mapping[str, int], busy: Mapping[str, _Busy]) -> None:
        """What went on until a task that is taken out is over when it must be again."""
        for wait in task.after:
            before = self.by_id.get(wait.task)
            if before is not None and before.until == task.id and before.id in starts and before.fixed is None:
                for place in self.takes[before.id]:
                    held = next(span for span in busy[place].spans if span[2] == before.id)
                    busy[place].give_back(held[0], held[1] - held[0], before.id)
                    busy[place].take(held[0], before.slots, before.id)

    def usual_rank(self) -> dict[str, float]:
        """What is due first, and what comes before that; then what has most to follow."""
        widest, due = max(self.tail.values(), default=0), dict[str, int]()
        for task in reversed(self.tasks):
            own = [] if task.due is None else [task.due - task.slots]
            own += [
                due[follower.id] - least - task.slots
                for follower, least in self.followers[task.id]
                if follower.id in due
            ]
            if own:
                due[task.id] = min(own)
        last = max(due.values(), default=0)
        return {
            task.id: float(due[task.id] - last - widest - 1 if task.id in due else -self.tail[task.id])
            for task in self.tasks
        }

    def tied(self, rank: Mapping[str, float]) -> dict[str, float]:
        """The same, but what may not wait long for something comes right after it."""
        made = dict(rank)
        for task in self.tasks:
            for wait in task.after:
                if wait.most is not None and wait.task in made:
                    made[task.id] = min(made[task.id], made[wait.task] + 0.5)
        return made

    def best(
        self, seconds: float, clock: Callable[[], float], cancelled: Callable[[], bool] = lambda: False
    ) -> dict[str, int] | None:
        """The best of many orders: the usual one, shaken ones, and small changes to the best so far."""
        until, chance = clock() + seconds, random.Random(20)
        best: tuple[tuple[int, int, int], dict[str, float], dict[str, int]] | None = None
        widest = max(self.tail.values(), default=1)
        ranks = [
            self.tied(self.usual_rank()),
            self.usual_rank(),
            {task.id: float(-self.tail[task.id]) for task in self.tasks},
        ]
        # in the order given: as a person wrote it down
        ranks.append({task.id: float(number) for number, task in enumerate(self.tasks)})
        turn = 0
        while turn < len(ranks) or (clock() < until and not cancelled()):
            if turn < len(ranks):
                rank = ranks[turn]
            elif best is None or turn % 7 == 0:
                rank = {name: value + chance.gauss(0.0, 0.3 * widest) for name, value in ranks[1].items()}
            else:
                rank = dict(best[1])
                for name in chance.sample(sorted(rank), min(len(rank), 1 + turn % 4)):
                    rank[name] += chance.gauss(0.0, 0.3 * widest)
            turn += 1
            starts = self.placed(self.tied(rank) if turn % 2 else rank)
            if starts is None:
                continue
            found = score(self.campaign, starts)
            if best is None or found <= best[0]:
                best = (found, rank, starts)
        return best[2] if best is not None else None

    def drawn_up(self, starts: Mapping[str, int]) -> dict[str, int]:
        """The same order with every task as soon as it can be; the plan given where that is no better."""
        again = self.placed({name: float(slot) for name, slot in starts.items()})
        if again is None or score(self.campaign, again) > score(self.campaign, starts):
            return dict(starts)
        return again
