"""Curves: bands, thresholds, slopes, remarks and runs together, driven as a person would."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QCheckBox, QLabel, QPushButton

from tests.desk.doing import settled, there
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.window import Window


def test_curves_of_a_run(qtbot, demo: Window) -> None:
    demo.show_sample(next(s.id for s in demo.session.samples() if s.code == "M1"))
    demo.show_station("curves")
    view = demo.view("curves")
    assert view.run.count() >= 3
    capacity = next(i for i in range(view.run.count()) if view.run.itemText(i).startswith("Capacity"))
    view.run.setCurrentIndex(capacity)
    view._chosen()
    qtbot.waitUntil(lambda: view._shown is not None and view._shown.facts.title.startswith("Capacity"), timeout=10000)
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
    boxes = [box for box in there(view, QCheckBox) if box.isVisible()]
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
    qtbot.waitUntil(lambda: view._shown is not None and view._shown.facts.title == "Hold", timeout=10000)
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
    qtbot.waitUntil(lambda: view._shown is not None, timeout=10000)

    def links() -> dict[str, QPushButton]:
        return {b.text(): b for b in there(view, QPushButton) if b.isVisible()}

    qtbot.waitUntil(lambda: "Apply" in links(), timeout=10000)  # the cards beneath, one after the other
    remark = next(r for r in view._shown.analysis.remarks if r.rows)
    whole = view.curve._plot.viewRange()[0]
    links()[remark.place.capitalize()].click()
    low, high = view.curve._plot.viewRange()[0]
    time_h = view._shown.analysis.trace.time_s[remark.rows[0] - 1] / 3600.0
    assert low <= time_h <= high and high - low < 0.9 * (whole[1] - whole[0])


def test_runs_together_show_how_well_they_repeat(qtbot, demo: Window) -> None:
    demo.show_sample(next(s.id for s in demo.session.samples() if s.code == "M1"))
    demo.show_station("curves")
    settled(qtbot)
    demo.view("curves").told.filling.finish()
    card = demo.view("curves").told.relations
    said = " ".join(shown.text() for shown in there(card, QLabel))
    assert card.isVisible() and "2 runs at about 8 A scatter by" in said
    figures = there(card, Figure)
    assert figures and figures[0].text()


def test_a_sample_without_runs_has_no_curves(one: Window) -> None:
    one.show_station("curves")
    assert one.view("curves")._none.isVisible()


# --- imports ---


def test_a_curve_is_moved_zoomed_measured_and_copied_by_the_keyboard(qtbot, demo: Window) -> None:
    demo.show_sample(next(s.id for s in demo.session.samples() if s.code == "M1"))
    demo.show_station("curves")
    view = demo.view("curves")
    qtbot.waitUntil(lambda: view._shown is not None, timeout=10000)
    curve = view.curve
    curve.setFocus()
    assert curve.hasFocus() and "Home shows everything" in curve.accessibleDescription()
    curve.look_at_all()
    low, high = curve.seen()
    qtbot.keyClick(curve, Qt.Key.Key_Plus)
    near = curve.seen()
    assert near[1] - near[0] == pytest.approx(0.7 * (high - low), rel=0.02)
    assert sum(near) == pytest.approx(low + high, abs=0.01 * (high - low))
    qtbot.keyClick(curve, Qt.Key.Key_Right)
    assert curve.seen()[0] == pytest.approx(near[0] + 0.2 * (near[1] - near[0]), rel=0.02)
    qtbot.keyClick(curve, Qt.Key.Key_Left)
    qtbot.keyClick(curve, Qt.Key.Key_Minus)
    assert curve.seen() == pytest.approx((low, high), abs=0.02 * (high - low))
    qtbot.keyClick(curve, Qt.Key.Key_Plus)
    qtbot.keyClick(curve, Qt.Key.Key_Home)
    qtbot.waitUntil(lambda: curve.seen() == pytest.approx((low, high), abs=0.02 * (high - low)), timeout=5000)
    qtbot.keyClick(curve, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert QGuiApplication.clipboard().pixmap().width() == curve.grab().width()
    # without a measurement its keys do nothing here; with one they move its ends
    assert not curve.move_end(True, 1.0)
    view.slope.click()
    ends = list(curve._stretch_item.getRegion())
    told = view.between.text()
    qtbot.keyClick(curve, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    moved = list(curve._stretch_item.getRegion())
    wide = curve.seen()[1] - curve.seen()[0]
    assert moved[0] == ends[0] and moved[1] == pytest.approx(ends[1] + 0.01 * wide) and view.between.text() != told
    qtbot.keyClick(curve, Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
    assert curve._stretch_item.getRegion()[0] == pytest.approx(ends[0] - 0.01 * wide)
