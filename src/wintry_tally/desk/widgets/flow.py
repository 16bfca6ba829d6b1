"""A row that goes on in the next line where it has no room."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget

from wintry_tally.desk.theme import SPACE


class Flow(QLayout):
    """Parts side by side, as many to a line as fit; no wider than the widest of them."""

    def __init__(self, *parts: QWidget, gap: int = 2, down: int = 1) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._gap, self._down = gap * SPACE, down * SPACE
        self.setContentsMargins(0, 0, 0, 0)
        for part in parts:
            self.addWidget(part)

    def addItem(self, item: QLayoutItem) -> None:
        """See QLayout."""
        self._items.append(item)

    def count(self) -> int:
        """See QLayout."""
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        """See QLayout."""
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        """See QLayout."""
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        """See QLayout."""
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        """See QLayout."""
        return True

    def heightForWidth(self, width: int) -> int:
        """See QLayout."""
        return self._place(QRect(0, 0, width, 0), False)

    def setGeometry(self, rect: QRect) -> None:
        """See QLayout."""
        super().setGeometry(rect)
        self._place(rect, True)

    def sizeHint(self) -> QSize:
        """All in one line."""
        seen = self._seen()
        width = sum(item.sizeHint().width() for item in seen) + self._gap * max(0, len(seen) - 1)
        return QSize(width, max((item.sizeHint().height() for item in seen), default=0))

    def minimumSize(self) -> QSize:
        """The widest part alone."""
        sizes = [item.minimumSize() for item in self._seen()]
        return QSize(max((s.width() for s in sizes), default=0), max((s.height() for s in sizes), default=0))

    def _seen(self) -> list[QLayoutItem]:
        return [item for item in self._items if not item.isEmpty()]

    def _place(self, rect: QRect, truly: bool) -> int:
        """The height it takes; each line's parts stand in its middle."""
        lines: list[list[tuple[QLayoutItem, QSize]]] = [[]]
        x = 0
        for item in self._seen():
            size = item.sizeHint()
            if lines[-1] and x + size.width() > rect.width():
                lines.append([])
                x = 0
            lines[-1].append((item, size))
            x += size.width() + self._gap
        y = rect.y()
        for line in lines:
            high = max((size.height() for _, size in line), default=0)
            x = rect.x()
            for item, size in line:
                width = min(size.width(), rect.width())
                if truly:
                    item.setGeometry(QRect(QPoint(x, y + (high - size.height()) // 2), QSize(width, size.height())))
                x += width + self._gap
            y += high + self._down
        return max(0, y - self._down - rect.y())
