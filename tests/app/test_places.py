"""The places of a bench, from a thermometer or a hand to a verdict; what does not answer, and what has no reading."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from tests.bench.live import LiveBench
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.edits import Edits
from wintry_tally.app.places import PlaceLog, PlaceSpec, PlaceWatch, lately, places_of, places_text, reader, with_place
from wintry_tally.app.stood import history
from wintry_tally.bench.connect import thing_of
from wintry_tally.bench.equipment import Instrument
from wintry_tally.bench.simulation import SimulatedBattery, simulate
from wintry_tally.bench.taken import take
from wintry_tally.book import Book, RunSettings
from wintry_tally.book.recipes import recipe_data
from wintry_tally.cli.main import invoke
from wintry_tally.core.battery import family_named, parse_claim
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.verdict.outcome import Outcome, School
from wintry_tally.exchange.recipe_file import shipped_recipe

NOW = datetime(2027, 1, 11, 8, 0, tzinfo=UTC)
LFP = family_named("lfp")


@pytest.fixture
def book(tmp_path: Path) -> Iterator[Book]:
    with Book.create(tmp_path / "b.wintry") as made:
        number = made.samples.add("B1", "", "", "lfp")
        for text in ("40 Ah", "self discharge 4 %/month"):
            made.samples.add_claim(number, parse_claim(text))
        yield made


def _run(book: Book, recipe: str, begun: datetime, state: float) -> datetime:
    filled = fill(shipped_recipe(recipe), Facts(LFP, 40.0))
    found = simulate(filled, SimulatedBattery(LFP, 40.0, state_of_charge=state), seed=4, interval_s=20.0)
    settings = RunSettings(
        rated_Ah=40.0, voltage_accuracy="0.1%+2d", current_accuracy="0.3%+2d", instrument="one meter"
    )
    run = book.runs.begin(1, recipe, "bench", begun, settings, recipe_data(filled), station="shelf")
    book.runs.seal(run, found.trace)
    ends = begun + timedelta(seconds=float(found.trace.time_s[-1]))
    book.runs.finish(run, "confirmed", "", ends)
    return ends


def test_a_month_on_the_shelf_is_judged_by_its_own_time_and_temperature(book: Book) -> None:
    """Full, a month later 3 % less: the two runs of the book settle it, with what the shelf was like between them."""
    stored = _run(book, "shelf-start", NOW, 0.9)
    sample = book.samples.get(1)
    alone = dossier_of(book, sample, School.STRICT).verdicts[1]
    assert (
        alone.outcome is Outcome.NOT_TESTED and alone.advice == "it lies on the shelf: the test at its end settles it"
    )
    for day in range(31):
        for hour in range(0, 24, 2):
            book.places.add("shelf", stored + timedelta(days=day, hours=hour), 20.0 + 0.1 * (hour - 11), "thermometer")
    book.places.add("room", stored, 35.0)
    _run(book, "shelf-end", stored + timedelta(days=30.44), 0.985)
    found = dossier_of(book, sample, School.STRICT).verdicts[1]
    assert found.evidence == ("shelf-start", "shelf-end") and found.measured is not None
    assert found.measured.value == pytest.approx(2.8, abs=0.5) and found.outcome is Outcome.MET
    told = next(c for c in found.conditions if c.name == "temperature")
    assert told.actual == "20.0 °C by the log of the shelf (19 to 21 °C)" and told.effect is None


def test_something_between_start_and_end_breaks_the_pair(book: Book) -> None:
    stored = _run(book, "shelf-start", NOW, 0.9)
    _run(book, "capacity-reference", stored + timedelta(days=3), 1.0)
    _run(book, "shelf-end", stored + timedelta(days=30), 0.985)
    found = dossier_of(book, book.samples.get(1), School.STRICT).verdicts[1]
    assert found.outcome is Outcome.NOT_TESTED and "how long it was stored" in (found.advice or "")
    stored = _run(book, "shelf-start", stored + timedelta(days=40), 0.9)
    again = dossier_of(book, book.samples.get(1), School.STRICT).verdicts[1]
    assert again.advice == "it lies on the shelf: the test at its end settles it", "the latest is under way"


def test_places_are_kept_checked_and_taken_back(book: Book) -> None:
    assert [one.name for one in places_of(book)] == ["room", "freezer", "shelf"]
    edits = Edits(book)
    made = with_place(places_of(book), PlaceSpec("freezer", "probe", 60.0))
    edit = edits.set_places("let probe read it", made)
    assert edit is not None
    edit.do()
    assert places_of(book)[1] == PlaceSpec("freezer", "probe", 60.0) and edits.set_places("again", made) is None
    edit.undo()
    assert places_of(book)[1].thermometer == ""
    for wrong, words in (((PlaceSpec("a"), PlaceSpec("a")), "name of its own"), ((PlaceSpec(" "),), "name of its own"),
                         ((PlaceSpec("a", "p", 29.0),), "every 30 s")):  # fmt: skip
        with pytest.raises(InputError, match=words):
            places_text(wrong)
    places_text((PlaceSpec("a", "p", 30.0), PlaceSpec("b", "p", 7 * 86_400.0)))
    read = edits.read_place("freezer", NOW, -18.5)
    read.do()
    assert book.places.latest()["freezer"].temperature_C == -18.5 and book.places.latest()["freezer"].source == ""
    read.undo()
    assert book.places.latest() == {}
    for place, degrees in (("", 1.0), ("freezer", -81.0), ("freezer", 121.0), ("freezer", float("nan"))):
        with pytest.raises(InputError):
            book.places.add(place, NOW, degrees)
    book.places.add("freezer", NOW, -80.0)
    book.places.add("freezer", NOW - timedelta(hours=2), -60.0)
    assert [one.temperature_C for one in book.places.between("freezer", NOW - timedelta(hours=2), NOW)] == [
        -60.0,
        -80.0,
    ]
    assert history(book, "freezer", NOW - timedelta(hours=2), NOW).mean_C == pytest.approx(-70.0)
    assert history(book, "shelf", NOW - timedelta(hours=2), NOW).readings == 0


def test_a_thermometer_that_does_not_answer_is_told_once_and_read_on() -> None:
    answers: list[float | None] = [-18.0, None, None, -17.5, None]
    told: list[str] = []

    def read(_name: str) -> float:
        found = answers.pop(0)
        if found is None:
            raise InputError("it does not answer")
        return found

    log, places = PlaceLog(read, told.append), (PlaceSpec("freezer", "probe", 60.0), PlaceSpec("room"))
    found = []
    for minute in range(5):
        now = NOW + timedelta(minutes=minute)
        found.append(log.take(log.due(places, now)))
        assert log.due(places, now + timedelta(seconds=59)) == []
    assert [one.get("freezer") for one in found] == [(-18.0, "probe"), None, None, (-17.5, "probe"), None]
    assert told == ["freezer: it does not answer"] * 2, "once for each silence"


def test_the_window_s_watch_keeps_readings_and_says_what_fails(book: Book) -> None:
    book.set_meta("places", places_text((PlaceSpec("freezer", "gone", 600.0),)))
    failed: list[str] = []

    def at_once(job, done, _failed) -> None:
        done(job())

    from wintry_tally.bench.equipment import Equipment

    watch = PlaceWatch(book, Equipment, at_once, failed.append)
    watch.follow(NOW)
    assert failed and 'there is no instrument "gone"' in failed[0]
    watch.follow(NOW + timedelta(seconds=599))
    assert len(failed) == 1 and book.places.latest() == {}
    book.set_meta("places", places_text((PlaceSpec("freezer"),)))
    watch.changed()
    watch.follow(NOW + timedelta(hours=1))
    assert len(failed) == 1


@pytest.fixture
def bench(tmp_path: Path, own_places: Path) -> Iterator[LiveBench]:
    made = LiveBench(tmp_path)
    with Book.open(made.path) as book:
        from wintry_tally.app.bench_book import equipment_of, keep_equipment

        probe = Instrument("probe", "thermometer", address=made.stand_ins.addresses()["thermometer"])
        keep_equipment(book, equipment_of(book).with_instrument(probe))
    yield made
    made.stop()


def test_an_instrument_that_a_run_has_is_left_alone(bench: LiveBench) -> None:
    with Book.open(bench.path) as book:
        from wintry_tally.app.bench_book import equipment_of

        equipment = equipment_of(book)
        read = reader(lambda: equipment)
        assert 15.0 < read("probe") < 30.0
        held = take([thing_of(equipment.instrument("probe"))], "a run")
        try:
            with pytest.raises(InputError, match="taken by a run"):
                read("probe")
        finally:
            held.release()
        with pytest.raises(InputError, match="tells no temperature"):
            read("load")


def test_watched_from_a_shell_until_it_is_told_to_end(bench: LiveBench, capsys) -> None:
    path = str(bench.path)
    assert invoke(["watch", path]) == 2 and "no place has a thermometer" in capsys.readouterr().err
    assert invoke(["place", path, "freezer", "--thermometer", "probe", "--every", "30"]) == 0
    assert "read by probe every 30 s" in capsys.readouterr().out
    assert invoke(["watch", path, "--once", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["place"] == "freezer" and 15.0 < told["temperature_C"] < 30.0
    asked = [sys.executable, "-m", "wintry_tally", "watch", path]
    with subprocess.Popen(asked, stdout=subprocess.PIPE, text=True) as program:
        assert program.stdout is not None
        line = program.stdout.readline()
        assert "freezer" in line and "°C" in line
        program.send_signal(signal.SIGTERM)
        assert program.wait(20) == 0
    with Book.open(bench.path) as book:
        begin = datetime.now(UTC) - timedelta(minutes=5)
        assert len(book.places.between("freezer", begin, datetime.now(UTC) + timedelta(seconds=1))) == 2
    assert invoke(["place", path, "shelf", "--thermometer", "meter", "--every", "600"]) == 0
    capsys.readouterr()
    assert invoke(["watch", path, "--once"]) == 3 and "tells no temperature" in capsys.readouterr().err


def test_typed_from_a_shell(tmp_path: Path, capsys) -> None:
    path = tmp_path / "b.wintry"
    Book.create(path).close()
    assert invoke(["place", str(path), "freezer", "-18,5", "--at", "2026-01-11T08:00"]) == 0
    capsys.readouterr()
    assert invoke(["place", str(path), "room", "68 °F", "--json"]) == 0
    found = json.loads(capsys.readouterr().out)["places"]
    assert found[0]["temperature_C"] == pytest.approx(20.0) and found[1]["temperature_C"] == -18.5
    assert found[1]["at"].startswith("2026-01-11T") and found[2]["at"] is None
    for arguments, words in (
        (["cellar", "5"], "no place"), (["room", "warm"], "begin with a number"), (["room", "5", "--at", "noon"], "no moment"),
        (["room", "5", "--at", "2099-01-01T00:00"], "still to come"), (["room", "--thermometer", "x"], "no instrument"),
        (["room", "--every", "5"], "every 30 s"),
        (["room", "--every", "nan"], "every 30 s"), (["room", "--every", "1e400"], "every 30 s"), (["room", "--warm"], "No such option"), (["room", "300"], "no temperature of a place"),
    ):  # fmt: skip
        assert invoke(["place", str(path), *arguments]) == 2
        assert words in capsys.readouterr().err


def test_what_was_read_lately_is_told_and_older_readings_are_not(tmp_path: Path) -> None:
    now = datetime(2027, 1, 20, 12, tzinfo=UTC)
    with Book.create(tmp_path / "b.wintry") as book:
        book.places.add("freezer", now - timedelta(days=2), -17.0)
        book.places.add("freezer", now - timedelta(hours=2), -15.5)
        book.places.add("room", now - timedelta(days=8), 21.0)
        assert lately(book.places.latest(), now) == {"freezer": -15.5}
