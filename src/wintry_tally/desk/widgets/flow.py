"""Layouts that go on below where they have no room beside: rows whose parts break into lines, and halves that stack."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLabel, QLayout, QLayoutItem, QWidget
from shiboken6 import isValid

from wintry_tally.desk.theme import SPACE

LEAST_WORDS = 22
"""So many letters' width a text that wraps has beside other parts at the least; with less, they go below it."""


class _Parts(QLayout):
    """A layout whose height hangs on its width; no wider than the widest of its parts has to be."""

    def __init__(self, gap: int, down: int) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._gap, self._down = gap * SPACE, down * SPACE
        self._heights: dict[int, int] = {}
        self._hint: QSize | None = None
        self._smallest: QSize | None = None
        self._placed: QRect | None = None
        """All known until a part is another: a layout in layouts is asked many times over."""
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem) -> None:
        """See QLayout."""
        self._items.append(item)

    def put(self, part: QWidget | QLayout) -> None:
        """Put in a part of either kind."""
        if isinstance(part, QWidget):
            self.addWidget(part)
        else:
            self.addChildLayout(part)
            self.addItem(part)

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
        known = self._heights.get(width)
        if known is None:
            known = self._heights[width] = self._place(QRect(0, 0, width, 0), False)
        return known

    def invalidate(self) -> None:
        """See QLayout."""
        self._heights.clear()
        self._hint = self._smallest = self._placed = None
        super().invalidate()

    def setGeometry(self, rect: QRect) -> None:
        """See QLayout."""
        if rect == self._placed:
            return
        super().setGeometry(rect)
        self._place(rect, True)
        self._placed = QRect(rect)

    def sizeHint(self) -> QSize:
        """All in one line."""
        if self._hint is None:
            hints = [item.sizeHint() for item in self._seen()]
            width = sum(hint.width() for hint in hints) + self._gap * max(0, len(hints) - 1)
            self._hint = QSize(width, max((hint.height() for hint in hints), default=0))
        return self._hint

    def minimumSize(self) -> QSize:
        """The widest part alone."""
        if self._smallest is None:
            sizes = [item.minimumSize() for item in self._seen()]
            self._smallest = QSize(
                max((s.width() for s in sizes), default=0), max((s.height() for s in sizes), default=0)
            )
        return self._smallest

    def _seen(self) -> list[QLayoutItem]:
        # a window that is being let go of takes its parts before their layout
        return [item for item in self._items if isValid(item) and not item.isEmpty()]

    def _place(self, rect: QRect, truly: bool) -> int:
        """The height it takes; its parts are put there where `truly`."""
        raise AssertionError("each layout places its parts itself")


