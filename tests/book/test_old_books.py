"""Books as every earlier version of the tables left them: opened, brought up to date, nothing of theirs lost.

`old/` holds the demo books that those versions shipped, with most of their runs taken out.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import json
import sqlite3
from contextlib import closing
from pathlib import Path

import polars
import pytest

from tests.making import with_tables
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.edits import Edits
from wintry_tally.book import Book, RunStatus
from wintry_tally.book.records import message_of
from wintry_tally.book.tables import REVISIONS
from wintry_tally.core.engine import RunState
from wintry_tally.core.errors import BookError
from wintry_tally.core.message import OWN, Message
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
        events = line.execute("select run_id, kind, message from event order by id").fetchall()
        details = dict(line.execute("select id, detail from run").fetchall())
        originals = line.execute("select run_id, gzip from original").fetchall()
    said = message_of if revision >= "0008" else str  # sentences before, codes with parts from then on
    assert claims and sealed and rows and originals
    with Book.open(path) as book:
        kept = [(s.id, c.kind, c.value, c.text) for s in book.samples.all() for c in s.claims]
        assert sorted(kept, key=str) == sorted(claims, key=str)
        for run_id, count, parquet in sealed:
            trace, own = book.runs.trace(run_id), polars.read_parquet(io.BytesIO(parquet))
            assert len(trace.voltage_V) == count == own.height
            assert trace.voltage_V.tolist() == own["Voltage / V"].to_list()
        told = [(run.id, event.kind, event.message) for run in book.runs.all() for event in book.runs.events(run.id)]
        kept = [(run, kind, said(words)) for run, kind, words in events]
        assert sorted(told) == sorted(kept) and all(isinstance(words, Message) for _, _, words in told)
        assert {words.code for _, _, words in told if isinstance(words, Message)} == {"step-begun", "finished"}
        assert {run.id: run.detail for run in book.runs.all()} == {key: said(own) for key, own in details.items()}
        assert {run.detail.code for run in book.runs.all() if isinstance(run.detail, Message)} == {"opened", "nothing"}
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
        assert line.execute("select count(*) from event").fetchone()[0] == len(events)


def test_sentences_of_an_old_book_become_messages_and_what_is_not_known_stays(tmp_path: Path) -> None:
    path = tmp_path / "old.wintry"
    path.write_bytes(gzip.decompress((OLD / "tables-0007.wintry.gz").read_bytes()))
    warm = "42.0 °C is warm; at 50 °C it is stopped"
    kept = [
        ("warning", warm, "near-warm"),
        ("mark", "finished", OWN),  # a person's own word, whatever it says
        ("refused", "the load said no", OWN),
        ("stop", "stopped: a stop limit was crossed, 16.20 V is above 15 V", "stopped-seen"),
        ("start-rest", "Cool: it was confirmed by hand (in the freezer)", "step-begun"),
    ]
    with closing(sqlite3.connect(path)) as line:
        for kind, words, _ in kept:
            line.execute("insert into event (run_id, at_s, kind, message) values (1, 1.0, ?, ?)", (kind, words))
        (number, text) = line.execute("select id, state from run where status = 'running'").fetchone()
        state = {**json.loads(text), "warned": [["warm", warm]], "detail": "9.97 V ≤ 10 V"}
        line.execute("update run set state = ? where id = ?", (json.dumps(state), number))
        line.execute("update run set state = 'no JSON' where id = 15")
        line.commit()
    with Book.open(path) as book:
        told = [event.message for event in book.runs.events(1)][-len(kept) :]
        assert [(str(one), getattr(one, "code", "")) for one in told] == [(words, code) for _, words, code in kept]
        stopped = told[3]
        assert isinstance(stopped, Message) and stopped.parts["cause"].code == "cause-stop-limit"  # type: ignore[union-attr]
        assert stopped.parts["seen"].parts == {"volts": 16.2, "limit": 15.0}  # type: ignore[union-attr]
        again = RunState.from_dict(book.runs.get(number).state)
        assert again.warned == (("warm", warm),) and again.warned[0][1].code == "near-warm"  # type: ignore[attr-defined]
        assert again.detail == "9.97 V ≤ 10 V" and again.detail.parts["limit"] == 10.0  # type: ignore[attr-defined]
        with pytest.raises(BookError):
            book.runs.get(15)


def test_messages_become_the_same_sentences_again(tmp_path: Path) -> None:
    path = tmp_path / "old.wintry"
    path.write_bytes(gzip.decompress((OLD / "tables-0007.wintry.gz").read_bytes()))

    def sentences() -> list[object]:
        with closing(sqlite3.connect(path)) as line:
            states = [json.loads(text) for (text,) in line.execute("select state from run order by id")]
            told = line.execute("select message from event order by id").fetchall()
            return [told, line.execute("select detail from run order by id").fetchall(), states]

    with closing(sqlite3.connect(path)) as line:
        line.execute("insert into event (run_id, at_s, kind, message) values (1, 1.0, 'mark', '')")
        line.commit()
    before = sentences()
    Book.open(path).close()
    assert sentences() != before
    with_tables(path, "0007")
    assert sentences() == before
