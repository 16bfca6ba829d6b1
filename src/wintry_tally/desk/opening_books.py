"""Books opened on a thread of their own: usually there at once, else a moment later, and nobody waits for a disk."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

from wintry_tally.app.last_seen import ReadBook
from wintry_tally.app.writing import Writing

PATIENCE_S = 0.01
"""So long a book is waited for that is usually there at once: a small one. The window has to be drawn with it as well."""
SOON_MS, WONDERED_MS = 5, 400
"""A book that is not there at once is looked for so often, and spoken of after so long."""


class OpeningBooks(QObject):
    """Opens one book at a time; of several asked for in a row the last one is the one that is wanted."""

    def __init__(self, parent: QObject, said: Callable[[str], object]) -> None:
        super().__init__(parent)
        self._line, self._said, self._wanted = Writing(), said, 0
        self._soon = QTimer(self, interval=SOON_MS)
        self._soon.timeout.connect(self._deliver)

    def ask(
        self, words: str, read: Callable[[], ReadBook], done: Callable[[ReadBook], object],
        failed: Callable[[BaseException], object],
    ) -> None:  # fmt: skip
        """Have a book read; one of the others is called with what came of it, unless another book was asked for since."""
        self._wanted += 1
        number, found = self._wanted, list[ReadBook]()

        def act() -> None:
            found.append(read())
            if number != self._wanted:  # nobody is there to hear of it, or to wait for it
                found.pop().book.close()

        def over(raised: BaseException | None) -> None:
            if number != self._wanted:
                for one in found:
                    one.book.close()
            elif raised is not None:
                failed(raised)
            else:
                done(found[0])

        if self._line.ask(act, over, PATIENCE_S):
            return
        self._soon.start()
        QTimer.singleShot(WONDERED_MS, self, lambda: self._wonder(number, words))

    def close(self) -> None:
        """Nothing more is wanted; what is being opened is closed where it is."""
        self._wanted += 1
        self._soon.stop()
        self._line.leave()

    def _wonder(self, number: int, words: str) -> None:
        if number == self._wanted and self._line.busy:
            self._said(words)

    def _deliver(self) -> None:
        self._line.deliver()
        if not self._line.busy:
            self._soon.stop()
