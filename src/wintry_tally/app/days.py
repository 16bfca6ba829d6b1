"""The plan as a chart shows it: rows, bars, who is there, which days; worked out as data."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import cached_property

from wintry_tally.app.campaign import BATTERY, UNDER_WAY, Drawn
from wintry_tally.core.plan.campaign import Task
from wintry_tally.core.plan.hands import hands
from wintry_tally.core.quantity.moments import clock_words

LONG = timedelta(days=10)
"""What lasts longer (months on a shelf) does not widen the chart."""
AFTER = timedelta(days=1)
MOST_DAYS = 60
STATE_WORDS = {"running": ", under way", "late": ", late", "pinned": ", pinned", "planned": ""}


@dataclass(frozen=True)
class Placed:
    """A task on the chart, as `desk.widgets.days` draws it; what only those that are seen need is worked out when asked for.

    Parts:
        row: the row it stands in; words: what is written into it.
        begins, ends: local moments; state: "running", "pinned", "planned", "late".
    """

    task: Task
    row: str
    words: str
    begins: datetime
    ends: datetime
    state: str
    drawn: Drawn = field(repr=False, compare=False)
    now: datetime

    @property
    def id(self) -> str:
        """Its name."""
        return self.task.id

    @cached_property
    def hands(self) -> tuple[datetime, ...]:
        """Moments that need somebody."""
        return tuple(self.drawn.moment(one.slot) for one in hands(self.drawn.plan, self.task) if one.slot >= 0)

    @property
    def told(self) -> str:
        """All of it in words, for a tip and for who cannot see it."""
        when = f"{clock_words(self.begins, self.now)} to {clock_words(self.ends, self.begins)}"
        return f"{self.task.sample}: {self.task.words or self.task.id}, {when}{STATE_WORDS[self.state]}"


@dataclass(frozen=True)
class Chart:
    """Rows from the top, what stands in them, when somebody is there, from which day to which."""

    rows: tuple[str, ...]
    placed: tuple[Placed, ...]
    there: tuple[tuple[datetime, datetime], ...]
    first: datetime
    last: datetime


def chart(drawn: Drawn, codes: Sequence[str], now: datetime, by_instrument: bool) -> Chart:
    """The chart of a plan, a row a sample or a row an instrument."""
    placed = []
    for task in drawn.plan.campaign.tasks:
        if task.id not in drawn.plan.starts:
            continue
        rows = drawn.plan.takes(task) if by_instrument else (task.sample,)
        placed += [_placed(drawn, task, row, now, by_instrument) for row in rows if not row.startswith(BATTERY)]
    named = tuple(name for name in drawn.plan.campaign.places if not name.startswith(BATTERY))
    rows = named if by_instrument else tuple(codes)
    last = max(
        [one.ends if one.ends - one.begins < LONG else one.begins + AFTER for one in placed if one.begins < now + timedelta(days=MOST_DAYS)],
        default=now,
    )  # fmt: skip
    near = [one.ends for one in placed if one.ends - one.begins < LONG and one.begins < now + timedelta(days=21)]
    last = min(last, max(near, default=now) + AFTER)
    first = min([now, *(one.begins for one in placed if one.ends - one.begins < LONG)])
    first, last = max(first, now - timedelta(days=3)), max(last, now + timedelta(days=4))
    calendar = drawn.plan.campaign.calendar
    morning = calendar.moment(calendar.slot(first)).replace(hour=0, minute=0, second=0, microsecond=0)
    there = tuple(calendar.hours.stretches(morning, (last - morning).days + 2, calendar.away))
    return Chart(rows, tuple(placed), there, first, last)


def _placed(drawn: Drawn, task: Task, row: str, now: datetime, by_instrument: bool) -> Placed:
    begins, ends = drawn.moment(drawn.plan.starts[task.id]), drawn.moment(drawn.plan.ends(task))
    running = task.id.startswith(UNDER_WAY)
    shelved = task.fixed is not None and task.fixed < 0 and not running
    late = drawn.plan.late_h(task) > 0
    state = "running" if running or shelved else "late" if late else "pinned" if task.fixed is not None else "planned"
    words = task.words or task.id
    return Placed(task, row, f"{task.sample} {words}" if by_instrument else words, begins, ends, state, drawn, now)
