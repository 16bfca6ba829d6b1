"""Small makers of labels, buttons and cards, so that views stay short and alike."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar, cast

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QApplication,
    QBoxLayout,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)
from shiboken6 import isValid

from wintry_tally.desk.preferences import shown
from wintry_tally.desk.theme import SPACE
from wintry_tally.desk.widgets.flow import Columns
from wintry_tally.desk.widgets.letting_go import let_go


class Words(QLabel):
    """A label whose words are in the units preferred."""

    def __init__(self, text: str = "") -> None:
        super().__init__(shown(text))
        self.setTextFormat(Qt.TextFormat.PlainText)

    def setText(self, text: str) -> None:
        """See QLabel."""
        super().setText(shown(text))


class Wrapped(Words):
    """A label that wraps, and remembers how high it is at which width: a layout in layouts asks many times over."""

    def __init__(self, text: str = "") -> None:
        super().__init__(text)
        self.setWordWrap(True)
        self._heights: dict[int, int] = {}

    def heightForWidth(self, width: int) -> int:
        """See QWidget."""
        known = self._heights.get(width)
        if known is None:
            known = self._heights[width] = super().heightForWidth(width)
        return known

    def setText(self, text: str) -> None:
        """See QLabel."""
        self._heights.clear()
        super().setText(text)

    def changeEvent(self, event: QEvent) -> None:
        """Another font, another style: other heights."""
        self._heights.clear()
        super().changeEvent(event)


class Problem(Wrapped):
    """What is wrong with what was just typed: it is brought into view when it is told."""

    def showEvent(self, event: QShowEvent) -> None:
        """See above."""
        super().showEvent(event)
        into_view(self)


def page_around(widget: QWidget) -> QScrollArea | None:
    """What it lies in, where that scrolls."""
    above = widget.parentWidget()
    while above is not None and not (isinstance(above, QScrollArea) and above.verticalScrollBar().maximum() > 0):
        above = above.parentWidget()
    return above


LAID_OUT_MS = 30


def into_view(widget: QWidget) -> None:
    """Once it is laid out, scroll its page so that it is seen whole, where somebody is at work on that page."""

    def seen() -> None:
        area, at_work = page_around(widget), QApplication.focusWidget()
        page = area.widget() if area is not None else None
        if area is not None and page is not None and at_work is not None and page.isAncestorOf(at_work):
            area.ensureWidgetVisible(widget, 0, SPACE)

    QTimer.singleShot(LAID_OUT_MS, widget, seen)


def label(text: str = "", role: str = "", wrap: bool = False) -> QLabel:
    """A label with a role from the style sheet; its text can be copied."""
    made = Problem(text) if role == "problem" else Wrapped(text) if wrap else Words(text)
    if role:
        made.setProperty("role", role)
    return made


def set_role(widget: QWidget, role: str) -> None:
    """Change a widget's role and have it drawn anew."""
    if widget.property("role") != role:
        widget.setProperty("role", role)
        widget.style().unpolish(widget)
        widget.style().polish(widget)


def button(text: str, act: Callable[[], object], role: str = "", name: str = "") -> QPushButton:
    """A push button; `name` is its accessible name where the text alone does not say enough."""
    made = QPushButton(shown(text))
    if role:
        made.setProperty("role", role)
    if role == "link":
        made.setCursor(Qt.CursorShape.PointingHandCursor)
    made.setAccessibleName(shown(name or text.replace("&", "")))
    made.setAutoDefault(True)
    made.clicked.connect(lambda _checked=False: act())
    return made


def narrow(*boxes: QComboBox) -> None:
    """Let combo boxes be narrower than their longest entry, so that a form of several fits a small screen."""
    for box in boxes:
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(8)


def column(*items: QWidget | QLayout | None, gap: int = 2, margin: int = 0) -> QVBoxLayout:
    """A column; None is a stretch."""
    return cast(QVBoxLayout, _filled(QVBoxLayout(), items, gap, margin))


def row(*items: QWidget | QLayout | None, gap: int = 2, margin: int = 0) -> QHBoxLayout:
    """A row; None is a stretch."""
    return cast(QHBoxLayout, _filled(QHBoxLayout(), items, gap, margin))


def _filled(layout: Any, items: tuple[QWidget | QLayout | None, ...], gap: int, margin: int) -> Any:
    layout.setSpacing(gap * SPACE)
    layout.setContentsMargins(*(margin * SPACE,) * 4)
    for item in items:
        if item is None:
            layout.addStretch(1)
        elif isinstance(item, QWidget):
            layout.addWidget(item)
        else:
            layout.addLayout(item)
    return layout


