"""What happened in a run: kept as messages, read back by the window, the page and the shell alike."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from PySide6.QtWidgets import QPushButton

from tests.desk.doing import there
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.reporting import write_report
from wintry_tally.app.run_record import record_of
from wintry_tally.book import Book
from wintry_tally.cli.main import invoke
from wintry_tally.core.engine import Event
from wintry_tally.core.errors import BookError
from wintry_tally.core.message import said
from wintry_tally.core.quantity.preferred import US
from wintry_tally.core.verdict import School
from wintry_tally.demo import scratch_copy
from wintry_tally.desk.window import Window

RUN = 1
TOLD = [
    Event(0.0, "acknowledged", "Wear eye protection."),
    Event(0.0, "acknowledged", "Keep away from sparks."),
    Event(1800.0, "warning", said("near-warm", celsius=42.0, limit=50)),
    Event(3600.0, "mark", "moved it to the bench; 20 °C there"),
    Event(5400.0, "gap", said("held-up", seconds=700.0)),
]


@pytest.fixture
def told(tmp_path: Path) -> Path:
    path = scratch_copy(tmp_path)
    with Book.open(path) as book:
        for event in TOLD:
            book.runs.add_event(RUN, event)
    return path


def test_the_curve_shows_what_happened_and_goes_there(qtbot, window: Window, told: Path) -> None:
    window.open_book(told)
    qtbot.waitUntil(
        lambda: all(window.session.dossier(s.id) is not None for s in window.session.samples()), timeout=15000
    )
    window.show_sample(window.session.samples()[0].id)
    window.show_station("curves")
    view = window.view("curves")
    view.run.setCurrentIndex(view.run.findData(RUN))
    view._chosen()
    qtbot.waitUntil(lambda: any(line.kind == "gap" for line in view.told.record.lines), timeout=10000)
    texts = [line.sentence for line in view.told.record.lines]
    assert texts[0] == "2 cautions read and heeded" and "Wear eye protection." not in texts
    assert "“moved it to the bench; 20 °C there”" in texts and "42.0 °C is warm; at 50 °C it is stopped" in texts
    assert [line.at_s for line in view.told.record.lines] == sorted(line.at_s for line in view.told.record.lines)
    assert [at for at, _ in view.told.record.marks] == [0.5, 1.0, 1.5]
    assert [at for at, words in view.curve._marks if words.startswith("“moved")] == [1.0]
    view.against["charge"].click()
    assert not any(words.startswith("“moved") for _, words in view.curve._marks)
    view.against["time"].click()
    link = next(b for b in there(view.told.record, QPushButton) if "moved it" in b.accessibleName())
    link.click()
    (low, high), _ = view.curve._plot.viewRange()
    assert low < 1.0 < high and high - low < 0.2


def test_the_page_and_the_shell_tell_the_same_in_the_readers_units(told: Path, tmp_path: Path, capsys) -> None:
    with Book.open(told) as book:
        record = record_of(book, RUN)
        write_report(dossier_of(book, book.samples.all()[0], School.STRICT), [], tmp_path / "page.html", book, US)
    page = (tmp_path / "page.html").read_text(encoding="utf-8")
    assert "107.6 °F is warm; at 122 °F it is stopped" in page and "42.0 °C is warm" not in page
    assert "moved it to the bench; 20 °C there" in page  # somebody's own words stay
    assert page.count('<tr class="heed">') >= 2
    assert invoke(["record", str(told), str(RUN), "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert [(line["at_s"], line["kind"], line["message"]) for line in found["events"]] == [
        (line.at_s, line.kind, str(line.message)) for line in record
    ]
    warm = next(line for line in found["events"] if line["kind"] == "warning")
    assert warm["code"] == "near-warm" and warm["parts"] == {"celsius": 42.0, "limit": 50}
    assert invoke(["record", str(told), str(RUN), "--units", "us"]) == 0
    plain = capsys.readouterr().out
    assert "122 °F" in plain and "20 °C there" in plain and "30 min" in plain
    assert invoke(["record", str(told), "999"]) == 2 and "no run 999" in capsys.readouterr().err


def test_a_record_that_cannot_be_read_is_told_and_keeps_back_no_page(told: Path, tmp_path: Path) -> None:
    with closing(sqlite3.connect(told)) as line:
        line.execute("update event set message = 'no JSON' where run_id = 1 and kind = 'gap'")
        line.commit()
    with Book.open(told) as book:
        with pytest.raises(BookError):
            record_of(book, RUN)
        write_report(dossier_of(book, book.samples.all()[0], School.STRICT), [], tmp_path / "page.html", book)
    assert "the events of run 1 cannot be read" in (tmp_path / "page.html").read_text(encoding="utf-8").lower()
