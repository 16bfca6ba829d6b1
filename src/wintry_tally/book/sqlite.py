"""What SQLite alone understands: how a file is opened, waited for and written into, and values too large for one object.

Another database needs these functions of its own, and what takes the place of a file (`place.py`, `copying.py`).
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import URL, Column, Connection, Engine, Insert, Table, create_engine, event, insert

DRIVER_ERROR = sqlite3.Error
"""What its driver raises where SQLAlchemy does not stand between."""
AT_ONCE = 1 << 20
"""Bytes of a large value that are made one object: SQLite's driver lets no other thread of Python on meanwhile."""


def engine(path: Path) -> Engine:
    """Connections to a book's file."""
    made = create_engine(URL.create("sqlite", database=str(path)), connect_args={"timeout": 5.0})

    @event.listens_for(made, "connect")
    def prepare(connection: Any, _record: Any) -> None:
        cursor = connection.cursor()
        # a commit a second is cheap: FULL keeps readings through a power cut too
        for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
            cursor.execute(f"PRAGMA {pragma}")
        cursor.close()

    return made


def wait_at_most(connection: Connection, seconds: float) -> None:
    """How long this connection waits for another program that is writing."""
    connection.exec_driver_sql(f"PRAGMA busy_timeout={1000 * seconds:.0f}")


def write_from_now(connection: Connection) -> None:
    """Nobody else writes until this transaction is over: statements that change tables are in it only so."""
    connection.exec_driver_sql("BEGIN IMMEDIATE")


def into_one_file(connection: Connection) -> None:
    """Move what was written ahead into the book's file; where somebody reads it, that stays for later."""
    connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")


def insert_or_keep(table: Table) -> Insert:
    """An insert that leaves a row as it is where there is one of that key."""
    return insert(table).prefix_with("OR IGNORE")


def bytes_in_row(connection: Connection, column: Column[bytes], number: int) -> bytes:
    """The bytes that stand in a row, by its table's whole-numbered primary key."""
    driver: Any = connection.connection.driver_connection
    parts = []
    with driver.blobopen(column.table.name, column.name, number, readonly=True) as value:
        while part := value.read(AT_ONCE):
            parts.append(part)
    return b"".join(parts)


def rows_of(
    connection: Connection, table: Table, columns: Sequence[str], key: str, value: int, order: str, many: int
) -> Iterator[list[tuple[Any, ...]]]:
    """Rows where a key has a value, so many at a time, as plain tuples.

    Straight from the driver's own cursor: made into objects one by one, three million rows take a quarter of a minute.
    """
    cursor = connection.connection.cursor()
    try:
        cursor.execute(f"SELECT {', '.join(columns)} FROM {table.name} WHERE {key} = ? ORDER BY {order}", (value,))
        while rows := cursor.fetchmany(many):
            yield list(rows)
    finally:
        cursor.close()
