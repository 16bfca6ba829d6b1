"""The signature widgets, each on its own, and the theme."""

from __future__ import annotations

import wave
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QRectF, Qt
from PySide6.QtGui import QColor, QFontDatabase, QGuiApplication
from PySide6.QtWidgets import QApplication, QLabel, QWidget

from tests.desk.doing import there
from wintry_tally.core.battery import Finding, parse_claim
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS, Outcome
from wintry_tally.core.working import Working
from wintry_tally.desk.app import ICON, make_application
from wintry_tally.desk.notify import ring
from wintry_tally.desk.theme import DAY, NIGHT, Tokens
from wintry_tally.desk.theme.style import apply, base_points, font
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.curve_words import BOTTOM, MIDDLE, TOP, free_end, free_height
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import WEIGHT_WORDS, FindingList, Mark
from wintry_tally.desk.widgets.formula import Drawn, Formula
from wintry_tally.desk.widgets.lines import Lines
from wintry_tally.desk.widgets.parts import button, empty, fields_above
from wintry_tally.desk.widgets.quantity_field import QuantityField, TypedField
from wintry_tally.desk.widgets.tag import Tag
from wintry_tally.desk.widgets.tally import STEP, Tally, tally_width, tally_words
from wintry_tally.desk.widgets.trail import STATIONS, StationState, Trail
from wintry_tally.desk.widgets.working_pane import WorkingPane
from wintry_tally.desk.window import Window

WORKING = Working(
    "Charge", "Q = ∫ I dt", {"I": "8 A"}, "40 Ah", "common practice", (Working("Doubt", result="± 0.4 Ah"),)
)


@pytest.fixture(autouse=True)
def application(qtbot) -> QApplication:
    return make_application("day")


def shown(qtbot, widget: QWidget) -> QWidget:
    qtbot.addWidget(widget)
    widget.show()
    qtbot.waitExposed(widget)
    return widget


def colours(widget: QWidget) -> set[str]:
    image = widget.grab().toImage()
    return {image.pixelColor(x, y).name().upper() for x in range(image.width()) for y in range(image.height())}


# --- theme ---


