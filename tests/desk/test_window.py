"""The window: opening, undo, keyboard, errors, narrow screens, themes, the demo."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QFileDialog, QLineEdit, QPushButton, QWidget

from tests.amount import thorough
from tests.desk.doing import settled, there
from wintry_tally.core.verdict.outcome import Outcome, School
from wintry_tally.desk.commands import COMMANDS, RECENT
from wintry_tally.desk.remembered import books
from wintry_tally.desk.theme import NIGHT
from wintry_tally.desk.theme import current as current_tokens
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.trail import StationState
from wintry_tally.desk.window import Window


def sample(window: Window, code: str) -> int:
    return next(item.id for item in window.session.samples() if item.code == code)


def test_without_a_book_it_asks_which(window: Window, tmp_path: Path, monkeypatch, button, qtbot) -> None:
    assert window.pages.currentIndex() == 0
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "mine"), ""))
    qtbot.mouseClick(button(window, "New book"), Qt.MouseButton.LeftButton)
    assert window.pages.currentIndex() == 1 and (tmp_path / "mine.wintry").exists()
    assert books() == [tmp_path / "mine.wintry"]
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: ("", ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([], ""))
    window.ask_open_book()
    assert window.session.has_book


def test_problems_are_a_line_in_the_window(window: Window, tmp_path: Path, button, qtbot) -> None:
    text = tmp_path / "x.wintry"
    text.write_text("no book")
    window.open_book(text)
    assert "not a test book" in window.problem and window.pages.currentIndex() == 0
    window.new_book(tmp_path / "a.wintry")
    window.new_book(tmp_path / "a.wintry")
    assert "exists already" in window.problem
    qtbot.mouseClick(button(window, "Dismiss"), Qt.MouseButton.LeftButton)
    assert window.problem == ""
    window.import_log(tmp_path / "none.csv")
    assert "Hang a tag first" in window.problem


def test_every_edit_is_undone_and_redone(fresh: Window, qtbot) -> None:
    stack = fresh.session.undo_stack
    fresh.hang_tag()
    number = fresh.sample_id
    view = fresh.view("arrival")
    view.claim.line.setText("40 Ah")
    view.add_claim()
    view.claim.line.setText("62 Ah capacity")
    view.source.setCurrentText("manual")
    view.add_claim()
    claims = fresh.session.sample(number).claims
    assert [claim.source for claim in claims] == ["label", "manual"]
    fresh.session.remove_claim(number, claims[0])
    fresh.session.set_sample(number, "change family", family="agm")
    fresh.session.set_sample(number, "change voltage", rested_V=12.8)
    fresh.session.set_sample(number, "change voltage", rested_V=12.8)
    assert stack.count() == 6, "an edit that changes nothing is none"
    while stack.canUndo():
        stack.undo()
    assert not fresh.session.samples() and fresh.stack.currentWidget() is fresh._nothing
    while stack.canRedo():
        stack.redo()
    again = fresh.session.sample(number)
    assert (again.family_key, again.arrival.rested_V, [claim.source for claim in again.claims]) == (
        "agm",
        12.8,
        ["manual"],
    )
    fresh.remove_tag()
    assert not fresh.session.samples()
    stack.undo()
    assert [item.id for item in fresh.session.samples()] == [number]


def test_codes_must_be_free(fresh: Window) -> None:
    fresh.hang_tag()
    fresh.hang_tag()
    view = fresh.view("arrival")
    view.code.setText("B1")
    view.code.editingFinished.emit()
    assert "taken" in fresh.problem and view.code.text() == "B2"
    view.code.setText("X7")
    view.code.editingFinished.emit()
    assert fresh.session.sample(fresh.sample_id).code == "X7"


def test_arrival_facts_are_kept(fresh: Window, qtbot) -> None:
    fresh.hang_tag()
    view = fresh.view("arrival")
    view.obtained.setCurrentIndex(view.obtained.findData("bought"))
    view._set(obtained="bought")
    view.polarity.click()
    view.tight.click()
    view.rested.click()
    view.notes.setPlainText("box dented")
    fresh.show_station("ledger")
    fresh.hang_tag()
    fresh.previous_tag()
    arrival = fresh.session.samples()[0].arrival
    assert (arrival.obtained, arrival.polarity, arrival.tight, arrival.rested) == ("bought", True, True, False)
    assert arrival.notes == "box dented", "half-typed notes are kept when another sample is shown"
    # what is half typed when its tag comes off goes with it, and nobody is told of an inner failure
    view.notes.setPlainText("more of it")
    fresh.remove_tag()
    view._set(notes="more of it")
    assert not fresh.problem


def test_menus_hold_every_command_and_shortcuts_do_not_clash(window: Window) -> None:
    shortcuts = [spec.shortcut for spec in COMMANDS if spec.shortcut]
    assert len(set(shortcuts)) == len(shortcuts)
    for spec in COMMANDS:
        assert spec.method in {"", RECENT} or callable(getattr(window, spec.method))
    titles = [action.text() for action in window.menuBar().actions()]
    assert titles == ["&Book", "&Sample", "&Edit", "&Go", "&View", "&Help"]


def test_the_keyboard_goes_everywhere(demo: Window, qtbot) -> None:
    demo.activateWindow()
    trail = ("arrival", "charge", "rest", "capacity", "load", "cold", "shelf", "revival", "curves")
    keys = {**{str(number): station for number, station in enumerate(trail, 1)}, "0": "ledger", "e": "report"}
    for key, station in keys.items():
        qtbot.keyClick(demo, key, Qt.KeyboardModifier.ControlModifier)
        assert demo.station == station
    first = demo.sample_id
    qtbot.keyClick(demo, Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier)
    assert demo.sample_id != first
    qtbot.keyClick(demo, Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier)
    assert demo.sample_id == first
    qtbot.keyClick(demo, Qt.Key.Key_F9)
    assert demo._pane_box.isVisible()
    qtbot.keyClick(demo, Qt.Key.Key_F9)
    assert not demo._pane_box.isVisible()


def test_the_working_says_whose_it_is_also_when_another_tag_is_chosen(demo: Window, qtbot) -> None:
    first, other = sample(demo, "M1"), sample(demo, "M2")
    demo.show_sample(first)
    demo.show_station("capacity")
    qtbot.waitUntil(lambda: demo.session.dossier(first) is not None, timeout=15000)
    figure = demo.session.dossier(first).runs[0].working("charge")
    demo.show_working(figure)
    assert demo.pane._title.text() == "Working · M1"
    demo.show_sample(other)
    demo.toggle_working()
    demo.toggle_working()
    assert demo.pane._title.text() == "Working · M1" and demo.pane.working() is figure
    demo.show_working(figure)
    assert demo.pane._title.text() == "Working · M2"
    demo.show_page("today")
    demo.show_working(figure)
    assert demo.pane._title.text() == "Working"


def test_the_keyboard_goes_back_to_what_asked_when_the_working_is_closed(demo: Window, qtbot, button) -> None:
    """Left to itself it went to the next key: Space would have switched everything off."""
    demo.show_sample(sample(demo, "M1"))
    demo.show_station("capacity")
    settled(qtbot)
    figure = next(one for one in demo.stack.currentWidget().findChildren(Figure) if one.isVisible())
    for still_there in (True, False):
        figure.setFocus()
        figure.opened.emit(demo.session.dossier(demo.sample_id).runs[0].working("charge"))
        close = button(demo.pane, "Close")
        close.setFocus()
        figure.setVisible(still_there)
        close.click()
        assert not demo._pane_box.isVisible()
        focused = QApplication.focusWidget()
        assert focused is (figure if still_there else demo.stack), focused


def test_every_control_has_an_accessible_name_and_is_reached_by_tab(demo: Window, qtbot) -> None:
    demo.show_sample(sample(demo, "M1"))
    for station in ("arrival", "charge", "capacity", "load", "curves", "ledger", "report"):
        demo.show_station(station)
        settled(qtbot)
        _named_and_reached(demo, station)


def _named_and_reached(demo: Window, station: str) -> None:
    for kind in (QAbstractButton, QLineEdit, QComboBox, Figure):
        for widget in demo.view(station).findChildren(kind):
            if widget.isVisible() and widget.focusPolicy() != Qt.FocusPolicy.NoFocus:
                name = widget.accessibleName() or (widget.text() if isinstance(widget, QAbstractButton) else "")
                assert name, (type(widget), widget.objectName(), widget.parent())
    seen: set[int] = set()
    start: QWidget | None = demo.view(station)
    widget = start.nextInFocusChain()
    while widget is not None and widget is not start and id(widget) not in seen:
        seen.add(id(widget))
        widget = widget.nextInFocusChain()
    buttons = [b for b in demo.view(station).findChildren(QPushButton) if b.isVisible()]
    assert buttons and all(id(b) in seen for b in buttons), station


def test_the_demo_shows_every_kind_of_outcome(demo: Window, qtbot) -> None:
    assert "demonstration data" in demo.windowTitle()
    everything = {v.outcome for s in demo.session.samples() for v in demo.session.dossier(s.id).verdicts}
    assert everything == set(Outcome)
    live = sample(demo, "M5")
    qtbot.waitUntil(lambda: demo.rack.tag(live).doing().startswith("drawing 5.0 A"), timeout=10000)
    demo.show_sample(live)
    assert demo.trail.button("capacity").state is StationState.RUNNING
    demo.remove_tag()
    assert "is running" in demo.problem
    demo.show_sample(sample(demo, "M3"))
    demo.show_station("ledger")
    ledger = demo.view("ledger")
    assert ledger._contradictions.isVisible() and any(
        "62 Ah in the manual" in text for text in ledger.findings.messages
    )


def test_the_offered_repair_is_applied_by_a_click_and_taken_back(demo: Window, qtbot, button) -> None:
    number = sample(demo, "M6")
    demo.show_sample(number)
    demo.show_station("capacity")

    def capacity():
        made = demo.session.dossier(number)
        return None if made is None else made.runs[0].analysis.capacity.count.charge.value

    assert capacity() > 100
    qtbot.mouseClick(button(demo.view("capacity"), "Apply"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: capacity() is not None and capacity() < 40, timeout=15000)
    qtbot.waitUntil(lambda: any(b.text() == "Take back" for b in there(demo, QPushButton)), timeout=15000)
    demo.session.undo_stack.undo()
    qtbot.waitUntil(lambda: capacity() is not None and capacity() > 100, timeout=15000)


def test_a_run_is_left_out_and_the_school_changed(demo: Window, qtbot, button, tmp_path, monkeypatch) -> None:
    number = sample(demo, "M2")
    demo.show_sample(number)
    demo.show_station("ledger")
    ledger = demo.view("ledger")
    ledger.school.setCurrentIndex(ledger.school.findData(School.LENIENT.value))
    ledger.school.activated.emit(2)
    qtbot.waitUntil(lambda: demo.session.dossier(number) is not None, timeout=15000)
    assert demo.session.dossier(number).verdicts[0].outcome is Outcome.MET
    demo.show_station("capacity")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "r.csv"), ""))
    qtbot.mouseClick(button(demo.view("capacity"), "Save readings"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil((tmp_path / "r.csv").exists, timeout=15000)
    qtbot.waitUntil(lambda: (tmp_path / "r.csv").read_text().startswith("Test Time / s"), timeout=15000)
    qtbot.mouseClick(button(demo.view("capacity"), "Leave out"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: demo.session.dossier(number) is not None, timeout=15000)
    assert demo.session.dossier(number).verdicts[0].outcome is Outcome.NOT_TESTED


@thorough
def test_nothing_is_cut_off_on_a_small_laptop(demo: Window, qtbot) -> None:
    demo.show_sample(sample(demo, "M3"))
    for wide, high in ((1280, 800), (900, 600), (1024, 700)):
        demo.resize(wide, high)
        # smaller, and with large text, it is gone through in test_small_screen.py
        for station in (
            ()
            if wide != 1024
            else ("arrival", "charge", "capacity", "load", "cold", "revival", "curves", "ledger", "report")
        ):
            demo.show_station(station)
            settled(qtbot)
            assert demo.width() == wide, f"{station} pushes the window wider"
            view = demo.view(station)
            for child in there(view, QPushButton):
                if child.isVisible():
                    right = child.mapTo(view, child.rect().topRight()).x()
                    assert right <= view.width(), (station, child.text())
        demo.show_working(demo.session.dossier(sample(demo, "M1")).runs[0].working("charge"))
        settled(qtbot)
        assert demo.rack.isVisible() is (wide >= 1150)
        demo.hide_working()
        assert demo.rack.isVisible()


def test_the_night_theme_is_remembered(demo: Window) -> None:
    demo.toggle_theme()
    assert current_tokens() is NIGHT and QSettings().value("preferences/theme") == "night"
    demo.toggle_theme()
    assert current_tokens() is not NIGHT


def test_two_windows_do_not_fight_over_a_run(demo: Window, qtbot, tmp_path: Path) -> None:
    from wintry_tally.book.owner import owner_lives
    from wintry_tally.desk.session import Session

    number = sample(demo, "M5")
    live = demo.session.running.of_sample(number)
    assert live is not None and owner_lives(demo.session.book.runs.get(live.run.id).owner)
    other = Session()
    other.open_book(demo.session.book.path)
    assert other.running.of_sample(number) is None and other.running.elsewhere(other.book.runs.get(live.run.id))
    other.shut_down()
