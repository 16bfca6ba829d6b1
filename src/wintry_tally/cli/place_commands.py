"""`place` and `watch`: what a room, a freezer or a shelf is like, typed in or read for months without a window."""

from __future__ import annotations

import signal
import threading
from datetime import datetime
from pathlib import Path
from typing import Any

import click

from wintry_tally.cli.saying import answer, say
from wintry_tally.core.errors import InputError

TURN_S = 1.0


@click.command("place", context_settings={"ignore_unknown_options": True})
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("name", required=False)
@click.argument("temperature", required=False)
@click.option("--at", "moment", help="When it was read, as 2027-01-11T08:00; else now.")
@click.option("--thermometer", help='The instrument of the bench that reads it; "" for hand readings.')
@click.option("--every", type=float, help="Seconds from reading to reading.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def place_command(
    book: Path, name: str | None, temperature: str | None, moment: str | None, thermometer: str | None, every: float | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Show the places of a book, keep a reading of one (as -18.5 or "5 °F"), or say what reads it."""
    for text in (name, temperature):
        if text is not None and text.startswith("-") and not text.lstrip("-−").startswith(tuple("0123456789.,")):
            raise click.NoSuchOption(text)
    found = places_told(book, name, temperature, moment, thermometer, every)
    answer(found, None if as_json else places_words(found))


@click.command("watch")
@click.argument("book", type=click.Path(path_type=Path))
@click.option("--once", is_flag=True, help="Read every thermometer once and leave.")
@click.option("--json", "as_json", is_flag=True, help="Print an object a line.")
def watch_command(book: Path, once: bool, as_json: bool) -> None:
    """Read the thermometers of a book's places, each at its own pace, until Ctrl+C or SIGTERM; for a bench computer."""
    raise SystemExit(watch(book, once, as_json))


def places_told(
    path: Path, name: str | None, temperature: str | None, moment: str | None, thermometer: str | None, every: float | None
) -> dict[str, Any]:  # fmt: skip
    """See `wintry-tally place`; the object it prints.

    Raises:
        WintryError: no book; no temperature, moment or instrument of that name.
    """
    from dataclasses import replace

    from wintry_tally.app.bench_book import equipment_of
    from wintry_tally.app.opening import opened
    from wintry_tally.app.places import KEY, PlaceSpec, places_of, places_text, with_place

    with opened(path, lambda words: say(words, err=True)) as book:
        places = places_of(book)
        if name is not None and (thermometer is not None or every is not None):
            if thermometer:
                equipment_of(book).instrument(thermometer)
            made = next((one for one in places if one.name == name), PlaceSpec(name))
            made = made if thermometer is None else replace(made, thermometer=thermometer)
            made = made if every is None else replace(made, every_s=every)
            places = with_place(places, made)
            book.set_meta(KEY, places_text(places))
        if name is not None and temperature is not None:
            if all(one.name != name for one in places):
                known = ", ".join(one.name for one in places)
                raise InputError(f'there is no place "{name}"', mend=f'there are {known}; make one by --thermometer ""')
            book.places.add(name, moment_of(moment), _temperature(temperature))
        latest = book.places.latest()
    return {
        "schema": "wintry-tally.places/1",
        "places": [
            {
                "place": one.name, "thermometer": one.thermometer or None, "every_s": one.every_s,
                "temperature_C": latest[one.name].temperature_C if one.name in latest else None,
                "at": latest[one.name].at.isoformat(timespec="seconds") if one.name in latest else None,
            }
            for one in places
        ],
    }  # fmt: skip


def places_words(found: dict[str, Any]) -> str:
    """The same for people."""
    from wintry_tally.app.places import latest_words

    lines, now = [], datetime.now().astimezone()
    for one in found["places"]:
        by = f"read by {one['thermometer']} every {one['every_s']:g} s" if one["thermometer"] else "read by hand"
        seen = "never read"
        if one["at"]:
            seen = latest_words(one["temperature_C"], datetime.fromisoformat(one["at"]), now)
        lines.append(f"{one['place']}: {seen}; {by}")
    return "\n".join(lines)


def _temperature(text: str) -> float:
    from wintry_tally.core.quantity import parse_typed

    return parse_typed(text, "temperature").value


def moment_of(text: str | None) -> datetime:
    """A moment as typed, now where none is.

    Raises:
        InputError: no moment, or one that is still to come.
    """
    now = datetime.now().astimezone()
    if text is None:
        return now
    try:
        found = datetime.fromisoformat(text).astimezone()
    except ValueError:
        raise InputError(f'--at: "{text}" is no moment', mend="write it like 2027-01-11T08:00") from None
    if found > now:
        raise InputError(f"--at: {text} is still to come", mend="a reading is made before it is kept")
    return found


def watch(path: Path, once: bool, as_json: bool) -> int:
    """See `wintry-tally watch`: 0 when it was told to end, 2 where nothing is to be read, 3 where one did not answer (--once).

    Raises:
        WintryError: no book, or it cannot be written.
    """
    ends = threading.Event()
    before = {
        number: signal.signal(number, lambda *_: ends.set())
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
    }
    try:
        return _watched(path, once, as_json, ends)
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def _watched(path: Path, once: bool, as_json: bool, ends: threading.Event) -> int:
    from wintry_tally.app.bench_book import equipment_of
    from wintry_tally.app.opening import opened
    from wintry_tally.app.places import PlaceLog, places_of, reader

    silent: list[str] = []

    def failed(words: str) -> None:
        silent.append(words)
        say(words, err=True)

    with opened(path, lambda words: say(words, err=True)) as book:
        if not any(one.thermometer for one in places_of(book)):
            raise InputError(
                "no place has a thermometer", str(path), "say so: wintry-tally place BOOK freezer --thermometer NAME"
            )
        log = PlaceLog(reader(lambda: equipment_of(book)), failed)
        while not ends.is_set():
            now = datetime.now().astimezone()
            for place, (temperature, by) in log.take(log.due(places_of(book), now)).items():
                book.places.add(place, now, temperature, by)
                told = {"place": place, "at": now.isoformat(timespec="seconds"), "temperature_C": temperature}
                answer(told, None if as_json else f"{now:%d %b %H:%M:%S}  {place}  {temperature:.1f} °C")
            if once:
                break
            ends.wait(TURN_S)
    return 3 if once and silent else 0


PLACES = (place_command, watch_command)
"""Both, for `wintry-tally`."""
