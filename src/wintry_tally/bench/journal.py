"""Keeping every reading: a short buffer in front of the book, at most a second and a half old."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from typing import Any, Protocol

from wintry_tally.core.engine import Event, Observation, RunState

AT_RISK_S = 1.0
"""Readings are written at least this often, in wall seconds; with the writing itself under the 2 s promised."""
MOST_ROWS = 5000

Row = tuple[float, float, float, float | None, Mapping[str, float]]
"""elapsed s, V, A, °C or None, and what was told beside."""


class Store(Protocol):
    """What the journal writes into: one transaction for all of it, or an exception and nothing."""

    def append(self, run_id: int, rows: list[Row], events: list[Event], state: RunState, bench: dict[str, Any]) -> None:
        """Write readings, events and the engine's state together."""

    def remove_last(self, run_id: int) -> None:
        """Take the last reading back."""


class Journal:
    """Buffers a run's readings and events and writes them in time. A failed write keeps them for the next try."""

    def __init__(self, store: Store, run_id: int, clock: Callable[[], float] = time.monotonic) -> None:
        self._store, self._run_id, self._clock = store, run_id, clock
        self._rows: list[Row] = []
        self._events: list[Event] = []
        self._since = clock()

    @property
    def waiting(self) -> int:
        """Readings not yet written."""
        return len(self._rows)

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
        if self._rows:
            self._rows.pop()
        else:
            self._store.remove_last(self._run_id)

    def due(self) -> bool:
        """Whether it is time to write: on the clock, after many readings, or at once after an event."""
        return bool(self._events) or len(self._rows) >= MOST_ROWS or self._clock() - self._since >= AT_RISK_S

    def write(self, state: RunState, bench: dict[str, Any]) -> None:
        """Write what is waiting.

        Raises:
            BookError: the book could not be written; everything stays in the buffer.
        """
        self._store.append(self._run_id, self._rows, self._events, state, bench)
        self._rows, self._events = [], []
        self._since = self._clock()
