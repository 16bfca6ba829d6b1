"""The shipped demo book: whole, rebuilt alike from its seeds, and opened only as a copy."""

from __future__ import annotations

from pathlib import Path

import pytest

from wintry_tally.book import Book, RunStatus
from wintry_tally.book.facts import facts_values
from wintry_tally.core.verdict import School
from wintry_tally.demo import scratch_copy
from wintry_tally.demo.build import build
from wintry_tally.report.dossier import RunFacts, assemble, report_run


def outcomes(path: Path) -> dict[str, list[tuple[str, str, float | None]]]:
    found = {}
    with Book.open(path) as book:
        for sample in book.samples.all():
            runs = [
                report_run(RunFacts(**facts_values(run)), book.runs.trace(run.id))
                for run in book.runs.all(sample.id)
                if run.status is not RunStatus.RUNNING
            ]
            verdicts = assemble(sample, runs, School.STRICT).verdicts
            found[sample.code] = [
                (v.claim.kind, v.outcome.value, None if v.measured is None else round(v.measured.value, 6))
                for v in verdicts
            ]
    return found


def test_the_demo_shows_what_it_should(tmp_path: Path) -> None:
    path = scratch_copy(tmp_path)
    found = outcomes(path)
    assert list(found) == ["M1", "M2", "M3", "M4", "M5", "M6"]
    first = {code: {kind: outcome for kind, outcome, _ in reversed(items)} for code, items in found.items()}
    assert first["M1"]["capacity"] == "met" and first["M3"]["capacity"] == "missed"
    assert first["M2"]["capacity"] == "too-close" and first["M4"]["capacity"] in {"met", "too-close"}
    assert first["M6"]["capacity"] == "too-close", "its log waits for a decision on a slip"
    with Book.open(path) as book:
        assert book.meta("demo") == "yes" and "Invented" in book.meta("about")
        families = {sample.family_key for sample in book.samples.all()}
        assert families == {"lfp", "agm", "flooded", "nmc"}
        running = [run for run in book.runs.all() if run.status is RunStatus.RUNNING]
        assert len(running) == 1 and book.runs.readings(running[0].id)
        imported = next(run for run in book.runs.all() if run.method == "imported")
        assert book.runs.original(imported.id) is not None
        report = report_run(RunFacts(**facts_values(imported)), book.runs.trace(imported.id))
        assert report.analysis is not None
        assert "unit-suspect" in [remark.code for remark in report.analysis.remarks]
        book.runs.change(imported.id, repair="offered")
        mended = report_run(RunFacts(**facts_values(book.runs.get(imported.id))), book.runs.trace(imported.id))
        assert mended.analysis is not None and mended.analysis.capacity is not None
        assert mended.analysis.capacity.count.charge.value == pytest.approx(29.5, abs=0.8)


def test_the_demo_is_rebuilt_alike(tmp_path: Path) -> None:
    build(tmp_path / "again.wintry")
    assert outcomes(tmp_path / "again.wintry") == outcomes(scratch_copy(tmp_path))