def fields_above(fields: Sequence[tuple[str, QWidget]], across: int = 4) -> Columns:
    """Fields side by side, at most so many to a line, each under its small label."""
    # one that says more than the others beneath itself moves none of them from under its name
    made = [under(label(words, "small"), widget, last=True) for words, widget in fields]
    return Columns(*made, gap=3, down=1, most=across)


def fields_beside(fields: Sequence[tuple[str, QWidget]]) -> tuple[QGridLayout, list[QLabel]]:
    """Fields one beneath the other, each beside its label; the grid, and the labels for hiding with their fields."""
    grid = QGridLayout()
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setHorizontalSpacing(10)
    grid.setVerticalSpacing(6)
    grid.setColumnStretch(1, 1)
    labels = []
    for line, (words, widget) in enumerate(fields):
        labels.append(label(words, "quiet"))
        grid.addWidget(labels[-1], line, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(widget, line, 1)
    return grid, labels


def named(words: str, widget: QWidget) -> QWidget:
    """A field or figure under its small name."""
    return under(label(words, "small"), widget)


def under(title: QWidget, widget: QWidget, *, last: bool = False) -> QWidget:
    """A field or figure under its title; `last`: what room is left lies beneath both."""
    made = QWidget()
    made.setLayout(column(title, widget, *([None] if last else []), gap=0))
    return made


def below(words: str, small: str) -> QWidget:
    """Words with smaller ones beneath."""
    return under(label(words, wrap=True), label(small, "small", wrap=True))


def chooser(name: str, items: Iterable[tuple[str, str]]) -> QComboBox:
    """A box to choose from: words, each with its key."""
    made = QComboBox()
    made.setAccessibleName(name)
    for words, key in items:
        made.addItem(words, key)
    return made


def card(*items: QWidget | QLayout | None, gap: int = 2, role: str = "card") -> QFrame:
    """A framed card holding a column."""
    frame = QFrame()
    frame.setProperty("role", role)
    frame.setLayout(column(*items, gap=gap, margin=3))
    return frame


def scrolling(inner: QWidget) -> QScrollArea:
    """A scroll area around a widget; sideways only where it is narrower than what cannot be made narrower."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setWidget(inner)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return area


def clear(layout: QLayout) -> None:
    """Take everything out of a layout and let go of it."""
    while layout.count():
        item = layout.takeAt(0)
        if item is None:
            continue
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            let_go(widget)
        elif inner is not None:
            clear(inner)


@contextmanager
def laid_out_once(page: QWidget) -> Iterator[None]:
    """Change whatever lies on a page that scrolls, or is a part of one, and have it laid out afterwards.

    Qt lays out all that is around a part at the very moment it is shown or hidden, for each anew.
    """
    areas, above = page.findChildren(QScrollArea), page.parentWidget()
    while above is not None and not isinstance(above, QScrollArea):
        above = above.parentWidget()
    inner = [area.widget() for area in (*areas, above) if isinstance(area, QScrollArea)]
    layouts = [one.layout() for one in inner if one is not None]
    held = [layout for layout in layouts if layout is not None and layout.isEnabled()]
    for layout in held:
        layout.setEnabled(False)
    try:
        yield
    finally:
        for layout in held:
            if isValid(layout):
                layout.setEnabled(True)


Inside = TypeVar("Inside", QVBoxLayout, QGridLayout)


@contextmanager
def anew(holder: QBoxLayout, within: Inside) -> Iterator[Inside]:
    """Fill `within` apart, then put it where `holder` had what was there before.

    Put into what is seen one by one, each part would have the whole window laid out once more; and what is made outside
    its page is styled again as it comes there.
    """
    body = QWidget(holder.parentWidget())
    body.hide()
    within.setContentsMargins(0, 0, 0, 0)
    body.setLayout(within)
    try:
        yield within
    except BaseException:  # it is left half made
        if isValid(body):
            let_go(body)
        raise
    clear(holder)
    holder.addWidget(body)
    body.show()  # now, not when Qt comes to it: whoever asks what is seen is told


def empty(title: str, text: str, *buttons: QPushButton, more: QLayout | None = None) -> QWidget:
    """An empty state: what is missing and what to do next; `more` stands beneath."""
    widget = QWidget()
    heading, words = label(title, "title"), label(text, "quiet", wrap=True)
    words.setMaximumWidth(520)
    inner = column(heading, words, row(*buttons, None), gap=3)
    if more is not None:
        inner.addLayout(more)
    widget.setLayout(column(None, row(None, _boxed(inner), None), None, None, margin=6))
    return widget


def _boxed(layout: QLayout) -> QWidget:
    box = QWidget()
    box.setLayout(layout)
    return box
