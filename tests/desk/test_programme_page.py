"""The programme of a sample as it is used: the next test set up by one key, left out, repeated, by hand, and taken back."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QPushButton

from tests.desk.doing import settled, texts, there
from wintry_tally.app.safety import put_into_quarantine
from wintry_tally.bench.equipment import ChannelSpec, Instrument
from wintry_tally.core.battery import parse_claim
from wintry_tally.core.errors import InputError
from wintry_tally.core.verdict.outcome import RULE_NAMES
from wintry_tally.desk.commands import COMMANDS
from wintry_tally.desk.views.bench import BenchView
from wintry_tally.desk.views.help import glossary
from wintry_tally.desk.views.programme import IN_QUARANTINE, ProgrammeView
from wintry_tally.desk.widgets.following_card import day_of
from wintry_tally.desk.widgets.trail import StationState
from wintry_tally.desk.window import Window


def _view(window: Window, code: str, qtbot) -> ProgrammeView:
    qtbot.waitUntil(lambda: window.session.drawn() is not None, timeout=20000)
    window.show_sample(next(sample.id for sample in window.session.samples() if sample.code == code))
    qtbot.keyClick(window, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    made = window.view("programme")
    assert isinstance(made, ProgrammeView) and made.isVisible() and window._top.programme.isChecked()
    return made


def _said(view: ProgrammeView) -> str:
    return "\n".join(texts(view))


def _key(view: ProgrammeView, name: str) -> QPushButton:
    return next(made for made in there(view, QPushButton) if name in {made.text(), made.accessibleName()})


def _settled(view: ProgrammeView, qtbot) -> None:
    """Wait for the plan that follows a wish."""
    session = view.session
    qtbot.waitUntil(lambda: session.drawn() is not None and not session.planning, timeout=20000)
    settled(qtbot)


def test_the_next_test_is_set_up_by_one_key(demo: Window, qtbot) -> None:
    view = _view(demo, "M1", qtbot)
    assert view.told.text().startswith("2 tests to go: about 30 d")
    said = _said(view)
    assert "Shelf test, end" in said and "settles self-discharge" in said and "Cycle life: thousands" in said
    assert "Capacity: met" in said
    assert demo.trail.button("arrival").state is StationState.NEXT
    qtbot.mouseClick(_key(view, "Set up: Shelf test, start"), Qt.MouseButton.LeftButton)
    assert demo.station == "shelf" and demo.view("shelf").page("recipe").isVisible()
    assert not demo._top.programme.isChecked() and demo.trail.button("shelf").isChecked()


def test_left_out_with_a_reason_repeated_and_taken_back(demo: Window, qtbot) -> None:
    view, session = _view(demo, "M1", qtbot), demo.session
    qtbot.mouseClick(_key(view, "Leave out: Shelf test, end"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: view.why_out.isVisible(), timeout=5000)
    qtbot.keyClicks(view.why_out, "no shelf free")
    view.refresh()  # a plan that comes meanwhile takes nothing of it
    assert view.why_out.text() == "no shelf free"
    qtbot.keyClick(view.why_out, Qt.Key.Key_Return)
    assert session.wishes.left_out == {"M1": {"shelf-end": "no shelf free"}}
    _settled(view, qtbot)
    assert "its test is left out: no shelf free" in _said(view) and "On the shelf" not in _said(view)
    qtbot.mouseClick(_key(view, "Take it in again: Self-discharge"), Qt.MouseButton.LeftButton)
    _settled(view, qtbot)
    assert session.wishes.left_out == {} and "On the shelf" in _said(view)
    qtbot.mouseClick(_key(view, "Once more: Arrival check"), Qt.MouseButton.LeftButton)
    _settled(view, qtbot)
    assert _said(view).count("Arrival check") == 2
    session.undo_stack.undo()
    _settled(view, qtbot)
    assert _said(view).count("Arrival check") == 1 and session.undo_stack.redoText().startswith(
        "run “Arrival check” of M1"
    )
    qtbot.mouseClick(_key(view, "Bring forward"), Qt.MouseButton.LeftButton)
    _settled(view, qtbot)
    assert session.wishes.first == {"M1": ("shelf-end",)}


def test_what_the_bench_cannot_is_done_by_hand(demo: Window, qtbot) -> None:
    session = demo.session
    load = Instrument("small load", "load", power_W=150.0, current_A=20.0)
    bench = session.equipment.with_instrument(load).with_channel(ChannelSpec("one", load="small load"))
    session.set_equipment("a small load", replace(bench, channels=(bench.channel("one"),)))
    number = next(sample.id for sample in session.samples() if sample.code == "M3")
    session.add_claim(number, parse_claim("surge 90 A 5 s"))
    qtbot.waitUntil(lambda: session.dossier(number) is not None, timeout=20000)
    session.plan_anew()
    view = _view(demo, "M3", qtbot)
    qtbot.waitUntil(lambda: "inverter" in _said(view), timeout=20000)
    assert "90.0 A" in _said(view)
    qtbot.mouseClick(_key(view, "Do it by hand: Surge"), Qt.MouseButton.LeftButton)
    _settled(view, qtbot)
    assert "Surge, by hand" in _said(view) and "throughout" in _said(view)
    qtbot.mouseClick(_key(view, "Not by hand"), Qt.MouseButton.LeftButton)
    _settled(view, qtbot)
    assert session.wishes.by_hand == {} and "inverter" in _said(view)


@pytest.mark.parametrize("claimed", [True, False])
def test_without_claims_it_says_what_to_do(fresh: Window, qtbot, claimed: bool) -> None:
    fresh.hang_tag()
    if claimed:
        fresh.session.add_claim(fresh.sample_id or 0, parse_claim("40 Ah"))
    qtbot.wait(300)
    view = _view(fresh, fresh.session.samples()[0].code, qtbot)
    qtbot.waitUntil(lambda: view.told.text() != "" or view._none.isVisible(), timeout=10000)
    _settled(view, qtbot)
    if claimed:
        assert view.told.text().startswith("1 test to go") and not view._none.isVisible()
    else:
        assert view._none.isVisible() and not view._tests.isVisible()
        qtbot.mouseClick(_key(view, "Go to Arrival"), Qt.MouseButton.LeftButton)
        assert fresh.station == "arrival"


def test_the_places_of_a_bench_are_read_by_hand_and_by_a_thermometer(fresh: Window, qtbot) -> None:
    session = fresh.session
    session.start_stand_ins()
    fresh.show_page("bench")
    page = fresh.page("bench")
    assert isinstance(page, BenchView)
    card = page.places
    assert list(card.fields) == ["room", "freezer", "shelf"] and texts(card).count("never read") == 3
    field = card.fields["freezer"]
    field.setFocus()
    qtbot.keyClicks(field, "-18,5")
    page.refresh()  # whatever is told meanwhile
    assert card.fields["freezer"].text() == "-18,5"
    qtbot.keyClick(card.fields["freezer"], Qt.Key.Key_Return)
    assert "−18.5 °C, just now" in texts(card) and card.fields["freezer"].text() == ""
    session.undo_stack.undo()
    qtbot.waitUntil(lambda: texts(card).count("never read") == 3, timeout=5000)
    qtbot.keyClicks(card.fields["room"], "warm")
    qtbot.keyClick(card.fields["room"], Qt.Key.Key_Return)
    assert card.problem.isVisible() and "number" in card.problem.text() and card.fields["room"].text() == "warm"
    qtbot.keyClicks(card.name, "box outside")
    qtbot.keyClick(card.name, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: "box outside" in card.fields, timeout=5000)
    chooser = next(one for one in there(card, QComboBox) if one.accessibleName() == "What reads the shelf")
    chooser.setCurrentIndex(chooser.findData("stand-in thermometer"))
    chooser.activated.emit(chooser.currentIndex())
    qtbot.waitUntil(lambda: "shelf" in session.book.places.latest(), timeout=15000)
    assert 15.0 < session.book.places.latest()["shelf"].temperature_C < 30.0
    assert session.book.places.latest()["shelf"].source == "stand-in thermometer"


def test_cycles_are_noted_and_a_re_test_asked_for(demo: Window, qtbot) -> None:
    view, session = _view(demo, "M2", qtbot), demo.session
    card = view.following
    assert "Two like tests" in "\n".join(texts(card))
    card.cycles.setText("many")
    qtbot.keyClick(card.cycles, Qt.Key.Key_Return)
    assert card.problem.isVisible() and card.cycles.text() == "many"
    card.cycles.setText("0")
    qtbot.keyClick(card.cycles, Qt.Key.Key_Return)
    card.cycles.setText("120")
    qtbot.keyClick(card.cycles, Qt.Key.Key_Return)
    assert card.cycles.text() == "" and not card.problem.isVisible()
    qtbot.waitUntil(lambda: card.told.text().startswith("120 noted"), timeout=10000)
    session.undo_stack.undo()
    qtbot.waitUntil(lambda: card.told.text() == "", timeout=10000)
    card.recipe.setCurrentIndex(card.recipe.findData("capacity-reference"))
    for wrong, words in (("soon", "no day"), ("2020-01-01", "is over"), ("", "no day")):
        card.on.setText(wrong)
        qtbot.keyClick(card.on, Qt.Key.Key_Return)
        assert words in card.problem.text()
    card.on.setText("6 months")
    qtbot.keyClick(card.on, Qt.Key.Key_Return)
    on = day_of("6 months", date.today())
    assert session.wishes.again == {"M2": {"capacity-reference": on.isoformat()}}
    _settled(view, qtbot)
    assert f"on {on.isoformat()}" in _said(view)
    demo.show_page("today")
    page = demo.page("today")
    qtbot.waitUntil(lambda: any("Re-test: Capacity" in text for text in texts(page)), timeout=10000)
    session.undo_stack.undo()
    assert session.wishes.again == {}
    for typed, words in (("0 cycles", "cannot be"), ("some cycles", "some")):
        card.on.setText(typed)
        qtbot.keyClick(card.on, Qt.Key.Key_Return)
        assert words in card.problem.text()
    card.on.setText("100 cycles")
    qtbot.keyClick(card.on, Qt.Key.Key_Return)
    had = session.dossier(card.sample_id).had.now
    assert had > 0.5 and session.wishes.again == {"M2": {"capacity-reference": f"{had + 100:.0f} cycles"}}


def test_days_as_people_write_them() -> None:
    today = date(2027, 1, 31)
    for text, wanted in (
        ("2027-01-31", today), ("1 month", date(2027, 2, 28)), ("in 3 weeks", date(2027, 2, 21)), ("10 days", date(2027, 2, 10)),
        ("2 years", date(2029, 1, 31)), ("11 months", date(2027, 12, 31)), ("12 months", date(2028, 1, 31)),
    ):  # fmt: skip
        assert day_of(text, today) == wanted, text
    for text in ("2027-01-30", "0 days", "a month", "3 fortnights"):
        with pytest.raises(InputError):
            day_of(text, today)


def test_help_tells_every_key_and_word(demo: Window, qtbot) -> None:
    qtbot.keyClick(demo, Qt.Key.Key_F1)
    page = demo.page("help")
    assert (
        page.isVisible()
        and demo.page_shown == "help"
        and not any(made.isChecked() for made in demo.rack.pages.values())
    )
    said = texts(page)
    for spec in COMMANDS:
        if spec.shortcut:
            assert said[said.index(spec.shortcut) + 1] == spec.text.replace("&", "").rstrip("…")
    words = dict(glossary())
    assert len(words) >= 15 and all(name in said and says in said for name, says in words.items())
    for name in RULE_NAMES.values():
        assert name in words["Decision rule"].lower()
    demo.show_page("today")
    assert not page.isVisible()


def test_of_a_battery_in_quarantine_it_is_not_said_that_nothing_was_claimed(demo: Window, qtbot) -> None:
    view = _view(demo, "M2", qtbot)
    number, book = view.sample_id, demo.session.book
    demo.session.write("hold it", lambda: put_into_quarantine(book, number, "it smelt"), bool, number)
    qtbot.waitUntil(lambda: view.told.text() == IN_QUARANTINE)
    assert not view._none.isVisible()
