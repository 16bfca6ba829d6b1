"""Shared fixtures. Nothing here touches the network, the user's settings or a screen."""

from __future__ import annotations

import functools
import gc
import logging
import os
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from tests.amount import some
from tests.guards import end_guards
from tests.still import BY_THE_CLOCK, tried
from wintry_tally.bench.guard import guardian
from wintry_tally.book import Book

settings.register_profile("unhurried", deadline=None, max_examples=some(30, 100))
settings.load_profile("unhurried")  # how long a case takes measures the machine, and nothing else
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
GUARD_S = 5.0  # so long a guard that was let go of may take to see everything off
REFERENCE = Path(__file__).parent / "reference"


@pytest.fixture(autouse=True, scope="session")
def cache_of_its_own(tmp_path_factory: pytest.TempPathFactory) -> None:
    """What is kept between runs of the program is kept between the tests of one run of them, and nowhere else."""
    of_all = tmp_path_factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        of_all = of_all.parent
    os.environ["XDG_CACHE_HOME"] = str(of_all / "cache")
    os.environ["XDG_CONFIG_HOME"] = str(tmp_path_factory.mktemp("config"))
    os.environ["XDG_STATE_HOME"] = str(tmp_path_factory.mktemp("state"))


@pytest.fixture(autouse=True, scope="session")
def new_books_at_once() -> Iterator[None]:
    """A new book's tables are made as they stood when the first one had gone through its migrations: in a tenth of the time."""
    migrate, statements = Book._migrate, list[str]()

    @functools.wraps(migrate)
    def made(book: Book) -> None:
        with book.transaction() as connection:
            new = book._revision(connection) is None
            for words in statements if new else ():
                connection.exec_driver_sql(words)
        migrate(book)
        if new and not statements:
            with book.transaction() as connection:
                asked = (
                    "SELECT sql FROM sqlite_master WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_%' ORDER BY rowid"
                )
                statements.extend(connection.exec_driver_sql(asked).scalars())
                statements.append(f"INSERT INTO alembic_version VALUES ('{book._revision(connection)}')")

    Book._migrate = made  # type: ignore[method-assign]
    yield
    Book._migrate = migrate  # type: ignore[method-assign]


@pytest.fixture(autouse=True, scope="session")
def not_ended_by_a_guard() -> None:
    """A machine too busy to let a process speak for three seconds has its guard end it: a program's, but not that of the
    tests, which are more than one."""
    guardian.LATE_S = 60.0


@pytest.fixture(autouse=True)
def quiet(caplog: pytest.LogCaptureFixture) -> Iterator[None]:
    """A test that leaves an error in the log or a thread at work has failed."""
    before = set(threading.enumerate())
    yield
    errors = [record for record in caplog.records if record.levelno >= logging.ERROR]
    assert not errors, [record.getMessage() for record in errors]
    new = [thread for thread in threading.enumerate() if thread not in before]
    for thread in new:
        if thread.name == "guard":
            thread.join(GUARD_S)
    left = [thread for thread in new if thread.is_alive() and thread.name in {"run", "workshop_0", "journal", "guard"}]
    assert not left, f"threads still at work: {left}"


@pytest.fixture
def reference() -> Path:
    """The folder of reference curves."""
    return REFERENCE


@pytest.fixture
def own_places(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """State and locks of this test alone; guards that it leaves are ended with it."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("WINTRY_TALLY_TAKEN", str(tmp_path / "taken"))
    yield tmp_path
    end_guards()


SLOW = (
    "cli/test_run.py", "desk/test_compare_page.py", "bench/test_guard.py", "desk/test_pages.py", "desk/test_hand_over.py",
    "desk/test_window.py", "bench/test_driver_faults.py", "core/test_strangers.py", "bench/test_faults.py",
    "desk/test_small_screen.py", "desk/test_worst_minute.py", "desk/test_journeys.py", "desk/test_typed.py",
    "desk/test_claims_in_place.py", "bench/test_eight.py", "desk/test_plan_pages.py", "desk/test_bench_trouble.py",
    "desk/test_stations.py", "app/test_ways_out.py", "app/test_campaign.py", "desk/test_programme_page.py",
    "core/test_compare.py", "plan/test_plan.py", "desk/test_preferences.py", "book/test_written_into.py",
)  # fmt: skip
"""Files that take longest, each gone through by one process: begun first, none of them is waited for at the end. Those that
wait for instruments and those that work take turns, so that all the while somebody works and somebody waits."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The slow files first."""
    place = {str(REFERENCE.parent / name): at for at, name in enumerate(SLOW)}
    items.sort(key=lambda item: place.get(str(item.path), len(SLOW)))


def pytest_collection_finish() -> None:
    """What is there before the first test is not looked through for what was let go of after every other one."""
    gc.collect()
    gc.freeze()


@pytest.hookimpl(tryfirst=True)
def pytest_runtest_protocol(item: pytest.Item, nextitem: pytest.Item | None) -> bool | None:
    """See `tests.still`."""
    return tried(item, nextitem) if item.nodeid.startswith(BY_THE_CLOCK) else None
