"""Quotation marks in a log: fields that need them, as RFC 4180 has them, and marks that mean inches.

RFC 4180, 2.5 to 2.7 (from memory), against Python's own csv module; what lies outside it is common practice.
"""

from __future__ import annotations

import csv
import io
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as some

from tests import amount
from wintry_tally.exchange import quotes
from wintry_tally.exchange.quotes import without_stray_quotes
from wintry_tally.exchange.reader import read_log

HEAD = "Time / s,Voltage / V,Current / A,Note\n"


def written(path: Path, notes: list[str], head: str = HEAD, encoding: str = "utf-8") -> Path:
    rows = (f"{10 * n},{13.2 - 0.01 * n:.3f},{8.0 + 0.25 * n:.2f},{note}\n" for n, note in enumerate(notes))
    path.write_text(head + "".join(rows), encoding=encoding)
    return path


def holds(path: Path, count: int) -> None:
    trace = read_log(path).trace
    assert trace.time_s.tolist() == [10.0 * n for n in range(count)]
    np.testing.assert_allclose(trace.voltage_V, 13.2 - 0.01 * np.arange(count), atol=1e-9)
    np.testing.assert_allclose(np.abs(trace.current), 8.0 + 0.25 * np.arange(count), atol=1e-9)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16", "latin-1"])
@pytest.mark.parametrize("note", ['12" cable', '"open clamp', 'clamp"', '"a" and 3"', 'ø 12"', '"'])
def test_a_mark_that_opens_nothing_swallows_no_row(tmp_path: Path, note: str, encoding: str) -> None:
    for place in (0, 7, 39):
        notes = [""] * 40
        notes[place] = note
        holds(written(tmp_path / "log.csv", notes, encoding=encoding), 40)
    holds(written(tmp_path / "log.csv", [note] * 40, encoding=encoding), 40)
    holds(written(tmp_path / "log.csv", [""] * 40, f"made with {note}\n\n{HEAD}", encoding), 40)


@settings(max_examples=amount.some(50, 150), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(some.lists(some.text('"ab 1.', max_size=8), min_size=12, max_size=30))
def test_whatever_a_last_column_says_every_row_is_read(tmp_path: Path, notes: list[str]) -> None:
    holds(written(tmp_path / "log.csv", notes), len(notes))


@given(some.lists(some.text('"ab ,\n1', max_size=10), min_size=2, max_size=20), some.integers(2, 40))
def test_what_is_written_to_the_letter_is_left_alone(notes: list[str], block: int) -> None:
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows([n, "x", note] for n, note in enumerate(notes))
    content = text.getvalue().encode()
    before, quotes.BLOCK = quotes.BLOCK, block
    try:
        found = without_stray_quotes(content, ",", 2, 0)
    finally:
        quotes.BLOCK = before
    # a line end that a field holds is one, unless what stands behind it is a row by itself: digits and as many commas
    if not any(part.strip(' "')[:1] == "1" and part.count(",") >= 2 for note in notes for part in note.split("\n")):
        assert found == content
    assert len(found.decode().split("\n")) == len(content.decode().split("\n"))


@given(some.text('"a\n', max_size=60), some.integers(1, 20))
def test_odd_lines_are_found_whatever_the_blocks(text: str, block: int) -> None:
    content, at, wanted = text.encode(), 0, []
    for number, line in enumerate(text.split("\n")):
        if line.count('"') % 2:
            wanted.append((number, at, at + len(line)))
        at += len(line) + 1
    before, quotes.BLOCK = quotes.BLOCK, block
    try:
        assert quotes._odd_lines(content) == wanted
    finally:
        quotes.BLOCK = before


def test_a_last_line_without_its_end_may_be_odd_too() -> None:
    assert without_stray_quotes(b'1,2,3\n4,5,6 12" x', ",", 2, 0) == b"1,2,3\n4,5,6 12 x"
    assert without_stray_quotes(b'1,"2\n3,4,5\n6,"7,8\n', ",", 2, 0) == b"1,2\n3,4,5\n6,7,8\n"
    # as many delimiters as the next row has: none stands within a field, and every mark may go
    assert without_stray_quotes(b'"1,"2","3"\n"4","5","6"\n', ",", 2, 0) == b'1,2,3\n"4","5","6"\n'
    assert without_stray_quotes(b'1,"2,a",3"\n4,5,6\n', ",", 2, 0) == b'1,"2,a",3\n4,5,6\n'


def test_a_note_of_two_lines_is_one_row(tmp_path: Path) -> None:
    notes = [""] * 20
    notes[4] = '"clamp loose,\nput right"'
    log = read_log(written(tmp_path / "log.csv", notes))
    assert log.rows == 20 and log.trace.time_s.tolist() == [10.0 * n for n in range(20)]
