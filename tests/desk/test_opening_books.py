"""A book that is not there at once: the window goes on, the last one asked for is the one that is shown."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from wintry_tally.app import last_seen
from wintry_tally.book import Book
from wintry_tally.core.errors import BookError
from wintry_tally.desk import opening_books
from wintry_tally.desk.remembered import books
from wintry_tally.desk.window import Window

MOST_S = 0.25
"""The interface is not held longer; the budget is 50 ms, and this machine may be busy with other tests."""


class Slow:
    """Reading a book from a disk that takes its time."""

    def __init__(self) -> None:
        self.free, self.read, self.began = threading.Event(), list[last_seen.ReadBook](), threading.Event()
        self.refuses = ""

    def __call__(self, path: Path) -> last_seen.ReadBook:
        self.began.set()
        self.free.wait(20.0)
        if self.refuses:
            raise BookError(self.refuses)
        self.read.append(READ(path))
        return self.read[-1]


READ = last_seen.read_book


@pytest.fixture
def slow(monkeypatch: pytest.MonkeyPatch) -> Iterator[Slow]:
    made = Slow()
    monkeypatch.setattr(opening_books, "PATIENCE_S", 0.01)
    monkeypatch.setattr(last_seen, "read_book", made)
    yield made
    made.free.set()


@pytest.fixture
def two(tmp_path: Path) -> tuple[Path, Path]:
    paths = tmp_path / "first.wintry", tmp_path / "second.wintry"
    for path in paths:
        with Book.create(path) as book:
            book.samples.add(path.stem[0].upper(), "", "", "lfp")
    return paths


def codes(window: Window) -> list[str]:
    return [sample.code for sample in window.session.samples()]


def test_the_window_goes_on_with_the_book_it_has_until_the_other_is_read(
    qtbot, one: Window, slow: Slow, two: tuple[Path, Path]
) -> None:
    before, begun = codes(one), time.monotonic()
    one.open_book(two[0])
    assert time.monotonic() - begun < MOST_S and codes(one) == before
    one.show_station("arrival")
    qtbot.waitUntil(lambda: "first.wintry is being opened" in one.statusBar().currentMessage(), timeout=5000)
    slow.free.set()
    qtbot.waitUntil(lambda: codes(one) == ["F"], timeout=5000)
    assert "first" in one.windowTitle() and not one.problem


def test_of_two_asked_for_the_last_is_shown_and_the_other_let_go(
    qtbot, window: Window, slow: Slow, two: tuple[Path, Path]
) -> None:
    window.open_book(two[0])
    assert slow.began.wait(5.0)
    window.open_book(two[1])
    slow.free.set()
    qtbot.waitUntil(lambda: codes(window) == ["S"], timeout=5000)
    first, second = slow.read
    with pytest.raises(BookError, match="closed"):
        first.book.newest_change()
    assert second.book is window.session.book


def test_one_that_cannot_be_read_is_told_and_what_was_open_stays(
    qtbot, window: Window, slow: Slow, two: tuple[Path, Path]
) -> None:
    slow.refuses = "it is no book"
    window.open_book(two[0])
    assert not window.pages.isVisible(), "no welcome for a moment where a book is about to be shown"
    slow.free.set()
    qtbot.waitUntil(lambda: "it is no book" in window.problem, timeout=5000)
    assert not window.session.has_book and window.pages.currentIndex() == 0 and window.pages.isVisible()
    slow.refuses = ""
    window.open_book(two[0])
    qtbot.waitUntil(lambda: codes(window) == ["F"], timeout=5000)
    slow.refuses = "it is no book"
    window.open_book(two[1])
    qtbot.waitUntil(lambda: "it is no book" in window.problem, timeout=5000)
    assert codes(window) == ["F"]


def test_a_window_that_is_closed_meanwhile_waits_for_nothing_and_leaves_nothing_open(
    qtbot, window: Window, slow: Slow, two: tuple[Path, Path]
) -> None:
    window.open_book(two[0])
    assert slow.began.wait(5.0)
    begun = time.monotonic()
    window.close()
    assert time.monotonic() - begun < 5.0
    slow.free.set()
    qtbot.waitUntil(lambda: bool(slow.read), timeout=5000)

    def let_go() -> bool:
        try:
            slow.read[0].book.newest_change()
        except BookError:
            return True
        return False

    qtbot.waitUntil(let_go, timeout=5000)
    assert not window.session.has_book


def test_a_failure_of_this_program_s_own_leaves_no_empty_window(
    qtbot, window: Window, two: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(last_seen, "read_book", lambda _path: {}["nothing"])
    with pytest.raises(KeyError):
        window.open_book(two[0])
    assert window.pages.isVisible() and window.pages.currentIndex() == 0


def test_where_what_is_open_cannot_be_closed_it_stays_and_the_other_is_let_go(
    qtbot, one: Window, slow: Slow, two: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    slow.free.set()
    before = codes(one)

    def refuse() -> None:
        raise BookError("the disk is full")

    with monkeypatch.context() as patch:
        patch.setattr(one.session, "close_book", refuse)
        one.open_book(two[0])
        qtbot.waitUntil(lambda: "the disk is full" in one.problem, timeout=5000)
    assert codes(one) == before and two[0] not in books()
    with pytest.raises(BookError, match="closed"):
        slow.read[0].book.newest_change()


def test_the_demo_is_of_today_in_all_its_parts(window: Window, qtbot) -> None:
    window.open_demo()
    qtbot.waitUntil(lambda: window.session.has_book, timeout=15000)
    qtbot.waitUntil(
        lambda: all(
            datetime.now(UTC) - one.at < timedelta(days=2) for one in window.session.open.known.latest.values()
        ),
        timeout=15000,
    )
    assert set(window.session.open.known.latest) == {"freezer", "room", "shelf"}
