"""After a reading that somebody corrected: the words that it hangs on, to be read so from then on."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from wintry_tally.core.battery import Claim
from wintry_tally.core.errors import WintryError
from wintry_tally.desk.widgets.parts import button, label, row


class WordsOffer(QWidget):
    """`learned` says that a line was kept; `failed` why it could not be."""

    learned = Signal()
    failed = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.line = ""
        self._said = label("", "quiet", wrap=True)
        self.yes = button("From now on", self._learn, "", "Read these words so from now on")
        self.no = button("This once", self.hide, "link", "Read these words so this once")
        keys = row(self._said, self.yes, self.no, gap=2)
        keys.setStretch(0, 1)
        keys.setContentsMargins(0, 6, 0, 6)
        self.setLayout(keys)
        self.hide()

    def offer(self, text: str, claim: Claim, family: str) -> None:
        """Ask, where a line of words would make of the text what somebody made of it."""
        from wintry_tally.app import own_words
        from wintry_tally.core.battery.printed.own import line_for, said_line

        self.line = line_for(text, claim, family, own_words.lines()) if text.strip() else ""
        self._said.setText(f"Always read it so: {said_line(self.line)}?" if self.line else "")
        self.setVisible(bool(self.line))

    def _learn(self) -> None:
        from wintry_tally.app import own_words

        try:
            own_words.learn(self.line)
        except WintryError as error:
            self.failed.emit(str(error))
            return
        self.hide()
        self.learned.emit()
