"""The capacity pages one by one: what they refuse, offer, remember, and how they follow a run."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog

from tests.desk.doing import press_twice, there
from tests.making import discharge, write_log
from wintry_tally.book import Book, RunSettings, RunStatus
from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.window import Window
from wintry_tally.exchange.writer import write_log as write_readings


@pytest.fixture
def one(window: Window, sample_book: Path) -> Window:
    """The window on a book with one sample of 40 Ah, at Capacity."""
    window.open_book(sample_book)
    window.show_station("capacity")
    return window


def plan_page(one: Window):
    view = one.view("capacity")
    view.show_plan()
    return view.page("plan")


# --- planning ---


def test_a_plan_begins_with_what_is_usual(one: Window) -> None:
    page = plan_page(one)
    assert page.settings["current"].number == 8.0 and page.cutoff.number == 10.0 and page.rest.number == 3600.0
    assert "reference rate" in page.why.text() and "hydrogen" not in page.start_card.caution_text.text()
    assert "never charge below 0 °C" in page.start_card.caution_text.text()


@pytest.mark.parametrize(
    ("field", "text", "part"),
    [
        ("cutoff", "7 V", "below the floor"),
        ("cutoff", "13.5 V", "end the test at once"),
        ("cutoff", "ten", "cannot be read"),
        ("power", "50 W", "above the load's 50 W"),
        ("ceiling", "2 A", "above its 2 A"),
        ("rest", "soon", "cannot be read"),
        ("ambient", "10 V", "cannot be read"),
        ("power", "0", "not above zero"),
    ],
)
def test_a_plan_that_cannot_be_is_barred_with_its_reason(one: Window, field: str, text: str, part: str) -> None:
    page = plan_page(one)
    page.start_card.acknowledged.click()
    assert page.start_card.start_button.isEnabled()
    getattr(page, field).line.setText(text)
    page.review()
    assert not page.start_card.start_button.isEnabled() and any(
        part in message for message in page.start_card.checks.messages
    )
    page.start()
    assert one.session.running.live == {}


@pytest.mark.parametrize(("mode", "text"), [("power", "100 W"), ("resistance", "1.6 ohm")])
def test_other_modes_can_be_planned_and_run(one: Window, qtbot, mode: str, text: str) -> None:
    page = plan_page(one)
    page.mode.setCurrentIndex(page.mode.findData(mode))
    page._mode_changed()
    page.settings[mode].line.setText(text)
    page.rest.line.setText("0 s")
    page.review()
    assert not page.settings["current"].isVisible() and "Forecast" in page.start_card.outlook.text()
    page.start_card.acknowledged.click()
    page.start()
    live = one.session.running.of_sample(one.sample_id)
    one.session.running.set_speed(live.run.id, 36000.0)
    run = one.view("capacity").page("run")
    assert not run.rate.isVisible(), "only a current can be changed in mid-run here"
    qtbot.waitUntil(lambda: live.latest.state.charge_Ah > 2.0, timeout=60000)
    press_twice(qtbot, run.stop)
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=60000)
    qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=15000)
    report = one.session.dossier(one.sample_id).runs[0]
    assert next(s for s in report.analysis.stages if s.stage.kind == "discharge").stage.control == mode


def test_without_a_claimed_capacity_nothing_starts(fresh: Window) -> None:
    fresh.hang_tag()
    fresh.show_station("capacity")
    page = plan_page(fresh)
    page.settings["current"].line.setText("8 A")
    page.review()
    page.start_card.acknowledged.click()
    assert not page.start_card.start_button.isEnabled()
    assert any("No capacity is claimed" in message for message in page.start_card.checks.messages)
    page.start_card.left.emit()
    assert fresh.view("capacity").pages.currentWidget() is fresh.view("capacity").overview


# --- importing ---


def test_importing_what_is_no_log_says_why_and_keeps_nothing(one: Window, qtbot, tmp_path: Path) -> None:
    bad = tmp_path / "x.csv"
    bad.write_bytes(bytes(range(256)) * 10)
    one.take_file(bad)
    page = one.view("capacity").page("import")
    qtbot.waitUntil(lambda: "binary" in page.problem.text(), timeout=15000)
    assert page.problem.isVisible() and not page.keep_button.isEnabled()
    page.keep()
    assert one.session.runs(one.sample_id) == []
    one.take_file(tmp_path / "gone.csv")
    qtbot.waitUntil(lambda: "no such file" in page.problem.text(), timeout=15000)


def test_every_choice_of_the_import_is_heeded(one: Window, qtbot, tmp_path: Path) -> None:
    log = write_log(tmp_path / "log.csv", discharge(), header="t;U;I", delimiter=";", time=lambda s: f"{s / 60:.4f}")
    one.take_file(log)
    page = one.view("capacity").page("import")
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    assert "0.667" in page.charge.text() or "0.66" in page.charge.text(), "minutes were taken for seconds"
    page.unit.setCurrentIndex(page.unit.findData("min"))
    page._chosen()
    qtbot.waitUntil(lambda: page.charge.text().startswith("40.0"), timeout=15000)
    page.sign.setCurrentIndex(page.sign.findData("-"))
    page._chosen()
    qtbot.waitUntil(lambda: page.charge.text() == "–", timeout=15000)
    page.sign.setCurrentIndex(0)
    page.header.setValue(3)
    page._chosen()
    qtbot.waitUntil(lambda: "no voltage" in page.problem.text(), timeout=15000)
    page.header.setValue(1)
    page._chosen()
    qtbot.waitUntil(lambda: page.charge.text().startswith("40.0"), timeout=15000)


def test_an_offered_repair_can_be_taken_on_import(one: Window, qtbot, tmp_path: Path) -> None:
    trace = discharge()
    trace.current[600:700] *= 1000.0
    one.take_file(write_log(tmp_path / "log.csv", trace))
    page = one.view("capacity").page("import")
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    assert page.repair.isVisible() and any("look like mA" in message for message in page.remarks.messages)
    page.repair.click()
    qtbot.waitUntil(lambda: page.charge.text().startswith("40.0"), timeout=15000)
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    page.keep()
    qtbot.waitUntil(lambda: bool(one.session.runs(one.sample_id)), timeout=15000)
    run = one.session.runs(one.sample_id)[0]
    assert run.repair == "offered" and run.status is RunStatus.FINISHED
    kept = one.session.book.runs.trace(run.id)
    assert kept.current.max() > 1000, "the readings stay as they were logged"


def test_a_channel_of_several_is_chosen(one: Window, qtbot, tmp_path: Path) -> None:
    trace, rows = discharge(), []
    for second, volts, amps in zip(trace.time_s, trace.voltage_V, trace.current, strict=True):
        rows += [f"A,{second},{volts},{amps}\n", f"B,{second},{volts},{amps / 2}\n"]
    (tmp_path / "log.csv").write_text("Channel,time_s,voltage,current\n" + "".join(rows), encoding="utf-8")
    one.take_file(tmp_path / "log.csv")
    page = one.view("capacity").page("import")
    qtbot.waitUntil(lambda: page.charge.text().startswith("40.0"), timeout=15000)
    assert page.channel.isVisible() and any("channel A are read" in message for message in page.remarks.messages)
    page.channel.setCurrentIndex(1)
    page._chosen()
    qtbot.waitUntil(lambda: page.charge.text().startswith("20.0"), timeout=15000)
    one.take_file(write_log(tmp_path / "plain.csv", trace))
    qtbot.waitUntil(lambda: page.charge.text().startswith("40.0"), timeout=15000)
    assert not page.channel.isVisible() and page.keep_button.isEnabled()


def test_a_log_kept_with_a_clock_that_nothing_names_is_not_judged_before_that_is_said(
    one: Window, qtbot, tmp_path: Path
) -> None:
    log = write_log(tmp_path / "log.csv", discharge(), header="Time,V,A", time=lambda s: f"{s / 60:.4f}")
    one.take_file(log)
    page = one.view("capacity").page("import")
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    assert page.repair.isVisible() and any("what unit the times are in" in message for message in page.remarks.messages)
    page.keep()
    qtbot.waitUntil(lambda: bool(one.session.runs(one.sample_id)), timeout=15000)
    run = one.session.runs(one.sample_id)[0]
    assert run.settings.unnamed == "time" and one.session.book.runs.trace(run.id).unnamed == {"time"}
    qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=15000)
    (capacity,) = (one for one in one.session.dossier(one.sample_id).verdicts if one.claim.kind == "capacity")
    assert capacity.outcome is Outcome.TOO_CLOSE and "wait for a decision" in (capacity.advice or "")


def test_leaving_the_import_ends_its_work(one: Window, qtbot, tmp_path: Path) -> None:
    one.take_file(write_log(tmp_path / "log.csv", discharge(interval_s=0.5)))
    page = one.view("capacity").page("import")
    job = page._job
    page.cancel.click()
    assert job is not None and job.cancelled and not page._working.isVisible()
    qtbot.wait(300)
    assert not page.keep_button.isEnabled()


# --- hand readings ---


def test_hand_readings_survive_closing_and_counters_do_too(one: Window, sample_book: Path, qtbot) -> None:
    view = one.view("capacity")
    view.begin_hand()
    page = view.page("hand")
    page.accuracy_V.line.setText("nonsense")
    page._begin_run()
    assert "cannot be read" in one.problem and one.session.runs(one.sample_id) == []
    page.accuracy_V.line.setText("0.5%+2d")
    page.accuracy_A.line.setText("1%+2d")
    page._begin_run()
    begun = f"{datetime.now() - timedelta(hours=3):%H:%M}"  # whatever the hour, none of them is still to come
    for time, volts, counter in ((begun, "13.3", "0"), ("+60 min", "13.1", "8.0"), ("+60 min", "13.0", "16.1")):
        page.entry.time.setText(time)
        page.entry.volts.line.setText(volts)
        page.entry.counter.line.setText(counter)
        page.entry.enter()
    assert page.table.rowCount() == 3 and page.charge.text() == "16.10 Ah"
    one.open_book(sample_book)
    one.show_station("capacity")
    again = one.view("capacity").page("hand")
    assert again.table.rowCount() == 3 and "under way" in one.rack.tag(one.sample_id).doing()
    again.finish()
    qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=15000)
    report = one.session.dossier(one.sample_id).runs[0]
    assert report.analysis.capacity.count.charge.value == pytest.approx(16.1, abs=0.1)
    assert "current-from-counter" in [remark.code for remark in report.analysis.remarks]


def test_a_clock_that_does_not_go_forward_is_never_kept(one: Window) -> None:
    view = one.view("capacity")
    view.begin_hand()
    page = view.page("hand")
    page._begin_run()
    page.entry.time.setText("00:10")
    page.entry.volts.line.setText("13.3")
    page.entry.amps.line.setText("8")
    page.entry.enter()
    page.entry.time.setText("00:10")
    page.entry.volts.line.setText("13.2")
    page.entry.amps.line.setText("8")
    page.entry.enter(anyway=True)
    assert page.table.rowCount() == 1 and "forward" in page.entry.slips.messages[0]
    page.finish()
    assert "at least two readings" in page.entry.slips.messages[0]


# --- following and reporting ---


def test_a_full_disk_shows_on_the_run_page_and_mends(one: Window, qtbot, monkeypatch: pytest.MonkeyPatch) -> None:
    from wintry_tally.core.errors import BookError

    page = plan_page(one)
    page.rest.line.setText("0 s")
    page.review()
    page.start_card.acknowledged.click()
    page.start()
    live = one.session.running.of_sample(one.sample_id)
    runs = one.session.book.runs
    original = runs.append

    def full(*_: object) -> None:
        raise BookError(
            "the book cannot be read or written (database or disk is full)", mend="free some space on the disk"
        )

    monkeypatch.setattr(runs, "append", full)
    run_page = one.view("capacity").page("run")
    qtbot.waitUntil(lambda: "free some space" in run_page.trouble.text(), timeout=15000)
    qtbot.waitUntil(lambda: "paused" in run_page.state.text(), timeout=15000)
    monkeypatch.setattr(runs, "append", original)
    qtbot.waitUntil(lambda: run_page.trouble.text() == "", timeout=20000)
    qtbot.mouseClick(run_page.pause, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "discharging" in run_page.state.text(), timeout=20000)
    live.worker.ask(__import__("wintry_tally.core.engine", fromlist=["Request"]).Request("stop"))
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=15000)


def test_a_report_of_a_sample_without_tests_is_saved_too(one: Window, qtbot, tmp_path: Path, monkeypatch) -> None:
    target = tmp_path / "r.html"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    one.show_station("report")
    qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=15000)
    view = one.view("report")
    assert any("No finished capacity test" in message for message in view.contents.messages)
    one.save_report()
    qtbot.waitUntil(lambda: view.saved.text().endswith("r.html"), timeout=15000)
    assert "No test is finished" in target.read_text()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "no" / "r.html"), ""))
    one.save_report()
    qtbot.waitUntil(lambda: "cannot be written" in one.problem, timeout=15000)


def test_the_words_typed_are_kept_when_another_station_is_shown(one: Window, sample_book: Path) -> None:
    one.show_station("report")
    one.view("report").prose.setPlainText("Steady.")
    one.view("report").leave()
    one.session.close_book()
    with Book.open(sample_book) as book:
        assert book.samples.prose(1) == "Steady."


def test_a_run_that_holds_nothing_is_no_obstacle(window: Window, sample_book: Path, qtbot) -> None:
    with Book.open(sample_book) as book:
        book.runs.begin(
            1, "Capacity 1", "hand", datetime(2026, 1, 1, tzinfo=UTC), RunSettings(), status=RunStatus.FINISHED
        )
    window.open_book(sample_book)
    qtbot.waitUntil(lambda: window.session.dossier(1) is not None, timeout=15000)
    assert window.session.dossier(1).runs == ()
    assert {v.outcome for v in window.session.dossier(1).verdicts} == {Outcome.NOT_TESTED}


def test_a_new_tag_is_brought_into_view(demo: Window, qtbot) -> None:
    demo.resize(1024, 640)
    for _ in range(3):
        demo.hang_tag()
    tag = demo.rack.tag(demo.sample_id)
    qtbot.waitUntil(lambda: not tag.visibleRegion().isEmpty(), timeout=15000)


def test_the_rate_can_be_changed_after_a_rest_within_the_run(one: Window, qtbot) -> None:
    page = plan_page(one)
    page.rest.line.setText("10 min")
    page.review()
    page.start_card.acknowledged.click()
    page.start()
    run_page = one.view("capacity").page("run")
    qtbot.waitUntil(lambda: "discharging" in run_page.state.text(), timeout=15000)
    assert run_page.rate.isVisible() and run_page.change.isEnabled()


def test_a_run_held_by_another_window_is_said_to_be(one: Window, sample_book: Path) -> None:
    from wintry_tally.desk.session import Session

    other = Session()
    other.open_book(sample_book)
    settings = RunSettings(rated_Ah=40.0)
    run = other.book.runs.begin(1, "Capacity 1", "simulated", datetime(2026, 1, 1, tzinfo=UTC), settings)
    one.session.open.catch_up()  # as it does twice a second
    one.view("capacity").refresh()
    overview = one.view("capacity").overview
    assert one.session.running.elsewhere(one.session.book.runs.get(run)) and overview._banner.count() == 1
    other.shut_down()


def test_cells_and_a_second_meter_in_a_log_are_kept_beside(qtbot, window: Window, sample_book: Path, tmp_path) -> None:
    trace = discharge()
    beside = {
        "second_A": trace.current * 1.003,
        "cell_1_V": trace.voltage_V / 2,
        "cell_2_V": trace.voltage_V / 2 + 0.004,
    }
    written = tmp_path / "cells.csv"
    write_readings(replace(trace, beside=beside), written)
    window.open_book(sample_book)
    window.import_log(written)
    page = window.view("capacity").page("import")
    qtbot.waitUntil(lambda: page.keep_button.isEnabled(), timeout=10000)
    shown = [box.currentText() for box in page._boxes]
    assert shown == ["time", "voltage", "current", "kept beside", "kept beside", "kept beside"]
    page.keep()

    def found() -> list[Figure]:
        return [item for item in there(window, Figure) if "apart, under load" in item.accessibleName()]

    qtbot.waitUntil(lambda: bool(found()), timeout=15000)
    figures = found()
    assert figures and "4 mV" in figures[0].accessibleName()
    opened: list[object] = []
    figures[0].opened.connect(opened.append)
    qtbot.keyClick(figures[0], Qt.Key.Key_Return)
    assert opened and "highest cell" in opened[0].formula  # type: ignore[attr-defined]
