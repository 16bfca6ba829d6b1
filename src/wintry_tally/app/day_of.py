"""The day of a book that no window holds open: its plan and what needs hands, for a shell or a timer."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from wintry_tally.app.bench_book import equipment_of
from wintry_tally.app.campaign import Drawn, draw_up, foretold_end, kept_plan, running_of, standing_of, wishes_of
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.opening import attended_of, school_of
from wintry_tally.app.safety import quarantines_of
from wintry_tally.app.today import Item, Seen, today
from wintry_tally.book import Book, RunStatus

if TYPE_CHECKING:
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.plan.programme import Programme
    from wintry_tally.core.plan.standing import Standing

SECONDS = 3.0


def standing_in(book: Book, sample: Sample, now: datetime) -> Standing | None:
    """Where a sample of a book stands; None without a rating."""
    runs = book.runs.all(sample.id)
    going = next((run for run in runs if run.status is RunStatus.RUNNING), None)
    running = running_of(going, now, foretold_end(going, sample)) if going is not None else None
    return standing_of(sample, runs, dossier_of(book, sample, school_of(book)), running, wishes_of(book))


def day_of(book: Book, now: datetime, seconds: float = SECONDS) -> tuple[Drawn, list[Item]]:
    """The plan of a book as it lies there, and the lines of the day.

    Raises:
        WintryError: something kept in it cannot be read.
    """
    samples = book.samples.all()
    held = {number: kept.why for number, kept in quarantines_of(book).items()}
    found = {sample.id: standing_in(book, sample, now) for sample in samples if sample.id not in held}
    standings = {number: one for number, one in found.items() if one is not None}
    drawn = draw_up(
        standings, equipment_of(book), attended_of(book), wishes_of(book), kept_plan(book, now), now, seconds
    )
    runs = {sample.id: book.runs.all(sample.id) for sample in samples}
    seen = [
        Seen(run.id, "", "in another window or shell", standing.running.ends)
        for number, standing in standings.items()
        for run in runs[number]
        if run.status is RunStatus.RUNNING and standing.running is not None and book.runs.in_hands(run)
    ]
    return drawn, today(samples, runs, seen, drawn, held, now)


def programme_in(book: Book, sample: Sample, now: datetime) -> Programme | None:
    """What is still to be done to a sample of a book; None without a rating."""
    from wintry_tally.core.plan.standing import programme_of
    from wintry_tally.exchange.recipe_file import shipped

    standing = standing_in(book, sample, now)
    return None if standing is None else programme_of(standing, shipped(), now)
