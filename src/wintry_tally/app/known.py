"""What is known of an open book at a moment: frozen, read in one go, and again in parts as the feed speaks of them.

It is read on the thread that writes; a window only ever looks at the newest that it was given, and asks no book.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from wintry_tally.app.packed import InOrder, Packed
from wintry_tally.book.feed import Topic
from wintry_tally.book.records import RunStatus
from wintry_tally.core.protocol.method import Method

if TYPE_CHECKING:
    from wintry_tally.book import Book, Run
    from wintry_tally.book.places import PlaceReading
    from wintry_tally.core.battery import Sample

OF_ONE = (Topic.SAMPLE, Topic.ENTERED, Topic.PROSE, Topic.RUNS)
"""Topics that speak of one sample and of what is worked out of it."""
Change = tuple[Topic, "int | None"]
Row = tuple[float, "float | None", "float | None", "float | None", "float | None", str]


@dataclass(frozen=True)
class Known:
    """A moment of a book.

    Parts:
        newest: the newest note of the feed that it holds.
        samples, taken_off: those on the rack, and those off it; runs: of every sample, oldest first.
        prose: of the samples that have any; banks: series and units of the samples that are banks.
        latest: the newest reading of each place; pictures: what kinds each sample has.
        going: the runs that are not finished, in the order they began.
        held: those of them that some process, this one or another, has.
        typed: the readings of the runs by hand that are not finished, as `Runs.readings` has them.
    """

    newest: int
    samples: Sequence[Sample] = ()
    taken_off: Sequence[Sample] = ()
    runs: Mapping[int, tuple[Run, ...]] = field(default_factory=dict)
    prose: Mapping[int, str] = field(default_factory=dict)
    banks: Mapping[int, tuple[int, tuple[int, ...]]] = field(default_factory=dict)
    latest: Mapping[str, PlaceReading] = field(default_factory=dict)
    pictures: Mapping[int, set[str]] = field(default_factory=dict)
    typed: Mapping[int, tuple[Row, ...]] = field(default_factory=dict)
    going: tuple[Run, ...] = ()
    held: frozenset[int] = frozenset()

    def packed(self) -> Known:
        """The same to be kept: samples and their runs are unpacked one by one, when somebody asks for them."""
        return replace(
            self, samples=_in_order(self.samples), taken_off=_in_order(self.taken_off), runs=Packed.of(self.runs)
        )


def _in_order(samples: Sequence[Sample]) -> InOrder[Sample]:
    if isinstance(samples, InOrder):
        return samples
    return InOrder(Packed.of({sample.id: sample for sample in samples}))


def numbers_of(samples: Sequence[Sample]) -> tuple[int, ...]:
    """Their numbers; none is unpacked for that."""
    return samples.numbers if isinstance(samples, InOrder) else tuple(sample.id for sample in samples)


@dataclass(frozen=True)
class Looked:
    """A look at a book: what is known now, and what changed since the look before, each once, in order."""

    known: Known
    changes: tuple[Change, ...]


class Looking:
    """Looks at a book again and again, on whatever thread; each look goes on where the one before it ended.

    `last`: what is known of it still, from when it was last closed.
    """

    def __init__(self, book: Book, last: Known | None = None) -> None:
        self._book, self._turn = book, threading.Lock()
        self.known = self._first() if last is None else self._still(last)

    def look(self, also: int | None = None) -> Looked:
        """Read what changed; `also`: a sample whose runs are read anew, whatever the feed says.

        Raises:
            BookError: the book cannot be read, or its file went away and nothing could be rescued.
        """
        with self._turn:
            self._book.look()
            looked = self._again(self.known, also)
            self.known = looked.known
            return looked

    def _first(self) -> Known:
        book = self._book
        newest = book.newest_change()
        book.remember()
        return self._runs(
            Known(
                newest, tuple(book.samples.all()), tuple(book.samples.all(taken_off=True)), {}, book.samples.proses(),
                book.banks.all(), book.places.latest(), book.attachments.kinds(),
            ),
            None,
        )  # fmt: skip

    def _still(self, last: Known) -> Known:
        self._book.remember()
        return self._runs(last, {run.sample_id for run in last.going})  # who holds them is not

    def _again(self, known: Known, also: int | None) -> Looked:
        book = self._book
        notes = book.changes_since(known.newest)
        changes = dict.fromkeys((note.topic, note.sample_id) for note in notes)
        if notes:
            book.recall()
            gap = notes[0].number > known.newest + 1  # older ones are gone by now: anything may have changed
            if gap:
                every = [sample.id for sample in book.samples.all()]
                whole = (Topic.SAMPLES, Topic.RULE, Topic.BENCH, Topic.PLAN, Topic.PLACES)
                changes |= dict.fromkeys((topic, None) for topic in whole)
                changes |= dict.fromkeys((topic, number) for number in every for topic in (*OF_ONE, Topic.ATTACHED))
            known = self._samples(replace(known, newest=notes[-1].number), changes)
            known = self._beside(known, {topic for topic, _ in changes})
        told = {number for topic, number in changes if topic in {Topic.RUNS, Topic.SAMPLES}}
        # what is running changes without a note: its state, who holds it
        running = {run.sample_id for run in known.going} | ({also} if also is not None else set())
        if None in told or told or running:
            known = self._runs(known, None if None in told else {n for n in told | running if n is not None})
        return Looked(known, tuple(changes))

    def _samples(self, known: Known, changes: Mapping[Change, None]) -> Known:
        """Those that were changed, or all where some came or went."""
        book, by_number = self._book, {sample.id: sample for sample in known.samples}
        changed = {number for topic, number in changes if topic is Topic.SAMPLE}
        if any(topic is Topic.SAMPLES for topic, _ in changes) or not changed <= by_number.keys():
            return replace(
                known, samples=tuple(book.samples.all()), taken_off=tuple(book.samples.all(taken_off=True)),
                banks=book.banks.all(), prose=book.samples.proses(),
            )  # fmt: skip
        anew = {number: book.samples.get(number) for number in changed if number is not None}
        return replace(known, samples=tuple(anew.get(sample.id, sample) for sample in known.samples)) if anew else known

    def _beside(self, known: Known, topics: set[Topic]) -> Known:
        book = self._book
        readers: dict[Topic, Callable[[], Known]] = {
            Topic.PROSE: lambda: replace(known, prose=book.samples.proses()),
            Topic.PLACES: lambda: replace(known, latest=book.places.latest()),
            Topic.ATTACHED: lambda: replace(known, pictures=book.attachments.kinds()),
        }
        for topic, read in readers.items():
            if topic in topics:
                known = read()
        return known

    def _runs(self, known: Known, samples: set[int] | None) -> Known:
        """The runs of some samples, or of all, and what was typed for those by hand that are not finished."""
        book = self._book
        if samples is None:
            every: dict[int, list[Run]] = {sample.id: [] for sample in (*known.samples, *known.taken_off)}
            for run in book.runs.all():
                every.setdefault(run.sample_id, []).append(run)
            known = replace(known, runs={number: tuple(runs) for number, runs in every.items()}, going=())
            anew: Mapping[int, tuple[Run, ...]] = known.runs
        elif samples:
            anew = {one: tuple(book.runs.all(one)) for one in samples}
            known = replace(
                known, runs=known.runs.but(anew) if isinstance(known.runs, Packed) else {**known.runs, **anew}
            )
        else:
            anew = {}
        going = [run for run in known.going if run.sample_id not in anew]
        going += [run for runs in anew.values() for run in runs if run.status is RunStatus.RUNNING]
        going.sort(key=lambda run: run.id)
        by_hand = [run.id for run in going if run.method is Method.HAND]
        held = frozenset(run.id for run in going if book.runs.in_hands(run))
        typed = {number: tuple(book.runs.readings(number)) for number in by_hand}
        return replace(known, typed=typed, going=tuple(going), held=held)
