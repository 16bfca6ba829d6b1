"""Long lists built a little at a time, so that nobody waits for what lies below the edge of the window."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QWidget

from wintry_tally.desk.widgets.parts import laid_out_once
from wintry_tally.desk.widgets.turns import turns

if TYPE_CHECKING:
    from wintry_tally.desk.session import Session

SLICE_S = 0.006
"""A slice ends at the first part made after so long."""


def while_open(session: Session, parts: Iterator[None]) -> Iterator[None]:
    """These parts as long as the book is open that is open now; what is not made by then is not made."""
    opened = session.open

    def some() -> Iterator[None]:
        while session.has_book and session.open is opened:
            try:
                next(parts)
            except StopIteration:
                return
            yield

    return some()


class Slices(QObject):
    """Makes the parts of one list: the first few at once, the others in turns; beginning anew leaves the old ones."""

    def __init__(self, parent: QWidget, at_once: int) -> None:
        super().__init__(parent)
        self._page = parent
        self._at_once = at_once
        self._parts: Iterator[None] | None = None
        self._done: Callable[[], None] | None = None

    def begin(self, parts: Iterator[None], done: Callable[[], None] | None = None) -> None:
        """Make the first parts now and the others when there is time; `done` once all are there."""
        self.stop()
        self._parts, self._done = parts, done
        for _ in range(self._at_once):
            if not self._next():
                return
        turns().ask(self, self._slice)

    def stop(self) -> None:
        """Leave what is not made yet."""
        self._parts = self._done = None

    def finish(self) -> None:
        """Make all that is left, now."""
        while self._next():
            pass

    @property
    def busy(self) -> bool:
        """Whether something is left to be made."""
        return self._parts is not None

    def _next(self) -> bool:
        if self._parts is None:
            return False
        try:
            next(self._parts)
        except StopIteration:
            done = self._done
            self.stop()
            if done is not None:
                done()
            return False
        return True

    def _slice(self) -> None:
        until = time.perf_counter() + SLICE_S
        with laid_out_once(self._page):
            while self._next():
                if time.perf_counter() >= until:
                    turns().ask(self, self._slice)
                    return
