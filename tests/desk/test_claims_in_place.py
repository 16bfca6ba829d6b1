"""Claims changed where they stand, put in by their kind, and noticed where they stand already."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QMimeData, Qt
from PySide6.QtGui import QTextCharFormat
from PySide6.QtWidgets import QPushButton

from tests.desk.doing import there
from wintry_tally.app import own_words
from wintry_tally.core.battery import Claim, Direction, Sample, parse_claim
from wintry_tally.core.battery.banks import most_allowed
from wintry_tally.core.battery.claims import CLAIM_KINDS, NOTED
from wintry_tally.core.battery.printed.one import claim_of_kind
from wintry_tally.core.errors import InputError
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.arrival import ArrivalView
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.words_offer import WordsOffer
from wintry_tally.desk.window import Window
from wintry_tally.report.page import render
from wintry_tally.report.words import claim_words

PRINTED = (
    "40 Ah", "512 Wh", "cuts at 10 V", "40 A continuous", "charge voltage 14.4-14.6 V", "4.4 kg", "price 229 EUR",
    "4000 cycles @ 80% DOD to 70% capacity", "self-discharge < 3 %/month", "surge 90 A for 5 s", "trips at 110 ± 15 A",
    "trips at 120 A after 5 s", "charges in under 6 h", "charge block 0 °C", "charge release 5 °C", "cold loss 20 % at -20 °C",
    "size: length 197 mm", "heater 60 W", "heats from -20 °C to 5 °C in 60 min", "75 Ah at C/20 to 10.5 V 25 °C", "RC 125 min @ 25 A",
    "2 years warranty", "IP67", "bluetooth", "shelf life 12 months", "LVR 12.5 V", "heater stops at 10 °C", "charge current 20 A",
    "runs a logger (0.85 A, drops out at 11 V) for 48 h",
)  # fmt: skip


@pytest.mark.parametrize("text", PRINTED)
def test_what_is_said_of_a_claim_is_read_back_as_it(text: str) -> None:
    claim = parse_claim(text)
    said = claim_words(claim)[len(claim.definition.label) :].strip(": ")
    again = claim_of_kind(claim.kind, claim.text if claim.value is None else said)
    assert (again.kind, again.value, again.unit) == (claim.kind, claim.value, claim.unit)
    assert (again.direction, again.tolerance) == (claim.direction, pytest.approx(claim.tolerance))
    assert dict(again.conditions) == dict(claim.conditions) and again.wanted == claim.wanted


@pytest.mark.parametrize("kind", CLAIM_KINDS)
def test_no_kind_takes_another_s_unit(kind: str) -> None:
    if kind == NOTED:
        assert claim_of_kind(kind, "no warranty").wanted is True, "as it is printed"
        return
    if not CLAIM_KINDS[kind].dimension:
        assert claim_of_kind(kind, "not fitted").wanted is False and claim_of_kind(kind, "fitted").wanted is True
        return
    bare = kind in {"cycles", "price"}  # a number alone is one of these
    for wrong in ("", "soon", *(() if bare else ("3 furlongs",)), "5 Ω"):
        with pytest.raises(InputError):
            claim_of_kind(kind, wrong)


def _key(view: ArrivalView, name: str) -> QPushButton:
    return next(key for key in there(view, QPushButton) if key.accessibleName() == name)


def _m2(demo: Window) -> tuple[Session, int, ArrivalView]:
    """The arrival station of the sample M2."""
    number = next(sample.id for sample in demo.session.samples() if sample.code == "M2")
    demo.show_sample(number)
    demo.show_station("arrival")
    view = demo.view("arrival")
    assert isinstance(view, ArrivalView)
    return demo.session, number, view


def test_a_claim_is_changed_where_it_stands(demo: Window, qtbot) -> None:
    session, number, view = _m2(demo)

    def claims() -> list[str]:
        return [f"{claim_words(one)} ({one.source})" for one in session.sample(number).claims]

    before = claims()
    ids = [claim.id for claim in session.sample(number).claims]
    qtbot.mouseClick(_key(view, "Change Capacity at least 40 Ah"), Qt.MouseButton.LeftButton)
    editor = view.editor
    assert editor.isVisible() and editor.text.text() == "at least 40 Ah" and editor.text.hasFocus()
    editor.text.setText("40 V")
    qtbot.keyClick(editor.text, Qt.Key.Key_Return)
    assert editor.problem.isVisible() and claims() == before
    editor.text.setText("42 Ah at C/20")
    assert editor.said.text() == "= Capacity at least 42 Ah at 0.05 C" and not editor.problem.isVisible()
    session.set_sample(number, "change maker", maker="Elsewhere")  # somebody else's edit leaves what is typed
    assert editor.text.text() == "42 Ah at C/20"
    editor.source.setCurrentText("manual")
    qtbot.keyClick(editor.text, Qt.Key.Key_Return)
    assert claims()[0] == "Capacity at least 42 Ah at 0.05 C (manual)" and claims()[1:] == before[1:]
    assert [claim.id for claim in session.sample(number).claims] == ids and not editor.isVisible()
    session.undo_stack.undo()
    assert claims() == before
    # escape leaves it; another kind may be chosen
    view.change_claim(session.sample(number).claims[2])
    qtbot.keyClick(editor, Qt.Key.Key_Escape)
    assert not editor.isVisible() and claims() == before
    view.change_claim(session.sample(number).claims[2])
    editor.kind.setCurrentIndex(editor.kind.findData("over-voltage-cut"))
    editor.text.setText("15 V")
    editor.keep()
    assert claims()[2] == "Over-voltage cut 15 V (manual)"


def test_what_the_tag_knows_settles_what_is_typed(demo: Window, qtbot) -> None:
    session, number, view = _m2(demo)  # 40 Ah, 12.8 V
    view.claim.set_text("charge 0.5C; cut-off 2.5 V/cell")
    assert view.claim.value is not None
    assert [(one.kind, one.value) for one in view.claim.value.claims] == [
        ("charge-current", 20.0),
        ("low-voltage-cut", 10.0),
    ]
    view.claim.set_text("low-voltage cut 14.8 V")
    assert view.claim.value is None and "14.8 V is far above" in view.claim.problem
    before = len(session.sample(number).claims)
    view.put_by_kind()
    view.editor.kind.setCurrentIndex(view.editor.kind.findData("low-voltage-cut"))
    view.editor.text.setText("14.8 V")
    view.editor.keep()  # whoever chose the kind means it
    assert len(session.sample(number).claims) == before + 1


def test_a_claim_is_put_in_by_its_kind_and_none_twice(demo: Window, qtbot) -> None:
    session, number, view = _m2(demo)
    before = len(session.sample(number).claims)
    view.claim.set_text("20 A")
    qtbot.mouseClick(view.by_kind, Qt.MouseButton.LeftButton)
    editor = view.editor
    assert editor.text.text() == "20 A" and editor.kind.currentText() == ""
    editor.keep()
    assert "no kind is chosen" in editor.problem.text()
    editor.kind.setEditText("charge current")
    qtbot.keyClick(editor.kind.lineEdit(), Qt.Key.Key_Return)
    assert editor.text.hasFocus() and len(session.sample(number).claims) == before, "Enter goes on to the value"
    qtbot.keyClick(editor.text, Qt.Key.Key_Return)
    made = session.sample(number).claims[-1]
    assert (made.kind, made.value, made.source) == ("charge-current", 20.0, "label") and view.claim.line.text() == ""
    for text in ("charge current 20 A", "40 Ah"):
        view.claim.set_text(text)
        qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
        assert len(session.sample(number).claims) == before + 1
    view.claim.set_text("40 Ah; 41 Ah at C/20")
    qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
    assert len(session.sample(number).claims) == before + 2


def test_words_that_somebody_explained_are_read_from_then_on(demo: Window, qtbot) -> None:
    session, number, view = _m2(demo)
    view.claim.set_text("Kickout level 9.8 V")
    assert view.claim.value is None
    qtbot.mouseClick(view.by_kind, Qt.MouseButton.LeftButton)
    view.editor.kind.setCurrentIndex(view.editor.kind.findData("low-voltage-cut"))
    view.editor.text.setText("9.8 V")
    view.editor.keep()
    assert view.words.isVisible() and view.words.line == "kickout level = low-voltage-cut"
    assert own_words.lines() == ()
    qtbot.mouseClick(view.words.yes, Qt.MouseButton.LeftButton)
    assert not view.words.isVisible() and own_words.lines() == ("kickout level = low-voltage-cut",)
    view.claim.set_text("kick-out level: 9.6 V")
    qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
    made = session.sample(number).claims[-1]
    assert (made.kind, made.value) == ("low-voltage-cut", 9.6)
    # a kind that is corrected is offered too, and may stay as it is; on another sample nothing is asked
    view.change_claim(made)
    view.editor.kind.setCurrentIndex(view.editor.kind.findData("low-voltage-release"))
    view.editor.keep()
    assert "low-voltage release" in view.words._said.text()
    qtbot.mouseClick(view.words.no, Qt.MouseButton.LeftButton)
    assert not view.words.isVisible() and len(own_words.lines()) == 1
    demo.show_preferences()
    page = demo.page("preferences")
    qtbot.mouseClick(_key(page, "Remove “kickout level” is low-voltage cut"), Qt.MouseButton.LeftButton)
    assert own_words.lines() == ()
    view.claim.set_text("Kickout level 9.8 V")
    assert view.claim.value is None


def test_words_that_cannot_be_kept_are_told(demo: Window, monkeypatch, tmp_path) -> None:
    (tmp_path / "file").write_text("")
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "file"))
    told: list[str] = []
    offer = WordsOffer()
    offer.failed.connect(told.append)
    offer.offer("Kickout level 9.8 V", parse_claim("cuts at 9.8 V"), "lfp")
    assert not offer.isHidden()
    offer.yes.click()
    assert len(told) == 1 and "cannot be" in told[0] and not offer.isHidden()
    offer.offer("40 Ah", parse_claim("40 Ah"), "lfp")
    assert offer.isHidden(), "what is read so already is not asked"


def test_claims_are_put_in_order_by_keys_and_as_on_a_data_sheet(demo: Window, qtbot) -> None:
    session, number, view = _m2(demo)

    def kinds() -> list[str]:
        return [claim.kind for claim in session.sample(number).claims]

    before = kinds()
    assert before == ["capacity", "energy", "low-voltage-cut", "mass", "self-discharge"]
    key = _key(view, "Change Capacity at least 40 Ah")
    key.setFocus()
    qtbot.keyClick(key, Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
    assert kinds() == before, "the first goes no further up"
    qtbot.keyClick(key, Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
    assert kinds()[:3] == ["energy", "capacity", "low-voltage-cut"]
    focus = view.focusWidget()
    assert focus is not None and focus.accessibleName() == "Change Capacity at least 40 Ah"
    qtbot.keyClick(focus, Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
    moved = kinds()
    assert moved[:3] == ["energy", "low-voltage-cut", "capacity"] and not view.order.isHidden()
    # what is typed since comes last; what is taken out and put back comes to its place
    session.add_claim(number, parse_claim("512 Wh at C/20"))
    assert kinds() == [*moved, "energy"]
    first = session.sample(number).claims[0]
    session.remove_claim(number, first)
    session.undo_stack.undo()
    assert kinds() == [*moved, "energy"]
    qtbot.mouseClick(view.order, Qt.MouseButton.LeftButton)
    assert kinds() == ["capacity", "energy", "energy", "low-voltage-cut", "self-discharge", "mass"]
    assert view.order.isHidden()
    for _ in range(4):
        session.undo_stack.undo()
    assert kinds() == before


def test_several_lines_are_typed_and_what_is_read_is_underlined(demo: Window, qtbot) -> None:
    session, number, view = _m2(demo)
    line, before = view.claim.line, len(session.sample(number).claims)
    low = line.height()
    line.setFocus()
    qtbot.keyClicks(line, "surge 80 A (5 s); 120 A")
    qtbot.keyClick(line, Qt.Key.Key_Return, Qt.KeyboardModifier.ShiftModifier)
    qtbot.keyClicks(line, "IP67")
    assert len(session.sample(number).claims) == before and line.text() == "surge 80 A (5 s); 120 A\nIP67"
    assert line.height() > low + 8, "as high as what stands in it"

    def marked() -> list[tuple[str, bool]]:
        wave = QTextCharFormat.UnderlineStyle.WaveUnderline
        return [(one.cursor.selectedText(), one.format.underlineStyle() != wave) for one in line.extraSelections()]

    assert sorted(marked()) == [("120 A", False), ("IP67", True), ("surge 80 A (5 s)", True)]
    qtbot.keyClick(line, Qt.Key.Key_Return)
    assert [claim.kind for claim in session.sample(number).claims[before:]] == ["surge", "ingress"]
    assert line.text() == "120 A" and marked() == [] and line.height() == low
    line.clear()
    line.insertFromMimeData(_mime("cuts at 10 V\n\nself-discharge < 3 % a month\n"))
    assert [text for text, read in marked() if read] == ["cuts at 10 V", "self-discharge < 3 % a month"]


def _mime(text: str) -> QMimeData:
    made = QMimeData()
    made.setText(text)
    return made


def test_what_no_test_speaks_to_is_kept_as_it_is_printed(demo: Window, qtbot) -> None:
    session, number, view = _m2(demo)
    before = len(session.sample(number).claims)
    for _ in range(2):  # and not twice
        view.claim.line.setText("float 13.6 V; terminals M8; CCA 300 A")
        assert "Noted as printed: float 13.6 V" in view.claim.word.text() and not view.claim.problem
        qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
        assert view.claim.line.text() == ""
    kept = session.sample(number).claims[before:]
    assert [(claim.kind, claim.text, claim.wanted) for claim in kept] == [
        ("noted", text, True) for text in ("float 13.6 V", "terminals M8", "CCA 300 A")
    ]
    qtbot.waitUntil(lambda: session.dossier(number) is not None, timeout=15000)
    dossier = session.dossier(number)
    assert all(verdict.claim.kind != "noted" for verdict in dossier.verdicts), "it is kept, and not judged"
    page = render(dossier)
    assert "Also printed, and not judged: “float 13.6 V”, “terminals M8”, “CCA 300 A”." in page
    drawn = session.drawn()
    assert drawn is None or all(one.claim.kind != "noted" for one in drawn.programmes[number].untestable)


def test_the_serial_and_the_date_code_are_kept_and_stand_in_the_report(demo: Window, qtbot) -> None:
    session, number, view = _m2(demo)
    for line, text in ((view.serial, "FS40-0017"), (view.date_code, " 2026  W07 ")):
        line.setFocus()
        line.selectAll()
        qtbot.keyClicks(line, text)
        qtbot.keyClick(line, Qt.Key.Key_Return)
    arrival = session.sample(number).arrival
    assert (arrival.serial, arrival.date_code) == ("FS40-0017", "2026 W07")
    qtbot.waitUntil(lambda: session.dossier(number) is not None, timeout=15000)
    assert "Serial number FS40-0017. Date code 2026 W07." in render(session.dossier(number))
    session.undo_stack.undo()
    assert session.sample(number).arrival.date_code == "" and view.date_code.text() == ""


def test_how_many_may_be_joined_is_read_from_what_is_noted() -> None:
    def unit(*texts: str) -> Sample:
        claims = tuple(Claim("noted", None, "", Direction.IS, text=text) for text in texts)
        return Sample(1, "B1", "", "", "lfp", claims)

    assert most_allowed(unit("Series/parallel up to 4S2P")) == (4, 2)
    assert most_allowed(unit("max. parallel: 3; max. series: 4")) == (4, 3)
    assert most_allowed(unit("4 in series, 4 in parallel")) == (4, 4)
    assert most_allowed(unit("cells 8S1P", "M8 terminals")) == (0, 0)


def test_the_family_that_is_printed_is_noted_on_a_new_tag_and_told_on_another(demo: Window, qtbot) -> None:
    session = demo.session
    demo.hang_tag()
    view = demo.view("arrival")
    assert isinstance(view, ArrivalView)
    number = view.sample_id
    view.claim.line.setText("AGM 12 V 75 Ah (20 h), 690 A (EN); end voltage 1.75 V/cell")
    qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
    sample = session.sample(number)
    assert sample.family_key == "agm" and view.family.currentData() == "agm"
    assert [(claim.kind, claim.value) for claim in sample.claims] == [
        ("capacity", 75.0), ("low-voltage-cut", 10.5), ("noted", None),
    ]  # fmt: skip
    assert sample.claims[-1].text == "690 A (EN)"
    said: list[str] = []
    session.said.connect(said.append)
    view.claim.line.setText("LiFePO4 5 kg")
    qtbot.keyClick(view.claim.line, Qt.Key.Key_Return)
    assert session.sample(number).family_key == "agm" and "lithium iron phosphate is printed" in " ".join(said)


def test_a_price_is_entered_in_its_claim_s_currency(demo: Window, qtbot) -> None:
    _, _, view = _m2(demo)
    view.claim.set_text("price 229 EUR")
    view.add_claim()
    demo.show_station("ledger")
    ledger = demo.view("ledger")

    def named(part: type, words: str) -> list:
        return [one for one in there(ledger, part) if words in one.accessibleName()]

    qtbot.waitUntil(lambda: bool(named(Line, "Measured: Price 229 EUR")), timeout=20000)
    value = named(Line, "Measured: Price 229 EUR")[0].parent()
    value.set_text("240 USD")
    assert value.number is None and "claimed in EUR" in value.problem
    value.set_text("240 €")
    assert value.number == 240.0
    value.entered.emit()
    qtbot.waitUntil(
        lambda: any("240" in one.accessibleName() + one.accessibleDescription() for one in named(Figure, "Price")),
        timeout=20000,
    )
