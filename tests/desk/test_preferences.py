"""Preferences: units everywhere in the window, and kept values as they were; theme, sound, how a new book begins."""

import re
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractButton, QComboBox, QLabel, QLineEdit, QTableWidget, QWidget

from tests.desk.doing import settled, there
from tests.desk.test_window import sample
from wintry_tally.core.quantity.preferred import US, Units
from wintry_tally.desk import notify, preferences
from wintry_tally.desk.app import make_application
from wintry_tally.desk.theme import NIGHT
from wintry_tally.desk.theme import current as current_tokens
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.window import Window

OTHER_UNITS = re.compile(r"\d ?(°C|kg|mm)(?![\w²])|(?<!\w)°C|\d K\b")


@pytest.fixture(autouse=True)
def as_usual():
    yield
    preferences._now[0] = preferences.Preferences()


def choose(window: Window, units: Units) -> None:
    window.show_preferences()
    page = window.page("preferences")
    for name, box in page.units.items():
        box.setCurrentIndex(box.findData(getattr(units, name)))
        box.activated.emit(box.currentIndex())


def told(root: QWidget) -> list[str]:
    """Everything that is read on a page, seen or by a screen reader."""
    found = []
    for one in there(root, QWidget):
        if one.isVisible():
            found += [one.toolTip(), one.accessibleName()]
            if isinstance(one, QLabel | QAbstractButton):
                found.append(one.text())
            if isinstance(one, QLineEdit):
                found.append(one.placeholderText())
            if isinstance(one, QComboBox):
                found += [one.itemText(place) for place in range(one.count())]
            if isinstance(one, QTableWidget):
                heads = [one.horizontalHeaderItem(place) for place in range(one.columnCount())]
                found += [head.text() for head in heads if head is not None]
    return found


def test_what_is_measured_on_arrival_stands_in_the_units_chosen(demo: Window, qtbot) -> None:
    """Every other page is gone through in test_small_screen.py."""
    choose(demo, US)
    # lines of a list are made a few at a time, on a busy machine fewer
    demo.show_sample(sample(demo, "M1"))
    demo.show_station("arrival")
    for words in ("7.756 in", "Low-temperature charge block 32 °F"):
        qtbot.waitUntil(lambda words=words: any(words in one for one in told(demo)), timeout=15000)


def test_a_picture_of_the_cold_is_drawn_in_the_units_chosen(demo: Window, qtbot) -> None:
    def warmth() -> tuple[str, float]:
        demo.show_sample(sample(demo, "M1"))
        demo.show_station("cold")
        settled(qtbot)
        found = [view for view in there(demo.view("cold"), Curve) if view.accessibleName() == "temperature"]
        return found[0]._titles[1], min(found[0]._series[0][2])

    unit, coldest = warmth()
    assert unit == "°C"
    choose(demo, Units(temperature="°F"))
    name, shown = warmth()
    assert name == "°F" and shown == pytest.approx(32.0 + 1.8 * coldest)


def test_what_is_typed_bare_is_in_the_unit_chosen_and_kept_as_ever(fresh: Window, qtbot) -> None:
    choose(fresh, US)
    fresh.hang_tag()
    view = fresh.view("arrival")
    view.mass.line.setFocus()
    qtbot.keyClicks(view.mass.line, "9.7")
    qtbot.keyClick(view.mass.line, Qt.Key.Key_Return)
    kept = fresh.session.sample(fresh.sample_id).arrival.mass_kg
    assert kept == pytest.approx(9.7 * 0.45359237)
    view.mass_limit.line.setText("0.5 oz")
    assert view.mass_limit.number == pytest.approx(0.5 * 0.028349523)
    choose(fresh, Units())
    fresh.show_station("arrival")
    assert fresh.view("arrival").mass.line.text() == "4.4 kg"
    assert fresh.session.sample(fresh.sample_id).arrival.mass_kg == kept


def test_what_a_thermometer_is_good_to_has_no_zero_to_move(qtbot, window: Window) -> None:
    from wintry_tally.desk.widgets.quantity_field import QuantityField

    good_to = QuantityField("Good to", "temperature", width=True)
    qtbot.addWidget(good_to)
    for text, kelvin, said in (("1.8 °F", 1.0, "= 1 °C"), ("0.5", 0.5, "= 0.5 °C"), ("0.5 °C", 0.5, "")):
        good_to.line.setText(text)
        assert good_to.number == pytest.approx(kelvin) and good_to.word.text() == said
    preferences.put_units("temperature", "°F")
    good_to.line.setText("0.9")
    assert good_to.number == pytest.approx(0.5)


def test_what_is_half_typed_elsewhere_is_kept_when_the_units_change(demo: Window, qtbot) -> None:
    number = sample(demo, "M1")
    demo.show_sample(number)
    demo.show_station("report")
    demo.view("report").prose.setPlainText("For: light. Against: cold.")
    choose(demo, US)
    assert demo.session.book.samples.prose(number) == "For: light. Against: cold."


