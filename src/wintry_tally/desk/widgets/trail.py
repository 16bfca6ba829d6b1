"""Trail: the stations of a sample in working order; it is the navigation."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from PySide6.QtCore import QPointF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QFontMetrics, QKeyEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QSizePolicy, QWidget

from wintry_tally.desk.theme.style import colour, font


class StationState(StrEnum):
    """How a station stands."""

    DONE = "done"
    RUNNING = "running"
    NEXT = "next"
    OPEN = "open"


@dataclass(frozen=True)
class Station:
    """One station: its key and its name."""

    key: str
    name: str


STATIONS = (
    Station("arrival", "Arrival"),
    Station("charge", "Charge"),
    Station("rest", "Rest"),
    Station("capacity", "Capacity"),
    Station("load", "Load"),
    Station("cold", "Cold"),
    Station("shelf", "Shelf"),
    Station("revival", "Revival"),
    Station("curves", "Curves"),
    Station("ledger", "Ledger"),
    Station("report", "Report"),
)


def _draw_mark(painter: QPainter, at: QPointF, state: StationState, chosen: bool) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    ink = colour("accent" if chosen or state is StationState.RUNNING else "quiet")
    if state is StationState.DONE:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(ink)
        painter.drawEllipse(at, 5, 5)
    elif state is StationState.RUNNING:
        painter.setPen(QPen(ink, 2))
        painter.setBrush(colour("paper"))
        painter.drawEllipse(at, 6, 6)
        painter.setBrush(ink)
        painter.drawEllipse(at, 2, 2)
    elif state is StationState.NEXT:
        painter.setPen(QPen(colour("accent"), 2))
        painter.setBrush(colour("card"))
        painter.drawEllipse(at, 5, 5)
    elif state is StationState.OPEN:
        painter.setPen(QPen(ink, 1.5))
        painter.setBrush(colour("paper"))
        painter.drawEllipse(at, 4.5, 4.5)


SIDE, GAP, LEAST = 10, 6, 0.55
"""Room at each side of a name and, where there is little, between names, px; the least share of its usual size."""


class StationButton(QAbstractButton):
    """A station that can be opened."""

    def __init__(self, station: Station) -> None:
        super().__init__()
        self.station = station
        self.state = StationState.OPEN
        self.share = 1.0
        """Of the usual size its name is written in, where the trail has no room for more."""
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.set_state(self.state)

    def set_state(self, state: StationState) -> None:
        """How it stands now."""
        self.state = state
        self.setAccessibleName(f"{self.station.name}, {state.value}")
        self.setToolTip(f"{self.station.name}: {state.value}")
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows belong to the trail."""
        if event.key() in {Qt.Key.Key_Left, Qt.Key.Key_Right}:
            event.ignore()
        else:
            super().keyPressEvent(event)

    def sizeHint(self) -> QSize:
        """Wider than one not planned."""
        metrics = QFontMetrics(font("strong"))
        return QSize(metrics.horizontalAdvance(self.station.name) + 2 * SIDE, metrics.height() + 26)

    def minimumSizeHint(self) -> QSize:
        """With its name as small as it may be written."""
        hint = self.sizeHint()
        return QSize(int(LEAST * (hint.width() - 2 * SIDE)) + GAP, hint.height())

    def _font(self, role: str) -> QFont:
        made = font(role)
        made.setPointSizeF(self.share * made.pointSizeF())
        return made

    def paintEvent(self, event: QPaintEvent) -> None:
        """Mark on the line, name below, a thick rule under the one shown."""
        painter = QPainter(self)
        painter.setPen(QPen(colour("rule"), 1))
        painter.drawLine(QPointF(0, 12), QPointF(self.width(), 12))
        _draw_mark(painter, QPointF(self.width() / 2, 12), self.state, self.isChecked())
        painter.setFont(self._font("strong" if self.isChecked() else "body"))
        painter.setPen(colour("accent" if self.isChecked() or self.underMouse() else "ink"))
        text = self.rect().adjusted(0, 21, 0, 0)
        painter.drawText(text, Qt.AlignmentFlag.AlignHCenter, self.station.name)
        if self.isChecked() or self.hasFocus():
            painter.setPen(QPen(colour("accent"), 2 if self.isChecked() else 1))
            width = QFontMetrics(self._font("strong")).horizontalAdvance(self.station.name) / 2 + 2
            y = self.height() - 2
            painter.drawLine(QPointF(self.width() / 2 - width, y), QPointF(self.width() / 2 + width, y))


class Trail(QWidget):
    """The row of stations. `opened` carries the key of the one chosen."""

    opened = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Trail")
        layout = QHBoxLayout(self)
        layout.setSpacing(0)
        layout.setContentsMargins(0, 4, 0, 2)
        self._buttons: dict[str, StationButton] = {}
        for station in STATIONS:
            made = StationButton(station)
            made.clicked.connect(lambda _checked=False, key=station.key: self.opened.emit(key))
            self._buttons[station.key] = made
            layout.addWidget(made)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Names that have no room side by side are all written smaller."""
        super().resizeEvent(event)
        metrics = QFontMetrics(font("strong"))
        longest = max(metrics.horizontalAdvance(made.station.name) for made in self._buttons.values())
        share = (self.width() / len(self._buttons) - GAP) / max(1, longest)
        for made in self._buttons.values():
            made.share = max(LEAST, min(1.0, share))
            made.update()

    def set_states(self, states: dict[str, StationState]) -> None:
        """How the stations stand."""
        for key, state in states.items():
            self._buttons[key].set_state(state)

    def show_station(self, key: str) -> None:
        """Mark the one shown; a view that is no station marks none."""
        for made in self._buttons.values():
            made.setAutoExclusive(False)
            made.setChecked(made.station.key == key)
            made.setAutoExclusive(True)

    def button(self, key: str) -> StationButton:
        """The button of a station."""
        return self._buttons[key]

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Left and Right walk the stations."""
        keys = list(self._buttons)
        here = next((key for key in keys if self._buttons[key].hasFocus()), None)
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key()))
        if here is None or step is None:
            super().keyPressEvent(event)
            return
        target = self._buttons[keys[(keys.index(here) + step) % len(keys)]]
        target.setFocus()
        target.click()
