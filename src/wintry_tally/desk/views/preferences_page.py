"""Preferences: the units one reads and types, day or night, sound, and how a new book begins."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from PySide6.QtWidgets import QApplication, QCheckBox, QVBoxLayout, QWidget

from wintry_tally.app import own_words
from wintry_tally.core.battery.printed.own import said_line
from wintry_tally.core.errors import WintryError
from wintry_tally.core.protocol.attended import USUAL, parse_attended
from wintry_tally.core.quantity.preferred import CHOICES
from wintry_tally.core.verdict.outcome import RULE_NAMES, SCHOOL_WORDS, School
from wintry_tally.desk.notify import ring
from wintry_tally.desk.preferences import Preferences, current, put, put_units, theme_named
from wintry_tally.desk.session import Session
from wintry_tally.desk.theme import SPACE
from wintry_tally.desk.theme.style import apply_named
from wintry_tally.desk.views.page import MainPage
from wintry_tally.desk.widgets.parts import button, card, chooser, clear, column, fields_beside, label, row, scrolling
from wintry_tally.desk.widgets.quantity_field import TypedField

NAMES = {
    "temperature": "Temperature",
    "mass": "Mass",
    "length": "Length",
    "wire": "Wires",
    "decimal": "Decimals",
    "money": "Money",
}
UNIT_WORDS = {"AWG": "mm², and its AWG beside it", ".": "with a point", ",": "with a comma", "": "as it is printed"}
"""Choices that are told in other words than their own."""
THEME_WORDS = {"day": "Day", "night": "Night", "system": "As the desktop has it"}
EXAMPLE = "A battery of 4.40 ± 0.05 kg, 330 mm long, at 23.4 °C, on leads of 6 mm²."
WIDE = 260


class PreferencesPage(MainPage):
    """Each choice is in force at once; nothing that is kept in a book changes by it."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.units = {
            name: chooser(NAMES[name], [(UNIT_WORDS.get(one, one), one) for one in CHOICES[name]]) for name in CHOICES
        }
        for name, box in self.units.items():
            box.activated.connect(lambda _index, of=name: self._unit(of))
        self.example = label("", "quiet", wrap=True)
        self.theme = chooser("Day or night", [(words, key) for key, words in THEME_WORDS.items()])
        self.theme.activated.connect(lambda _index: self._keep(theme=str(self.theme.currentData())))
        self.sound = QCheckBox("A sound when something needs you")
        self.sound.clicked.connect(lambda on: self._keep(sound=bool(on)))
        self.school = chooser("Decision rule of new books", [(RULE_NAMES[one], one.value) for one in School])
        self.school.activated.connect(lambda _index: self._keep(school=str(self.school.currentData())))
        self.school_words = label("", "small", wrap=True)
        self.hours = TypedField("Somebody is there, in new books", parse_attended, lambda _hours: "", USUAL)
        self.hours.committed.connect(lambda _hours: self._keep(attended=self.hours.line.text().strip()))
        self.words = QVBoxLayout()
        inner = QWidget()
        inner.setLayout(
            column(
                row(label("Preferences", "title"), None, button("Back", lambda: self.leads_back())),
                label("Yours at this desk, for every book. What is kept in a book has °C, kg and mm, whatever is chosen here.", "quiet", wrap=True),
                self._card("Units", [(NAMES[name], box) for name, box in self.units.items()], self.example,
                           "Numbers without a unit are read in these, but a wire's in mm². Any other unit can be typed behind its number. Prices stay in their own currency."),
                self._card("Look and sound", [("Theme", self.theme), ("Sound", self.sound), ("", button("Try it", ring, "link", "Play the sound"))], None,
                           "What has gone wrong on the bench sounds whatever is chosen here."),
                self._card("A new book begins with", [("Decision rule", self.school), ("Somebody is there", self.hours)], self.school_words,
                           "A book that is open keeps its own: the rule stands on its Ledger, the hours on its Bench."),
                card(label("Your own words for claims", "heading"), self.words, label(
                    "Words are offered where you correct what was read of a claim at Arrival; the shell reads them too.", "small", wrap=True)),
                None, gap=3,
            )
        )  # fmt: skip
        inner.layout().setContentsMargins(0, 0, 2 * SPACE, 0)
        self.setLayout(column(scrolling(inner)))
        self.refresh()

    def _card(self, title: str, fields: list[tuple[str, QWidget]], more: QWidget | None, small: str) -> QWidget:
        grid, _ = fields_beside(fields)
        grid.setColumnMinimumWidth(0, 140)
        grid.setColumnStretch(1, 0)
        grid.setColumnStretch(2, 1)
        for _, widget in fields:
            widget.setFixedWidth(max(WIDE, widget.sizeHint().width()))
        made: QWidget = card(
            label(title, "heading"), grid, *([more] if more is not None else []), label(small, "small", wrap=True)
        )
        return made

    def refresh(self) -> None:
        """As they stand."""
        now = current()
        for name, box in self.units.items():
            box.setCurrentIndex(max(0, box.findData(getattr(now.units, name))))
        self.example.setText(EXAMPLE)
        self.theme.setCurrentIndex(max(0, self.theme.findData(now.theme)))
        self.sound.setChecked(now.sound)
        self.school.setCurrentIndex(max(0, self.school.findData(now.school)))
        self.school_words.setText(f"{SCHOOL_WORDS[School(now.school)].capitalize()}.")
        self.hours.set_text(now.attended)
        self._show_words()

    def _show_words(self) -> None:
        clear(self.words)
        kept = own_words.lines()
        if not kept:
            self.words.addWidget(label("None yet.", "quiet"))
        for line in kept:
            said = said_line(line)
            self.words.addLayout(
                row(
                    label(said, wrap=True),
                    None,
                    button("Remove", partial(self._forget, line), "link", f"Remove {said}"),
                )
            )

    def _forget(self, line: str) -> None:
        try:
            own_words.forget(line)
        except WintryError as error:
            self.session.failed.emit(str(error))
        self._show_words()

    def tell_alone(self) -> None:
        """With no book open there is nothing else to say."""

    def leave(self) -> None:
        """Hours that are half typed are kept where they can be read."""
        self.hours.line.editingFinished.emit()

    def _unit(self, name: str) -> None:
        wanted = str(self.units[name].currentData())
        if wanted != getattr(current().units, name):
            put_units(name, wanted)
            self.refresh()
            self.session.units_changed.emit()

    def _keep(self, **changed: object) -> None:
        before: Preferences = current()
        put(replace(before, **changed))  # type: ignore[arg-type]
        if current().theme != before.theme:
            application = QApplication.instance()
            assert isinstance(application, QApplication)
            apply_named(application, theme_named(current().theme))
            self.session.theme_changed.emit()
        self.refresh()
