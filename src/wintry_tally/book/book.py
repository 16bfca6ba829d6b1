"""Opening, making and closing a test book: one SQLite file."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event, insert, select, update
from sqlalchemy.exc import DBAPIError, SQLAlchemyError

from wintry_tally.book import tables
from wintry_tally.book.records import Run, RunSettings, RunStatus
from wintry_tally.book.runs import Runs
from wintry_tally.book.samples import Samples
from wintry_tally.core.errors import BookError

__all__ = ["Book", "Run", "RunSettings", "RunStatus"]

APPLICATION_ID = 0x57544C59


class Book:
    """One test book. Use `create` or `open`; close it, or use it as a context manager."""

    def __init__(self, path: Path, engine: Engine) -> None:
        self.path = path
        self._engine = engine
        self.samples = Samples(self.transaction)
        self.runs = Runs(self.transaction)

    @classmethod
    def create(cls, path: Path, name: str = "") -> Book:
        """Make a new, empty book.

        Raises:
            BookError: the file exists, or its folder cannot be written.
        """
        if path.exists():
            raise BookError("a file of this name exists already", str(path), "choose another name")
        if not path.parent.is_dir():
            raise BookError("its folder does not exist", str(path), "choose an existing folder")
        try:
            connection = sqlite3.connect(path)
            connection.execute(f"PRAGMA application_id={APPLICATION_ID}")
            connection.commit()
            connection.close()
        except sqlite3.Error as error:
            raise BookError(f"cannot be made ({error})", str(path), "choose a folder you may write to") from None
        book = cls(path, _engine(path))
        book._migrate()
        book.set_meta("name", name or path.stem)
        return book

    @classmethod
    def open(cls, path: Path) -> Book:
        """Open a book, bringing its tables up to date.

        Raises:
            BookError: not there, not a book, from a newer version, or not writable; the message says which.
        """
        if not path.is_file():
            raise BookError("there is no such book", str(path), "check the path, or start a new book")
        with path.open("rb") as file:
            head = file.read(100)
        mark = int.from_bytes(head[68:72], "big") if head.startswith(b"SQLite format 3\0") else 0
        if mark != APPLICATION_ID:
            raise BookError("this file is not a test book", str(path), "import logs from within a book instead")
        if not os.access(path, os.W_OK) or not os.access(path.parent, os.W_OK):
            raise BookError(
                "the book or its folder is read-only", str(path), "copy the book to a folder you may write to"
            )
        book = cls(path, _engine(path))
        try:
            book._migrate()
        except BookError:
            book.close()
            raise
        return book

    def _migrate(self) -> None:
        with self.transaction() as connection:
            names = set(connection.dialect.get_table_names(connection))
            revision = None
            if "alembic_version" in names:
                revision = connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar()
            if revision == tables.HEAD:
                return
            if revision is not None and revision > tables.HEAD:
                raise BookError(
                    f"it was written by a newer version (tables {revision}; this one knows {tables.HEAD})",
                    str(self.path),
                    "open it with that version",
                )
            # imported only when a book is new or old: it is slow to load
            from alembic import command
            from alembic.config import Config

            config = Config()
            config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
            config.set_main_option("path_separator", "os")
            config.attributes["connection"] = connection
            command.upgrade(config, "head")

    @contextmanager
    def transaction(self) -> Iterator[Connection]:
        """One transaction: all of it, or a BookError and nothing."""
        try:
            with self._engine.begin() as connection:
                yield connection
        except DBAPIError as error:
            reason = str(error.orig)
            mend = "free some space on the disk" if "full" in reason else "check the disk and the file's permissions"
            raise BookError(f"the book cannot be read or written ({reason})", str(self.path), mend) from None
        except SQLAlchemyError as error:
            raise BookError(f"the book cannot be read or written ({error})", str(self.path)) from None

    def meta(self, key: str, default: str = "") -> str:
        """A small fact about the book."""
        with self.transaction() as connection:
            value = connection.execute(select(tables.meta.c.value).where(tables.meta.c.key == key)).scalar()
        return default if value is None else str(value)

    def set_meta(self, key: str, value: str) -> None:
        """Keep a small fact about the book."""
        with self.transaction() as connection:
            done = connection.execute(update(tables.meta).where(tables.meta.c.key == key).values(value=value))
            if done.rowcount == 0:
                connection.execute(insert(tables.meta).values(key=key, value=value))

    def close(self) -> None:
        """Write everything into the one file and let go of it."""
        try:
            with self._engine.connect() as connection:
                connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
        except SQLAlchemyError:
            pass  # the write-ahead file keeps what the checkpoint could not move
        self._engine.dispose()

    def __enter__(self) -> Book:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _engine(path: Path) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 5.0})

    @event.listens_for(engine, "connect")
    def prepare(connection: Any, _record: Any) -> None:
        cursor = connection.cursor()
        # a commit a second is cheap: FULL keeps readings through a power cut too
        for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
            cursor.execute(f"PRAGMA {pragma}")
        cursor.close()

    return engine
