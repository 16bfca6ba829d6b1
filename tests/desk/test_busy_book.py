"""A book that another program writes into: the window goes on, what is edited is done once, in its turn, or refused in words."""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager

import pytest

from wintry_tally.app import writing
from wintry_tally.app.safety import put_into_quarantine
from wintry_tally.book import book as books
from wintry_tally.desk.window import Window

MOST_S = 0.25
"""An edit never holds the interface longer; the budget is 50 ms, and this machine may be busy with other tests."""


@contextmanager
def locked(window: Window) -> Iterator[None]:
    with closing(sqlite3.connect(window.session.book.path, isolation_level=None)) as line:
        line.execute("BEGIN IMMEDIATE")
        yield
        line.execute("ROLLBACK")


@pytest.fixture
def busy(one: Window, monkeypatch: pytest.MonkeyPatch) -> Window:
    monkeypatch.setattr(writing, "PATIENCE_S", 0.03)
    one.show_station("arrival")
    return one


def claims(window: Window) -> list[str]:
    return [claim.text for claim in window.session.sample(window.sample_id).claims]


def test_claims_typed_into_a_busy_book_are_kept_once_a_moment_later(qtbot, busy: Window) -> None:
    view, before = busy.view("arrival"), claims(busy)
    with locked(busy):
        view.claim.set_text("max charge current 20 A\nself-discharge 3 % a month")
        begun = time.monotonic()
        view.add_claim()
        assert time.monotonic() - begun < MOST_S
        assert not view.claim.isEnabled() and claims(busy) == before and not busy.session.undo_stack.canUndo()
        assert "in a moment" not in busy.statusBar().currentMessage()
        qtbot.waitUntil(lambda: "in a moment" in busy.statusBar().currentMessage(), timeout=5000)  # it goes on living
        assert view.claim.line.text() and claims(busy) == before
    qtbot.waitUntil(lambda: len(claims(busy)) == len(before) + 2, timeout=8000)
    qtbot.waitUntil(view.claim.isEnabled, timeout=3000)
    assert not view.claim.line.text() and busy.session.undo_stack.count() == 2
    busy.session.undo_stack.undo()
    qtbot.waitUntil(lambda: len(claims(busy)) == len(before) + 1, timeout=3000)


def test_a_run_by_hand_begins_and_ends_once_a_moment_later(qtbot, busy: Window) -> None:
    busy.show_station("capacity")
    view = busy.view("capacity")
    view.begin_hand()
    page, runs = view.page("hand"), busy.session.book.runs
    with locked(busy):
        begun = time.monotonic()
        page._begin_run()
        assert time.monotonic() - begun < MOST_S and not page.begin_button.isEnabled()
        assert not busy.session.runs(busy.sample_id)
    qtbot.waitUntil(lambda: len(busy.session.runs(busy.sample_id)) == 1, timeout=8000)
    qtbot.waitUntil(page.begin_button.isEnabled, timeout=3000)
    for at, volts in (("00:10", "13.3"), ("00:20", "13.2")):
        page.entry.time.setText(at)
        page.entry.volts.line.setText(volts)
        page.entry.amps.line.setText("8")
        page.entry.enter(anyway=True)
    qtbot.waitUntil(lambda: page.table.rowCount() == 2, timeout=3000)
    with locked(busy):
        page.finish()
        assert busy.session.runs(busy.sample_id)[0].status == "running" and not page.entry.isEnabled()
    qtbot.waitUntil(lambda: busy.session.runs(busy.sample_id)[0].status == "finished", timeout=8000)
    with busy.session.book.in_place():
        assert [run.status for run in runs.all(busy.sample_id)] == ["finished"]


def test_a_quarantine_is_lifted_once_a_moment_later_with_what_was_seen(qtbot, busy: Window) -> None:
    book, number, card = busy.session.book, busy.sample_id, busy.quarantine
    busy.session.write("hold it", lambda: put_into_quarantine(book, number, "it smelt"), bool, number)
    qtbot.waitUntil(lambda: busy.session.quarantine(number) is not None, timeout=3000)
    busy._top.refresh()
    for box in card.signs.values():
        box.setChecked(True)
    with locked(busy):
        card.lift()
        assert "nothing is noted" in card.problem.text()
        card.note.setText("cool and dry")
        begun = time.monotonic()
        card.lift()
        assert time.monotonic() - begun < MOST_S and not card._lift.isEnabled() and card.isVisible()
        assert busy.session.quarantine(number) is not None
    qtbot.waitUntil(lambda: not card.isVisible(), timeout=8000)
    with book.in_place():
        (kept,) = json.loads(book.meta(f"quarantine-log:{number}", fresh=True))
    assert (kept["note"], len(kept["seen"])) == ("cool and dry", 4) and busy.session.quarantine(number) is None


def test_what_a_book_goes_on_refusing_is_told_and_stays_in_its_field(
    qtbot, busy: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(books, "WAIT_S", 0.3)
    view, before = busy.view("arrival"), claims(busy)
    with locked(busy):
        view.claim.set_text("max charge current 20 A")
        view.add_claim()
        qtbot.waitUntil(view.claim.isEnabled, timeout=8000)
        assert view.claim.line.text() == "max charge current 20 A"
        assert "another program" in busy.problem
    assert claims(busy) == before and not busy.session.undo_stack.canUndo()


def test_an_undo_that_is_refused_a_moment_later_is_not_shown_as_done(
    qtbot, busy: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    busy.session.set_sample(busy.sample_id, "change the maker", maker="Another")
    qtbot.waitUntil(lambda: busy.session.undo_stack.canUndo(), timeout=5000)
    monkeypatch.setattr(books, "WAIT_S", 0.3)
    with locked(busy):
        begun = time.monotonic()
        busy.session.undo_stack.undo()
        assert time.monotonic() - begun < MOST_S
        qtbot.waitUntil(lambda: "another program" in busy.problem, timeout=8000)
        qtbot.waitUntil(busy.session.undo_stack.canUndo, timeout=3000)
    assert busy.session.sample(busy.sample_id).maker == "Another"
    busy.session.undo_stack.undo()
    qtbot.waitUntil(lambda: busy.session.sample(busy.sample_id).maker == "Maker", timeout=5000)


def test_edits_asked_for_in_a_busy_book_are_done_before_it_is_closed(qtbot, busy: Window) -> None:
    from wintry_tally.book import Book

    path = busy.session.book.path
    with closing(sqlite3.connect(path, isolation_level=None, check_same_thread=False)) as line:
        line.execute("BEGIN IMMEDIATE")
        busy.session.set_sample(busy.sample_id, "change the maker", maker="Late")
        import threading

        threading.Timer(0.5, lambda: line.execute("ROLLBACK")).start()
        busy.session.close_book()
    with Book.open(path) as book:
        assert book.samples.all()[0].maker == "Late"
