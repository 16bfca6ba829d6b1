"""A thread for each instrument: whoever asks something of it waits no longer than the limit, whatever its driver does."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, InvalidStateError
from concurrent.futures import TimeoutError as Late
from typing import Any, TypeVar

from wintry_tally.core.errors import InstrumentError, StuckError

T = TypeVar("T")
SLICE_S = 0.1
CLOSE_S = 2.0


class Hand:
    """Does one thing after another with one instrument.

    What does not come back in time is given up: its thread is disowned (it can say nothing more), the line is opened
    anew by the next thread. Whatever a driver raises comes out as InstrumentError; only what ends a program passes.
    """

    def __init__(self, name: str, driver: Any) -> None:
        self.name, self.driver = name, driver
        self._lock = threading.Lock()
        self._jobs: queue.SimpleQueue[tuple[Callable[[], Any], Future[Any]] | None] = queue.SimpleQueue()
        self._thread: threading.Thread | None = None
        self._closed = False

    def begin(self, act: Callable[[], T]) -> Future[T]:
        """Ask for something to be done; the future holds the answer."""
        done: Future[T] = Future()
        with self._lock:
            if self._closed:
                done.set_exception(InstrumentError(f"{self.name}: its line was let go of"))
                return done
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=_work, args=(self._jobs,), name=f"hand {self.name}", daemon=True)
                self._thread.start()
            self._jobs.put((act, done))
        return done

    def result(self, done: Future[T], limit_s: float, waiting: Callable[[], None] | None = None) -> T:
        """Wait for an answer, not longer than the limit; `waiting` is called meanwhile.

        Raises:
            InstrumentError: what was raised, or that nothing came back in time.
        """
        until = time.monotonic() + limit_s
        while True:
            try:
                return done.result(max(0.0, min(SLICE_S, until - time.monotonic())))
            except Late:
                if done.done():
                    raise InstrumentError(f"{self.name}: no answer in time") from None
                if waiting is not None:
                    waiting()
                if time.monotonic() >= until:
                    self._give_up(done)
                    raise StuckError(
                        f"{self.name} does not come back within {limit_s:g} s",
                        mend="check its power, its line and its address",
                    ) from None
            except InstrumentError:
                raise
            except Exception as error:
                raise InstrumentError(f"{self.name}: {type(error).__name__}, {_line(error)}") from error

    def call(self, act: Callable[[], T], limit_s: float, waiting: Callable[[], None] | None = None) -> T:
        """Begin, and wait."""
        return self.result(self.begin(act), limit_s, waiting)

    def _give_up(self, done: Future[Any]) -> None:
        with self._lock:
            stuck, self._thread = self._thread, None
            self._jobs.put(None)  # whenever the stuck one comes back, it ends
            self._jobs = queue.SimpleQueue()
        done.cancel()
        disown = getattr(getattr(self.driver, "link", None), "disown", None)
        if stuck is not None and disown is not None:
            disown(stuck)

    @property
    def closed(self) -> bool:
        """Whether the line was let go of."""
        return self._closed

    def close(self) -> None:
        """Let go of the line, once what is being done with it is done; what is asked from now on is refused."""
        with self._lock:
            if self._closed:
                return
            self._closed = True
            thread, alive = self._thread, self._thread is not None and self._thread.is_alive()
            if alive:
                self._jobs.put((self._close_driver, Future()))
                self._jobs.put(None)
        if not alive:
            thread = threading.Thread(target=self._close_driver, name="closing", daemon=True)
            thread.start()
        assert thread is not None
        thread.join(CLOSE_S)

    def _close_driver(self) -> None:
        try:
            self.driver.close()
        except Exception:
            return  # a broken line closes as it can


def _work(jobs: queue.SimpleQueue[tuple[Callable[[], Any], Future[Any]] | None]) -> None:
    while True:
        job = jobs.get()
        if job is None:
            return
        act, done = job
        if done.cancelled():
            continue
        try:
            answer, failure = act(), None
        except BaseException as error:  # whatever it is, it belongs to whoever asked
            answer, failure = None, error
        try:
            if failure is not None:
                done.set_exception(failure if isinstance(failure, Exception) else RuntimeError(repr(failure)))
            else:
                done.set_result(answer)
        except InvalidStateError:
            pass  # given up meanwhile


def _line(error: BaseException) -> str:
    return (str(error).splitlines() or ["no words"])[0][:120]
