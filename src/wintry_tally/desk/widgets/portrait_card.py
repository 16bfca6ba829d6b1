"""A run's own picture on a station's page: its plots above each other, its table beneath."""

from __future__ import annotations

import math

from PySide6.QtCore import QTimer, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QWidget

from wintry_tally.desk.copying import copy_button
from wintry_tally.desk.preferences import current
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.parts import button, clear, column, label, row
from wintry_tally.report.portrait import Panel, Portrait, panel_in
from wintry_tally.report.tables import Table

HEIGHTS = (140, 100, 100)
"""Of the first plot, and of those under it."""
WORDS, APART_MS = 24, 25
NAMES = 0.2
"""Room above a curve for the names of its bands, as a share of its height."""


class PanelView(Curve):
    """One plot of a picture. It is made a moment after it is shown: several at once would hold the window.

    `appeared`: it is there now.
    """

    made_ahead = False
    appeared = Signal()

    def __init__(self, height: int) -> None:
        super().__init__("", "", "")
        self.after_ms = 0
        """So long after it is shown it is made; several, one after the other."""
        self._heights: list[float] = []
        self._named = False
        self.setMinimumHeight(100)
        self.setFixedHeight(height)

    def showEvent(self, event: QShowEvent) -> None:
        """Once everything else has had its turn."""
        if self.made:
            Curve.showEvent(self, event)
        else:
            QWidget.showEvent(self, event)
            QTimer.singleShot(self.after_ms, self._appear)

    def _appear(self) -> None:
        if self.isVisible() and not self.made:
            Curve.showEvent(self, QShowEvent())
            self._room_for_names()
            self.appeared.emit()

    def show_panel(self, panel: Panel) -> None:
        """Draw it, in the units preferred."""
        panel = panel_in(panel, current().units)
        self.setAccessibleName(panel.name)
        self.set_titles(panel.x_title, panel.y_title)
        self.set_ticks(panel.ticks)
        self.show_curves(list(panel.series), None, list(panel.lines), panel.single)
        self._heights = [value for _, _, y in panel.series for value in y if math.isfinite(value)]
        self._named = any(band.words for band in panel.bands)
        self.decorate([(band.start, band.end, band.words, band.live) for band in panel.bands], panel.marks)
        self._room_for_names()

    def _room_for_names(self) -> None:
        if self._heights and self._named:
            low, high = min(self._heights), max(self._heights)
            self.look_at_all(low, high + NAMES * (high - low))


class PortraitCard(QFrame):
    """The picture of one run; its plots keep the same stretch of time in view. `said` carries what was done, `opened` a working."""

    said = Signal(str)
    opened = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("role", "card")
        self.title = label("", "heading")
        self._told = label("", "", wrap=True)
        self._views = [PanelView(height) for height in HEIGHTS]
        self._views[0].by_keyboard()  # the others follow
        self._table = QGridLayout()
        self._table.setHorizontalSpacing(18)
        self._table.setVerticalSpacing(3)
        inner = QHBoxLayout()
        inner.setContentsMargins(0, 0, 0, 0)
        inner.addLayout(self._table)
        inner.addStretch(1)
        self._table_box = QWidget()
        self._table_box.setLayout(inner)
        self.copy = copy_button(
            lambda: Table(self.shown.head, self.shown.rows) if self.shown else None, self.said.emit, "these lines"
        )
        self.how = button(
            "Working",
            lambda: self.opened.emit(self.shown.working if self.shown else None),
            "link",
            "Working of what is told of this run",
        )
        made = column(
            row(self.title, None, self.how, self.copy, gap=2),
            self._told,
            *self._views,
            self._table_box,
            gap=2,
            margin=3,
        )
        self.setLayout(made)
        self.shown: Portrait | None = None
        for place, view in enumerate(self._views, 1):
            view.after_ms = place * APART_MS
            view.appeared.connect(self._link)
        self.hide()

    def show_portrait(self, title: str, portrait: Portrait | None) -> None:
        """Another run's; None hides it."""
        self.setVisible(portrait is not None)
        if portrait is None or (portrait is self.shown and title == self.title.text()):
            return
        self.shown = portrait
        self.title.setText(title)
        self._told.setText("\n".join(f"{words[:1].upper()}{words[1:]}." for words in portrait.told))
        self._told.setVisible(bool(portrait.told))
        self.how.setVisible(portrait.working is not None)
        for view, panel, height in zip(self._views, portrait.panels, HEIGHTS, strict=False):
            # what bears the words of the axis is so much higher
            view.setFixedHeight(height + (WORDS if panel.x_title else 0))
            view.show_panel(panel)
        for place, view in enumerate(self._views):
            view.setVisible(place < len(portrait.panels))
        clear(self._table)
        for place, words in enumerate(portrait.head):
            self._table.addWidget(label(words, "small"), 0, place)
        for line, cells in enumerate(portrait.rows):
            for place, words in enumerate(cells):
                self._table.addWidget(label(words), line + 1, place)
        self._table_box.setVisible(bool(portrait.rows))
        self.copy.setVisible(bool(portrait.rows))

    def _link(self) -> None:
        """Those that are there keep the same stretch in view as the first."""
        first, *others = self._views
        for view in others:
            if first.made and view.made:
                view.follow(first)

    def theme_changed(self) -> None:
        """The plots are painted."""
        for view in self._views:
            view.theme_changed()
