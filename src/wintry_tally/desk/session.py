"""The open book as the window sees it: what changed as signals, edits on an undo stack. What it does is `app`'s."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer, Signal

from wintry_tally.app.morning import Ahead
from wintry_tally.core.errors import BookError, WintryError
from wintry_tally.core.verdict.outcome import Outcome, School
from wintry_tally.desk.background import Workshop
from wintry_tally.desk.edit_session import EditSession, Then
from wintry_tally.desk.opening_books import OpeningBooks
from wintry_tally.desk.preferences import current

if TYPE_CHECKING:
    from wintry_tally.app.campaign import Drawn
    from wintry_tally.app.last_seen import ReadBook
    from wintry_tally.app.live import LiveRuns
    from wintry_tally.app.open_book import OpenBook
    from wintry_tally.app.places import PlaceSpec
    from wintry_tally.app.planner import Planner
    from wintry_tally.app.wishes import Wishes
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.bench.stand_ins.servers import StandIns
    from wintry_tally.book import Book, Run
    from wintry_tally.book.feed import Topic
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.protocol.attended import AttendedHours
    from wintry_tally.report.dossier import Dossier


CALL_EVERY_S = 10.0
AFTER_PAINT_MS = 250
"""Heavy libraries are loaded only so long after a book was put on the screen."""


class Shown:
    """What live runs have to say, as signals."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def failed(self, words: str) -> None:
        """See app.live.Listener."""
        self._session.failed.emit(words)

    def said(self, words: str) -> None:
        """See app.live.Listener."""
        self._session.said.emit(words)

    def rang(self, title: str, words: str, grave: bool = False) -> None:
        """See app.live.Listener."""
        self._session.rang.emit(title, words, grave)

    def runs_changed(self, sample_id: int) -> None:
        """See app.live.Listener."""
        self._session.touch_runs(sample_id)


