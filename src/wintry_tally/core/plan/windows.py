"""When a task may begin, by the hours in which somebody is there."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from dataclasses import dataclass

from wintry_tally.core.plan.calendar import Calendar
from wintry_tally.core.plan.campaign import Task
from wintry_tally.core.protocol.in_programme import Presence

Spans = tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class Windows:
    """Slots at which a task may begin: spans, both ends among them, in order and apart."""

    spans: Spans
    firsts: tuple[int, ...]

    @classmethod
    def of(cls, spans: Spans) -> Windows:
        """From spans in any order, overlapping or not."""
        made: list[tuple[int, int]] = []
        for low, high in sorted(span for span in spans if span[0] <= span[1]):
            if made and low <= made[-1][1] + 1:
                made[-1] = (made[-1][0], max(made[-1][1], high))
            else:
                made.append((low, high))
        return cls(tuple(made), tuple(low for low, _ in made))

    def at_or_after(self, slot: int) -> int | None:
        """The first slot at or after this one; None where there is none."""
        place = bisect_right(self.firsts, slot) - 1
        if place >= 0 and slot <= self.spans[place][1]:
            return slot
        return self.firsts[place + 1] if place + 1 < len(self.firsts) else None

    def from_on(self, slot: int) -> Windows:
        """What of them lies at or after a slot."""
        return Windows.of(tuple((max(low, slot), high) for low, high in self.spans))

    def until(self, slot: int) -> Windows:
        """What of them lies at or before a slot."""
        return Windows.of(tuple((low, min(high, slot)) for low, high in self.spans))


def _both(one: Spans, other: Spans) -> Spans:
    found, here, there = [], 0, 0
    while here < len(one) and there < len(other):
        low, high = max(one[here][0], other[there][0]), min(one[here][1], other[there][1])
        if low <= high:
            found.append((low, high))
        if one[here][1] < other[there][1]:
            here += 1
        else:
            there += 1
    return tuple(found)


def windows(task: Task, calendar: Calendar) -> Windows:
    """When it may begin, whatever else is going on.

    Who is there to begin has to be there at that moment, not on the way out; an end may fall on the last moment.
    """
    if task.fixed is not None:
        return Windows.of(((task.fixed, task.fixed),))
    there = calendar.stretches
    spans: Spans = ((0, calendar.end),)
    if task.presence in {Presence.START, Presence.ENDS}:
        spans = tuple((opens, closes - 1) for opens, closes in there)
    if task.presence is Presence.ENDS:
        ending = Windows.of(tuple((opens - task.soonest, closes - task.slots) for opens, closes in there))
        spans = _both(spans, ending.spans)
    if task.presence is Presence.THROUGHOUT:
        spans = tuple((opens, closes - task.slots) for opens, closes in there)
    return Windows.of(spans).from_on(max(0, task.not_before))


def all_windows(tasks: Iterable[Task], calendar: Calendar) -> dict[str, Windows]:
    """The same of many, by their names; those that are alike are worked out once."""
    known: dict[tuple[object, ...], Windows] = {}
    found = {}
    for task in tasks:
        alike = (task.presence, task.slots, task.soonest, task.not_before, task.fixed)
        if alike not in known:
            known[alike] = windows(task, calendar)
        found[task.id] = known[alike]
    return found
