"""A run handed over: from one channel to another, to hands, and back; refused where it cannot be."""

from __future__ import annotations

import threading
from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import Qt

from tests.desk.doing import planned, start
from wintry_tally.app.hand_over import worse
from wintry_tally.bench.equipment import ChannelSpec
from wintry_tally.core.engine import Phase
from wintry_tally.core.errors import InputError
from wintry_tally.core.working import Working
from wintry_tally.desk.window import Window


@pytest.fixture
def live(qtbot, window: Window, sample_book: Path):
    """A discharge at 2 A on the stand-in channel, and a second channel beside it."""
    window.open_book(sample_book)
    window.session.start_stand_ins()
    equipment = window.session.equipment
    first = equipment.channel("stand-in")
    window.session.set_equipment("x", equipment.with_channel(replace(first, name="other", second="")))
    page = planned(window, "capacity-reference")
    page.edit.click()
    for place, name, text in ((0, "until", "time 1 s"), (1, "set to", "2 A")):
        page.steps.lines[place, name].setText(text)
        page.steps.lines[place, name].editingFinished.emit()
    page.bench.setCurrentIndex(page.bench.findData("stand-in"))
    page.bench.activated.emit(page.bench.currentIndex())
    start(qtbot, window, page)
    item = next(iter(window.session.running.live.values()))
    qtbot.waitUntil(lambda: item.latest.state.phase is Phase.DISCHARGING and item.latest.current_A > 1.5, timeout=15000)
    return window


def run_of(window: Window):
    return next(iter(window.session.running.live.values()))


def test_from_channel_to_channel_to_hands(qtbot, live: Window) -> None:
    page = live.view("capacity").page("run")
    choices = [page.over.itemText(index) for index in range(page.over.count())]
    assert choices == ["Hand over to…", "by hand", "channel other"] and page.over.isVisible()
    first = run_of(live)
    lines = [item for item in threading.enumerate() if item.name == "line stand-in pack"]
    assert len(lines) == 1
    page.over.setCurrentIndex(2)
    page.over.activated.emit(2)
    qtbot.waitUntil(lambda: run_of(live) is not first and not run_of(live).handing, timeout=15000)
    second = run_of(live)
    world = live.session._stand_ins.world
    assert second.run.settings.channel == "other" and second.latest.state.phase is Phase.PAUSED
    assert not world.load_on, "everything is off until a person resumes it"
    assert not lines[0].is_alive(), "the first channel let go of its lines: no two listen at one"
    with pytest.raises(InputError, match="already"):
        second.handing = True
        live.session.running.hand_over(second, "")
    second.handing = False
    assert live.session.running.on_channel("stand-in") is None
    live.show_page("bench")
    live.page("bench").tick()
    assert (
        "is running" in live.page("bench")._doing["other"].text()
        and live.page("bench")._doing["stand-in"].text() == "free"
    )
    live.show_sample(second.run.sample_id)
    page.refresh()
    page._pause()
    qtbot.waitUntil(lambda: second.latest.state.phase is Phase.DISCHARGING and world.load_on, timeout=15000)
    drawn = second.latest.state.charge_Ah
    page.over.setCurrentIndex(page.over.findData(""))
    page.over.activated.emit(page.over.currentIndex())
    qtbot.waitUntil(lambda: run_of(live) is not second and run_of(live).guide is not None, timeout=15000)
    third = run_of(live)
    assert third.run.method == "guided" and not world.load_on and third.latest.state.charge_Ah >= drawn
    page.refresh()
    page._pause()
    qtbot.waitUntil(lambda: "load on at 2 A" in third.latest.asks, timeout=15000)
    kinds = [event.kind for event in live.session.book.runs.events(third.run.id)]
    assert kinds.count("hand-over") == 2 and "note" in kinds and "interrupted" not in kinds


def test_what_is_told_beside_and_the_end_have_their_working(qtbot, live: Window) -> None:
    page = live.view("capacity").page("run")
    opened: list[Working] = []
    page.opened.connect(opened.append)
    qtbot.waitUntil(lambda: "mV apart" in page.beside.text(), timeout=15000)
    qtbot.mouseClick(page.how_beside, Qt.MouseButton.LeftButton)
    told = opened[-1].inputs
    assert {"cell 1", "cell 4", "the gauge", "the second meter's voltage"} <= set(told) and opened[-1].result.endswith(
        "mV"
    )
    cells = [float(told[f"cell {number}"].split()[0]) for number in (1, 2, 3, 4)]
    assert opened[-1].result == f"{1000 * (max(cells) - min(cells)):.0f} mV"
    assert " to " in page.minor["Ends about"].text(), "an end is foretold with its band"


def test_what_cannot_take_over_is_refused_and_the_run_goes_on(qtbot, live: Window) -> None:
    said: list[str] = []
    live.session.failed.connect(said.append)
    equipment = live.session.equipment
    live.session.set_equipment("x", equipment.with_channel(ChannelSpec("bare", voltage="stand-in meter")))
    page = live.view("capacity").page("run")
    page.refresh()
    page.over.setCurrentIndex(page.over.findData("bare"))
    page.over.activated.emit(page.over.currentIndex())
    assert "cannot take it over" in said[-1]
    assert run_of(live).latest.state.phase is Phase.DISCHARGING and live.session._stand_ins.world.load_on


def test_a_channel_that_does_not_answer_takes_nothing_over(qtbot, live: Window) -> None:
    said: list[str] = []
    live.session.failed.connect(said.append)
    equipment = live.session.equipment
    silent = replace(equipment.instrument("stand-in second meter"), name="spare meter")
    spec = replace(equipment.channel("other"), name="spare", voltage="spare meter")
    live.session.set_equipment("x", equipment.with_instrument(silent).with_channel(spec))
    live.session._stand_ins.world.fault("second", "silence")
    live.session.running.hand_over(run_of(live), "spare")
    qtbot.waitUntil(lambda: bool(said), timeout=15000)
    assert "cannot take it over" in said[-1] and "spare meter" in said[-1]
    item = run_of(live)
    assert not item.handing and item.worker.alive and item.run.settings.channel == "stand-in"


def test_a_load_that_stays_on_is_not_let_go_of(qtbot, live: Window) -> None:
    said: list[str] = []
    live.session.failed.connect(said.append)
    world = live.session._stand_ins.world
    world.fault("load", "ignores-off")
    live.session.running.hand_over(run_of(live), "")
    qtbot.waitUntil(lambda: any("not handed over" in text for text in said), timeout=30000)
    item = run_of(live)
    assert not item.handing and item.worker.alive and item.guide is None and item.latest.trouble
    world.fault("load", "ignores-off", on=False)
    qtbot.waitUntil(lambda: not world.load_on and not item.latest.trouble, timeout=30000)
    assert item.latest.state.phase is Phase.PAUSED
    live.session.running.hand_over(item, "")
    qtbot.waitUntil(lambda: run_of(live).guide is not None, timeout=15000)


def test_of_two_accuracies_the_wider_counts() -> None:
    assert worse("0.1%+2d", "0.5%+2d", 13.0) == "0.5%+2d" and worse("1%+0.01", "0.5%+0.01", 10.0) == "1%+0.01"
    assert worse("", "0.5%+2d", 13.0) == "", "unknown stays unknown"
