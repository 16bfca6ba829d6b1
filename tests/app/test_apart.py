"""Work in a helper process: what it answers, what it raises, what is broken off, and what happens when it is gone."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime

import pytest

from wintry_tally.app.apart import Apart
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.exchange.plan_file import own_zone

HERE = os.getpid()


def where(at: datetime, big: bytes, cancelled: Callable[[], bool]) -> tuple[int, datetime, int]:
    print("what a library prints is no answer")
    return os.getpid(), at.astimezone(own_zone()), len(big)


def refuses(cancelled: Callable[[], bool]) -> None:
    raise InputError("no", "row 3", "write yes")


def breaks(cancelled: Callable[[], bool]) -> None:
    raise ZeroDivisionError("by nought")


def waits(seconds: float, cancelled: Callable[[], bool]) -> str:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if cancelled():
            raise WintryError(f"{os.getpid()} broke it off")
        time.sleep(0.01)
    return "to its end"


def dies(cancelled: Callable[[], bool]) -> int:
    if os.getpid() != this_test():
        os._exit(3)
    return os.getpid()


def this_test() -> int:
    return int(os.environ["WINTRY_TALLY_TEST_PID"])


@pytest.fixture
def helper() -> Apart:
    made = Apart()
    yield made
    made.close()


def test_it_answers_from_elsewhere_and_is_kept(helper: Apart) -> None:
    at = datetime(2026, 3, 1, 12, 0, tzinfo=own_zone())
    first, moment, size = helper.call(where, at, bytes(3_000_000))
    assert first != HERE and moment == at and moment.utcoffset() == at.utcoffset() and size == 3_000_000
    assert helper.call(where, at.astimezone(UTC), b"")[0] == first


def test_what_it_raises_is_raised_here(helper: Apart) -> None:
    with pytest.raises(InputError, match="row 3: no; write yes"):
        helper.call(refuses)
    with pytest.raises(RuntimeError, match="ZeroDivisionError: by nought"):
        helper.call(breaks)
    assert helper.call(waits, 0.0) == "to its end"


def test_what_is_not_wanted_any_more_is_broken_off_and_the_helper_stays(helper: Apart) -> None:
    number = helper.call(where, datetime.now(UTC), b"")[0]
    enough = threading.Event()
    threading.Timer(0.2, enough.set).start()
    begun = time.monotonic()
    with pytest.raises(WintryError, match=f"{number} broke it off"):
        helper.call(waits, 30.0, cancelled=enough.is_set)
    assert time.monotonic() - begun < 10.0
    assert helper.call(where, datetime.now(UTC), b"")[0] == number


def test_where_it_is_gone_the_work_is_done_here(helper: Apart, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("WINTRY_TALLY_TEST_PID", str(HERE))
    assert helper.call(dies) == HERE
    assert helper.call(where, datetime.now(UTC), b"")[0] != HERE  # and another is begun