def luminance(colour: str) -> float:
    parts = [channel / 255 for channel in QColor(colour).getRgb()[:3]]
    linear = [part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


@pytest.mark.parametrize("tokens", [DAY, NIGHT])
def test_every_text_pair_holds_a_contrast_of_four_and_a_half(tokens: Tokens) -> None:
    # W3C WCAG 2.1, 1.4.3 and its definition of relative luminance (from memory): 4.5 : 1 for text
    pairs = [(ink, ground) for ink in (tokens.ink, tokens.quiet, tokens.accent, tokens.met, tokens.missed, tokens.close)
             for ground in (tokens.card, tokens.paper, tokens.wash)] + [(tokens.card, tokens.accent)]  # fmt: skip
    for ink, ground in pairs:
        light, dark = sorted((luminance(ink), luminance(ground)), reverse=True)
        assert (light + 0.05) / (dark + 0.05) >= 4.5, (ink, ground)
    for ground in (tokens.card, tokens.paper, tokens.wash):  # the same, 1.4.11: 3 : 1 for what is typed or chosen in
        light, dark = sorted((luminance(tokens.edge), luminance(ground)), reverse=True)
        assert (light + 0.05) / (dark + 0.05) >= 3.0, ground


def test_typefaces_and_icon_are_shipped(application: QApplication) -> None:
    assert {"Wintry B612", "Wintry B612 Mono"} <= set(QFontDatabase.families())
    assert ICON.is_file() and not application.windowIcon().isNull()
    metrics = [font("figure")]
    from PySide6.QtGui import QFontMetrics, QRawFont

    widths = {QFontMetrics(metrics[0]).horizontalAdvance(digit) for digit in "0123456789"}
    assert len(widths) == 1, "figures are tabular"
    for sign in "Ω±Δ°²≥≤√∫":
        assert QRawFont.fromFont(font("body")).supportsCharacter(ord(sign)), sign
    for role in ("body", "strong", "mono"):
        raw = QRawFont.fromFont(font(role))
        round_one, square = (raw.pathForGlyph(raw.glyphIndexesForString(sign)[0]) for sign in "([")
        curved = sum(path.elementAt(n).isCurveTo() for path in (round_one,) for n in range(path.elementCount()))
        box = round_one.boundingRect()
        # at a tenth of its height from its end a round one has left its stem by half its width
        near_end = QRectF(box.left(), box.top(), 0.3 * box.width(), 0.1 * box.height())
        assert (
            curved >= 4
            and not round_one.intersects(near_end)
            and square.intersects(QRectF(square.boundingRect().topLeft(), near_end.size()))
        ), role


def test_themes_change_everywhere_and_sizes_follow_the_system(application: QApplication, qtbot) -> None:
    tally = shown(qtbot, Tally([Outcome.MET]))
    assert any(QColor(name).green() > QColor(name).red() for name in colours(tally))
    apply(application, NIGHT)
    assert application.palette().window().color().name().upper() == NIGHT.paper
    assert font("huge").pointSizeF() == pytest.approx(3.4 * base_points())
    apply(application, DAY)
    assert application.palette().window().color().name().upper() == DAY.paper


# --- figure ---


def test_a_figure_shows_opens_and_copies(qtbot) -> None:
    figure = shown(qtbot, Figure("Charge"))
    figure.set_quantity(Quantity(41.2666, 0.21, "Ah"), WORKING)
    assert figure.text() == "41.27 ± 0.42 Ah" and figure.accessibleName() == "Charge: 41.27 ± 0.42 Ah"
    with qtbot.waitSignal(figure.opened) as caught:
        qtbot.mouseClick(figure, Qt.MouseButton.LeftButton)
    assert caught.args == [WORKING]
    with qtbot.waitSignal(figure.opened):
        qtbot.keyClick(figure, Qt.Key.Key_Return)
    qtbot.keyClick(figure, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert QGuiApplication.clipboard().text() == "41.27 ± 0.42 Ah"
    figure.set_quantity(None)
    assert figure.text() == "–" and figure.working() is None
    figure.set_quantity(Quantity(1.0, None, "A"), lambda: WORKING)
    assert figure.text() == "1.000 ± ? A" and figure.working() is WORKING
    wide = figure.sizeHint().width()
    figure.set_text("1234567.89", "± 10", "Wh")
    assert figure.sizeHint().width() > wide


def test_focus_by_keyboard_opens_the_working(qtbot) -> None:
    host = QWidget()
    from wintry_tally.desk.widgets.parts import column

    first, second = Figure("a"), Figure("b")
    second.set_quantity(Quantity(1.0, 0.1, "V"), WORKING)
    host.setLayout(column(first, second))
    shown(qtbot, host)
    host.activateWindow()
    qtbot.waitUntil(host.isActiveWindow)
    first.setFocus()
    with qtbot.waitSignal(second.opened):
        qtbot.keyClick(first, Qt.Key.Key_Tab)


# --- tally, tag, trail ---


def test_tally_in_fives_and_in_words(qtbot) -> None:
    outcomes = [Outcome.MET] * 3 + [Outcome.MISSED, Outcome.TOO_CLOSE, Outcome.NOT_TESTED, Outcome.CANNOT_TEST]
    tally = shown(qtbot, Tally(outcomes))
    assert tally.accessibleName() == "3 met, 1 missed, 1 too close to call, 1 not tested, 1 cannot be tested here"
    assert tally.outcomes() == tuple(outcomes) and tally_words([]) == "no claims yet"
    assert tally_width(6) - tally_width(5) > tally_width(5) - tally_width(4) == STEP


def test_strokes_differ_in_shape_not_only_in_colour(qtbot) -> None:
    shapes = set()
    for outcome in Outcome:
        tally = shown(qtbot, Tally([outcome], 24))
        image = tally.grab().toImage()
        ground = image.pixelColor(0, 0).name()
        shapes.add(
            tuple(image.pixelColor(x, y).name() != ground for x in range(image.width()) for y in range(image.height()))
        )
    assert len(shapes) == len(Outcome)


def test_a_tag_says_what_it_is_doing(qtbot) -> None:
    tag = shown(qtbot, Tag("B1", "Maker Model", "lithium iron phosphate"))
    tag.set_doing("drawing 8.0 A · 12.94 V · ends about 16:40", True, "8.0 A")
    tag.set_outcomes([Outcome.MET])
    for part in ("B1", "Maker Model", "drawing 8.0 A", "1 met"):
        assert part in tag.accessibleName()
    with qtbot.waitSignal(tag.clicked):
        qtbot.keyClick(tag, Qt.Key.Key_Space)
    assert tag.isChecked() and tag.doing().startswith("drawing")
    tag.set_outcomes(None)
    assert "being worked out" in tag.accessibleName()
    tag.grab()
    tag.set_outcomes(())
    tag.grab()


def test_the_trail_is_the_navigation_and_has_no_dead_buttons(qtbot) -> None:
    trail = shown(qtbot, Trail())
    trail.resize(900, 60)
    keys = [station.key for station in STATIONS]
    assert len(keys) == 11 and keys[0] == "arrival" and keys[-1] == "report"
    trail.set_states(
        {
            "arrival": StationState.DONE,
            "capacity": StationState.RUNNING,
            "ledger": StationState.OPEN,
            "report": StationState.NEXT,
        }
    )
    assert "running" in trail.button("capacity").accessibleName()
    with qtbot.waitSignal(trail.opened) as caught:
        qtbot.mouseClick(trail.button("ledger"), Qt.MouseButton.LeftButton)
    assert caught.args == ["ledger"]
    trail.activateWindow()
    qtbot.waitUntil(trail.isActiveWindow)
    trail.button("ledger").setFocus()
    with qtbot.waitSignal(trail.opened) as caught:
        qtbot.keyClick(trail.button("ledger"), Qt.Key.Key_Right)
    assert caught.args == ["report"]
    for place in range(len(keys)):
        stop = trail.childAt(QPoint(int(900 * (place + 0.5) / len(keys)), 20))
        assert stop is trail.button(keys[place])
    trail.grab()


# --- fields ---


def test_a_quantity_field_reads_live_and_refuses_beside_itself(qtbot) -> None:
    field = shown(qtbot, QuantityField("Mass", "mass", "4.3 kg"))
    qtbot.keyClicks(field.line, "21.7 lb")
    assert field.number == pytest.approx(9.843, abs=1e-3) and field.word.text() == "= 9.843 kg" and not field.problem
    field.line.clear()
    qtbot.keyClicks(field.line, "12 V")
    assert field.number is None and "mass is asked" in field.word.text() and field.line.property("state") == "problem"
    assert field.line.accessibleDescription() == field.word.text()
    field.line.clear()
    qtbot.keyClicks(field.line, "4,36")
    with qtbot.waitSignal(field.committed) as caught:
        qtbot.keyClick(field.line, Qt.Key.Key_Return)
    assert caught.args == [4.36]
    field.set_number(4.36)
    assert field.line.text() == "4.36 kg" and field.word.text() == ""
    field.set_number(None)
    assert field.line.text() == "" and field.value is None


def test_a_cut_off_that_no_battery_of_its_kind_has_is_refused_beside_itself(one: Window, qtbot) -> None:
    one.show_station("capacity")
    one.view("capacity").begin_hand()
    cutoff = one.view("capacity").page("hand").cutoff
    for text, refused in (("10", False), ("15", False), ("15.1", True), ("100", True), ("1331 V", True)):
        cutoff.line.setText(text)
        assert bool(cutoff.problem) is refused and ("decimal point" in cutoff.word.text()) is refused


def test_durations_and_claims_in_fields(qtbot) -> None:
    duration = shown(qtbot, QuantityField("Rest", "duration"))
    qtbot.keyClicks(duration.line, "8h42")
    assert duration.number == 31320 and duration.word.text() == "= 8 h 42 min"
    duration.set_number(3600.0)
    assert duration.number == 3600.0, "what a field shows can be read back"
    claim = shown(qtbot, TypedField("Claim", parse_claim, lambda value: value.kind))
    qtbot.keyClicks(claim.line, "cuts at 10 V")
    assert claim.word.text() == "low-voltage-cut"
    with qtbot.waitSignal(claim.entered):
        qtbot.keyClick(claim.line, Qt.Key.Key_Return)


# --- panes and lists ---


def test_the_working_pane_draws_the_tree_and_copies_it(qtbot) -> None:
    pane = shown(qtbot, WorkingPane())
    pane.show_working(WORKING)
    texts = [label.text() for label in there(pane, QLabel)]
    assert {"Charge", "Q = ∫ I dt", "I", "8 A", "→ 40 Ah", "common practice", "Doubt"} <= set(texts)
    pane._copy()
    assert QGuiApplication.clipboard().text() == WORKING.as_text()
    pane.show_working(None)
    assert pane.working() is None


def test_a_formula_is_drawn_and_written_where_there_is_no_room(qtbot) -> None:
    formula = shown(qtbot, Formula("p = Φ((y − T) / u); limits of error a as uniform: u = a / √3; as measured"))
    formula.resize(400, 200)
    qtbot.waitUntil(lambda: formula.drawn)
    pictures = there(formula, Drawn)
    assert [part.accessibleName() for part in pictures] == ["p = Φ((y − T) / u)", "u = a / √3"]
    assert all(part.isVisible() for part in pictures)
    written = [label.text() for label in there(formula, QLabel) if label.isVisible()]
    assert written == ["limits of error a as uniform:", "as measured"]
    ink = pictures[0].grab().toImage()
    colours = {QColor(ink.pixel(x, y)).name() for x in range(ink.width()) for y in range(ink.height())}
    assert len(colours) > 8, "something is drawn, with soft edges"
    formula.resize(round(0.6 * pictures[0].wide), 200)
    qtbot.waitUntil(lambda: not pictures[0].isVisible())
    assert any(label.text().startswith("p = ") and label.isVisible() for label in there(formula, QLabel))


def test_findings_gravest_first_with_their_working(qtbot) -> None:
    found = shown(qtbot, FindingList())
    found.show_findings(
        [Finding("a", "fine", "good", WORKING), Finding("b", "clash", "contradiction"), Finding("c", "hm", "note")]
    )
    assert found.messages == ["clash", "hm", "fine"]
    from PySide6.QtWidgets import QPushButton

    with qtbot.waitSignal(found.opened) as caught:
        there(found, QPushButton)[0].click()
    assert caught.args == [WORKING]
    found.show_findings([], "nothing")
    assert found.messages == []
    for weight in WEIGHT_WORDS:
        mark = shown(qtbot, Mark(weight))
        assert len(colours(mark)) > 1 and mark.accessibleName()


def test_the_plot_library_waits_until_a_curve_is_shown(qtbot) -> None:
    curve = Curve("V", "t", "V")
    qtbot.addWidget(curve)
    curve.show_curves([("a", [0, 1], [13, 12])])
    assert curve._plot is None
    curve.show()
    qtbot.waitExposed(curve)
    assert curve._plot is not None and len(curve._items) == 1
    curve.show_curves([("a", [0, 1, 2], [13, 12, 11])])
    assert len(curve._items[0].xData) == 3
    curve.show_curves(
        [("a", [0, 1], [13, 12]), ("b", [0, 1], [13, 11])], ("model", [0, 1], [13, 10]), [("x", 0.5, "half")]
    )
    assert len(curve._items) == 1, "another picture is drawn once the rest of a page has had its turn"
    curve.look_at_all(9.0, 14.0)
    qtbot.waitUntil(lambda: len(curve._items) == 3)
    assert curve._plot.viewRange()[1] == pytest.approx([9.0 - 0.4, 14.0 + 0.4]), "as it was wanted meanwhile"
    pens = [item.opts["pen"].dashPattern() for item in curve._items]
    assert len(curve._items) == 3 and pens[0] != pens[1] != pens[2]
    curve.theme_changed()


def test_outcomes_and_empty_states_have_words(qtbot) -> None:
    assert set(OUTCOME_WORDS) == set(Outcome)
    state = shown(qtbot, empty("Nothing", "Do this next", button("Do", lambda: None, "main", "Do it")))
    assert there(state, type(button("x", lambda: None)))[0].accessibleName() == "Do it"


def test_a_call_is_heard_by_whichever_player_there_is(qtbot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    heard = tmp_path / "heard"
    player = tmp_path / "paplay"
    player.write_text(f'#!/bin/sh\nprintf "%s" "$1" > {heard}\n')
    player.chmod(0o755)
    monkeypatch.setattr("wintry_tally.desk.notify.shutil.which", lambda name: str(player) if name == "paplay" else None)
    assert ring() == "paplay"
    qtbot.waitUntil(lambda: heard.exists() and bool(heard.read_text()), timeout=15000)
    with wave.open(heard.read_text()) as file:
        assert file.getnchannels() == 1 and 0.3 < file.getnframes() / file.getframerate() < 2.0
    monkeypatch.setattr("wintry_tally.desk.notify.shutil.which", lambda name: None)
    beeps: list[str] = []
    monkeypatch.setattr("wintry_tally.desk.notify.QApplication.beep", lambda: beeps.append("beep"))
    assert ring() == "" and beeps == ["beep"], "the desktop's bell where no player is"


def test_what_was_cancelled_between_its_end_and_its_delivery_reaches_nobody(qtbot) -> None:
    import threading

    from wintry_tally.desk.background import Workshop

    workshop, came, ended = Workshop(), [], threading.Event()

    def fail(_job: object) -> None:
        ended.set()
        raise InputError("no")

    here = threading.get_ident()
    workshop.start(lambda _job: 1, lambda made: came.append((made, threading.get_ident() == here)))
    qtbot.waitUntil(lambda: came == [(1, True)], timeout=5000)
    given_up = workshop.start(lambda job: [job.tell(0.5) for _ in iter(int, 1)], came.append, came.append)
    given_up.cancel()
    qtbot.waitUntil(lambda: not workshop._jobs, timeout=5000)  # it ends at its next word, and is forgotten
    workshop.start(lambda _job: 2, came.append)
    workshop.start(fail, came.append, came.append)
    assert ended.wait(5.0)
    workshop.close()  # as at the closing of the window: both are over, neither was delivered yet
    qtbot.wait(50)
    assert came == [(1, True)]


def test_a_key_names_eight_curves_apart_and_lays_no_name_over_another(qtbot) -> None:
    from wintry_tally.desk.widgets.curve_key import CurveKey, pen_of

    pens = [
        (pen_of(n, 1.0).color().name(), tuple(pen_of(n, 1.0).dashPattern()), pen_of(n, 1.0).style()) for n in range(8)
    ]
    assert len(set(pens)) == 8
    key = CurveKey()
    qtbot.addWidget(key)
    key.show_names(["only one"])
    assert not key.isVisible()
    key.show_names([f"Capacity {n}" for n in range(8)] + ["a name that is far too long for so narrow a key " * 3])
    assert key.isVisible() and "Capacity 7" in key.accessibleName()
    for width in (120, 300, 900):
        places = key._places(float(width))
        assert len(places) == 9 and all(box.right() <= width + 1 for box, _ in places)
        for n, (box, _) in enumerate(places):
            assert not any(box.intersects(other) for other, _ in places[n + 1 :])
        assert key.heightForWidth(width) == int(places[-1][0].bottom())
    assert key.heightForWidth(120) > key.heightForWidth(900)


def test_a_flow_goes_on_in_the_next_line_and_is_as_narrow_as_its_widest(qtbot) -> None:
    from wintry_tally.desk.widgets.flow import Flow

    holder, parts = QWidget(), [button(text, lambda: None) for text in ("one", "a longer one", "two", "three")]
    flow = Flow(*parts)
    holder.setLayout(flow)
    qtbot.addWidget(holder)
    holder.show()
    assert flow.minimumSize().width() == max(part.minimumSizeHint().width() for part in parts)
    heights = []
    for width in (flow.sizeHint().width(), flow.sizeHint().width() // 2, flow.minimumSize().width()):
        holder.resize(width, flow.heightForWidth(width))
        QApplication.processEvents()
        boxes = [part.geometry() for part in parts]
        assert all(box.right() < width + 1 for box in boxes)
        assert not any(a.intersects(b) for n, a in enumerate(boxes) for b in boxes[n + 1 :])
        heights.append(flow.heightForWidth(width))
    assert heights == sorted(set(heights))
    parts[1].hide()
    assert flow.heightForWidth(flow.minimumSize().width()) < heights[-1]
    assert flow.takeAt(9) is None and flow.takeAt(0).widget() is parts[0] and flow.count() == 3


def test_words_beside_a_line_stand_where_no_curve_runs() -> None:
    x = np.linspace(0.0, 10.0, 20_000)
    falls, rises = [("a", x, 10.0 - x)], [("b", x, x)]
    view = ((0.0, 10.0), (0.0, 10.0))
    assert free_height(falls, view, 9.0) == TOP and free_height(falls, view, 1.0) == BOTTOM
    assert free_height([*falls, *rises], view, 9.0) == MIDDLE and free_height([], view, 5.0) == BOTTOM
    # at the right edge the words stand on the other side
    assert (
        free_height(rises, view, 9.5) == BOTTOM
        and free_height([("c", x, np.full(len(x), np.nan))], view, 5.0) == BOTTOM
    )
    assert free_end(falls, 9.9, 0.1)["position"] == 0.99 and free_end(falls, 0.1, 0.1)["position"] == 0.01
    assert free_end([*falls, *rises], 9.9, 0.1)["position"] == 0.01, "no better at the other end"
    assert free_end([], 1.0, 0.1)["anchors"] == [(0, 0), (0, 1)]
    # words stand above a low level: what lies just under it at the right is not run through
    x = np.linspace(0.0, 30.0, 200)
    cools = [("core", x, -18.0 + 40.0 * np.exp(-x / 1.6))]
    assert free_end(cools, -17.0, 0.1)["position"] == 0.99 and free_end(cools, 21.0, 0.1)["position"] == 0.99


def test_the_import_page_knows_every_field_and_tells_what_to_do_there(tmp_path: Path) -> None:
    from wintry_tally.core.errors import LogError
    from wintry_tally.desk.views.import_page import FIELD_WORDS, told_here
    from wintry_tally.exchange import read_log
    from wintry_tally.exchange.columns import FIELDS

    assert {key for key, _ in FIELD_WORDS if key} == set(FIELDS)
    for header, row, mend in (
        ("x,V,A", "{},13.2,8", "choose it above its column"), ("Time (s),y,A", "{},13.2,8", "choose it above its column"),
        ("Time (s),V,z", "{},13.2,8", "choose it above its column"), ("Time (s),V,A", "{},,8", "choose it above its column"),
        ("Frame,V,A", "{},13.2,8", "give the seconds from frame to frame under “Frame every”"),
    ):  # fmt: skip
        path = tmp_path / "log.csv"
        path.write_text(header + "\n" + "".join(row.format(n) + "\n" for n in range(9)), encoding="utf-8")
        with pytest.raises(LogError) as told:
            read_log(path)
        shown = told_here(str(told.value))
        assert "--" not in shown and shown.endswith(mend)


def test_what_is_typed_over_several_lines_stays_where_it_begins(qtbot) -> None:
    lines = Lines()
    qtbot.addWidget(lines)
    lines.show()
    lines.setText("peak 80 A (5 s) ")
    # a blank at a wrapped line's end makes it so much wider, and its editor follows the cursor there
    lines.horizontalScrollBar().setRange(0, 9)
    lines.horizontalScrollBar().setValue(7)
    assert lines.horizontalScrollBar().value() == 0, "the first letters are out of sight"


def test_a_field_that_says_more_moves_no_other_from_under_its_name(qtbot) -> None:
    fields = [QuantityField(f"field {number}", "voltage") for number in range(4)]
    page = QWidget()
    qtbot.addWidget(page)
    page.setLayout(fields_above([(f"name {number}", field) for number, field in enumerate(fields)]))
    page.resize(700, 300)
    page.show()
    before = [field.line.mapTo(page, QPoint(0, 0)).y() for field in fields]
    fields[1].set_text("12 parsec, of a kind that nobody knows, and that takes several lines to refuse")
    qtbot.waitUntil(lambda: fields[1].word.height() > 30, timeout=2000)
    assert [field.line.mapTo(page, QPoint(0, 0)).y() for field in fields] == before
