"""Following up in a book: cycles noted, tests made again, and what they show of the fade.

Fade in proportion to the cycles; common practice, no published source.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import pytest

from wintry_tally.app.campaign import draw_up, standing_of
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.edits import Edits
from wintry_tally.app.following import cycles_had, noted_of
from wintry_tally.app.today import today
from wintry_tally.app.wishes import Retest, Wishes, wishes_of
from wintry_tally.bench.equipment import Equipment
from wintry_tally.bench.simulated import MeterSpec
from wintry_tally.bench.simulation import SimulatedBattery, simulate
from wintry_tally.book import Book, RunSettings
from wintry_tally.book.recipes import recipe_data
from wintry_tally.cli.main import invoke
from wintry_tally.core.battery import family_named, parse_claim
from wintry_tally.core.battery.sample import CyclesHad
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.verdict.outcome import School
from wintry_tally.exchange.recipe_file import shipped_recipe
from wintry_tally.report.page import render
from wintry_tally.report.words import trend_words

BEGUN = datetime(2026, 2, 2, 8, 0, tzinfo=UTC)
LFP = family_named("lfp")
METER = MeterSpec("0.05%+1d", "0.1%+1d")


@pytest.fixture
def book(tmp_path: Path) -> Iterator[Book]:
    with Book.create(tmp_path / "b.wintry") as made:
        number = made.samples.add("B1", "", "", "lfp")
        for text in ("40 Ah", "2000 cycles to 80 %"):
            made.samples.add_claim(number, parse_claim(text))
        yield made


def _tested(book: Book, begun: datetime, health: float) -> int:
    filled = fill(shipped_recipe("capacity-reference"), Facts(LFP, 40.0))
    found = simulate(filled, SimulatedBattery(LFP, 40.0, health=health), 7, 10.0, METER)
    settings = RunSettings(
        rated_Ah=40.0, ambient_C=23.0, voltage_accuracy="0.05%+1d", current_accuracy="0.1%+1d", instrument="one meter"
    )
    title = f"Capacity {len(book.runs.all(1)) + 1}"
    run = book.runs.begin(1, title, "bench", begun, settings, recipe_data(filled), station="capacity")
    book.runs.seal(run, found.trace)
    book.runs.finish(run, "battery-protection", "", begun + timedelta(seconds=float(found.trace.time_s[-1])))
    return run


def test_a_fade_is_seen_with_the_count_of_its_claimed_end(book: Book) -> None:
    """3 % less after 250 cycles and 6 % after 500: 1.2 % of it, about 0.5 Ah, a hundred; 80 % of 40 Ah near 1,700."""
    edits = Edits(book)
    for number, health in enumerate((1.0, 0.97, 0.94)):
        begun = BEGUN + timedelta(days=120 * number)
        if number:
            edits.note_cycles(book.samples.get(1), begun - timedelta(days=1), 250.0).do()
        _tested(book, begun, health)
    assert [one.cycles for one in noted_of(book, 1)] == [250.0, 250.0]
    dossier = dossier_of(book, book.samples.get(1), School.STRICT)
    counts = cycles_had(dossier, noted_of(book, 1)).before
    assert counts["Capacity 1"] == 0.0 and counts["Capacity 2"] == pytest.approx(251.0, abs=0.1)
    assert counts["Capacity 3"] == pytest.approx(502.0, abs=0.2), "what is drawn here counts too"
    fade = next(one for one in dossier.trends if one.quantity == "charge")
    assert fade.per_hundred is not None and fade.per_hundred.value == pytest.approx(-0.5, abs=0.1)
    assert fade.end is not None and fade.end.value == 32.0 and fade.end.low is not None and fade.end.high is not None
    assert fade.end.low < 1750.0 < fade.end.high
    assert {one.quantity for one in dossier.trends} >= {"charge", "energy"}
    words = trend_words(fade)
    assert "3 tests" in words and "per 100 cycles" in words and "its claimed end (32 Ah) after" in words
    page = render(dossier)
    assert "From test to test" in page and "per 100 cycles" in page


def test_one_test_shows_no_fade_and_two_say_what_cannot_be_said_yet(book: Book) -> None:
    _tested(book, BEGUN, 1.0)
    sample = book.samples.get(1)
    assert dossier_of(book, sample, School.STRICT).trends == () and "From test to test" not in render(
        dossier_of(book, sample, School.STRICT)
    )
    _tested(book, BEGUN + timedelta(days=90), 0.999)
    found = dossier_of(book, sample, School.STRICT).trends
    words = trend_words(next(one for one in found if one.quantity == "charge"))
    assert "a year" in words and "per 100" not in words, "one cycle is too few for a slope by cycles"
    Edits(book).note_cycles(sample, BEGUN + timedelta(days=60), 30.0).do()
    charge = next(one for one in dossier_of(book, sample, School.STRICT).trends if one.quantity == "charge")
    assert "cannot be said yet" in trend_words(charge)


def test_what_is_noted_is_checked_and_taken_back(book: Book) -> None:
    sample = book.samples.get(1)
    for wrong in (0.0, -5.0, 100_001.0, float("nan")):
        with pytest.raises(InputError, match="cannot be"):
            Edits(book).note_cycles(sample, BEGUN, wrong)
    later, first = Edits(book).note_cycles(sample, BEGUN, 100_000.0), Edits(book)
    later.do()
    earlier = first.note_cycles(sample, BEGUN - timedelta(days=3), 7.0)
    earlier.do()
    assert [one.cycles for one in noted_of(book, 1)] == [7.0, 100_000.0]
    earlier.undo()
    assert [one.cycles for one in noted_of(book, 1)] == [100_000.0]
    book.set_meta("cycles:1", '{"noted": [{"at": "x"}]}')
    with pytest.raises(Exception, match="cycles kept in the book"):
        noted_of(book, 1)


def test_a_re_test_stands_in_the_plan_once_its_day_is_near(book: Book) -> None:
    _tested(book, BEGUN, 1.0)
    wishes = Wishes().retested("B1", "capacity-reference", Retest(on=date(2026, 8, 3)))
    Edits(book).set_wishes("again", wishes).do()  # type: ignore[union-attr]
    assert wishes_of(book) == wishes

    def drawn(now: datetime):
        sample, runs = book.samples.get(1), book.runs.all(1)
        standing = standing_of(
            sample, runs, dossier_of(book, sample, School.STRICT), None, wishes_of(book), Equipment(), now
        )
        assert standing is not None
        return draw_up({1: standing}, Equipment(), "7:00-19:00", wishes_of(book), {}, now, 0.0, False)

    early = drawn(datetime(2026, 7, 26, 8, tzinfo=UTC))
    assert not any(task.recipe == "capacity-reference" for task in early.plan.campaign.tasks)
    lines = today([book.samples.get(1)], {1: book.runs.all(1)}, [], early, {}, early.made)
    due = next(one for one in lines if one.words.startswith("Re-test: Capacity"))
    assert due.group == "due" and due.clock == "3 Aug 2026" and due.recipe == "capacity-reference"
    near = drawn(datetime(2026, 7, 28, 8, tzinfo=UTC))
    assert any(task.recipe == "capacity-reference" for task in near.plan.campaign.tasks)
    lines = today([book.samples.get(1)], {1: book.runs.all(1)}, [], near, {}, near.made)
    assert not any(one.words.startswith("Re-test") for one in lines)
    _tested(book, datetime(2026, 7, 28, 9, tzinfo=UTC), 1.0)
    runs = book.runs.all(1)
    assert (
        wishes.retests("B1", runs, CyclesHad()) == {}
        and wishes.retests("B1", [replace(runs[-1], left_out=True)], CyclesHad()) != {}
    )
    done = drawn(datetime(2026, 8, 3, 8, tzinfo=UTC))
    assert not any(task.recipe == "capacity-reference" for task in done.plan.campaign.tasks)


def test_a_re_test_after_so_many_cycles_waits_for_them(book: Book) -> None:
    """One run here draws about one cycle; 98 more were noted: it is asked for at 100 in all, and once."""
    _tested(book, BEGUN, 1.0)
    edits = Edits(book)
    edits.set_wishes("again", Wishes().retested("B1", "capacity-reference", Retest(cycles=100))).do()  # type: ignore[union-attr]
    assert wishes_of(book).again == {"B1": {"capacity-reference": "100 cycles"}}
    later = BEGUN + timedelta(days=30)

    def asked(now: datetime) -> tuple[bool, list[str]]:
        sample, runs = book.samples.get(1), book.runs.all(1)
        standing = standing_of(
            sample, runs, dossier_of(book, sample, School.STRICT), None, wishes_of(book), Equipment(), now
        )
        assert standing is not None
        drawn = draw_up({1: standing}, Equipment(), "7:00-19:00", wishes_of(book), {}, now, 0.0, False)
        lines = today([sample], {1: runs}, [], drawn, {}, now)
        planned = any(task.recipe == "capacity-reference" for task in drawn.plan.campaign.tasks)
        return planned, [one.clock for one in lines if one.words.startswith("Re-test")]

    assert asked(later) == (False, ["at 100 cycles, of which it had 1"])
    edits.note_cycles(book.samples.get(1), later, 97.0).do()
    assert asked(later) == (False, ["at 100 cycles, of which it had 98"])
    edits.note_cycles(book.samples.get(1), later + timedelta(hours=1), 1.7).do()
    assert asked(later + timedelta(days=1)) == (True, [])
    _tested(book, later + timedelta(days=2), 1.0)
    assert asked(later + timedelta(days=3)) == (False, [])
    with pytest.raises(ValueError):
        Retest.read("100 turns")


def test_followed_from_a_shell(book: Book, capsys) -> None:
    _tested(book, BEGUN, 1.0)
    _tested(book, BEGUN + timedelta(days=200), 0.97)
    path = str(book.path)
    assert invoke(["follow", path, "B1", "--cycles", "120", "--at", "2026-05-01T08:00", "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert found["schema"] == "wintry-tally.follow/1" and found["noted"][0]["cycles"] == 120.0
    charge = next(one for one in found["trends"] if one["quantity"] == "charge")
    assert charge["points"][1]["cycles"] == pytest.approx(121.0, abs=0.2) and charge["per_year"]["unit"] == "Ah a year"
    assert charge["end"]["value"] == 32.0
    assert invoke(["follow", path, "B1"]) == 0 and "per 100 cycles" in capsys.readouterr().out
    assert invoke(["follow", path, "B1", "--cycles", "0"]) == 2 and "cannot be" in capsys.readouterr().err
    assert invoke(["follow", path, "B9"]) == 2
