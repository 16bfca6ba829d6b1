"""Books as every earlier version of the tables left them: opened, brought up to date, nothing of theirs lost.

`old/` holds the demo books that those versions shipped, with most of their runs taken out.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import sqlite3
from contextlib import closing
from pathlib import Path

import polars
import pytest

from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.edits import Edits
from wintry_tally.book import Book, RunStatus
from wintry_tally.book.tables import REVISIONS
from wintry_tally.core.verdict import School

OLD = Path(__file__).parent / "old"


def test_there_is_one_of_every_earlier_version() -> None:
    assert sorted(path.name for path in OLD.iterdir()) == [f"tables-{one}.wintry.gz" for one in REVISIONS[:-1]]


@pytest.mark.parametrize("revision", REVISIONS[:-1])
def test_a_book_of_an_earlier_version_is_whole_and_works(revision: str, tmp_path: Path) -> None:
    path = tmp_path / "old.wintry"
    path.write_bytes(gzip.decompress((OLD / f"tables-{revision}.wintry.gz").read_bytes()))
    with closing(sqlite3.connect(path)) as line:
        assert line.execute("select version_num from alembic_version").fetchone() == (revision,)
        claims = line.execute("select sample_id, kind, value, text from claim order by id").fetchall()
        rows = dict(line.execute("select run_id, count(*) from reading group by run_id").fetchall())
        sealed = line.execute("select run_id, rows, parquet from sealed").fetchall()
        events = line.execute("select count(*) from event").fetchone()[0]
        originals = line.execute("select run_id, gzip from original").fetchall()
    assert claims and sealed and rows and originals
    with Book.open(path) as book:
        kept = [(s.id, c.kind, c.value, c.text) for s in book.samples.all() for c in s.claims]
        assert sorted(kept, key=str) == sorted(claims, key=str)
        for run_id, count, parquet in sealed:
            trace, own = book.runs.trace(run_id), polars.read_parquet(io.BytesIO(parquet))
            assert len(trace.voltage_V) == count == own.height
            assert trace.voltage_V.tolist() == own["Voltage / V"].to_list()
        (running,) = [run for run in book.runs.all() if run.status is RunStatus.RUNNING]
        assert len(book.runs.trace(running.id).voltage_V) == rows[running.id]
        for run_id, packed in originals:
            found = book.runs.original(run_id)
            assert found is not None
            assert hashlib.sha256(found[1]).digest() == hashlib.sha256(gzip.decompress(packed)).digest()
        sample = next(one for one in book.samples.all() if one.code == "M1")
        verdicts = {v.claim.kind: v for v in dossier_of(book, sample, School.STRICT).verdicts}
        measured = verdicts["capacity"].measured
        assert measured is not None and measured.value == pytest.approx(41.4, abs=0.3)
        assert verdicts["capacity"].outcome == "met"
        edit = Edits(book).set_sample(sample, "change the maker", maker="Another")
        assert edit is not None
        edit.do()
        assert book.samples.get(sample.id).maker == "Another" and book.attachments.of(sample.id) == []
    with closing(sqlite3.connect(path)) as line:
        assert line.execute("select version_num from alembic_version").fetchone() == (REVISIONS[-1],)
        assert line.execute("select count(*) from event").fetchone()[0] == events
