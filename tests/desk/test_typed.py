"""What is typed: kept in time, over refreshes and kills, undone in order; what a book refuses stays where it was typed."""

from __future__ import annotations

import random
import sqlite3
import sys
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget

from tests.amount import some
from tests.desk.doing import there
from wintry_tally.book import Book
from wintry_tally.core.battery import parse_claim
from wintry_tally.core.verdict.outcome import School
from wintry_tally.desk.window import Window


def type_into(qtbot, field: QWidget, text: str) -> None:
    field.setFocus()
    qtbot.keyClicks(field, text)


def test_notes_are_kept_while_they_are_typed_and_taken_back_as_one(one: Window, qtbot) -> None:
    view = one.view("arrival")
    one.show_station("arrival")
    type_into(qtbot, view.notes, "dented ")
    one.session.add_claim(one.sample_id, parse_claim("4.3 kg"))  # a refresh in the middle of typing
    assert view.notes.toPlainText() == "dented "
    qtbot.keyClicks(view.notes, "corner")
    qtbot.waitUntil(lambda: one.session.sample(one.sample_id).arrival.notes == "dented corner", timeout=15000)
    qtbot.keyClicks(view.notes, ", vent whole")
    view.claim.line.setFocus()  # leaving keeps it at once
    assert one.session.sample(one.sample_id).arrival.notes == "dented corner, vent whole"
    one.session.undo_stack.undo()
    assert one.session.sample(one.sample_id).arrival.notes == "" and view.notes.toPlainText() == ""
    one.session.undo_stack.redo()
    assert view.notes.toPlainText() == "dented corner, vent whole"


def test_the_words_of_the_report_outlive_another_book_and_no_leave_taking(one: Window, tmp_path: Path, qtbot) -> None:
    path = one.session.book.path
    one.show_station("report")
    view = one.view("report")
    type_into(qtbot, view.prose, "A good one")
    assert view.prose.pending
    one.new_book(tmp_path / "other.wintry")  # within the second
    with Book.open(path) as book:
        assert book.samples.prose(1) == "A good one"
    one.open_book(path)
    one.show_station("report")
    view = one.view("report")
    assert view.prose.toPlainText() == "A good one"
    type_into(qtbot, view.prose, "! ")
    kept = one.session.book.samples.prose
    qtbot.waitUntil(lambda: "! " in kept(one.sample_id), timeout=15000)  # and so it survives a kill
    one.session.undo_stack.undo()
    assert kept(one.sample_id) == "A good one" and view.prose.toPlainText() == "A good one"


def test_a_half_typed_measurement_outlives_a_result(one: Window, qtbot) -> None:
    one.session.add_claim(one.sample_id, parse_claim("height 170 mm"))
    one.show_station("ledger")
    view = one.view("ledger")
    qtbot.waitUntil(lambda: bool(fields_of(view)), timeout=15000)
    value, limit = fields_of(view)[0]
    type_into(qtbot, value.line, "168")
    limit.set_text("1 mm")
    one.session.touch_runs(one.sample_id)  # the same verdicts once more: the line stays as it is
    qtbot.wait(300)
    assert fields_of(view)[0][0] is value and value.line.text() == "168"
    one.session.remove_claim(one.sample_id, one.session.sample(one.sample_id).claims[0])  # the lines move up: made anew
    qtbot.waitUntil(lambda: bool(fields_of(view)) and fields_of(view)[0][0] is not value, timeout=15000)
    value, limit = fields_of(view)[0]
    assert value.line.text() == "168" and limit.line.text() == "1 mm" and value.line.hasFocus()
    qtbot.keyClick(value.line, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: not fields_of(view), timeout=15000)
    assert one.session.book.samples.entered(one.sample_id)[0]["value"] == 168.0


def fields_of(view) -> list:
    return [line.fields for line in view.lines if line.fields is not None]


