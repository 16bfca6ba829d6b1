"""What needs hands, as an iCalendar file (RFC 5545, by the `icalendar` package): a calendar may subscribe to it."""

from __future__ import annotations

import hashlib
from datetime import UTC, datetime, timedelta
from pathlib import Path

from wintry_tally.core.errors import InputError
from wintry_tally.core.plan.campaign import Plan
from wintry_tally.core.plan.hands import all_hands

ALARM_MIN = 10
PRODUCT = "-//Wintry Tally//plan//EN"


def calendar_bytes(plan: Plan, name: str, made: datetime | None = None) -> bytes:
    """The file's bytes.

    An event keeps its identity from plan to plan (the plan's name, the task, which of its moments), so that one that was
    moved is moved in the calendar and none is doubled.
    """
    from icalendar import Alarm, Calendar, Event

    stamp = (made or datetime.now(UTC)).astimezone(UTC).replace(microsecond=0)
    calendar = Calendar()
    calendar.add("prodid", PRODUCT)
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", name)
    seen: dict[str, int] = {}
    for one in all_hands(plan):
        number = seen[one.task.id] = seen.get(one.task.id, -1) + 1
        begins = plan.campaign.calendar.moment(one.slot).astimezone(UTC)
        event = Event()
        mark = hashlib.sha256(f"{name}\n{one.task.id}\n{number}".encode()).hexdigest()[:32]
        event.add("uid", f"{mark}@wintry-tally")
        event.add("dtstamp", stamp)
        event.add("last-modified", stamp)
        # what is newer counts: minutes since 2020 grow with every plan
        event.add("sequence", int((stamp - datetime(2020, 1, 1, tzinfo=UTC)).total_seconds() // 60))
        event.add("dtstart", begins)
        event.add("dtend", begins + timedelta(minutes=max(5, one.minutes)))
        event.add("summary", f"{one.task.sample}: {one.what}")
        takes = plan.takes(one.task)
        uses = f"\nTakes: {', '.join(takes)}" if takes else ""
        event.add("description", f"{one.task.words or one.task.id}{uses}")
        alarm = Alarm()
        alarm.add("action", "DISPLAY")
        alarm.add("description", one.what)
        alarm.add("trigger", timedelta(minutes=-ALARM_MIN))
        event.add_component(alarm)
        calendar.add_component(event)
    return bytes(calendar.to_ical())


def write_calendar(plan: Plan, name: str, path: Path) -> None:
    """Write it.

    Raises:
        InputError: the file cannot be written.
    """
    try:
        path.write_bytes(calendar_bytes(plan, name))
    except OSError as error:
        raise InputError(f"cannot be written ({error.strerror or error})", str(path)) from None
