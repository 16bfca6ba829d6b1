"""What is too large for one short transaction: kept in pieces, seen whole or not at all, and gone where it was cut short."""

from __future__ import annotations

import os
import sqlite3
import threading
import time
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import event

from tests.making import discharge, same, with_tables
from wintry_tally.app.opening import opened
from wintry_tally.book import Book, RunSettings, large
from wintry_tally.book.keeping import keep_log
from wintry_tally.book.owner import this_host, this_process
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.battery import family_named
from wintry_tally.core.errors import BookError
from wintry_tally.core.protocol.kinds import TEST_KINDS

BEGUN = datetime(2026, 1, 20, 8, 0, tzinfo=UTC)
PIECE = 2_000
TRACE = discharge(noise_V=0.01)
FILE = ("log.csv", os.urandom(7_000))


@pytest.fixture
def book(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Any:
    monkeypatch.setattr(large, "AT_ONCE", PIECE)
    with Book.create(tmp_path / "b.wintry") as made:
        made.samples.add("B1", "", "", "lfp")
        yield made


def kept(book: Book) -> int:
    """A log kept as it is on import."""
    analysis = analyse(TRACE, Options(family=family_named("lfp")))
    return keep_log(book, book.samples.get(1), TEST_KINDS["capacity"], TRACE, analysis, BEGUN, FILE)


def left(path: Path) -> tuple[int, int]:
    """How many large values and pieces a book's file holds."""
    with closing(sqlite3.connect(path)) as line:
        counts = [line.execute(f"select count(*) from {table}").fetchone()[0] for table in ("large", "piece")]
    return counts[0], counts[1]


def test_a_large_log_is_kept_in_short_transactions_and_others_write_between_them(
    book: Book, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(large, "APART_S", 0.03)
    sizes, largest = [0], list[int]()

    def executed(_connection, _cursor, _words, parameters, _context, _many) -> None:
        sizes[0] += sum(len(value) for value in parameters if isinstance(value, bytes | memoryview))

    def committed(_connection) -> None:
        largest.append(sizes[0])
        sizes[0] = 0

    event.listen(book._engine, "before_cursor_execute", executed)
    event.listen(book._engine, "commit", committed)
    run_id, waited = None, []

    def another() -> None:
        with closing(sqlite3.connect(book.path, timeout=5.0)) as line:
            while run_id is None:
                line.execute("insert or replace into meta values ('beside', 'written')")
                line.commit()
                waited.append(line.execute("select count(*) from run").fetchone()[0])
                time.sleep(0.005)

    beside = threading.Thread(target=another)
    beside.start()
    run_id = kept(book)
    beside.join()
    assert max(largest) == PIECE and sum(1 for size in largest if size) > 6
    assert len(waited) > 6 and waited[0] == 0, "somebody else got a turn between the pieces, and saw no half import"
    assert same(book.runs.trace(run_id), TRACE) and book.runs.original(run_id) == FILE
    assert left(book.path)[0] == 2
    assert book.large.sweep() == 0 and same(book.runs.trace(run_id), TRACE)


@settings(max_examples=20)
@given(size=st.sampled_from([0, 1, PIECE - 1, PIECE, PIECE + 1, 3 * PIECE, 3 * PIECE + 1]), kind=st.binary(min_size=1))
def test_a_picture_of_any_size_comes_back_as_it_was(size: int, kind: bytes) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        patch.setattr(large, "AT_ONCE", PIECE)
        with Book.create(Path(folder) / "b.wintry") as book:
            content = (kind * size)[:size]
            number = book.attachments.add(book.samples.add("B1", "", "", "lfp"), "a.png", "image/png", content, b"")
            assert book.attachments.content(number) == content
            assert left(book.path) == ((1, -(-size // PIECE)) if size > PIECE else (0, 0))


def test_where_the_last_step_is_refused_nothing_is_left(book: Book, monkeypatch: pytest.MonkeyPatch) -> None:
    def refused(*_: object, **__: object) -> None:
        raise BookError("refused")

    with monkeypatch.context() as patch:
        patch.setattr(book.runs, "finish", refused)
        with pytest.raises(BookError, match="refused"):
            kept(book)
    assert book.runs.all() == [] and left(book.path) == (0, 0)
    assert same(book.runs.trace(kept(book)), TRACE)


def test_what_a_full_disk_left_goes_before_the_next_is_kept(book: Book, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise BookError("full")

    with monkeypatch.context() as patch:
        patch.setattr(book.runs, "finish", full)
        patch.setattr(book.large, "_drop", full)
        for _ in range(2):
            with pytest.raises(BookError, match="full"):
                kept(book)
    assert left(book.path)[0] == 4
    assert same(book.runs.trace(kept(book)), TRACE) and left(book.path)[0] == 2, "two of the new one"


def test_a_run_that_ends_is_sealed_in_pieces_and_once(book: Book) -> None:
    run = book.runs.begin(1, "Hold 1", "simulated", BEGUN, RunSettings())
    book.runs.seal(run, TRACE)
    again = discharge(hours=4.0, noise_V=0.02)
    from wintry_tally.book.seal import sealed_bytes

    content = sealed_bytes(again)
    with book.large.kept(content) as (number,):
        book.runs.keep_sealed(run, len(again), content, number)
    assert number is not None and same(book.runs.trace(run), TRACE), "what is sealed stays as it is"
    assert left(book.path)[0] == 1, "and what was not needed is gone"


@pytest.mark.parametrize(
    ("owner", "begun", "stays"),
    [
        ("me", "now", True),
        ("here/1:never", "now", False),
        ("elsewhere/1:2", "now", True),
        ("elsewhere/1:2", "2020-01-01 00:00:00", False),
        ("elsewhere/1:2", "2020-01-01 00:00:00+02:00", False),
        ("elsewhere/1:2", "9999-01-01 00:00:00+00:00", True),
        ("elsewhere/1:2", "no time", False),
    ],
)
def test_what_a_kill_left_goes_at_the_next_opening_and_what_is_being_written_stays(
    book: Book, owner: str, begun: str, stays: bool
) -> None:
    whole = kept(book)
    book.close()
    owner = {"me": this_process()}.get(owner, owner.replace("here", this_host()))
    with closing(sqlite3.connect(book.path)) as line:
        line.execute(
            "insert into large (id, size, owner, begun) values "
            "(70, 9, ?, case ? when 'now' then current_timestamp else ? end)", (owner, begun, begun)
        )  # fmt: skip
        line.executemany("insert into piece (large_id, place, content) values (70, ?, ?)", [(0, b"abc"), (1, b"def")])
        line.commit()
    before = left(book.path)
    with opened(book.path, pytest.fail) as again:
        assert same(again.runs.trace(whole), TRACE)
        assert left(book.path) == (before if stays else (before[0] - 1, before[1] - 2))


def test_a_piece_that_is_gone_is_said_and_no_shorter_log_is_shown(book: Book) -> None:
    run_id = kept(book)
    with book.transaction() as connection:
        connection.exec_driver_sql("delete from piece where place = 1")
    with pytest.raises(BookError, match="not whole"):
        book.runs.trace(run_id)
    with pytest.raises(BookError, match="not whole"):
        book.runs.original(run_id)


def test_older_tables_hold_it_in_one_row_again(book: Book) -> None:
    run_id = kept(book)
    picture = book.attachments.add(1, "a.png", "image/png", FILE[1], b"")
    book.close()
    with_tables(book.path, "0008")
    with Book.open(book.path) as again:
        assert left(book.path) == (0, 0) and same(again.runs.trace(run_id), TRACE)
        assert again.runs.original(run_id) == FILE and again.attachments.content(picture) == FILE[1]
        assert np.all(again.runs.trace(run_id).time_s == TRACE.time_s)


@pytest.mark.parametrize("table", ["sealed", "original", "attachment"])
def test_whose_a_large_value_is_is_found_without_going_through_the_bytes_of_others(book: Book, table: str) -> None:
    with book.transaction() as connection:
        asked = f"explain query plan select large_id from {table} where large_id = 3 limit 1"
        (plan,) = connection.exec_driver_sql(asked).all()
    assert f"USING COVERING INDEX ix_{table}_large_id" in plan[-1]
