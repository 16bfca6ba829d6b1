"""Text fields that keep Ctrl+Z for themselves only while they have typing of their own to take back."""

from __future__ import annotations

from PySide6.QtCore import QEvent
from PySide6.QtGui import QKeyEvent, QKeySequence
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


class Page(QPlainTextEdit):
    """Several lines; Tab leaves it."""

    def __init__(self) -> None:
        super().__init__()
        self.setTabChangesFocus(True)

    def event(self, event: QEvent) -> bool:
        """See `_passes_on`."""
        if _passes_on(event, self.document().isUndoAvailable(), self.document().isRedoAvailable()):
            event.ignore()
            return False
        return super().event(event)
