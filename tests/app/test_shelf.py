"""Dossiers of a whole book, read in one go: as each would be alone, and no change is overlooked meanwhile."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.app.test_open_book import Ears
from wintry_tally.app import dossiers, shelf
from wintry_tally.app.dossiers import dossier_of, gathered
from wintry_tally.app.last_seen import read_book
from wintry_tally.app.open_book import OpenBook
from wintry_tally.book import Book
from wintry_tally.core.battery import parse_claim
from wintry_tally.core.verdict.outcome import School
from wintry_tally.demo import scratch_copy


@pytest.fixture
def demo(tmp_path: Path, own_places: Path) -> Iterator[tuple[OpenBook, Ears]]:
    ears = Ears()
    made = OpenBook(read_book(scratch_copy(tmp_path)), ears, ears, ears.hear, ears.ready.append)
    made.shelf.at_work = True
    yield made, ears
    made.close()


def told(opened: OpenBook, number: int) -> object:
    found = dossier_of(opened.book, opened.sample(number), opened.school)
    return found.verdicts, [run.facts for run in found.runs], found.prose, found.had, found.trends


def shown(opened: OpenBook, number: int) -> object:
    found = opened.dossier(number)
    assert found is not None
    return found.verdicts, [run.facts for run in found.runs], found.prose, found.had, found.trends


def test_all_of_a_book_is_worked_out_as_each_would_be_alone_and_asked_for_once(
    demo: tuple[OpenBook, Ears], monkeypatch: pytest.MonkeyPatch
) -> None:
    opened, ears = demo
    alone = {sample.id: told(opened, sample.id) for sample in opened.samples}

    def never(*_: object) -> None:
        raise AssertionError("asked for one sample")

    with monkeypatch.context() as patch:
        patch.setattr(dossiers, "_gathered_of", never)
        opened.work_out()
        ears.work()
    assert {sample.id: shown(opened, sample.id) for sample in opened.samples} == alone
    assert sorted(ears.ready) == sorted(alone)
    # what was read in one go is let go of: it would hold a large book twice
    assert opened.shelf._gathered is None and opened.shelf._changed is None


def test_what_changes_while_all_is_worked_out_is_in_the_dossier(demo: tuple[OpenBook, Ears]) -> None:
    opened, ears = demo
    first = next(sample.id for sample in opened.samples if len(opened.runs(sample.id)) > 1)
    opened.work_out()
    (gather, done), *others = ears.waiting
    ears.waiting = others
    done(gather(None))
    run = opened.runs(first)[0]
    opened.do(opened.edits.set_run(run, "leave out", left_out=True))
    opened.do(opened.edits.add_claim(first, parse_claim("9 kg")))
    opened.do(opened.edits.set_prose(first, "other words"))
    ears.work()
    opened.dossier(first)
    ears.work()
    found = opened.dossier(first)
    assert found is not None and shown(opened, first) == told(opened, first)
    assert found.runs[0].facts.left_out and found.prose == "other words" and found.verdicts[-1].claim.text == "9 kg"


def test_nothing_is_worked_out_before_the_window_stands(demo: tuple[OpenBook, Ears]) -> None:
    opened, ears = demo
    opened.shelf.at_work = False
    opened.work_out()
    assert not ears.waiting
    opened.shelf.at_work = True
    opened.shelf.close()
    opened.work_out()
    assert not ears.waiting and isinstance(opened.shelf, shelf.Shelf)


def test_what_cannot_be_worked_out_is_told_and_tried_again_when_it_is_asked_for(demo: tuple[OpenBook, Ears]) -> None:
    opened, ears = demo
    number = opened.samples[0].id
    opened.dossier(number)
    ears.waiting, failed = [], ears.last_failed
    failed("the disk is gone")
    assert ears.words == ["the disk is gone"] and opened.dossier(number) is None and len(ears.waiting) == 1
    opened.shelf.close()
    ears.last_failed("it is gone still")
    assert ears.words == ["the disk is gone"], "nobody is there to be told"


def test_what_is_read_in_one_go_is_what_is_read_of_each(tmp_path: Path, own_places: Path) -> None:
    with Book.open(scratch_copy(tmp_path)) as book:
        every = gathered(book)
        for sample in book.samples.all():
            assert every.runs.get(sample.id, []) == book.runs.all(sample.id)
            assert every.prose.get(sample.id, "") == book.samples.prose(sample.id)
            for run in book.runs.all(sample.id):
                assert every.marks.get(run.id, "") == book.runs.readings_mark(run.id)
        assert any(mark.startswith("sealed") for mark in every.marks.values())
        assert dossier_of(book, book.samples.all()[0], School.STRICT, None, every).verdicts
