"""A run in a thread of its own, so that a window never waits for a device or a disk."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable
from typing import Protocol

from wintry_tally.bench.loop import Snapshot
from wintry_tally.core.engine import Request
from wintry_tally.core.errors import WintryError

CURVE_POINTS = 6000


class Loop(Protocol):
    """What a worker drives: RunLoop, or GuidedLoop."""

    @property
    def interval_s(self) -> float:
        """Seconds of the run's time from tick to tick."""

    def start(self) -> Snapshot:
        """Begin, or go on."""

    def tick(self) -> Snapshot:
        """One look."""

    def ask(self, request: Request) -> Snapshot:
        """What a person asks."""

    def park(self) -> None:
        """Leave it written."""

    def snapshot(self) -> Snapshot:
        """What it is doing now."""


class RunWorker:
    """Ticks a loop at `speed` × real time; `latest` and `curve` may be read from any thread.

    With a simulated bench the speed is free; with a real one it is 1.
    """

    def __init__(self, loop: Loop, speed: float = 1.0, closing: Callable[[Snapshot], None] | None = None) -> None:
        self._loop = loop
        self._closing = closing
        self.speed = speed
        self._requests: queue.SimpleQueue[Request] = queue.SimpleQueue()
        self._answering = False
        self._halt = threading.Event()
        self._lock = threading.Lock()
        self._latest = loop.snapshot()
        self._points: list[tuple[float, float, float, float]] = []
        self._every = 1
        self._count = 0
        self.refusal = ""
        self._thread = threading.Thread(target=self._run, name="run", daemon=True)

    def start(self) -> None:
        """Begin (or take up) the run."""
        self._thread.start()

    def ask(self, request: Request) -> None:
        """Ask for a pause, a resumption, a setting or a stop; a refusal shows in `refusal`."""
        self._requests.put(request)

    def stop_thread(self) -> None:
        """Leave the run as it stands, everything written; it can be taken up again."""
        self._halt.set()
        if self._thread.is_alive():
            self._thread.join(timeout=10)

    @property
    def alive(self) -> bool:
        """Whether the thread is still at work."""
        return self._thread.is_alive()

    @property
    def busy(self) -> bool:
        """Whether something that was asked is still to be answered."""
        return not self._requests.empty() or self._answering

    @property
    def latest(self) -> Snapshot:
        """The newest snapshot."""
        with self._lock:
            return self._latest

    def curve(self) -> list[tuple[float, float, float, float]]:
        """(elapsed s, V, A, Ah) so far, thinned to a few thousand points."""
        with self._lock:
            return list(self._points)

    def seed_curve(self, points: list[tuple[float, float, float, float]]) -> None:
        """Give the curve its past, when a run is taken up again."""
        self._points = points[:: max(1, len(points) // CURVE_POINTS)]

    def _publish(self, snapshot: Snapshot) -> None:
        with self._lock:
            self._latest = snapshot
            self._count += snapshot.fresh
            if self._count % self._every == 0 and snapshot.fresh and snapshot.voltage_V == snapshot.voltage_V:
                self._points.append(
                    (snapshot.elapsed_s, snapshot.voltage_V, snapshot.current_A, snapshot.state.charge_Ah)
                )
                if len(self._points) > CURVE_POINTS:
                    self._points = self._points[::2]
                    self._every *= 2

    def _run(self) -> None:
        self._publish(self._loop.start())
        owed = 0.0
        before = time.monotonic()
        while not self._halt.is_set():
            self._answer()
            now = time.monotonic()
            owed = min(owed + (now - before) * self.speed, 2.0 * self.speed + self._loop.interval_s)
            before = now
            burst_until = now + 0.05
            while owed >= self._loop.interval_s and time.monotonic() < burst_until:
                self._publish(self._loop.tick())
                owed -= self._loop.interval_s
            if self._latest.ended and not self._latest.trouble:
                break
            if self._latest.trouble:
                self._publish(self._loop.tick())
            self._halt.wait(0.02 if owed < self._loop.interval_s else 0.001)
        self._answer()  # what was asked just before the end of the thread
        if not self._latest.ended:
            self._loop.park()
        elif self._closing is not None:
            try:
                self._closing(self._latest)
            except WintryError as error:
                self.refusal = str(error)

    def _answer(self) -> None:
        while True:
            self._answering = True  # before it is taken from the queue: whoever asks sees one or the other
            try:
                request = self._requests.get_nowait()
            except queue.Empty:
                self._answering = False
                return
            try:
                self.refusal = ""
                self._publish(self._loop.ask(request))
            except WintryError as error:
                self.refusal = str(error)
