"""Keeping every reading: a buffer in front of the book, at most a second and a half old while the book takes it.

On a real bench the writing is done by a thread of its own: watching never waits for it. Whatever the book does not take
is kept and tried again; `problem` says so.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Protocol

from wintry_tally.core.engine import Event, Observation, RunState
from wintry_tally.core.errors import BookError

AT_RISK_S = 1.0
"""Readings are written at least this often, in wall seconds; with the writing itself under the 2 s promised."""
MOST_ROWS = 5000
SLOW_S = 4.0
"""A book that has not taken a batch for so long is said not to be saving."""
AGAIN_S = 0.5

Row = tuple[float, float, float, float | None, Mapping[str, float]]
"""elapsed s, V, A, °C or None, and what was told beside."""


class Store(Protocol):
    """What the journal writes into: one transaction for all of it, or an exception and nothing."""

    def append(self, run_id: int, rows: list[Row], events: list[Event], state: RunState, bench: dict[str, Any]) -> None:
        """Write readings, events and the engine's state together."""

    def remove_last(self, run_id: int) -> None:
        """Take the last reading back."""


@dataclass
class _Batch:
    rows: list[Row]
    events: list[Event]
    state: RunState
    bench: dict[str, Any]
    since: float

    def with_more(self, later: _Batch) -> _Batch:
        return _Batch([*self.rows, *later.rows], [*self.events, *later.events], later.state, later.bench, self.since)


class Journal:
    """Buffers a run's readings and events and has them written in time. What could not be written is kept and tried again.

    `apart`: written by a thread of its own; else by whoever calls `write`.
    """

    def __init__(
        self, store: Store, run_id: int, clock: Callable[[], float] = time.monotonic, *, apart: bool = False
    ) -> None:
        self._store, self._run_id, self._clock = store, run_id, clock
        self._rows: list[Row] = []
        self._events: list[Event] = []
        self._since = clock()
        self._lock = threading.Condition()
        self._batch: _Batch | None = None
        self._in_hand: _Batch | None = None
        self._failed_at = 0.0
        self._failure = ""
        self._apart, self._closed = apart, False
        self._thread: threading.Thread | None = None

    @property
    def _oldest(self) -> _Batch | None:
        return self._in_hand or self._batch

    @property
    def waiting(self) -> int:
        """Readings not yet written."""
        with self._lock:
            handed = [part for part in (self._in_hand, self._batch) if part is not None]
            return len(self._rows) + sum(len(part.rows) for part in handed)

    @property
    def problem(self) -> str:
        """Why readings are not being saved; empty while they are."""
        with self._lock:
            if self._failure:
                return self._failure
            age = self._age_s()
            return f"the book has not taken anything for {age:.0f} s" if age > SLOW_S else ""

    @property
    def unsaved_s(self) -> float:
        """How old the oldest thing is that the book has not taken, s; 0 while it takes everything."""
        with self._lock:
            return self._age_s()

    def _age_s(self) -> float:
        return self._clock() - self._oldest.since if self._oldest is not None else 0.0

    def reading(self, elapsed_s: float, seen: Observation) -> None:
        """Keep one reading."""
        self._rows.append((elapsed_s, seen.voltage_V, seen.current_A, seen.temperature_C, seen.beside))

    def events(self, events: tuple[Event, ...]) -> None:
        """Keep events."""
        self._events.extend(events)

    def take_back(self) -> None:
        """The last reading again out of the record, written or not.

        Raises:
            BookError: the book could not be written; it stays.
        """
        with self._lock:
            for held in (self._rows, self._batch.rows if self._batch is not None else []):
                if held:
                    held.pop()
                    return
        self.flush(SLOW_S)
        self._store.remove_last(self._run_id)

    def due(self) -> bool:
        """Whether it is time to write: on the clock, after many readings, or at once after an event."""
        if self._failure and not self._apart:
            return self._clock() - self._failed_at >= AGAIN_S or bool(self._events)
        return bool(self._events) or len(self._rows) >= MOST_ROWS or self._clock() - self._since >= AT_RISK_S

    def write(self, state: RunState, bench: dict[str, Any]) -> None:
        """Have written what is waiting; a book that refuses shows in `problem`, and everything stays in the buffer."""
        fresh = _Batch(self._rows, self._events, state, bench, self._clock())
        self._rows, self._events = [], []
        self._since = self._clock()
        with self._lock:
            self._batch = fresh if self._batch is None else self._batch.with_more(fresh)
            if self._apart:
                if self._thread is None:
                    self._thread = threading.Thread(target=self._write_on, name="journal", daemon=True)
                    self._thread.start()
                self._lock.notify_all()
                return
        self._write_once()

    def _write_once(self) -> bool:
        with self._lock:
            batch, self._batch = self._batch, None
            self._in_hand = batch
        if batch is None:
            return True
        failure = ""
        try:
            self._store.append(self._run_id, batch.rows, batch.events, batch.state, batch.bench)
        except BookError as error:
            failure = str(error)
        except Exception as error:  # whatever it is, no reading is let go of
            failure = f"{type(error).__name__}: {error}"
        with self._lock:
            self._in_hand = None
            if failure:
                self._batch = batch if self._batch is None else batch.with_more(self._batch)
                self._failed_at = self._clock()
            self._failure = failure
            self._lock.notify_all()
        return not failure

    def _write_on(self) -> None:
        while True:
            with self._lock:
                while self._batch is None and not self._closed:
                    self._lock.wait()
                if self._batch is None and self._closed:
                    return
            if not self._write_once():
                with self._lock:
                    if self._closed:
                        return
                    self._lock.wait(AGAIN_S)

    def flush(self, limit_s: float) -> bool:
        """Wait until the book has taken everything handed to `write`, not longer than the limit; whether it has."""
        if not self._apart:
            return self._batch is None or self._write_once()
        until = time.monotonic() + limit_s
        with self._lock:
            while self._oldest is not None:
                left = until - time.monotonic()
                if left <= 0:
                    return False
                self._lock.wait(left)
        return True

    def close(self) -> None:
        """No more is written; what is waiting has been flushed, or is lost with this program."""
        with self._lock:
            self._closed = True
            self._lock.notify_all()