class Session(EditSession):
    """The open book as Qt sees it: its changes as signals, its edits on an undo stack, its work in a workshop."""

    book_changed = Signal()
    samples_changed = Signal()
    sample_changed = Signal(int)
    runs_changed = Signal(int)
    dossier_changed = Signal(int)
    prose_changed = Signal(int)
    pictures_changed = Signal(int)
    leaving_book = Signal()
    bench_changed = Signal()
    plan_changed = Signal()
    places_changed = Signal()
    ticked = Signal()
    failed = Signal(str)
    rang = Signal(str, str, bool)
    units_changed = Signal()
    theme_changed = Signal()
    all_off_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._open: OpenBook | None = None
        self._stand_ins: StandIns | None = None
        self.workshop, self._planning = Workshop(), Workshop()
        self._opening = OpeningBooks(self, self.said.emit)
        self.reading = Workshop()  # what is read in a moment waits behind nothing that is worked out
        self._planner: Planner | None = None
        self._ahead, self._next_call = Ahead(), 0.0
        self._timer = QTimer(self)
        self._timer.setInterval(120)
        self._timer.timeout.connect(self._tick)

    # --- the book ---

    @property
    def open(self) -> OpenBook:
        """The book that is open, with all that goes on in it.

        Raises:
            BookError: none is.
        """
        if self._open is None:
            raise BookError("no book is open", mend="start a new book or open one")
        return self._open

    @property
    def book(self) -> Book:
        """The open book.

        Raises:
            BookError: none is open.
        """
        return self.open.book

    @property
    def has_book(self) -> bool:
        """Whether one is open."""
        return self._open is not None

    def open_book(self, path: Path, then: Then | None = None) -> None:
        """Open a book in place of the one open, which stays until then; `then` is told whether it is open."""
        from wintry_tally.app.last_seen import read_book

        self._have_read(f"{path.name} is being opened.", lambda: read_book(path), then)

    def open_demo(self, then: Then | None = None) -> None:
        """Open a scratch copy of the demo."""
        from wintry_tally.app.last_seen import read_book
        from wintry_tally.demo import scratch_copy

        self._have_read("The demo is being opened.", lambda: read_book(scratch_copy()), then)

    def new_book(self, path: Path, then: Then | None = None) -> None:
        """Make a book and open it."""
        from wintry_tally.app.last_seen import new_book

        school, attended = current().school, current().attended
        self._have_read(f"{path.name} is being made.", lambda: new_book(path, school, attended), then)

    def _have_read(self, words: str, read: Callable[[], ReadBook], then: Then | None) -> None:
        def done(found: ReadBook) -> None:
            with self.guard():
                self._take(found)
            taken = self._open is not None and self._open.book is found.book
            if not taken:  # what is open could not be closed
                found.book.close()
            over(taken)

        def failed(raised: BaseException) -> None:
            over(False)
            if not isinstance(raised, WintryError):
                raise raised
            self.failed.emit(str(raised))

        def over(done: bool) -> None:
            if then is not None:
                then(done)

        self._opening.ask(words, read, done, failed)

    def _take(self, read: ReadBook) -> None:
        from wintry_tally.app.open_book import OpenBook
        from wintry_tally.app.planner import Planner

        self.close_book()
        book = read.book
        self._open = OpenBook(read, self.workshop, Shown(self), self._hear, self._worked_out, self._in_background)
        book.hurry_here()
        self._ahead = Ahead()
        self._planner = Planner(self._open, self._planning, self.plan_changed.emit, self.failed.emit)
        self.undo_stack.clear()
        self._timer.start()
        self.book_changed.emit()
        QTimer.singleShot(AFTER_PAINT_MS, self._begin_work)

    def _begin_work(self) -> None:
        """Once the book stands on the screen: work out the verdicts, and take up the demo's test."""
        if self._open is None:
            return
        with self.guard(), self._open.book.in_place():
            self._open.begin_work()
            self._put_right(self._open.book)
        self._open.work_out()
        self.plan_changed.emit()

    def _put_right(self, book: Book) -> None:
        """What a kill left behind, beside everything else: sealing a long run takes its time."""
        from wintry_tally.book.mending import put_right

        def done(words: list[str]) -> None:
            if words and self.has_book and book is self.book:
                self.said.emit(" ".join(words))
                for sample in self.samples():
                    self.touch_runs(sample.id)

        self.workshop.start(lambda _job: put_right(book), done, self.failed.emit)

    def _in_background(
        self, job: Callable[[], str], done: Callable[[str], None], failed: Callable[[str], None]
    ) -> None:
        self.workshop.start(lambda _job: job(), done, failed)

    def close_book(self, at_the_end: bool = False) -> None:
        """Park the running tests and close the book; everything is written. `at_the_end`: nothing goes on beside it."""
        if self._open is None:
            return
        self.leaving_book.emit()
        self._timer.stop()
        if self._planner is not None:
            self._planner.close()
        with self._open.book.in_place():
            left = self._open.close(None if at_the_end else self._beside)
        for words in left:
            self.failed.emit(f"{words} The guard goes on switching it off.")
        self._open = None

    def _beside(self, act: Callable[[], object]) -> None:
        self.reading.start(lambda _job: act(), lambda _none: None)

    def shut_down(self) -> None:
        """At the very end."""
        self._opening.close()
        self.workshop.close()
        self.reading.close()
        self.close_book(at_the_end=True)
        self._planning.close()
        if self._stand_ins is not None:
            self._stand_ins.stop()
            self._stand_ins = None

    @property
    def running(self) -> LiveRuns:
        """The running tests."""
        return self.open.live

    def _tick(self) -> None:
        with self.guard():
            if self._open is not None and self._open.follow():
                self.ticked.emit()
            if self._planner is not None:
                self._planner.go_on()
                self._call_ahead(self._planner)

    def _call_ahead(self, planner: Planner) -> None:
        if time.monotonic() < self._next_call:
            return
        self._next_call = time.monotonic() + CALL_EVERY_S
        for words in self._ahead.due(planner.drawn, datetime.now().astimezone()):
            self.rang.emit("Wintry Tally: soon", words, False)

    def save_copy(self, target: Path) -> None:
        """Copy the open book as it stands, beside everything else."""
        from wintry_tally.book.copying import copy_book

        source = self.book.path
        done = f"A copy is kept as {target.name}."
        self.workshop.start(
            lambda _job: copy_book(source, target), lambda _none: self.said.emit(done), self.failed.emit
        )

    # --- what changed, whoever did it ---

    def _hear(self, topic: Topic, sample_id: int | None) -> None:
        """A change of the book's feed, as signals."""
        from wintry_tally.book.feed import Topic

        if self._planner is not None:
            self._planner.changed(topic)
        if topic is Topic.PLAN:
            self.plan_changed.emit()
        if topic is Topic.SAMPLES:
            self.samples_changed.emit()
        elif topic is Topic.BENCH:
            self.bench_changed.emit()
        elif topic is Topic.PLACES:
            self.places_changed.emit()
        elif topic is Topic.RULE:
            for sample in self.samples():
                self.dossier_changed.emit(sample.id)
        if sample_id is None or not self.holds(sample_id):
            return
        if topic in {Topic.SAMPLES, Topic.SAMPLE}:
            self.sample_changed.emit(sample_id)
        elif topic is Topic.PROSE:
            self.prose_changed.emit(sample_id)
        elif topic is Topic.RUNS:
            self.runs_changed.emit(sample_id)
        elif topic is Topic.ATTACHED:
            self.pictures_changed.emit(sample_id)
        if topic in {Topic.SAMPLE, Topic.ENTERED, Topic.RUNS}:
            self.dossier_changed.emit(sample_id)

    def _worked_out(self, sample_id: int) -> None:
        if self.has_book and self.holds(sample_id):
            self.dossier_changed.emit(sample_id)

    def touch_runs(self, sample_id: int) -> None:
        """Runs of a sample changed."""
        self.open.touched(sample_id)

    # --- the bench ---

    @property
    def equipment(self) -> Equipment:
        """The bench as the book has it: its instruments and channels."""
        return self.open.equipment

    @property
    def attended_text(self) -> str:
        """When somebody is at this bench, as typed."""
        from wintry_tally.app.opening import attended_of

        return attended_of(self.book)

    @property
    def attended(self) -> AttendedHours:
        """When somebody is at this bench."""
        from wintry_tally.core.protocol.attended import parse_attended

        return parse_attended(self.attended_text)

    def start_stand_ins(self) -> None:
        """Start stand-in instruments on this computer and enter them into the bench, with a channel of their own."""
        from wintry_tally.bench.stand_ins.servers import StandIns, stand_in_equipment, usual_world

        if self._stand_ins is None:
            world = usual_world()
            self._stand_ins = StandIns(world)
            world.run()
        found = stand_in_equipment(self._stand_ins, self.equipment)
        self.set_equipment("start stand-ins", found)
        self.said.emit("Stand-ins answer on this computer until it is closed; channel “stand-in” uses them.")

    # --- the plan ---

    def drawn(self) -> Drawn | None:
        """The newest plan of the book; None while there is none yet, `plan_changed` follows."""
        return None if self._planner is None or self._open is None else self._planner.ask()

    @property
    def planning(self) -> bool:
        """Whether a plan is being drawn up."""
        return self._planner is not None and self._planner.at_work

    def plan_anew(self) -> None:
        """Draw it up again from where things stand."""
        if self._planner is not None:
            self._planner.outdated()
            self._planner.ask()

    def what_if(self, more: str, told: Callable[[str], None]) -> None:
        """What one more load, charger or place in the freezer would change of the plan."""
        if self._planner is not None:
            self._planner.what_if(more, told)

    @property
    def wishes(self) -> Wishes:
        """What is wished for the campaign: days away, pins, tests left out."""
        from wintry_tally.app.wishes import wishes_of

        return wishes_of(self.book)

    @property
    def needs(self) -> list[str]:
        """What batteries of this book are needed for, each in one line."""
        from wintry_tally.app.opening import needs_of

        return needs_of(self.book)

    # --- places ---

    @property
    def places(self) -> tuple[PlaceSpec, ...]:
        """The places of this bench: room, freezer, shelf."""
        from wintry_tally.app.places import places_of

        return places_of(self.book)

    # --- samples and claims ---

    def samples(self) -> Sequence[Sample]:
        """Every sample."""
        return () if self._open is None else self._open.samples

    def holds(self, sample_id: int) -> bool:
        """Whether the open book has this sample; late timers and late results must ask."""
        return self._open is not None and self._open.holds(sample_id)

    def sample(self, sample_id: int) -> Sample:
        """One sample."""
        return self.open.sample(sample_id)

    # --- runs and verdicts ---

    def runs(self, sample_id: int) -> list[Run]:
        """The runs of a sample, oldest first."""
        return self.open.runs(sample_id)

    @property
    def school(self) -> School:
        """The decision rule of the open book."""
        return School.STRICT if self._open is None else self._open.school

    def dossier(self, sample_id: int) -> Dossier | None:
        """Everything on a sample; None while it is being worked out, `dossier_changed` follows."""
        return None if self._open is None else self._open.dossier(sample_id)

    def outcomes(self, sample_id: int) -> tuple[Outcome, ...] | None:
        """How each claim of a sample stands; None while it is being worked out, `dossier_changed` follows."""
        return None if self._open is None else self._open.outcomes(sample_id)