class Flow(_Parts):
    """Parts side by side, as many to a line as fit. Where the first `fills`, the others stand at the far edge of its line."""

    def __init__(self, *parts: QWidget | QLayout, gap: int = 2, down: int = 1, fills: bool = False) -> None:
        super().__init__(gap, down)
        self._fills = fills
        for part in parts:
            self.put(part)

    def _place(self, rect: QRect, truly: bool) -> int:
        """Each line's parts stand in its middle."""
        y = rect.y()
        for line in self._lines(rect.width()):
            sizes = [QSize(width, _high(item, width)) for item, width in line]
            high = max((size.height() for size in sizes), default=0)
            x = rect.x()
            for (item, _), size in zip(line, sizes, strict=True):
                if truly:
                    item.setGeometry(QRect(QPoint(x, y + (high - size.height()) // 2), size))
                x += size.width() + self._gap
            y += high + self._down
        return max(0, y - self._down - rect.y())

    def _lines(self, room: int) -> list[list[tuple[QLayoutItem, int]]]:
        """The parts of each line, each with its width."""
        lines: list[list[tuple[QLayoutItem, int]]] = [[]]
        seen = self._seen()
        others = sum(item.sizeHint().width() + self._gap for item in seen[1:])
        if self._fills and seen and seen[0] is self._items[0] and room - others >= _least(seen[0]):
            return [[(seen[0], room - others), *((item, item.sizeHint().width()) for item in seen[1:])]]
        x = 0
        for item in seen:
            width = min(_wide(item), room)
            if lines[-1] and x + width > room:
                lines.append([])
                x = 0
            lines[-1].append((item, width))
            x += width + self._gap
        return lines


class Halves(_Parts):
    """Parts beside each other, each with its share of the width; below each other where one would be too narrow so."""

    def __init__(self, *parts: tuple[QWidget | QLayout, int], gap: int = 3) -> None:
        super().__init__(gap, gap)
        self._shares = [share for _, share in parts]
        for part, _ in parts:
            self.put(part)

    def beside(self, room: int) -> bool:
        """Whether they stand beside each other in so much room."""
        return all(width >= item.minimumSize().width() for item, width in self._widths(room))

    def _widths(self, room: int) -> list[tuple[QLayoutItem, int]]:
        seen = [
            (item, share)
            for item, share in zip(self._items, self._shares, strict=True)
            if isValid(item) and not item.isEmpty()
        ]
        free = room - self._gap * max(0, len(seen) - 1)
        whole = sum(share for _, share in seen)
        return [(item, free * share // whole) for item, share in seen]

    def _place(self, rect: QRect, truly: bool) -> int:
        beside, widths = self.beside(rect.width()), self._widths(rect.width())
        at, highest = rect.topLeft(), 0
        for item, share in widths:
            width = share if beside else rect.width()
            high = _high(item, width)
            if truly:
                item.setGeometry(QRect(at, QSize(width, high)))
            at += QPoint(width + self._gap, 0) if beside else QPoint(0, high + self._down)
            highest = max(highest, high)
        return highest if beside else max(0, at.y() - self._down - rect.y())


class Columns(_Parts):
    """Parts in columns of one width, as many beside each other as have room, and `most` at the most."""

    def __init__(self, *parts: QWidget | QLayout, gap: int = 4, down: int = 2, most: int = 99) -> None:
        super().__init__(gap, down)
        self._most = most
        for part in parts:
            self.put(part)

    def _place(self, rect: QRect, truly: bool) -> int:
        seen = self._seen()
        widest = max((item.minimumSize().width() for item in seen), default=0)
        fit = max(1, min(len(seen), self._most, (rect.width() + self._gap) // max(1, widest + self._gap)))
        lines = -(-len(seen) // fit)
        across = -(-len(seen) // max(1, lines))  # six that do not fit stand as three and three, not as five and one
        width = (rect.width() - self._gap * (across - 1)) // max(1, across)
        y = rect.y()
        for begin in range(0, len(seen), max(1, across)):
            line = seen[begin : begin + across]
            high = max(_high(item, width) for item in line)
            for place, item in enumerate(line):
                if truly:
                    item.setGeometry(QRect(rect.x() + place * (width + self._gap), y, width, high))
            y += high + self._down
        return max(0, y - self._down - rect.y())


def _high(item: QLayoutItem, width: int) -> int:
    """How high a part is at a width."""
    return item.heightForWidth(width) if item.hasHeightForWidth() else item.sizeHint().height()


def _words(item: QLayoutItem) -> QLabel | None:
    """A text that wraps, where the part is one."""
    found = item.widget()
    return found if isinstance(found, QLabel) and found.wordWrap() else None


def _wide(item: QLayoutItem) -> int:
    """The width a part would have: a text that wraps in one line."""
    words = _words(item)
    if words is None:
        return item.sizeHint().width()
    lines = words.text().split("\n")
    return max(words.fontMetrics().horizontalAdvance(line) for line in lines) + 2


def _least(item: QLayoutItem) -> int:
    """The width a part has beside others at the least."""
    words = _words(item)
    if words is None:
        return item.sizeHint().width()
    return min(_wide(item), words.fontMetrics().horizontalAdvance("n") * LEAST_WORDS)
