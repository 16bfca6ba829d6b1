"""Keeping an imported log as a finished run: the readings as read, the file's own bytes beside them."""

from __future__ import annotations

from datetime import datetime

from wintry_tally.book.book import Book
from wintry_tally.book.records import RunSettings, RunStatus
from wintry_tally.book.runs import packed
from wintry_tally.book.seal import sealed_bytes
from wintry_tally.core.analysis import Analysis
from wintry_tally.core.battery import Sample
from wintry_tally.core.protocol.kinds import TestKind
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.trace.trace import Trace


def keep_log(
    book: Book,
    sample: Sample,
    kind: TestKind,
    trace: Trace,
    analysis: Analysis,
    started: datetime,
    original: tuple[str, bytes],
) -> int:
    """Keep a log that was read and analysed; returns the run's number. All of it, or nothing.

    Args:
        trace: as read, before any repair; original: the file's own name and bytes.

    Raises:
        BookError: the book cannot be written.
    """
    options = analysis.options
    settings = RunSettings.of(
        sample,
        cutoff_V=options.cutoff_V,
        voltage_accuracy=str(options.instrument.voltage or ""),
        current_accuracy=str(options.instrument.current or ""),
        voltage_resolution=trace.digit_V,
        current_resolution=trace.digit_A,
        instrument="" if options.instrument.assumed else options.instrument.name,
        ambient_C=options.ambient_C,
        mode="imported",
        volts_at=options.volts_at,
        saw_end=options.ended_by,
        unnamed=" ".join(sorted(trace.unnamed)),
    )
    words = kind.words.removesuffix(" test").capitalize()
    number = sum(1 for run in book.runs.all(sample.id) if run.title.startswith(words)) + 1
    name, content = original
    kept, sealed = packed(content), sealed_bytes(trace)
    test = analysis.capacity
    with book.large.kept(kept[1], sealed) as (packed_in, sealed_in), book.transaction():
        run_id = book.runs.begin(
            sample.id, f"{words} {number}", Method.IMPORTED, started, settings, {"method": kind.method}, kind.station,
            RunStatus.RUNNING,
        )  # fmt: skip
        book.runs.keep_packed(run_id, name, kept, packed_in)
        book.runs.keep_sealed(run_id, len(trace), sealed, sealed_in)
        book.runs.change(run_id, repair=options.repair)
        shown = "" if test is None or test.ended_by == options.ended_by else test.ended_by
        book.runs.finish(run_id, shown, "", started)  # what somebody saw stands in the settings, and can be taken back
    return run_id
