"""One key for the worst minute, quarantine, visible closing, an override in writing, a dialect of one's own."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QFileDialog, QLabel, QWidget

from tests.desk.doing import draw, there
from tests.desk.test_bench_trouble import HOLD
from wintry_tally.book import RunSettings
from wintry_tally.desk.window import Window


def words(widget) -> str:
    return " ".join(shown.text() for shown in there(widget, QLabel))


@pytest.fixture
def drawing(window: Window, sample_book: Path, qtbot) -> Window:
    """A run on the stand-ins, current flowing."""
    window.open_book(sample_book)
    window.session.start_stand_ins()
    sample = window.session.sample(window.sample_id)
    settings = RunSettings(family="lfp", rated_Ah=40.0)
    window.session.running.start(sample, HOLD, settings, (), "load", "stand-in")
    window.session.touch_runs(window.sample_id)
    live = window.session.running.of_sample(window.sample_id)
    draw(qtbot, live, window.session._stand_ins.world)
    return window


def press(widget: QWidget, key: Qt.Key) -> None:
    """As a keyboard does: the window system's window hears it first."""
    widget.activateWindow()
    QTest.qWait(50)
    QTest.keyClick(widget.window().windowHandle(), key)


def test_one_key_makes_everything_safe_and_the_battery_waits_until_somebody_looked(drawing: Window, qtbot) -> None:
    world = drawing.session._stand_ins.world
    drawing.show_station("ledger")
    press(drawing, Qt.Key.Key_F12)
    qtbot.waitUntil(lambda: world.true_current_A == 0.0, timeout=15000)
    page = drawing.worst.page
    assert drawing.pages.currentWidget() is page
    qtbot.waitUntil(lambda: page.head.text() == "Everything is off", timeout=15000)
    told = words(page)
    assert "stand-in load: off" in told and "stand-in supply: off" in told
    assert "call the fire service" in told and "in quarantine" in told
    qtbot.waitUntil(lambda: not drawing.session.running.live, timeout=15000)
    assert drawing.session.runs(drawing.sample_id)[-1].cause == "made-safe"
    qtbot.mouseClick(page.back, Qt.MouseButton.LeftButton)
    card = drawing.quarantine
    qtbot.waitUntil(card.isVisible, timeout=15000)
    with drawing.session.guard():
        drawing.session.running.start(
            drawing.session.sample(drawing.sample_id), HOLD, RunSettings(), (), "load", "stand-in"
        )
    assert "quarantine" in drawing.problem
    card.lift()
    assert "nothing is noted" in card.problem.text()
    card.note.setText("cool and dry")
    card.lift()
    assert "not everything is looked at" in card.problem.text()
    for box in card.signs.values():
        box.setChecked(True)
    card.lift()
    assert not card.isVisible() and drawing.session.quarantine(drawing.sample_id) is None


def test_a_silent_load_is_named_with_its_plug(drawing: Window, qtbot) -> None:
    world = drawing.session._stand_ins.world
    world.fault("load", "silence")
    qtbot.mouseClick(drawing.all_off, Qt.MouseButton.LeftButton)
    page = drawing.worst.page
    qtbot.waitUntil(lambda: page.head.text() == "NOT everything is off", timeout=15000)
    assert "Pull the lead of stand-in load at its own end" in words(page)
    world.fault("load", "silence", on=False)
    qtbot.waitUntil(lambda: page.head.text() == "Everything is off", timeout=15000)  # asked again until it is seen
    assert "Pull the lead" not in words(page) and world.true_current_A == 0.0
    qtbot.waitUntil(lambda: world.true_current_A == 0.0 and not drawing.session.running.live, timeout=15000)


def test_across_the_room_has_it_too(drawing: Window, qtbot) -> None:
    drawing.show_station("load")
    run_page = drawing.view("load").page("run")
    run_page.show_across()
    across = run_page._across
    qtbot.mouseClick(across.all_off, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: across.safe.head.text() == "Everything is off", timeout=15000)
    assert across.safe.isVisible() and not across.figures.isVisible()
    qtbot.mouseClick(across.safe.back, Qt.MouseButton.LeftButton)
    assert across.figures.isVisible()
    across.close()


def test_closing_waits_visibly_and_names_what_stays_on(drawing: Window, qtbot) -> None:
    world = drawing.session._stand_ins.world
    world.fault("load", "ignores-off")
    drawing.close()
    assert drawing.isVisible() and drawing.pages.currentWidget() is drawing.closing
    assert "Switching off" in drawing.closing.words.text()
    qtbot.waitUntil(drawing.closing.anyway.isVisible, timeout=15000)
    assert "Not seen to be off" in drawing.closing.words.text() and "stand-in load" in drawing.closing.words.text()
    world.fault("load", "ignores-off", on=False)
    qtbot.waitUntil(lambda: world.true_current_A == 0.0, timeout=15000)  # the guard goes on
    qtbot.mouseClick(drawing.closing.anyway, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not drawing.isVisible(), timeout=15000)


def test_without_a_book_there_is_nothing_to_switch_off(window: Window, qtbot) -> None:
    press(window, Qt.Key.Key_Pause)
    assert "nothing here is driven" in window.statusBar().currentMessage()


def test_a_dialect_of_one_s_own_is_chosen_and_stays(window: Window, sample_book: Path, tmp_path: Path, qtbot) -> None:
    window.open_book(sample_book)
    window.show_page("bench")
    form = window.page("bench").instrument_form
    bad, good = tmp_path / "bad.toml", tmp_path / "mine.toml"
    bad.write_text('kind = "scpi"\ntitle = "Bad"\n[load]\ncurrent = "I {setting}"\noff = "O"\n')
    good.write_text('kind = "scpi"\ntitle = "Mine"\n[reads]\nvoltage = "V?"\n')
    window.page("bench").new_instrument()
    form.take_dialect(str(bad))
    assert "seen to be off" in form.problem.text()
    form.take_dialect(str(good))
    assert form.dialect.currentText() == "mine.toml" and form.problem.isHidden()
    form.name.setText("m")
    form.address.setText("127.0.0.1:1")
    form.kind.setCurrentIndex(form.kind.findData("meter"))
    form.keep()
    kept = window.session.equipment.instrument("m")
    assert kept.dialect == str(good)
    window.page("bench")._change_instrument(kept)
    assert form.dialect.currentData() == str(good), "editing leaves it what it is"
    form.kind.setCurrentIndex(form.kind.findData("load"))
    form.keep()
    assert "says nothing of how a load is driven" in form.problem.text()


def test_the_key_is_heard_in_a_dialog_and_with_a_list_open(window: Window, qtbot) -> None:
    heard = []
    window.worst.make_safe = lambda: heard.append(1)
    dialog = QFileDialog(window)
    dialog.setOption(QFileDialog.Option.DontUseNativeDialog)
    dialog.open()
    press(dialog, Qt.Key.Key_F12)
    assert heard == [1]
    dialog.findChild(QComboBox).showPopup()
    press(dialog, Qt.Key.Key_F12)
    assert heard == [1, 1]
    dialog.close()
    press(window, Qt.Key.Key_F12)
    assert heard == [1, 1, 1]
