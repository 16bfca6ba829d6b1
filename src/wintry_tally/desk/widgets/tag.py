"""Tag: a sample as a hang-tag, with its code, model, family, what it is doing now, and its tally."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QSizePolicy, QWidget

from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.desk.preferences import shown
from wintry_tally.desk.theme.style import colour, font
from wintry_tally.desk.widgets.tally import draw_tally, tally_words


class Tag(QAbstractButton):
    """A hang-tag; checked when it is the sample shown."""

    def __init__(self, code: str, title: str, family: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.code, self._title, self._family = code, title, family
        self._doing = ""
        self._live = False
        self._short = ""
        self._outcomes: tuple[Outcome, ...] | None = None
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._describe()

    def set_facts(self, title: str, family: str) -> None:
        """Maker and model, family in words."""
        if (title, family) != (self._title, self._family):
            self._title, self._family = title, family
            self._describe()

    def set_doing(self, text: str, live: bool = False, short: str = "") -> None:
        """What it is doing now; `short` where the tag is too narrow for all of it."""
        text, short = shown(text), shown(short)
        if (text, live, short) != (self._doing, self._live, self._short):
            self._doing, self._live, self._short = text, live, short
            self._describe()

    def set_outcomes(self, outcomes: Sequence[Outcome] | None) -> None:
        """Its tally; None while it is being worked out."""
        made = None if outcomes is None else tuple(outcomes)
        if made != self._outcomes:
            self._outcomes = made
            self._describe()

    def doing(self) -> str:
        """What it says it is doing."""
        return self._doing

    def _describe(self) -> None:
        words = tally_words(self._outcomes) if self._outcomes is not None else "being worked out"
        self.setAccessibleName(f"{self.code}, {self._title}, {self._family}. {self._doing}. {words}")
        self.setToolTip(f"{self.code} · {self._title}\n{self._family}\n{self._doing}\n{words}")
        self.update()

    def sizeHint(self) -> QSize:
        """Four lines high."""
        body, small = QFontMetrics(font("strong")).height(), QFontMetrics(font("small")).height()
        return QSize(240, body * 2 + small * 2 + 34)

    def minimumSizeHint(self) -> QSize:
        """Narrower than its hint, as high."""
        return QSize(164, self.sizeHint().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        """A card with a cut corner and a hole, tied by a thread."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(self.rect()).adjusted(1.5, 3.5, -1.5, -3.5)
        cut = 13.0
        path = QPainterPath(QPointF(area.left() + cut, area.top()))
        for point in (
            area.topRight(), area.bottomRight(), area.bottomLeft(), QPointF(area.left(), area.top() + cut),
        ):  # fmt: skip
            path.lineTo(point)
        path.closeSubpath()
        chosen = self.isChecked()
        painter.setBrush(colour("wash" if chosen else "card"))
        edge = "accent" if chosen or self.hasFocus() or self.underMouse() else "rule"
        painter.setPen(QPen(colour(edge), 2 if chosen or self.hasFocus() else 1))
        painter.drawPath(path)
        hole = QPointF(area.left() + cut + 2, area.top() + cut + 1)
        painter.setBrush(colour("paper"))
        painter.setPen(QPen(colour("quiet"), 1.2))
        painter.drawEllipse(hole, 3.4, 3.4)
        painter.drawLine(hole + QPointF(-2.4, -2.4), QPointF(area.left(), area.top() - 1))

        left, width = int(area.left() + 30), int(area.width() - 40)
        body, small = QFontMetrics(font("strong")), QFontMetrics(font("small"))
        y = int(area.top()) + 6 + body.ascent()
        painter.setFont(font("strong"))
        painter.setPen(colour("ink"))
        painter.drawText(left, y, body.elidedText(self.code, Qt.TextElideMode.ElideRight, width))
        code_width = body.horizontalAdvance(self.code) + 8
        plain = QFontMetrics(font("body"))
        painter.setFont(font("body"))
        painter.drawText(
            left + code_width, y, plain.elidedText(self._title, Qt.TextElideMode.ElideRight, width - code_width)
        )
        y += small.height() + 3
        painter.setFont(font("small"))
        painter.setPen(colour("quiet"))
        painter.drawText(left, y, small.elidedText(self._family, Qt.TextElideMode.ElideRight, width))
        y += small.height() + 3
        if self._live:
            painter.setPen(colour("accent"))
            painter.setBrush(colour("accent"))
            painter.drawEllipse(QPointF(left - 9, y - small.ascent() / 2 + 1), 3.0, 3.0)
        doing = self._doing if not self._short or small.horizontalAdvance(self._doing) <= width else self._short
        painter.drawText(left, y, small.elidedText(doing, Qt.TextElideMode.ElideRight, width))
        top = y + 6
        if self._outcomes is None:
            painter.setPen(colour("quiet"))
            painter.drawText(left, int(top + small.ascent()), "…")
        elif self._outcomes:
            draw_tally(painter, self._outcomes, left, top, 15.0, self.width() - left - 8.0)
        else:
            painter.setPen(colour("quiet"))
            painter.drawText(left, int(top + small.ascent()), "no claims yet")
