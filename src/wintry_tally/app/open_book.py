"""A book that is open to be worked in: its samples as they stand, its live runs, its dossiers, edits, and what changed.

No window, no Qt: a window, a script and a test stand on it alike. What changed, by whomever (this window, another one,
the shell), is read from the book's own feed and told to the listeners in one way.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Sequence
from datetime import datetime
from functools import partial
from itertools import chain
from typing import TYPE_CHECKING

from wintry_tally.app.edits import Edit, Edits
from wintry_tally.app.known import OF_ONE, Change, Known, Looked, numbers_of
from wintry_tally.app.last_seen import ReadBook, as_last_seen
from wintry_tally.app.listening import Background, Listener
from wintry_tally.app.live import LiveRuns
from wintry_tally.app.morning import RollCall
from wintry_tally.app.opening import school_of
from wintry_tally.app.places import PlaceWatch
from wintry_tally.app.shelf import Jobs, Shelf
from wintry_tally.app.writing import Over, Writing
from wintry_tally.book.feed import Topic
from wintry_tally.core.errors import WintryError
from wintry_tally.core.protocol.method import Method

if TYPE_CHECKING:
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.book import Run
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.battery.banks import Bank
    from wintry_tally.core.verdict.outcome import Outcome
    from wintry_tally.report.dossier import Dossier

LOOKED_S = 0.5
"""How often the feed is read for what others changed."""

Told = Callable[[Topic, "int | None"], None]
"""Called for each change: its topic and its sample. Of a dossier that was worked out: see `OpenBook`."""


class OpenBook:
    """One book and everything that goes on in it.

    Args:
        read: the book, opened and looked at.
        told: called for each change, on the thread that follows.
        worked_out: called with a sample whose dossier is ready.
        failed: called with words for a person.
    """

    def __init__(
        self, read: ReadBook, jobs: Jobs, listener: Listener, told: Told, worked_out: Callable[[int], None],
        background: Background | None = None,
    ) -> None:  # fmt: skip
        self.book, self._told, self._listener = read.book, told, listener
        book = self.book
        self.writing, self._closed = Writing(), False
        self._looking, self._looks = read.looking, False
        self._heeded: tuple[Change, ...] = ()
        self._failing = ""
        self._take(self._looking.known)
        self.edits = Edits(book, lambda: self.known)
        self.shelf = Shelf(book, jobs, worked_out, listener.failed, read.outcomes)
        self.live = LiveRuns(
            book, lambda: self.equipment, listener, background, lambda: list(self.known.going),
            lambda run: run.id in self.known.held, lambda number: self.dossier(number) if self.holds(number) else None,
        )  # fmt: skip
        self.places = (
            None if background is None else PlaceWatch(book, lambda: self.equipment, background, listener.failed)
        )
        self._opened_at = time.monotonic()
        told_plan = partial(told, Topic.PLAN, None)
        self.roll = None if background is None else RollCall(lambda: self.equipment, background, told_plan)
        self.school = school_of(book)
        self._next_look = 0.0
        self._told_moved = ""

    # --- reading ---

    @property
    def silent(self) -> dict[str, str]:
        """Instruments that did not answer when they were asked today, each with what went wrong."""
        return {} if self.roll is None else self.roll.silent

    @property
    def samples(self) -> Sequence[Sample]:
        """Every sample on the rack."""
        return self.known.samples

    def sample(self, sample_id: int) -> Sample:
        """One sample."""
        return self.known.samples[self._places[sample_id]]

    def holds(self, sample_id: int) -> bool:
        """Whether the book has this sample; late timers and late results must ask."""
        return sample_id in self._places

    @property
    def equipment(self) -> Equipment:
        """The bench as the book has it: its instruments and channels."""
        from wintry_tally.app.bench_book import equipment_of

        return equipment_of(self.book)

    def runs_by_sample(self) -> dict[int, list[Run]]:
        """The runs of every sample, oldest first."""
        return {number: self.runs(number) for number in self._places}

    def runs(self, sample_id: int) -> list[Run]:
        """The runs of a sample, oldest first."""
        return list(self.known.runs.get(sample_id, ()))

    def bank(self, sample_id: int) -> Bank | None:
        """The bank that a sample is; None where it is a single battery."""
        from wintry_tally.app.banks import bank_among

        return bank_among(self.known.banks, chain(self.samples, self.known.taken_off), sample_id)

    def dossier(self, sample_id: int) -> Dossier | None:
        """Everything on a sample; None while it is being worked out."""
        return self.shelf.dossier(self.sample(sample_id), self.school)

    def work_out(self) -> None:
        """Have everything on every sample worked out."""
        self.shelf.work_out(self.samples, self.school)

    def outcomes(self, sample_id: int) -> tuple[Outcome, ...] | None:
        """How each claim of a sample stands; None while it is being worked out."""
        found = self.shelf.outcomes(sample_id)
        if found is None:
            self.dossier(sample_id)
        return found

    # --- doing ---

    def do(self, edit: Edit) -> None:
        """Make an edit here and now, and tell what it changed.

        Raises:
            WintryError: the book refused it; nothing is changed.
        """
        with self.book.in_place():
            edit.do()
        self.catch_up()

    def undo(self, edit: Edit) -> None:
        """Take an edit back here and now, and tell what that changed.

        Raises:
            WintryError: the book refused it; it stands.
        """
        with self.book.in_place():
            edit.undo()
        self.catch_up()

    def ask(
        self, act: Callable[[], object], over: Over, patience_s: float | None = None, also: int | None = None
    ) -> bool:
        """Have something done to the book in its turn; what it changed is told before it is said to be over.

        True where it is over already; else that follows (see `app.writing`). `also`: a sample whose runs are read anew.
        """
        found: list[Looked | WintryError] = []

        def both() -> None:
            act()
            try:
                found.append(self._looking.look(also))
            except WintryError as error:
                found.append(error)  # what was asked for is done all the same

        def told(raised: BaseException | None) -> None:
            for one in found if not self._closed else ():
                failing = "" if isinstance(one, Looked) else str(one)
                if isinstance(one, Looked):
                    self._heed(one)
                elif failing != self._failing:  # looked for twice a second, and told once
                    self._listener.failed(failing)
                self._failing = failing
            over(raised)

        return self.writing.ask(both, told, patience_s)

    def begin_work(self) -> None:
        """Once it stands on the screen: take up what nobody else would, hear the guards, work out the dossiers."""
        self.shelf.at_work = True
        demo = self.book.meta("demo") == "yes"
        if demo:
            from wintry_tally.demo import begin_now

            begin_now(self.book)
        for run in self.live.interrupted():
            # what real instruments do is for a person to say; a run by hand was never out of hand
            if run.method is Method.GUIDED or (demo and run.method is Method.SIMULATED):
                self.live.take_up(run)
        heard: list[str] = []

        def over(raised: BaseException | None) -> None:
            if raised is not None and not isinstance(raised, WintryError):
                raise raised
            for words in [*heard, *([str(raised)] if raised is not None else [])]:
                self._listener.failed(words)

        self.ask(lambda: heard.extend(self.live.hear_guards()), over)

    def follow(self) -> bool:
        """Notice what ended, what others changed, and whether the file is still there; whether anything is going on."""
        self.writing.deliver()
        going_on = self.live.follow()
        if self.book.moved_words != self._told_moved:
            self._told_moved = self.book.moved_words
            self._listener.failed(self._told_moved)
        now = time.monotonic()
        if now >= self._next_look and not self._looks:
            self._next_look, self._looks = now + LOOKED_S, True
            self.ask(lambda: None, self._have_looked, 0.0)
            if self.places is not None and self.shelf.at_work:
                self.places.follow(datetime.now().astimezone())
            if self.roll is not None and self.shelf.at_work:
                self.roll.follow(datetime.now().astimezone(), now - self._opened_at)
        return going_on

    # --- what changed ---

    def _have_looked(self, _raised: BaseException | None) -> None:
        self._looks = False

    def catch_up(self) -> set[Change]:
        """Look here and now, and tell every change since the look before; each once, in order."""
        self.writing.deliver()
        with self.book.in_place():
            looked = self._looking.look()
        self._heed(looked)
        return set(looked.changes)

    def _heed(self, looked: Looked) -> None:
        """Take what a look found, and tell what changed."""
        if looked.known.newest >= self.known.newest:  # else a later one was heeded already; only what it saw is told
            self._take(looked.known)
        changes = self._heeded = looked.changes
        if any(topic is Topic.RULE for topic, _ in changes):
            self.school = school_of(self.book)
            self.shelf.forget()
        if self.places is not None and any(topic is Topic.BENCH for topic, _ in changes):
            self.places.changed()
        if self.roll is not None and any(topic is Topic.BENCH for topic, _ in changes):
            self.roll.again()
        for topic, sample_id in changes:
            if topic in OF_ONE and sample_id is not None:
                self.shelf.forget(sample_id)
        for topic, sample_id in changes:
            self._told(topic, sample_id)

    def _take(self, known: Known) -> None:
        self.known = known
        self._places = {number: place for place, number in enumerate(numbers_of(known.samples))}

    def touched(self, sample_id: int) -> None:
        """Runs of a sample changed in a way that a running test knows before the book does."""

        def over(_raised: BaseException | None) -> None:
            if (Topic.RUNS, sample_id) not in self._heeded and not self._closed:
                self.shelf.forget(sample_id)
                self._told(Topic.RUNS, sample_id)

        self.ask(lambda: None, over, also=sample_id)

    def close(self, beside: Callable[[Callable[[], object]], object] | None = None) -> list[str]:
        """Park the running tests and close the book; what was not seen to be off, in words.

        `beside`: has something done that nobody waits for; without it that is done here.
        """
        self._closed = True
        self.writing.close()
        self.shelf.close()
        left = self.live.park()
        known = None
        with contextlib.suppress(WintryError):  # what cannot be read is told when it is opened again
            known = self._looking.look().known
        self.book.close()
        if known is not None:
            (beside or _here)(as_last_seen(self.book.path, known, self.shelf.every_outcome()))
        return left


def _here(act: Callable[[], object]) -> None:
    act()
