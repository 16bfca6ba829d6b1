"""Whose something is that is being done to a book: a process, named so that every other one can tell whether it lives."""

from __future__ import annotations

import os
import platform
from datetime import UTC, datetime

LEASE_S = 60.0
"""A run whose owner on another computer has not renewed its lease for so long is in nobody's hands."""
RENEWED_S = 10.0


def by_clock(told: object) -> datetime:
    """A moment as a database's own clock tells it: SQLite's as text without a zone, in UTC; a server's with its zone.

    Raises:
        ValueError: it is no moment.
    """
    moment = datetime.fromisoformat(str(told))
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)


def this_host() -> str:
    """This computer's name among those that may have one book open."""
    return platform.node().replace("/", "-") or "here"


def this_process() -> str:
    """Names this process so that another can tell whether it still lives: host, pid and its start time."""
    return f"{this_host()}/{os.getpid()}:{_started(os.getpid())}"


def _started(pid: int) -> str:
    try:
        with open(f"/proc/{pid}/stat", encoding="ascii", errors="replace") as file:  # noqa: PTH123
            fields = file.read().rpartition(")")[2].split()
        # a killed process that nobody has buried yet is as dead as any
        return "" if fields[0] in {"Z", "X"} else fields[19]
    except (OSError, IndexError):
        return ""


def owner_lives(owner: str) -> bool:
    """Whether the process of this computer that is named, "pid:start", is still there."""
    pid, _, started = owner.rpartition("/")[2].partition(":")
    return bool(pid.isdigit() and started and _started(int(pid)) == started)
