"""Moments on the local clock: so many seconds later, across a change to or from daylight saving, and in words."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


def later(moment: datetime, seconds: float) -> datetime:
    """The moment so many seconds on, by the clock that hangs there then.

    A moment of the computer's own zone carries only that day's offset: it is read on that zone's clock again. Without a
    zone it is taken as it stands.
    """
    if moment.tzinfo is None:
        return moment + timedelta(seconds=seconds)
    ends = moment.astimezone(UTC) + timedelta(seconds=seconds)
    if isinstance(moment.tzinfo, ZoneInfo):
        return ends.astimezone(moment.tzinfo)
    own = moment.astimezone().utcoffset() == moment.utcoffset()
    return ends.astimezone() if own else ends.astimezone(moment.tzinfo)


def clock_words(moment: datetime, now: datetime) -> str:
    """ "08:10" today, "Fri 08:10" within the week, "Fri 4 Dec 08:10" after it."""
    if moment.date() == now.date():
        return f"{moment:%H:%M}"
    day = DAYS[moment.weekday()]
    if 0 <= (moment.date() - now.date()).days < 7:
        return f"{day} {moment:%H:%M}"
    return f"{day} {moment.day} {MONTHS[moment.month - 1]} {moment:%H:%M}"


def elapsed(start: datetime, end: datetime) -> float:
    """True seconds from one moment to another; two clocks of one zone may be apart by more or less."""
    if start.tzinfo is None or end.tzinfo is None:
        return (end - start).total_seconds()
    return (end.astimezone(UTC) - start.astimezone(UTC)).total_seconds()
