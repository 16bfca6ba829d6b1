"""What a session knows of safety: all off, quarantine, closing."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from wintry_tally.core.errors import WintryError
from wintry_tally.core.protocol.method import Method

if TYPE_CHECKING:
    from wintry_tally.app.live import LiveRuns
    from wintry_tally.app.safety import AllOff, Inspection, Quarantine
    from wintry_tally.book import Book


class SafeSession(QObject):
    """The part of a session that switches off; the session itself is made on top of it."""

    failed = Signal(str)

    @property
    def has_book(self) -> bool:
        """Whether a book is open."""
        raise LookupError

    @property
    def book(self) -> Book:
        """The open book."""
        raise LookupError

    @property
    def running(self) -> LiveRuns:
        """The running tests."""
        raise LookupError

    def touch_runs(self, sample_id: int) -> None:
        """Runs of a sample changed."""

    # --- the worst minute ---

    def make_safe(self, sample_id: int | None) -> AllOff | None:
        """Everything of this bench off, at once; None without a book."""
        if not self.has_book:
            return None
        try:
            return self.running.make_safe(sample_id)
        except WintryError as error:
            self.failed.emit(str(error))
            return None

    def quarantine(self, sample_id: int) -> Quarantine | None:
        """Since when and why a sample may not be used; None where it may."""
        from wintry_tally.app.safety import quarantine_of

        return quarantine_of(self.book, sample_id)

    def write(
        self, words: str, act: Callable[[], object], then: Callable[[bool], object], of_sample: int | None = None
    ) -> None:
        """Have something done to the book in its turn; see `EditSession`."""
        raise LookupError

    def lift_quarantine(self, sample_id: int, inspection: Inspection, then: Callable[[bool], object]) -> None:
        """Somebody has looked: the quarantine is lifted in its turn, and `then` told whether it was."""
        from wintry_tally.app.safety import lift_quarantine

        book, running = self.book, self.running

        def over(done: bool) -> None:
            if done:
                running.looked_at(sample_id)
            if done and self.has_book and self.book is book:
                self.touch_runs(sample_id)
            then(done)

        self.write("lift the quarantine", lambda: lift_quarantine(book, sample_id, inspection), over, sample_id)

    # --- closing, visibly ---

    def begin_closing(self) -> bool:
        """Ask every live run to be switched off and written; whether there is anything real to wait for."""
        if not self.has_book or not any(item.run.method is Method.BENCH for item in self.running.live.values()):
            return False
        self.running.begin_parking()
        return True

    @property
    def still_closing(self) -> list[str]:
        """What is still being switched off, by title; what was not seen off says so."""
        if not self.has_book:
            return []
        return [item.run.title for item in self.running.parking]

    @property
    def left_on(self) -> list[str]:
        """What could not be seen to be off, of those that are done."""
        if not self.has_book:
            return []
        live = [f"{item.run.title}: {item.worker.left}" for item in self.running.live.values() if item.worker.left]
        return [*self.running.left, *live]
