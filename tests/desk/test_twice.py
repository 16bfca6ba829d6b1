"""A key that counts when it is pressed twice."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from wintry_tally.desk.widgets import twice
from wintry_tally.desk.widgets.twice import FORGOTTEN_MS, Twice


class Clock:
    """Moves when it is told to."""

    now = 100.0

    def monotonic(self) -> float:
        return self.now


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    made = Clock()
    monkeypatch.setattr(twice, "time", made)
    return made


def test_a_double_click_is_one_press_and_a_second_one_acts_once(qtbot, clock: Clock) -> None:
    done: list[str] = []
    key = Twice("Stop", "Really?", lambda: done.append("stop"))
    qtbot.addWidget(key.key)
    short = QApplication.doubleClickInterval() / 1000.0 - 0.005
    for after, words, so_far in (
        (0.0, "Really?", []), (short, "Really?", []), (short, "Really?", []), (short + 0.01, "Stop", ["stop"]),
        (short, "Stop", ["stop"]), (9.0, "Really?", ["stop"]),
    ):  # fmt: skip
        clock.now += after
        qtbot.mouseClick(key.key, Qt.MouseButton.LeftButton)
        assert (key.key.text(), key.key.accessibleName(), done) == (words, words, so_far)


def test_no_key_beside_it_moves_when_it_asks(qtbot) -> None:
    key = Twice("Stop", "Press it once again to stop", lambda: None)
    qtbot.addWidget(key.key)
    wide = key.key.sizeHint().width()
    assert key.key.minimumWidth() > wide and key.key.text() == "Stop"
    wide = key.key.minimumWidth()
    qtbot.mouseClick(key.key, Qt.MouseButton.LeftButton)
    assert key.key.sizeHint().width() <= wide == key.key.minimumWidth()
    key.mean("Stop", "", lambda: None)  # nor when it asks no more
    assert key.key.minimumWidth() == wide
    key.mean("It is unplugged", "", lambda: None)
    assert key.key.minimumWidth() == key.key.sizeHint().width() < wide


def test_without_a_question_it_acts_at_once_and_of_a_burst_of_presses_once(qtbot, clock: Clock) -> None:
    done: list[str] = []
    key = Twice("Skip", "", lambda: done.append("skip"), name="Skip this step")
    qtbot.addWidget(key.key)
    for after, so_far in ((0.0, 1), (0.1, 1), (0.3, 1), (0.3, 1), (1.0, 2)):
        clock.now += after
        qtbot.mouseClick(key.key, Qt.MouseButton.LeftButton)
        assert (key.key.text(), key.key.accessibleName(), len(done)) == ("Skip", "Skip this step", so_far)
    key.mean("Skip", "Really?", lambda: done.append("ended"))  # the same words, and now they ask
    for after, words, so_far in ((0.1, "Skip", "skip"), (1.0, "Really?", "skip"), (1.0, "Skip", "ended")):
        clock.now += after
        qtbot.mouseClick(key.key, Qt.MouseButton.LeftButton)
        assert (key.key.text(), done[-1]) == (words, so_far)


def test_a_question_that_nobody_answers_is_withdrawn(qtbot, clock: Clock, monkeypatch: pytest.MonkeyPatch) -> None:
    assert FORGOTTEN_MS >= 3000
    monkeypatch.setattr(twice, "FORGOTTEN_MS", 20)
    done: list[str] = []
    key = Twice("Stop", "Really?", lambda: done.append("stop"))
    qtbot.addWidget(key.key)
    qtbot.mouseClick(key.key, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: key.key.text() == "Stop", timeout=5000)
    clock.now += 10.0
    qtbot.mouseClick(key.key, Qt.MouseButton.LeftButton)
    assert key.key.text() == "Really?" and not done


def test_a_press_meant_for_what_it_said_before_counts_for_nothing(qtbot, clock: Clock) -> None:
    """Of a run that ends just then and does not go off, nobody has said that its lead is pulled."""
    done: list[str] = []
    key = Twice("Stop", "Really?", lambda: done.append("stop"))
    qtbot.addWidget(key.key)
    qtbot.mouseClick(key.key, Qt.MouseButton.LeftButton)
    key.mean("Stop", "Really?", lambda: done.append("another"))  # the same again: the question stands
    assert key.key.text() == "Really?"
    key.mean("It is unplugged", "Truly?", lambda: done.append("unplugged"))
    assert key.key.text() == "It is unplugged"
    for words, so_far in (("Truly?", []), ("It is unplugged", ["unplugged"])):
        clock.now += 2.0
        qtbot.mouseClick(key.key, Qt.MouseButton.LeftButton)
        assert (key.key.text(), done) == (words, so_far)
