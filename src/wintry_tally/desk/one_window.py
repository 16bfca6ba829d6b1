"""A book opened from the desktop a second time brings the window forward that shows it already.

Each window listens at a socket named by its book, in the place that the desktop keeps for one user's running programs.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import socket
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSocketNotifier

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget

COME, THERE, ANSWER = b"come\n", b"here?\n", b"here\n"
WAIT_S, HEAR_S = 1.0, 0.1
"""How long an answer is waited for, and how long a window listens to who asks: its interface waits meanwhile."""
LONGEST = 100
"""Bytes of a socket's path that every system takes."""


def _folder() -> Path | None:
    """Where one user's sockets go; None where there is no place that is this user's own."""
    given = os.environ.get("XDG_RUNTIME_DIR")
    path = Path(given) if given else Path(tempfile.gettempdir()) / f"wintry-tally-{os.getuid()}"
    with contextlib.suppress(OSError):
        path.mkdir(mode=0o700, exist_ok=True)
        known = path.lstat()
        if known.st_uid == os.getuid() and not known.st_mode & 0o077:
            return path
    return None


def _place(book: Path) -> Path | None:
    folder = _folder()
    if folder is None:
        return None
    name = hashlib.sha256(os.fsencode(book.resolve())).hexdigest()[:20]
    place = folder / f"wintry-tally-{name}"
    return place if len(os.fsencode(place)) <= LONGEST else None


def call_forward(book: Path) -> bool:
    """Ask the window that shows a book to come forward; False where none does."""
    return _asked(book, COME)


def _asked(book: Path, words: bytes) -> bool:
    place = _place(book)
    if place is None or not place.exists():
        return False
    with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX) as asked:
        asked.settimeout(WAIT_S)
        asked.connect(str(place))
        asked.sendall(words)
        return asked.recv(len(ANSWER)) == ANSWER
    return False


class Door:
    """Where a window is called forward by its book; nobody is told where that cannot be."""

    def __init__(self, window: QWidget) -> None:
        self._window = window
        self._heard: socket.socket | None = None
        self._place: Path | None = None
        self._notifier: QSocketNotifier | None = None

    def open(self, book: Path) -> None:
        """Listen for this book, and for no other any more; where another window does already, let it."""
        self.close()
        place = _place(book)
        if place is None or _asked(book, THERE):
            return
        with contextlib.suppress(OSError):
            place.unlink(missing_ok=True)  # of a window that is gone
            heard = socket.socket(socket.AF_UNIX)
            heard.bind(str(place))
            heard.listen(4)
            heard.setblocking(False)
            self._heard, self._place = heard, place
            self._notifier = QSocketNotifier(heard.fileno(), QSocketNotifier.Type.Read)
            self._notifier.activated.connect(lambda *_: self._answer())

    def _answer(self) -> None:
        if self._heard is None:
            return
        with contextlib.suppress(OSError):
            asking, _ = self._heard.accept()
            with asking:
                asking.settimeout(HEAR_S)
                words = asking.recv(len(THERE))
                asking.sendall(ANSWER)
            if words != COME:
                return
            if self._window.isMinimized():
                self._window.showNormal()
            self._window.raise_()
            self._window.activateWindow()

    def close(self) -> None:
        """Listen no more."""
        if self._notifier is not None:
            self._notifier.setEnabled(False)
            self._notifier = None
        if self._heard is not None:
            self._heard.close()
            self._heard = None
        if self._place is not None:
            with contextlib.suppress(OSError):
                self._place.unlink(missing_ok=True)
            self._place = None
