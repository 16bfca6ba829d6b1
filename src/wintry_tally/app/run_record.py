"""What happened in the runs of a book: one way for window, page and shell."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from wintry_tally.core.errors import BookError
from wintry_tally.core.message import said
from wintry_tally.report.record import HEED, Happened

if TYPE_CHECKING:
    from wintry_tally.book import Book
    from wintry_tally.core.engine import Event


def record_of(book: Book, run_id: int) -> tuple[Happened, ...]:
    """What happened in a run, in the order of its time; the cautions that were heeded in one line.

    Raises:
        BookError: there is no such run, or its events cannot be read.
    """
    events = sorted(book.runs.events(book.runs.get(run_id).id), key=lambda event: event.at_s)
    heeded = [event for event in events if event.kind == "acknowledged"]
    lines = [_line(event) for event in events if event.kind != "acknowledged"]
    if heeded:
        lines.insert(0, Happened(heeded[0].at_s, "acknowledged", said("heeded", count=len(heeded)), heed=False))
    return tuple(lines)


def records_of(book: Book, run_ids: Sequence[int]) -> dict[int, tuple[Happened, ...]]:
    """Of several runs, by their numbers; one that cannot be read says so."""
    return {number: _told(book, number) for number in run_ids}


def _told(book: Book, number: int) -> tuple[Happened, ...]:
    try:
        return record_of(book, number)
    except BookError as error:
        return (Happened(0.0, "fault", str(error), heed=True),)


def _line(event: Event) -> Happened:
    return Happened(event.at_s, event.kind, event.message, event.kind in HEED)
