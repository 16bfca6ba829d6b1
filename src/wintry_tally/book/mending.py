"""What a kill left behind in a book, put right when it is opened again; and what was done, in words."""

from __future__ import annotations

from datetime import timedelta
from typing import TYPE_CHECKING

from sqlalchemy import select

from wintry_tally.book import tables
from wintry_tally.book.records import RunStatus, utc_text
from wintry_tally.core.protocol.method import DRIVEN, Method

if TYPE_CHECKING:
    from wintry_tally.book.book import Book


def put_right(book: Book) -> list[str]:
    """Imports that were cut short are finished or taken away, runs that ended are sealed; returns what was done.

    A driven run that is still running is let be: taking it up, or closing it, is for a person to say.

    Raises:
        BookError: the book cannot be written.
    """
    said = []
    with book.transaction() as connection:
        sealed = set(connection.execute(select(tables.sealed.c.run_id)).scalars())
        rows = set(connection.execute(select(tables.reading.c.run_id).distinct()).scalars())
    for run in book.runs.all():
        if run.method is Method.IMPORTED and run.status is RunStatus.RUNNING:
            if run.id in sealed:
                book.runs.finish(run.id, run.cause, run.detail, run.started)
                said.append(f"The import of {run.title} was cut short at its very end; it is complete.")
            else:
                book.runs.remove(run.id)
                said.append(f"An import of {run.original_name or run.title} was cut short: import that file again.")
        elif run.method in DRIVEN and run.status is not RunStatus.RUNNING and run.id in rows:
            if run.id in sealed:
                book.runs.drop_rows(run.id)
            else:
                book.runs.seal(run.id)
            if run.ended is None:
                end = run.started + timedelta(seconds=book.runs.last_elapsed_s(run.id) or 0.0)
                book.runs.change(run.id, ended_utc=utc_text(end))
            said.append(f"{run.title} ended before its readings were sealed; they are now, every one.")
    book.large.sweep()
    return said
