"""The key of a plot: which line is which, above it, where no name lies over another or over a curve."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from wintry_tally.desk.theme.style import colour, font

DASHES = (None, (6, 4), (2, 3), (8, 3, 2, 3))
SAMPLE, GAP, ROW = 30.0, 18.0, 18.0
"""How long a sample of a line is, how far names stand apart, how high a row is."""


def pen_of(index: int, width: float) -> QPen:
    """The line of the curve at a place: four dashes in two colours, so that eight are told apart."""
    pen = QPen(colour("accent" if (index + index // len(DASHES)) % 2 == 0 else "close"), width)
    pen.setCosmetic(True)
    dash = DASHES[index % len(DASHES)]
    if dash is not None:
        pen.setDashPattern(list(dash))
    return pen


def edge_of(index: int) -> QPen:
    """The pen of a curve's single points."""
    pen = pen_of(index, 1.8)
    pen.setStyle(Qt.PenStyle.SolidLine)
    return pen


class CurveKey(QWidget):
    """Samples of lines with their names, on as many rows as they need."""

    def __init__(self) -> None:
        super().__init__()
        self.names: list[str] = []
        self._single = False
        policy = QSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        self.hide()

    def show_names(self, names: Sequence[str], least: int = 2, single: bool = False) -> None:
        """Name these, in the order of their curves; fewer than `least` need no key; `single`: points, not lines."""
        self._single = single
        self.names = list(names)
        self.setAccessibleName("Key: " + ", ".join(self.names))
        self.setVisible(len(self.names) >= least)
        self.updateGeometry()
        self.update()

    def _places(self, width: float) -> list[tuple[QRectF, str]]:
        """Where each stands, and as much of its name as fits."""
        metrics, x, y, found = QFontMetricsF(font("small")), 0.0, 0.0, []
        for name in self.names:
            room = max(40.0, width - SAMPLE - 8)
            words = metrics.elidedText(name, Qt.TextElideMode.ElideRight, room)
            needs = SAMPLE + 6 + metrics.horizontalAdvance(words) + 2
            if x > 0 and x + needs > width:
                x, y = 0.0, y + ROW
            found.append((QRectF(x, y, needs, ROW), words))
            x += needs + GAP
        return found

    def heightForWidth(self, width: int) -> int:
        """See QWidget."""
        places = self._places(float(width))
        return int(places[-1][0].bottom()) if places else 0

    def sizeHint(self) -> QSize:
        """See QWidget."""
        return QSize(200, self.heightForWidth(max(200, self.width())))

    def paintEvent(self, _event: QPaintEvent) -> None:
        """Each line with its name."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font("small"))
        for index, (box, words) in enumerate(self._places(float(self.width()))):
            left, middle = box.left(), box.center().y()
            if self._single:
                painter.setPen(edge_of(index))
                shape = QRectF(left + SAMPLE - 12, middle - 4, 8, 8)
                painter.drawRect(shape) if index % 2 else painter.drawEllipse(shape)
            else:
                painter.setPen(pen_of(index, 2.0))
                painter.drawLine(QPointF(left, middle), QPointF(left + SAMPLE, middle))
            painter.setPen(colour("ink"))
            painter.drawText(box.adjusted(SAMPLE + 6, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words)
