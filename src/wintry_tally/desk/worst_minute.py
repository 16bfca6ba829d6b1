"""One key and one button for the worst minute: in whatever window, dialog or state."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent, QWindow
from PySide6.QtWidgets import QApplication

if TYPE_CHECKING:
    from PySide6.QtWidgets import QStackedWidget, QStatusBar

    from wintry_tally.desk.session import Session
    from wintry_tally.desk.views.safe_page import SafePage
    from wintry_tally.desk.views.station import StationView


class Shows(Protocol):
    """A window, as far as the worst minute has to do with it."""

    session: Session
    sample_id: int | None
    pages: QStackedWidget
    views: dict[str, StationView]

    def statusBar(self) -> QStatusBar:
        """Where a line is said."""

    def heading(self) -> None:
        """Show whose page it is."""


ALL_OFF_KEYS = frozenset({Qt.Key.Key_F12, Qt.Key.Key_Pause})


class WorstMinute(QObject):
    """Hears the key wherever it is pressed, has everything switched off, and shows what came of it."""

    def __init__(self, parent: QObject, window: Shows) -> None:
        super().__init__(parent)
        self._window = window
        self.page: SafePage | None = None
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        # keys reach the window system's window before any widget of it: a filter over the whole application would be
        # asked at every event there is, and wait for whatever Python is at in other threads each time
        application.focusWindowChanged.connect(self._watch)
        self._watch(application.focusWindow())

    def _watch(self, window: QWindow | None) -> None:
        """Hear the keys of a window, once."""
        if window is not None:
            window.installEventFilter(self)

    def let_go(self) -> None:
        """The window closes."""
        application = QApplication.instance()
        if isinstance(application, QApplication):
            application.focusWindowChanged.disconnect(self._watch)
            for window in application.allWindows():
                window.removeEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """F12, or Pause, in whatever window or dialog: everything off."""
        if event.type() is QEvent.Type.KeyPress and isinstance(event, QKeyEvent) and event.key() in ALL_OFF_KEYS:
            if not event.isAutoRepeat():
                self.make_safe()
            return True
        return super().eventFilter(watched, event)

    def make_safe(self) -> None:
        """Everything off and read back, then what could not be, then the cautions; the battery goes into quarantine."""
        window, session = self._window, self._window.session
        doing = session.make_safe(None)
        if doing is None:
            window.statusBar().showMessage("No book is open: nothing here is driven.", 8000)
            return
        if self.page is None:
            from wintry_tally.desk.views.safe_page import SafePage

            self.page = SafePage()
            self.page.left.connect(self._read)
            window.pages.addWidget(self.page)
        samples = [sample for sample in session.samples() if sample.id in doing.samples]
        shown = samples or [sample for sample in session.samples() if sample.id == window.sample_id]
        families = list(dict.fromkeys(sample.family for sample in shown))
        self.page.show_all_off(doing, families, [sample.code for sample in samples])
        window.pages.setCurrentWidget(self.page)
        self.page.back.setFocus()
        for made in window.views.values():
            made.all_off(doing, families)

    def _read(self) -> None:
        self._window.pages.setCurrentIndex(1)
        self._window.heading()
