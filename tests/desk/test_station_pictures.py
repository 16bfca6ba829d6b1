"""A station opened shows its own picture: what it settles, its newest run, and another where it is asked for."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QPushButton

from tests.desk.doing import there
from wintry_tally.desk.views.station_overview import StationOverview
from wintry_tally.desk.window import Window


def _station(qtbot, demo: Window, code: str, key: str) -> StationOverview:
    demo.show_sample(next(s.id for s in demo.session.samples() if s.code == code))
    demo.show_station(key)
    page: StationOverview = demo.view(key).overview
    qtbot.waitUntil(lambda: demo.session.dossier(page.sample_id) is not None, timeout=20000)
    page.dossier_changed()
    qtbot.waitUntil(lambda: page.told.panel.made or not page.told.panel.isVisible(), timeout=5000)
    return page


def test_a_charge_shows_its_phases_and_what_the_station_settles(qtbot, demo: Window) -> None:
    page = _station(qtbot, demo, "M1", "charge")
    assert page.picture.isVisible() and page.picture.title.text().startswith("Charge, ")
    shown = [view for view in page.picture._views if view.isVisible()]
    qtbot.waitUntil(lambda: all(view.made for view in shown), timeout=5000)
    assert len(shown) == 2 and shown[0]._plot is not None and shown[0].key.isVisible() is False
    assert "Charge time: met" in page.told.settles.text() and page.told.tally.accessibleName()
    # both plots keep the same stretch of time in view
    shown[0]._plot.getPlotItem().setXRange(1.0, 2.0, padding=0)
    qtbot.waitUntil(lambda: shown[1].seen() == pytest.approx(shown[0].seen(), abs=0.05), timeout=5000)
    demo.set_theme("night")
    demo.set_theme("day")


def test_another_run_s_picture_is_shown_where_it_is_asked_for(qtbot, demo: Window) -> None:
    page = _station(qtbot, demo, "M1", "load")
    assert page.picture.title.text().startswith("Overload, ") and page.told.panel.isVisible()
    assert page.told.panel.key.names == ["opened after", "held for"]
    assert "sag" not in page.picture._told.text()

    def keys() -> list[QPushButton]:
        return [b for b in there(page, QPushButton) if b.accessibleName() == "Its picture: Hold"]

    qtbot.waitUntil(lambda: bool(keys()), timeout=3000)
    (wanted,) = keys()
    qtbot.mouseClick(wanted, Qt.MouseButton.LeftButton)
    assert page.picture.title.text().startswith("Hold, ") and "of sag" in page.picture._told.text()
    assert len([view for view in page.picture._views if view.isVisible()]) == 3
    other = _station(qtbot, demo, "M4", "load")
    assert not other.picture.isVisible() and not other.told.panel.isVisible()


def test_the_way_back_and_the_shelf_stand_on_their_pages(qtbot, demo: Window) -> None:
    page = _station(qtbot, demo, "M1", "revival")
    assert page.told._way_card.isVisible() and page.told._way.rowCount() == 6
    shelf = _station(qtbot, demo, "M2", "shelf")
    assert shelf.told.panel.isVisible() and shelf.told.panel.key.isVisible(), "even a single line is named"
    assert not shelf.told._way_card.isVisible()


def test_tables_are_copied_as_tables(qtbot, demo: Window) -> None:
    page = _station(qtbot, demo, "M1", "charge")
    said: list[str] = []
    demo.session.said.connect(said.append)
    page.picture.copy.click()
    clip = QGuiApplication.clipboard().mimeData()
    assert clip.text().splitlines()[0] == "phase\tfor\tput in\ton average\tat its end" and "<table>" in clip.html()
    demo.show_station("ledger")
    demo.view("ledger").copy.click()
    lines = QGuiApplication.clipboard().text().splitlines()
    assert lines[0].startswith("claim\tprinted\toutcome") and len(lines) == 1 + len(
        demo.session.sample(demo.sample_id).claims
    )
    demo.show_page("compare")
    compare = demo.page("compare")
    qtbot.waitUntil(lambda: compare._shown is not None, timeout=20000)
    next(b for b in there(compare, QPushButton) if b.text() == "Copy as a table").click()
    assert QGuiApplication.clipboard().text().splitlines()[0].split("\t")[1:-1] == list(compare._shown.codes)
    assert len(said) == 3 and all("on the clipboard" in words for words in said)
