"""Which units a bank is made of, and how they are joined."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager

from sqlalchemy import Connection, insert, select
from sqlalchemy import delete as delete_from

from wintry_tally.book import tables
from wintry_tally.book.feed import Noting, Topic

Transaction = Callable[[], AbstractContextManager[Connection]]


class Banks:
    """Reads and writes them; every method is one transaction."""

    def __init__(self, transaction: Transaction, noting: Noting) -> None:
        self._transaction, self._note = transaction, noting

    def join(self, bank_id: int, series: int, units: Sequence[int]) -> None:
        """Say of a sample that it is a bank of these, string by string, so many in series each."""
        with self._transaction() as connection:
            connection.execute(delete_from(tables.bank_unit).where(tables.bank_unit.c.bank_id == bank_id))
            for place, unit in enumerate(units):
                connection.execute(
                    insert(tables.bank_unit).values(bank_id=bank_id, unit_id=unit, place=place, series=series)
                )
            self._note(connection, Topic.SAMPLE, bank_id)

    def all(self) -> dict[int, tuple[int, tuple[int, ...]]]:
        """By the sample that is a bank: how many in series, and its units, string by string."""
        column = tables.bank_unit.c
        query = select(column.bank_id, column.series, column.unit_id).order_by(column.bank_id, column.place)
        found: dict[int, tuple[int, tuple[int, ...]]] = {}
        with self._transaction() as connection:
            for bank, series, unit in connection.execute(query):
                before = found.get(int(bank), (int(series), ()))
                found[int(bank)] = (before[0], (*before[1], int(unit)))
        return found
