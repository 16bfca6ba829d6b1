"""Edits that can be undone: each a pair of acts on the book."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QUndoCommand


class Change(QUndoCommand):
    """An edit in words, with what does it and what takes it back."""

    def __init__(self, words: str, do: Callable[[], object], undo: Callable[[], object]) -> None:
        super().__init__(words)
        self._do, self._undo = do, undo

    def redo(self) -> None:
        """Do it (again)."""
        self._do()

    def undo(self) -> None:
        """Take it back."""
        self._undo()
