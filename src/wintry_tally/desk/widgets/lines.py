"""Text fields that keep Ctrl+Z for themselves only while they have typing of their own to take back."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QEvent, Qt, QTimer, Signal
from PySide6.QtGui import (
    QFocusEvent,
    QFontMetricsF,
    QKeyEvent,
    QKeySequence,
    QResizeEvent,
    QTextCharFormat,
    QTextCursor,
)
from PySide6.QtWidgets import QLineEdit, QPlainTextEdit, QTextEdit

from wintry_tally.desk.theme.style import colour


def _passes_on(event: QEvent, undo_here: bool, redo_here: bool) -> bool:
    """Whether an undo or redo key is none of this field's: then the window's own command gets it."""
    if event.type() != QEvent.Type.ShortcutOverride or not isinstance(event, QKeyEvent):
        return False
    if event.matches(QKeySequence.StandardKey.Undo):
        return not undo_here
    return event.matches(QKeySequence.StandardKey.Redo) and not redo_here


class Line(QLineEdit):
    """One line."""

    def event(self, event: QEvent) -> bool:
        """See `_passes_on`."""
        if _passes_on(event, self.isUndoAvailable(), self.isRedoAvailable()):
            event.ignore()
            return False
        return super().event(event)


MOST_LINES = 8


class Lines(QPlainTextEdit):
    """One line or several, as a line is used: Enter enters it, Shift+Enter begins another; what is pasted keeps its lines.

    It is as high as what stands in it, up to so many lines. `typed` carries the text at every change.
    """

    typed = Signal(str)
    returnPressed = Signal()
    editingFinished = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setTabChangesFocus(True)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.document().setDocumentMargin(0)
        # a blank at the end of a wrapped line would draw it sideways, and the first letters out of sight
        sideways = self.horizontalScrollBar()
        sideways.valueChanged.connect(lambda _value: sideways.setValue(0))
        self._before = ""
        self.textChanged.connect(self._changed)
        self.document().documentLayout().documentSizeChanged.connect(lambda _size: self._fit())
        self._fit()

    def text(self) -> str:
        """What stands in it."""
        return self.toPlainText()

    def setText(self, text: str) -> None:
        """Put a text in; the cursor stands behind it."""
        self.setPlainText(text)
        self.moveCursor(QTextCursor.MoveOperation.End)

    def mark(self, marks: Iterable[tuple[int, int, bool]]) -> None:
        """Underline what was read, and otherwise what was not: from where, to where, whether."""
        shown = []
        for begin, end, read in marks:
            one = QTextEdit.ExtraSelection()
            one.cursor = QTextCursor(self.document())
            one.cursor.setPosition(min(begin, len(self.text())))
            one.cursor.setPosition(min(end, len(self.text())), QTextCursor.MoveMode.KeepAnchor)
            style = QTextCharFormat.UnderlineStyle
            one.format.setUnderlineStyle(style.SingleUnderline if read else style.WaveUnderline)
            one.format.setUnderlineColor(colour("met" if read else "missed"))
            shown.append(one)
        self.setExtraSelections(shown)

    def _changed(self) -> None:
        if self.text() != self._before:  # a mark is no change of the text
            self._before = self.text()
            self.typed.emit(self._before)
        self._fit()

    def _fit(self) -> None:
        lines = max(1, min(MOST_LINES, int(self.document().size().height())))
        room = self.contentsMargins()
        edge = self.height() - self.viewport().height() if self.isVisible() else 2 * FRAME
        self.setFixedHeight(
            round(lines * QFontMetricsF(self.font()).lineSpacing()) + max(edge, room.top() + room.bottom(), 2 * FRAME)
        )

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Narrower, it wraps into more lines."""
        super().resizeEvent(event)
        self._fit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter is entering it."""
        enter = event.key() in {Qt.Key.Key_Return, Qt.Key.Key_Enter}
        if enter and not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.returnPressed.emit()
            return
        super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Leaving it."""
        super().focusOutEvent(event)
        self.editingFinished.emit()

    def event(self, event: QEvent) -> bool:
        """See `_passes_on`."""
        if _passes_on(event, self.document().isUndoAvailable(), self.document().isRedoAvailable()):
            event.ignore()
            return False
        return super().event(event)


FRAME = 7
"""Above and below the words: the style sheet's padding and border."""
KEPT_AFTER_MS = 1000


class Page(QPlainTextEdit):
    """Several lines; Tab leaves it. What is typed is offered for keeping a second after the last key, and on leaving."""

    kept = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setTabChangesFocus(True)
        self._filling = False
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(KEPT_AFTER_MS)
        self._timer.timeout.connect(self.keep)
        self.textChanged.connect(self._typed)

    def _typed(self) -> None:
        if not self._filling:
            self._timer.start()

    @property
    def pending(self) -> bool:
        """Whether something was typed that is not yet kept."""
        return self._timer.isActive()

    def keep(self) -> None:
        """Offer what is typed for keeping, now."""
        self._timer.stop()
        self.kept.emit(self.toPlainText())

    def show_kept(self, text: str) -> None:
        """Show what is kept, except over something being typed."""
        if not self.pending and self.toPlainText() != text:
            self._filling = True
            self.setPlainText(text)
            self._filling = False

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Leaving keeps it."""
        super().focusOutEvent(event)
        if self.pending:
            self.keep()

    def event(self, event: QEvent) -> bool:
        """See `_passes_on`."""
        if _passes_on(event, self.document().isUndoAvailable(), self.document().isRedoAvailable()):
            event.ignore()
            return False
        return super().event(event)
