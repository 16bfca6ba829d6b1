"""A book opened for one thing to be done with it, put right first; and how it judges."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from wintry_tally.book import Book
from wintry_tally.book.mending import put_right
from wintry_tally.core.verdict.outcome import School

if TYPE_CHECKING:
    from wintry_tally.book import Run


@contextmanager
def opened(path: Path, tell: Callable[[str], None]) -> Iterator[Book]:
    """The book, what a kill left in it put right and told; closed afterwards, and told when its file went away.

    Raises:
        BookError: as Book.open; or it could not be put right.
    """
    with Book.open(path) as book:
        for words in put_right(book):
            tell(words)
        yield book
        if book.moved_words:
            tell(book.moved_words)


def school_of(book: Book) -> School:
    """The decision rule this book is judged by."""
    kept = book.meta("school")
    return School(kept) if kept in School._value2member_map_ else School.STRICT


def attended_of(book: Book) -> str:
    """When somebody is at this bench, as typed."""
    from wintry_tally.core.protocol.attended import USUAL

    return book.meta("attended") or USUAL


def begin_with(book: Book, school: str, attended: str) -> None:
    """How a new book is judged, and when somebody is there, as preferred; what is usual is not written."""
    if school != School.STRICT.value:
        book.set_meta("school", school)
    if attended:
        book.set_meta("attended", attended)


NEEDS = "needs"
"""Key of the book's small fact: what its batteries are needed for."""


def needs_of(book: Book) -> list[str]:
    """What the batteries of a book are needed for, each in one line as it is typed."""
    kept = book.meta(NEEDS)
    return [str(text) for text in json.loads(kept)] if kept.startswith("[") else []


def is_over(run: Run) -> bool:
    """Whether a run may be judged: finished, or closed as interrupted."""
    from wintry_tally.book import RunStatus

    return run.status is not RunStatus.RUNNING
