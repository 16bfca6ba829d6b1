"""Rubbish is collected on the interface's thread alone: elsewhere, what Qt made is let go of under the wrong lock."""

from __future__ import annotations

import gc
import sys
import threading

import pytest
from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication

from tests.amount import some
from wintry_tally.desk import starting
from wintry_tally.desk.app import make_application
from wintry_tally.desk.collecting import Collector
from wintry_tally.desk.window import Window


class Kept(QObject):
    """In a circle with itself: only the collector lets go of it."""

    gone: list[int]

    def __init__(self, gone: list[int]) -> None:
        super().__init__()
        self.itself, self.gone = self, gone

    def __del__(self) -> None:
        self.gone.append(threading.get_ident())


def _busy() -> None:
    """A worker that makes much that is let go: left to itself, Python would collect here."""
    for _ in range(200):
        [[number] for number in range(2000)]


def test_no_worker_lets_go_of_what_qt_made(qtbot, window: Window) -> None:
    assert not gc.isenabled()
    gc.freeze()  # what the tests before this one left is not looked through, however much it is
    gone: list[int] = []
    for _ in range(20):
        Kept(gone)
    worker = threading.Thread(target=_busy)
    worker.start()
    worker.join()
    assert gone == [], "nothing is collected on the worker"
    gc.set_threshold(1, 10, 10)  # whatever was collected just before: what these made is due
    qtbot.waitUntil(lambda: len(gone) == 20, timeout=20000)
    gc.set_threshold(700, 10, 10)
    assert set(gone) == {threading.get_ident()}


def test_it_waits_while_the_program_starts_and_takes_the_oldest_that_is_due(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    done: list[int] = []
    monkeypatch.setattr(gc, "collect", lambda generation=2: done.append(generation) or 0)
    collector = QApplication.instance().findChild(Collector)
    collector._timer.stop()
    for counts, due in (
        ((700, 10, 10), []),
        ((701, 0, 0), [0]),
        ((701, 11, 0), [1]),
        ((0, 0, 11), [2]),
        ((0, 0, 0), []),
    ):
        done.clear()
        monkeypatch.setattr(gc, "get_count", lambda counts=counts: counts)
        monkeypatch.setattr(gc, "get_threshold", lambda: (700, 10, 10))
        monkeypatch.setattr(gc, "freeze", lambda: None)
        monkeypatch.setattr(gc, "get_objects", lambda _generation: [])
        monkeypatch.setattr(gc, "get_freeze_count", lambda: 0)
        collector.collect()
        assert done == due
    monkeypatch.setattr(gc, "get_count", lambda: (9999, 99, 99))
    monkeypatch.setattr(starting, "_held", True)
    done.clear()
    collector.collect()
    assert done == []
    collector._timer.start()


def test_what_outlived_a_whole_collection_is_looked_through_again_only_once_it_has_doubled(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    collector, done, frozen = QApplication.instance().findChild(Collector), [], [0]
    collector._timer.stop()
    monkeypatch.setattr(collector, "_outlived", 0)  # whatever windows before this one left
    monkeypatch.setattr(gc, "get_count", lambda: (0, 0, 11))
    for name in ("collect", "freeze", "unfreeze"):
        monkeypatch.setattr(gc, name, lambda *_generation, name=name: done.append(name))
    monkeypatch.setattr(gc, "get_freeze_count", lambda: frozen[0])
    many = [1000]
    monkeypatch.setattr(gc, "get_objects", lambda _generation: [None] * many[0])
    whole, thorough = ["collect", "freeze"], ["unfreeze", "collect", "freeze"]
    for count, expected in (
        (400_000, whole), (1_000_000, whole), (1_000_001, thorough), (1_900_000, whole), (2_000_003, thorough),
    ):  # fmt: skip
        done.clear()
        frozen[0] = count
        collector.collect()
        assert done == expected, count
    # of the youngest alone, of the two younger, of all three: as many as are looked through
    for counts, each, expected in (
        ((0, 0, 11), 16_666, whole), ((0, 0, 11), 16_667, ["freeze"]),
        ((0, 11, 0), 25_000, ["collect"]), ((0, 11, 0), 25_001, ["freeze"]),
        ((999, 0, 0), 50_000, ["collect"]), ((999, 0, 0), 50_001, ["freeze"]),
    ):  # fmt: skip
        done.clear()
        many[0] = each
        monkeypatch.setattr(gc, "get_count", lambda counts=counts: counts)
        collector.collect()
        assert done == expected, (counts, each, "a large book is read: not now")
    collector._outlived = 0
    collector._timer.start()


def test_no_tuple_that_a_worker_is_making_is_held_meanwhile(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    collector, failed, over = QApplication.instance().findChild(Collector), [], threading.Event()
    collector._timer.stop()
    gc.freeze()  # what the tests before this one left would only make it slower
    for name in ("collect", "freeze", "unfreeze"):
        monkeypatch.setattr(gc, name, lambda *_generation: None)
    monkeypatch.setattr(gc, "get_count", lambda: (0, 0, 11))

    def work() -> None:
        while not over.is_set():
            try:
                tuple(number for number in range(60))
            except SystemError as error:
                failed.append(error)

    usual = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    worker = threading.Thread(target=work)
    worker.start()
    for _ in range(some(20, 60)):
        collector.collect()
    over.set()
    worker.join()
    sys.setswitchinterval(usual)
    assert not failed, len(failed)
    collector._timer.start()


def test_there_is_one_however_often_the_application_is_asked_for(window: Window) -> None:
    make_application("day")
    make_application("night")
    assert len(QApplication.instance().findChildren(Collector)) == 1
