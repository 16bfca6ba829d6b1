"""Commands that work on a test book."""

from __future__ import annotations

from pathlib import Path

from wintry_tally.book import Book
from wintry_tally.core.errors import BookError, InputError
from wintry_tally.core.verdict import School
from wintry_tally.exchange.writer import write_log


def write_report(book_path: Path, code: str, out: Path, school: str) -> None:
    """See `wintry-tally report`."""
    from wintry_tally.book.facts import facts_values
    from wintry_tally.report.dossier import RunFacts, assemble, report_run
    from wintry_tally.report.page import write_page

    with Book.open(book_path) as book:
        samples = book.samples.all()
        sample = next((item for item in samples if item.code == code), None)
        if sample is None:
            known = ", ".join(item.code for item in samples)
            raise InputError(f'no sample "{code}" in the book', str(book_path), f"there are {known}")
        runs = [
            report_run(RunFacts(**facts_values(run)), book.runs.trace(run.id))
            for run in book.runs.all(sample.id)
            if run.status == "finished"
        ]
        prose = book.samples.prose(sample.id)
        entered = book.samples.entered(sample.id)
        dossier = assemble(sample, runs, School(school), prose, book.meta("demo") == "yes", entered)
    write_page(dossier, out)


def export_run(book_path: Path, run_id: int, out: Path, original: bool) -> None:
    """See `wintry-tally export`."""
    with Book.open(book_path) as book:
        if original:
            kept = book.runs.original(run_id)
            if kept is None:
                raise BookError(f"run {run_id} was not imported", str(book_path), "leave out --original")
            try:
                out.write_bytes(kept[1])
            except OSError as error:
                raise InputError(f"cannot be written ({error.strerror})", str(out)) from None
            return
        write_log(book.runs.trace(run_id), out)


def list_lines(book_path: Path) -> list[str]:
    """See `wintry-tally list`."""
    lines = []
    with Book.open(book_path) as book:
        for sample in book.samples.all():
            lines.append(f"{sample.code}  {sample.title}  ({sample.family.words})")
            lines += [
                f"  run {run.id}  {run.title}  {run.method}, {run.status.value}" for run in book.runs.all(sample.id)
            ]
    return lines
