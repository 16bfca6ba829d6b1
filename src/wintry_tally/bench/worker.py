"""A run in a thread of its own, so that a window never waits for a device or a disk."""

from __future__ import annotations

import logging
import queue
import threading
import time
import traceback
from collections.abc import Callable
from typing import Any, Protocol

from wintry_tally.bench.snapshot import Snapshot
from wintry_tally.core.engine import OFF, Request
from wintry_tally.core.errors import WintryError
from wintry_tally.core.message import said

CURVE_POINTS = 6000
PARK_LOOK_S = 3.0
FLUSH_S, LEAVING_S, AGAIN_S = 20.0, 2.0, 1.0
CLOSE_S = 60.0
FAULTS_MOST = 5
log = logging.getLogger(__name__)


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

    def fail(self, words: str) -> None:
        """The program failed: everything off."""

    def park(self) -> bool:
        """Leave it written; whether everything is seen to be off."""

    def look_off(self) -> bool:
        """One more look whether everything is off."""

    def let_go(self) -> bool:
        """Let go of lines and guard."""

    def snapshot(self) -> Snapshot:
        """What it is doing now."""


class RunWorker:
    """Ticks a loop at `speed` × real time; `latest` and `curve` may be read from any thread.

    With a simulated bench the speed is free; with a real one it is 1. Whatever is raised anywhere in the loop ends the
    run with everything off, with an event and a line in the log; it never ends the thread with something on.
    """

    def __init__(
        self,
        loop: Loop,
        speed: float = 1.0,
        closing: Callable[[Snapshot], None] | None = None,
        flush: Callable[[float], bool] | None = None,
        observer: Callable[[Snapshot], None] | None = None,
    ) -> None:
        self._loop = loop
        self._closing, self._flush, self._observer = closing, flush, observer
        self.speed = speed
        self._requests: queue.SimpleQueue[Request] = queue.SimpleQueue()
        self._answering = False
        self._halt = threading.Event()
        self._lock = threading.Lock()
        self._latest = loop.snapshot()
        self._points: list[tuple[float, float, float, float]] = []
        self._every = 1
        self._count = 0
        self._faults = 0
        self.refusal = ""
        self.left = ""
        self.parked = False
        self._thread = threading.Thread(target=self._run, name="run", daemon=True)

    def start(self) -> None:
        """Begin (or take up) the run."""
        self._thread.start()

    def ask(self, request: Request) -> None:
        """Ask for a pause, a resumption, a setting or a stop; a refusal shows in `refusal`."""
        self._requests.put(request)

    @property
    def channel(self) -> Any:
        """What the run is connected to; None for one that is walked through by hand."""
        return getattr(self._loop, "channel", None)

    def make_safe(self) -> None:
        """Everything off, now, whatever the loop is doing just then; and the run is over."""
        self._requests.put(Request("make-safe", words=said("all-off")))
        if self.channel is None:
            return
        try:
            self.channel.carry_out(OFF)  # from this thread: the loop's may be waiting for something
        except WintryError:
            guard = getattr(self._loop, "guard", None)
            if guard is not None:
                guard.switch_off()

    def halt(self) -> None:
        """Ask it to leave the run as it stands; does not wait (`alive` tells)."""
        self._halt.set()

    def stop_thread(self, limit_s: float = 10.0) -> None:
        """Leave the run as it stands, everything written; it can be taken up again."""
        self._halt.set()
        if self._thread.is_alive():
            self._thread.join(timeout=limit_s)

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
        with self._lock:
            fresh = [point for point in self._points if not points or point[0] > points[-1][0]]
            self._points = [*points, *fresh]

    @property
    def stood_still(self) -> str:
        """What the guard did while this program stood still, in words; empty for nothing."""
        return str(getattr(self._loop, "stood_still", ""))

    def _publish(self, snapshot: Snapshot) -> None:
        if self._observer is not None:
            self._observer(snapshot)
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

    # --- the thread ---

    def _run(self) -> None:
        self._guarded(self._begin)
        while not self._halt.is_set() and self._faults < FAULTS_MOST:
            if self._guarded(self._ticking):
                break
        self._guarded(self._finish)

    def _begin(self) -> bool:
        try:
            self._publish(self._loop.start())
        except WintryError as error:
            self._loop.ask(Request("lost", words=str(error)))
            self._publish(self._loop.snapshot())
        return True

    def _guarded(self, act: Callable[[], bool]) -> bool:
        """Do something; whatever it raises is a fault of this program: everything off, said, and written down."""
        try:
            return act()
        except BaseException as error:
            self._faults += 1
            log.warning("a run failed:\n%s", traceback.format_exc())
            words = f"{type(error).__name__}: {(str(error).splitlines() or [''])[0][:160]}"
            self.refusal = f"this program failed ({words}); everything is switched off"
            try:
                self._loop.fail(words)
                self._publish(self._loop.snapshot())
            except BaseException:
                log.warning("and again while switching off:\n%s", traceback.format_exc())
                guard = getattr(self._loop, "guard", None)
                if guard is not None:
                    guard.switch_off()
            return False

    def _ticking(self) -> bool:
        """Tick until the run is over and settled (True), or it is to be left (False)."""
        owed = 0.0
        before = time.monotonic()
        while not self._halt.is_set():
            self._answer()
            now = time.monotonic()
            owed = min(owed + (now - before) * self.speed, 2.0 * self.speed + self._loop.interval_s)
            before = now
            burst_until = now + 0.05
            while owed >= self._loop.interval_s and time.monotonic() < burst_until:
                asked = self._loop.interval_s
                self._publish(self._loop.tick())
                owed -= asked
                if self.speed <= 1.0:
                    owed = min(owed, self._loop.interval_s)  # on a real bench readings are not caught up with
                if self._latest.ended:
                    break
            if self._latest.ended and self._latest.settled:
                return True
            beat = getattr(self._loop, "guard", None)
            if beat is not None:
                beat.beat()
            self._halt.wait(0.02 if owed < self._loop.interval_s or self._latest.ended else 0.001)
        return False

    def _finish(self) -> bool:
        self._answer()  # what was asked just before the end of the thread
        latest = self._latest
        if latest.ended and latest.settled:
            self._loop.let_go()
            if self._written():
                self._close(latest)
            return True
        self.parked = not latest.ended
        off = self._loop.park() if latest.ended is False else self._loop.look_off()
        until = time.monotonic() + PARK_LOOK_S
        while not off and time.monotonic() < until:
            time.sleep(0.1)
            off = self._loop.look_off()
        self._publish(self._loop.snapshot())
        self.left = "" if off else (self._latest.trouble or "it is not seen to be off")
        self._loop.let_go()
        if self._written() and latest.ended:
            self._close(latest)
        return True

    def _written(self) -> bool:
        """Whether the book has every reading. Until it has, a run is not closed: what is sealed without them lacks them.

        A window that stays open goes on trying; one that closes leaves the run as it stands, to be taken up or closed.
        """
        while self._flush is not None and not self._flush(FLUSH_S if not self._halt.is_set() else LEAVING_S):
            self.refusal = "the book has not taken the last readings"
            if self._halt.wait(AGAIN_S):
                return False
        return True

    def _close(self, latest: Snapshot) -> None:
        until = time.monotonic() + CLOSE_S
        while self._closing is not None:
            try:
                self._closing(latest)
            except WintryError as error:
                self.refusal = str(error)
                if time.monotonic() < until and not self._halt.wait(1.0):
                    continue  # the book may be locked just now
            else:
                self.refusal = "" if self._faults == 0 else self.refusal
            return

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
