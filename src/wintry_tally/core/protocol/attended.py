"""When somebody is there: the attended hours of a bench, and when a run that takes so long should begin."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta

from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity.moments import DAYS, clock_words, elapsed, later

USUAL = "7:00-22:00"
_HINT = "write it like “7:00-22:00” or “Mon-Fri 8-17:30; Sat 9-12”, or “always”"
_CLOCK = r"(?P<h{0}>\d{{1,2}})(?:[:.h]?(?P<m{0}>\d{{2}})|h)?\s*(?P<half{0}>[ap]\.?m\.?)?"
_HOURS = re.compile(_CLOCK.format(1) + r"\s*-\s*" + _CLOCK.format(2) + "$")
_DAYS = re.compile(r"(?P<from>[a-z]{2,})\.?(?:\s*-\s*(?P<to>[a-z]{2,})\.?)?")
_MANY = {"weekdays": range(5), "weekends": (5, 6), "weekend": (5, 6), "daily": range(7), "every day": range(7)}
DAY_MIN = 24 * 60
LOOK_DAYS = 15


@dataclass(frozen=True)
class AttendedHours:
    """Stretches of attendance, minutes after midnight on the local clock, for each day of the week from Monday on."""

    week: tuple[tuple[tuple[int, int], ...], ...]

    def there(self, moment: datetime) -> bool:
        """Whether somebody is there at a local moment."""
        minute = moment.hour * 60 + moment.minute + moment.second / 60.0
        return any(begin <= minute < end for begin, end in self.week[moment.weekday()])

    def stretches(
        self, start: datetime, days: int = LOOK_DAYS, away: frozenset[date] = frozenset()
    ) -> list[tuple[datetime, datetime]]:
        """The stretches from a local moment on, so many days ahead; touching ones are one; none on days away."""
        found: list[tuple[datetime, datetime]] = []
        for ahead in range(days):
            day = start.date() + timedelta(days=ahead)
            if day in away:
                continue
            for begin, end in self.week[day.weekday()]:
                opens, closes = _at(day, begin, start), _at(day, end, start)
                if closes <= start:
                    continue
                if found and found[-1][1] >= opens:
                    found[-1] = (found[-1][0], max(found[-1][1], closes))
                else:
                    found.append((opens, closes))
        return found

    def next_opening(self, moment: datetime) -> datetime | None:
        """When somebody is there again: the moment itself where somebody is; None within two weeks for never."""
        if self.there(moment):
            return moment
        return next((opens for opens, _ in self.stretches(moment) if opens >= moment), None)

    def closing(self, moment: datetime) -> datetime | None:
        """Until when somebody who is there now stays; None where nobody is, or for two weeks on end."""
        stretch = next(((opens, closes) for opens, closes in self.stretches(moment) if opens <= moment), None)
        return None if stretch is None or stretch[1] - moment > timedelta(days=LOOK_DAYS - 2) else stretch[1]

    def wait_for_end(self, start: datetime, lasts_s: float, begun_by_hand: bool = False) -> float | None:
        """How long to wait, s, so that what lasts so long ends with somebody there; None where no wait does.

        With `begun_by_hand` somebody has to be there at its start too.
        """
        begins = start
        for _ in range(4 * LOOK_DAYS):
            opening = self.next_opening(later(begins, lasts_s))
            if opening is None:
                return None
            begins = max(begins, later(opening, -lasts_s))
            if not begun_by_hand or self.there(begins):
                return elapsed(start, begins)
            there = self.next_opening(begins)
            if there is None or there - start > timedelta(days=LOOK_DAYS):
                return None
            begins = there
        return None


@dataclass(frozen=True)
class Attendance:
    """When a run would begin, on the local clock, and who is there; `own_cutoff`: the load stops by itself, proven.

    `by_hand`: somebody has to be there at its start too, to switch on.
    """

    begins: datetime
    hours: AttendedHours
    own_cutoff: bool = False
    by_hand: bool = False

    def ends(self, lasts_s: float) -> datetime:
        """When it would end."""
        return later(self.begins, lasts_s)

    def there_at(self, lasts_s: float) -> bool:
        """Whether somebody is there then."""
        return self.hours.there(self.ends(lasts_s))

    def clock(self, lasts_s: float) -> str:
        """When it would end, in words."""
        return clock_words(self.ends(lasts_s), self.begins)

    def night(self) -> tuple[float, float] | None:
        """From now to the next closing, and from there to the next opening, s; None where nobody is there now."""
        closes = self.hours.closing(self.begins)
        opens = None if closes is None else self.hours.next_opening(closes)
        if closes is None or opens is None or opens <= closes:
            return None
        return elapsed(self.begins, closes), elapsed(closes, opens)


@dataclass(frozen=True)
class Offer:
    """A mend for an end that falls where nobody is: "wait" so many s first, draw at another "rate" A, or slow down
    for the "night"."""

    kind: str
    value: float
    words: str


SLOWEST = 0.5
"""A rate is not offered below this share of the planned one: the test would become another."""


def offers_for(attendance: Attendance, lasts_s: float, load_s: float, amps: float) -> list[Offer]:
    """What would bring the end into attended hours: a later start, a lower rate, a slow night.

    Args:
        lasts_s: from the start to the end, as forecast; load_s: of it, under load; amps: the planned rate, 0 for none.
    """
    if attendance.there_at(lasts_s):
        return []
    wait = attendance.hours.wait_for_end(attendance.begins, lasts_s, attendance.by_hand)
    if wait is None:
        return []
    offers = []
    words = clock_words(later(attendance.begins, wait), attendance.begins)
    offers.append(Offer("wait", wait, f"Begin at {words}"))
    if amps > 0 and load_s > 0:
        # a quarter of an hour in hand, for a forecast is one
        longer = attendance.hours.wait_for_end(attendance.begins, lasts_s)
        share = load_s / (load_s + (longer or 0.0) + 900.0)
        if share >= SLOWEST:
            offers.append(Offer("rate", round(amps * share, 2), f"Draw {amps * share:.3g} A"))
        if attendance.night() is not None:
            offers.append(Offer("night", 0.0, "Turn it down for the night"))
    return offers


def _at(day: date, minute: int, like: datetime) -> datetime:
    return datetime.combine(day, time(0), like.tzinfo) + timedelta(minutes=minute)


def parse_attended(text: str) -> AttendedHours:
    """Attended hours as people write them: "7:00-22:00", "Mon-Fri 8-12, 13-17:30; Sat 9-12", "Mon, Wed 8am-5pm", "always".

    Hours without days are of the days named before them; where none were, of every day.

    Raises:
        InputError: it is none; the message shows how it is written.
    """
    plain = re.sub(r"\bto\b", "-", text.strip().lower().replace("–", "-"))
    if plain in {"always", "0-24", "0:00-24:00"}:
        return AttendedHours((((0, DAY_MIN),),) * 7)
    week: list[list[tuple[int, int]]] = [[] for _ in DAYS]
    parts = [part.strip() for part in re.split(r"[;,+&/]|\band\b", plain) if part.strip()]
    if not parts:
        raise InputError("no hours are given", mend=_HINT)
    days, open_days = set(range(7)), False
    for part in parts:
        hours = _HOURS.search(part)
        named = part[: hours.start()].strip() if hours is not None else part
        if named:  # "Mon, Wed, Fri 9-17": days one after the other share the hours behind them
            days = (days if open_days else set()) | _days(named, part)
        open_days = hours is None
        if hours is not None:
            _open(week, days, *_stretch(hours, part))
    if open_days:
        raise InputError(f'"{parts[-1]}" has no hours', mend=_HINT)
    return AttendedHours(tuple(tuple(sorted(stretches)) for stretches in week))


def _open(week: list[list[tuple[int, int]]], days: set[int], begin: int, end: int) -> None:
    for day in days:
        if begin < end:
            week[day].append((begin, end))
        else:  # over midnight, into the next day
            week[day].append((begin, DAY_MIN))
            week[(day + 1) % 7].append((0, end))


def _stretch(hours: re.Match[str], part: str) -> tuple[int, int]:
    """Minutes after midnight of a stretch's begin and end."""
    found = []
    for place in "12":
        hour, minute, half = int(hours[f"h{place}"]), int(hours[f"m{place}"] or 0), hours[f"half{place}"]
        if half and not 1 <= hour <= 12:
            raise InputError(f'"{part}" is beyond the day', mend=_HINT)
        hour = hour % 12 + (12 if half.startswith("p") else 0) if half else hour
        if minute > 59 or hour * 60 + minute > (DAY_MIN - 1 if place == "1" else DAY_MIN):
            raise InputError(f'"{part}" is beyond the day', mend=_HINT)
        found.append(hour * 60 + minute)
    return found[0], found[1]


def _days(named: str, part: str) -> set[int]:
    if named in _MANY:
        return set(_MANY[named])
    match = _DAYS.fullmatch(named)
    if match is None:
        raise InputError(f'"{part}" are no hours', mend=_HINT)
    begin = _day(match["from"])
    end = begin if match["to"] is None else _day(match["to"])
    return {(begin + step) % 7 for step in range((end - begin) % 7 + 1)}


def _day(text: str) -> int:
    for place, day in enumerate(DAYS):
        if text[:3] == day.lower() or text == day.lower()[:2]:
            return place
    raise InputError(f'"{text}" is no day of the week', mend=f"use {', '.join(DAYS)}")
