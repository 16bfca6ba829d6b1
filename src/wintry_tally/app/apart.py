"""Long work in a process of its own, kept for the next time: a thread of this one would make the window wait at every turn.

What it is given and what it answers are plain values, pickled; nobody else reads or writes them.
"""

from __future__ import annotations

import atexit
import copyreg
import importlib
import os
import pickle
import select
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from wintry_tally.core.errors import WintryError

if TYPE_CHECKING:
    from subprocess import Popen

HEAD = struct.Struct("<Q")
LOOK_S = 0.05
GRACE_S = 5.0
"""So long it may go on with what is not wanted any more before it is ended."""


class Gone(Exception):
    """The helper is not there any more, or could not be begun."""


class Apart:
    """One helper that does one thing at a time; begun when first needed."""

    def __init__(self) -> None:
        self._process: Popen[bytes] | None = None
        self._one = threading.Lock()

    def call(self, function: Callable[..., Any], *given: Any, cancelled: Callable[[], bool] = lambda: False) -> Any:
        """What a function of a module, called by its name there, makes of the values; here, where no helper can be had.

        Args:
            function: takes, beside the values, `cancelled` by that name, and should look at it now and then.

        Raises:
            WintryError: it was cancelled, or the function raised it. What else it raises is raised as RuntimeError.
        """
        with self._one:
            try:
                done, made = self._answer(pickle.dumps((function.__module__, function.__qualname__, given)), cancelled)
            except Gone:
                self.close()
                return function(*given, cancelled=cancelled)
        if done:
            return made
        if isinstance(made, WintryError):
            raise made
        raise RuntimeError(str(made))

    def _answer(self, asked: bytes, cancelled: Callable[[], bool]) -> tuple[bool, Any]:
        process, broken_off = self._running(), 0.0
        assert process.stdin is not None and process.stdout is not None
        try:
            told(process.stdin, asked)
            while not select.select([process.stdout], [], [], LOOK_S)[0]:
                if not broken_off and cancelled():
                    told(process.stdin, b"")
                    broken_off = time.monotonic()
                if broken_off and time.monotonic() - broken_off > GRACE_S:
                    self.close()
                    raise WintryError("it was no longer wanted")
            content = framed(process.stdout)
        except (OSError, ValueError):
            raise Gone from None
        if not content:
            raise Gone
        found: tuple[bool, Any] = pickle.loads(content)
        return found

    def _running(self) -> Popen[bytes]:
        if self._process is None or self._process.poll() is not None:
            try:
                self._process = subprocess.Popen(
                    [sys.executable, "-m", "wintry_tally.app.apart"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                    bufsize=0,
                )  # fmt: skip
            except OSError:
                raise Gone from None
        return self._process

    def close(self) -> None:
        """Let go of the helper; the next call begins another."""
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            process.communicate()


def _zone(zone: ZoneInfo) -> tuple[Callable[..., ZoneInfo], tuple[str, ...]]:
    """How a zone is pickled: this computer's own, read from its file, as whatever it is on the other side."""
    if zone.key is not None and zone.key != "local":
        return ZoneInfo, (zone.key,)
    from wintry_tally.exchange.plan_file import own_zone

    return own_zone, ()


copyreg.pickle(ZoneInfo, _zone)


def told(stream: Any, content: bytes) -> None:
    """Write a whole message to an unbuffered stream."""
    left = memoryview(HEAD.pack(len(content)) + content)
    while left:
        left = left[stream.write(left) :]


def framed(stream: Any) -> bytes | None:
    """The next whole message of an unbuffered stream, and nothing beyond it; None at the end."""
    head = _exactly(stream, HEAD.size)
    return None if head is None else _exactly(stream, HEAD.unpack(head)[0])


def _exactly(stream: Any, size: int) -> bytes | None:
    parts, left = [], size
    while left:
        part = stream.read(min(left, 1 << 20))
        if not part:
            return None
        parts.append(part)
        left -= len(part)
    return b"".join(parts)


def serve(asked: Any, answers: Any) -> None:
    """Answer until nobody asks any more. An empty message while something is done says that it is not wanted any more."""

    def cancelled() -> bool:
        return bool(select.select([asked], [], [], 0)[0])

    while (content := framed(asked)) is not None:
        if not content:
            continue  # it was done before that was said
        module, name, given = pickle.loads(content)
        try:
            made: tuple[bool, Any] = True, getattr(importlib.import_module(module), name)(*given, cancelled=cancelled)
        except WintryError as error:
            made = False, error
        except Exception as error:
            made = False, f"{type(error).__name__}: {error}"
        try:
            told(answers, pickle.dumps(made))
        except BrokenPipeError:
            return  # whoever asked is gone


def main() -> None:
    """On the two pipes; what a library prints goes to the log's stream."""
    answers = os.dup(1)
    os.dup2(2, 1)
    os.nice(5)
    with os.fdopen(0, "rb", buffering=0) as asked, os.fdopen(answers, "wb", buffering=0) as back:
        serve(asked, back)


HELPER = Apart()
"""The one of this program."""
atexit.register(HELPER.close)

if __name__ == "__main__":
    main()
