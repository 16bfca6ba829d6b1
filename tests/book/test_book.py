"""The test book: samples, claims, runs, the journal, the seal, and what happens to it when things go wrong."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from dataclasses import asdict, replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest

from tests.making import discharge, same, with_tables
from wintry_tally.book import Book, RunSettings, RunStatus, tables
from wintry_tally.book.owner import _started, owner_lives, this_process
from wintry_tally.book.recipes import recipe_data, recipe_from
from wintry_tally.book.records import _settings
from wintry_tally.book.seal import reads_back, seal, unseal
from wintry_tally.core.analysis import analyse
from wintry_tally.core.battery import FAMILIES, Arrival, parse_claim
from wintry_tally.core.engine import Event, Phase, RunState
from wintry_tally.core.errors import BookError
from wintry_tally.core.protocol.capacity import CapacityPlan, capacity_recipe
from wintry_tally.exchange.reader import read_log
from wintry_tally.exchange.writer import write_log

BEGUN = datetime(2026, 1, 20, 8, 0, tzinfo=UTC)
SETTINGS = RunSettings(
    rated_Ah=40.0,
    voltage_accuracy="0.1%+2d",
    current_accuracy="0.5%+2d",
    voltage_resolution=0.001,
    current_resolution=0.001,
)


@pytest.fixture
def book(tmp_path: Path):
    with Book.create(tmp_path / "b.wintry", "Bench") as made:
        yield made


def test_samples_and_claims_come_back_as_they_went_in(book: Book) -> None:
    arrival = Arrival(13.1, True, 4.36, 0.01, "bought", "2026-01-12", True, None, "box dented")
    number = book.samples.add("B1", "Maker", "Model", "lfp", arrival)
    claims = [parse_claim("40 Ah at 0.2C"), parse_claim("trips at 300 ± 50 A", "manual"), parse_claim("no app")]
    for claim in claims:
        book.samples.add_claim(number, claim)
    sample = book.samples.get(number)
    assert sample.arrival == arrival and sample.code == "B1"
    assert [replace(claim, id=None) for claim in sample.claims] == claims
    removed = sample.claims[1]
    book.samples.remove_claim(removed.id)
    book.samples.add_claim(number, removed)
    assert book.samples.get(number).claims[1] == removed, "undo puts a claim back with its own number"
    book.samples.change(number, prose="good", maker="Other")
    assert book.samples.prose(number) == "good" and book.samples.get(number).maker == "Other"


def test_codes_are_unique_and_removal_hides(book: Book) -> None:
    first = book.samples.add(book.samples.next_code(), "", "", "lfp")
    assert book.samples.next_code() == "B2"
    with pytest.raises(BookError, match="B1 is taken"):
        book.samples.add("B1", "", "", "agm")
    book.samples.change(first, removed=True)
    assert book.samples.all() == [] and book.samples.next_code() == "B2"
    with pytest.raises(BookError):
        book.samples.get(first)


def test_journal_then_seal(book: Book) -> None:
    number = book.samples.add("B1", "", "", "lfp")
    run = book.runs.begin(number, "Capacity 1", "simulated", BEGUN, SETTINGS)
    trace = discharge()
    rows = [
        (float(t), float(v), float(a), 23.0, {})
        for t, v, a in zip(trace.time_s, trace.voltage_V, trace.current, strict=True)
    ]
    book.runs.append(run, rows[:1000], [Event(0.0, "start", "x")], RunState(), {"free_Ah": 3.0})
    book.runs.append(run, rows[1000:], [], RunState(phase=Phase.ENDED), {})
    assert len(book.runs.readings(run)) == len(rows) and book.runs.events(run)[0].kind == "start"
    before = analyse(book.runs.trace(run), SETTINGS.options())
    book.runs.finish(run, "set-cutoff", "why", BEGUN)
    assert book.runs.readings(run) == [], "rows go once the seal is verified"
    kept = book.runs.trace(run)
    after = analyse(kept, SETTINGS.options())
    assert before.capacity is not None and after.capacity is not None
    assert after.capacity.count.charge == before.capacity.count.charge
    found = book.runs.get(run)
    assert found.status is RunStatus.FINISHED and found.cause == "set-cutoff" and found.owner == ""
    assert kept.resolution == {"voltage_V": 0.001, "current_A": 0.001}


def test_a_seal_that_reads_back_differently_keeps_the_rows(book: Book, monkeypatch: pytest.MonkeyPatch) -> None:
    number = book.samples.add("B1", "", "", "lfp")
    run = book.runs.begin(number, "x", "simulated", BEGUN, SETTINGS)
    book.runs.append(run, [(0.0, 13.0, 8.0, None, {}), (1.0, 13.0, 8.0, None, {})], [], RunState(), {})
    monkeypatch.setattr("wintry_tally.book.seal.reads_back", lambda trace, content: False)
    with pytest.raises(BookError, match="kept as they are"):
        book.runs.seal(run)
    assert len(book.runs.readings(run)) == 2


def test_seal_keeps_every_column_bit_for_bit() -> None:
    trace = replace(
        discharge(),
        temperature_C=np.full(241, 21.5)[:1].repeat(len(discharge())),
        counter_Ah=np.linspace(0, 40, len(discharge())),
    ).taking(np.arange(3, 200))
    volts = trace.voltage_V.copy()
    volts[5] = np.nan
    odd = replace(trace, voltage_V=volts)
    back = unseal(seal(odd), odd.resolution)
    assert same(odd, back) and back.row is not None and back.row[0] == 4
    assert not same(odd, trace) and not same(odd, replace(odd, temperature_C=None))
    beside = {"cell_1_V": np.full(len(odd), 3.3)}
    later = replace(odd, row=odd.row + 1)
    assert reads_back(odd, seal(odd))
    for other in (trace, later, replace(odd, temperature_C=None), replace(odd, beside=beside)):
        assert not reads_back(odd, seal(other)) and not reads_back(other, seal(odd))


def test_hand_readings_and_originals(book: Book) -> None:
    number = book.samples.add("B1", "", "", "lfp")
    run = book.runs.begin(number, "x", "hand", BEGUN, SETTINGS)
    book.runs.add_hand(run, 0.0, 13.3, None, 0.0)
    last = book.runs.add_hand(run, 1800.0, 13.1, None, 4.0, "warm")
    assert book.runs.readings(run)[1] == (1800.0, 13.1, None, None, 4.0, "warm")
    trace = book.runs.trace(run)
    assert trace.current_A is None and trace.counter_Ah is not None
    book.runs.remove_hand(run, last)
    assert len(book.runs.readings(run)) == 1
    book.runs.keep_original(run, "log.csv", b"abc" * 1000)
    assert book.runs.original(run) == ("log.csv", b"abc" * 1000) and book.runs.get(run).original_name == "log.csv"
    assert book.runs.original(99) is None
    with pytest.raises(BookError, match="no run 99"):
        book.runs.get(99)


def test_settings_and_recipes_survive(book: Book) -> None:
    recipe = capacity_recipe(FAMILIES["agm"], 75.0, CapacityPlan("current", 3.75, 10.5, 600.0))
    assert recipe_from(recipe_data(recipe)) == recipe
    with pytest.raises(BookError):
        recipe_from({"name": "x"})
    number = book.samples.add("B1", "", "", "agm")
    run = book.runs.begin(number, "x", "simulated", BEGUN, SETTINGS, recipe_data(recipe))
    assert book.runs.get(run).settings == SETTINGS and recipe_from(book.runs.get(run).recipe) == recipe
    book.runs.change(run, settings=replace(SETTINGS, speed=60.0), left_out=True)
    assert book.runs.get(run).settings.speed == 60.0 and book.runs.get(run).left_out
    book.runs.remove(run)
    assert book.runs.all() == []


def test_owners() -> None:
    assert owner_lives(this_process())
    assert not owner_lives("") and not owner_lives("1:notastart") and not owner_lives("999999999:5")


def test_a_killed_process_not_yet_buried_owns_nothing() -> None:
    child = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
    owner = f"{child.pid}:{_started(child.pid)}"
    assert owner_lives(owner)
    os.kill(child.pid, signal.SIGKILL)
    for _ in range(100):
        if not owner_lives(owner):
            break
        time.sleep(0.02)
    assert not owner_lives(owner), "still a zombie: nobody has waited for it"
    child.wait()


def test_reopening_migrating_and_refusing(tmp_path: Path) -> None:
    path = tmp_path / "b.wintry"
    with Book.create(path) as book:
        book.set_meta("k", "1")
        book.set_meta("k", "2")
    assert [file.name for file in tmp_path.iterdir()] == ["b.wintry"], "closed, it is one file"
    with Book.open(path) as book:
        assert book.meta("k") == "2" and book.meta("none", "x") == "x" and book.meta("name") == "b"
    with pytest.raises(BookError, match="exists already"):
        Book.create(path)
    with pytest.raises(BookError, match="no such book"):
        Book.open(tmp_path / "none.wintry")
    with pytest.raises(BookError, match="folder does not exist"):
        Book.create(tmp_path / "no" / "b.wintry")
    other = tmp_path / "other.wintry"
    sqlite3.connect(other).execute("CREATE TABLE x(a)").connection.close()
    text = tmp_path / "text.wintry"
    text.write_text("not a book")
    for wrong in (other, text):
        with pytest.raises(BookError, match="not a test book"):
            Book.open(wrong)
    connection = sqlite3.connect(path)
    connection.execute("UPDATE alembic_version SET version_num='9999'")
    connection.commit()
    connection.close()
    with pytest.raises(BookError, match="newer version"):
        Book.open(path)


def test_the_tables_are_those_of_the_newest_migration(tmp_path: Path) -> None:
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext
    from alembic.script import ScriptDirectory
    from sqlalchemy import create_engine

    folder = Path(tables.__file__).parent / "migrations"
    assert ScriptDirectory(str(folder)).get_current_head() == tables.HEAD
    path = tmp_path / "b.wintry"
    Book.create(path).close()
    engine = create_engine(f"sqlite:///{path}")
    with engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), tables.metadata) == []
    engine.dispose()


def test_a_book_of_the_first_tables_is_brought_up_to_date_with_its_readings(tmp_path: Path) -> None:
    path = tmp_path / "b.wintry"
    with Book.create(path) as book:
        number = book.samples.add("B1", "", "", "lfp")
        run = book.runs.begin(number, "x", "simulated", BEGUN, SETTINGS)
        book.runs.append(run, [(0.0, 13.0, 8.0, None, {}), (1.0, 12.9, 8.0, None, {})], [], RunState(), {})
    with_tables(path, "0001")
    with Book.open(path) as book:
        assert book.runs.trace(run).voltage_V.tolist() == [13.0, 12.9]
        book.runs.append(run, [(2.0, 12.8, 8.0, None, {"second_V": 12.81})], [], RunState(), {})
        told = book.runs.trace(run).beside["second_V"]
        assert np.isnan(told[:2]).all() and told[2] == 12.81


def test_what_is_told_beside_a_reading_is_kept_sealed_and_written_out(book: Book, tmp_path: Path) -> None:
    number = book.samples.add("B1", "", "", "lfp")
    run = book.runs.begin(number, "Capacity 1", "bench", BEGUN, SETTINGS)
    told = {"second_V": 12.81, "counter_Ah": 0.2, "charge_state": 87.0, "cell_1_V": 3.201, "cell_2_V": 3.205}
    rows = [(float(i), 12.8, 8.0, 23.0, told if i != 3 else {}) for i in range(10)]
    book.runs.append(run, rows, [], RunState(), {})
    book.runs.finish(run, "set-cutoff", "", BEGUN)
    trace = book.runs.trace(run)
    assert book.runs.readings(run) == [] and set(trace.beside) == {"second_V", "cell_1_V", "cell_2_V"}
    assert trace.counter_Ah is not None and trace.counter_Ah[0] == 0.2 and np.isnan(trace.counter_Ah[3])
    assert trace.charge_state is not None and trace.charge_state[9] == 87.0
    for name in ("out.csv", "out.parquet"):
        write_log(trace, tmp_path / name)
        again = read_log(tmp_path / name).trace
        assert again.voltage_V[0] == 12.8, "the pack's own voltage, not the second meter's or a cell's"
        for column in trace.beside:
            np.testing.assert_allclose(again.beside[column], trace.beside[column])


def test_a_read_only_book_is_refused_plainly(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "b.wintry"
    Book.create(path).close()
    # root may write anywhere, so the answer of the system is stood in for
    monkeypatch.setattr("os.access", lambda *_: False)
    with pytest.raises(BookError, match="read-only"):
        Book.open(path)


def test_a_full_disk_is_one_clear_error(book: Book) -> None:
    number = book.samples.add("B1", "", "", "lfp")
    run = book.runs.begin(number, "x", "simulated", BEGUN, SETTINGS)
    with book.transaction() as connection:
        pages = connection.exec_driver_sql("PRAGMA page_count").scalar()
        connection.exec_driver_sql(f"PRAGMA max_page_count={pages + 2}")
    rows = [(float(i), 13.0, 8.0, None, {}) for i in range(20_000)]
    with pytest.raises(BookError, match="free some space"):
        book.runs.append(run, rows, [], RunState(), {})
    assert book.runs.readings(run) == [], "all of a write or nothing of it"


WRITER = """
import sys, time
from datetime import UTC, datetime
from pathlib import Path
from wintry_tally.bench.journal import Journal
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.simulated import MeterSpec, SimulatedChannel
from wintry_tally.book import Book, RunSettings
from wintry_tally.book.recipes import recipe_data
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, capacity_recipe
book = Book.open(Path(sys.argv[1]))
family = FAMILIES["lfp"]
recipe = capacity_recipe(family, 40.0, CapacityPlan("current", 8.0, 10.0), LoadLimits(180.0, 20.0))
settings = RunSettings(rated_Ah=40.0, seed=1)
run = book.runs.begin(1, "Capacity 1", "simulated", datetime.now(UTC), settings, recipe_data(recipe))
channel = SimulatedChannel(parameters_for(family, 40.0), MeterSpec(), 1)
loop = RunLoop(recipe, channel, Journal(book.runs, run), 1.0)
loop.start()
while True:
    seen = loop.tick()
    print(time.monotonic(), seen.elapsed_s, flush=True)
    time.sleep(0.002)