def test_a_theme_for_once_leaves_the_units(window: Window) -> None:
    preferences.put_units("mass", "lb")
    preferences._now[0] = preferences.Preferences()
    make_application("night")
    assert preferences.current().units.mass == "lb" and current_tokens() is NIGHT
    make_application("day")


def test_a_wire_is_read_as_it_is_shown() -> None:
    from wintry_tally.desk.widgets.bench_forms import read_area

    assert read_area("AWG 2/0") == pytest.approx(67.4, abs=0.1)
    assert read_area("250 kcmil") == pytest.approx(126.7, abs=0.1)


def test_without_a_book_too_and_back(window: Window, qtbot) -> None:
    window.show_preferences()
    alone = window.pages.currentWidget()
    assert alone is not window.splitter and alone.units["mass"].isVisible()
    window.show_help()
    window.pages.currentWidget().leads_back()
    assert window.pages.currentIndex() == 0


def test_back_leads_to_where_one_was(demo: Window) -> None:
    demo.show_sample(sample(demo, "M1"))
    demo.show_station("ledger")
    demo.show_preferences()
    demo.show_help()
    demo.show_preferences()
    demo.page("preferences").leads_back()
    assert demo.station == "ledger" and demo.stack.currentWidget() is demo.view("ledger")


def test_they_are_there_the_next_time(window: Window, qtbot, tmp_path: Path) -> None:
    choose(window, US)
    alone = window.pages.currentWidget()
    alone.theme.setCurrentIndex(alone.theme.findData("night"))
    alone.theme.activated.emit(1)
    assert current_tokens() is NIGHT
    alone.sound.click()
    alone.school.setCurrentIndex(alone.school.findData("plain"))
    alone.school.activated.emit(1)
    alone.hours.line.setText("Mon-Fri 8-17")
    alone.hours.line.editingFinished.emit()
    wanted = preferences.current()
    preferences._now[0] = preferences.Preferences()
    assert preferences.take_up() == wanted
    assert (wanted.units, wanted.theme, wanted.sound, wanted.school, wanted.attended) == (
        US, "night", False, "plain", "Mon-Fri 8-17",
    )  # fmt: skip
    window.new_book(tmp_path / "next.wintry")
    assert window.session.school.value == "plain" and window.session.attended_text == "Mon-Fri 8-17"
    make_application("day")


def test_what_cannot_be_understood_is_as_usual(window: Window) -> None:
    from PySide6.QtCore import QSettings

    for name, odd in (("temperature", "°R"), ("theme", "dusk"), ("school", "harsh")):
        QSettings().setValue(f"preferences/{name}", odd)
    assert preferences.take_up() == preferences.Preferences()


def test_without_sound_only_what_is_wrong_is_heard(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    heard = []
    monkeypatch.setattr(notify, "ring", lambda: heard.append(1))
    preferences.put(preferences.Preferences(sound=False))
    window.session.rang.emit("Ends soon", "in ten minutes", False)
    assert not heard
    window.session.rang.emit("Needs your hands now", "not off", True)
    assert heard == [1]


def test_a_decimal_comma_in_fields_figures_and_what_is_typed(qtbot, one: Window) -> None:
    preferences.put_units("decimal", ",")
    one.session.units_changed.emit()
    one.show_station("arrival")
    view = one.view("arrival")
    view.mass.line.setText("4,385")
    qtbot.keyClick(view.mass.line, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: one.session.sample(one.sample_id).arrival.mass_kg == 4.385, timeout=5000)
    assert "4,385 kg" in view.mass.word.text() or "4,385 kg" in view.mass.line.text()
    view.rested_V.line.setText("13,1 V")
    qtbot.keyClick(view.rested_V.line, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: one.session.sample(one.sample_id).arrival.rested_V == 13.1, timeout=5000)
    preferences.put_units("decimal", ".")


def test_a_price_without_a_currency_is_in_the_one_preferred_and_none_is_converted(one: Window) -> None:
    one.show_station("arrival")
    view = one.view("arrival")

    def read(text: str) -> list[tuple[float | None, str]]:
        view.claim.set_text("")
        view.claim.set_text(text)
        return [(claim.value, claim.currency) for claim in view.claim.value.claims]

    assert read("price 2290") == [(2290.0, "")]
    preferences.put_units("money", "NOK")
    assert preferences.take_up().units.money == "NOK" and preferences.current().units.kept, (
        "nothing else is changed by it"
    )
    assert (
        read("price 2290") == [(2290.0, "NOK")]
        and read("price 229 EUR") == [(229.0, "EUR")]
        and read("$ 250") == [(250.0, "USD")]
    )
    view.put_by_kind()
    view.editor.kind.setCurrentIndex(view.editor.kind.findData("price"))
    view.editor.text.setText("2 290")
    assert view.editor.made().currency == "NOK"
    preferences.put_units("money", "")
    assert read("price 2290") == [(2290.0, "")]
