"""A formula in the window: its words at once, its relations drawn a moment later, each a picture that says its words."""

from __future__ import annotations

from PySide6.QtCore import QByteArray, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QPainter, QPaintEvent, QPalette, QResizeEvent
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QLabel, QSizePolicy, QVBoxLayout, QWidget

from wintry_tally.desk.theme.style import font
from wintry_tally.desk.widgets.parts import label
from wintry_tally.report.formula import SIZE, Picture, picture, pieces

LEAST = 0.72
"""A relation that is wider than its place is drawn smaller, down to this share; a wider one is written, and wraps."""


class Drawn(QWidget):
    """One relation as a picture in the colour of the text around it."""

    def __init__(self, words: str, made: Picture) -> None:
        super().__init__()
        self.setAccessibleName(words)
        self.setToolTip(words)
        self._made = made
        self._colour, self._renderer = "", QSvgRenderer()
        self._scale = self.fontInfo().pixelSize() * 1.12 / SIZE
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(round(made.height * self._scale) + 4)

    @property
    def wide(self) -> float:
        """How wide it is drawn where there is room, px."""
        return self._made.width * self._scale

    def sizeHint(self) -> QSize:
        """See QWidget."""
        return QSize(round(self.wide), self.height())

    def paintEvent(self, _event: QPaintEvent) -> None:
        """See QWidget."""
        colour = self.palette().color(QPalette.ColorRole.WindowText).name()
        if colour != self._colour:
            self._colour = colour
            self._renderer.load(QByteArray(self._made.svg.replace("currentColor", colour).encode()))
        scale = self._scale * min(1.0, self.width() / max(1.0, self.wide))
        width, height = self._made.width * scale, self._made.height * scale
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._renderer.render(painter, QRectF(0.0, (self.height() - height) / 2.0, width, height))


class Formula(QWidget):
    """All of a formula's text: one part a line."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.setAccessibleName(text)
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(3)
        self._lines: list[tuple[QLabel, Drawn | None]] = []
        self._to_draw: list[tuple[int, str, str]] = []
        for number, piece in enumerate(pieces(text)):
            words = label(piece.words, "small" if not piece.mathml else "", wrap=True)
            if piece.mathml:
                words.setFont(font("mono"))
                self._to_draw.append((number, piece.words, piece.mathml))
            self._layout.addWidget(words)
            self._lines.append((words, None))
        # one a turn of the loop: each takes some milliseconds
        self._timer = QTimer(self, interval=0)
        self._timer.timeout.connect(self._draw_next)
        if self._to_draw:
            self._timer.start()

    @property
    def drawn(self) -> bool:
        """Whether every relation is drawn."""
        return not self._to_draw

    def _draw_next(self) -> None:
        number, words, mathml = self._to_draw.pop(0)
        if not self._to_draw:
            self._timer.stop()
        drawn = Drawn(words, picture(mathml))
        plain = self._lines[number][0]
        self._lines[number] = (plain, drawn)
        self._layout.insertWidget(self._layout.indexOf(plain), drawn, 0, Qt.AlignmentFlag.AlignTop)
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """See QWidget."""
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        for plain, drawn in self._lines:
            if drawn is not None:
                fits = LEAST * drawn.wide <= self.width()
                drawn.setVisible(fits)
                plain.setVisible(not fits)
