"""Pages made while nobody does anything: they are there, nothing is shown by it, and a hand that is busy is left alone."""

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from tests.desk.doing import there
from wintry_tally.desk.made_ahead import MadeAhead
from wintry_tally.desk.views import OFF_RACK, PAGES, VIEWS
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.window import Window


def test_every_page_is_there_and_nothing_moves_by_it(demo: Window, qtbot, monkeypatch: pytest.MonkeyPatch) -> None:
    demo.show_station("ledger")
    shown, focus, where = demo.stack.currentWidget(), QApplication.focusWidget(), demo.station
    ahead = MadeAhead(demo)
    monkeypatch.setattr("wintry_tally.desk.made_ahead.APART_MS", 5)
    ahead._timer.setInterval(5)
    held = [Qt.MouseButton.LeftButton]
    monkeypatch.setattr(QApplication, "mouseButtons", staticmethod(lambda: held[0]))
    before = set(demo.views)
    ahead.begin()
    qtbot.wait(300)
    assert set(demo.views) == before and not ahead.done, "somebody drags something"
    held[0] = Qt.MouseButton.NoButton
    qtbot.waitUntil(lambda: ahead.done, timeout=30000)
    assert set(demo.views) == set(VIEWS) and set(demo.pages_made) == set(PAGES) - set(OFF_RACK)
    assert (demo.stack.currentWidget(), QApplication.focusWidget(), demo.station) == (shown, focus, where)
    made = [curve for curve in there(demo.view("curves"), Curve) if curve.made_ahead]
    assert made and all(curve.made and not curve.isVisible() for curve in made)


def test_another_book_has_its_own_pages(demo: Window, qtbot, tmp_path: Path) -> None:
    ahead = MadeAhead(demo)
    ahead._timer.setInterval(5)
    ahead.begin()
    qtbot.waitUntil(lambda: ahead.done, timeout=30000)
    old = dict(demo.views)
    demo.new_book(tmp_path / "next.wintry")
    assert not ahead.done
    qtbot.waitUntil(lambda: ahead.done, timeout=30000)
    assert set(demo.views) == set(VIEWS) and not any(demo.views[key] is old[key] for key in VIEWS)
