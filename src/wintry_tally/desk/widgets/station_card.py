"""What a station says in one look: the claims it settles, the tests to come, the picture of all its runs, the way back."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QGridLayout

from wintry_tally.app.station_told import Told
from wintry_tally.core.battery.revival import Place
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS
from wintry_tally.desk.widgets.parts import card, clear, column, label, row
from wintry_tally.desk.widgets.portrait_card import PanelView
from wintry_tally.desk.widgets.tally import Tally

MOST_COMING = 4
PLACES = {Place.DONE: "done", Place.HERE: "here", Place.AHEAD: "", Place.STOP: "stop"}


class StationCard(QFrame):
    """Filled from `app.station_told`; hidden where there is nothing to say."""

    def __init__(self, height: int = 230) -> None:
        super().__init__()
        self.tally = Tally()
        self.settles, self.coming = label("", "", wrap=True), label("", "quiet", wrap=True)
        self._line = row(self.tally, self.settles, gap=3)
        self._line.setStretch(1, 1)
        self._way = QGridLayout()
        self._way.setColumnStretch(1, 1)
        self._way.setHorizontalSpacing(14)
        self._way.setVerticalSpacing(5)
        self._says = card(self._line, self.coming)
        self._way_card = card(label("The way back", "heading"), self._way)
        self.panel_title = label("", "heading")
        self.panel = PanelView(height).by_keyboard()
        self.panel.least_named = 1
        self._panel_card = card(self.panel_title, self.panel)
        self.setLayout(column(self._says, self._way_card, self._panel_card, gap=3))
        self._panel_card.hide()
        self.hide()

    def show_told(self, told: Told) -> None:
        """Draw it."""
        words = " · ".join(f"{name}: {OUTCOME_WORDS[outcome].lower()}" for name, outcome in told.settles)
        self.settles.setText(words)
        self.tally.set_outcomes([outcome for _, outcome in told.settles])
        for part in (self.tally, self.settles):
            part.setVisible(bool(told.settles))
        more = len(told.coming) - MOST_COMING
        coming = "; ".join(told.coming[:MOST_COMING]) + (f"; and {more} more" if more > 0 else "")
        self.coming.setText(f"To come here: {coming}." if told.coming else "")
        self.coming.setVisible(bool(told.coming))
        self._says.setVisible(bool(told.settles or told.coming))
        self._show_way(told)
        self._panel_card.setVisible(told.panel is not None)
        if told.panel is not None:
            self.panel_title.setText(told.panel.name)
            self.panel.show_panel(told.panel)
        self.setVisible(bool(told.settles or told.coming or told.way or told.panel))

    def _show_way(self, told: Told) -> None:
        clear(self._way)
        for line, step in enumerate(told.way):
            here = step.place in {Place.HERE, Place.STOP}
            mark = label(PLACES[step.place], "heading" if here else "quiet")
            self._way.addWidget(mark, line, 0, Qt.AlignmentFlag.AlignTop)
            words = f"{step.words}.  {step.why[:1].upper()}{step.why[1:]}." if step.why else f"{step.words}."
            self._way.addWidget(label(words, "" if here else "quiet", wrap=True), line, 1)
        self._way_card.setVisible(bool(told.way))

    def theme_changed(self) -> None:
        """The plot is painted."""
        self.panel.theme_changed()
