"""An open book without a window: edits and their inverses, the feed, who has a run, dossiers that no longer hold.

The rules are those of docs/architecture.md; each is held against a second open book on the same file, or a model of its own.
"""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as some

from tests import amount
from wintry_tally.app.edits import Edit
from wintry_tally.app.last_seen import read_book
from wintry_tally.app.open_book import OpenBook
from wintry_tally.book import Book, RunSettings, feed
from wintry_tally.book.feed import KEPT, Topic
from wintry_tally.book.owner import LEASE_S, this_host, this_process
from wintry_tally.core.battery import parse_claim
from wintry_tally.core.errors import BookError
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.verdict.outcome import School

BEGUN = datetime(2027, 1, 11, 8, 0, tzinfo=UTC)


class Ears:
    """Hears everything, and does jobs only when told to."""

    def __init__(self) -> None:
        self.told: list[tuple[Topic, int | None]] = []
        self.ready: list[int] = []
        self.words: list[str] = []
        self.last_failed: Any = None
        self.waiting: list[tuple[Callable[[Any], Any], Callable[[Any], None]]] = []

    def start(self, work: Callable[[Any], Any], done: Callable[[Any], None], failed: Any = None) -> None:
        self.waiting.append((work, done))
        self.last_failed = failed

    def work(self) -> None:
        jobs, self.waiting = self.waiting, []
        for work, done in jobs:
            done(work(None))

    def hear(self, topic: Topic, sample_id: int | None) -> None:
        self.told.append((topic, sample_id))

    def failed(self, words: str) -> None:
        self.words.append(words)

    said = failed

    def rang(self, title: str, words: str, grave: bool = False) -> None:
        self.words.append(title)

    def runs_changed(self, sample_id: int) -> None: ...


def at(path: Path) -> tuple[OpenBook, Ears]:
    ears = Ears()
    return OpenBook(read_book(path), ears, ears, ears.hear, ears.ready.append), ears


@pytest.fixture
def path(tmp_path: Path, own_places: Path) -> Path:
    made = tmp_path / "b.wintry"
    with Book.create(made) as book:
        book.samples.add("B1", "", "", "lfp")
    return made


@pytest.fixture
def two(path: Path) -> Iterator[tuple[OpenBook, Ears, OpenBook, Ears]]:
    """Two that have one book open."""
    one, other = at(path), at(path)
    yield (*one, *other)
    one[0].close()
    other[0].close()


def test_what_one_does_the_other_hears_in_order_and_once(two: tuple[OpenBook, Ears, OpenBook, Ears]) -> None:
    one, own, other, heard = two
    made: list[int] = []
    one.do(one.edits.add_sample(made))
    one.do(one.edits.add_claim(1, parse_claim("40 Ah")))
    one.do(one.edits.add_claim(1, parse_claim("512 Wh")))
    one.do(one.edits.set_school(School.PLAIN))
    told = [(Topic.SAMPLES, made[0]), (Topic.SAMPLE, 1), (Topic.RULE, None)]
    assert other.samples != one.samples and not heard.told
    assert other.catch_up() == set(told) and heard.told == told, "three edits of one kind are one to whoever comes late"
    assert other.samples == one.samples and other.school is School.PLAIN and len(other.sample(1).claims) == 2
    assert own.told == [told[0], told[1], told[1], told[2]] and other.catch_up() == set()


@pytest.mark.parametrize(
    ("act", "topic"),
    [
        (lambda o: o.edits.set_sample(o.sample(1), "x", maker="M"), Topic.SAMPLE),
        (lambda o: o.edits.set_sample(o.sample(1), "x", code="Z"), Topic.SAMPLES),
        (lambda o: o.edits.set_sample(o.sample(1), "x", rested_V=13.2), Topic.SAMPLE),
        (lambda o: o.edits.set_prose(1, "words"), Topic.PROSE),
        (lambda o: o.edits.enter(1, parse_claim("4.4 kg"), 4.36, 0.01), Topic.ENTERED),
        (lambda o: o.edits.set_attended("Mon 8-12"), Topic.BENCH),
        (lambda o: o.edits.remove_sample(1), Topic.SAMPLES),
    ],
)
def test_each_edit_has_its_topic_and_its_inverse(
    two: tuple[OpenBook, Ears, OpenBook, Ears], act: Callable[[OpenBook], Edit], topic: Topic
) -> None:
    one, own, other, heard = two
    before = (one.samples, one.book.samples.prose(1), one.book.samples.entered(1), one.book.meta("attended"))
    edit = act(one)
    one.do(edit)
    other.catch_up()
    assert [item for item, _ in heard.told] == [topic] == [item for item, _ in own.told]
    one.undo(edit)
    assert before == (one.samples, one.book.samples.prose(1), one.book.samples.entered(1), one.book.meta("attended"))
    one.do(edit)
    other.catch_up()
    assert other.samples == one.samples


