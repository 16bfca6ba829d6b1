"""Kills at random moments of what a book is in the middle of, and what is found on opening it again.

`python -m benchmarks.lasting [N]`: a run being journalled, its end and sealing, an import, a migration, edits, undos, by
turns. After each SIGKILL the book is opened and put right; it must be whole (SQLite's own check), hold everything that
was said to be kept, and not more than 2 s of a run may be missing. Exit 1 otherwise.
"""

from __future__ import annotations

import multiprocessing
import os
import random
import signal
import sqlite3
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from datetime import UTC, datetime
from multiprocessing.connection import Connection
from pathlib import Path

from tests.making import discharge

from wintry_tally.book import Book, RunSettings, RunStatus, tables
from wintry_tally.book.keeping import keep_log
from wintry_tally.book.mending import put_right
from wintry_tally.core.engine import Observation, Phase, RunState

BEGUN = datetime(2026, 1, 20, 8, 0, tzinfo=UTC)
ROWS = 4_000
MOST_LOST_S = 2.0
STATE = RunState(Phase.DISCHARGING)


def journalling(path: Path, said: Connection) -> None:
    """A run at 20 Hz, through the journal; every reading is told with its moment."""
    from wintry_tally.bench.journal import Journal

    with Book.open(path) as book:
        journal = Journal(book.runs, 1, apart=True)
        begun = time.monotonic()
        while True:
            now = time.monotonic()
            journal.reading(now - begun, Observation(13.0, 5.0))
            said.send(now)
            if journal.due():
                journal.write(STATE, {})
            time.sleep(0.05)


def ending(path: Path, said: Connection) -> None:
    """The end of a run of 4,000 rows: closed, sealed, its rows dropped."""
    with Book.open(path) as book:
        said.send(0)
        book.runs.finish(1, "set-cutoff", "", BEGUN)
        said.send(1)


def importing(path: Path, said: Connection) -> None:
    """Logs, one after another."""
    from wintry_tally.core.analysis import Options, analyse
    from wintry_tally.core.protocol.kinds import TEST_KINDS

    trace = discharge(interval_s=30.0)
    analysis = analyse(trace, Options())
    with Book.open(path) as book:
        sample = book.samples.get(1)
        for kept in range(1000):
            said.send(kept)
            keep_log(book, sample, TEST_KINDS["capacity"], trace, analysis, BEGUN, ("a.csv", bytes(200_000)))


def migrating(path: Path, said: Connection) -> None:
    """A book of the first tables, opened."""
    said.send(0)
    Book.open(path).close()
    said.send(1)


def editing(path: Path, said: Connection) -> None:
    """Notes, numbered."""
    with Book.open(path) as book:
        for number in range(100_000):
            book.samples.change(1, notes=f"{number}", maker=f"{number}")
            said.send(number)


def undoing(path: Path, said: Connection) -> None:
    """A claim struck and put back, by turns."""
    with Book.open(path) as book:
        claim = book.samples.get(1).claims[0]
        assert claim.id is not None
        for number in range(100_000):
            if number % 2:
                book.samples.add_claim(1, claim)
            else:
                book.samples.remove_claim(claim.id)
            said.send(number)


ACTS: dict[str, tuple[Callable[[Path, Connection], None], float]] = {
    "run": (journalling, 2.5), "end": (ending, 0.4), "import": (importing, 0.5), "migration": (migrating, 0.12),
    "edit": (editing, 0.3), "undo": (undoing, 0.3),
}  # fmt: skip
"""What is done, and within how many seconds of its beginning it is killed."""


def prepared(path: Path, act: str) -> None:
    """The book each begins with."""
    from wintry_tally.core.battery import parse_claim

    with Book.create(path) as book:
        sample = book.samples.add("B1", "Maker", "Model", "lfp")
        book.samples.add_claim(sample, parse_claim("40 Ah"))
        if act in {"run", "end"}:
            book.runs.begin(sample, "Hold 1", "simulated", BEGUN, RunSettings(rated_Ah=40.0))
        if act == "end":
            book.runs.append(1, [(float(n), 13.0, 5.0, None, {}) for n in range(ROWS)], [], STATE, {})
        if act == "migration":
            with book.transaction() as line:
                line.exec_driver_sql("ALTER TABLE reading DROP COLUMN beside")
                line.exec_driver_sql("UPDATE alembic_version SET version_num = '0001'")


def wrong_in(book: Book, act: str, said: list[float], killed: float) -> str:
    """What is not as it should be; empty for nothing."""
    put_right(book)
    if put_right(book):
        return "not put right at once"
    runs = book.runs.all()
    if act == "run":
        rows = len(book.runs.readings(1))
        lost = killed - said[rows] if rows < len(said) else 0.0
        return f"{lost:.2f} s lost" if lost > MOST_LOST_S else ""
    if act == "end":
        over = runs[0].status is RunStatus.FINISHED
        sealed = over == (book.runs.last_elapsed_s(1) is None)
        return "" if len(book.runs.trace(1)) == ROWS and sealed else "rows lost, or not sealed"
    if act == "import":
        whole = all(run.status is RunStatus.FINISHED and book.runs.original(run.id) for run in runs)
        return "" if whole and len(runs) in {int(said[-1]), int(said[-1]) + 1} else f"{len(runs)} of {said[-1]}"
    if act == "migration":
        with book.transaction() as line:
            return "" if book._revision(line) == tables.HEAD else "not migrated"
    sample = book.samples.get(1)
    last = int(said[-1]) if said else -1
    if act == "edit":
        number = int(sample.arrival.notes or -1)
        return (
            "" if sample.maker == (str(number) if number >= 0 else "Maker") and number in {last, last + 1} else "torn"
        )
    # the last that was told, or the one after it that was not told any more
    return "" if sample.claims == () or (len(sample.claims) == 1 and sample.claims[0].value == 40.0) else "torn"


def main() -> int:
    """Kill so many, print what was found."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    dice = random.Random(20261126)
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["wintry_tally.core.analysis", "polars", "alembic.command"])
    done: Counter[str] = Counter()
    wrong: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        for number in range(count):
            act = list(ACTS)[number % len(ACTS)]
            doing, within = ACTS[act]
            path = Path(folder) / f"{number}.wintry"
            prepared(path, act)
            hear, speak = context.Pipe(duplex=False)
            child = context.Process(target=doing, args=(path, speak), daemon=True)
            child.start()
            speak.close()
            said = [float(hear.recv())]
            time.sleep(dice.uniform(0.0, within))
            killed = time.monotonic()
            if child.is_alive() and child.pid:
                os.kill(child.pid, signal.SIGKILL)
            child.join()
            while True:
                try:
                    said.append(float(hear.recv()))
                except (EOFError, OSError):
                    break
            with Book.open(path) as book:
                found = wrong_in(book, act, said, killed)
            line = sqlite3.connect(path)
            if line.execute("PRAGMA integrity_check").fetchone() != ("ok",):
                found += " damaged"
            line.close()
            done[act] += 1
            if found:
                wrong.append(f"{number} {act}: {found}")
            for left in Path(folder).glob(f"{number}.wintry*"):
                left.unlink()
    print(f"{count} kills ({', '.join(f'{act} {n}' for act, n in done.items())}): {len(wrong)} wrong")
    print("\n".join(wrong[:20]))
    return 1 if wrong else 0


if __name__ == "__main__":
    raise SystemExit(main())
