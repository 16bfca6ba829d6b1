"""From a sample of a book to all that is known and judged of it: one way for the window, the report and the shell."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

from wintry_tally.app.following import cycles_had, noted_of, trends_of
from wintry_tally.app.opening import is_over
from wintry_tally.app.stood import stood_before
from wintry_tally.book.facts import facts_values
from wintry_tally.report.dossier import RunFacts, assemble, report_run

if TYPE_CHECKING:
    from wintry_tally.book import Book
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.verdict.outcome import School
    from wintry_tally.report.dossier import Dossier, RunReport

Known = dict[tuple[Any, ...], "RunReport"]


def dossier_of(book: Book, sample: Sample, school: School, known: Known | None = None) -> Dossier:
    """Everything on a sample; `known` keeps what was worked out of a run for the next time.

    Raises:
        BookError: the book cannot be read. A run without readings is left out.
    """
    known = {} if known is None else known
    reports = []
    every = book.runs.all(sample.id)
    for place, run in enumerate(every):
        if not is_over(run) or not book.runs.holds_readings(run.id):
            continue
        facts = RunFacts(**facts_values(run), stood=stood_before(book, sample, run, every[:place]))
        key = (str(book.path), run.id, run.repair, run.ended)
        found = known.get(key)
        if found is None:
            found = known[key] = report_run(facts, book.runs.trace(run.id))
        reports.append(replace(found, facts=facts))
    prose, entered = book.samples.prose(sample.id), book.samples.entered(sample.id)
    made = assemble(sample, reports, school, prose, book.meta("demo") == "yes", entered)
    made = replace(made, had=cycles_had(made, noted_of(book, sample.id)))
    return replace(made, trends=trends_of(made))
