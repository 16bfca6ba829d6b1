"""Cyclic rubbish is collected on the interface's thread alone.

Python collects wherever it happens to allocate. A worker thread that lets go of what Qt made takes Qt's locks in the
wrong order with Python's own: it waits for Python's, the interface holds that and waits for Qt's, and the window stands
still for good, whatever is connected. So nothing is collected by itself while there is an application; this does it.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

from wintry_tally.desk import starting

EVERY_MS = 250
OLDEST = 2
THOROUGH, GROWN = 1_000_000, 2.0
"""What has outlived a whole collection is not looked through again (a large book's objects take 0.4 s) until there are so
many such, and so many times as many as outlived the last one that looked through all."""
MOST = 50_000
"""More than so many at once (a large book is read) are taken to outlive it unseen: to look would hold the window."""


class Collector(QObject):
    """Looks now and then whether there is enough to collect, by Python's own measures; one generation at a time."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        self._outlived = 0
        self._timer = QTimer(self, interval=EVERY_MS)
        self._timer.timeout.connect(self.collect)
        self._timer.start()

    def collect(self) -> None:
        """Collect the oldest generation that is due; nothing while the program is starting."""
        if starting.held():
            return
        counts, limits = gc.get_count(), gc.get_threshold()
        due = [generation for generation in range(3) if counts[generation] > limits[generation]]
        if not due:
            return
        if due[-1] == OLDEST and gc.get_freeze_count() > max(THOROUGH, GROWN * self._outlived):
            gc.unfreeze()
            gc.collect()
            gc.freeze()
            self._outlived = gc.get_freeze_count()
            return
        if _many(due[-1]) > MOST:
            gc.freeze()
            return
        gc.collect(due[-1])
        if due[-1] == OLDEST:
            gc.freeze()


def _many(oldest: int) -> int:
    """How many objects there are up to a generation.

    Counted without a step of Python's own between: while somebody holds the list of them, a tuple that another thread is
    just making cannot grow, and its work ends in a SystemError.
    """
    return sum(map(len, map(gc.get_objects, range(oldest + 1))))
