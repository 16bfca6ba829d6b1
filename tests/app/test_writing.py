"""Edits in a thread of their own: at once where the book is free, in their turn where it is not, never lost."""

from __future__ import annotations

import threading
import time
import weakref

import pytest

from wintry_tally.app import writing
from wintry_tally.app.writing import Writing
from wintry_tally.core.errors import BookError


@pytest.fixture
def told() -> list[tuple[str, BaseException | None]]:
    return []


def waited(until, seconds: float = 5.0) -> None:
    ends = time.monotonic() + seconds
    while not until():
        assert time.monotonic() < ends
        time.sleep(0.002)


def test_what_is_done_at_once_is_told_at_once(told, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(writing, "PATIENCE_S", 5.0)
    line, where = Writing(), list[int]()
    assert line.ask(lambda: where.append(threading.get_ident()), lambda error: told.append(("one", error)))
    assert told == [("one", None)] and where != [threading.get_ident()] and not line.busy

    def refuse() -> None:
        raise BookError("no")

    assert line.ask(refuse, lambda error: told.append(("two", error)))
    assert isinstance(told[-1][1], BookError)
    line.close()


def test_what_takes_longer_is_told_later_and_in_its_order(told) -> None:
    line, free, done = Writing(), threading.Event(), list[str]()
    begun = time.monotonic()
    assert not line.ask(lambda: (free.wait(5.0), done.append("slow")), lambda error: told.append(("slow", error)))
    # the next one is quick, and waits for its turn all the same
    assert not line.ask(lambda: done.append("quick"), lambda error: told.append(("quick", error)))
    assert time.monotonic() - begun < 20 * writing.PATIENCE_S and line.busy
    line.deliver()
    assert not told and not done
    free.set()
    waited(lambda: done == ["slow", "quick"])
    waited(lambda: (line.deliver(), not line.busy)[1])
    assert told == [("slow", None), ("quick", None)]


def test_closing_waits_for_what_was_asked_for(told) -> None:
    line = Writing()
    line.ask(lambda: time.sleep(0.2), lambda error: told.append(("late", error)))
    line.close()
    assert told == [("late", None)] and not line.busy
    line.close()


def test_whoever_asked_is_let_go_of_and_a_line_that_is_left_ends() -> None:
    class Asker:
        def act(self) -> None: ...

    line, asker = Writing(), Asker()
    gone = weakref.ref(asker)
    line.ask(asker.act, lambda _error: None)
    waited(lambda: (line.deliver(), not line.busy)[1])
    del asker
    waited(lambda: gone() is None)
    thread, done = line._thread, list[str]()
    assert thread is not None and thread.is_alive()
    line.ask(lambda: (time.sleep(0.05), done.append("done")), lambda _error: done.append("told"), 0.0)
    line.leave()
    thread.join(5.0)
    assert not thread.is_alive() and done == ["done"], "what was asked for is done, and nobody told"
