"""From a sample of a book to all that is known and judged of it: one way for the window, the report and the shell."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING, Any

from wintry_tally.app.facts import facts_of
from wintry_tally.app.following import cycles_had, noted_of, trends_of
from wintry_tally.app.kept import KEPT, fingerprint
from wintry_tally.app.opening import is_over
from wintry_tally.app.stood import stood_before
from wintry_tally.book.samples import entered_in
from wintry_tally.core.analysis import mended_trace
from wintry_tally.report.dossier import RunFacts, assemble, report_run

if TYPE_CHECKING:
    from wintry_tally.book import Book, Run
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


@dataclass(frozen=True)
class Gathered:
    """What a book holds of every sample, read in one go: of many samples, most of the time goes into asking for each."""

    runs: Mapping[int, list[Run]]
    marks: Mapping[int, str]
    prose: Mapping[int, str]


def gathered(book: Book) -> Gathered:
    """Read it.

    Raises:
        BookError: the book cannot be read.
    """
    with book.transaction():
        runs: dict[int, list[Run]] = {}
        for run in book.runs.all():
            runs.setdefault(run.sample_id, []).append(run)
        return Gathered(runs, book.runs.readings_marks(), book.samples.proses())


def _gathered_of(book: Book, sample_id: int) -> Gathered:
    runs = book.runs.all(sample_id)
    marks = {run.id: book.runs.readings_mark(run.id) for run in runs if is_over(run)}
    return Gathered({sample_id: runs}, marks, {sample_id: book.samples.prose(sample_id)})


def dossier_of(
    book: Book, sample: Sample, school: School, known: Known | None = None, all_of_it: Gathered | None = None
) -> Dossier:
    """Everything on a sample, as it was kept when nothing has changed since; `known` keeps what was worked out of a run.

    `all_of_it`: what was read of the whole book before, where it still holds for this sample.

    Raises:
        BookError: the book cannot be read. A run without readings is left out.
    """
    with contextlib.nullcontext() if all_of_it is not None else book.transaction():
        of_it = all_of_it or _gathered_of(book, sample.id)
        grounds = _grounds(book, sample, of_it)
        prose, noted = of_it.prose.get(sample.id, ""), noted_of(book, sample.id)
        entered = entered_in(book.meta(f"entered:{sample.id}"))
        demo = book.meta("demo") == "yes"
    name = fingerprint(sample, school, demo, entered, noted, [(ground.facts, ground.mark) for ground in grounds])
    made: Dossier | None = KEPT.get(name, {ground.facts.id: _reader(book, ground.facts) for ground in grounds})
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
    KEPT.put(name, made, {id(run.analysis.held): run.facts.id for run in made.runs if run.analysis})
    return replace(made, prose=prose)


def _grounds(book: Book, sample: Sample, of_it: Gathered) -> list[_Ground]:
    """The finished runs with readings."""
    found, every = [], of_it.runs.get(sample.id, [])
    for place, run in enumerate(every):
        mark = of_it.marks.get(run.id, "") if is_over(run) else ""
        if mark:
            facts = facts_of(run, stood_before(book, sample, run, every[:place]))
            found.append(_Ground(facts, (str(book.path), run.id, run.repair, run.ended, run.settings), mark))
    return found


def _reader(book: Book, facts: RunFacts) -> Callable[[], Trace]:
    return partial(_mended, book, facts)


def _mended(book: Book, facts: RunFacts) -> Trace:
    with book.reading() as there:
        return mended_trace(there.runs.trace(facts.id), facts.options)
