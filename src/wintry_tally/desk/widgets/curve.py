"""Curve: voltage against time or charge. The plot library is loaded when the first curve is shown, not before."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from enum import IntEnum
from functools import partial
from typing import Any, Self

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent, QPen, QShowEvent, QWheelEvent
from PySide6.QtWidgets import QApplication, QVBoxLayout, QWidget

from wintry_tally.core.trace.outline import MANY, Outline, outline
from wintry_tally.desk.preferences import shown
from wintry_tally.desk.theme.style import colour, font
from wintry_tally.desk.widgets import curve_keys
from wintry_tally.desk.widgets.curve_key import CurveKey, edge_of, pen_of
from wintry_tally.desk.widgets.curve_parts import LEAST_SPAN, Detail, Series, Stretch, decorations, line_at
from wintry_tally.desk.widgets.parts import label, page_around
from wintry_tally.desk.widgets.turns import turns

FEW, SYMBOLS = 12, ("o", "s")
"""So few points are shown one by one, each curve's in a shape of its own."""
ROOM = 1.0
"""How far beyond what is drawn a plot can be moved, as a share of it."""


def _plot_class() -> Any:
    import pyqtgraph as pg

    class Plot(pg.PlotWidget):
        """A plot on a page that scrolls leaves the wheel to the page; with Ctrl held it is the plot's.

        `late`: it was just come upon, and is painted in its turn, apart from the page it lies on.
        """

        late = False

        def paintEvent(self, event: QPaintEvent) -> None:
            if self.late:
                QPainter(self.viewport()).fillRect(event.rect(), self.backgroundBrush())
            else:
                super().paintEvent(event)

        def wheelEvent(self, event: QWheelEvent) -> None:
            held = event.modifiers() & Qt.KeyboardModifier.ControlModifier
            page = page_around(self)
            if held or page is None:
                super().wheelEvent(event)
                return
            QApplication.sendEvent(page.verticalScrollBar(), event)
            event.accept()

    return Plot


def _ticks(strings: Callable[..., list[str]], *asked: object) -> list[str]:
    """The numbers along an axis, with the reader's decimal mark."""
    return [shown(one) for one in strings(*asked)]


class _LevelWords:
    """What stands at a level as it is dragged; the plot library asks it as it would ask a format."""

    def format(self, value: float) -> str:
        """In the reader's units."""
        return shown(f"drop-out {value:.2f} V")


_NOWHERE: tuple[float | None, float | None] | None = None


class Step(IntEnum):
    """What is left to be done of a plot, in this order, each in a turn of its own."""

    CURVES = 0
    MARKS = 1
    """Bands, marks and the level that can be dragged."""
    PICTURE = 2
    """Painting it: until then what was there stays as it is seen, or its place is blank where it was just come upon."""


