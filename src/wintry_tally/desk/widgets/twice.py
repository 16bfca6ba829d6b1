"""A key that counts when it is pressed twice: for what cannot be taken back."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from wintry_tally.desk.widgets.parts import button

FORGOTTEN_MS = 6000
"""So long after the first press the question is withdrawn."""


class Twice:
    """`key` asks `question` when it is pressed, and acts when it is pressed again; a double click is one press.

    What it means may change while it is there (`mean`): a press that was meant for what it said before counts for nothing.
    """

    def __init__(self, words: str, question: str, act: Callable[[], None]) -> None:
        self.key = button(words, self._pressed)
        self._words, self._question, self._act = words, question, act
        self._asked_at: float | None = None
        self._timer = QTimer(self.key)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.forget)

    def mean(self, words: str, question: str, act: Callable[[], None]) -> None:
        """From now on it says, asks and does this; a question under way is withdrawn where that is something else."""
        if words != self._words:
            self._words, self._question, self._act = words, question, act
            self.forget()

    def forget(self) -> None:
        """It was not pressed."""
        self._timer.stop()
        self._asked_at = None
        self._say(self._words)

    def _say(self, words: str) -> None:
        self.key.setText(words)
        self.key.setAccessibleName(words)

    def _pressed(self) -> None:
        now = time.monotonic()
        if self._asked_at is None:
            self._asked_at = now
            self._say(self._question)
            self._timer.start(FORGOTTEN_MS)
        elif 1000.0 * (now - self._asked_at) > QApplication.doubleClickInterval():
            self.forget()
            self._act()
