"""Today and Plan as they are used: with the mouse, by the keyboard, on the demo and on an empty book."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

import icalendar
import pytest
from PySide6.QtCore import QEvent, QObject, QPoint, Qt
from PySide6.QtWidgets import QApplication, QLabel, QPushButton, QWidget

from tests.desk.doing import settled, texts, there
from wintry_tally.app import planner
from wintry_tally.core.battery import parse_claim
from wintry_tally.desk.views import PAGES, VIEWS
from wintry_tally.desk.views.campaign import CampaignPage
from wintry_tally.desk.views.today import TodayPage
from wintry_tally.desk.window import Window


class Flashes(QObject):
    """Notes every widget that is shown as a window of its own."""

    def __init__(self) -> None:
        super().__init__()
        self.seen: list[str] = []

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and isinstance(watched, QWidget) and watched.isWindow():
            name = watched.metaObject().className()
            if not isinstance(watched, Window) and name not in {"QComboBoxPrivateContainer", "QTipLabel"}:
                self.seen.append(f"{name} {watched.text() if isinstance(watched, (QLabel, QPushButton)) else ''}")
        return False


@pytest.fixture
def planned(demo: Window, qtbot, monkeypatch) -> Window:
    """The demo with its plan drawn up."""
    monkeypatch.setattr(planner, "SECONDS", 0.5)
    monkeypatch.setattr(planner, "QUIET_S", 0.0)
    qtbot.waitUntil(lambda: demo.session.drawn() is not None and demo.session.drawn().thorough, timeout=30000)
    settled(qtbot)
    return demo


def _plan(window: Window) -> CampaignPage:
    window.show_page("plan")
    page = window.page("plan")
    assert isinstance(page, CampaignPage)
    return page


def _pick(page: CampaignPage, start: str) -> str:
    name = next(bar.id for bar in page.chart.bars() if bar.id.startswith(start) and bar.state != "running")
    page.chart.pick(name)
    return name


def test_today_is_the_first_page_and_its_keys_lead_on(planned: Window, qtbot, button) -> None:
    today = planned.page("today")
    assert isinstance(today, TodayPage) and planned.page_shown == "today" and today.isVisible()
    said = texts(today)
    assert "Running" in said and "Late" in said and "Next, within two days" in said
    assert any("Left empty for" in text or "Charge in three stages" in text for text in said)
    assert (
        not [tag for tag in planned.rack._tags.values() if tag.isChecked()] and planned.rack.pages["today"].isChecked()
    )
    item = next(one for one in today.items() if one.recipe == "shelf-end" and one.code == "M2")
    today.leads.emit(item.sample_id, item.station, item.recipe)
    assert planned.page_shown == "" and planned.station == "shelf"
    assert planned.session.sample(planned.sample_id).code == "M2" and planned.rack.tag(planned.sample_id).isChecked()
    recipe = planned.view("shelf").page("recipe")
    assert recipe.isVisible() and recipe.title.text() == "Shelf test, end"


def test_what_runs_goes_on_before_ones_eyes_and_the_keyboard_stays(planned: Window, qtbot) -> None:
    today = planned.page("today")
    (number, line), *_ = today._doing.items()
    before = line.text()
    assert "discharging" in before
    qtbot.waitUntil(lambda: today._doing[number].text() != before, timeout=15000)
    key = next(one for one in there(today, QPushButton) if one.accessibleName().startswith("Look: M5"))
    key.setFocus()
    today.refresh()
    assert QApplication.focusWidget().accessibleName().startswith("Look: M5")


def test_what_another_window_runs_is_not_called_interrupted(planned: Window, qtbot) -> None:
    from wintry_tally.desk.session import Session

    other = Session()
    second = Window(other)
    qtbot.addWidget(second)
    second.show()
    second.open_book(planned.session.book.path)
    page = second.page("today")
    qtbot.waitUntil(lambda: "in another window" in texts(page), timeout=15000)
    assert not any("interrupted" in text for text in texts(page))
    second.close()


def test_an_empty_book_says_what_to_do(fresh: Window, qtbot) -> None:
    assert fresh.page_shown == ""
    fresh.show_page("today")
    qtbot.waitUntil(lambda: "Nothing needs your hands." in texts(fresh.page("today")), timeout=10000)
    made: list[int] = []
    fresh.session.add_sample(made.append)
    (number,) = made
    fresh.show_page("today")
    assert "Type in its claims as printed" in texts(fresh.page("today"))
    fresh.session.add_claim(number, parse_claim("40 Ah"))
    qtbot.waitUntil(
        lambda: any("Read its voltage as received" in text for text in texts(fresh.page("today"))), timeout=10000
    )
    qtbot.waitUntil(lambda: "Start: Charge, usual" in texts(fresh.page("today")), timeout=20000)


def test_a_test_is_pinned_pushed_left_out_and_all_of_it_taken_back(planned: Window, qtbot) -> None:
    page, session = _plan(planned), planned.session
    name = _pick(page, "M2-shelf-end")
    before = session.drawn().plan.starts[name]
    said = "\n".join(texts(page._task_card))
    assert "Why here:" in said and "speaks to self discharge" in said and "Hands:" in said
    stood = session.drawn().moment(before)
    target = next(stood + timedelta(hours=h) for h in range(24, 60) if 9 <= (stood + timedelta(hours=h)).hour < 18)
    page.pin(name, target)
    assert set(session.wishes.pins) == {name}
    qtbot.waitUntil(lambda: session.drawn().task(name).fixed is not None, timeout=20000)
    assert session.drawn().moment(session.drawn().plan.starts[name]) == target
    qtbot.waitUntil(lambda: next(b for b in page.chart.bars() if b.id == name).begins == target, timeout=5000)
    page.chart.setFocus()
    page.chart.pick(name)
    qtbot.keyClick(page.chart, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
    qtbot.waitUntil(lambda: session.drawn().moment(session.drawn().plan.starts[name]) > target, timeout=20000)
    planned.session.undo_stack.undo()
    planned.session.undo_stack.undo()
    assert not session.wishes.pins
    # where nobody is, it does not go, and says why
    page.pin(name, target.replace(hour=23, minute=30))
    assert "cannot stand at" in planned.problem and "nobody is there at its start" in planned.problem
    assert not session.wishes.pins
    qtbot.waitUntil(
        lambda: session.drawn().task(name) is not None and session.drawn().task(name).fixed is None, timeout=20000
    )
    page.refresh()
    _pick(page, "M2-shelf-end")
    page.why_out.setText("the label says so")
    page.leave_out(session.drawn().task(name))
    assert session.wishes.left_out == {"M2": {"shelf-end": "the label says so"}}
    qtbot.waitUntil(lambda: session.drawn().task(name) is None, timeout=20000)
    qtbot.waitUntil(lambda: any("the label says so" in text for text in texts(page._out_card)), timeout=5000)
    session.undo_stack.undo()
    qtbot.waitUntil(lambda: session.drawn().task(name) is not None, timeout=20000)


def test_the_chart_is_walked_and_dragged(planned: Window, qtbot) -> None:
    page = _plan(planned)
    chart = page.chart
    chart.setFocus()
    qtbot.keyClick(chart, Qt.Key.Key_Home)
    first = chart.picked
    assert first == chart.bars()[0].id and chart.accessibleDescription() == chart.bars()[0].told
    rows = set()
    for _ in range(8):
        qtbot.keyClick(chart, Qt.Key.Key_Down)
        rows.add(next(bar.row for bar in chart.bars() if bar.id == chart.picked))
    assert {"M4", "M5", "M6"} <= rows
    qtbot.keyClick(chart, Qt.Key.Key_End)
    assert chart.picked == chart.bars()[-1].id
    bar = next(bar for bar in chart.bars() if bar.state in {"planned", "late"} and bar.row == "M6")
    box = chart.rect_of(bar)
    heard: list[tuple[str, object]] = []
    chart.dropped.disconnect()
    chart.dropped.connect(lambda name, at: heard.append((name, at)))
    begin = QPoint(round(box.left() + 3), round(box.center().y()))
    qtbot.mousePress(chart, Qt.MouseButton.LeftButton, pos=begin)
    qtbot.mouseMove(chart, begin + QPoint(round(chart._per_day()), 0))
    qtbot.mouseRelease(chart, Qt.MouseButton.LeftButton, pos=begin + QPoint(round(chart._per_day()), 0))
    ((name, at),) = heard
    assert name == bar.id and isinstance(at, datetime)
    assert abs(at - bar.begins - timedelta(days=1)) < timedelta(minutes=20) and at.minute % 15 == 0
    page.by_instrument.click()
    assert {one.row for one in chart.bars()} <= {"load", "charger", "freezer", "shelf"}


def test_days_away_and_a_calendar(planned: Window, qtbot, tmp_path: Path) -> None:
    page, session = _plan(planned), planned.session
    page.away.setText("next week")
    page._keep_away()
    assert "are no days" in page.away_problem.text() and page.away_problem.isVisible() and not session.wishes.away
    day = (datetime.now() + timedelta(days=1)).date()
    page.away.setText(f"{day}")
    page._keep_away()
    assert session.wishes.away == (str(day),) and not page.away_problem.isVisible()
    qtbot.waitUntil(lambda: session.drawn().wishes.away == (str(day),), timeout=20000)
    drawn = session.drawn()
    begun = {
        f"{drawn.moment(slot).date()}"
        for name, slot in drawn.plan.starts.items()
        if drawn.task(name).presence != "none"
    }
    assert str(day) not in begun
    page.freezers.setValue(2)
    assert session.wishes.freezers == 2
    page.save_calendar(tmp_path / "bench.ics")
    events = list(icalendar.Calendar.from_ical((tmp_path / "bench.ics").read_bytes()).walk("VEVENT"))
    assert events and any("M4" in str(event["summary"]) for event in events)


def test_what_one_more_charger_would_change_is_told(planned: Window, qtbot, button) -> None:
    page = _plan(planned)
    qtbot.mouseClick(button(page, "one more charger"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: "With one more charger: " in page.what_if.text() and "…" not in page.what_if.text(), timeout=30000
    )
    # three of them wait for the one there is
    late = page.what_if.text().split("; ")[1]
    assert "late in all instead of" in late and planned.session.drawn().plan.campaign.places["charger"] == 1


def test_no_part_of_a_view_flashes_up_as_a_window(planned: Window, qtbot) -> None:
    """What is shown before it has its place is a window of its own for a moment, and takes the keyboard away."""
    flashes = Flashes()
    QApplication.instance().installEventFilter(flashes)
    try:
        for sample in planned.session.samples()[::3]:
            planned.show_sample(sample.id)
            for key in VIEWS:
                planned.show_station(key)
        for key in PAGES:
            planned.show_page(key)
        qtbot.wait(100)
    finally:
        QApplication.instance().removeEventFilter(flashes)
    assert not flashes.seen
    assert planned.isActiveWindow() and QApplication.focusWidget() is not None
