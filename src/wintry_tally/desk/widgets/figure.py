"""Figure: any computed value on screen. Value ± uncertainty and unit; focusable, opens its Working, copies as text."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, QSize, Qt, Signal
from PySide6.QtGui import (
    QFocusEvent,
    QFontMetrics,
    QGuiApplication,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from wintry_tally.core.quantity import Quantity, format_quantity
from wintry_tally.core.working import Working
from wintry_tally.desk.preferences import shown
from wintry_tally.desk.theme.style import colour, font


def _preferred(value: str, doubt: str, unit: str) -> tuple[str, str, str]:
    """The same in the units preferred, in the same three parts."""
    whole = " ".join(part for part in (value, doubt, unit) if part)
    said = shown(whole)
    if said == whole or not unit:
        return (value, doubt, unit) if said == whole else (said, "", "")
    number, _, name = said.rpartition(" ")
    number, sign, doubt = number.partition(" ± ")
    return number, f"± {doubt}" if sign else "", name


class Figure(QWidget):
    """One value. `opened` carries its Working on a click, Enter or Space, or when focus comes by keyboard."""

    opened = Signal(object)

    def __init__(self, name: str, role: str = "figure", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._name, self._role = name, role
        self._value, self._doubt, self._unit = "–", "", ""
        self._working: Working | Callable[[], Working | None] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Minimum, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._describe()

    def set_quantity(
        self, quantity: Quantity | None, working: Working | Callable[[], Working | None] | None = None
    ) -> None:
        """Show a quantity, or nothing yet."""
        if quantity is None or quantity.value != quantity.value:
            self.set_text("–", "", "", None)
            return
        text = format_quantity(quantity)
        number = text.removesuffix(f" {quantity.unit}") if quantity.unit else text
        value, sign, doubt = number.partition(" ± ")
        unit = "" if quantity.unit == "money" else quantity.unit
        self.set_text(value, f"± {doubt}" if sign else "", unit, working)

    def set_text(
        self, value: str, doubt: str, unit: str, working: Working | Callable[[], Working | None] | None = None
    ) -> None:
        """Show a value already written out; in the units preferred."""
        value, doubt, unit = _preferred(value, doubt, unit)
        before = (self._value, self._doubt, self._unit)
        self._value, self._doubt, self._unit, self._working = value, doubt, unit, working
        if before != (value, doubt, unit):
            self._describe()
            self.updateGeometry()
            self.update()

    def text(self) -> str:
        """What it shows, as text."""
        return " ".join(part for part in (self._value, self._doubt, self._unit) if part)

    def working(self) -> Working | None:
        """Its derivation, if it has one yet."""
        return self._working() if callable(self._working) else self._working

    def _describe(self) -> None:
        name = shown(self._name)
        self.setAccessibleName(f"{name}: {self.text()}")
        self.setToolTip(f"{name}: {self.text()}\nEnter shows the working; Ctrl+C copies.")

    def _metrics(self) -> tuple[QFontMetrics, QFontMetrics]:
        small = "body" if self._role in {"figure"} else "title" if self._role == "huge" else "small"
        return QFontMetrics(font(self._role)), QFontMetrics(font(small))

    def sizeHint(self) -> QSize:
        """As wide as its text."""
        big, small = self._metrics()
        tail = " ".join(part for part in (self._doubt, self._unit) if part)
        return QSize(big.horizontalAdvance(self._value) + small.horizontalAdvance(f"  {tail}") + 10, big.height() + 4)

    def minimumSizeHint(self) -> QSize:
        """As its hint."""
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Value in ink, doubt and unit quieter, on one base line."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        big, _ = self._metrics()
        base = 2 + big.ascent()
        painter.setFont(font(self._role))
        painter.setPen(colour("ink"))
        painter.drawText(QPoint(4, base), self._value)
        x = 4 + big.horizontalAdvance(self._value)
        small = "body" if self._role == "figure" else "title" if self._role == "huge" else "small"
        painter.setFont(font(small))
        painter.setPen(colour("quiet"))
        tail = " ".join(part for part in (self._doubt, self._unit) if part)
        painter.drawText(QPoint(x + QFontMetrics(font(small)).horizontalAdvance(" "), base), tail)
        if self.hasFocus():
            painter.setPen(QPen(colour("accent"), 2))
            painter.drawLine(4, self.height() - 2, self.width() - 4, self.height() - 2)
        elif self.working() is not None and self._role != "huge":
            painter.setPen(QPen(colour("rule"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(4, self.height() - 2, self.width() - 6, self.height() - 2)

    def _open(self) -> None:
        working = self.working()
        if working is not None:
            self.opened.emit(working)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """A click opens the working."""
        self.setFocus()
        self._open()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter and Space open, Ctrl+C copies."""
        if event.matches(QKeySequence.StandardKey.Copy):
            QGuiApplication.clipboard().setText(self.text())
        elif event.key() in {Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space}:
            self._open()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """The Working pane follows the focus where the keyboard moves it."""
        if event.reason() in {Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason}:
            self._open()
        self.update()
        super().focusInEvent(event)
