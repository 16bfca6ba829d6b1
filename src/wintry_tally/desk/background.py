"""Work off the interface's thread, its result delivered on it."""

from __future__ import annotations

import traceback
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, Signal
from shiboken6 import isValid

from wintry_tally.core.errors import WintryError


class Cancelled(Exception):
    """Raised inside a job whose user no longer wants it."""


class Job(QObject):
    """One piece of work. `done` carries its result, `failed` one line of text; both arrive on the interface's thread."""

    done = Signal(object)
    failed = Signal(str)
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

    def run(self) -> None:
        """Do it, in whatever thread calls."""
        try:
            result = self._work(self)
        except Cancelled:
            return
        except WintryError as error:
            if not self.cancelled:
                self.failed.emit(str(error))
        except Exception as error:
            traceback.print_exc()
            if not self.cancelled:
                self.failed.emit(f"internal failure ({type(error).__name__}: {error})")
        else:
            if not self.cancelled:
                self.done.emit(result)


def _is_there(told: Callable[..., None]) -> bool:
    """Whether the part of the window that a method belongs to was not let go of meanwhile."""
    owner = getattr(told, "__self__", None)
    return not isinstance(owner, QObject) or isValid(owner)


class Workshop:
    """One worker thread, so that jobs finish in the order they came."""

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(1, "workshop")
        self._jobs: set[Job] = set()

    def start(
        self, work: Callable[[Job], Any], done: Callable[[Any], None], failed: Callable[[str], None] | None = None
    ) -> Job:
        """Queue a job."""
        job = Job(work)
        self._jobs.add(job)

        def deliver(told: Callable[[Any], None] | None, what: Any) -> None:
            self._jobs.discard(job)
            # cancelled between its end and here: whoever asked may be gone, window and all
            if told is not None and not job.cancelled and _is_there(told):
                told(what)

        job.done.connect(partial(deliver, done))
        job.failed.connect(partial(deliver, failed))
        self._pool.submit(job.run)
        return job

    def close(self) -> None:
        """Cancel what waits and end the thread."""
        for job in self._jobs:
            job.cancel()
        self._pool.shutdown(wait=True, cancel_futures=True)
