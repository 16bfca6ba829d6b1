"""What places were like: a temperature now and then, for months, of a room, a freezer, a shelf."""

from __future__ import annotations

import math
from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection, bindparam, func, insert, select, update
from sqlalchemy import delete as delete_from

from wintry_tally.book import tables
from wintry_tally.book.feed import Noting, Topic
from wintry_tally.book.records import read_as, utc_text
from wintry_tally.core.errors import InputError

Transaction = Callable[[], AbstractContextManager[Connection]]
COLDEST_C, HOTTEST_C = -80.0, 120.0


@dataclass(frozen=True)
class PlaceReading:
    """One reading of a place: where, when, °C, and by what (an instrument's name, "" for a person)."""

    id: int
    place: str
    at: datetime
    temperature_C: float
    source: str


class Places:
    """Reads and writes them; every method is one transaction."""

    def __init__(self, transaction: Transaction, noting: Noting) -> None:
        self._transaction, self._note = transaction, noting

    def add(self, place: str, at: datetime, temperature_C: float, source: str = "") -> int:
        """Keep a reading; returns its number.

        Raises:
            InputError: no place, or no temperature of this earth.
        """
        if not place.strip():
            raise InputError("the place has no name", mend="call it freezer, shelf, room…")
        if not math.isfinite(temperature_C) or not COLDEST_C <= temperature_C <= HOTTEST_C:
            raise InputError(
                f"{temperature_C:g} °C is no temperature of a place", mend=f"between {COLDEST_C:g} and {HOTTEST_C:g} °C"
            )
        with self._transaction() as connection:
            made = connection.execute(
                insert(tables.place_reading).values(
                    place=place.strip(), at_utc=utc_text(at), temperature_C=temperature_C, source=source
                )
            ).inserted_primary_key
            self._note(connection, Topic.PLACES, None)
            return int(made[0]) if made is not None else 0

    def remove(self, number: int) -> None:
        """Take a reading back."""
        with self._transaction() as connection:
            connection.execute(delete_from(tables.place_reading).where(tables.place_reading.c.id == number))
            self._note(connection, Topic.PLACES, None)

    def shift(self, by: timedelta) -> None:
        """Move every reading in time; for data that is made up to be of today."""
        with self._transaction() as connection:
            column = tables.place_reading.c
            rows = connection.execute(select(column.id, column.at_utc)).all()
            moved = [{"of": number, "moved": utc_text(datetime.fromisoformat(at) + by)} for number, at in rows]
            if moved:
                to = update(tables.place_reading).where(column.id == bindparam("of"))
                connection.execute(to.values(at_utc=bindparam("moved")), moved)
            self._note(connection, Topic.PLACES, None)

    def between(self, place: str, begin: datetime, end: datetime) -> list[PlaceReading]:
        """The readings of a place from one moment to another, oldest first."""
        column = tables.place_reading.c
        query = (
            select(tables.place_reading)
            .where(column.place == place, column.at_utc >= utc_text(begin), column.at_utc <= utc_text(end))
            .order_by(column.at_utc, column.id)
        )
        with self._transaction() as connection:
            return [_made(row) for row in connection.execute(query).mappings().all()]

    def latest(self) -> dict[str, PlaceReading]:
        """The newest reading of every place that has one."""
        column = tables.place_reading.c
        newest = select(column.place, func.max(column.at_utc).label("at")).group_by(column.place).subquery()
        query = select(tables.place_reading).join(
            newest, (column.place == newest.c.place) & (column.at_utc == newest.c.at)
        )
        with self._transaction() as connection:
            return {row["place"]: _made(row) for row in connection.execute(query.order_by(column.id)).mappings().all()}


def _made(row: object) -> PlaceReading:
    with read_as("a reading of a place"):
        at = datetime.fromisoformat(row["at_utc"])  # type: ignore[index]
        return PlaceReading(
            int(row["id"]), str(row["place"]), at if at.tzinfo else at.replace(tzinfo=UTC),  # type: ignore[index]
            float(row["temperature_C"]), str(row["source"]),  # type: ignore[index]
        )  # fmt: skip
