"""Opening, making and closing a test book: one SQLite file."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy import Connection, column, insert, select, table, update
from sqlalchemy.exc import DBAPIError, SQLAlchemyError

from wintry_tally.book import sqlite, tables
from wintry_tally.book.attachments import Attachments
from wintry_tally.book.banks import Banks
from wintry_tally.book.feed import OF_META, OF_SAMPLE, Feed, Note
from wintry_tally.book.large import Large
from wintry_tally.book.place import APPLICATION_ID, Place, file_named, make_file
from wintry_tally.book.places import Places
from wintry_tally.book.records import FROM_BACKUP, Run, RunSettings, RunStatus
from wintry_tally.book.runs import Runs
from wintry_tally.book.samples import Samples
from wintry_tally.core.errors import BookError

__all__ = ["Book", "Run", "RunSettings", "RunStatus"]

MIGRATING = threading.Lock()
"""One at a time in a process: Alembic keeps what it is at in one place for all threads."""
WAIT_S = 5.0
"""How long a book that another program is writing into is waited for."""
REMEMBERED = frozenset({*OF_META, *OF_SAMPLE, "columns", "demo", "name"})
"""Small facts, by the beginning of their keys, that are noted in the feed, never change, or are this program's alone."""
HURRIED_S = 0.4
"""By a thread that a person is waiting for."""
STRICT = False
"""For tests: a thread that a person is waiting for asks a book only where it says so (`Book.in_place`)."""


