"""What every station's view offers to the window."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from wintry_tally.core.battery import Family
from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.parts import laid_out_once

if TYPE_CHECKING:
    from wintry_tally.app.safety import AllOff


class StationView(QWidget):
    """A view of one station of one sample at a time."""

    opened = Signal(object)
    go = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.sample_id = 0

    def show_sample(self, sample_id: int) -> None:
        """Show another sample."""
        changed = sample_id != self.sample_id
        if changed:
            self.leave()
        self.sample_id = sample_id
        if changed:
            self.sample_switched()
        self.redraw(self.refresh)

    def redraw(self, change: Callable[[], object]) -> None:
        """Have something drawn anew, and all of it laid out once."""
        with laid_out_once(self):
            change()

    def sample_switched(self) -> None:
        """Another sample is to be shown: forget what belonged to the one before."""

    def refresh(self) -> None:
        """Draw what the book says now."""

    def dossier_changed(self) -> None:
        """The verdicts were worked out anew."""

    def tick(self) -> None:
        """A running test moved on."""

    def begin(self) -> None:
        """The sample was just made: put the focus where typing starts."""

    def leave(self) -> None:
        """Keep what is half typed."""

    def all_off(self, doing: AllOff, families: list[Family]) -> None:
        """Everything is being switched off; for windows of a view's own."""

    def theme_changed(self) -> None:
        """Colours changed; for parts that do not follow the style sheet."""
