"""What takes the window for a moment, one after the other, each when the window has had time to draw and to be used."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

from PySide6.QtCore import QObject, QTimer
from shiboken6 import isValid

APART_MS = 8


@cache
def turns() -> Turns:
    """Those of the whole window: whatever draws or fills a part of it bit by bit asks here."""
    return Turns()


class Turns(QObject):
    """Calls each act once, in the order it was asked for, one at a time; none whose part of the window is gone."""

    def __init__(self) -> None:
        super().__init__()
        self._due: dict[QObject, Callable[[], object]] = {}
        self._timer = QTimer(self, interval=APART_MS, singleShot=True)
        self._timer.timeout.connect(self._next)

    def ask(self, owner: QObject, act: Callable[[], object]) -> None:
        """Have an act done in its turn; one act for each owner, that asked for last."""
        self._due[owner] = act
        if not self._timer.isActive():
            self._timer.start()

    @property
    def idle(self) -> bool:
        """Whether nothing waits for its turn."""
        return not self._due

    def _next(self) -> None:
        try:
            while self._due:
                owner = next(iter(self._due))
                act = self._due.pop(owner)
                if isValid(owner):
                    act()
                    return
        finally:  # the next one so long after this one is over: a timer that repeats would be due again at once
            if self._due:
                self._timer.start()
