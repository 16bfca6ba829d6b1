"""What the window says and offers when instruments do not do as they are told, or the program was gone."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QLabel

from tests.desk.doing import draw, press_twice, there
from wintry_tally.book import Book, RunSettings
from wintry_tally.book.recipes import recipe_data
from wintry_tally.core.engine import Phase
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits
from wintry_tally.desk.window import Window
from wintry_tally.exchange.recipe_file import shipped_recipe

STOPS = StopLimits(8.0, 15.0, 25.0, 400.0, -20.0, 60.0)
HOLD = Recipe(
    "hold", "Hold", 1, (Step("discharge", "Hold", "current", 5.0, (EndRule("time", 900.0, EndCause.TIME),)),), STOPS
)


@pytest.fixture
def running(window: Window, sample_book: Path, qtbot) -> Window:
    """The window with a run on the stand-ins, current flowing."""
    window.open_book(sample_book)
    window.session.start_stand_ins()
    settings = RunSettings(family="lfp", rated_Ah=40.0)
    sample = window.session.sample(window.sample_id)
    window.session.running.start(sample, HOLD, settings, (), "load", "stand-in")
    window.session.touch_runs(window.sample_id)
    window.show_station("load")
    live = window.session.running.of_sample(window.sample_id)
    draw(qtbot, live, window.session._stand_ins.world)
    qtbot.waitUntil(window.view("load").page("run").pause.isEnabled, timeout=15000)
    return window


def test_a_load_that_stays_on_is_shouted_wherever_one_looks(running: Window, qtbot) -> None:
    world = running.session._stand_ins.world
    world.fault("load", "ignores-off")
    page = running.view("load").page("run")
    press_twice(qtbot, page.stop)
    running.show_station("arrival")
    qtbot.waitUntil(lambda: bool(running.problem), timeout=10000)
    assert "unplug the load's lead at the battery" in running.problem
    assert "needs your hands now" in running.rack.tag(running.sample_id).doing()
    running.show_station("load")
    qtbot.waitUntil(lambda: page.stop.text().startswith("It is unplugged"), timeout=15000)
    assert "still to be switched off" in page.state.text() and world.load_on
    qtbot.wait(QApplication.doubleClickInterval() + 50)
    qtbot.mouseClick(page.stop, Qt.MouseButton.LeftButton)
    assert "Press again: it is unplugged" in page.stop.text() and running.session.running.live
    qtbot.wait(QApplication.doubleClickInterval() + 50)
    qtbot.mouseClick(page.stop, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not running.session.running.live, timeout=10000)
    run = running.session.runs(running.sample_id)[-1]
    assert "unplugged" in [event.kind for event in running.session.book.runs.events(run.id)]


def test_a_load_that_comes_back_ends_the_shouting(running: Window, qtbot) -> None:
    world = running.session._stand_ins.world
    world.fault("load", "ignores-off")
    page = running.view("load").page("run")
    press_twice(qtbot, page.stop)
    live = running.session.running.of_sample(running.sample_id)
    qtbot.waitUntil(lambda: bool(live.latest.trouble), timeout=10000)
    world.fault("load", "ignores-off", on=False)
    qtbot.waitUntil(lambda: not running.session.running.live, timeout=15000)
    assert not world.load_on and world.true_current_A == 0.0


def test_pause_resume_and_a_new_rate_reach_the_load(running: Window, qtbot) -> None:
    world = running.session._stand_ins.world
    page = running.view("load").page("run")
    qtbot.mouseClick(page.pause, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: world.true_current_A == 0.0, timeout=15000)
    live = running.session.running.of_sample(running.sample_id)
    qtbot.waitUntil(lambda: live.latest.state.phase is Phase.PAUSED, timeout=15000)
    qtbot.waitUntil(lambda: page.pause.text() == "Resume", timeout=15000)
    qtbot.mouseClick(page.pause, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: world.true_current_A > 4.0, timeout=15000)
    page.rate.line.setText("2.5 A")
    qtbot.mouseClick(page.change, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: 2.0 < world.true_current_A < 3.0, timeout=15000)
    page.rate.line.setText("250 A")
    qtbot.mouseClick(page.change, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "stop limit" in page.trouble.text(), timeout=15000)
    assert 2.0 < world.true_current_A < 3.0, "what cannot be changes nothing"


def test_an_interrupted_run_on_the_bench_warns_of_what_goes_on_alone(
    window: Window, sample_book: Path, qtbot, button
) -> None:
    with Book.open(sample_book) as book:
        number = book.samples.all()[0].id
        settings = RunSettings(family="lfp", rated_Ah=40.0, channel="gone")
        run = book.runs.begin(
            number, "Hold 1", "bench", datetime(2026, 1, 1, tzinfo=UTC), settings, recipe_data(HOLD), "load"
        )
        book.runs.change(run, owner="999999:1")
    window.open_book(sample_book)
    window.show_station("load")
    told = " ".join(shown.text() for shown in there(window.view("load").overview, QLabel))
    assert "Real instruments go on alone" in told
    qtbot.mouseClick(button(window.view("load"), "Resume"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "no channel" in window.problem, timeout=15000)
    qtbot.mouseClick(button(window.view("load"), "Close as interrupted"), Qt.MouseButton.LeftButton)
    assert window.session.runs(window.sample_id)[-1].status == "interrupted"


def test_loads_switched_by_hand_are_planned_without_a_load(window: Window, sample_book: Path, qtbot) -> None:
    window.open_book(sample_book)
    window.show_station("capacity")
    view = window.view("capacity")
    view.plan_recipe(shipped_recipe("capacity-house-loads"))
    page = view.page("recipe")
    assert any("switch the loads yourself" in text for text in page.start_card.checks.messages)
    assert any("loads switched by hand" in line.text() for line in page.steps._sentences)
