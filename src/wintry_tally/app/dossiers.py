"""From a sample of a book to all that is known and judged of it: one way for the window, the report and the shell."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING, Any

from wintry_tally.app.facts import facts_of
from wintry_tally.app.following import cycles_had, noted_of, trends_of
from wintry_tally.app.kept import KEPT, fingerprint
from wintry_tally.app.opening import is_over
from wintry_tally.app.stood import stood_before
from wintry_tally.core.analysis import mended_trace
from wintry_tally.report.dossier import RunFacts, assemble, report_run

if TYPE_CHECKING:
    from wintry_tally.book import Book
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.trace.trace import Trace
    from wintry_tally.core.verdict.outcome import School
    from wintry_tally.report.dossier import Dossier, RunReport

Known = dict[tuple[Any, ...], "RunReport"]


@dataclass(frozen=True)
class _Ground:
    """What a run brings to a dossier, its readings by what tells them from others."""

    facts: RunFacts
    key: tuple[Any, ...]
    mark: str


def dossier_of(book: Book, sample: Sample, school: School, known: Known | None = None) -> Dossier:
    """Everything on a sample, as it was kept when nothing has changed since; `known` keeps what was worked out of a run.

    Raises:
        BookError: the book cannot be read. A run without readings is left out.
    """
    with book.transaction():  # one for all of it: of many samples, most of the time goes into beginning them
        grounds = _grounds(book, sample)
        prose, entered, noted = (
            book.samples.prose(sample.id),
            book.samples.entered(sample.id),
            noted_of(book, sample.id),
        )
        demo = book.meta("demo") == "yes"
    name = fingerprint(sample, school, demo, entered, noted, [(ground.facts, ground.mark) for ground in grounds])
    made = KEPT.get(name, {ground.facts.id: _reader(book, ground.facts) for ground in grounds})
    if made is not None:
        if known is not None:
            known.update({ground.key: run for ground, run in zip(grounds, made.runs, strict=True)})
        return replace(made, prose=prose)
    known = {} if known is None else known
    reports = []
    for ground in grounds:
        found = known.get(ground.key)
        if found is None:
            found = known[ground.key] = report_run(ground.facts, book.runs.trace(ground.facts.id))
        reports.append(replace(found, facts=ground.facts))
    made = assemble(sample, reports, school, "", demo, entered)
    made = replace(made, had=cycles_had(made, noted))
    made = replace(made, trends=trends_of(made))
    KEPT.put(name, made)
    return replace(made, prose=prose)


def _grounds(book: Book, sample: Sample) -> list[_Ground]:
    """The finished runs with readings."""
    found, every = [], book.runs.all(sample.id)
    for place, run in enumerate(every):
        mark = book.runs.readings_mark(run.id) if is_over(run) else ""
        if mark:
            facts = facts_of(run, stood_before(book, sample, run, every[:place]))
            found.append(_Ground(facts, (str(book.path), run.id, run.repair, run.ended), mark))
    return found


def _reader(book: Book, facts: RunFacts) -> Callable[[], Trace]:
    return partial(_mended, book, facts)


def _mended(book: Book, facts: RunFacts) -> Trace:
    with book.reading() as there:
        return mended_trace(there.runs.trace(facts.id), facts.options)
