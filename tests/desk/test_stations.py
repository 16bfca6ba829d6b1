"""Every station's page, a run by a recipe with its prompts, the bench and a run on it, curves, imports of many kinds."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QFileDialog, QLabel, QPushButton

from tests.making import discharge, write_log
from wintry_tally.bench.connect import Tried
from wintry_tally.bench.equipment import Instrument
from wintry_tally.book import Book
from wintry_tally.core.battery import FAMILIES, parse_claim
from wintry_tally.core.engine import Phase
from wintry_tally.core.protocol.leads import awg_area_mm2
from wintry_tally.desk.views.recipe_page import RecipePage
from wintry_tally.desk.widgets.bench_forms import read_area
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.quantity_field import QuantityField
from wintry_tally.desk.window import Window
from wintry_tally.exchange.recipe_file import shipped, shipped_recipe


@pytest.fixture
def one(window: Window, sample_book: Path) -> Window:
    window.open_book(sample_book)
    return window


def claim(window: Window, *texts: str) -> None:
    for text in texts:
        window.session.add_claim(window.sample_id, parse_claim(text))


def planned(window: Window, name: str) -> RecipePage:
    template = shipped_recipe(name)
    window.show_station(template.station)
    view = window.view(template.station)
    view.plan_recipe(template)
    return view.page("recipe")


def bars_of(page: RecipePage) -> str:
    return " ".join(page.start_card.checks.messages)


# --- stations and their recipes ---


@pytest.mark.parametrize("station", ["charge", "rest", "load", "cold", "shelf", "revival"])
def test_every_station_offers_what_fits_the_family(one: Window, station: str) -> None:
    one.show_station(station)
    view = one.view(station)
    offered = {b.text() for b in view.overview.findChildren(QPushButton)}
    family = one.session.sample(one.sample_id).family
    fitting = {t.title for t in shipped().values() if t.station == station and t.fits(family)}
    assert fitting and fitting <= offered and "Revive a flat lead-acid battery" not in offered


FOR_LFP = sorted(t.name for t in shipped().values() if t.fits(FAMILIES["lfp"]) and t.station != "arrival")


@pytest.mark.parametrize("name", FOR_LFP)
def test_every_recipe_shows_its_steps_and_its_checks(one: Window, name: str) -> None:
    claim(one, "surge 80 A for 5 s", "40 A continuous", "70 min reserve")
    page = planned(one, name)
    shown = [line.text() for line in page.steps._sentences.values()]
    assert shown and all(shown)
    assert page.start_card.checks.messages or page.steps.recipe is not None
    if page.steps.recipe is not None and page.steps.recipe.live:
        assert page.start_card.caution_text.text().count("•") >= 3
    assert not page.start_card.start_button.isEnabled(), "nothing starts before the cautions are acknowledged"


def test_heavy_currents_are_withheld_while_nothing_is_claimed(one: Window) -> None:
    page = planned(one, "hold")
    assert "heavy currents are withheld" in bars_of(page)
    page.start_card.acknowledged.click()
    assert not page.start_card.start_button.isEnabled()
    claim(one, "40 A continuous")
    page.review()
    assert "withheld" not in bars_of(page) and page.start_card.start_button.isEnabled()
    page.power.line.setText("100 W")
    page.review()
    assert "above the load's" in bars_of(page) and not page.start_card.start_button.isEnabled()
    page.power.line.setText("lots")
    page.review()
    assert "cannot be read" in bars_of(page)


def test_a_claim_that_a_recipe_needs_is_asked_for(one: Window) -> None:
    page = planned(one, "overload-trip")
    assert "Needs a claim first" in bars_of(page) or "nothing is known for" in bars_of(page)


def test_steps_can_be_edited_and_saved(one: Window, tmp_path: Path, monkeypatch) -> None:
    claim(one, "40 A continuous")
    page = planned(one, "hold")
    page.edit.click()
    line = page.steps.lines[1, "set to"]
    line.setText("30 A")
    line.editingFinished.emit()
    assert page.steps.recipe is not None and page.steps.recipe.steps[1].setting == 30.0
    line.setText("30 parsec")
    line.editingFinished.emit()
    assert page.steps.recipe is None and "parsec" in bars_of(page)
    line.setText("0.5 C")
    line.editingFinished.emit()
    until = page.steps.lines[1, "until"]
    until.setText("protection open; voltage 7 V; time 5 min")
    until.editingFinished.emit()
    assert "below the floor" in bars_of(page)
    until.setText("moonrise 3")
    until.editingFinished.emit()
    assert "ends nothing" in bars_of(page)
    until.setText("protection open; voltage floor")
    until.editingFinished.emit()
    assert "might never end" in bars_of(page)
    until.setText("protection open; time 2 min")
    until.editingFinished.emit()
    target = tmp_path / "mine.toml"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    page._save()
    one.view("load").overview.open_recipe_file(target)
    assert page.steps.recipe is not None and page.steps.recipe.steps[1].setting == 20.0
    assert [rule.kind for rule in page.steps.recipe.steps[1].ends] == ["protection", "time"]
    target.write_text("nothing = ")
    one.view("load").overview.open_recipe_file(target)
    assert "TOML" in one._problem_text.text()


def start(qtbot, window: Window, page: RecipePage, speed: int = -1) -> None:
    page.speed.setCurrentIndex(speed % page.speed.count())
    page.start_card.acknowledged.click()
    assert page.start_card.start_button.isEnabled(), page.start_card.checks.messages
    qtbot.mouseClick(page.start_card.start_button, Qt.MouseButton.LeftButton)
    assert window.session.running.of_sample(window.sample_id) is not None


def test_a_run_by_a_recipe_asks_for_hands_and_settles_its_claim(qtbot, one: Window) -> None:
    claim(one, "40 A continuous")
    page = planned(one, "hold")
    page.edit.click()
    for place, text in ((0, "time 5 s"), (1, "protection open; time 5 min"), (2, "time 20 s")):
        line = page.steps.lines[place, "until"]
        line.setText(text)
        line.editingFinished.emit()
    start(qtbot, one, page, speed=1)
    run_page = one.view("load").page("run")
    qtbot.waitUntil(lambda: "Step 2 of 3" in run_page.step.text(), timeout=20000)
    run_page.mark.setText("fan on")
    qtbot.keyClick(run_page.mark, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=60000)
    run = one.session.runs(one.sample_id)[-1]
    assert (
        run.station == "load" and run.recipe["method"] == "hold" and run.cause in {"time-limit", "battery-protection"}
    )
    assert "mark" in [event.kind for event in one.session.book.runs.events(run.id)]
    qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=20000)
    verdict = next(v for v in one.session.dossier(one.sample_id).verdicts if v.claim.kind == "continuous-discharge")
    assert verdict.outcome.value == "met", verdict.advice


def test_prompts_wait_and_can_be_skipped(qtbot, one: Window) -> None:
    called: list[tuple[str, str]] = []
    one.session.rang.connect(lambda title, text: called.append((title, text)))
    page = planned(one, "wake-up")
    start(qtbot, one, page)
    run_page = one.view("revival").page("run")
    qtbot.waitUntil(run_page.prompt.isVisible, timeout=10000)
    live = one.session.running.of_sample(one.sample_id)
    assert live.latest.state.phase is Phase.PROMPTING and "cells" in run_page.asked.text()
    assert "waits for you" in run_page.state.text() and not run_page.pause.isEnabled()
    qtbot.waitUntil(lambda: any("hands" in title for title, _ in called), timeout=5000)
    # another station says where it goes on
    one.show_station("charge")
    assert any("is under way at Revival" in text for text in texts(one.view("charge")))
    one.show_station("revival")
    qtbot.mouseClick(run_page.done, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: live.latest.state.index >= 1, timeout=10000)
    assert run_page.across_button.isVisible()
    run_page.show_across()
    assert run_page._across.isVisible() and run_page._across.values["V"].text() != ""
    qtbot.keyClick(run_page._across, Qt.Key.Key_Escape)
    assert not run_page._across.isVisible()
    before = live.latest.state.index
    if live.latest.state.phase is not Phase.ENDED and before + 1 < len(live.recipe.steps):
        qtbot.mouseClick(run_page.skip, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(run_page.stop, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(run_page.stop, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=20000)


def texts(widget) -> list[str]:
    return [shown.text() for shown in widget.findChildren(QLabel)]


def test_a_charge_is_shown_as_one(qtbot, one: Window) -> None:
    page = planned(one, "charge-lithium-usual")
    page.full.line.setText("97 %")
    page.review()
    assert "put in" in page.start_card.outlook.text()
    start(qtbot, one, page)
    run_page = one.view("charge").page("run")
    qtbot.waitUntil(lambda: run_page._charge_label.text() == "Charge put in", timeout=10000)
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=60000)
    qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=20000)
    one.show_station("charge")
    qtbot.waitUntil(lambda: any("full after" in text for text in texts(one.view("charge").overview)), timeout=10000)


def test_a_run_is_saved_as_readings_or_as_its_analysis(demo: Window, tmp_path: Path) -> None:
    number = next(s.id for s in demo.session.samples() if s.code == "M1")
    demo.show_sample(number)
    demo.show_station("capacity")
    overview = demo.view("capacity").overview
    run = next(run for run in demo.session.runs(number) if run.title.startswith("Capacity"))
    for name in ("r.csv", "r.parquet", "r.json"):
        overview.save_run(run, tmp_path / name)
        assert (tmp_path / name).stat().st_size > 1000
    data = json.loads((tmp_path / "r.json").read_text())
    assert data["schema"] == "wintry-tally.analysis/1" and data["capacity"]["charge"]["value"] > 30


def test_sums_of_price_and_mass_stand_at_arrival(qtbot, one: Window) -> None:
    one.show_station("arrival")
    view = one.view("arrival")
    claim(one, "400 EUR", "3500 cycles", "4.4 kg")
    qtbot.wait(60)
    shown = {figure.accessibleName().split(",")[0]: figure.text() for figure in view._sums_card.findChildren(Figure)}
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
        page.time.setText(time)
        page.volts.line.setText(volts)
        page.amps.line.setText(amps)
        page.enter(anyway=True)
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
    field = next(
        f for f in ledger.findChildren(QuantityField) if f.line.accessibleName().startswith("Measured: Length")
    )
    field.line.setText("201 mm")
    limit = next(f for f in ledger.findChildren(QuantityField) if f.line.accessibleName().startswith("Good to: Length"))
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
    one.show_bench()
    bench = one._bench
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
    assert "channel left uses it" in one._problem_text.text()
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
    one.show_bench()
    bench = one._bench
    bench.new_channel()
    bench.new_instrument()
    qtbot.wait(80)
    for child in bench.findChildren(QPushButton):
        if child.isVisible():
            assert child.mapTo(bench, child.rect().topRight()).x() <= bench.width(), child.text()
    claim(one, "40 A continuous")
    page = planned(one, "hold")
    page.edit.click()
    qtbot.wait(80)
    for child in page.findChildren(QPushButton):
        if child.isVisible():
            assert child.mapTo(page, child.rect().topRight()).x() <= page.width(), child.text()
    assert one.width() == 1024


def test_a_run_on_stand_ins_over_the_wire(qtbot, one: Window) -> None:
    one.show_bench()
    one._bench.start_stand_ins()
    names = [item.name for item in one.session.equipment.instruments]
    assert "stand-in load" in names and len(names) == 6
    one._bench.read_once(one.session.equipment.instrument("stand-in meter"))
    qtbot.waitUntil(lambda: " V" in one._bench.said.text(), timeout=10000)
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
    while live.latest.state.phase is Phase.RESTING:
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


def test_curves_of_a_run(qtbot, demo: Window) -> None:
    demo.show_sample(next(s.id for s in demo.session.samples() if s.code == "M1"))
    demo.show_station("curves")
    view = demo.view("curves")
    assert view.run.count() >= 3
    capacity = next(i for i in range(view.run.count()) if view.run.itemText(i).startswith("Capacity"))
    view.run.setCurrentIndex(capacity)
    view._chosen()
    whole = view._shown.analysis.capacity.count.charge.value
    view.dropout.set_number(9.0)
    view._typed(9.0)
    assert float(view.figures["Charge"].text().split()[0]) == pytest.approx(whole, rel=0.01)
    above = []
    for volts in (11.0, 12.6, 12.9, 13.1):
        view._dragged(volts)
        above.append(float(view.figures["Charge"].text().split()[0]))
    assert above == sorted(above, reverse=True), "the higher the drop-out the less is usable"
    view.draw.set_number(2.0)
    hours = float(view.figures["Hours"].text().split()[0])
    assert hours == pytest.approx(above[-1] / 2.0, rel=0.02)
    for key in ("charge", "energy", "time"):
        view._against(key)
        assert view.axis == key
    low, high = view.curve.seen()
    assert low <= 0.1 and high > 1.0, "the whole run is in view"
    boxes = [box for box in view.findChildren(QCheckBox) if box.isVisible()]
    if boxes:
        boxes[0].click()
        assert view._overlaid and view.axis == "charge"
    demo.set_theme("night")
    demo.set_theme("day")


def test_a_slope_is_measured_between_two_moments(qtbot, demo: Window) -> None:
    demo.show_sample(next(s.id for s in demo.session.samples() if s.code == "M1"))
    demo.show_station("curves")
    view = demo.view("curves")
    place = next(i for i in range(view.run.count()) if view.run.itemText(i) == "Hold")
    view.run.setCurrentIndex(place)
    view._chosen()
    qtbot.mouseClick(view.slope, Qt.MouseButton.LeftButton)
    assert view.between.isVisible() and "mV/h" in view.between.text()
    # from the rest into the hold: the same resistance as the step that was found there
    step = view._shown.analysis.resistance[0]
    view.curve.set_stretch((step.at_s - 2.0) / 3600.0, (step.at_s + 1.0) / 3600.0)
    view._say_slope((step.at_s - 2.0) / 3600.0, (step.at_s + 1.0) / 3600.0)
    ohm = float(view.between.text().rsplit("= ", 1)[1].split(" mΩ")[0])
    assert ohm == pytest.approx(1000 * step.ohm.value, rel=0.4)
    view._against("charge")
    assert not view.between.isVisible() and not view.slope.isChecked()
    qtbot.mouseClick(view.slope, Qt.MouseButton.LeftButton)
    assert view.axis == "time" and view.between.isVisible()
    qtbot.mouseClick(view.slope, Qt.MouseButton.LeftButton)
    assert not view.between.isVisible()


def test_curves_go_to_the_rows_of_a_remark_and_repair(qtbot, demo: Window) -> None:
    demo.show_sample(next(s.id for s in demo.session.samples() if s.code == "M6"))
    demo.show_station("curves")
    view = demo.view("curves")
    remark = next(r for r in view._shown.analysis.remarks if r.rows)
    view._go_to(remark)
    qtbot.wait(60)
    labels = [b.text() for b in view.findChildren(QPushButton) if b.isVisible()]
    assert any(text.startswith("Rows ") for text in labels) and "Apply" in labels, labels


def test_runs_together_show_how_well_they_repeat(qtbot, demo: Window) -> None:
    demo.show_sample(next(s.id for s in demo.session.samples() if s.code == "M1"))
    demo.show_station("curves")
    qtbot.wait(60)
    card = demo.view("curves").relations
    said = " ".join(shown.text() for shown in card.findChildren(QLabel))
    assert card.isVisible() and "2 runs at about 8 A scatter by" in said
    figures = card.findChildren(Figure)
    assert figures and figures[0].text()


def test_a_sample_without_runs_has_no_curves(one: Window) -> None:
    one.show_station("curves")
    assert one.view("curves")._none.isVisible()


# --- imports ---


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
    run = one.session.runs(one.sample_id)[-1]
    assert run.station == "load" and run.recipe == {"method": "hold"} and run.original_name.endswith(".zip")
    assert one.station == "load"


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
    again = write_log(tmp_path / "b.csv", discharge(), header="t,x,y")
    one.import_log(again)
    qtbot.waitUntil(page.keep_button.isEnabled, timeout=15000)
    assert not page.problem.isVisible(), page.problem.text()
    assert page._looked.log.columns["voltage"] == "x"
