"""Starting the application: the window first, everything heavy after it is up."""

from __future__ import annotations

import logging
import sys
import traceback
from pathlib import Path
from types import TracebackType

from PySide6.QtCore import QCoreApplication, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from wintry_tally import __version__
from wintry_tally.app.logbook import keep_log
from wintry_tally.desk.collecting import Collector
from wintry_tally.desk.made_ahead import MadeAhead
from wintry_tally.desk.one_window import Door, call_forward
from wintry_tally.desk.preferences import take_up, theme_named
from wintry_tally.desk.remembered import books, put_back
from wintry_tally.desk.session import Session
from wintry_tally.desk.starting import release_collector
from wintry_tally.desk.theme.style import apply_named
from wintry_tally.desk.window import Window

ICON = Path(__file__).parent / "theme" / "icons" / "wintry-tally.svg"


log = logging.getLogger(__name__)
SWITCH_S = 0.001
"""So long, not Python's 5 ms, a thread at work keeps the window waiting each time the window needs Python."""
AHEAD_MS = 1500
TITLE_BAR = 36
"""So much of a screen's height a window manager takes for itself; the last line of the window has to be seen."""


def make_application(theme: str | None = None) -> QApplication:
    """The application object with fonts, icon and theme; the one there is, if there is one."""
    existing = QApplication.instance()
    application = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    QCoreApplication.setOrganizationName("wintry-tally")
    QCoreApplication.setApplicationName("wintry-tally")
    QCoreApplication.setApplicationVersion(__version__)
    application.setApplicationDisplayName("Wintry Tally")
    application.setDesktopFileName("wintry-tally")
    application.setWindowIcon(QIcon(str(ICON)))
    sys.setswitchinterval(SWITCH_S)
    if application.findChild(Collector) is None:
        Collector(application)
    preferred = take_up()
    apply_named(application, theme_named(theme or preferred.theme))
    return application


def run(demo: bool = False, book: Path | None = None, theme: str | None = None, again: bool = True) -> int:
    """Show the window and stay until it is closed; where `again` is not wanted, one that shows the book comes forward."""
    if book is not None and not again and call_forward(book):
        return 0
    application = make_application(theme)
    window = Window(Session())
    door = Door(window)
    window.session.book_changed.connect(lambda: door.open(window.session.book.path))

    keep_log()

    def last_resort(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        traceback.print_exception(kind, error, trace)
        log.error("an internal failure", exc_info=(kind, error, trace))
        window.show_problem(f"An internal failure ({kind.__name__}: {error}). Readings are kept; please report it.")

    sys.excepthook = last_resort
    room = application.primaryScreen().availableGeometry()
    if not put_back(window):
        window.resize(min(window.width(), room.width()), min(window.height(), room.height() - TITLE_BAR))
    window.show()

    ahead = MadeAhead(window)

    def begin() -> None:
        try:
            if demo:
                window.open_demo()
            elif book is not None:
                window.open_book(book)
            else:
                for last in books()[:1]:
                    window.open_book(last)
        finally:
            release_collector()
            QTimer.singleShot(AHEAD_MS, ahead.begin)

    QTimer.singleShot(0, begin)
    try:
        return application.exec()
    finally:
        door.close()
