"""A trace that is read when somebody asks for it."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wintry_tally.core.trace.trace import Trace


class Later:
    """Stands for a trace; read once, on the first thread that asks."""

    def __init__(self, read: Callable[[], Trace]) -> None:
        self._read, self._one = read, threading.Lock()
        self._trace: Trace | None = None

    @property
    def is_read(self) -> bool:
        """Whether it is there."""
        return self._trace is not None

    @property
    def trace(self) -> Trace:
        """The trace.

        Raises:
            WintryError: what `read` raises; the next one who asks reads again.
        """
        with self._one:
            if self._trace is None:
                self._trace = self._read()
            return self._trace
