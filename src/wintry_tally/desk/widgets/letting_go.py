"""Parts of the window that are no longer shown are taken away in turns: many at once would hold the window."""

from __future__ import annotations

from functools import cache

from PySide6.QtCore import QCoreApplication, QEvent, QObject, Qt
from PySide6.QtWidgets import QFrame, QWidget
from shiboken6 import isValid

from wintry_tally.desk.widgets.turns import turns

TOGETHER = 100
"""So many parts, and those of the last one, go in one turn."""
HOLDERS = (QWidget, QFrame)


def let_go(widget: QWidget) -> None:
    """Hide it now, and take it and all its parts away when there is time. It is not to be shown again.

    It stays where it is until then: a part that is taken out of its page is styled once more, which takes longer than
    to make it did.
    """
    widget.hide()
    _bin().put(widget)


def let_all_go() -> None:
    """Take away, now, all that was let go of."""
    _bin().empty()


@cache
def _bin() -> _Bin:
    return _Bin()


class _Bin(QObject):
    def __init__(self) -> None:
        super().__init__()
        self._left: list[QWidget] = []

    def put(self, widget: QWidget) -> None:
        self._left.append(widget)
        turns().ask(self, self._some)

    def empty(self) -> None:
        while self._left:
            widget = self._left.pop()
            if isValid(widget):
                widget.deleteLater()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)  # those whose turn was just now, too

    def _some(self) -> None:
        room = TOGETHER
        while self._left and room > 0:
            room -= self._take_one()
        if self._left:
            turns().ask(self, self._some)

    def _take_one(self) -> int:
        """What was put in last goes, or its parts first where they are too many; how many went.

        Only what merely holds others is taken apart: a scroll area whose viewport went before it would reach for it.
        """
        widget = self._left.pop()
        if not isValid(widget):
            return 0  # gone with the page it lay on
        many = len(widget.findChildren(QWidget))
        if many > TOGETHER and type(widget) in HOLDERS:
            own = widget.findChildren(QWidget, options=Qt.FindChildOption.FindDirectChildrenOnly)
            self._left += [widget, *own]
            return 0
        widget.deleteLater()
        return 1 + many
