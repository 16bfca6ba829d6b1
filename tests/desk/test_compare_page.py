"""Compare as it is used: samples picked, the curves that the table compares, needs typed in a line and taken back."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QFileDialog, QLabel, QPushButton, QScrollArea

from tests.desk.doing import settled, texts, there
from wintry_tally.cli.main import invoke
from wintry_tally.core.compare import Device, Need
from wintry_tally.core.compare.typed_need import need_words, parse_need
from wintry_tally.core.errors import InputError
from wintry_tally.demo import scratch_copy
from wintry_tally.desk.views.compare import ComparePage
from wintry_tally.desk.views.report import ReportView
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.window import Window


@pytest.fixture
def page(demo: Window, qtbot) -> ComparePage:
    demo.show_page("compare")
    made = demo.page("compare")
    assert isinstance(made, ComparePage)
    qtbot.waitUntil(lambda: bool(made._known), timeout=20000)
    settled(qtbot)
    return made


def _code(page: ComparePage, number: int) -> str:
    return page.session.sample(number).code


def test_two_units_of_one_model_come_first_and_others_are_picked(page: ComparePage, demo: Window, qtbot) -> None:
    assert [_code(page, number) for number in page.picked] == ["M1", "M2"]
    chips = {
        made.text(): made for made in there(page, QPushButton) if made.text() in {"M1", "M2", "M3", "M4", "M5", "M6"}
    }
    assert "M5" not in chips  # nothing of it is over yet
    said = "\n".join(texts(page._table_card))
    assert "better with P < 0.01" in said and "M2: log a charge from empty" in said and "of the models" not in said
    ohm = next(one for one in there(page, Figure) if one.accessibleName().startswith("Resistance of M1"))
    assert ohm.text().endswith("mΩ") and "mΩ; better with P" in said
    model = "\n".join(texts(page.model))
    assert page.model.isVisible() and "The model at large: Firnwerk Spur 40, by 2 units" in model
    assert "Capacity: too close to call by the model" in model and "two units say next to nothing" in model
    # the curves are the runs of the table, and are called so
    assert [name for name, _, _ in page.curve._series] == [f"M1: {page._runs['M1']}", f"M2: {page._runs['M2']}"]
    assert page.curve.key.isVisible() and page.curve.key.names == [name for name, _, _ in page.curve._series]
    qtbot.mouseClick(chips["M4"], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "M4" in page._runs, timeout=20000)
    said = "\n".join(texts(page._table_card))
    assert not page.model.isVisible() and "of the models" in said
    assert "unlike rate: M1 0.2 C, M4" in said and "at like conditions" in said and "unlike as above" in said
    figure = next(one for one in there(page, Figure) if one.accessibleName().startswith("Charge of M4"))
    qtbot.keyClick(figure, Qt.Key.Key_Return)
    assert demo.pane.isVisible() and "less M1" in "\n".join(texts(demo.pane))
    page.axes["share"].click()
    assert page.axis == "share" and max(page.curve._series[0][1]) == pytest.approx(103.5, abs=1.0)
    page.pick(page.picked[0])
    qtbot.waitUntil(lambda: "M1" not in page._runs, timeout=20000)
    assert "M4 against M2" in page.told.text()


def test_a_need_is_typed_held_and_taken_back(page: ComparePage, qtbot) -> None:
    page.need.line.setText("mast: logger 0.85 A down to 11.4 V; 30 h")
    qtbot.keyClick(page.need.line, Qt.Key.Key_Return)
    assert page.session.needs == ["mast: logger 0.85 A down to 11.4 V; 30 h"] and page.need.line.text() == ""
    qtbot.waitUntil(lambda: any("M1: holds" in text for text in texts(page.need)), timeout=30000)
    page.need.line.setText("mast: logger 0.85 A")
    qtbot.keyClick(page.need.line, Qt.Key.Key_Return)
    assert (
        page.need.problem.isVisible()
        and "how long" in page.need.problem.text()
        and page.need.line.text() == "mast: logger 0.85 A"
    )
    page.session.undo_stack.undo()
    assert page.session.needs == []
    qtbot.waitUntil(lambda: not any("holds" in text for text in texts(page.need)), timeout=10000)


def test_what_a_battery_is_good_for_stands_in_its_report(demo: Window, qtbot, tmp_path: Path) -> None:
    number = next(sample.id for sample in demo.session.samples() if sample.code == "M1")
    demo.show_sample(number)
    demo.show_station("report")
    view = demo.view("report")
    assert isinstance(view, ReportView) and "guarded decision rule" in "\n".join(texts(view))
    view.save_to(tmp_path / "plain.html")
    qtbot.waitUntil(lambda: view.saved.text() == f"Saved {tmp_path / 'plain.html'}", timeout=60000)
    assert "<h2>Good for" not in (tmp_path / "plain.html").read_text(encoding="utf-8")
    demo.session.set_needs("add", ["mast: logger 0.85 A down to 11.4 V; 30 h", "oven: heater 300 W; 5 h"])
    view.save_to(tmp_path / "needs.html")
    qtbot.waitUntil(lambda: view.saved.text() == f"Saved {tmp_path / 'needs.html'}", timeout=60000)
    page = (tmp_path / "needs.html").read_text(encoding="utf-8")
    assert "<h2>Good for" in page and "oven: heater 300 W; 5 h" in page
    said = page.partition("<h2>Good for")[2]
    assert said.index("holds (P =") < said.index("oven") < said.index("does not hold (P =")
    # what is next to nothing of a need is said in a line, and nothing is written
    view.save_to(tmp_path / "no" / "needs.html")
    qtbot.waitUntil(lambda: "cannot be written" in demo.problem, timeout=60000)
    assert view.saved.text() == ""


def test_needs_as_people_write_them() -> None:
    need = parse_need("mast: logger 0,85 A down to 11.4 V; radio 12 W 5 %; 5 days at −10 °C")
    assert need == Need(
        "mast", 120.0, (Device("logger", A=0.85, least_V=11.4), Device("radio", W=12.0, duty=0.05)), -10.0
    )
    assert parse_need(need_words(need)) == need
    assert parse_need("fridge 45 W 40 % for 24 h").devices == (Device("fridge", W=45.0, duty=0.4),)
    for wrong, words in {
        "": "what draws", "lamp 1 A": "how long", "10 h": "what draws", "lamp; 10 h": "neither", "lamp 0 A; 5 h": "drawn",
        "lamp 1 A 120 %; 5 h": "drawn", "lamp 1 A; 5 h at -90 °C": "-90",
    }.items():  # fmt: skip
        with pytest.raises(InputError, match=words):
            parse_need(wrong)


def test_a_comparison_is_written_as_a_page(
    page: ComparePage, demo: Window, qtbot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    demo.session.set_needs("add", ["mast: logger 0.85 A down to 11.4 V; 30 h"])
    out = tmp_path / "two units"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(out), ""))
    qtbot.mouseClick(page.save_page, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: (tmp_path / "two units.html").exists(), timeout=60000)
    told = (tmp_path / "two units.html").read_text(encoding="utf-8")
    for words in ("M1, M2 side by side", "41.379 ± 0.097 Ah", "M2: −1.48 ± 0.25 Ah; better with P &lt; 0.01", "<svg", "invented", "M2: log a charge from empty",
                  "The model at large", "Capacity: too close to call by the model", "mast: logger 0.85 A down to 11.4 V; 30 h", "M1: holds (P ="):  # fmt: skip
        assert words in told, words
    out = tmp_path / "no" / "page"
    qtbot.mouseClick(page.save_page, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "cannot be written" in demo.problem, timeout=60000)


def test_a_page_is_written_from_a_shell(tmp_path: Path, capsys) -> None:
    book, out = scratch_copy(tmp_path), tmp_path / "page.html"
    assert invoke(["compare", "--book", str(book), "M1", "M4", "--out", str(out)]) == 0
    told = out.read_text(encoding="utf-8")
    assert (
        "M1, M4 side by side" in told
        and "unlike rate" in told
        and "The model at large" not in told
        and "Good for" not in told
    )
    capsys.readouterr()
    assert invoke(["compare", "a.csv", "b.csv", "--out", str(out)]) == 2 and "--book" in capsys.readouterr().err
    assert (
        invoke(["compare", "--book", str(book), "M1", "M4", "--out", "/"]) == 2
        and "cannot be written" in capsys.readouterr().err
    )


def test_a_need_is_put_together_changed_and_its_course_seen(page: ComparePage, qtbot) -> None:
    session = page.session
    assert page.need.things.count() > 15
    page.need.line.setText("hut: 8 h; 200 cycles a year for 20 years")
    page.need.things.setCurrentIndex(page.need.things.findText("router 12 W"))
    page.need.things.activated.emit(page.need.things.currentIndex())
    assert (
        page.need.line.text() == "hut: router 12 W; 8 h; 200 cycles a year for 20 years"
        and page.need.things.currentIndex() == 0
    )
    qtbot.keyClick(page.need.line, Qt.Key.Key_Return)
    kept = "hut: router 12 W; 8 h; 200 cycles a year; 20 years"
    assert session.needs == [kept]
    qtbot.waitUntil(lambda: any("over 20 years" in text for text in texts(page.need)), timeout=60000)
    assert page.need.course.isVisible()
    assert "It ends at" in page.need.course_told.text() or "None of them ends" in page.need.course_told.text()
    key = next(one for one in there(page, QPushButton) if one.accessibleName() == "Working: hut on M1")
    with qtbot.waitSignal(page.opened) as told:
        qtbot.mouseClick(key, Qt.MouseButton.LeftButton)
    steps = [step for _, step in told.args[0].walk()]
    assert "fitted" in steps[0].inputs["evidence"] and steps[1].label == "Money over the years"
    assert steps[1].inputs["bought"] == "229 EUR" and steps[1].inputs["bought again in year"] == "never"
    page.need.change(kept)
    assert page.need.line.text() == kept
    page.need.line.setText("hut: router 14 W; 30 h")
    qtbot.keyClick(page.need.line, Qt.Key.Key_Return)
    assert session.needs == ["hut: router 14 W; 30 h"] and page.need.line.text() == ""
    qtbot.waitUntil(lambda: "router 14 W" in [page.need.things.itemText(n) for n in range(3)], timeout=60000)
    session.undo_stack.undo()
    assert session.needs == [kept]
    page.need.remove(kept)
    qtbot.waitUntil(lambda: not page.need.course.isVisible(), timeout=60000)


def test_samples_picked_are_joined_to_a_bank(page: ComparePage, demo: Window, qtbot) -> None:
    session = page.session
    session.set_needs("add", ["hut: radio 24 W down to 21 V; 10 h"])
    page.series.setCurrentIndex(page.series.findData(3))
    page.join_bank()
    assert "not 2" in demo.problem and len(session.samples()) == 6
    page.series.setCurrentIndex(page.series.findData(2))
    qtbot.mouseClick(page.join, Qt.MouseButton.LeftButton)
    made = session.samples()[-1]
    assert made.title == "Firnwerk Spur 40, 2 in series" and made.family.cells == 8
    qtbot.waitUntil(lambda: demo.station == "arrival" and demo.view("arrival").sample_id == made.id, timeout=10000)
    card = demo.view("arrival").bank
    qtbot.waitUntil(
        lambda: any("each string what its weakest unit gives" in text for text in texts(card)), timeout=60000
    )
    said = "\n".join(texts(card))
    assert "2 in series: M1 + M2; 25.6 V in all." in said and "hut, by its units: holds" in said
    assert "drops out at 21 V" in said or "nothing within twice" in said
    key = next(one for one in there(card, QPushButton) if one.text() == "Working")
    qtbot.mouseClick(key, Qt.MouseButton.LeftButton)
    assert demo.pane.isVisible() and "the strings" in "\n".join(texts(demo.pane))
    session.undo_stack.undo()
    assert len(session.samples()) == 6
    demo.show_sample(session.samples()[0].id)
    qtbot.waitUntil(lambda: not card.isVisible(), timeout=10000)


def test_the_wheel_scrolls_the_page_and_with_ctrl_held_zooms_within_sight(page: ComparePage, qtbot) -> None:
    from PySide6.QtCore import QPoint, QPointF
    from PySide6.QtGui import QWheelEvent
    from PySide6.QtWidgets import QApplication, QScrollArea

    plot, box = page.curve._plot, page.curve._plot.getPlotItem().getViewBox()
    area = page.findChild(QScrollArea)
    assert area is not None and area.verticalScrollBar().value() == 0

    def turn(by: int, modifiers: Qt.KeyboardModifier) -> None:
        view = plot.viewport()
        at = QPointF(view.rect().center())
        event = QWheelEvent(
            at, QPointF(view.mapToGlobal(at.toPoint())), QPoint(), QPoint(0, by), Qt.MouseButton.NoButton, modifiers,
            Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(view, event)
        settled(qtbot, 20)

    before = box.viewRange()
    turn(-240, Qt.KeyboardModifier.NoModifier)
    assert area.verticalScrollBar().value() > 0 and box.viewRange() == before
    turn(240, Qt.KeyboardModifier.ControlModifier)
    assert box.viewRange()[0][1] - box.viewRange()[0][0] < before[0][1] - before[0][0]
    for _ in range(60):
        turn(-1200, Qt.KeyboardModifier.ControlModifier)
    (left, right), (low, high) = box.viewRange()
    assert -45.0 < left < 0.0 and 41.0 < right < 90.0 and 5.0 < low < 10.0 and 13.0 < high < 18.0


def test_the_keyboard_stays_where_it_was_when_another_is_picked_and_nothing_opens(
    page: ComparePage, demo: Window, qtbot
) -> None:
    chip = next(made for made in there(page, QPushButton) if made.text() == "M4")
    qtbot.mouseClick(chip, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "M4" in page._runs, timeout=20000)
    settled(qtbot)
    assert chip.hasFocus() and chip.isChecked() and not demo.pane.isVisible()
    figure = next(one for one in there(page, Figure) if one.accessibleName().startswith("Charge of M4"))
    figure.setFocus(Qt.FocusReason.OtherFocusReason)
    qtbot.mouseClick(chip, Qt.MouseButton.LeftButton)
    figure.setFocus(Qt.FocusReason.OtherFocusReason)
    qtbot.waitUntil(lambda: "M4" not in page._runs, timeout=20000)
    settled(qtbot)
    assert page.hasFocus() and not demo.pane.isVisible(), "the table it stood in is another"


def test_a_figure_that_is_missing_leads_to_its_test(page: ComparePage, demo: Window, qtbot) -> None:
    for label, station in (
        ("Loss in the cold of M2", "cold"),
        ("Time to full of M2", "charge"),
        ("Price of M2", "arrival"),
    ):
        demo.show_page("compare")
        key = next(one for one in there(page, QPushButton) if one.accessibleName().startswith(f"{label}: no evidence"))
        qtbot.mouseClick(key, Qt.MouseButton.LeftButton)
        assert demo.station == station and demo.session.sample(demo.sample_id).code == "M2"


def test_the_usual_two_are_taken_as_they_come_to_be_known_and_what_is_picked_stays(
    page: ComparePage, demo: Window, qtbot
) -> None:
    session, by_code = page.session, {sample.code: sample.id for sample in page.session.samples()}
    page.picked = [by_code["M1"]]  # as when only the first was known yet
    page.refresh()
    assert [_code(page, number) for number in page.picked] == ["M1", "M2"]
    page.pick(by_code["M4"])
    session.set_sample(by_code["M4"], "change maker", maker="Elsewhere")
    page.refresh()  # M4 is being worked out again
    assert [_code(page, number) for number in page.picked] == ["M1", "M2", "M4"]


def test_what_is_wrong_with_a_need_is_seen_where_it_is_told(page: ComparePage, demo: Window, qtbot) -> None:
    demo.resize(1280, 800)
    area = page.findChild(QScrollArea)
    assert area is not None and page.need.problem.isHidden()
    qtbot.waitUntil(lambda: area.verticalScrollBar().maximum() > 0, timeout=20000)
    page.need.line.setFocus()
    area.verticalScrollBar().setValue(0)
    area.ensureWidgetVisible(page.need.line, 0, 0)
    page.need.line.setText("van: 3 lamps 7 W; 2 days")
    page.need.add()
    assert "of one, or of all" in page.need.problem.text()

    def whole() -> bool:
        told = page.need.problem
        top = told.mapTo(area.viewport(), QPoint(0, 0)).y()
        return told.isVisible() and top >= 0 and top + told.height() <= area.viewport().height()

    qtbot.waitUntil(whole, timeout=5000)


def test_a_kept_need_that_cannot_be_read_is_told_and_takes_nothing_with_it(
    page: ComparePage, demo: Window, qtbot
) -> None:
    demo.session.set_needs("add", ["van: 3 lamps 7 W; 48 h", "mast: logger 0.85 A; 30 h"])
    page.refresh()

    def told() -> list[str]:
        return [one.text() for one in page.need.findChildren(QLabel) if one.isVisible()]

    qtbot.waitUntil(lambda: any("of one, or of all" in text for text in told()), timeout=20000)
    qtbot.waitUntil(lambda: any(text.startswith("M1: holds") for text in told()), timeout=20000)
    assert page.need.course.isVisible() and not demo.problem
