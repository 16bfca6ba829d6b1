"""A book as it was when it was last closed here, so that a large one stands on the screen at once when it is opened again.

It lies in this user's own cache, beside the dossiers, and is believed only where the file is the very one that was closed
(its number, size and time of change), its feed has no newer note, and this program's code is the same.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from wintry_tally.app.kept import KEPT, code_mark
from wintry_tally.app.known import Known, Looking
from wintry_tally.app.opening import begin_with
from wintry_tally.book import Book

if TYPE_CHECKING:
    from wintry_tally.core.verdict.outcome import Outcome

Outcomes = Mapping[int, "tuple[Outcome, ...]"]
"""How each claim of a sample stands, in the order of its claims, by the sample's number."""


@dataclass(frozen=True)
class ReadBook:
    """A book that was opened and looked at; `outcomes`: of the samples of which they were known when it was closed."""

    book: Book
    looking: Looking
    outcomes: Outcomes = field(default_factory=dict)


@dataclass(frozen=True)
class _LastSeen:
    stamp: str
    code: str
    known: Known
    outcomes: Outcomes


def read_book(path: Path) -> ReadBook:
    """Open a book and look at it; on whatever thread.

    Raises:
        BookError: as Book.open; or what it holds cannot be read.
    """
    path = path.absolute()
    stamp = _stamp(path)
    return look_at(Book.open(path), _recalled(path, stamp))


def new_book(path: Path, school: str, attended: str) -> ReadBook:
    """Make a book that is judged so, with somebody there then, as preferred; and look at it.

    Raises:
        BookError: as Book.create.
    """
    book = Book.create(path)
    try:
        begin_with(book, school, attended)
    except BaseException:
        book.close()
        raise
    return look_at(book)


def look_at(book: Book, seen: _LastSeen | None = None) -> ReadBook:
    """Look at a book that is open; one that cannot be read is closed.

    Raises:
        BookError: what it holds cannot be read.
    """
    try:
        if seen is not None and seen.known.newest == book.newest_change():
            return ReadBook(book, Looking(book, seen.known), seen.outcomes)
        return ReadBook(book, Looking(book))
    except BaseException:
        book.close()
        raise


def as_last_seen(path: Path, known: Known, outcomes: Outcomes) -> Callable[[], None]:
    """What keeps a book that was closed as it is now, whenever that is called.

    Whatever goes wrong with it, the book is read as if it never was.
    """
    stamp = _stamp(path)

    def keep() -> None:
        if stamp:
            # not squeezed: nothing is to be waited for when it is read back
            KEPT.put(_name(path), _LastSeen(stamp, code_mark(), known.packed(), outcomes), {}, level=0)

    return keep


def _recalled(path: Path, stamp: str) -> _LastSeen | None:
    found = KEPT.get(_name(path), {})
    if not isinstance(found, _LastSeen) or not stamp or found.stamp != stamp or found.code != code_mark():
        return None
    return found


def _name(path: Path) -> str:
    return f"book-{hashlib.sha256(str(path.absolute()).encode('utf-8', 'surrogateescape')).hexdigest()}"


def _stamp(path: Path) -> str:
    """What tells a book's file from whatever it was before; nothing where it is not there."""
    try:
        known = path.stat()
        ahead = path.with_name(f"{path.name}-wal")
        beside = ahead.stat() if ahead.exists() else None
    except (OSError, ValueError):
        return ""
    # an empty file of what is yet to be moved into the book stays where another window has it open
    moving = f" {beside.st_size} {beside.st_mtime_ns}" if beside is not None and beside.st_size else ""
    return f"{known.st_dev} {known.st_ino} {known.st_size} {known.st_mtime_ns}{moving}"
