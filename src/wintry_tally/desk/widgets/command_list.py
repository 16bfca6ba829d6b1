"""Every command and every tag in one list that is searched by typing."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QWidget

from wintry_tally.desk.theme.style import font
from wintry_tally.desk.widgets.parts import column, label

MOST_SHOWN = 200


@dataclass(frozen=True)
class Entry:
    """One line: its words, what stands beside them (its keys), and what it does."""

    words: str
    beside: str
    act: Callable[[], object]


def fitting(entries: Sequence[Entry], typed: str) -> list[Entry]:
    """Those whose words hold every part of what is typed, whatever its order; those that begin with it come first."""
    parts = typed.casefold().split()
    found = [one for one in entries if all(part in f"{one.words} {one.beside}".casefold() for part in parts)]
    return sorted(found, key=lambda one: not (parts and one.words.casefold().startswith(parts[0])))[:MOST_SHOWN]


class CommandList(QDialog):
    """Type, choose by the arrows, Enter."""

    def __init__(self, parent: QWidget, entries: Sequence[Entry]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Commands and tags")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._entries, self._shown = list(entries), list(entries)
        self.typed = QLineEdit()
        self.typed.setPlaceholderText("what is to be done, or which tag")
        self.typed.setAccessibleName("What is looked for")
        self.list = QListWidget()
        self.list.setAccessibleName("What fits")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setFont(font("body"))
        self.none = label("Nothing is called so.", "quiet")
        self.setLayout(column(self.typed, self.list, self.none, margin=3))
        self.resize(520, 420)
        self.typed.textChanged.connect(self._fill)
        self.typed.installEventFilter(self)
        self.list.itemClicked.connect(lambda _item: self.take())
        self._fill("")

    def _fill(self, typed: str) -> None:
        self._shown = fitting(self._entries, typed)
        self.list.clear()
        for one in self._shown:
            QListWidgetItem(f"{one.words}\t{one.beside}" if one.beside else one.words, self.list)
        self.list.setCurrentRow(0 if self._shown else -1)
        self.list.setVisible(bool(self._shown))
        self.none.setVisible(not self._shown)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """The arrows walk the list while one types."""
        if watched is self.typed and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            steps = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 8, Qt.Key.Key_PageUp: -8}
            step = steps.get(Qt.Key(event.key()))
            if step is not None and self._shown:
                row = self.list.currentRow() + step
                self.list.setCurrentRow(min(max(row, 0), len(self._shown) - 1))
                return True
            if event.key() in {Qt.Key.Key_Return, Qt.Key.Key_Enter}:
                self.take()
                return True
        return super().eventFilter(watched, event)

    def take(self) -> None:
        """Do what is chosen, once this is out of the way."""
        row = self.list.currentRow()
        if 0 <= row < len(self._shown):
            chosen = self._shown[row]
            self.accept()
            chosen.act()
