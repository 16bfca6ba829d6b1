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


class Collector(QObject):
    """Looks now and then whether there is enough to collect, by Python's own measures; one generation at a time."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self, interval=EVERY_MS)
        self._timer.timeout.connect(self.collect)
        self._timer.start()

    def collect(self) -> None:
        """Collect the oldest generation that is due; nothing while the program is starting."""
        if starting.held():
            return
        counts, limits = gc.get_count(), gc.get_threshold()
        due = [generation for generation in range(3) if counts[generation] > limits[generation]]
        if due:
            gc.collect(due[-1])