class Curve(QWidget):
    """One plot. Curves are told apart by dash as well as by colour, and named in a key above it.

    `level_moved` carries where a draggable level stands while it is dragged, `stretch_moved` the two ends of a stretch.
    """

    made_ahead = True
    """Whether its plot is made before it is shown, while nobody does anything."""
    level_moved = Signal(float)
    stretch_moved = Signal(float, float)

    def __init__(self, name: str, x_title: str, y_title: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self._titles = (x_title, y_title)
        self._plot: Any = None
        self._series: list[Series] = []
        self._outlines: list[Outline] = []
        self._ahead: Series | None = None
        self._lines: list[tuple[str, float, str]] = []
        self._items: list[Any] = []
        self._drawn: tuple[object, ...] = ()
        self._coarse: list[Detail] = []
        self._bands: list[Stretch] = []
        self._marks: list[tuple[float, str]] = []
        self._level: float | None = None
        self._level_line: Any = None
        self._stretch_item: Any = None
        self._extra: list[Any] = []
        self._ticks: list[tuple[float, str]] = []
        self._single = False
        self._left: set[Step] = set()
        self._look = _NOWHERE
        self.least_named = 2
        """From so many curves on they are named in a key."""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(2, 2, 2, 2)
        self._waiting = label("", "quiet")
        self._waiting.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.setSpacing(2)
        self.key = CurveKey()
        layout.addWidget(self.key)
        layout.addWidget(self._waiting)
        self.setMinimumHeight(150)

    def show_curves(
        self, series: Sequence[Series], ahead: Series | None = None, lines: Sequence[tuple[str, float, str]] = (),
        single: bool = False, outlines: Mapping[str, Outline] | None = None,
    ) -> None:  # fmt: skip
        """Show these (label, x, y); `ahead` is a forecast; `lines` are (x or y, value, label); `single`: points not joined.

        `outlines`: of long ones, by their label; those that are not there are made here.
        """
        self._single = single
        self._series = [(shown(name), np.asarray(x, float), np.asarray(y, float)) for name, x, y in series]
        self._outlines = [
            (outlines or {}).get(name) or outline(x, y)
            for name, (_, x, y) in zip((s[0] for s in series), self._series, strict=True)
        ]
        self._ahead, self._lines = ahead, [(which, at, shown(words)) for which, at, words in lines]
        if self._plot is None:
            return
        if self._items and Step.CURVES not in self._left and self._shape() == self._drawn and self.isVisible():
            self._draw()  # the live page: only the data changes
        else:
            self._look = None
            self._await_turn(Step.CURVES, Step.MARKS, Step.PICTURE)

    def _await_turn(self, *steps: Step) -> None:
        """These steps too, in their turns; where nobody sees it, once it is seen."""
        self._left.update(steps)
        if self.isVisible() and self._left:
            if not self._plot.late:
                self._plot.setUpdatesEnabled(False)
            turns().ask(self, self._next)

    def _next(self) -> None:
        """The next step; none that nobody sees."""
        if self._left and self.isVisible():
            self._take(min(self._left))
            self._await_turn()

    def _take(self, step: Step) -> None:
        self._left.discard(step)
        if step is Step.CURVES:
            self._redraw()
        elif step is Step.MARKS:
            self._dress()
        else:
            self._plot.late = False
            self._plot.setUpdatesEnabled(True)
            self._plot.viewport().update()

    def _shape(self) -> tuple[object, ...]:
        """What is drawn, but for the points of curves that are short; a long one stays in memory while it is drawn."""
        looks = ((name, id(y) if len(y) > MANY else len(y) <= FEW) for name, _, y in self._series)
        return (*looks, int(self._ahead is not None), *self._lines)

    def settle(self) -> None:
        """Draw now what is to be drawn a moment later, when the rest of a page has had its turn; it is painted then."""
        for step in (Step.CURVES, Step.MARKS):
            if step in self._left:
                self._take(step)

    def _redraw(self) -> None:
        self._draw()
        if self._look is not None:
            self.look_at_all(*self._look)
        self._plot.getPlotItem().getViewBox().prepareForPaint()  # else it is painted, fitted, and painted once more

    def _dress(self) -> None:
        item = self._plot.getPlotItem()
        for old in self._extra:
            item.removeItem(old)
        self._extra = decorations(item, self._series, self._bands, self._marks)
        self._place_names()
        self._put_level()

    def decorate(self, bands: Sequence[Stretch] = (), marks: Sequence[tuple[float, str]] = ()) -> None:
        """Stretches shaded and named along the axis, and named instants; they stay until the next call."""
        self._bands = [(low, high, shown(words), live) for low, high, words, live in bands]
        self._marks = [(at, shown(words)) for at, words in marks]
        if self._plot is not None:
            self._await_turn(Step.MARKS, Step.PICTURE)

    def set_level(self, value: float | None) -> None:
        """A horizontal line that can be dragged; None takes it away."""
        self._level = value
        if self._plot is not None and Step.MARKS not in self._left:
            self._put_level()

    def set_stretch(self, low: float | None, high: float | None = None) -> None:
        """A stretch of the axis whose two ends can be dragged; None takes it away."""
        if self._plot is None:
            return
        import pyqtgraph as pg

        self.settle()
        if self._stretch_item is not None:
            self._plot.removeItem(self._stretch_item)
            self._stretch_item = None
        if low is None or high is None:
            return
        tint = QColor(colour("accent"))
        tint.setAlpha(40)
        item = pg.LinearRegionItem((low, high), brush=tint, pen=pg.mkPen(colour("accent"), width=1.5))
        item.setZValue(5)
        item.sigRegionChanged.connect(lambda region: self.stretch_moved.emit(*map(float, region.getRegion())))
        self._plot.addItem(item)
        self._stretch_item = item

    def seen(self) -> tuple[float, float]:
        """The stretch of the axis in view."""
        if self._plot is None:
            return 0.0, 1.0
        self.settle()
        (low, high), _ = self._plot.viewRange()
        return float(low), float(high)

    @property
    def made(self) -> bool:
        """Whether its plot is there."""
        return self._plot is not None

    def by_keyboard(self) -> Self:
        """Let the keyboard come to it, and say its keys."""
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleDescription(curve_keys.SAYS)
        self.setToolTip(curve_keys.SAYS)
        return self

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """See `curve_keys`."""
        self.settle()
        if self._plot is None or not curve_keys.pressed(self, event):
            super().keyPressEvent(event)

    def paintEvent(self, _event: QPaintEvent) -> None:
        """A frame while it has the keyboard."""
        if self.hasFocus():
            painter = QPainter(self)
            painter.setPen(QPen(colour("accent"), 2.0))
            painter.drawRect(self.rect().adjusted(1, 1, -1, -1))

    def show_from(self, low: float, high: float) -> None:
        """This stretch of the axis, as far as it may be moved."""
        self.settle()
        if self._plot is not None:
            self._plot.getPlotItem().setXRange(low, high, padding=0)

    def move_end(self, second: bool, by: float) -> bool:
        """Move one end of a stretch that is measured; False where none is."""
        if self._stretch_item is None:
            return False
        ends = list(map(float, self._stretch_item.getRegion()))
        ends[second] += by
        self._stretch_item.setRegion(ends)
        return True

    def set_titles(self, x_title: str, y_title: str) -> None:
        """Other words along the axes."""
        self._titles = (x_title, y_title)
        if self._plot is not None:
            item = self._plot.getPlotItem()
            item.getAxis("bottom").setLabel(x_title)
            item.getAxis("left").setLabel(y_title)

    def set_ticks(self, ticks: Sequence[tuple[float, str]]) -> None:
        """Places of the axis below with their words, where it is not even; none for plain numbers."""
        self._ticks = list(ticks)
        if self._plot is not None:
            self._plot.getPlotItem().getAxis("bottom").setTicks([self._ticks] if self._ticks else None)

    def look_at(self, low: float, high: float) -> None:
        """Zoom to a stretch of the axis, with a margin, the voltage fitted to it."""
        if self._plot is None:
            return
        self.settle()
        margin = max(1e-6, 0.6 * (high - low)) or 1e-3
        item = self._plot.getPlotItem()
        item.setXRange(low - margin, high + margin, padding=0)
        item.enableAutoRange(axis="y")
        item.setAutoVisible(y=True)

    def look_at_all(self, low: float | None = None, high: float | None = None) -> None:
        """Everything again; between two values of the vertical axis where they are given."""
        if self._plot is None:
            return
        if Step.CURVES in self._left:
            self._look = (low, high)
            return
        item = self._plot.getPlotItem()
        item.setAutoVisible(y=False)
        item.autoRange()
        item.enableAutoRange()
        if low is not None and high is not None and high > low:
            item.setYRange(low, high, padding=0.08)

    def follow(self, other: Curve) -> None:
        """Keep the same stretch of the axis in view as another curve; both are made if they are not yet."""
        for curve in (self, other):
            if curve._plot is None:
                curve.prepare()
        self._plot.setXLink(other._plot)
        for curve in (self, other):
            curve._plot.getPlotItem().getAxis("left").setWidth(52)

    def theme_changed(self) -> None:
        """Draw with the colours now in force."""
        if self._plot is not None:
            self._colours()
            self.key.update()
            self._drawn = ()
            self._draw()
            self._dress()

    def showEvent(self, event: QShowEvent) -> None:
        """Load the plot library the first time."""
        super().showEvent(event)
        self.prepare()
        self._plot.late = True
        self._plot.setUpdatesEnabled(True)  # else what the page before showed there would stay
        self._await_turn(Step.PICTURE)

    def prepare(self) -> None:
        """Make the plot, as it is when first shown; what loads its library takes a moment."""
        if self._plot is None:
            self._make()
            self._draw()
            self._dress()

    def _make(self) -> None:

        self._plot = _plot_class()()
        self._plot.setMenuEnabled(False)
        self._plot.hideButtons()
        self._plot.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        item = self._plot.getPlotItem()
        item.setDownsampling(auto=True, mode="peak")
        item.setClipToView(True)
        item.showGrid(x=True, y=True, alpha=0.18)
        # a meter's noise is not blown up to fill the picture
        item.getViewBox().setLimits(minYRange=LEAST_SPAN)
        for side, title in (("bottom", self._titles[0]), ("left", self._titles[1])):
            axis = item.getAxis(side)
            axis.setLabel(title)
            axis.setTickFont(font("small"))
            axis.enableAutoSIPrefix(False)
            axis.tickStrings = partial(_ticks, axis.tickStrings)
        item.sigXRangeChanged.connect(self._choose_detail)
        item.sigYRangeChanged.connect(lambda *_: self._place_names() if self._extra else None)
        self.set_ticks(self._ticks)
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
        shape = self._shape()
        if shape == self._drawn and self._items:
            for drawn, (_, x, y) in zip(
                self._items, [*self._series, *([self._ahead] if self._ahead else [])], strict=False
            ):
                if len(x) <= MANY:
                    drawn.setData(np.asarray(x), np.asarray(y))
            self._keep_in_sight()
            return
        item.clear()
        self._stretch_item = None
        self._items, self._drawn, self._coarse = [], shape, []
        self.key.show_names([name for name, _, _ in self._series], self.least_named, self._single)
        for index, (_, x, y) in enumerate(self._series):
            # wide lines cost ten times a hairline: only where there are few points
            few = len(x) < 20_000
            pen = None if self._single else pen_of(index, 1.6 if few else 1.0)
            plot = partial(item.plot, pen=pen, antialias=few)
            detail = Detail(self._outlines[index]) if len(x) > MANY else None
            drawn = plot(x, y) if detail is None else detail.begin(plot)
            if len(x) <= FEW:
                drawn.setSymbol(SYMBOLS[index % len(SYMBOLS)])
                drawn.setSymbolSize(9)
                drawn.setSymbolPen(edge_of(index))
                drawn.setSymbolBrush(colour("card"))
            self._items.append(drawn)
            if detail is not None:
                self._coarse.append(detail)
        if self._ahead is not None:
            pen = pg.mkPen(colour("quiet"), width=1.2)
            pen.setDashPattern([2, 4])
            self._items.append(item.plot(np.asarray(self._ahead[1]), np.asarray(self._ahead[2]), pen=pen))
        for axis, value, name in self._lines:
            item.addItem(line_at(self._series, axis, value, name, self._single))
        self._keep_in_sight()
        item.autoRange()
        item.enableAutoRange()
        self._extra, self._level_line = [], None
        self._choose_detail()

    def _keep_in_sight(self) -> None:
        """However far it is zoomed out or moved, what is drawn stays in sight."""
        drawn = [*self._outlines, *([outline(*self._ahead[1:])] if self._ahead else [])]
        limits: dict[str, float | None] = {"xMin": None, "xMax": None, "yMin": None, "yMax": None}
        for axis, each in (("x", [one.across for one in drawn]), ("y", [one.up for one in drawn])):
            reach = [end for ends in each if ends is not None for end in ends]
            reach += [value for of, value, _ in self._lines if of == axis] if reach else []
            if reach:
                room = ROOM * max(max(reach) - min(reach), LEAST_SPAN)
                limits |= {f"{axis}Min": min(reach) - room, f"{axis}Max": max(reach) + room}
        self._plot.getPlotItem().getViewBox().setLimits(**limits)

    def _place_names(self) -> None:
        """Names of bands stay at the top, and show only where they fit."""
        item = self._plot.getPlotItem()
        (left, right), (_, top) = item.viewRange()
        width = max(1.0, item.vb.width())
        for text in self._extra:
            if hasattr(text, "place"):
                text.place(left, right, top, width)

    def _put_level(self) -> None:
        import pyqtgraph as pg

        item = self._plot.getPlotItem()
        if self._level is None:
            if self._level_line is not None:
                item.removeItem(self._level_line)
                self._level_line = None
            return
        if self._level_line is None:
            self._level_line = pg.InfiniteLine(
                pos=self._level,
                angle=0,
                movable=True,
                pen=pg.mkPen(colour("accent"), width=2, style=Qt.PenStyle.DashLine),
                hoverPen=pg.mkPen(colour("accent"), width=4),
                label="drop-out",
                labelOpts={"color": colour("accent"), "position": 0.5, "fill": colour("card"), "movable": False},
            )
            self._level_line.label.setFormat(_LevelWords())
            self._level_line.sigDragged.connect(lambda line: self.level_moved.emit(float(line.value())))
            item.addItem(self._level_line, ignoreBounds=True)
        elif abs(self._level_line.value() - self._level) > 1e-9:
            self._level_line.setValue(self._level)

    def _choose_detail(self) -> None:
        if self._extra:
            self._place_names()
        low, high = self._plot.getPlotItem().viewRange()[0]
        for detail in self._coarse:
            detail.choose(low, high)
