"""Closing, visibly: what is driven is switched off and written first; what cannot be seen off is named."""

from __future__ import annotations

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QWidget

from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.parts import button, column, label, row

LOOK_MS = 100


class ClosingPage(QWidget):
    """`done` once nothing has to be waited for, or somebody leaves the rest to the guard."""

    done = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.words = label("", "large", wrap=True)
        self.anyway = button("Close; the guard goes on switching it off", self._leave)
        self.setLayout(column(None, self.words, row(None, self.anyway, None), None, margin=10))
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)

    def begin(self) -> bool:
        """Whether there is something to wait for; it is switched off from now on."""
        if self._timer.isActive():
            return True
        if not self.session.begin_closing():
            return False
        self.anyway.hide()
        self._timer.start()
        self.words.setText("Switching off and writing…")
        return True

    def _look(self) -> None:
        waiting, left = self.session.still_closing, self.session.left_on
        if waiting:
            self.words.setText(f"Switching off and writing: {', '.join(waiting)}…")
        elif left:
            self.words.setText("Not seen to be off:\n" + "\n".join(left))
            self.anyway.show()
        else:
            self._leave()

    def _leave(self) -> None:
        self._timer.stop()
        self.done.emit()
