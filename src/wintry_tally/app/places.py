"""The places of a bench (room, freezer, shelf, box outside): which there are, what reads them, and their log."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from wintry_tally.book.records import plain_of, read_as
from wintry_tally.core.errors import InputError

if TYPE_CHECKING:
    from wintry_tally.app.listening import Background
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.book import Book
    from wintry_tally.book.places import PlaceReading

KEY = "places"
"""Key of the book's small fact that says which places there are, and what reads them."""
USUAL = ("room", "freezer", "shelf")
LEAST_EVERY_S, USUAL_EVERY_S, MOST_EVERY_S = 30.0, 600.0, 7 * 86_400.0


@dataclass(frozen=True)
class PlaceSpec:
    """A place: its name, the instrument that reads its temperature ("" for hand readings), and how often, s."""

    name: str
    thermometer: str = ""
    every_s: float = USUAL_EVERY_S


def places_of(book: Book) -> tuple[PlaceSpec, ...]:
    """The places of a book; the usual ones, read by hand, where nobody has said otherwise."""
    kept = book.meta(KEY)
    if not kept:
        return tuple(PlaceSpec(name) for name in USUAL)
    with read_as("the places kept in the book"):
        data = plain_of(kept)
        return tuple(
            PlaceSpec(str(one["name"]), str(one["thermometer"]), float(one["every_s"])) for one in data["places"]
        )


LATELY = timedelta(days=7)


def lately(latest: Mapping[str, PlaceReading], now: datetime) -> dict[str, float]:
    """The temperature of each place that was read within the last week, °C, of the newest readings."""
    return {name: one.temperature_C for name, one in latest.items() if now - one.at <= LATELY}


def places_text(places: tuple[PlaceSpec, ...]) -> str:
    """As it is kept.

    Raises:
        InputError: a name twice or missing, or read more often than makes sense.
    """
    names = [one.name.strip() for one in places]
    if not all(names) or len(set(names)) < len(names):
        raise InputError("every place has a name of its own", mend="call it freezer 2, box outside…")
    often = next((one for one in places if not LEAST_EVERY_S <= one.every_s <= MOST_EVERY_S), None)
    if often is not None:
        raise InputError(
            f"{often.name}: a place is read every {LEAST_EVERY_S:g} s at the most, once a week at the least",
            mend="every 10 min is enough",
        )
    return json.dumps({"places": [asdict(one) for one in places]}, ensure_ascii=False)


class PlaceLog:
    """Reads the thermometers of the places, each at its own pace; sparse, and never in the way of a run."""

    def __init__(self, read: Callable[[str], float], failed: Callable[[str], None]) -> None:
        self._read, self._failed = read, failed
        self._next: dict[str, datetime] = {}
        self._silent: set[str] = set()

    def due(self, places: tuple[PlaceSpec, ...], now: datetime) -> list[PlaceSpec]:
        """Those that are to be read now; they count as read."""
        found = [one for one in places if one.thermometer and self._next.get(one.name, now) <= now]
        for one in found:
            self._next[one.name] = now + timedelta(seconds=one.every_s)
        return found

    def take(self, places: list[PlaceSpec]) -> dict[str, tuple[float, str]]:
        """Read them: temperature and instrument by place. One that does not answer is told once, until it answers again."""
        found = {}
        for one in places:
            try:
                found[one.name] = (self._read(one.thermometer), one.thermometer)
                self._silent.discard(one.name)
            except InputError as error:
                if one.name not in self._silent:
                    self._failed(f"{one.name}: {error}")
                self._silent.add(one.name)
        return found


class PlaceWatch:
    """Keeps the log of an open book's places, beside everything else; asked now and then by whoever has it open."""

    def __init__(
        self, book: Book, equipment: Callable[[], Equipment], background: Background, failed: Callable[[str], None]
    ) -> None:  # fmt: skip
        self._book, self._background, self._failed = book, background, failed
        self._silent: list[str] = []
        self._log = PlaceLog(reader(equipment), self._silent.append)
        self._places: tuple[PlaceSpec, ...] | None = None
        self._busy = False

    def changed(self) -> None:
        """The places, or the bench, were changed."""
        self._places = None

    def follow(self, now: datetime) -> None:
        """Read what is due."""
        if self._busy:
            return
        if self._places is None:
            self._places = places_of(self._book)
        due = self._log.due(self._places, now)
        if not due:
            return
        self._busy = True

        def job() -> str:
            for place, (temperature, by) in self._log.take(due).items():
                self._book.places.add(place, now, temperature, by)
            words, self._silent[:] = " ".join(self._silent), []
            return words

        self._background(job, self._done, self._not_done)

    def _done(self, words: str) -> None:
        self._busy = False
        if words:
            self._failed(words)

    def _not_done(self, words: str) -> None:
        self._busy = False
        self._failed(words)


def reader(equipment: Callable[[], Equipment]) -> Callable[[str], float]:
    """A way to read the temperature of an instrument of the bench by its name; never while a run has it.

    It raises InputError where the instrument is taken, does not answer, or tells no temperature.
    """

    def read(name: str) -> float:
        from wintry_tally.app.bench_book import look_at

        answer = look_at(equipment().instrument(name), "the log of a place")
        if answer.problem:
            raise InputError(answer.problem)
        if "temperature" not in answer.values:
            raise InputError(f"{name} tells no temperature", mend="choose a thermometer")
        return answer.values["temperature"]

    return read


def with_place(places: tuple[PlaceSpec, ...], made: PlaceSpec, before: str = "") -> tuple[PlaceSpec, ...]:
    """With a place added, or changed where one has its (former) name."""
    name = before or made.name
    if any(one.name == name for one in places):
        return tuple(made if one.name == name else one for one in places)
    return (*places, made)


def latest_words(reading_C: float, at: datetime, now: datetime) -> str:
    """A place's newest reading in words."""
    from wintry_tally.core.quantity import format_hours

    hours = (now - at).total_seconds() / 3600.0
    ago = "just now" if hours < 1.0 / 60.0 else f"{format_hours(hours)} ago"
    return f"{reading_C:.1f} °C, {ago}".replace("-", "−")
