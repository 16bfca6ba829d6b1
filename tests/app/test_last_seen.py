"""A book as it was last seen: there at once where nothing changed, and never believed where anything did."""

from __future__ import annotations

import os
import shutil
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.amount import some
from tests.app.test_open_book import Ears
from wintry_tally.app import last_seen
from wintry_tally.app.known import Looking
from wintry_tally.app.last_seen import new_book, read_book
from wintry_tally.app.open_book import OpenBook
from wintry_tally.book import Book, RunSettings
from wintry_tally.book.samples import Samples
from wintry_tally.core.battery import parse_claim
from wintry_tally.core.errors import BookError
from wintry_tally.core.verdict.outcome import Outcome, School
from wintry_tally.demo import scratch_copy

NOW = datetime(2024, 3, 4, 9, 0, tzinfo=UTC)


def opened(path: Path) -> tuple[OpenBook, Ears]:
    ears = Ears()
    made = OpenBook(read_book(path), ears, ears, ears.hear, ears.ready.append)
    made.shelf.at_work = True
    return made, ears


def visit(path: Path) -> dict[int, tuple[Outcome, ...] | None]:
    """Open it, have everything worked out, close it; how the claims stand."""
    one, ears = opened(path)
    for sample in one.samples:
        one.dossier(sample.id)
    ears.work()
    found = {sample.id: one.outcomes(sample.id) for sample in one.samples}
    one.close()
    return found


def remembered(path: Path) -> dict[int, tuple[Outcome, ...]]:
    """What is known at once of how its claims stand."""
    read = read_book(path)
    read.book.close()
    return dict(read.outcomes)


