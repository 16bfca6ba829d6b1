"""Parts of the window that are no longer shown are taken away in turns: Qt styles each of them once more as it goes."""

from __future__ import annotations

import time
from functools import cache

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QApplication, QFrame, QWidget
from shiboken6 import isValid

from wintry_tally.desk.widgets.turns import turns

SLICE_S = 0.006
"""A turn ends at the first part that went after so long."""
TOGETHER = 24
"""What has no more parts than these goes in one piece."""
HOLDERS = (QWidget, QFrame)


def let_go(widget: QWidget) -> None:
    """Hide it now, and take it and all its parts away when there is time. It is not to be shown again.

    The keyboard goes to what it lay on, where that can have it: Qt would take it on to the next part, as Tab does.
    """
    focused = QApplication.focusWidget()
    if focused is not None and (focused is widget or widget.isAncestorOf(focused)):
        above = widget.parentWidget()
        while above is not None and not above.focusPolicy() & Qt.FocusPolicy.TabFocus:
            above = above.parentWidget()
        if above is not None:
            above.setFocus(Qt.FocusReason.OtherFocusReason)
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
            self._take_one()

    def _some(self) -> None:
        until = time.perf_counter() + SLICE_S
        while self._left:
            self._take_one()
            if time.perf_counter() >= until:
                turns().ask(self, self._some)
                return

    def _take_one(self) -> None:
        """What was put in last goes, or its parts first where they are many.

        Only what merely holds others is taken apart: a scroll area whose viewport went before it would reach for it. Each
        is taken out of its page before it is deleted: deleted where it is, it takes PySide's wrappers with it too early.
        """
        widget = self._left.pop()
        if not isValid(widget):
            return  # gone with the page it lay on
        own = widget.findChildren(QWidget, options=Qt.FindChildOption.FindDirectChildrenOnly)
        if own and type(widget) in HOLDERS and len(widget.findChildren(QWidget)) > TOGETHER:
            self._left += [widget, *own]
            return
        widget.setParent(None)
        widget.deleteLater()
