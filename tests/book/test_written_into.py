"""Books that something else wrote into: one line and exit 2, whatever stands in whatever column; never a traceback."""

from __future__ import annotations

import contextlib
import random
import shutil
import sqlite3
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import polars as pl
import pytest

from tests.amount import some
from tests.making import discharge
from wintry_tally.app.bench_book import keep_equipment
from wintry_tally.bench.equipment import Equipment
from wintry_tally.book import Book, RunSettings
from wintry_tally.book.seal import unseal
from wintry_tally.cli.main import invoke
from wintry_tally.core.battery import Arrival, parse_claim
from wintry_tally.core.errors import BookError

ODD: tuple[object, ...] = (
    None, "", "x", "\x00", "[]", "{}", "null", '{"a": {}}', "[" * 5000, "9" * 5000, -1, 2**62, 9e999, -0.5, b"\xff\xfe", b"PAR1",
)  # fmt: skip


@pytest.fixture(scope="module")
def whole(tmp_path_factory) -> Path:
    """A book with a bit of everything."""
    path = tmp_path_factory.mktemp("book") / "whole.wintry"
    with Book.create(path) as book:
        sample = book.samples.add("B1", "Maker", "Model", "lfp", Arrival(13.1))
        for text in ("40 Ah at 0.2C", "cuts at 10 V", "no app"):
            book.samples.add_claim(sample, parse_claim(text))
        keep_equipment(book, Equipment())
        sealed, rows = (
            book.runs.begin(sample, title, method, datetime(2026, 1, 2, tzinfo=UTC), RunSettings(rated_Ah=40.0), {"method": "capacity"})
            for title, method in (("Capacity 1", "imported"), ("Capacity 2", "hand"))
        )  # fmt: skip
        book.runs.keep_original(sealed, "a.csv", b"Time (s),V,A\n1,2,3\n")
        book.runs.seal(sealed, discharge(interval_s=60.0))
        for n in range(30):
            book.runs.add_hand(rows, 600.0 * n, 13.2 - 0.05 * n, 8.0, None)
        for run in (sealed, rows):
            book.runs.finish(run, "set-cutoff", "", datetime(2026, 1, 2, 9, tzinfo=UTC))
        book.attachments.add(sample, "page.pdf", "application/pdf", b"%PDF-1.7 invented", b"", "manual")
        book.places.add("shelf", datetime(2026, 1, 2, tzinfo=UTC), 18.0)
    return path


def ask(path: Path, folder: Path) -> list[int]:
    """The exit codes of every command that reads a book."""
    return [
        invoke(arguments)
        for arguments in (
            ["list", str(path), "--json"],
            ["judge", str(path), "B1", "--json"],
            ["report", str(path), "B1", "--out", str(folder / "r.html")],
            ["export", str(path), "1", "--out", str(folder / "e.csv")],
            ["export", str(path), "1", "--original", "--out", str(folder / "o.csv")],
            ["bench", str(path)],
            ["attach", str(path), "B1", "--json"],
        )
    ]


def test_the_book_as_it_should_be_is_read_by_all_of_them(whole: Path, tmp_path: Path) -> None:
    assert ask(whole, tmp_path) == [0] * 7


def test_whatever_stands_in_whatever_column_is_told_in_a_line(whole: Path, tmp_path: Path, capsys) -> None:
    line = sqlite3.connect(whole)
    places = [
        (table, column[1])
        for (table,) in line.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()
        for column in line.execute(f"PRAGMA table_info({table})").fetchall()
        if line.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
    ]
    line.close()
    dice = random.Random(20261126)
    refused, wrong = 0, []
    places = dice.sample(places, len(places) // some(10, 2))  # benchmarks/fuzz_files.py goes through many more
    for table, column in places:
        for value in dice.sample(ODD, 1):
            path = tmp_path / "b.wintry"
            shutil.copyfile(whole, path)
            with contextlib.suppress(sqlite3.IntegrityError), sqlite3.connect(path) as spoilt:
                spoilt.execute(f"UPDATE OR IGNORE {table} SET {column} = ?", (value,))
            spoilt.close()
            capsys.readouterr()
            codes = ask(path, tmp_path)
            said = capsys.readouterr().err.strip().splitlines()
            where = f"{table}.{column} = {str(value)[:30]!r}: {codes} {said[-1:]}"
            if not set(codes) <= {0, 2} or len(said) > len(codes):
                wrong.append(where)
            refused += 2 in codes
    assert not wrong, "\n".join(wrong)
    assert refused > len(places) / 5, "much of it is noticed"


@pytest.mark.parametrize("seed", range(6))
def test_bytes_turned_over_are_told_in_a_line(whole: Path, tmp_path: Path, seed: int, capsys) -> None:
    dice = random.Random(seed)
    for _ in range(5):
        content = bytearray(whole.read_bytes())
        for _ in range(dice.choice([1, 20, 400])):
            content[dice.randrange(100, len(content))] = dice.randrange(256)
        path = tmp_path / "b.wintry"
        path.write_bytes(bytes(content[: dice.choice([len(content), len(content) // 2])]))
        codes = ask(path, tmp_path)
        assert set(codes) <= {0, 2}, (codes, capsys.readouterr().err)
        for left in tmp_path.glob("b.wintry*"):
            left.unlink()


def packed(frame: pl.DataFrame, folder: Path) -> bytes:
    """A Parquet file's bytes."""
    frame.write_parquet(folder / "x", compression="zstd")
    return (folder / "x").read_bytes()


def test_a_sealed_run_that_is_none_or_would_swell_is_refused_before_it_is_read(tmp_path: Path) -> None:
    good = {"Test Time / s": [1.0], "Voltage / V": [13.0], "Discharge Current / A": [1.0]}
    assert np.array_equal(unseal(packed(pl.DataFrame(good), tmp_path), {}).voltage_V, [13.0])
    nested = packed(pl.DataFrame(good | {"Voltage / V": [[13.0]]}), tmp_path)
    swelling = packed(pl.select(**{name: pl.repeat(1.0, 12_000_000) for name in good}), tmp_path)
    for content, words in (
        (nested, "none that this program sealed"),
        (swelling, "unpacks to more"),
        (b"PAR1", "damaged"),
    ):
        with pytest.raises(BookError, match=words):
            unseal(content, {})
    without = packed(pl.DataFrame({"Voltage / V": [13.0]}), tmp_path)
    with pytest.raises(BookError):
        unseal(without, {})
