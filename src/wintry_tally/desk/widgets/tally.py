"""Tally: one stroke for each claim, in fives. The shape carries the outcome; colour only repeats it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from wintry_tally.core.verdict.outcome import OUTCOME_WORDS, Outcome
from wintry_tally.desk.theme.style import colour

STEP = 9.0
GROUP_GAP = 8.0
COLOURS = {
    Outcome.MET: "met",
    Outcome.MISSED: "missed",
    Outcome.TOO_CLOSE: "close",
    Outcome.NOT_TESTED: "quiet",
    Outcome.CANNOT_TEST: "quiet",
}


def tally_words(outcomes: Sequence[Outcome]) -> str:
    """ "3 met, 1 missed, 2 not tested": what the strokes say, in words."""
    parts = []
    for outcome in Outcome:
        number = sum(1 for item in outcomes if item is outcome)
        if number:
            parts.append(f"{number} {OUTCOME_WORDS[outcome].lower()}")
    return ", ".join(parts) or "no claims yet"


def tally_width(count: int) -> float:
    """Width of so many strokes."""
    return count * STEP + (max(0, count - 1) // 5) * GROUP_GAP


def draw_stroke(painter: QPainter, outcome: Outcome, x: float, top: float, height: float) -> None:
    """One stroke in a cell STEP wide.

    Upright: met. Struck through: missed. Leaning and dashed: too close. A dot: not tested. Hollow: cannot be tested.
    """
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    ink = colour(COLOURS[outcome])
    middle, centre = x + STEP / 2, top + height / 2
    pen = QPen(ink, 2.2)
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    painter.setPen(pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if outcome is Outcome.MET:
        painter.drawLine(QPointF(middle, top + 1), QPointF(middle, top + height - 1))
    elif outcome is Outcome.MISSED:
        painter.drawLine(QPointF(middle, top + 1), QPointF(middle, top + height - 1))
        painter.drawLine(QPointF(middle - 4.5, centre + 3), QPointF(middle + 4.5, centre - 3))
    elif outcome is Outcome.TOO_CLOSE:
        pen.setStyle(Qt.PenStyle.CustomDashLine)
        pen.setDashPattern([1.6, 1.6])
        painter.setPen(pen)
        painter.drawLine(QPointF(middle - 2.5, top + height - 1), QPointF(middle + 2.5, top + 1))
    elif outcome is Outcome.NOT_TESTED:
        painter.setBrush(ink)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawEllipse(QPointF(middle, centre), 2.0, 2.0)
    else:
        painter.setPen(QPen(ink, 1.2))
        painter.drawRoundedRect(QRectF(middle - 2.2, top + 2, 4.4, height - 4), 2, 2)


def draw_tally(
    painter: QPainter, outcomes: Sequence[Outcome], x: float, top: float, height: float, width: float = 1e9
) -> None:
    """All strokes from x on, in fives; closer together where they would not fit the width."""
    squeeze = min(1.0, width / max(1.0, tally_width(len(outcomes))))
    for index, outcome in enumerate(outcomes):
        draw_stroke(painter, outcome, x + squeeze * (index * STEP + (index // 5) * GROUP_GAP), top, height)


class Tally(QWidget):
    """The strokes as a widget; its words are its accessible name and tooltip."""

    def __init__(self, outcomes: Sequence[Outcome] = (), height: int = 18, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._outcomes: tuple[Outcome, ...] = tuple(outcomes)
        self._height = height
        self.set_outcomes(outcomes)

    def set_outcomes(self, outcomes: Sequence[Outcome]) -> None:
        """Show these."""
        self._outcomes = tuple(outcomes)
        self.setAccessibleName(tally_words(self._outcomes))
        self.setToolTip(tally_words(self._outcomes))
        self.setFixedSize(self.sizeHint())
        self.update()

    def outcomes(self) -> tuple[Outcome, ...]:
        """What is shown."""
        return self._outcomes

    def sizeHint(self) -> QSize:
        """As wide as its strokes."""
        return QSize(max(10, int(tally_width(len(self._outcomes))) + 2), self._height)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the strokes."""
        draw_tally(QPainter(self), self._outcomes, 1.0, 0.0, float(self._height))
