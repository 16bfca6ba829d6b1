"""Views and pages made while nobody does anything, so that a first click finds them."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt, QTimer
from PySide6.QtWidgets import QApplication, QWidget

from wintry_tally.desk.starting import load_ahead
from wintry_tally.desk.views import OFF_RACK, PAGES, VIEWS

if TYPE_CHECKING:
    from wintry_tally.desk.window import Window

APART_MS = 150


class MadeAhead(QObject):
    """Makes those of a window, one after the other: each takes the window for a moment, so none while a key is held down."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        self._to_do: Iterator[None] | None = None
        self._loading: threading.Thread | None = None
        self._timer = QTimer(self, interval=APART_MS)
        self._timer.timeout.connect(self._step)

    def begin(self) -> None:
        """From the first on, once all their modules are loaded, and again for another book; what is there is passed over."""
        if self._loading is None:
            self._loading = load_ahead()
            self._window.session.book_changed.connect(self.begin)
            self._window.session.units_changed.connect(self.begin)
        self._to_do = self._made()
        self._timer.start()

    @property
    def done(self) -> bool:
        """Whether everything is there."""
        return self._to_do is None

    def _step(self) -> None:
        if self._loading is not None and self._loading.is_alive():
            return
        busy = QApplication.mouseButtons() != Qt.MouseButton.NoButton or QApplication.activePopupWidget() is not None
        if busy or not self._window.session.has_book or self._to_do is None:
            return
        if next(self._to_do, self) is self:
            self._to_do = None
            self._timer.stop()

    def _made(self) -> Iterator[None]:
        from wintry_tally.desk.widgets.curve import Curve

        window = self._window
        for key in (*VIEWS, *(page for page in PAGES if page not in OFF_RACK)):
            made: QWidget | None = None
            if key in VIEWS and key not in window.views:
                made = window.view(key)
            elif key in PAGES and key not in window.pages_made:
                made = window.page(key)
            if made is None:
                continue
            yield
            # a style sheet is looked through for each widget before it is first seen
            for child in made.findChildren(QWidget):
                child.ensurePolished()
            yield
            for curve in made.findChildren(Curve):
                if curve.made_ahead:
                    curve.prepare()
                    yield
