"""What every main page beside the samples offers to the window: Today, Plan, Bench."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QWidget

from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.parts import laid_out_once

T = TypeVar("T")

SOON_MS = 60
AT_ONCE = 60
"""Of so many samples what a page shows is worked out at once."""


class MainPage(QWidget):
    """A page of the whole book.

    `leads` carries a sample's number, a station and a recipe's name (either may be empty), `opened` a figure's Working.
    """

    leads = Signal(int, str, str)
    opened = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.leads_back: Callable[[], object] = lambda: None
        """Where its way back leads, where it has one."""
        self._wanted: object = None
        self._soon = QTimer(self, singleShot=True, interval=SOON_MS)
        self._soon.timeout.connect(self._refresh_shown)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)  # so that the keyboard has a place when it is shown

    def refresh(self) -> None:
        """Draw what the book says now; called whenever it is shown."""

    @property
    def few(self) -> bool:
        """Whether the book is so small that what a page shows is worked out, and made, at once."""
        return len(self.session.samples()) <= AT_ONCE

    def work_out(self, work: Callable[[], T], show: Callable[[T], object]) -> None:
        """Work out what it shows: at once in a small book, else beside everything else; what comes too late is not shown."""
        self._wanted = work
        if self.few:
            show(work())
            return
        opened = self.session.open

        def found(made: T) -> None:
            if self.session.has_book and self.session.open is opened and self._wanted is work:
                show(made)

        self.session.reading.start(lambda _job: work(), found, self.session.failed.emit)

    def changed(self, _of: int = 0) -> None:
        """Something was told of the book: drawn anew a moment later, once for all that is told together."""
        self._soon.start()

    def _refresh_shown(self) -> None:
        if self.isVisible():
            with laid_out_once(self):
                self.refresh()

    def tell_alone(self) -> None:
        """It is shown with no book open."""

    def tick(self) -> None:
        """A running test moved on."""

    def leave(self) -> None:
        """Keep what is half typed."""

    def theme_changed(self) -> None:
        """Colours changed; for parts that do not follow the style sheet."""
