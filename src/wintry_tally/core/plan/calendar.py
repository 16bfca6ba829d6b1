"""The days of a campaign as slots of five minutes: when somebody is there, holidays and days away left out."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from functools import cached_property
from itertools import pairwise

from wintry_tally.core.protocol.attended import AttendedHours

SLOT_S = 300
"""The grid of a plan, s."""
PER_HOUR = 3600 // SLOT_S


def slots_up(hours: float) -> int:
    """So many hours in slots, rounded up; what float arithmetic adds is no slot."""
    return math.ceil(hours * PER_HOUR - 1e-6)


def slots_down(hours: float) -> int:
    """So many hours in slots, rounded down."""
    return math.floor(hours * PER_HOUR + 1e-6)


@dataclass(frozen=True)
class Calendar:
    """The clock of a plan.

    Parts:
        begins: a local moment with its zone; slot 0. Slots are true time: a day may have 23 or 25 hours.
        hours: when somebody is there; away: whole days when nobody is.
        days: how far it looks.
    """

    begins: datetime
    hours: AttendedHours
    away: frozenset[date] = field(default=frozenset())
    days: int = 30

    def moment(self, slot: float) -> datetime:
        """The local moment of a slot."""
        at = self.begins.astimezone(UTC) + timedelta(seconds=SLOT_S * slot)
        return at.astimezone(self.begins.tzinfo)

    def slot(self, moment: datetime) -> float:
        """A moment in slots, not rounded."""
        return (moment.astimezone(UTC) - self.begins.astimezone(UTC)).total_seconds() / SLOT_S

    @property
    def end(self) -> int:
        """The last slot it looks at."""
        return self.days * 24 * PER_HOUR

    @cached_property
    def stretches(self) -> tuple[tuple[int, int], ...]:
        """Whole slots in which somebody is there: from, to (where they leave)."""
        found = []
        for opens, closes in self.hours.stretches(self.begins, self.days + 2, self.away):
            begin, end = max(0, math.ceil(self.slot(opens) - 1e-9)), math.floor(self.slot(closes) + 1e-9)
            if begin < end and begin <= self.end:
                found.append((begin, end))
        return tuple(found)

    def night(self) -> tuple[float, float] | None:
        """The usual stretch of attendance and the time until the next, s: of the first week, where that is shortest."""
        pairs = list(pairwise(self.stretches[1:9]))
        if not pairs:
            return None
        here, after = min(pairs, key=lambda pair: pair[1][0] - pair[0][1])
        return SLOT_S * float(here[1] - here[0]), SLOT_S * float(after[0] - here[1])


PLAIN = Calendar(datetime(2000, 1, 1, tzinfo=UTC), AttendedHours(((),) * 7))
"""One that says nothing, where windows are worked out already."""
