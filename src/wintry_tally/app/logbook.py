"""The error log: what went wrong inside this program, where a user can find it; without paths of this person's home."""

from __future__ import annotations

import logging
from collections import deque
from logging.handlers import RotatingFileHandler
from pathlib import Path

from wintry_tally.files import state_folder

MOST_BYTES, KEPT = 500_000, 3


def log_path() -> Path:
    """Where it is."""
    return state_folder() / "wintry-tally.log"


def last_lines(count: int = 200) -> str:
    """The newest lines of it; empty where nothing was ever noted, or it cannot be read."""
    try:
        with log_path().open(encoding="utf-8", errors="replace") as file:
            return "".join(deque(file, count)).rstrip()
    except OSError:
        return ""


class _Impersonal(logging.Formatter):
    """Without the user's home folder."""

    def format(self, record: logging.LogRecord) -> str:
        return super().format(record).replace(str(Path.home()), "~")


def keep_log() -> None:
    """Write warnings and worse into it from now on; where it cannot be written, nothing is kept and nothing fails."""
    root = logging.getLogger("wintry_tally")
    if any(isinstance(handler, RotatingFileHandler) for handler in root.handlers):
        return
    try:
        log_path().parent.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(log_path(), maxBytes=MOST_BYTES, backupCount=KEPT, encoding="utf-8", delay=True)
    except OSError:
        return
    handler.setFormatter(_Impersonal("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    handler.setLevel(logging.WARNING)
    root.addHandler(handler)
