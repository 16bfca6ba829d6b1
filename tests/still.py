"""Whether the machine stood still: what failed meanwhile, for want of an answer in time, is tried again."""

from __future__ import annotations

import gc
import threading
import time
import warnings

import pytest
from _pytest.runner import runtestprotocol

EVERY_S, STILL_S, TRIES = 0.02, 0.25, 3
"""A thread that wants to run so often and does not for so long; a test is tried so many times at the most."""
BY_THE_CLOCK = ("tests/bench/", "tests/cli/test_run.py", "tests/desk/", "tests/app/")
"""Instruments, programs and windows that are waited for: a bench takes one that is late for one that is lost."""


class Pulse(threading.Thread):
    """Beats; `longest` is the longest time between two beats, s."""

    def __init__(self) -> None:
        super().__init__(name="pulse", daemon=True)
        self.longest = 0.0
        self._over = threading.Event()

    def run(self) -> None:
        before = time.monotonic()
        while not self._over.wait(EVERY_S):
            now = time.monotonic()
            self.longest, before = max(self.longest, now - before), now

    def end(self) -> float:
        self._over.set()
        self.join()
        return self.longest


def tried(item: pytest.Item, nextitem: pytest.Item | None) -> bool:
    """Run a test; again where it failed and the machine stood still. What it says the last time counts."""
    item.ihook.pytest_runtest_logstart(nodeid=item.nodeid, location=item.location)
    for left in reversed(range(TRIES)):
        pulse = Pulse()
        pulse.start()
        reports = runtestprotocol(item, nextitem=nextitem, log=False)
        if pulse.end() < STILL_S or not left or not any(report.failed for report in reports):
            break
        item._initrequest()  # type: ignore[attr-defined]
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of what it left open the next one is not told
            gc.collect()
    for report in reports:
        item.ihook.pytest_runtest_logreport(report=report)
    item.ihook.pytest_runtest_logfinish(nodeid=item.nodeid, location=item.location)
    return True
