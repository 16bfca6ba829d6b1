"""A book copied whole, as it stands at one moment, while others may be writing into it."""

from __future__ import annotations

import contextlib
import sqlite3
from pathlib import Path

from wintry_tally.book.book import Book
from wintry_tally.book.place import make_file
from wintry_tally.core.errors import BookError

PAGES_AT_ONCE = 2_000


def copy_book(source: Path, target: Path) -> None:
    """Copy a book into a new file, readings bit for bit; made whole or not at all.

    Runs that go on in the source are in nobody's hands in the copy.

    Raises:
        BookError: the source is no book or cannot be read; the target exists or cannot be written.
    """

    def fill(being_made: Path) -> None:
        try:
            with (
                contextlib.closing(sqlite3.connect(source)) as old,
                contextlib.closing(sqlite3.connect(being_made)) as new,
            ):
                old.backup(new, pages=PAGES_AT_ONCE)
                new.execute("UPDATE run SET owner = '', lease = NULL WHERE status = 'running'")
                new.commit()
                sound = new.execute("PRAGMA integrity_check").fetchone()[0]
        except (sqlite3.Error, OSError) as error:
            raise BookError(
                f"the book cannot be copied ({error})", str(source), "try again, or free some space"
            ) from None
        if sound != "ok":
            raise BookError(f"the copy does not read back ({sound})", str(source), "fetch the book from a backup")

    with Book.open(source):  # a book, of tables that this program knows, held open while it is copied
        make_file(target, fill)
