"""Edits that can be undone: each a pair of acts on the book."""

from __future__ import annotations

import zlib
from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtGui import QUndoCommand, QUndoStack

Act = Callable[[Callable[[bool], object]], object]
"""One half of an edit; what it is given is called once it is over, with whether it was done."""


class Change(QUndoCommand):
    """An edit in words that was just done, with what does it again and what takes it back.

    Both tell once it is over whether they could; what the book refuses to take back stays done. Edits of one `field`
    that follow each other are one.
    """

    def __init__(self, words: str, do: Act, undo: Act, stack: QUndoStack, field: str = "") -> None:
        super().__init__(words)
        self._do, self._undo, self._stack, self._field = do, undo, stack, field
        self._stands = True

    def id(self) -> int:
        """One number for each field; -1 never merges."""
        return zlib.crc32(self._field.encode()) & 0x7FFFFFFF if self._field else -1

    def mergeWith(self, other: QUndoCommand) -> bool:
        """Take over what the later edit of the same field does."""
        if not isinstance(other, Change) or other._field != self._field:
            return False
        self._do = other._do
        return True

    def redo(self) -> None:
        """Do it again; the first time it stands already."""
        if self._stands:
            self._stands = False
        else:
            self._do(lambda done: None if done else self._set_right(self._stack.undo))

    def undo(self) -> None:
        """Take it back."""
        if self._stands:
            self._stands = False
        else:
            self._undo(lambda done: None if done else self._set_right(self._stack.redo))

    def _set_right(self, move: Callable[[], None]) -> None:
        """It was refused: what follows only sets the stack right."""
        self._stands = True
        QTimer.singleShot(0, move)
