"""Work off the interface's thread, its result delivered on it."""

from __future__ import annotations

import traceback
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal
from shiboken6 import isValid

from wintry_tally.core.errors import WintryError


class Cancelled(Exception):
    """Raised inside a job whose user no longer wants it."""


class Job(QObject):
    """One piece of work; its progress arrives on the interface's thread."""

    progress = Signal(float)

    def __init__(self, work: Callable[[Job], Any]) -> None:
        super().__init__()
        self._work = work
        self.cancelled = False

    def cancel(self) -> None:
        """No longer wanted; nothing is delivered."""
        self.cancelled = True

    def tell(self, share: float) -> None:
        """Progress from 0 to 1; ends the work when it was cancelled."""
        if self.cancelled:
            raise Cancelled
        self.progress.emit(share)

    def run(self, over: Callable[[Any], None], failed: Callable[[str], None]) -> None:
        """Do it, in whatever thread calls, and tell one of them: its result, or one line of text."""
        try:
            result = self._work(self)
        except Cancelled:
            over(None)  # nobody is told of one that was cancelled
        except WintryError as error:
            failed(str(error))
        except Exception as error:
            traceback.print_exc()
            failed(f"internal failure ({type(error).__name__}: {error})")
        else:
            over(result)


def _is_there(told: Callable[..., None]) -> bool:
    """Whether the part of the window that a method belongs to was not let go of meanwhile."""
    owner = getattr(told, "__self__", None)
    return not isinstance(owner, QObject) or isValid(owner)


class _Post(QObject):
    """Brings what a worker made to the interface's thread: one connection for all jobs, for each takes its time to make."""

    sent = Signal(object, object, object)

    def __init__(self, forget: Callable[[Job], None]) -> None:
        super().__init__()
        self._forget = forget
        self.sent.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    def _deliver(self, job: Job, told: Callable[[Any], None] | None, what: Any) -> None:
        self._forget(job)
        # cancelled between its end and here: whoever asked may be gone, window and all
        if told is not None and not job.cancelled and _is_there(told):
            told(what)


class Workshop:
    """One worker thread, so that jobs finish in the order they came."""

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(1, "workshop")
        self._jobs: set[Job] = set()
        self._post = _Post(self._jobs.discard)

    def start(
        self, work: Callable[[Job], Any], done: Callable[[Any], None], failed: Callable[[str], None] | None = None
    ) -> Job:
        """Queue a job."""
        job = Job(work)
        self._jobs.add(job)
        self._pool.submit(job.run, partial(self._post.sent.emit, job, done), partial(self._post.sent.emit, job, failed))
        return job

    def close(self) -> None:
        """Cancel what waits and end the thread."""
        for job in self._jobs:
            job.cancel()
        self._pool.shutdown(wait=True, cancel_futures=True)
