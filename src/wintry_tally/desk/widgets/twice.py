"""A key that asks back: for what cannot be taken back. Of any such key a double click is one press."""

from __future__ import annotations

import math
import time
from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from wintry_tally.desk.widgets.parts import button

FORGOTTEN_MS = 6000
"""So long after the first press the question is withdrawn."""


class Twice:
    """`key` asks `question` when it is pressed, and acts when it is pressed again; with no question it acts at once.

    However quickly it is pressed again and again, that is one press. What it means may change while it is there
    (`mean`): a press that was meant for what it said before counts for nothing.
    """

    def __init__(self, words: str, question: str, act: Callable[[], None], role: str = "", name: str = "") -> None:
        self.key = button(words, self._pressed, role, name)
        self._name, self._words, self._question, self._act = name, words, question, act
        self._asks = False
        self._pressed_at = -math.inf
        self._timer = QTimer(self.key)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.forget)
        self._stand_still()

    def mean(self, words: str, question: str, act: Callable[[], None]) -> None:
        """From now on it says, asks and does this; a question under way is withdrawn where that is something else."""
        if (words, question) != (self._words, self._question):
            if words != self._words:
                self.key.setMinimumWidth(0)
            self._words, self._question, self._act = words, question, act
            self._stand_still()
            self.forget()

    def _stand_still(self) -> None:
        """As wide as the longest of what it says: no key beside it moves under a hand when it asks."""
        self.key.ensurePolished()
        widths = [self.key.minimumWidth()]
        for words in (self._question, self._words):
            self.key.setText(words)
            widths.append(self.key.sizeHint().width())
        self.key.setMinimumWidth(max(widths))

    def forget(self) -> None:
        """It was not pressed."""
        self._timer.stop()
        self._asks = False
        self._say(self._words)

    def _say(self, words: str) -> None:
        self.key.setText(words)
        self.key.setAccessibleName(self._name or words)

    def _pressed(self) -> None:
        before, self._pressed_at = self._pressed_at, time.monotonic()
        if 1000.0 * (self._pressed_at - before) <= QApplication.doubleClickInterval():
            return
        if self._question and not self._asks:
            self._asks = True
            self._say(self._question)
            self._timer.start(FORGOTTEN_MS)
            return
        self.forget()
        self._act()