@pytest.fixture
def locked(one: Window):
    """Another program is writing into the book."""
    other = sqlite3.connect(one.session.book.path, timeout=0.1, isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    yield other
    other.close()


def test_a_refused_claim_stays_in_its_field_and_is_no_edit(one: Window, locked, qtbot) -> None:
    one.show_station("arrival")
    view = one.view("arrival")
    edits = one.session.undo_stack.count()
    type_into(qtbot, view.claim.line, "62 Ah capacity")
    qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
    assert "locked" in one.problem and "try again in a moment" in one.problem
    assert view.claim.line.text() == "62 Ah capacity" and one.session.undo_stack.count() == edits
    locked.execute("ROLLBACK")
    qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
    assert view.claim.line.text() == "" and one.session.undo_stack.count() == edits + 1


def test_an_undo_the_book_refuses_stays_done_and_can_be_tried_again(one: Window, locked, qtbot) -> None:
    stack, sample = one.session.undo_stack, one.sample_id
    locked.execute("ROLLBACK")
    one.session.add_claim(sample, parse_claim("4.3 kg"))
    claims = len(one.session.sample(sample).claims)
    locked.execute("BEGIN IMMEDIATE")
    stack.undo()
    qtbot.waitUntil(stack.canUndo, timeout=15000)
    assert "locked" in one.problem and not stack.canRedo() and len(one.session.sample(sample).claims) == claims
    locked.execute("ROLLBACK")
    stack.undo()
    assert len(one.session.sample(sample).claims) == claims - 1
    locked.execute("BEGIN IMMEDIATE")
    stack.redo()
    qtbot.waitUntil(stack.canRedo, timeout=15000)
    assert not stack.canUndo() and len(one.session.sample(sample).claims) == claims - 1
    locked.execute("ROLLBACK")
    stack.redo()
    assert len(one.session.sample(sample).claims) == claims


def test_how_it_is_judged_belongs_to_the_book_and_has_its_undo(one: Window, tmp_path: Path) -> None:
    path = one.session.book.path
    one.session.set_school(School.LENIENT)
    one.new_book(tmp_path / "other.wintry")
    assert one.session.school is School.STRICT
    one.open_book(path)
    assert one.session.school is School.LENIENT
    one.session.set_school(School.PLAIN)
    one.session.undo_stack.undo()
    assert one.session.school is School.LENIENT and one.session.book.meta("school") == "lenient"


def test_a_book_whose_file_goes_is_told_of_and_goes_on(one: Window, qtbot) -> None:
    path = one.session.book.path
    path.unlink()
    qtbot.waitUntil(lambda: "Nothing is lost" in one.problem, timeout=15000)
    assert one.session.add_claim(one.sample_id, parse_claim("4.3 kg"))
    assert one.session.book.path.exists() and one.session.book.path != path


def test_trouble_on_the_first_page_is_shown_there_and_commands_wait_for_a_book(window: Window, tmp_path: Path) -> None:
    assert window.pages.currentIndex() == 0
    waiting = [action for spec, action in window.menus.actions if spec.needs_book]
    assert waiting and not any(action.isEnabled() for action in waiting)
    assert all(action.isEnabled() for spec, action in window.menus.actions if not spec.needs_book)
    window.open_book(tmp_path / "none.wintry")
    assert "no such book" in window.problem
    window.new_book(tmp_path / "mine.wintry")
    assert all(action.isEnabled() for action in waiting)


def test_what_went_wrong_can_be_read_copied_and_names_no_home(
    window: Window, tmp_path: Path, monkeypatch, request
) -> None:
    import logging

    from wintry_tally.app import logbook
    from wintry_tally.cli.main import invoke
    from wintry_tally.desk.widgets.error_log import ErrorLog

    root = logging.getLogger("wintry_tally")

    def put_away() -> None:
        for handler in [item for item in root.handlers if isinstance(item, logging.handlers.RotatingFileHandler)]:
            root.removeHandler(handler)
            handler.close()

    put_away()
    request.addfinalizer(put_away)
    assert "Nothing" in ErrorLog(window).text.toPlainText()
    monkeypatch.setattr("wintry_tally.cli.books.list_lines", lambda _path: {}[str(Path.home() / "secret.wintry")])
    assert invoke(["list", "x"]) == 1
    shown = ErrorLog(window)
    said = shown.text.toPlainText()
    assert "KeyError" in said and "Traceback" in said and "~/secret.wintry" in said and str(tmp_path) not in said
    assert logbook.log_path().parent == tmp_path / "state" / "wintry-tally"
    window.show_log()


def test_a_random_typist_and_clicker_breaks_nothing(demo: Window, qtbot, monkeypatch) -> None:
    """Some of it, seeded; benchmarks/typist.py does ten minutes."""
    from benchmarks.typist import Typist

    raised: list[BaseException] = []
    monkeypatch.setattr(sys, "excepthook", lambda _kind, error, _trace: raised.append(error))
    typist = Typist(demo, random.Random(20261126))
    for _ in range(some(25, 300)):
        typist.act()
    typist.note()
    typist.rest()
    assert not raised and not typist.lost, (raised, typist.lost)


def test_a_whole_label_is_typed_at_once_and_what_is_not_read_stays(one: Window, qtbot) -> None:
    one.show_station("arrival")
    view = one.view("arrival")
    before = len(one.session.sample(one.sample_id).claims)
    view.claim.line.setText("surge 80 A (5 s), 4,000+ deep cycles\u2028Zeal 300 A; 2.75 V/cell end voltage")
    said = view.claim.word.text()
    assert (
        "Surge at least 80 A for 5 s" in said
        and "Cycle life at least 4000" in said
        and "not read: “Zeal 300 A”" in said
    )
    qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
    added = one.session.sample(one.sample_id).claims[before:]
    assert [(claim.kind, claim.value) for claim in added] == [
        ("surge", 80.0),
        ("cycles", 4000.0),
        ("low-voltage-cut", 11.0),
    ]
    assert view.claim.line.text() == "Zeal 300 A", "and can be given its words"
    for _ in added:
        one.session.undo_stack.undo()
    assert len(one.session.sample(one.sample_id).claims) == before


def test_a_pack_of_another_voltage_is_read_off_its_label_or_chosen(one: Window, qtbot) -> None:
    one.show_station("arrival")
    view, session = one.view("arrival"), one.session
    view.claim.line.setText("25.6 V 100 Ah 2560 Wh")
    assert "a pack of 25.6 V" in view.claim.word.text()
    qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
    sample = session.sample(one.sample_id)
    assert (sample.nominal_V, sample.family.cells, view.pack.currentText()) == (25.6, 8, "25.6 V, 8 cells")
    view.pack.setCurrentIndex(view.pack.findText("51.2 V, 16 cells"))
    view.pack.activated.emit(view.pack.currentIndex())
    assert session.sample(one.sample_id).family.cutoff_V == 2 * sample.family.cutoff_V
    session.undo_stack.undo()
    assert session.sample(one.sample_id).nominal_V == 25.6 and view.pack.currentText() == "25.6 V, 8 cells"
    view.family.setCurrentIndex(view.family.findData("agm"))
    view.family.activated.emit(view.family.currentIndex())
    assert session.sample(one.sample_id).family.cells == 12, "24 V either way"
    view.claim.line.setText("12.8 V")
    qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
    assert session.sample(one.sample_id).family.cells == 6


def test_what_another_program_writes_into_the_book_is_shown(one: Window, qtbot) -> None:
    one.show_station("arrival")
    view = one.view("arrival")
    type_into(qtbot, view.claim.line, "half ty")
    with Book.open(one.session.book.path) as other:
        other.samples.add_claim(one.sample_id, parse_claim("77 Ah"))
        other.samples.add("Z9", "", "", "agm")
        other.set_meta("school", "plain")

    def shown() -> bool:
        return any("77 Ah" in label.text() for label in there(view, QLabel)) and one.session.school is School.PLAIN

    qtbot.waitUntil(shown, timeout=15000)
    assert [sample.code for sample in one.session.samples()][-1] == "Z9" and view.claim.line.text() == "half ty"
    assert one.session.undo_stack.count() == 0, "nobody's edit here"
    assert one.rack.tag(one.sample_id).isChecked(), "still the one shown"
