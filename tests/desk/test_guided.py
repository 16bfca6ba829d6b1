"""A recipe walked through by hand in the window: asked, typed, caught, taken back, closed and opened again."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton

from tests.desk.doing import planned, press, press_twice, settled, there
from wintry_tally.core.engine import Phase
from wintry_tally.desk.views.recipe_page import BY_HAND
from wintry_tally.desk.views.run_page import RunPage
from wintry_tally.desk.window import Window


def by_hand(qtbot, window: Window, name: str = "capacity-reference") -> RunPage:
    """Plan and start a recipe by hand; the run page that shows it."""
    page = planned(window, name)
    page.bench.setCurrentIndex(page.bench.findData(BY_HAND))
    page.bench.activated.emit(page.bench.currentIndex())
    page.accuracy_V.line.setText("0.5% + 2 digits")
    page.accuracy_A.line.setText("1% + 2 digits")
    page.review()
    assert any("Nothing here can switch it off" in text for text in page.start_card.checks.messages)
    page.start_card.acknowledged.click()
    qtbot.mouseClick(page.start_card.start_button, Qt.MouseButton.LeftButton)
    settled(qtbot)
    return window.view("capacity").page("run")


def typed(qtbot, page, volts: str, amps: str = "", time: str = "") -> None:
    line = page.guided.entry
    for field, text in ((line.volts.line, volts), (line.amps.line, amps), (line.time, time)):
        field.setText(text)
    qtbot.keyClick(line.volts.line, Qt.Key.Key_Return)


def backdated(window: Window, hours: float) -> None:
    """Let the live run have begun so long ago, so that its readings can be typed with their times."""
    live = next(iter(window.session.running.live.values()))
    object.__setattr__(live.run, "started", live.run.started - timedelta(hours=hours))
    window.session.book.runs.change(live.run.id, started_utc=live.run.started.isoformat())


def test_a_run_by_hand_from_switching_on_to_the_end(qtbot, one: Window) -> None:
    said: list[str] = []
    called: list[str] = []
    one.session.failed.connect(said.append)
    one.session.rang.connect(lambda title, text: called.append(f"{title}: {text}"))
    page = by_hand(qtbot, one)
    live = next(iter(one.session.running.live.values()))
    assert "everything off" in page.guided.asks.text() and page.guided.isVisible() and not page.speed.isVisible()
    typed(qtbot, page, "13.3", "8")
    assert "everything should be off" in page.guided.entry.slips.messages[0]
    page.guided.entry.empty()
    press(page, "Skip this step")
    qtbot.waitUntil(lambda: "switch the load on at" in page.guided.asks.text(), timeout=15000)
    assert any("A reading is due" in text for text in called)
    typed(qtbot, page, "13.1")
    assert "Type the current too" in page.guided.entry.slips.messages[0]
    typed(qtbot, page, "131", "8")
    assert "outside" in page.guided.entry.slips.messages[0]
    press(page.guided, "Use 13.1 V")
    qtbot.keyClick(page.guided.entry.volts.line, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: live.latest.voltage_V == 13.1, timeout=15000)
    qtbot.waitUntil(lambda: "next reading in 29 min" in page.guided.due.text(), timeout=15000)
    typed(qtbot, page, "13.0", "8", "+1")
    page.guided.entry.enter(anyway=True)
    qtbot.waitUntil(lambda: live.latest.voltage_V == 13.0, timeout=15000)
    press(page.guided, "Take back the last reading")
    qtbot.waitUntil(lambda: live.latest.voltage_V == 13.1, timeout=15000)
    typed(qtbot, page, "9.9", "8", "+2")
    page.guided.entry.enter(anyway=True)
    qtbot.waitUntil(lambda: live.latest.state.phase is Phase.RESTING, timeout=15000)
    qtbot.waitUntil(lambda: "everything off" in page.guided.asks.text(), timeout=15000)
    press_twice(qtbot, page.stop)
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=10000)
    qtbot.waitUntil(lambda: any("Switch everything off now" in text for text in said), timeout=15000)
    run = one.session.runs(one.sample_id)[-1]
    assert run.method == "guided" and run.cause == "set-cutoff"
    assert len(one.session.book.runs.trace(run.id)) == 2


def test_a_run_by_hand_goes_on_when_the_book_is_opened_again(qtbot, one: Window, sample_book: Path) -> None:
    page = by_hand(qtbot, one)
    press(page, "Skip this step")
    qtbot.waitUntil(lambda: "switch the load on" in page.guided.asks.text(), timeout=15000)
    backdated(one, 3.0)
    hour_ago = datetime.now().astimezone() - timedelta(hours=1)
    typed(qtbot, page, "13.1", "8", f"{hour_ago:%H:%M:%S}")
    live = next(iter(one.session.running.live.values()))
    qtbot.waitUntil(lambda: live.latest.voltage_V == 13.1, timeout=15000)
    path = one.session.book.path
    one.session.close_book()
    one.open_book(path)
    qtbot.waitUntil(lambda: bool(one.session.running.live), timeout=15000)
    again = next(iter(one.session.running.live.values()))
    assert again.guide is not None and again.latest.state.phase is Phase.DISCHARGING
    one.station = "capacity"
    one.show_sample(again.run.sample_id)
    page = one.view("capacity").page("run")
    qtbot.waitUntil(lambda: "due now" in page.guided.asks.text(), timeout=15000)
    assert not [item for item in there(one, QPushButton) if item.text() == "Resume" and item.isVisible()]
    kinds = [event.kind for event in one.session.book.runs.events(again.run.id)]
    assert "reopened" in kinds and "pause" not in kinds