def test_an_edit_that_changes_nothing_is_none(two: tuple[OpenBook, Ears, OpenBook, Ears]) -> None:
    one = two[0]
    assert one.edits.set_school(School.STRICT) is None and one.edits.set_prose(1, "") is None
    assert one.edits.set_sample(one.sample(1), "x", maker="") is None


STEPS = some.lists(some.tuples(some.integers(0, 6), some.integers(0, 3), some.text("abc", max_size=3)), max_size=12)


@settings(max_examples=amount.some(10, 25), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(STEPS)
def test_any_edits_taken_back_in_turn_leave_the_book_as_it_was(path: Path, steps: list[tuple[int, int, str]]) -> None:
    one, _ = at(path)
    try:
        seen: list[Any] = []
        done: list[Edit] = []
        for kind, which, text in steps:
            sample = one.samples[which % len(one.samples)] if one.samples else None
            claims = sample.claims if sample else ()
            edit = {
                0: lambda: one.edits.add_sample([]),
                1: lambda s=sample: s and one.edits.remove_sample(s.id),
                2: lambda s=sample, t=text: s and one.edits.set_sample(s, "x", maker=t, notes=t),
                3: lambda s=sample: s and one.edits.add_claim(s.id, parse_claim("40 Ah")),
                4: lambda s=sample, c=claims: s and c and one.edits.remove_claim(s.id, c[0]),
                5: lambda s=sample, t=text: s and one.edits.set_prose(s.id, t),
                6: lambda s=sample, w=which: s and one.edits.enter(s.id, parse_claim("with handle"), float(w % 2)),
            }[kind]()
            if edit:
                seen.append(_all_of(one))
                one.do(edit)
                done.append(edit)
        for edit, before in zip(reversed(done), reversed(seen), strict=True):
            one.undo(edit)
            assert _all_of(one) == before, edit.words
    finally:
        one.close()


def _all_of(opened: OpenBook) -> Any:
    samples = opened.book.samples
    kept = [(sample, samples.prose(sample.id), samples.entered(sample.id)) for sample in samples.all()]
    assert tuple(sample for sample, _, _ in kept) == opened.samples, "the snapshot is what the book holds"
    return kept


def test_what_a_book_refuses_is_no_change_and_no_note(two: tuple[OpenBook, Ears, OpenBook, Ears]) -> None:
    one, own, other, heard = two
    with pytest.raises(RuntimeError), one.book.transaction():
        one.book.samples.change(1, maker="half done")
        raise RuntimeError
    assert one.catch_up() == other.catch_up() == set() and one.book.samples.get(1).maker == ""
    line = sqlite3.connect(one.book.path)
    line.execute("BEGIN IMMEDIATE")
    one.book.hurry_here()
    edit = one.edits.set_sample(one.sample(1), "x", maker="M")
    assert edit is not None
    with pytest.raises(BookError, match="locked"):
        one.do(edit)
    line.rollback()
    line.close()
    assert not own.told and not heard.told and one.sample(1).maker == ""


def test_notes_are_kept_for_a_while_and_never_numbered_twice(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(feed, "KEPT", few := 600)
    assert few < KEPT, "readers that lag have that many to catch up with"
    with Book.open(path) as book:
        for number in range(few + 600):
            with book.transaction() as connection:
                book.feed.note(connection, Topic.SAMPLE, number)
        newest = book.newest_change()
        with book.transaction() as connection:
            kept = book.feed.since(connection, 0)
        assert few <= len(kept) <= few + 500 and kept[-1].number == newest == few + 601
        assert {note.origin for note in kept} == {book.feed.origin}


def test_a_run_of_another_computer_is_its_own_until_its_lease_is_over(path: Path) -> None:
    with Book.open(path) as book:
        number = book.runs.begin(1, "Capacity 1", "bench", BEGUN, RunSettings())
        assert book.runs.in_hands(book.runs.get(number)) and book.runs.get(number).owner == this_process()
        elsewhere = f"another-{this_host()}/{this_process().partition('/')[2]}"
        book.runs.change(number, owner=elsewhere)
        assert book.runs.in_hands(book.runs.get(number)), "nobody here can see whether that process lives"
        for age, held in ((LEASE_S - 3, True), (LEASE_S + 3, False)):
            # as the clock of a file tells it, and as a server's does
            for told in (
                f"datetime('now', '-{age:.0f} seconds')",
                f"datetime('now', '{7200 - age:+.0f} seconds') || '+02:00'",
            ):
                with book.transaction() as connection:
                    connection.exec_driver_sql(f"UPDATE run SET lease = {told} WHERE id = {number}")
                assert book.runs.in_hands(book.runs.get(number)) is held
        book.runs.renew([number])
        assert not book.runs.in_hands(book.runs.get(number)), "nobody renews what is another's"
        book.runs.change(number, owner=this_process())
        book.runs.renew([number])
        book.runs.change(number, owner=elsewhere)
        assert book.runs.in_hands(book.runs.get(number))
        book.runs.change(number, owner="999999999:5")  # of a book that knew one computer only
        assert not book.runs.in_hands(book.runs.get(number))
        assert book.runs.claim(number, "999999999:5") and not book.runs.claim(number, "999999999:5")
        assert book.runs.in_hands(book.runs.get(number))


def test_a_dossier_worked_out_of_what_was_is_not_shown_as_what_is(two: tuple[OpenBook, Ears, OpenBook, Ears]) -> None:
    one, own, _, _ = two
    assert one.dossier(1) is None and not own.waiting, "what is on the screen comes first"
    one.shelf.at_work = True
    assert one.dossier(1) is None and len(own.waiting) == 1 and one.dossier(1) is None and len(own.waiting) == 1
    one.do(one.edits.add_claim(1, parse_claim("40 Ah")))  # while it is being worked out
    own.work()
    assert own.ready == [1] and one.dossier(1) is None, "worked out of a sample without the claim"
    own.work()
    dossier = one.dossier(1)
    assert dossier is not None and [verdict.claim.kind for verdict in dossier.verdicts] == ["capacity"]
    one.do(one.edits.set_school(School.LENIENT))
    assert one.dossier(1) is None
    own.work()
    again = one.dossier(1)
    assert again is not None and again.school is School.LENIENT


def test_who_looked_too_long_ago_takes_everything_anew(two: tuple[OpenBook, Ears, OpenBook, Ears]) -> None:
    one, _, other, heard = two
    one.do(one.edits.add_claim(1, parse_claim("40 Ah")))
    one.do(one.edits.set_school(School.PLAIN))
    one.do(one.edits.set_prose(1, "words"))
    with one.book.transaction() as connection:  # as when so many came after them
        newest = one.book.newest_change()
        connection.exec_driver_sql(f"DELETE FROM change WHERE id < {newest}")
    other.catch_up()
    assert other.samples == one.samples and other.school is School.PLAIN
    assert {(Topic.SAMPLES, None), (Topic.RULE, None), (Topic.SAMPLE, 1), (Topic.RUNS, 1)} <= set(heard.told)


def test_live_runs_keep_their_lease_though_nothing_is_read(path: Path) -> None:
    one, _ = at(path)
    number = one.book.runs.begin(1, "Capacity 1", "bench", BEGUN, RunSettings())
    with one.book.transaction() as connection:
        connection.exec_driver_sql("UPDATE run SET lease = '2020-01-01 00:00:00'")
    one.live.live[number] = None  # type: ignore[assignment]
    one.live._renew()
    for thread in [item for item in threading.enumerate() if item.name == "lease"]:
        thread.join(10.0)
    assert not str(one.book.runs.get(number).lease).startswith("2020")
    one.live.live.clear()
    one.close()


def test_what_is_known_is_the_book_after_whatever_was_done(two: tuple[OpenBook, Ears, OpenBook, Ears]) -> None:
    """The frozen moment of each, after edits of every topic by one, is what the book itself tells when it is asked anew."""
    one, _, other, _ = two
    made: list[int] = []
    one.do(one.edits.add_sample(made))
    one.do(one.edits.set_prose(1, "words"))
    one.do(one.edits.add_claim(1, parse_claim("40 Ah")))
    one.do(one.edits.read_place("freezer", datetime(2026, 11, 25, 8, tzinfo=UTC), -18.0))
    one.do(one.edits.enter(1, parse_claim("4.4 kg"), 4.36))
    run = one.book.runs.begin(1, "Capacity 1", Method.HAND, datetime.now(UTC), RunSettings(), {}, "capacity")
    one.book.runs.add_hand(run, 10.0, 13.1, 8.0, None, "")
    one.do(one.edits.remove_sample(made[0]))
    one.touched(1)
    other.catch_up()
    for opened in (one, other):
        known, book = opened.known, opened.book
        assert known.samples == tuple(book.samples.all()) and known.taken_off == tuple(book.samples.all(taken_off=True))
        assert [sample.id for sample in known.taken_off] == made
        assert (
            known.prose == {1: "words"}
            and known.latest == book.places.latest()
            and known.newest == book.newest_change()
        )
        assert opened.runs(1) == book.runs.all(1) and known.typed == {run: tuple(book.runs.readings(run))}
        assert known.held == ({run} if book.runs.in_hands(book.runs.get(run)) else set())
        assert book.meta("entered:1") == book.meta("entered:1", fresh=True) != ""
    one.book.runs.finish(run, "operator", "", datetime.now(UTC))
    other.catch_up()
    assert other.known.typed == {} and not other.known.going and other.runs(1)[0].ended is not None


def test_a_look_that_comes_late_tells_what_it_saw_and_takes_nothing_back(
    two: tuple[OpenBook, Ears, OpenBook, Ears],
) -> None:
    one, _, other, _ = two
    early = other._looking.look()
    one.do(one.edits.set_sample(one.sample(1), "x", maker="M"))
    late = other._looking.look()
    other._heed(late)
    other._heed(early)
    assert other.sample(1).maker == "M"
