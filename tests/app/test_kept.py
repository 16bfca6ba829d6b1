"""Dossiers that are kept between two openings of a book: the same to the digit, and never of something else."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest

from wintry_tally.app import dossiers, kept
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.book import Book
from wintry_tally.core.analysis import Instrument, Options, analyse, mended_trace
from wintry_tally.core.battery import FAMILIES, Sample, parse_claim
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import School
from wintry_tally.demo import scratch_copy


@pytest.fixture
def book(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Book]:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    with Book.open(scratch_copy(tmp_path)) as made:
        yield made


@pytest.fixture
def worked_out(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The titles of runs as they are analysed."""
    found: list[str] = []
    plain = dossiers.report_run

    def noticed(facts, trace):
        found.append(facts.title)
        return plain(facts, trace)

    monkeypatch.setattr(dossiers, "report_run", noticed)
    return found


def sample_of(book: Book, code: str) -> Sample:
    return next(sample for sample in book.samples.all() if sample.code == code)


def test_what_is_kept_is_what_was_worked_out(book: Book, worked_out: list[str]) -> None:
    for sample in book.samples.all():
        first = dossier_of(book, sample, School.STRICT)
        worked_out.clear()
        again = dossier_of(book, sample, School.STRICT)
        assert worked_out == []
        for name in ("sample", "findings", "verdicts", "school", "prose", "demo", "trends", "had"):
            assert getattr(again, name) == getattr(first, name), name
        assert [run.facts for run in again.runs] == [run.facts for run in first.runs]
        for one, other in zip(first.runs, again.runs, strict=True):
            assert one.analysis is not None and other.analysis is not None
            assert one.analysis.at_hand and not other.analysis.at_hand
            assert one.analysis.stages == other.analysis.stages and one.analysis.remarks == other.analysis.remarks
            for column in ("time_s", "voltage_V", "current_A"):
                np.testing.assert_array_equal(
                    getattr(one.analysis.trace, column), getattr(other.analysis.trace, column)
                )
            assert other.analysis.at_hand
            if one.curve is not None:
                np.testing.assert_array_equal(one.curve, other.curve)


def test_a_trace_is_read_also_when_the_book_was_closed_meanwhile(book: Book) -> None:
    sample = sample_of(book, "M1")
    rows = [len(run.analysis.trace) for run in dossier_of(book, sample, School.STRICT).runs]
    again = dossier_of(book, sample, School.STRICT)
    book.close()
    assert [len(run.analysis.trace) for run in again.runs] == rows


def test_nothing_of_another_time_is_taken(book: Book, worked_out: list[str]) -> None:
    sample = sample_of(book, "M1")
    runs = len(dossier_of(book, sample, School.STRICT).runs)

    def worked(school: School = School.STRICT) -> int:
        worked_out.clear()
        dossier_of(book, sample_of(book, "M1"), school)
        return len(worked_out)

    assert worked() == 0 and worked(School.LENIENT) == runs and worked(School.LENIENT) == 0
    book.samples.change(sample.id, prose="Sound.")
    assert worked() == 0 and dossier_of(book, sample_of(book, "M1"), School.STRICT).prose == "Sound."
    claim = book.samples.add_claim(sample.id, parse_claim("39 Ah", "web page"))
    assert worked() == runs and worked() == 0
    book.samples.remove_claim(claim)
    assert worked() == 0
    first = book.runs.all(sample.id)[0]
    for values in ({"left_out": True}, {"repair": "offered"}, {"title": "Otherwise"}):
        book.runs.change(first.id, **values)
        assert worked() > 0 and worked() == 0
    book.set_meta(f"cycles:{sample.id}", '{"noted": [{"at": "2026-01-20T08:00:00+00:00", "cycles": 30}]}')
    assert worked() > 0
    cold = next(run for run in book.runs.all(sample.id) if run.title == "Cold capacity")
    book.places.add("freezer", cold.started.replace(hour=1), -5.0)
    assert worked() > 0 and worked() == 0
    longer = book.runs.trace(first.id)
    book.runs.seal(first.id, longer.taking(np.arange(len(longer) - 1)))
    assert worked() > 0


def test_another_program_keeps_its_own(book: Book, worked_out: list[str], monkeypatch: pytest.MonkeyPatch) -> None:
    sample = sample_of(book, "M2")
    dossier_of(book, sample, School.STRICT)
    worked_out.clear()
    monkeypatch.setattr(kept, "code_mark", lambda: "another")
    dossier_of(book, sample, School.STRICT)
    assert worked_out


def test_the_mark_is_of_the_code_that_judges() -> None:
    kept.code_mark.cache_clear()
    before = kept.code_mark()
    file = Path(kept.__file__).parents[1] / "core" / "verdict" / "settle_load.py"
    known = file.stat()
    try:
        os.utime(file, ns=(known.st_atime_ns, known.st_mtime_ns + 1))
        kept.code_mark.cache_clear()
        assert kept.code_mark() != before
    finally:
        os.utime(file, ns=(known.st_atime_ns, known.st_mtime_ns))
        kept.code_mark.cache_clear()
    assert kept.code_mark() == before


