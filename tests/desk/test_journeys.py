"""From an empty book to a report, as a person goes: by keyboard and mouse, in a real window."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QPushButton

from tests.desk.doing import settled, there
from tests.making import discharge, write_log
from wintry_tally.book import Book, RunStatus
from wintry_tally.book.owner import this_process
from wintry_tally.cli.main import invoke
from wintry_tally.core.errors import InputError
from wintry_tally.core.verdict.outcome import Outcome, School
from wintry_tally.desk.widgets.trail import StationState
from wintry_tally.desk.window import Window

CTRL = Qt.KeyboardModifier.ControlModifier


def type_claims(qtbot, window: Window, *claims: str) -> None:
    view = window.view("arrival")
    for text in claims:
        qtbot.keyClicks(view.claim.line, text)
        qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)


def hang(qtbot, window: Window, *claims: str) -> int:
    window.hang_tag()
    view = window.view("arrival")
    qtbot.keyClicks(view.maker, "Maker")
    qtbot.keyClick(view.maker, Qt.Key.Key_Tab)
    qtbot.keyClicks(view.model, "Model")
    qtbot.keyClick(view.model, Qt.Key.Key_Tab)
    type_claims(qtbot, window, *claims)
    qtbot.keyClicks(view.rested_V.line, "13,12")
    qtbot.keyClick(view.rested_V.line, Qt.Key.Key_Return)
    assert window.sample_id is not None
    return window.sample_id


def outcomes(qtbot, window: Window) -> dict[str, Outcome]:
    assert window.sample_id is not None
    qtbot.waitUntil(lambda: window.session.dossier(window.sample_id) is not None, timeout=15000)
    return {verdict.claim.kind: verdict.outcome for verdict in window.session.dossier(window.sample_id).verdicts}


def save_report(qtbot, window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, button) -> str:
    target = tmp_path / "report.html"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    window.show_station("report")
    view = window.view("report")
    qtbot.keyClicks(view.prose, "Light, and true to its label.")
    qtbot.mouseClick(button(view, "Save as web page"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(target.exists, timeout=15000)
    return target.read_text()


def test_from_an_empty_book_to_a_report_on_the_simulated_bench(
    qtbot, fresh: Window, tmp_path, monkeypatch, button
) -> None:
    assert fresh.stack.currentWidget() is fresh._nothing
    qtbot.mouseClick(button(fresh.rack, "Hang a tag"), Qt.MouseButton.LeftButton)
    view = fresh.view("arrival")
    qtbot.keyClicks(view.maker, "Maker")
    qtbot.keyClick(view.maker, Qt.Key.Key_Tab)
    type_claims(qtbot, fresh, "40 Ah", "512 Wh", "cuts at 10 V", "4.4 kg")
    qtbot.keyClicks(view.claim.line, "forty amperes")
    assert view.claim.problem and view.claim.word.isVisible()
    view.claim.set_text("")
    qtbot.keyClicks(view.rested_V.line, "13,12")
    qtbot.keyClick(view.rested_V.line, Qt.Key.Key_Return)
    qtbot.keyClicks(view.mass.line, "4.36")
    qtbot.keyClick(view.mass.line, Qt.Key.Key_Return)
    qtbot.keyClicks(view.mass_limit.line, "10 g")
    qtbot.keyClick(view.mass_limit.line, Qt.Key.Key_Return)
    settled(qtbot)
    said = " ".join(view.findings.messages)
    assert "12.8 V × 40 Ah = 512 Wh: agrees" in said and "13.12 V rested" in said and "Weighed 4.36 kg" in said
    assert fresh.trail.button("capacity").state is StationState.NEXT

    qtbot.mouseClick(fresh.trail.button("capacity"), Qt.MouseButton.LeftButton)
    qtbot.mouseClick(button(fresh, "Simulated bench"), Qt.MouseButton.LeftButton)
    plan = fresh.view("capacity").page("plan")
    plan.settings["current"].line.setText("25 A")
    plan.review()
    assert (
        any("above the load's" in text for text in plan.start_card.checks.messages)
        and not plan.start_card.start_button.isEnabled()
    )
    plan.settings["current"].line.setText("13 A")
    plan.rest.line.setText("0 s")
    plan.review()
    assert not plan.start_card.start_button.isEnabled(), "the cautions are not acknowledged yet"
    plan.start_card.acknowledged.click()
    assert plan.start_card.start_button.isEnabled() and "Forecast" in plan.start_card.outlook.text()
    qtbot.mouseClick(plan.start_card.start_button, Qt.MouseButton.LeftButton)

    live = fresh.session.running.of_sample(fresh.sample_id)
    assert live is not None
    run_page = fresh.view("capacity").page("run")
    qtbot.waitUntil(lambda: live.latest.state.charge_Ah > 2, timeout=15000)
    qtbot.waitUntil(lambda: run_page.figures["Current"].text()[:3] in {"13.", "12."}, timeout=15000)
    assert "discharging" in run_page.state.text() and fresh.rack.tag(fresh.sample_id).doing().startswith("drawing")
    qtbot.waitUntil(lambda: "±" in run_page.minor["To come"].text(), timeout=15000)
    assert fresh.trail.button("capacity").state is StationState.RUNNING
    qtbot.mouseClick(run_page.pause, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: run_page.pause.text() == "Resume", timeout=15000)
    qtbot.mouseClick(run_page.pause, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not fresh.session.running.live, timeout=40000)

    found = outcomes(qtbot, fresh)
    assert set(found) == {"capacity", "energy", "low-voltage-cut", "mass"} and found["mass"] is Outcome.MET
    fresh.show_station("ledger")
    ledger = fresh.view("ledger")
    figure = ledger.figures[0]
    assert "±" in figure.text() and figure.text().endswith("Ah")
    qtbot.keyClick(figure, Qt.Key.Key_Return)
    assert fresh.pane.isVisible() and "JCGM 106:2012" in fresh.pane.working().as_text()
    page = save_report(qtbot, fresh, tmp_path, monkeypatch, button)
    for part in (
        "Capacity at least 40 Ah",
        "Light, and true to its label.",
        "simulated bench",
        "Cautions",
        "u(current gain)",
    ):
        assert part in page
    run = fresh.session.runs(fresh.sample_id)[0]
    events = [event.kind for event in fresh.session.book.runs.events(run.id)]
    assert events.count("acknowledged") == 5 and "pause" in events and "resume-discharge" in events


def test_with_an_imported_file(qtbot, fresh: Window, tmp_path, monkeypatch, button, capsys) -> None:
    hang(qtbot, fresh, "39 Ah", "45 Ah capacity", "500 Wh")
    log = write_log(
        tmp_path / "log.csv", discharge(), header="Zeit;Spannung / V;Strom / mA", delimiter=";", decimal=",", scale=(1.0, 1000.0),
        sign=-1.0, time=lambda s: f"{int(s) // 3600}:{int(s) // 60 % 60:02}:{int(s) % 60:02}", preamble="Logger\n\n",
    )  # fmt: skip
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(log))])
    event = QDropEvent(
        QPointF(600, 400), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    fresh.dropEvent(event)
    page = fresh.view("capacity").page("import")
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    assert (
        page.delimiter.currentText() == "semicolon"
        and page.decimal.currentText() == "comma"
        and page.header.value() == 3
    )
    assert [box.currentData() for box in page._boxes] == ["time", "voltage", "current"]
    assert "40.00" in page.charge.text() and "discharge is −" in page.summary.text()
    # a wrong choice is refused beside the file, and can be taken back
    page._boxes[2].setCurrentIndex(0)
    page._columns_chosen()
    qtbot.waitUntil(lambda: "no current" in page.problem.text(), timeout=15000)
    page._boxes[2].setCurrentIndex(page._boxes[2].findData("current"))
    page._looked = page._looked or object()
    page._columns_chosen()
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    qtbot.keyClicks(page.accuracy_V.line, "0.5%+2d")
    qtbot.keyClick(page.accuracy_V.line, Qt.Key.Key_Return)
    qtbot.keyClicks(page.accuracy_A.line, "1%+0.01")
    qtbot.keyClick(page.accuracy_A.line, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: "± 0.4" in page.charge.text(), timeout=15000)
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    shown = page.charge.text()
    qtbot.mouseClick(page.keep_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: bool(fresh.session.runs(fresh.sample_id)), timeout=15000)
    found = outcomes(qtbot, fresh)
    assert found["energy"] is Outcome.MET
    verdicts = fresh.session.dossier(fresh.sample_id).verdicts
    assert [verdict.outcome for verdict in verdicts[:2]] == [Outcome.MET, Outcome.MISSED]
    run = fresh.session.runs(fresh.sample_id)[0]
    assert fresh.session.book.runs.original(run.id) == ("log.csv", log.read_bytes())
    page_text = save_report(qtbot, fresh, tmp_path, monkeypatch, button)
    assert "logged by another device and imported" in page_text and "log.csv" in page_text
    # the same log on the command line gives the same figures
    capsys.readouterr()
    assert (
        invoke(
            ["analyse", str(log), "--family", "lfp", "--voltage-accuracy", "0.5%+2d", "--current-accuracy", "1%+0.01"]
        )
        == 0
    )
    assert shown in capsys.readouterr().out


def test_by_keyboard_alone_from_a_new_tag_to_a_kept_log_and_a_test_begun(
    qtbot, fresh: Window, tmp_path, monkeypatch
) -> None:
    def type_(text: str, then: Qt.Key = Qt.Key.Key_Return) -> None:
        qtbot.keyClicks(QApplication.focusWidget(), text)
        qtbot.keyClick(QApplication.focusWidget(), then)

    fresh.activateWindow()
    qtbot.keyClick(fresh, Qt.Key.Key_N, CTRL)
    for text in ("Maker", "Model", "39 Ah; 500 Wh"):  # Enter goes on from one to the next
        type_(text)
    sample = fresh.session.sample(fresh.sample_id)
    assert (sample.maker, sample.model) == ("Maker", "Model")
    assert [claim.kind for claim in sample.claims] == ["capacity", "energy"]
    log = write_log(tmp_path / "log.csv", discharge())
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([str(log)], ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(log), ""))
    qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_I, CTRL)
    page = fresh.view("capacity").page("import")
    page._back.setFocus()  # where it may stand when a dialog closes
    qtbot.waitUntil(page.keep_button.hasFocus, timeout=15000)
    page.accuracy_V.line.setFocus()  # whoever corrects something is left there
    page.keep_button.setEnabled(False)
    page._look()
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    assert page.accuracy_V.line.hasFocus()
    page.keep_button.setFocus()
    qtbot.keyClick(page.keep_button, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: bool(fresh.session.runs(fresh.sample_id)), timeout=15000)
    fresh.view("capacity").show_plan()
    start = fresh.view("capacity").page("plan").start_card
    qtbot.waitUntil(lambda: start._ready, timeout=15000)
    assert not start.start_button.isEnabled()
    qtbot.keyClick(fresh, Qt.Key.Key_R, Qt.KeyboardModifier.AltModifier)
    qtbot.waitUntil(lambda: start.acknowledged.isChecked() and start.start_button.isEnabled())
    with qtbot.waitSignal(start.started):
        qtbot.keyClick(fresh, Qt.Key.Key_T, Qt.KeyboardModifier.AltModifier)
    qtbot.waitUntil(lambda: len(fresh.session.runs(fresh.sample_id)) == 2, timeout=15000)


def test_with_hand_readings(qtbot, fresh: Window, tmp_path, monkeypatch, button) -> None:
    hang(qtbot, fresh, "40 Ah", "30 Ah capacity")
    fresh.show_station("capacity")
    qtbot.mouseClick(button(fresh, "Hand readings"), Qt.MouseButton.LeftButton)
    page = fresh.view("capacity").page("hand")
    qtbot.keyClicks(page.accuracy_V.line, "0.5% + 2 digits")
    qtbot.keyClicks(page.accuracy_A.line, "1% + 2 digits")
    qtbot.mouseClick(page.begin_button, Qt.MouseButton.LeftButton)

    def enter(time: str, volts: str, amps: str = "8.0", counter: str = "") -> None:
        page.entry.time.setText(time)
        page.entry.volts.line.setText(volts)
        page.entry.amps.line.setText(amps)
        page.entry.counter.line.setText(counter)
        qtbot.keyClick(page.entry.volts.line, Qt.Key.Key_Return)

    start = datetime.now() - timedelta(hours=6)
    enter(f"{start:%H:%M}", "13.30")
    for minutes in range(30, 270, 30):
        enter("+30 min", f"{13.2 - minutes / 1000:.2f}")
    assert page.table.rowCount() == 9
    enter("+15 min", "1.290")
    assert page.table.rowCount() == 9 and "digit lost" in page.entry.slips.messages[0]
    offered = button(page, "Use 12.9")
    qtbot.mouseClick(offered, Qt.MouseButton.LeftButton)
    assert page.entry.volts.line.text() == "12.9" and page.table.rowCount() == 9, (
        "offered, and still not kept without a click"
    )
    qtbot.mouseClick(page.entry.keep, Qt.MouseButton.LeftButton)
    enter("+10 min", "12.4", "80")
    qtbot.mouseClick(button(page, "Keep as typed"), Qt.MouseButton.LeftButton)
    assert page.table.rowCount() == 11 and page.table.item(10, 2).text() == "80"
    fresh.session.undo_stack.undo()
    assert page.table.rowCount() == 10
    enter("-5", "12.4")
    assert "not a time" in page.entry.slips.messages[0]
    enter("", "", "")
    assert "Type a voltage" in page.entry.slips.messages[0]
    enter("+20 min", "10.4")
    qtbot.mouseClick(button(page, "Keep as typed"), Qt.MouseButton.LeftButton) if page.entry.slips.messages else None
    enter("+1 min", "0.3", "0")
    if page.entry.slips.messages:
        qtbot.mouseClick(button(page, "Keep as typed"), Qt.MouseButton.LeftButton)
    assert "36" in page.charge.text() or "37" in page.charge.text()
    qtbot.mouseClick(button(page, "Finish the run"), Qt.MouseButton.LeftButton)
    outcomes(qtbot, fresh)
    verdicts = fresh.session.dossier(fresh.sample_id).verdicts
    assert verdicts[1].outcome is Outcome.MET and verdicts[0].measured is not None
    names = [term.name for term in verdicts[0].measured.terms]
    assert "reading of the clock" in names
    assert "read by hand" in save_report(qtbot, fresh, tmp_path, monkeypatch, button)


STARTER = """
import sys, time
from pathlib import Path
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[2])
from wintry_tally.desk.app import make_application
from wintry_tally.desk.session import Session
from wintry_tally.desk.window import Window
app = make_application("day")
window = Window(Session())
window.show()
window.open_book(Path(sys.argv[1]))
while not window.session.has_book:
    app.processEvents()
