"""What is larger than one piece is kept in pieces, a transaction each: no other run waits long to write its readings.

A large value is seen by nobody until what it belongs to is written. One that belongs to nothing (its writer was killed,
or refused at the last) is taken away when the book is opened again.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime, timedelta

from sqlalchemy import Column, Connection, func, insert, select
from sqlalchemy import delete as delete_from

from wintry_tally.book import tables
from wintry_tally.book.owner import by_clock, owner_lives, this_host, this_process
from wintry_tally.book.records import FROM_BACKUP
from wintry_tally.book.samples import Transaction
from wintry_tally.book.sqlite import bytes_in_row
from wintry_tally.core.errors import BookError

AT_ONCE = 1 << 20
"""Bytes of one transaction: some milliseconds on a disk that a laboratory would use."""
APART_S = 0.002
"""Between two of them whoever waits for the book comes first."""
ELSEWHERE = timedelta(hours=1)
"""What another computer began so long ago and has not finished is not being written any more."""
OWNERS = (tables.sealed, tables.original, tables.attachment)
"""Tables with a row's `large_id`."""


class Large:
    """Keeps large values of a book and gives them back."""

    def __init__(self, transaction: Transaction) -> None:
        self._transaction = transaction
        self._left: set[int] = set()
        """What could not be taken away yet: a disk was full. Two threads may add to it and take from it."""

    @contextmanager
    def kept(self, *contents: bytes) -> Iterator[list[int | None]]:
        """Keep them; the numbers of those that are in pieces, None for those that one row may hold.

        What is not named by any row when this is left, however it is left, goes again.

        Raises:
            BookError: the book cannot be written; what may stay of them is seen by nobody.
        """
        made: list[int | None] = []
        self._take_away([])
        try:
            for content in contents:
                made.append(None if len(content) <= AT_ONCE else self._begun(len(content)))
                if made[-1] is not None:
                    self._filled(made[-1], content)
            yield made
        finally:
            self._take_away([number for number in made if number is not None])

    def _take_away(self, numbers: list[int]) -> None:
        """What is named by no row, now or, where the book refuses, before the next is kept, or when it is opened again."""
        self._left.update(numbers)
        try:
            for number in sorted(self._left):
                self._drop([number])
                self._left.discard(number)
        except BookError:
            pass  # it stays among what is left

    def _begun(self, size: int) -> int:
        with self._transaction() as connection:
            values = {"size": size, "owner": this_process(), "begun": func.current_timestamp()}
            done = connection.execute(insert(tables.large).values(**values))
            assert done.inserted_primary_key is not None
            return int(done.inserted_primary_key[0])

    def _filled(self, number: int, content: bytes) -> None:
        for place, start in enumerate(range(0, len(content), AT_ONCE)):
            with self._transaction() as connection:
                part = content[start : start + AT_ONCE]
                connection.execute(insert(tables.piece).values(large_id=number, place=place, content=part))
            time.sleep(APART_S)

    def sweep(self) -> int:
        """Take away what belongs to nothing and is not being written by anybody; how many large values that were."""
        with self._transaction() as connection:
            now = by_clock(connection.execute(select(func.current_timestamp())).scalar())
            rows = connection.execute(select(tables.large.c.id, tables.large.c.owner, tables.large.c.begun)).all()
        gone = [int(number) for number, owner, begun in rows if not _being_written(str(owner), str(begun), now)]
        return self._drop(gone)

    def _drop(self, numbers: list[int]) -> int:
        """Of these, those that no row names; a piece at a time."""
        dropped = 0
        for number in numbers:
            with self._transaction() as connection:
                if _named(connection, number):
                    continue
                parts = connection.execute(select(tables.piece.c.id).where(tables.piece.c.large_id == number)).scalars()
                places = list(parts)
            for part in places:
                with self._transaction() as connection:
                    connection.execute(delete_from(tables.piece).where(tables.piece.c.id == part))
            with self._transaction() as connection:
                connection.execute(delete_from(tables.large).where(tables.large.c.id == number))
            dropped += 1
        return dropped


def _named(connection: Connection, number: int) -> bool:
    """Whether any row says that this large value is its own."""
    return any(
        connection.execute(select(table.c.large_id).where(table.c.large_id == number).limit(1)).first() is not None
        for table in OWNERS
    )


def _being_written(owner: str, begun: str, now: datetime) -> bool:
    host = owner.rpartition("/")[0]
    if host == this_host():
        return owner_lives(owner)
    try:
        return now - by_clock(begun) < ELSEWHERE
    except ValueError:
        return False


def whole(connection: Connection, column: Column[bytes], key: Column[int], number: int) -> bytes | None:
    """The bytes of one row, by a table's whole-numbered primary key, wherever they lie; None where there is no such row.

    Raises:
        BookError: pieces of it are missing.
    """
    # how long they are stands before the bytes of a row, where its pieces are behind them
    length = connection.execute(select(func.length(column)).where(key == number)).scalar()
    if length is None:
        return None
    if length:
        return bytes_in_row(connection, column, number)
    in_pieces = connection.execute(select(column.table.c.large_id).where(key == number)).scalar()
    if in_pieces is None:
        return b""
    size = connection.execute(select(tables.large.c.size).where(tables.large.c.id == in_pieces)).scalar()
    query = select(tables.piece.c.content).where(tables.piece.c.large_id == in_pieces).order_by(tables.piece.c.place)
    content = b"".join(part for (part,) in connection.execution_options(yield_per=1).execute(query))
    if len(content) != size:
        raise BookError("a large value in the book is not whole", mend=FROM_BACKUP)
    return content