@pytest.fixture
def cache(tmp_path: Path, own_places: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    return tmp_path / "cache" / "wintry-tally" / "dossiers"


@pytest.fixture
def demo(cache: Path, tmp_path: Path) -> Iterator[Path]:
    yield scratch_copy(tmp_path)


def test_how_every_claim_stands_is_there_at_once_and_nothing_is_read_or_worked_out_for_it(
    demo: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    stood = visit(demo)
    assert len(stood) > 3 and all(outcomes is not None for outcomes in stood.values())
    with Book.open(demo) as book:
        fresh = Looking(book).known

    def never(*_: object, **__: object) -> None:
        raise AssertionError("read again")

    with monkeypatch.context() as patch:
        patch.setattr(Samples, "all", never)
        one, ears = opened(demo)
    assert one.known == fresh and {number: one.outcomes(number) for number in stood} == stood
    assert not ears.waiting
    # what is kept of it goes on holding, though nobody asked for a dossier this time
    one.close()
    assert remembered(demo) == stood


def test_what_is_kept_beside_everything_else_is_the_book_as_it_was_closed(demo: Path) -> None:
    stood = visit(demo)
    for touched in (False, True):
        one, _ = opened(demo)
        (demo.parent / "cache").rename(demo.parent / f"before {touched}")
        later: list[Callable[[], object]] = []
        one.close(later.append)
        assert remembered(demo) == {} and len(later) == 1
        if touched:
            written_beside(demo)  # before it comes to be kept
        later[0]()
        assert remembered(demo) == ({} if touched else stood)


def test_an_edit_takes_back_how_its_own_sample_stood_and_no_other(demo: Path) -> None:
    stood = visit(demo)
    one, ears = opened(demo)
    first, second = list(stood)[:2]
    one.do(one.edits.add_claim(first, parse_claim("9 kg")))
    assert one.outcomes(first) is None and one.outcomes(second) == stood[second] and len(ears.waiting) == 1
    ears.work()
    assert len(one.outcomes(first) or ()) == len(stood[first] or ()) + 1
    one.do(one.edits.set_school(School.LENIENT))
    assert one.outcomes(second) is None
    one.close()  # before that was worked out
    assert remembered(demo) == {}


def written_beside(path: Path) -> None:
    """As a script writes into the open file, which notes nothing in the feed."""
    with closing(sqlite3.connect(path)) as line, line:
        line.execute("UPDATE sample SET maker = 'another' WHERE id = 1")


def edited_elsewhere(path: Path) -> None:
    with Book.open(path) as book:
        book.samples.add_claim(1, parse_claim("12 kg"))


def put_in_its_place(path: Path) -> None:
    other = path.with_name("other.wintry")
    shutil.copy(path, other)
    edited_elsewhere(other)
    shutil.copystat(path, other)
    other.replace(path)


@pytest.mark.parametrize("change", [written_beside, edited_elsewhere, put_in_its_place])
def test_a_book_that_changed_since_is_read_anew(demo: Path, change) -> None:
    visit(demo)
    change(demo)
    read = read_book(demo)
    assert read.outcomes == {} and read.looking.known == Looking(read.book).known
    assert read.looking.known.samples[0].maker == "another" or len(read.looking.known.samples[0].claims) > 1
    read.book.close()


def test_a_note_of_the_feed_is_heeded_though_the_file_looks_the_same(demo: Path) -> None:
    """Another window may write between this one's last look and the end of its closing."""
    visit(demo)
    with Book.open(demo) as book:
        book.samples.add_claim(1, parse_claim("12 kg"))
    seen = last_seen._recalled  # what is kept, taken for that of the file as it now is
    kept = last_seen.KEPT.get(last_seen._name(demo), {})
    last_seen.KEPT.put(
        last_seen._name(demo), type(kept)(last_seen._stamp(demo), kept.code, kept.known, kept.outcomes), {}
    )
    assert seen(demo, last_seen._stamp(demo)) is not None
    read = read_book(demo)
    assert read.outcomes == {} and read.looking.known == Looking(read.book).known
    read.book.close()


def test_another_version_of_this_program_believes_none_of_it(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    visit(demo)
    monkeypatch.setattr(last_seen, "code_mark", lambda: "another")
    assert remembered(demo) == {}


def test_a_cache_that_others_may_write_to_or_that_is_spoilt_is_not_believed(demo: Path, cache: Path) -> None:
    visit(demo)
    cache.chmod(0o777)
    assert remembered(demo) == {}
    cache.chmod(0o700)
    assert remembered(demo)
    kept = cache / last_seen._name(demo)
    kept.write_bytes(kept.read_bytes()[:-9])
    assert remembered(demo) == {} and not kept.exists()


def test_a_book_that_cannot_be_read_is_not_left_open(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    opened_books: list[Book] = []
    plain = Book.newest_change

    def noticed(book: Book) -> int:
        opened_books.append(book)
        return plain(book)

    monkeypatch.setattr(Book, "newest_change", noticed)
    with closing(sqlite3.connect(demo)) as line, line:
        line.execute("UPDATE sample SET family = 'no such' WHERE id = 1")
    with pytest.raises(BookError, match="sample 1 of the book"):
        read_book(demo)
    with pytest.raises(BookError, match="closed"):
        opened_books[0].recall()


def test_who_holds_a_running_test_is_asked_anew(cache: Path, tmp_path: Path) -> None:
    path = tmp_path / "b.wintry"
    with Book.create(path) as book:
        number = book.samples.add("B1", "", "", "lfp")
        run = book.runs.begin(number, "Hand", "hand", NOW, RunSettings(), None, "hand")
    first = read_book(path)
    before = first.looking.known
    first.book.close()
    assert before.held == frozenset() and [one.id for one in before.going] == [run]
    last_seen.as_last_seen(path, replace(before, held=frozenset({run}), typed={}), {number: ()})()
    again = read_book(path)
    assert again.outcomes == {number: ()} and again.looking.known == before
    again.book.close()


def test_a_new_book_is_judged_as_preferred(cache: Path, tmp_path: Path) -> None:
    read = new_book(tmp_path / "n.wintry", "plain", "Mon 8-12")
    with read.book as book:
        assert (book.meta("school"), book.meta("attended")) == (
            "plain",
            "Mon 8-12",
        ) and read.looking.known.samples == ()


ACTS = st.lists(
    st.tuples(st.sampled_from(["claim", "tag", "off", "prose", "visit", "beside", "run", "end"]), st.integers(1, 3)),
    max_size=9,
)


@settings(max_examples=some(5, 40))
@example([("run", 2), ("run", 1), ("end", 2), ("claim", 1)])
@given(ACTS)
def test_whatever_is_done_between_two_looks_the_second_is_as_one_that_begins_anew(
    tmp_path_factory: pytest.TempPathFactory, acts: list[tuple[str, int]]
) -> None:
    folder = tmp_path_factory.mktemp("acts")
    before = os.environ.get("XDG_CACHE_HOME")
    os.environ["XDG_CACHE_HOME"] = str(folder)
    try:
        path = folder / "b.wintry"
        with Book.create(path) as book:
            for code in "ABC":
                book.samples.add(code, "", "", "lfp")
        for place, (act, number) in enumerate(acts):
            if act == "beside":
                written_beside(path)
                continue
            one, ears = opened(path)
            if not one.holds(number) and act != "tag":
                act = "visit"
            if act == "claim":
                one.do(one.edits.add_claim(number, parse_claim(f"{place + 1} kg")))
            elif act == "tag":
                one.do(one.edits.add_sample([]))
            elif act == "off":
                one.do(one.edits.remove_sample(number))
            elif act == "prose":
                one.do(one.edits.set_prose(number, f"words {place}"))
            elif act == "run":
                one.book.runs.begin(number, f"Hand {place}", "hand", NOW, RunSettings(), None, "hand")
            elif act == "end" and one.runs(number):
                one.book.runs.finish(one.runs(number)[-1].id, "by-hand", "", NOW)
            if act in {"run", "end"}:
                one.catch_up()
                assert one.known == Looking(one.book).known
            for sample in one.samples:
                one.dossier(sample.id)
            ears.work()
            stands = {sample.id: one.outcomes(sample.id) for sample in one.samples}
            one.close()
            read = read_book(path)
            known = read.looking.known
            assert known == Looking(read.book).known
            every = sorted((run for runs in known.runs.values() for run in runs), key=lambda run: run.id)
            assert list(known.going) == [run for run in every if run.ended is None]
            assert {number: outcomes for number, outcomes in read.outcomes.items() if number in stands} == stands
            read.book.close()
    finally:
        if before is None:
            del os.environ["XDG_CACHE_HOME"]
        else:
            os.environ["XDG_CACHE_HOME"] = before
