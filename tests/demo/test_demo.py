"""The shipped demo book: whole, rebuilt alike from its seeds, and opened only as a copy."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

from tests.amount import thorough
from wintry_tally.app.facts import facts_of
from wintry_tally.book import Book, RunStatus, tables
from wintry_tally.core.verdict import School
from wintry_tally.demo import scratch_copy
from wintry_tally.demo.build import build
from wintry_tally.report.dossier import assemble, report_run


def outcomes(path: Path) -> dict[str, list[tuple[str, str, float | None]]]:
    found = {}
    with Book.open(path) as book:
        for sample in book.samples.all():
            runs = [
                report_run(facts_of(run), book.runs.trace(run.id))
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
    (tmp_path / "shipped").mkdir()
    found = outcomes(path)
    assert list(found) == ["M1", "M2", "M3", "M4", "M5", "M6"]
    first = {code: {kind: outcome for kind, outcome, _ in reversed(items)} for code, items in found.items()}
    assert first["M1"]["capacity"] == "met" and first["M3"]["capacity"] == "missed"
    assert first["M2"]["capacity"] == "too-close" and first["M4"]["capacity"] in {"met", "too-close"}
    assert first["M6"]["capacity"] == "too-close", "its log waits for a decision on a slip"
    with sqlite3.connect(scratch_copy(tmp_path / "shipped")) as line:
        head = line.execute("SELECT version_num FROM alembic_version").fetchone()
    line.close()
    assert head == (tables.HEAD,), (
        "an older one would be brought up to date each time it is opened, which takes its time"
    )
    with Book.open(path) as book:
        assert set(book.places.latest()) == {"room", "freezer", "shelf"}
        assert book.meta("demo") == "yes" and "Invented" in book.meta("about")
        families = {sample.family_key for sample in book.samples.all()}
        assert families == {"lfp", "agm", "flooded", "nmc"}
        running = [run for run in book.runs.all() if run.status is RunStatus.RUNNING]
        assert len(running) == 1 and book.runs.readings(running[0].id)
        imported = next(run for run in book.runs.all() if run.method == "imported")
        assert book.runs.original(imported.id) is not None
        report = report_run(facts_of(imported), book.runs.trace(imported.id))
        assert report.analysis is not None
        assert "unit-suspect" in [remark.code for remark in report.analysis.remarks]
        book.runs.change(imported.id, repair="offered")
        mended = report_run(facts_of(book.runs.get(imported.id)), book.runs.trace(imported.id))
        assert mended.analysis is not None and mended.analysis.capacity is not None
        assert mended.analysis.capacity.count.charge.value == pytest.approx(29.5, abs=0.8)


@thorough
def test_the_demo_is_rebuilt_alike(tmp_path: Path) -> None:
    build(tmp_path / "again.wintry")
    assert outcomes(tmp_path / "again.wintry") == outcomes(scratch_copy(tmp_path))


def test_the_window_stands_before_anything_slow_is_loaded(tmp_path: Path) -> None:
    """What is seen first needs no numbers, no plot and no migration: each costs as much as the window itself."""
    script = (
        "import sys\nfrom PySide6.QtCore import QSettings\n"
        "QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[1])\n"
        "from wintry_tally.desk.app import make_application\nfrom wintry_tally.desk.session import Session\n"
        "from wintry_tally.desk.window import Window\n"
        "app = make_application('day')\nwindow = Window(Session())\nwindow.show()\nwindow.open_demo()\n"
        "while not window.session.has_book:\n    app.processEvents()\napp.processEvents()\n"
        "assert window.page('today').isVisible()\n"
        "print([name for name in ('numpy', 'scipy', 'pyqtgraph', 'alembic', 'polars', 'ortools') if name in sys.modules])\n"
        "sys.stdout.flush()\nimport os\nos._exit(0)\n"
    )
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run(
        [sys.executable, "-c", script, str(tmp_path)],
        env=environment,
        capture_output=True,
        text=True,
        check=True,
        timeout=60,
    )
    assert done.stdout.strip() == "[]"
