"""What a plot is made of beside its curves: lows and highs of long ones, bands with their names, marks and lines."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from PySide6.QtCore import Qt

from wintry_tally.core.trace.outline import MANY, Outline
from wintry_tally.desk.theme.style import colour, font
from wintry_tally.desk.widgets.curve_words import free_end, free_height

Series = tuple[str, Any, Any]
Stretch = tuple[float, float, str, bool]
"""From, to, its name, and whether current flowed in it."""
MOST_BANDS = 60
LEAST_SPAN = 0.08
"""V or A from the bottom to the top of a curve at least."""


class Detail:
    """A long curve, drawn whole or from its outline as much of it is in view."""

    def __init__(self, outline: Outline) -> None:
        self._item: Any = None
        self._of = outline
        self._fine = False

    def begin(self, plot: Callable[[Any, Any], Any]) -> Any:
        """Draw the lows and highs first: all points are drawn once few of them are in view."""
        self._item = plot(self._of.coarse_x, self._of.coarse_y)
        return self._item

    def choose(self, low: float, high: float) -> None:
        """Draw all points where few are in view, else the lows and highs."""
        first, last = np.searchsorted(self._of.x, [low, high])
        fine = bool(last - first < MANY)
        if fine is not self._fine:
            self._fine = fine
            x, y = (self._of.x, self._of.y) if fine else (self._of.coarse_x, self._of.coarse_y)
            self._item.setData(x, y)


def _band_name() -> Any:
    """The class of a band's name; the plot library is loaded with the first curve."""
    import pyqtgraph as pg

    class BandName(pg.TextItem):
        """A name at the top of a band, shown where the band is wide enough for it."""

        def __init__(self, words: str, start: float, end: float) -> None:
            super().__init__(words, color=colour("quiet"), anchor=(0, 0))
            self.start, self.end = start, end

        def place(self, left: float, right: float, top: float, width: float) -> None:
            """At the left of what shows of the band."""
            begin, stop = max(self.start, left), min(self.end, right)
            room = (stop - begin) / max(1e-12, right - left) * width
            self.setVisible(room > self.boundingRect().width() + 6)
            self.setPos(begin, top)

    return BandName


def decorations(
    item: Any, series: Sequence[Series], bands: Sequence[Stretch], marks: Sequence[tuple[float, str]]
) -> list[Any]:
    """Stretches shaded and named, and named instants, put onto a plot; what was put there."""
    import pyqtgraph as pg

    made: list[Any] = []

    def put(one: Any) -> None:
        item.addItem(one, ignoreBounds=True)
        made.append(one)

    names, wash, top = _band_name(), colour("wash"), item.viewRange()[1][1]
    for start, end, words, live in bands[:MOST_BANDS]:
        region = pg.LinearRegionItem((start, end), movable=False, brush=wash if live else pg.mkBrush(None))
        for edge in region.lines:
            edge.setPen(pg.mkPen(colour("rule"), width=1))
        region.setZValue(-10)
        put(region)
        if words:
            text = names(words, start, end)
            text.setFont(font("small"))
            text.setPos(start, top)
            put(text)
    for at, words in marks[:MOST_BANDS]:
        pen = pg.mkPen(colour("close"), width=1.4, style=Qt.PenStyle.DotLine)
        options = {
            "color": colour("quiet"), "position": free_height(series, item.viewRange(), at), "fill": colour("card"),
            "anchors": [(0, 0.5), (1, 0.5)],
        }  # fmt: skip
        put(pg.InfiniteLine(pos=at, angle=90, pen=pen, label=words, labelOpts=options))
    return made


def line_at(series: Sequence[Series], axis: str, value: float, name: str, single: bool) -> Any:
    """A line across a plot with its name, where no curve runs through it."""
    import pyqtgraph as pg

    where = free_end(series, value, LEAST_SPAN) if axis == "y" else {"position": 0.5 if single else 0.9}
    pen = pg.mkPen(colour("quiet"), width=1, style=Qt.PenStyle.DashLine)
    options = {"color": colour("quiet"), **where, "fill": None if single else colour("card")}
    return pg.InfiniteLine(pos=value, angle=90 if axis == "x" else 0, pen=pen, label=name, labelOpts=options)