"""


def test_a_killed_process_loses_at_most_two_seconds(tmp_path: Path) -> None:
    path = tmp_path / "b.wintry"
    with Book.create(path) as book:
        book.samples.add("B1", "", "", "lfp")
    process = subprocess.Popen([sys.executable, "-c", WRITER, str(path)], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    printed = [process.stdout.readline() for _ in range(600)]
    os.kill(process.pid, signal.SIGKILL)
    printed += process.stdout.read().splitlines()
    process.wait()
    process.stdout.close()
    moments = [(float(a), float(b)) for a, b in (line.split() for line in printed if len(line.split()) == 2)]
    with Book.open(path) as book:
        run = book.runs.all()[0]
        rows = book.runs.readings(run.id)
        kept = rows[-1][0]
        died = moments[-1][0]
        lost = [moment for moment, elapsed in moments if elapsed > kept]
        assert not lost or died - lost[0] <= 2.0
        assert kept > 100 and [row[0] for row in rows] == sorted({row[0] for row in rows})
        assert run.status is RunStatus.RUNNING and not owner_lives(run.owner)
        state = RunState.from_dict(run.state)
        assert state.phase is Phase.DISCHARGING and state.last_s == kept and "free_Ah" in run.bench


def test_a_run_that_another_took_up_is_left_alone(book: Book) -> None:
    """A computer asleep beyond its lease wakes up: what it still holds is not written into what goes on elsewhere."""
    number = book.samples.add("B1", "", "", "lfp")
    run = book.runs.begin(number, "Capacity", "bench", BEGUN, SETTINGS)
    mine = book.runs.get(run).owner
    book.runs.append(run, [(0.0, 13.0, 8.0, None, {})], [], RunState(), {})
    book.runs.change(run, owner=f"another-host/{os.getpid()}:1", lease="2099-01-01 00:00:00")
    before = book.runs.get(run)
    with pytest.raises(BookError, match="taken up elsewhere meanwhile \\(on another-host\\)"):
        book.runs.append(run, [(1.0, 12.9, 8.0, None, {})], [], RunState(), {"x": 1})
    with pytest.raises(BookError, match="goes on elsewhere"):
        book.runs.finish(run, "operator", "", BEGUN)
    assert book.runs.get(run) == before and book.runs.trace(run).voltage_V.tolist() == [13.0]
    # its lease over, it may be closed here; and what is ours again is written
    book.runs.change(run, lease="2001-01-01 00:00:00")
    book.runs.change(run, owner=mine)
    book.runs.append(run, [(1.0, 12.9, 8.0, None, {})], [], RunState(), {})
    book.runs.change(run, owner=f"another-host/{os.getpid()}:1", lease="2001-01-01 00:00:00")
    book.runs.finish(run, "operator", "", BEGUN)
    assert book.runs.get(run).cause == "operator" and book.runs.trace(run).voltage_V.tolist() == [13.0, 12.9]


def test_settings_of_older_books_are_read_and_written_in_one_record() -> None:
    old = {
        "family": "agm",
        "extra": {"channel": "one", "state_of_charge": 0.4, "second_voltage_accuracy": "0.1%+2d", "gone": 1},
    }
    found = _settings(json.dumps(old))
    assert (found.family, found.channel, found.state_of_charge) == ("agm", "one", 0.4)
    assert found.second_voltage_accuracy == "0.1%+2d" and not found.charging and found.start_C is None
    assert _settings(json.dumps(asdict(found))) == found
    for wrong in ({"extra": 3}, {"extra": {"channel": 3}}, {"charging": "no"}):
        with pytest.raises(ValueError, match=r"extra|channel|charging"):
            _settings(json.dumps(wrong))


def test_what_another_database_would_not_understand_stands_in_one_file_and_where_the_file_itself_is_meant() -> None:
    own = ("import sqlite3", "PRAGMA", "prefix_with", "blobopen", "exec_driver_sql", "driver_connection", ".cursor(")
    found = {
        path.name
        for path in Path(tables.__file__).parent.glob("*.py")
        if any(words in path.read_text(encoding="utf-8") for words in own)
    }
    assert found == {"sqlite.py", "place.py", "copying.py"}


def test_a_book_that_is_made_at_once_for_tests_is_one_that_was_migrated(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    told = []
    for at_once in (True, True, False):
        if not at_once:
            monkeypatch.setattr(Book, "_migrate", Book._migrate.__wrapped__)
        path = tmp_path / f"{len(told)}.wintry"
        Book.create(path, "one").close()
        with contextlib.closing(sqlite3.connect(path)) as book:
            told.append([*book.iterdump(), *book.execute("PRAGMA application_id")])
    assert told[0] == told[1] == told[2]