window.show_station("capacity")
view = window.view("capacity")
view.show_plan()
page = view.page("plan")
page.settings["current"].line.setText("13 A")
page.rest.line.setText("0 s")
page.speed.setCurrentIndex(2)
page.review()
page.start_card.acknowledged.click()
page.start()
while True:
    app.processEvents()
    live = window.session.running.of_sample(window.sample_id)
    print(live.latest.state.charge_Ah, flush=True)
    time.sleep(0.02)
"""


def test_killed_in_mid_run_and_opened_again(qtbot, window: Window, sample_book: Path, tmp_path: Path, button) -> None:
    process = subprocess.Popen(
        [sys.executable, "-c", STARTER, str(sample_book), str(tmp_path / "s")],
        stdout=subprocess.PIPE,
        text=True,
        env=dict(os.environ),
    )
    assert process.stdout is not None
    charge = 0.0
    while charge < 4.0:
        charge = float(process.stdout.readline())
    os.kill(process.pid, signal.SIGKILL)
    process.wait()
    process.stdout.close()

    window.open_book(sample_book)
    window.show_station("capacity")
    run = window.session.runs(window.sample_id)[0]
    assert run.status is RunStatus.RUNNING and window.session.running.of_sample(window.sample_id) is None
    assert "interrupted" in window.rack.tag(window.sample_id).doing()
    kept = window.session.book.runs.readings(run.id)
    # at 600 × real time two seconds at most are 1200 s of the bench: 4.3 Ah at 13 A
    assert kept[-1][0] * 13 / 3600 > charge - 4.4
    qtbot.mouseClick(button(window, "Resume"), Qt.MouseButton.LeftButton)
    live = window.session.running.of_sample(window.sample_id)
    assert live is not None
    window.session.running.set_speed(run.id, 36000.0)
    qtbot.waitUntil(lambda: not window.session.running.live, timeout=40000)
    found = outcomes(qtbot, window)
    assert set(found) == {"capacity", "energy", "low-voltage-cut"}
    capacity = window.session.dossier(window.sample_id).verdicts[0].measured
    assert capacity is not None and 36 < capacity.value < 43
    assert "interrupted" in [event.kind for event in window.session.book.runs.events(run.id)]


def test_an_interrupted_run_can_be_closed_as_such(qtbot, window: Window, sample_book: Path, button) -> None:
    window.open_book(sample_book)
    view = window.view("capacity")
    window.show_station("capacity")
    view.show_plan()
    plan = view.page("plan")
    plan.rest.line.setText("0 s")
    plan.review()
    plan.start_card.acknowledged.click()
    plan.start()
    live = window.session.running.of_sample(window.sample_id)
    assert live is not None
    qtbot.waitUntil(lambda: live.latest.state.charge_Ah > 1.0, timeout=15000)
    window.session.close_book()
    with Book.open(sample_book) as book:
        run = book.runs.all()[0]
        assert run.status is RunStatus.RUNNING and run.state["charge_Ah"] > 1.0
        book.runs.change(run.id, owner="")
    window.open_book(sample_book)
    window.show_station("capacity")
    with window.session.book.in_place():  # asked for while the book was busy, and taken up before its turn came
        window.session.book.runs.change(run.id, owner=this_process())
        with pytest.raises(InputError, match="taken up again"):
            window.session.running.close_interrupted(run)
        window.session.book.runs.change(run.id, owner="")
    qtbot.mouseClick(button(window, "Close as interrupted"), Qt.MouseButton.LeftButton)
    run = window.session.runs(window.sample_id)[0]
    with window.session.book.in_place():  # asked for twice
        window.session.running.close_interrupted(run)
        kinds = [event.kind for event in window.session.book.runs.events(run.id)]
    assert kinds.count("interrupted") == 1
    assert run.status is RunStatus.INTERRUPTED and run.cause == "interrupted"
    assert not [b for b in there(window, QPushButton) if b.text() == "Resume" and b.isVisible()]


def test_stopping_needs_two_presses_and_changing_the_rate_one(qtbot, window: Window, sample_book: Path) -> None:
    window.open_book(sample_book)
    window.show_station("capacity")
    view = window.view("capacity")
    view.show_plan()
    plan = view.page("plan")
    plan.rest.line.setText("0 s")
    plan.review()
    plan.start_card.acknowledged.click()
    plan.start()
    live = window.session.running.of_sample(window.sample_id)
    page = view.page("run")
    qtbot.waitUntil(lambda: live.latest.state.charge_Ah > 0.5, timeout=15000)
    page.rate.line.setText("4 A")
    qtbot.mouseClick(page.change, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: live.latest.state.setting == 4.0, timeout=15000)
    page.rate.line.setText("50 A")
    qtbot.mouseClick(page.change, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "stop limit" in page.trouble.text(), timeout=15000)
    page.speed.setCurrentIndex(1)
    page._speed()
    assert live.worker.speed == 60.0
    qtbot.mouseClick(page.stop, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(page.stop, Qt.MouseButton.LeftButton)  # a double click asks, and no more
    assert live.worker.alive and "Press again" in page.stop.text()
    qtbot.wait(QApplication.doubleClickInterval() + 50)
    qtbot.mouseClick(page.stop, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not window.session.running.live, timeout=15000)
    run = window.session.runs(window.sample_id)[0]
    assert run.cause == "operator" and run.status is RunStatus.FINISHED
    assert window.session.school is School.STRICT
