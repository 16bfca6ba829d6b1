"""The program's side of its guard: started before anything flows, told that the program lives, let go of at the end."""

from __future__ import annotations

import contextlib
import json
import os
import select
import subprocess
import sys
import threading
import time
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from wintry_tally.bench.guard.process import ASKED
from wintry_tally.bench.guard.record import new_record_path
from wintry_tally.bench.offplan import OffPlan
from wintry_tally.core.errors import InstrumentError
from wintry_tally.core.message import Message, said

LATE_S = 3.0
START_S = 10.0
BEAT_S = 0.2
SCRIPT = Path(__file__).with_name("process.py")


@dataclass(frozen=True)
class Acted:
    """What the guard did by itself: why, and what it could not see off (name: words); `asked`: this program had told it to."""

    why: str
    left: dict[str, str]
    asked: bool = False

    @property
    def words(self) -> Message:
        """In a sentence."""
        left = tuple(f"{name} ({told})" for name, told in self.left.items())
        return said("guard-left-on", why=self.why, left=left) if left else said("guard-acted", why=self.why)


class Guardian(ABC):
    """Whatever watches over a run from outside."""

    @abstractmethod
    def begin(self) -> None:
        """Stand ready; called before anything is switched on, and again when it is needed.

        Raises:
            InstrumentError: it cannot; nothing may be switched on.
        """

    @abstractmethod
    def beat(self) -> None:
        """The run's loop is alive."""

    @abstractmethod
    def switch_off(self) -> None:
        """Switch everything off over lines of its own, now: the program cannot."""

    @abstractmethod
    def acted(self) -> Acted | None:
        """What it did since it was last asked; the run knows of it then."""

    @abstractmethod
    def release(self) -> None:
        """Everything is seen off: it is not needed any more."""

    @abstractmethod
    def leave(self) -> None:
        """The program lets go with something still on: the guard goes on by itself."""


class NoGuard(Guardian):
    """For benches where nothing real is switched."""

    def begin(self) -> None:
        """See Guardian."""

    def beat(self) -> None:
        """See Guardian."""

    def switch_off(self) -> None:
        """See Guardian."""

    def acted(self) -> Acted | None:
        """See Guardian."""
        return None

    def release(self) -> None:
        """See Guardian."""

    def leave(self) -> None:
        """See Guardian."""


def started_at(number: int) -> str:
    """When a process began, in ticks: with its number it names it for good."""
    try:
        return Path(f"/proc/{number}/stat").read_text(encoding="ascii", errors="replace").rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""


class ProcessGuard(Guardian):
    """A process of its own (guard/process.py). May be used from any thread; never blocks for longer than its start.

    `keep` are file descriptors it inherits: what this program has taken stays taken until the guard is done.
    """

    def __init__(
        self,
        plans: Sequence[OffPlan],
        run: int,
        book: str,
        title: str,
        keep: Sequence[int] = (),
        sound: str = "",
        terminal: int | None = None,
    ) -> None:
        self._plans, self._run, self._book, self._title = tuple(plans), run, book, title
        self._keep, self._sound = tuple(keep), sound
        self._terminal = terminal
        self._process: subprocess.Popen[bytes] | None = None
        self._lock = threading.Lock()
        self._beaten = 0.0
        self._pending = b""
        self.record: Path | None = None

    @property
    def pid(self) -> int:
        """Its process number; 0 when there is none."""
        return self._process.pid if self._process is not None else 0

    @property
    def lives(self) -> bool:
        """Whether it is there."""
        return self._process is not None and self._process.poll() is None

    def begin(self) -> None:
        """See Guardian."""
        with self._lock:
            if self.lives:
                return
            try:
                self._start()
            except OSError as error:
                raise InstrumentError(
                    f"the guard outside the program could not be started ({error.strerror or error})",
                    mend="without it nothing is switched on: free some memory, or start the computer anew",
                ) from None

    def _shouts_to(self) -> int:
        """A terminal, where there is one; a pipe is not held open beyond this program's end."""
        if self._terminal is not None:
            return self._terminal
        try:
            return 2 if os.isatty(2) else subprocess.DEVNULL
        except OSError:
            return subprocess.DEVNULL

    def _bury(self) -> None:
        """Of one that is dead nothing is kept open."""
        process, self._process = self._process, None
        if process is not None:
            process.wait()
            for pipe in (process.stdin, process.stdout):
                if pipe is not None:
                    with contextlib.suppress(OSError):
                        pipe.close()

    def _start(self) -> None:
        self._bury()
        self.record = new_record_path()
        plan = {
            "instruments": [plan.data() for plan in self._plans], "late_s": LATE_S, "run": self._run, "book": self._book,
            "title": self._title, "record": str(self.record), "sound": self._sound, "program": os.getpid(),
            "program_started": started_at(os.getpid()),
        }  # fmt: skip
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-S", str(SCRIPT)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=self._shouts_to(),
            start_new_session=True,
            pass_fds=self._keep,
            close_fds=True,
            bufsize=0,
        )
        stdin, stdout = self._process.stdin, self._process.stdout
        assert stdin is not None and stdout is not None
        stdin.write((json.dumps(plan) + "\n").encode())
        ready, _, _ = select.select([stdout], [], [], START_S)
        if not ready or b"ready" not in os.read(stdout.fileno(), 65536):
            self._process.kill()
            self._bury()
            raise OSError("it does not answer")
        for pipe in (stdin, stdout):
            os.set_blocking(pipe.fileno(), False)
        self._beaten = time.monotonic()

    def beat(self) -> None:
        """See Guardian."""
        now = time.monotonic()
        if now - self._beaten >= BEAT_S:
            self._beaten = now
            self._tell(b"b\n")

    def switch_off(self) -> None:
        """See Guardian."""
        self._tell(b"t\n")

    def _tell(self, word: bytes) -> None:
        with self._lock:
            if self._process is not None and self._process.stdin is not None and not self._process.stdin.closed:
                with contextlib.suppress(OSError):  # a full pipe or a guard that is gone: `lives` tells
                    self._process.stdin.write(word)

    def acted(self) -> Acted | None:
        """See Guardian."""
        with self._lock:
            if self._process is None or self._process.stdout is None:
                return None
            with contextlib.suppress(OSError):
                while chunk := os.read(self._process.stdout.fileno(), 65536):
                    self._pending += chunk
            *whole, self._pending = self._pending.split(b"\n")
        news = None
        for line in whole:
            with contextlib.suppress(ValueError):
                said = json.loads(line)
                if "acted" in said:
                    asked = said.get("reason") == ASKED
                    news = Acted(str(said.get("why", "")), dict(said.get("left", {})), asked)
        if news is not None:
            if not news.left:
                self._tell(b"a\n")
                if self.record is not None:
                    self.record.unlink(missing_ok=True)
            self._beaten = time.monotonic()
        return news

    def release(self) -> None:
        """See Guardian."""
        self._tell(b"x\n")
        self._let_go(wait_s=1.0)
        if self.record is not None:
            self.record.unlink(missing_ok=True)

    def leave(self) -> None:
        """See Guardian."""
        self._let_go(wait_s=0.0)

    def _let_go(self, wait_s: float) -> None:
        with self._lock:
            process, self._process = self._process, None
        if process is None:
            return
        for pipe in (process.stdin, process.stdout):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()
        # whoever is let go of is waited for apart, so that no dead process is left lying about
        waiting = threading.Thread(target=process.wait, name="guard", daemon=True)
        waiting.start()
        waiting.join(wait_s)
