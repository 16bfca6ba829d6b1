"""Curve: voltage against time or charge. The plot library is loaded when the first curve is shown, not before."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wintry_tally.desk.theme.style import colour, font
from wintry_tally.desk.widgets.parts import label

Series = tuple[str, Any, Any]
MANY = 400_000
"""More points than this in view are drawn from their lows and highs."""
DASHES = (None, (6, 4), (2, 3), (8, 3, 2, 3))


class _Detail:
    """A long curve with its lows and highs over stretches, drawn one way or the other as much of it is in view."""

    def __init__(self, item: Any, x: Any, y: Any) -> None:
        self._item, self._x, self._y = item, x, y
        stretch = max(2, len(x) // (MANY // 2))
        size = len(x) // stretch * stretch
        blocks = y[:size].reshape(-1, stretch)
        self._coarse_y = np.column_stack([blocks.min(axis=1), blocks.max(axis=1)]).ravel()
        self._coarse_x = np.repeat(x[:size:stretch], 2)
        self._fine: bool | None = None

    def choose(self, low: float, high: float) -> None:
        """Draw all points where few are in view, else the lows and highs."""
        first, last = np.searchsorted(self._x, [low, high])
        fine = bool(last - first < MANY)
        if fine is not self._fine:
            self._fine = fine
            x, y = (self._x, self._y) if fine else (self._coarse_x, self._coarse_y)
            self._item.setData(x, y)


class Curve(QWidget):
    """One plot. Curves are told apart by dash and label as well as by colour."""

    def __init__(self, name: str, x_title: str, y_title: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self._titles = (x_title, y_title)
        self._plot: Any = None
        self._series: list[Series] = []
        self._ahead: Series | None = None
        self._lines: list[tuple[str, float, str]] = []
        self._items: list[Any] = []
        self._drawn: tuple[int, ...] = ()
        self._coarse: list[_Detail] = []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self._waiting = label("", "quiet")
        self._waiting.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.addWidget(self._waiting)
        self.setMinimumHeight(150)

    def show_curves(
        self, series: Sequence[Series], ahead: Series | None = None, lines: Sequence[tuple[str, float, str]] = ()
    ) -> None:
        """Show these (label, x, y); `ahead` is a forecast; `lines` are (x or y, value, label)."""
        self._series, self._ahead, self._lines = list(series), ahead, list(lines)
        if self._plot is not None:
            self._draw()

    def theme_changed(self) -> None:
        """Draw with the colours now in force."""
        if self._plot is not None:
            self._colours()
            self._drawn = ()
            self._draw()

    def showEvent(self, event: QShowEvent) -> None:
        """Load the plot library the first time."""
        super().showEvent(event)
        if self._plot is None:
            self._make()
            self._draw()

    def _make(self) -> None:
        import pyqtgraph as pg

        self._plot = pg.PlotWidget()
        self._plot.setMenuEnabled(False)
        self._plot.hideButtons()
        self._plot.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        item = self._plot.getPlotItem()
        item.setDownsampling(auto=True, mode="peak")
        item.setClipToView(True)
        item.showGrid(x=True, y=True, alpha=0.18)
        for side, title in (("bottom", self._titles[0]), ("left", self._titles[1])):
            axis = item.getAxis(side)
            axis.setLabel(title)
            axis.setTickFont(font("small"))
            axis.enableAutoSIPrefix(False)
        item.sigXRangeChanged.connect(self._choose_detail)
        self._colours()
        self._waiting.hide()
        self.layout().addWidget(self._plot)

    def _colours(self) -> None:
        self._plot.setBackground(colour("card"))
        for side in ("bottom", "left"):
            axis = self._plot.getPlotItem().getAxis(side)
            axis.setPen(colour("rule"))
            axis.setTextPen(colour("quiet"))

    def _draw(self) -> None:
        import pyqtgraph as pg

        item = self._plot.getPlotItem()
        shape = (len(self._series), int(self._ahead is not None), len(self._lines))
        if shape == self._drawn and self._items:
            # the live page redraws often: only the data changes
            for drawn, (_, x, y) in zip(
                self._items, [*self._series, *([self._ahead] if self._ahead else [])], strict=False
            ):
                drawn.setData(np.asarray(x), np.asarray(y))
            return
        item.clear()
        self._items, self._drawn, self._coarse = [], shape, []
        for index, (name, x, y) in enumerate(self._series):
            x, y = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
            # wide lines cost ten times a hairline: only where there are few points
            few = len(x) < 20_000
            pen = pg.mkPen(colour("accent" if index % 2 == 0 else "close"), width=1.6 if few else 1)
            dash = DASHES[index % len(DASHES)]
            if dash is not None:
                pen.setDashPattern(list(dash))
            drawn = item.plot(x, y, pen=pen, antialias=few)
            self._items.append(drawn)
            if len(x) > MANY:
                self._coarse.append(_Detail(drawn, x, y))
            if len(self._series) > 1 and len(x):
                spot = int(len(x) * (0.3 + 0.15 * (index % 4)))
                text = pg.TextItem(name, color=colour("quiet"), anchor=(0.5, 1.1))
                text.setFont(font("small"))
                text.setPos(float(x[spot]), float(y[spot]))
                item.addItem(text, ignoreBounds=True)
        if self._ahead is not None:
            pen = pg.mkPen(colour("quiet"), width=1.2)
            pen.setDashPattern([2, 4])
            self._items.append(item.plot(np.asarray(self._ahead[1]), np.asarray(self._ahead[2]), pen=pen))
        for axis, value, name in self._lines:
            line = pg.InfiniteLine(
                pos=value,
                angle=90 if axis == "x" else 0,
                pen=pg.mkPen(colour("quiet"), width=1, style=Qt.PenStyle.DashLine),
                label=name,
                labelOpts={"color": colour("quiet"), "position": 0.08 if axis == "y" else 0.9, "fill": colour("card")},
            )
            item.addItem(line)
        item.autoRange()
        item.enableAutoRange()
        self._choose_detail()

    def _choose_detail(self) -> None:
        low, high = self._plot.getPlotItem().viewRange()[0]
        for detail in self._coarse:
            detail.choose(low, high)
