"""The thread that does the edits of a book, one after the other, so that whoever asks for one never waits for a disk or a lock.

Usually an edit is done within a few milliseconds, and whoever asked goes on with it done. Where the book is busy (another
program writes into it, a disk is slow) it is done a moment later, in its turn, and told by `deliver`.
"""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from dataclasses import dataclass, field

PATIENCE_S = 0.03
"""Whoever asks waits so long for an edit that is usually done at once."""
CLOSING_S = 60.0
"""So long what was asked for is waited for when a book is closed: a log of many rows may be among it."""

Over = Callable[[BaseException | None], object]
"""Called once an act is over, on the thread that asked: with what it raised, or None."""


@dataclass(eq=False)
class _Asked:
    act: Callable[[], object]
    over: Over
    finished: threading.Event = field(default_factory=threading.Event)
    raised: BaseException | None = None


class Writing:
    """One thread for one open book. `ask` and `deliver` are called by one other thread."""

    def __init__(self) -> None:
        self._acts: queue.SimpleQueue[_Asked | None] = queue.SimpleQueue()
        self._asked: list[_Asked] = []
        self._thread: threading.Thread | None = None

    @property
    def busy(self) -> bool:
        """Whether something that was asked for is not over yet."""
        return bool(self._asked)

    def ask(self, act: Callable[[], object], over: Over, patience_s: float | None = None) -> bool:
        """Have something done. True: it is over, and `over` was called; False: `deliver` will call it.

        `patience_s`: how long to wait, where not as usual.
        """
        if self._thread is None:
            self._thread = threading.Thread(target=self._work, name="writing", daemon=True)
            self._thread.start()
        asked = _Asked(act, over)
        self._asked.append(asked)
        self._acts.put(asked)
        if not asked.finished.wait(PATIENCE_S if patience_s is None else patience_s):
            return False
        self.deliver()  # what was asked for before is over too, and told before
        return asked not in self._asked

    def deliver(self) -> None:
        """Tell of what is over by now, in the order it was asked for."""
        while self._asked and self._asked[0].finished.is_set():
            asked = self._asked.pop(0)
            asked.over(asked.raised)

    def close(self) -> None:
        """Wait until everything asked for is over, and tell of it."""
        if self._thread is None:
            return
        self._acts.put(None)
        self._thread.join(CLOSING_S)
        self._thread = None
        self.deliver()

    def leave(self) -> None:
        """Nothing more is asked, and nobody waits: the thread ends when it is through with what was asked for."""
        if self._thread is not None:
            self._acts.put(None)
            self._thread = None
        self._asked = []

    def _work(self) -> None:
        while (asked := self._acts.get()) is not None:
            try:
                asked.act()
            except BaseException as error:  # it is raised, or told, where it was asked for
                asked.raised = error
            asked.finished.set()
            del asked  # whoever asked is not held until somebody asks again