class Book:
    """One test book. Use `create` or `open`; close it, or use it as a context manager.

    `moved_words`: said once its file was moved, deleted or replaced while it was open; it goes on in another, `path`.
    """

    def __init__(self, path: Path) -> None:
        path = path.absolute()
        self._place = Place(path)
        self._engine = sqlite.engine(path)
        self._at_work, self._own, self._turn = 0, threading.local(), threading.Condition()
        self._closed, self._hurried = False, 0
        self.moved_words = ""
        self._facts: dict[str, str] | None = None
        self._remembers, self._recalling = False, threading.Lock()
        self.feed = Feed()
        self.samples = Samples(self.transaction, self.feed.note)
        self.large = Large(self.transaction)
        self.runs = Runs(self.transaction, self.feed.note, self.large)
        self.places = Places(self.transaction, self.feed.note)
        self.attachments = Attachments(self.transaction, self.feed.note, self.large)
        self.banks = Banks(self.transaction, self.feed.note)

    @classmethod
    def create(cls, where: Path | str, name: str = "") -> Book:
        """Make a new, empty book; `where`: a path, or a URL as `open` takes it.

        Raises:
            BookError: the file exists, or its folder cannot be written.
        """
        path = file_named(where)

        def fill(being_made: Path) -> None:
            with cls(being_made) as book:
                book._migrate()
                book.set_meta("name", name or path.stem)

        make_file(path, fill)
        return cls(path.absolute())

    @classmethod
    def open(cls, where: Path | str) -> Book:
        """Open a book, bringing its tables up to date; `where`: a path, or the URL of one (decision 15).

        Raises:
            BookError: not there, not a book, from a newer version, or not writable; the message says which.
        """
        path = file_named(where)
        try:
            if not path.is_file():
                raise BookError("there is no such book", str(path), "check the path, or start a new book")
            with path.open("rb") as file:
                head = file.read(100)
        except (OSError, ValueError) as error:
            reason = getattr(error, "strerror", None) or error
            raise BookError(
                f"the book cannot be read ({reason})", str(path)[:200], "check its name and permissions"
            ) from None
        mark = int.from_bytes(head[68:72], "big") if head.startswith(b"SQLite format 3\0") else 0
        if mark != APPLICATION_ID:
            raise BookError("this file is not a test book", str(path), "import logs from within a book instead")
        if not os.access(path, os.W_OK) or not os.access(path.parent, os.W_OK):
            raise BookError(
                "the book or its folder is read-only", str(path), "copy the book to a folder you may write to"
            )
        try:
            book = cls(path)
        except (sqlite.DRIVER_ERROR, UnicodeDecodeError) as error:
            raise BookError(f"the book cannot be read ({error})", str(path), FROM_BACKUP) from None
        try:
            book._migrate()
        except BookError:
            book.close()
            raise
        return book

    @property
    def path(self) -> Path:
        """The file it is in."""
        return self._place.path

    def _migrate(self) -> None:
        with self.transaction() as connection:
            if self._revision(connection) == tables.HEAD:
                return
        # all of it or nothing, whoever else may be opening it and whatever kills this: SQLite's own statements that
        # change tables are in a transaction only when it was begun in words
        with MIGRATING, self.transaction() as connection:
            sqlite.write_from_now(connection)
            if self._revision(connection) == tables.HEAD:
                return
            # imported only when a book is new or old: it is slow to load
            from alembic import command
            from alembic.config import Config

            config = Config()
            config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
            config.set_main_option("path_separator", "os")
            config.attributes["connection"] = connection
            command.upgrade(config, "head")

    def _revision(self, connection: Connection) -> str | None:
        """Of its tables; None where there are none yet."""
        if "alembic_version" not in connection.dialect.get_table_names(connection):
            return None
        revision = connection.execute(select(column("version_num")).select_from(table("alembic_version"))).scalar()
        if revision is not None and str(revision) not in tables.REVISIONS:
            raise BookError(
                f"it was written by a newer version (tables {str(revision)[:20]}; this one knows {tables.HEAD})",
                str(self.path),
                "open it with that version",
            )
        return None if revision is None else str(revision)

    @contextmanager
    def transaction(self) -> Iterator[Connection]:
        """One transaction: all of it, or a BookError and nothing. What one thread does within it belongs to it."""
        outer: Connection | None = getattr(self._own, "connection", None)
        if outer is not None:
            yield outer
            return
        if STRICT and threading.get_ident() == self._hurried and not getattr(self._own, "in_place", False):
            _hold_to_it()
        with self._turn_taken(), self._refusals_in_words(), self._engine.begin() as connection:
            sqlite.wait_at_most(connection, HURRIED_S if threading.get_ident() == self._hurried else WAIT_S)
            self._own.connection = connection
            try:
                yield connection
            finally:
                self._own.connection = None

    @contextmanager
    def _turn_taken(self) -> Iterator[None]:
        """In the file that was opened, or, when that is gone, in the one everything was rescued into."""
        with self._turn:
            if self._closed:
                raise BookError("the book is closed", str(self.path))
            if not self._place.holds:
                self._rescue()
            self._at_work += 1
        try:
            yield
        finally:
            with self._turn:
                self._at_work -= 1
                self._turn.notify_all()

    @contextmanager
    def in_place(self) -> Iterator[None]:
        """What begins or ends something is written where it is asked for, also by a thread that a person is waiting for."""
        before = getattr(self._own, "in_place", False)
        self._own.in_place = True
        try:
            yield
        finally:
            self._own.in_place = before

    def hurry_here(self) -> None:
        """The calling thread is the one a person waits for: it is refused soon where the book is locked."""
        self._hurried = threading.get_ident()

    def look(self) -> None:
        """Notice at once, not at the next write, that the file went away.

        Raises:
            BookError: it did, and nothing could be rescued.
        """
        with self._turn_taken():
            pass

    def _rescue(self) -> None:
        """With the turn held: everything into another file, and go on in that."""
        self._turn.wait_for(lambda: self._at_work == 0, WAIT_S)  # what is being written is rescued too
        if self._place.holds:
            return  # somebody else did it meanwhile
        before = self._place
        kept = before.rescue()
        self._engine.dispose()
        before.close()
        self._place, self._engine = Place(kept), sqlite.engine(kept)
        self.moved_words = (
            f"The book's file {before.path.name} was moved, deleted or replaced by something else. Nothing is lost: "
            f"everything is in {kept}, and goes on there."
        )

    @contextmanager
    def _refusals_in_words(self) -> Iterator[None]:
        try:
            yield
        except DBAPIError as error:
            reason = str(error.orig)
            mend = (
                "free some space on the disk" if "full" in reason
                else "another program is writing into it; try again in a moment" if "locked" in reason
                else "check the disk and the file's permissions"
            )  # fmt: skip
            raise BookError(f"the book cannot be read or written ({reason})", str(self.path), mend) from None
        except (SQLAlchemyError, sqlite.DRIVER_ERROR, UnicodeDecodeError) as error:
            reason = " ".join(str(error).split())[:120]
            raise BookError(f"the book cannot be read or written ({reason})", str(self.path), FROM_BACKUP) from None

    def meta(self, key: str, default: str = "", fresh: bool = False) -> str:
        """A small fact about the book; `fresh`: looked up, whatever is remembered."""
        if not fresh and self._remembers and key.partition(":")[0] in REMEMBERED:
            return self._remembered().get(key, default)
        with self.transaction() as connection:
            value = connection.execute(select(tables.meta.c.value).where(tables.meta.c.key == key)).scalar()
        return default if value is None else str(value)

    def metas(self, name: str) -> dict[int, str]:
        """Small facts of that name of every sample ("quarantine:3"), by the sample's number; those that are empty left out."""
        prefix = f"{name}:"
        if self._remembers and name in REMEMBERED:
            rows = [(key, value) for key, value in self._remembered().items() if key.startswith(prefix)]
        else:
            columns = tables.meta.c
            query = select(columns.key, columns.value).where(columns.key.startswith(prefix, autoescape=True))
            with self.transaction() as connection:
                rows = [(str(key), str(value)) for key, value in connection.execute(query)]
        return {int(key[len(prefix) :]): value for key, value in rows if value and key[len(prefix) :].isdigit()}

    def set_meta(self, key: str, value: str) -> None:
        """Keep a small fact about the book."""
        with self.transaction() as connection:
            done = connection.execute(update(tables.meta).where(tables.meta.c.key == key).values(value=value))
            if done.rowcount == 0:
                connection.execute(insert(tables.meta).values(key=key, value=value))
            self.feed.note_meta(connection, key)
        with self._recalling:
            if self._facts is not None:
                self._facts = {**self._facts, key: value}

    def remember(self) -> None:
        """From now on small facts that the feed speaks of are read once; whoever follows the feed says `recall`."""
        self._remembers = True
        self.recall()

    def recall(self) -> None:
        """Somebody changed something: small facts are read anew."""
        with self._recalling, self.transaction() as connection:
            rows = connection.execute(select(tables.meta.c.key, tables.meta.c.value)).all()
            self._facts = {str(key): str(value) for key, value in rows}

    def _remembered(self) -> dict[str, str]:
        if self._facts is None:
            self.recall()
        assert self._facts is not None
        return self._facts

    def newest_change(self) -> int:
        """The number of the newest note of its feed."""
        with self.transaction() as connection:
            return self.feed.last(connection)

    def changes_since(self, number: int) -> list[Note]:
        """What was changed after that note, by whomever, in order."""
        with self.transaction() as connection:
            return self.feed.since(connection, number)

    @contextmanager
    def reading(self) -> Iterator[Book]:
        """To read from it, for a moment, also when it was closed meanwhile.

        Raises:
            BookError: it is not there any more.
        """
        with self._turn:
            closed = self._closed
        if not closed:
            yield self
            return
        with Book.open(self.path) as again:
            yield again

    def close(self) -> None:
        """Write everything into the one file and let go of it."""
        with self._turn:
            if self._closed:
                return
            self._closed = True
            self._turn.wait_for(lambda: self._at_work == 0, WAIT_S)
        try:
            with self._engine.connect() as connection:
                # whoever else reads it is not waited for: the write-ahead file stays, and is read with the book
                sqlite.wait_at_most(connection, HURRIED_S)
                sqlite.into_one_file(connection)
        except SQLAlchemyError:
            pass  # the write-ahead file keeps what the checkpoint could not move
        self._engine.dispose()
        self._place.close()

    def __enter__(self) -> Book:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _hold_to_it() -> None:
    """A part of this program that asks a book while a person waits is a defect; a test may."""
    frame = sys._getframe(1)
    while frame.f_back is not None and frame.f_globals["__name__"].startswith(("wintry_tally.book.", "contextlib")):
        frame = frame.f_back
    if frame.f_globals["__name__"].startswith("wintry_tally."):
        raise AssertionError(
            f"a person is waiting, and {frame.f_globals['__name__']}.{frame.f_code.co_name} asks a book"
        )
