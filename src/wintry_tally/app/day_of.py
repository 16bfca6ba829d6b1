"""The day of a book that no window holds open: its plan and what needs hands, for a shell or a timer."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from wintry_tally.app.bench_book import equipment_of
from wintry_tally.app.campaign import Drawn, draw_up, foretold_end, kept_plan, standings_of
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.opening import attended_of, school_of
from wintry_tally.app.pictures import missing
from wintry_tally.app.safety import quarantines_of
from wintry_tally.app.today import Item, Seen, today
from wintry_tally.app.wishes import wishes_of
from wintry_tally.book import Book, RunStatus

if TYPE_CHECKING:
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.plan.programme import Programme
    from wintry_tally.core.plan.standing import Standing

SECONDS = 3.0


def standings_in(book: Book, samples: list[Sample], now: datetime) -> dict[int, Standing]:
    """Where these samples of a book stand, by their numbers; none without a rating."""
    runs = {sample.id: book.runs.all(sample.id) for sample in samples}
    school = school_of(book)
    return standings_of(
        samples, runs, lambda sample: dossier_of(book, sample, school), foretold_end, wishes_of(book), equipment_of(book), now,
        book.banks.all(),
    )  # fmt: skip


def day_of(book: Book, now: datetime, seconds: float = SECONDS) -> tuple[Drawn, list[Item]]:
    """The plan of a book as it lies there, and the lines of the day.

    Raises:
        WintryError: something kept in it cannot be read.
    """
    samples = book.samples.all()
    held = {number: kept.why for number, kept in quarantines_of(book).items()}
    standings = standings_in(book, [sample for sample in samples if sample.id not in held], now)
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
    return drawn, today(samples, runs, seen, drawn, held, now, unseen=missing(samples, runs, book.attachments.kinds()))


def programme_in(book: Book, sample: Sample, now: datetime) -> Programme | None:
    """What is still to be done to a sample of a book; None without a rating."""
    from wintry_tally.core.plan.standing import programme_of
    from wintry_tally.exchange.recipe_file import shipped

    standing = standings_in(book, [sample], now).get(sample.id)
    return None if standing is None else programme_of(standing, shipped(), now)