@pytest.mark.parametrize("harm", ["torn", "empty", "other", "open", "no folder"])
def test_what_was_harmed_is_worked_out_again(book: Book, worked_out: list[str], harm: str) -> None:
    sample = sample_of(book, "M2")
    first = dossier_of(book, sample, School.STRICT)
    folder = kept.kept_folder()
    (file,) = folder.iterdir()
    if harm == "torn":
        file.write_bytes(file.read_bytes()[:-50])
    elif harm == "empty":
        file.write_bytes(b"")
    elif harm == "other":
        file.write_bytes(b"not what was kept")
    elif harm == "open":
        folder.chmod(0o777)  # somebody else may have put something there
    else:
        file.unlink()
        folder.rmdir()
        folder.write_text("in its place")
    known = file.stat().st_ino if harm == "open" else 0
    worked_out.clear()
    assert dossier_of(book, sample, School.STRICT).verdicts == first.verdicts and worked_out
    if harm == "open":
        assert file.stat().st_ino == known, "nothing is kept there either"
    if harm in {"torn", "empty", "other"}:
        worked_out.clear()
        assert dossier_of(book, sample, School.STRICT).verdicts == first.verdicts and not worked_out


def test_those_not_used_for_longest_go(book: Book, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kept, "CLEARED_EVERY", 2)
    keeping = kept.Kept()
    made = dossier_of(book, sample_of(book, "M2"), School.STRICT)
    size = next(kept.kept_folder().iterdir()).stat().st_size
    monkeypatch.setattr(kept, "MOST_BYTES", 2 * size + 10)
    for name in ("a", "b", "c", "d"):
        keeping.put(name, made, {id(run.analysis.held): run.facts.id for run in made.runs if run.analysis})
        os.utime(kept.kept_folder() / name, (1e9 + ord(name), 1e9 + ord(name)))
    left = {path.name for path in kept.kept_folder().iterdir()}
    assert "d" in left and not left & {"a", "b"} and len(left) <= 3


def logs() -> Iterator[tuple[str, Trace, Options]]:
    """Logs with what is mended: times that run back, lost readings, an offset, a wrong sign, a slip of a thousand."""
    random = np.random.default_rng(4)
    time_s = np.arange(0.0, 7200.0, 5.0)
    current = np.where((time_s > 600) & (time_s < 6000), 8.0, 0.0)
    volts = 13.2 - 0.1 * (current > 4) - 1e-4 * np.cumsum(current > 4) + 0.002 * random.standard_normal(len(time_s))
    plain = Trace(time_s, volts, current, resolution={"voltage_V": 0.001, "current_A": 0.01})
    meter = Instrument(parse_accuracy("0.5%+2d"), parse_accuracy("1%+0.05"))
    options = Options(FAMILIES["lfp"], 40.0, meter)
    yield "plain", plain, options
    yield "offset", replace(plain, current_A=current + 0.03), options
    back = time_s.copy()
    back[700:] -= 60.0
    yield "runs back", replace(plain, time_s=back), options
    holes = volts.copy()
    holes[::17] = np.nan
    yield "holes", replace(plain, voltage_V=holes), options
    turned = current.copy()
    turned[300:] *= -1.0
    yield "turned", replace(plain, current_A=turned), options
    yield "slip", replace(plain, current_A=np.where(time_s > 3000, 1000.0 * current, current)), options
    yield "no meter", plain, Options()


@pytest.mark.parametrize("repair", ["none", "safe", "offered"])
def test_the_mended_trace_alone_is_that_of_the_analysis(repair: str) -> None:
    changed = 0
    for name, raw, options in logs():
        asked = replace(options, repair=repair)
        found, alone = analyse(raw, asked).trace, mended_trace(raw, asked)
        for column in ("time_s", "voltage_V", "current_A"):
            np.testing.assert_array_equal(getattr(found, column), getattr(alone, column), err_msg=name)
        changed += len(alone) != len(raw) or not np.array_equal(alone.current_A, raw.current_A)
    assert changed >= (4 if repair == "offered" else 1)


def test_it_is_the_time_of_use_that_counts(book: Book) -> None:
    sample = sample_of(book, "M2")
    dossier_of(book, sample, School.STRICT)
    (file,) = kept.kept_folder().iterdir()
    os.utime(file, (1e9, 1e9))
    dossier_of(book, sample, School.STRICT)
    assert datetime.fromtimestamp(file.stat().st_mtime, UTC).year >= 2026
    assert file.stat().st_mode & 0o077 == 0 and kept.kept_folder().stat().st_mode & 0o077 == 0


def test_a_full_disk_is_told_to_nobody_and_left_no_fuller(book: Book, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Path, "replace", full)
    assert dossier_of(book, sample_of(book, "M2"), School.STRICT).verdicts
    assert list(kept.kept_folder().iterdir()) == []
