"""Which line of a file holds its header."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox


class LineNumber(QComboBox):
    """Which line of the file holds the header, from 1."""

    def __init__(self) -> None:
        super().__init__()
        self.addItems([str(number) for number in range(1, 61)])

    def value(self) -> int:
        """The line chosen."""
        return self.currentIndex() + 1

    def setValue(self, number: int) -> None:
        """Show a line; lines beyond the list are added to it."""
        while self.count() < number:
            self.addItem(str(self.count() + 1))
        self.setCurrentIndex(max(0, number - 1))
