"""What is taken on this computer: an instrument or a battery belongs to one run at a time, of whatever program or book."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import tempfile
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from wintry_tally.core.errors import InputError

PATIENCE_S = 6.0
"""So long is waited for what a dead program's guard is just switching off."""
TRY_S = 0.1


def folder() -> Path:
    """Where this computer's programs see each other, whatever user runs them or book they have open."""
    base = Path(os.environ.get("WINTRY_TALLY_TAKEN") or Path(tempfile.gettempdir()) / "wintry-tally-taken")
    base.mkdir(parents=True, exist_ok=True)
    if base.stat().st_uid == os.getuid():
        base.chmod(0o1777)
    return base


@dataclass(frozen=True)
class Thing:
    """An instrument (its address's key) or a battery (its book and code), and its name for people."""

    key: str
    name: str


class Taken:
    """Locks held for a run; the kernel lets go of them when every process that holds them has ended.

    The descriptors are handed to the guard, so that what it is still switching off stays taken.
    """

    def __init__(self, descriptors: Sequence[int]) -> None:
        self.descriptors = list(descriptors)

    def release(self) -> None:
        """Let go."""
        for number in self.descriptors:
            os.close(number)
        self.descriptors = []


def take(things: Iterable[Thing], by: str, patience_s: float = PATIENCE_S, brief: bool = False) -> Taken:
    """Take all of them or none, in the name of a run; `brief`: of a look of seconds, which a run waits for.

    Raises:
        InputError: one is taken; which, and by what.
    """
    held: list[int] = []
    until = time.monotonic() + patience_s
    try:
        for thing in sorted(things, key=lambda item: item.key):
            held.append(_take_one(thing, by, until, brief))
    except BaseException:
        Taken(held).release()
        raise
    return Taken(held)


def _take_one(thing: Thing, by: str, until: float, brief: bool) -> int:
    path = folder() / f"{hashlib.sha256(thing.key.encode()).hexdigest()[:32]}.lock"
    number = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o666)
    while True:
        try:
            fcntl.flock(number, fcntl.LOCK_EX | fcntl.LOCK_NB)
            break
        except OSError:
            holder, lives, looks = _holder(path)
            if (lives and not looks) or time.monotonic() >= until:
                os.close(number)
                doing = "" if lives else ", whose guard is still switching it off"
                raise InputError(
                    f"{thing.name} is taken by {holder or 'another run'}{doing}",
                    mend="stop that run first, or use another",
                ) from None
            time.sleep(TRY_S)
    os.ftruncate(number, 0)
    os.pwrite(number, json.dumps({"by": by, "pid": os.getpid(), "brief": brief}).encode(), 0)
    return number


def _holder(path: Path) -> tuple[str, bool, bool]:
    """Who holds a lock, whether that program lives (its guard may hold on a while longer), and whether it only looks."""
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
        number = int(data["pid"])
        state = Path(f"/proc/{number}/stat").read_text(encoding="ascii", errors="replace").rpartition(")")[2].split()[0]
        return str(data["by"]), state not in {"Z", "X"}, data.get("brief") is True
    except (OSError, ValueError, KeyError, IndexError):
        try:
            return str(json.loads(path.read_text(encoding="utf-8"))["by"]), False, False
        except (OSError, ValueError, KeyError):
            return "", False, False
