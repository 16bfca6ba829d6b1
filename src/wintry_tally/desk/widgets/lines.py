"""Text fields that keep Ctrl+Z for themselves only while they have typing of their own to take back."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QTimer, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QLineEdit, QPlainTextEdit


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
