"""A real window, offscreen, with its own settings; a picture is kept where a test fails."""

from __future__ import annotations

import gc
import itertools
import os
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QLocale, QSettings
from PySide6.QtWidgets import QPushButton, QWidget

from tests.desk.doing import there
from wintry_tally.app import morning, outlooks, planner, writing
from wintry_tally.book import Book, book
from wintry_tally.demo import scratch_copy
from wintry_tally.desk import opening_books
from wintry_tally.desk.app import make_application
from wintry_tally.desk.session import Session
from wintry_tally.desk.window import Window

PATIENCE_MS = 60_000
WINDOWS = itertools.count()
THOROUGH = 25
"""After so many windows is looked through all there is for what was let go of."""


@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_makereport(item, call):
    outcome = yield
    setattr(item, f"report_{call.when}", outcome.get_result())


@pytest.fixture
def qtbot(qtbot, monkeypatch: pytest.MonkeyPatch):
    """Waits longer than it is told: how long anything takes measures the machine, and nothing else."""
    wait = qtbot.waitUntil
    monkeypatch.setattr(qtbot, "waitUntil", lambda holds, *, timeout=0: wait(holds, timeout=max(timeout, PATIENCE_MS)))
    return qtbot


@pytest.fixture
def window(qtbot, own_places: Path, tmp_path: Path, request, monkeypatch: pytest.MonkeyPatch) -> Iterator[Window]:
    """The window with no book open."""
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(tmp_path / "settings"))
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    # the solver takes both cores for seconds: only where its plan is what is tested
    monkeypatch.setattr(planner, "QUIET_S", 1e12)
    monkeypatch.setattr(morning, "ROLL_S", 1e12)
    # edits are waited for, however busy this machine is; that they need not be has tests of its own
    monkeypatch.setattr(writing, "PATIENCE_S", 30.0)
    monkeypatch.setattr(opening_books, "PATIENCE_S", 30.0)
    monkeypatch.setattr(book, "STRICT", True)
    QLocale.setDefault(QLocale.c())
    make_application("day")
    gc.disable()  # as the application does: a worker thread that collects what Qt made stops everything
    made = Window(Session())
    made.show()
    qtbot.waitExposed(made)
    yield made
    failed = getattr(request.node, "report_call", None)
    folder = os.environ.get("WINTRY_FAILURES")
    if failed is not None and failed.failed and folder:
        made.grab().save(str(Path(folder) / f"{request.node.name}.png"))
    made.close()
    qtbot.waitUntil(lambda: not made.isVisible(), timeout=20000)  # what is driven is seen to be off first
    made.deleteLater()
    # without a running event loop nothing is deleted, and every later window would be styled beside this one
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    if next(WINDOWS) % THOROUGH == 0:
        gc.unfreeze()
        gc.collect()
        gc.freeze()  # what is there by now is not looked through after every test
    gc.collect(1)  # what this test left
    gc.enable()


@pytest.fixture
def fresh(window: Window, tmp_path: Path) -> Window:
    """The window on a new, empty book."""
    window.new_book(tmp_path / "tests.wintry")
    return window


@pytest.fixture
def demo(window: Window, tmp_path: Path, qtbot, monkeypatch: pytest.MonkeyPatch) -> Window:
    """The window on a copy of the demo, its verdicts worked out, and how its run goes on let be."""
    monkeypatch.setattr(outlooks, "LEAST_POINTS", 1_000_000)
    window.open_book(scratch_copy(tmp_path))
    qtbot.waitUntil(
        lambda: all(window.session.dossier(s.id) is not None for s in window.session.samples()), timeout=15000
    )
    return window


@pytest.fixture
def sample_book(one_sample: Path, tmp_path: Path) -> Path:
    """A closed book with one LFP sample of 40 Ah."""
    return Path(shutil.copy(one_sample, tmp_path / "one.wintry"))


@pytest.fixture(scope="session")
def one_sample(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The book that each test has a copy of."""
    from wintry_tally.core.battery import Arrival, parse_claim

    path = tmp_path_factory.mktemp("book") / "one.wintry"
    with Book.create(path) as book:
        number = book.samples.add("B1", "Maker", "Model", "lfp", Arrival(13.12, obtained="bought"))
        for text in ("40 Ah", "512 Wh", "cuts at 10 V"):
            book.samples.add_claim(number, parse_claim(text))
    return path


@pytest.fixture
def button(qtbot) -> Callable[[QWidget, str], QPushButton]:
    """Find a visible push button by the beginning of its text, once it has come up."""

    def find(parent: QWidget, text: str) -> QPushButton:
        def visible() -> list[QPushButton]:
            return [b for b in there(parent, QPushButton) if b.isVisible()]

        def found() -> list[QPushButton]:
            return [b for b in visible() if b.text().startswith(text)]

        for _ in range(100):
            if found():
                break
            qtbot.wait(50)
        assert found(), f"no button “{text}”; there are {[b.text() for b in visible()]}"
        return found()[0]

    return find


@pytest.fixture
def one(window: Window, sample_book: Path) -> Window:
    window.open_book(sample_book)
    return window
