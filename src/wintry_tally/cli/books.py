"""Commands that work on a test book."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wintry_tally.app.opening import needs_of, opened, school_of
from wintry_tally.book import Book
from wintry_tally.book.keeping import keep_log
from wintry_tally.cli.logs import analyse_joined
from wintry_tally.cli.saying import say, units
from wintry_tally.core.analysis import Options
from wintry_tally.core.battery import Sample
from wintry_tally.core.errors import BookError, InputError
from wintry_tally.core.protocol.kinds import TEST_KINDS
from wintry_tally.core.verdict import School
from wintry_tally.core.verdict.evidence import likely_method
from wintry_tally.exchange.layout import Choices
from wintry_tally.exchange.originals import original_bytes
from wintry_tally.exchange.writer import write_log

if TYPE_CHECKING:
    from wintry_tally.report.dossier import Dossier


def _opened(path: Path) -> AbstractContextManager[Book]:
    """A book, put right first; what was done is told beside the output."""
    return opened(path, lambda words: say(words, err=True))


def _dossier(book_path: Path, code: str, school: str | None) -> tuple[Dossier, list[str]]:
    """All that is known of a sample, as the window has it, by the book's school where none is given; the book's needs."""
    from wintry_tally.app.dossiers import dossier_of

    with _opened(book_path) as book:
        found = dossier_of(book, sample_of(book, code, book_path), School(school) if school else school_of(book))
        return found, needs_of(book)


def compare_book(
    book_path: Path, codes: Sequence[str], need: Path | None, out: Path | None = None
) -> tuple[dict[str, Any], str]:  # fmt: skip
    """See `wintry-tally compare --book`: the object and the text that are printed; with `out`, a page is written.

    Raises:
        InputError: a sample that is not there or named twice, or a need that cannot be.
    """
    from wintry_tally.app.comparison import compare_dossiers, comparison_dict, comparison_text, judge_needs, model_of
    from wintry_tally.app.dossiers import dossier_of
    from wintry_tally.exchange.need_file import read_needs

    needs = read_needs(need) if need is not None else []
    if len(set(codes)) < len(codes):
        raise InputError("a sample is named twice", mend="give each code once")
    if len(codes) < 2 and not needs:
        raise InputError("one sample has nothing to be compared with", mend="give two codes or more, or a --need")
    with _opened(book_path) as book:
        school = school_of(book)
        dossiers = [dossier_of(book, sample_of(book, code, book_path), school) for code in codes]
    if out is not None:
        from wintry_tally.app.reporting import comparison_page
        from wintry_tally.core.compare.typed_need import need_words

        comparison_page(dossiers, [(need_words(one), one) for one in needs], out, units())
    found, judged = compare_dossiers(dossiers, needs), judge_needs(dossiers, needs)
    model = model_of(dossiers, found)
    return comparison_dict(found, judged, model), comparison_text(found, judged, model)


def write_report(book_path: Path, code: str, out: Path, school: str | None) -> None:
    """See `wintry-tally report`."""
    from wintry_tally.app import reporting
    from wintry_tally.app.opening import opened

    dossier, needs = _dossier(book_path, code, school)
    with opened(book_path, lambda _words: None) as book:
        reporting.write_report(dossier, needs, out, book, units())


def judge_book(book_path: Path, code: str, school: str | None) -> dict[str, Any]:
    """See `wintry-tally judge BOOK CODE`; the verdicts as the window shows them."""
    from wintry_tally.core.battery import label_findings

    dossier, _ = _dossier(book_path, code, school)
    sample = dossier.sample
    return {
        "schema": "wintry-tally.verdict/1",
        "school": dossier.school.value,
        "battery": {
            "maker": sample.maker,
            "model": sample.model,
            "family": sample.family_key,
            "nominal_V": sample.family.nominal_V,
            "rated_Ah": sample.rated_Ah,
        },
        "claims": [verdict.as_dict() for verdict in dossier.verdicts],
        "findings": [
            finding.message
            for finding in label_findings(sample.family, sample.claims, sample.nominal_V)
            if finding.weight == "contradiction"
        ],
    }


def import_logs(book_path: Path, code: str, logs: Sequence[Path], test: str, choices: Choices, options: Options) -> str:
    """See `wintry-tally import`; returns the line printed.

    Raises:
        InputError: no such sample or kind of test.
    """
    with _opened(book_path) as book:
        sample = sample_of(book, code, book_path)
        own = replace(options, family=options.family or sample.family, rated_Ah=options.rated_Ah or sample.rated_Ah)
        log, analysis = analyse_joined(logs, choices, own)
        method = test or likely_method(analysis)
        if method not in TEST_KINDS:
            raise InputError(f'"{method}" is no kind of test', mend=f"use one of {', '.join(TEST_KINDS)}")
        started = log.started or datetime.fromtimestamp(logs[0].stat().st_mtime, UTC)
        kind = TEST_KINDS[method]
        run_id = keep_log(book, sample, kind, log.trace, analysis, started, original_bytes(logs))
        return f"run {run_id}  {book.runs.get(run_id).title}  {kind.words}, {len(log.trace)} readings"


def sample_of(book: Book, code: str, book_path: Path) -> Sample:
    """The sample of a code.

    Raises:
        InputError: there is none; the message names those there are.
    """
    samples = book.samples.all()
    sample = next((item for item in samples if item.code == code), None)
    if sample is None:
        known = ", ".join(item.code for item in samples) or "none"
        raise InputError(f'no sample "{code}" in the book', str(book_path), f"there are {known}")
    return sample


def export_run(book_path: Path, run_id: int, out: Path, original: bool) -> None:
    """See `wintry-tally export`."""
    with _opened(book_path) as book:
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
    with _opened(book_path) as book:
        for sample in book.samples.all():
            lines.append(f"{sample.code}  {sample.title}  ({sample.family.words})")
            lines += [
                f"  run {run.id}  {run.title}  {run.method}, {run.status.value}" for run in book.runs.all(sample.id)
            ]
    return lines


def list_data(book_path: Path) -> dict[str, Any]:
    """See `wintry-tally list --json`."""
    with _opened(book_path) as book:
        return {
            "schema": "wintry-tally.list/1",
            "samples": [
                {
                    "code": sample.code,
                    "family": sample.family.key,
                    "runs": [
                        {
                            "run": run.id,
                            "title": run.title,
                            "status": run.status.value,
                            "channel": run.settings.channel or None,
                            "method": run.method,
                            "cause": run.cause or None,
                        }
                        for run in book.runs.all(sample.id)
                    ],
                }
                for sample in book.samples.all()
            ],
        }
