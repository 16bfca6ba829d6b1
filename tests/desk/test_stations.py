"""Every station's page, a run by a recipe with its prompts, the bench and a run on it, curves, imports of many kinds."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QPushButton, QScrollBar

from tests.desk.doing import bars_of, claim, planned, settled, start, texts, there
from tests.making import discharge, write_log
from wintry_tally.bench.connect import Tried
from wintry_tally.bench.equipment import Instrument
from wintry_tally.book import Book
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import BatteryModel, parameters_for
from wintry_tally.core.engine import Phase
from wintry_tally.core.quantity.wires import awg_area_mm2
from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.desk.widgets.bench_forms import read_area
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.quantity_field import QuantityField
from wintry_tally.desk.widgets.run_card import RunCardView
from wintry_tally.desk.window import Window
from wintry_tally.exchange.recipe_file import shipped


@pytest.mark.parametrize("station", ["charge", "rest", "load", "cold", "shelf", "revival"])
def test_every_station_offers_what_fits_the_family(qtbot, one: Window, station: str) -> None:
    one.show_station(station)
    view = one.view(station)
    qtbot.waitUntil(lambda: view.overview._recipes.count() > 0, timeout=3000)
    offered = {b.text() for b in there(view.overview, QPushButton)}
    family = one.session.sample(one.sample_id).family
    fitting = {t.title for t in shipped().values() if t.station == station and t.fits(family)}
    assert fitting and fitting <= offered and "Revive a flat lead-acid battery" not in offered


def test_a_charge_is_shown_as_one(qtbot, one: Window) -> None:
    page = planned(one, "charge-lithium-usual")
    page.full.line.setText("97 %")
    page.review()
    assert "put in" in page.start_card.outlook.text()
    start(qtbot, one, page)
    run_page = one.view("charge").page("run")
    qtbot.waitUntil(lambda: run_page._titles["Charge"].text() == "Charge put in", timeout=10000)
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=60000)
    qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=20000)
    one.show_station("charge")
    qtbot.waitUntil(lambda: any("full after" in text for text in texts(one.view("charge").overview)), timeout=10000)


def test_a_run_is_saved_as_readings_or_as_its_analysis(qtbot, demo: Window, tmp_path: Path) -> None:
    number = next(s.id for s in demo.session.samples() if s.code == "M1")
    demo.show_sample(number)
    demo.show_station("capacity")
    overview = demo.view("capacity").overview
    run = next(run for run in demo.session.runs(number) if run.title.startswith("Capacity"))
    for name in ("r.csv", "r.parquet", "r.json"):
        overview.save_run(run, tmp_path / name)
        qtbot.waitUntil((tmp_path / name).exists, timeout=15000)
        qtbot.waitUntil(lambda name=name: (tmp_path / name).stat().st_size > 1000, timeout=15000)
    data = json.loads((tmp_path / "r.json").read_text())
    assert data["schema"] == "wintry-tally.analysis/1" and data["capacity"]["charge"]["value"] > 30


def test_sums_of_price_and_mass_stand_at_arrival(qtbot, one: Window) -> None:
    one.show_station("arrival")
    view = one.view("arrival")
    claim(one, "400 EUR", "3500 cycles", "4.4 kg")
    settled(qtbot)
    shown = {figure.accessibleName().split(",")[0]: figure.text() for figure in there(view._sums_card, Figure)}
    assert any("10" in text for text in shown.values()) and len(shown) >= 4, shown


def test_a_charge_read_by_hand_is_typed_as_the_charger_shows_it(qtbot, one: Window) -> None:
    one.show_station("charge")
    view = one.view("charge")
    view.begin_hand()
    page = view.page("hand")
    assert page.kind.currentData() == "charge"
    page._begin_run()
    assert page.end.itemData(0) == "current-taper"
    for time, volts, amps in (
        ("08:00", "13.3", "8"),
        ("+60 min", "13.5", "8"),
        ("+60 min", "13.8", "8"),
        ("+30 min", "14.4", "1.5"),
    ):
        page.entry.time.setText(time)
        page.entry.volts.line.setText(volts)
        page.entry.amps.line.setText(amps)
        page.entry.enter(anyway=True)
    assert page.table.rowCount() == 4
    page.finish()
    run = one.session.runs(one.sample_id)[-1]
    assert run.station == "charge" and [row[2] for row in one.session.book.runs.readings(run.id)] == [
        8.0,
        8.0,
        8.0,
        1.5,
    ]
    assert one.session.book.runs.trace(run.id).current[0] == -8.0, "turned for the analysis, kept as typed"
    qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=15000)
    found = one.session.dossier(one.sample_id).runs[0].analysis.charge
    assert found.count.charge.value == pytest.approx(18.4, abs=0.3)


def test_what_is_measured_or_seen_is_entered_beside_its_claim(qtbot, one: Window, button) -> None:
    claim(one, "length 200 mm", "carrying handle")
    one.show_station("ledger")
    ledger = one.view("ledger")

    def outcome(kind: str) -> str:
        qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=15000)
        return next(v.outcome.value for v in one.session.dossier(one.sample_id).verdicts if v.claim.kind == kind)

    assert outcome("length") == outcome("feature") == "not-tested"
    qtbot.mouseClick(button(ledger, "It does not"), Qt.MouseButton.LeftButton)
    assert outcome("feature") == "missed"
    one.session.undo_stack.undo()
    assert outcome("feature") == "not-tested"
    qtbot.mouseClick(button(ledger, "It does"), Qt.MouseButton.LeftButton)
    assert outcome("feature") == "met"
    field = next(f for f in there(ledger, QuantityField) if f.line.accessibleName().startswith("Measured: Length"))
    field.line.setText("201 mm")
    limit = next(f for f in there(ledger, QuantityField) if f.line.accessibleName().startswith("Good to: Length"))
    limit.line.setText("0.5 mm")
    qtbot.keyClick(limit.line, Qt.Key.Key_Return)
    assert outcome("length") in {"met", "too-close"}
    qtbot.mouseClick(button(ledger, "Take back"), Qt.MouseButton.LeftButton)
    assert "not-tested" in {outcome("length"), outcome("feature")}
    with Book.open(one.session.book.path) as again:
        assert len(again.samples.entered(one.sample_id)) == 1, "kept in the book"


# --- the bench ---


def test_cross_sections_as_typed() -> None:
    assert (
        read_area("6 mm²") == 6.0 and read_area("2,5") == 2.5 and read_area("AWG 10") == pytest.approx(5.26, abs=0.01)
    )
    assert awg_area_mm2(16) == pytest.approx(1.31, abs=0.01)


def test_instruments_are_added_checked_and_taken_back(qtbot, one: Window) -> None:
    one.show_page("bench")
    bench = one.page("bench")
    assert bench.isVisible() and not one._top.isVisible()
    bench.new_instrument()
    form = bench.instrument_form
    form.keep()
    assert "needs a name" in form.problem.text() and form.problem.isVisible()
    form.name.setText("clamp")
    form.keep()
    assert "where it is" in form.problem.text()
    form.address.setText("TCPIP::127.0.0.1::9::SOCKET")
    form.accuracy_V.line.setText("rather good")
    form.keep()
    assert form.problem.isVisible()
    form.accuracy_V.line.setText("0.5% + 2 digits")
    form.keep()
    assert not form.isVisible() and one.session.equipment.instrument("clamp").voltage_accuracy == "0.5% + 2 digits"
    bench.new_instrument()
    form.show_instrument(Instrument("clamp", address="x"))
    bench._before = ""
    form.keep()
    assert "already" in form.problem.text()
    bench.new_channel()
    channel = bench.channel_form
    channel.name.setText("left")
    channel.keep()
    assert "measures" in channel.problem.text()
    channel.boxes["voltage"].setCurrentIndex(channel.boxes["voltage"].findData("clamp"))
    channel.area.line.setText("AWG 10")
    channel.length.line.setText("1.5 m")
    assert "may carry" in channel.warmth.text()
    channel.keep()
    kept = one.session.equipment.channel("left")
    assert kept.voltage == "clamp" and kept.leads.length_m == pytest.approx(1.5)
    bench._remove("clamp")
    assert "channel left uses it" in one.problem
    one.session.undo_stack.undo()
    assert not one.session.equipment.channels
    bench.read_once(one.session.equipment.instrument("clamp"))
    qtbot.waitUntil(lambda: "refused" in bench.said.text() or "reached" in bench.said.text(), timeout=10000)
    bench._answered(Instrument("x"), Tried({"voltage": 13.2}, ["→ MEAS:VOLT?", "← 13.2"]))
    assert "13.2 V" in bench.said.text() and "MEAS:VOLT?" in bench.exchange.toPlainText()
    one.show_station("arrival")
    assert one._top.isVisible()


def test_the_bench_and_a_recipe_fit_a_small_laptop(qtbot, one: Window) -> None:
    one.resize(1024, 640)
    one.session.start_stand_ins()
    one.show_page("bench")
    bench = one.page("bench")
    bench.new_channel()
    bench.new_instrument()
    settled(qtbot)
    for child in there(bench, QPushButton):
        if child.isVisible():
            assert child.mapTo(bench, child.rect().topRight()).x() <= bench.width(), child.text()
    claim(one, "40 A continuous")
    page = planned(one, "hold")
    page.edit.click()
    settled(qtbot)
    for child in there(page, QPushButton):
        if child.isVisible():
            assert child.mapTo(page, child.rect().topRight()).x() <= page.width(), child.text()
    assert one.width() == 1024


def test_a_run_on_stand_ins_over_the_wire(qtbot, one: Window) -> None:
    one.show_page("bench")
    one.page("bench").start_stand_ins()
    names = [item.name for item in one.session.equipment.instruments]
    assert "stand-in load" in names and len(names) == 7
    one.page("bench").read_once(one.session.equipment.instrument("stand-in meter"))
    qtbot.waitUntil(lambda: " V" in one.page("bench").said.text(), timeout=10000)
    claim(one, "40 A continuous")
    page = planned(one, "capacity-load-limited")
    page.bench.setCurrentIndex(page.bench.findData("stand-in"))
    page._bench_chosen()
    assert "6 mm²" in bars_of(page) and not page.speed.isVisible()
    page.start_card.acknowledged.click()
    assert page.start_card.start_button.isEnabled(), page.start_card.checks.messages
    page.start()
    live = one.session.running.of_sample(one.sample_id)
    assert live.run.method == "bench" and live.run.settings.instrument == "stand-in meter"
    run_page = one.view("capacity").page("run")
    assert "channel stand-in" in run_page.state.text() and not run_page.speed.isVisible()
    assert "proving the connection" in run_page.state.text()
    qtbot.waitUntil(lambda: live.latest.state.phase is Phase.RESTING, timeout=15000)
    while live.latest.state.phase is Phase.RESTING:
        for _ in range(3):  # however often it is pressed, nothing is asked of the discharge that begins
            qtbot.mouseClick(run_page.skip, Qt.MouseButton.LeftButton)
        qtbot.wait(400)
    qtbot.waitUntil(lambda: live.latest.state.charge_Ah > 0.002, timeout=15000)
    world = one.session._stand_ins.world
    assert world.true_current_A > 5
    again = planned(one, "capacity-load-limited")
    again.bench.setCurrentIndex(again.bench.findData("stand-in"))
    again._bench_chosen()
    assert "busy with" in bars_of(again) and one.session.running.on_channel("stand-in") is live
    one.show_station("capacity")
    world.fault("meter", "silence")
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=15000)
    assert world.true_current_A == 0.0
    run = one.session.runs(one.sample_id)[-1]
    assert run.cause == "instrument-lost" and "no answer in time" in run.detail


# --- curves ---


def test_several_files_are_one_log_and_its_kind_is_kept(qtbot, one: Window, tmp_path: Path) -> None:
    trace = discharge()
    half = len(trace) // 2
    first = write_log(tmp_path / "a.csv", trace.taking(np.arange(0, half)))
    second = write_log(tmp_path / "b.csv", trace.taking(np.arange(half - 5, len(trace))))
    one.import_log(first, second)
    page = one.view("capacity").page("import")
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    assert "and 1 more" in page.title.text() and any("files joined" in text for text in page.remarks.messages)
    assert page.test.currentData() == "capacity"
    page.test.setCurrentIndex(page.test.findData("hold"))
    page._test_chosen = True
    page.keep()
    qtbot.waitUntil(lambda: one.station == "load", timeout=15000)
    run = one.session.runs(one.sample_id)[-1]
    assert run.station == "load" and run.recipe == {"method": "hold"} and run.original_name.endswith(".zip")


def test_who_saw_how_a_pack_went_says_so_beside_its_run(qtbot, one: Window, tmp_path: Path) -> None:
    """Gone from its leads at half, by its readings as a protection would go: judged once somebody has said which it was."""

    def judged(outcome: Outcome) -> None:
        def is_so() -> bool:
            dossier = one.session.dossier(one.sample_id)
            return dossier is not None and {v.outcome for v in dossier.verdicts if v.claim.kind == "capacity"} == {
                outcome
            }

        qtbot.waitUntil(is_so, timeout=15000)
        settled(qtbot)

    model, rows = BatteryModel(parameters_for(family_named("lfp"), 40.0), 1.0), []
    for at in range(0, 9600, 10):
        seen = model.advance(8.0 if at > 600 else 0.0, 10.0)
        rows.append((at, seen.voltage_V, seen.current_A))
    rows += [(at, 0.0, 0.0) for at in range(9600, 9700, 10)]
    log = tmp_path / "gone.csv"
    log.write_text("time_s,voltage_V,current_A\n" + "".join(f"{t},{v:.3f},{i:.3f}\n" for t, v, i in rows))
    one.import_log(log)
    page = one.view("capacity").page("import")
    for field in (page.accuracy_V, page.accuracy_A):
        qtbot.keyClicks(field.line, "0.5%+2d")
        qtbot.keyClick(field.line, Qt.Key.Key_Return)
    settled(qtbot)
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    page.keep()
    qtbot.waitUntil(lambda: bool(one.session.runs(one.sample_id)), timeout=15000)
    judged(Outcome.NOT_TESTED)
    one.resize(1024, 600)
    settled(qtbot)
    for key, outcome in (
        ("Its protection opened", Outcome.MISSED), ("Take it back", Outcome.NOT_TESTED),
        ("It came off, or was switched off", Outcome.NOT_TESTED),
    ):  # fmt: skip
        keys = there(one.view("capacity"), QPushButton)
        pressed = next(item for item in keys if item.text() == key)
        scrolled = max((bar for bar in there(one.view("capacity"), QScrollBar)), key=lambda bar: bar.maximum())
        scrolled.setValue(100)
        pressed.setFocus()
        pressed.click()
        judged(outcome)
        at = QApplication.focusWidget()
        assert scrolled.value() == 100, "nothing moves under whoever reads"
        assert any(made.isAncestorOf(at) for made in there(one.view("capacity"), RunCardView)), "nor is the key lost"
    (card,) = there(one.view("capacity"), RunCardView)
    told = " ".join(texts(card))
    assert "As somebody saw it: it came off" in told and "tells them apart" not in told
    one.session.undo_stack.undo()
    judged(Outcome.NOT_TESTED)
    (card,) = there(one.view("capacity"), RunCardView)
    told = " ".join(texts(card))
    assert "No reading tells how it ended" in told and "tells them apart" in told


def test_what_was_set_for_a_device_is_remembered(qtbot, one: Window, tmp_path: Path) -> None:
    log = write_log(tmp_path / "a.csv", discharge(), header="t,x,y")
    one.import_log(log)
    page = one.view("capacity").page("import")
    qtbot.waitUntil(lambda: bool(page.problem.text()), timeout=15000)
    assert "voltage" in page.problem.text()
    # the columns are chosen in the preview that is shown all the same
    for place, field in enumerate(("time", "voltage", "current")):
        page._boxes[place].setCurrentIndex(page._boxes[place].findData(field))
    page._columns_chosen()
    page.accuracy_V.line.setText("0.5%+2d")
    page._look()
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    page.keep()
    qtbot.waitUntil(lambda: bool(one.session.runs(one.sample_id)), timeout=15000)
    again = write_log(tmp_path / "b.csv", discharge(), header="t,x,y")
    one.import_log(again)
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    assert not page.problem.isVisible(), page.problem.text()
    assert page._looked.log.columns["voltage"] == "x"


def test_a_station_that_was_never_shown_a_sample_stays_as_it_is(qtbot, demo: Window) -> None:
    """A view may be made before anybody goes there, and is told of changes all the same."""
    view = demo.view("shelf")
    assert view.sample_id == 0
    demo.station = "shelf"
    demo._sample_changed(demo.sample_id)
    assert not demo.problem
    demo.show_station("shelf")
    assert view.sample_id == demo.sample_id
