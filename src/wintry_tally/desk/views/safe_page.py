"""The worst minute on the screen: what is off, what is not and which plug to pull, and what to do now."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wintry_tally.core.battery import Family
from wintry_tally.core.protocol.cautions import worst_minute
from wintry_tally.desk.widgets.parts import button, clear, column, label, row, scrolling

if TYPE_CHECKING:
    from wintry_tally.app.safety import AllOff

LOOK_MS = 100


class SafePage(QWidget):
    """Large words only; readable from two metres. `left` once somebody has read it."""

    left = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.head = label("", "huge", wrap=True)
        self._states, self._cautions = QVBoxLayout(), QVBoxLayout()
        self.back = button("I have read this", self._read, "", "Back to the bench; the battery stays in quarantine")
        self._doing: AllOff | None = None
        self._shown: tuple[str, ...] = ()
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self.look)
        inner = QWidget()
        inner.setLayout(column(self.head, self._states, self._cautions, row(None, self.back), None, gap=4, margin=6))
        self.setLayout(column(scrolling(inner)))

    def show_all_off(self, doing: AllOff, families: list[Family], codes: list[str]) -> None:
        """Follow everything being switched off."""
        self._doing, self._shown = doing, ()
        clear(self._cautions)
        told = dict.fromkeys(words for family in families for words in worst_minute(family))
        for words in told:
            self._cautions.addWidget(label(words, "large", wrap=True))
        if codes:
            text = f"{', '.join(codes)}: in quarantine until somebody has looked."
            self._cautions.addWidget(label(text, "large", wrap=True))
        self.look()
        self._timer.start()

    def _read(self) -> None:
        self._timer.stop()
        self.left.emit()

    def look(self) -> None:
        """What has answered by now."""
        doing = self._doing
        if doing is None:
            return
        left = doing.left
        waiting = [item for item in left if item.off is None]
        pulls = [item for item in left if item.off is False]
        head = (
            "Switching everything off…" if waiting else "NOT everything is off" if pulls
            else "Everything is off" if doing.results else "This bench has no instrument that could be switched off"
        )  # fmt: skip
        lines = tuple(str(item) for item in doing.results.values())
        if (head, *lines) != self._shown:
            self._shown = (head, *lines)
            self.head.setText(head)
            clear(self._states)
            for item in sorted(doing.results.values(), key=lambda one: one.off is not False):
                role = "pull" if item.off is False else "large"
                self._states.addWidget(label(f"{item}", role, wrap=True))
        if not left:
            self._timer.stop()
