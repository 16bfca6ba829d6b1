"""The places of a bench: what each is like now, what reads it, and a line for a reading by hand."""

from __future__ import annotations

from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QGridLayout, QLineEdit, QWidget

from wintry_tally.core.errors import WintryError
from wintry_tally.desk.preferences import shown
from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, narrow, row
from wintry_tally.desk.widgets.quantity_field import read_typed

if TYPE_CHECKING:
    from wintry_tally.app.places import PlaceSpec

BY_HAND = "read by hand"


class PlacesCard(QWidget):
    """A line a place; a month on a shelf or a night in a freezer is only as good as its temperature."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(6)
        self._grid.setColumnStretch(1, 1)
        self.name = QLineEdit()
        self.name.setPlaceholderText("another place: box outside, freezer 2…")
        self.name.setAccessibleName("Name of another place")
        self.name.setMinimumWidth(280)
        self.name.returnPressed.connect(self.add)
        self.problem = label("", "problem", wrap=True)
        self.problem.hide()
        words = label(
            "What a battery stood in before a cold test, or on the shelf, is read from here into its verdicts. While no window "
            "is open, “wintry-tally watch BOOK” goes on reading.",
            "small",
            wrap=True,
        )
        whole = card(
            label("Places", "heading"),
            words,
            self._grid,
            self.problem,
            row(self.name, button("Add it", self.add), None, gap=2),
        )
        self.setLayout(column(whole))
        self.fields: dict[str, QLineEdit] = {}

    def refresh(self) -> None:
        """As the book has them; what is half typed stays."""
        from wintry_tally.app.places import latest_words

        typed = {name: field.text() for name, field in self.fields.items()}
        holder = next((name for name, field in self.fields.items() if field.hasFocus()), "")
        clear(self._grid)
        self.fields = {}
        latest, now = self.session.open.known.latest, datetime.now().astimezone()
        for line, place in enumerate(self.session.places):
            seen = latest.get(place.name)
            said = "never read" if seen is None else latest_words(seen.temperature_C, seen.at, now)
            field = QLineEdit(typed.get(place.name, ""))
            field.setPlaceholderText(shown("−18 °C"))
            field.setMaximumWidth(110)
            field.setAccessibleName(f"Temperature of the {place.name} now")
            field.returnPressed.connect(partial(self.read, place.name))
            self.fields[place.name] = field
            keep = button("Keep", partial(self.read, place.name), "", f"Keep the reading of the {place.name}")
            for spot, part in enumerate(
                (label(place.name, "strong"), label(said, "quiet", wrap=True), self._by(place), field, keep)
            ):
                self._grid.addWidget(part, line, spot)
        if holder in self.fields:
            self.fields[holder].setFocus()

    def _by(self, place: PlaceSpec) -> QComboBox:
        made = QComboBox()
        narrow(made)
        made.setAccessibleName(f"What reads the {place.name}")
        made.addItem(BY_HAND, "")
        for instrument in self.session.equipment.instruments:
            if instrument.kind in {"thermometer", "meter"} or instrument.name == place.thermometer:
                made.addItem(instrument.name, instrument.name)
        if place.thermometer and made.findData(place.thermometer) < 0:
            made.addItem(f"{place.thermometer} (gone)", place.thermometer)
        made.setCurrentIndex(max(0, made.findData(place.thermometer)))
        made.activated.connect(lambda _index: self._set(place, str(made.currentData())))
        return made

    def _set(self, place: PlaceSpec, thermometer: str) -> None:
        from dataclasses import replace

        from wintry_tally.app.places import with_place

        made = with_place(self.session.places, replace(place, thermometer=thermometer))
        words = f"let {thermometer} read the {place.name}" if thermometer else f"read the {place.name} by hand"
        self.session.set_places(words, made)

    def read(self, name: str) -> None:
        """Keep the reading typed for a place."""
        text = self.fields[name].text()
        try:
            value = read_typed(text, "temperature")
        except WintryError as error:
            self._tell(f"{name}: {error}")
            self.fields[name].setFocus()
            return
        self._tell("")
        self.fields[name].clear()  # what is kept draws the line anew

        def then(done: bool) -> None:
            if not done and name in self.fields and not self.fields[name].text():
                self.fields[name].setText(text)
            self.refresh()

        self.session.read_place(name, datetime.now().astimezone(), value, then)

    def add(self) -> None:
        """Add a place of the name typed."""
        from wintry_tally.app.places import PlaceSpec

        name = self.name.text().strip()
        if not name:
            return
        if any(one.name == name for one in self.session.places):
            self._tell(f"There is a place “{name}” already.")
            return
        self._tell("")
        self.session.set_places(
            f"add the place “{name}”", (*self.session.places, PlaceSpec(name)),
            lambda done: self.name.clear() if done else None,
        )  # fmt: skip

    def _tell(self, words: str) -> None:
        self.problem.setText(words)
        self.problem.setVisible(bool(words))
