"""A problem as a band across the top; it stays until it is dismissed."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from wintry_tally.desk.widgets.parts import button, card, column, label, row


class ProblemBand(QWidget):
    """Hidden while there is none."""

    def __init__(self) -> None:
        super().__init__()
        self._text = label("", wrap=True)
        line = row(self._text, button("Dismiss", self.hide, "link"))
        line.setStretch(0, 1)
        self.setLayout(column(card(line, role="banner"), margin=2))
        self.hide()

    @property
    def told(self) -> str:
        """What it says."""
        return self._text.text()

    def tell(self, text: str) -> None:
        """Say it."""
        self._text.setText(text)
        self.show()
