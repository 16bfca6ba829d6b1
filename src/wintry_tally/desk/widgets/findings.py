"""Findings and remarks as a list: a mark, a sentence, its working or its offer beside it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QPointF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wintry_tally.core.battery import Finding
from wintry_tally.desk.theme.style import colour
from wintry_tally.desk.widgets.parts import anew, button, label, row

WEIGHT_WORDS = {
    "good": "in order",
    "note": "note",
    "warning": "heed this",
    "contradiction": "contradiction",
    "heed": "heed this",
    "bar": "bars the start",
}


class Mark(QWidget):
    """A small drawn mark for a weight; its word is its accessible name."""

    def __init__(self, weight: str) -> None:
        super().__init__()
        self.weight = weight
        self.setFixedSize(QSize(18, 18))
        self.setToolTip(WEIGHT_WORDS[weight])
        self.setAccessibleName(WEIGHT_WORDS[weight])

    def paintEvent(self, event: QPaintEvent) -> None:
        """Check, dash, triangle, two opposed arrows, or a bar."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.weight == "good":
            painter.setPen(QPen(colour("met"), 2))
            painter.drawPolyline([QPointF(4, 9), QPointF(8, 13), QPointF(14, 5)])
        elif self.weight == "note":
            painter.setPen(QPen(colour("quiet"), 2))
            painter.drawLine(QPointF(4, 9), QPointF(14, 9))
        elif self.weight in {"warning", "heed"}:
            painter.setPen(QPen(colour("close"), 1.8))
            painter.drawPolygon(QPolygonF([QPointF(9, 3), QPointF(15.5, 15), QPointF(2.5, 15)]))
            painter.drawLine(QPointF(9, 7.5), QPointF(9, 11))
        elif self.weight == "bar":
            painter.setPen(QPen(colour("missed"), 2))
            painter.drawEllipse(QPointF(9, 9), 6, 6)
            painter.drawLine(QPointF(5, 9), QPointF(13, 9))
        else:
            painter.setPen(QPen(colour("missed"), 1.8))
            painter.drawLine(QPointF(3, 6), QPointF(15, 6))
            painter.drawLine(QPointF(3, 12), QPointF(15, 12))
            painter.drawLine(QPointF(6, 15), QPointF(12, 3))


class FindingList(QWidget):
    """A column of findings. `opened` carries a Working."""

    opened = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._holder = QVBoxLayout(self)
        self._holder.setContentsMargins(0, 0, 0, 0)
        self.reset()
        self.messages: list[str] = []

    def show_findings(self, findings: Sequence[Finding], nothing: str = "") -> None:
        """Show these, gravest first."""
        self.messages = []
        with anew(self._holder, QVBoxLayout()) as self._column:
            self._column.setSpacing(6)
            self._fill(findings, nothing)

    def _fill(self, findings: Sequence[Finding], nothing: str) -> None:
        order = {"contradiction": 0, "warning": 1, "note": 2, "good": 3}
        for finding in sorted(findings, key=lambda item: order[item.weight]):
            working = finding.working
            open_it = None if working is None else (lambda found=working: self.opened.emit(found))
            self.add(finding.weight, finding.message, "Working" if working else "", open_it)
        if not findings and nothing:
            self._column.addWidget(label(nothing, "quiet", wrap=True))

    def reset(self) -> None:
        """Take all out."""
        with anew(self._holder, QVBoxLayout()) as self._column:
            self._column.setSpacing(6)
        self.messages = []

    def add(self, weight: str, message: str, action: str = "", act: Callable[[], object] | None = None) -> None:
        """One line; `action` is the word of a link at its end."""
        self.messages.append(message)
        words = label(message, wrap=True)
        words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        mark = Mark(weight)
        line = row(mark, words)
        line.setStretch(1, 1)
        line.setAlignment(mark, Qt.AlignmentFlag.AlignTop)
        if act is not None:
            link = button(action, act, "link", f"{action}: {message}")
            line.addWidget(link)
            line.setAlignment(link, Qt.AlignmentFlag.AlignTop)
        self._column.addLayout(line)
