"""What is open: the book, its samples, the running tests, and the verdicts. Views ask it and follow its signals."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QTimer, Signal
from PySide6.QtGui import QUndoStack

from wintry_tally.core.battery import Claim, Sample
from wintry_tally.core.errors import BookError, WintryError
from wintry_tally.core.verdict.outcome import School
from wintry_tally.desk.background import Workshop
from wintry_tally.desk.changes import Change
from wintry_tally.desk.safe_session import SafeSession, Shown

if TYPE_CHECKING:
    from wintry_tally.app.live import LiveRuns
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.bench.stand_ins.servers import StandIns
    from wintry_tally.book import Book, Run
    from wintry_tally.core.protocol.attended import AttendedHours
    from wintry_tally.report.dossier import Dossier, RunReport


AFTER_PAINT_MS = 250
"""Heavy libraries are loaded only so long after a book was put on the screen."""


class Session(SafeSession):
    """One open book and everything that goes on in it."""

    book_changed = Signal()
    samples_changed = Signal()
    sample_changed = Signal(int)
    runs_changed = Signal(int)
    dossier_changed = Signal(int)
    prose_changed = Signal(int)
    leaving_book = Signal()
    bench_changed = Signal()
    ticked = Signal()
    failed = Signal(str)
    said = Signal(str)
    rang = Signal(str, str)
    all_off_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._book: Book | None = None
        self._samples: list[Sample] = []
        self._reports: dict[tuple[Any, ...], RunReport] = {}
        self._dossiers: dict[int, Dossier] = {}
        self._pending: set[int] = set()
        self._outdated: set[int] = set()
        self._running: LiveRuns | None = None
        self._at_work = False
        self._stand_ins: StandIns | None = None
        self.school = School.STRICT
        self._told_moved = ""
        self.workshop = Workshop()
        self.undo_stack = QUndoStack(self)
        self._timer = QTimer(self)
        self._timer.setInterval(120)
        self._timer.timeout.connect(self._tick)

    # --- the book ---

    @property
    def book(self) -> Book:
        """The open book.

        Raises:
            BookError: none is open.
        """
        if self._book is None:
            raise BookError("no book is open", mend="start a new book or open one")
        return self._book

    @property
    def has_book(self) -> bool:
        """Whether one is open."""
        return self._book is not None

    @contextmanager
    def guard(self) -> Iterator[None]:
        """Turn the world's errors into a line the window shows; ours go on to the top."""
        try:
            yield
        except WintryError as error:
            self.failed.emit(str(error))

    def open_book(self, path: Path) -> None:
        """Open a book in place of the one open."""
        from wintry_tally.book import Book

        self._take(Book.open(path))

    def new_book(self, path: Path) -> None:
        """Make a book and open it."""
        from wintry_tally.book import Book

        self._take(Book.create(path))

    def _take(self, book: Book) -> None:
        from wintry_tally.app.live import LiveRuns
        from wintry_tally.app.opening import school_of

        self.close_book()
        self._book = book
        book.hurry_here()
        self.school = school_of(book)
        self._told_moved = ""
        self._running = LiveRuns(book, lambda: self.equipment, Shown(self), self._in_background)
        self._samples = book.samples.all()
        self.undo_stack.clear()
        self._timer.start()
        self.book_changed.emit()
        QTimer.singleShot(AFTER_PAINT_MS, self._begin_work)

    def _begin_work(self) -> None:
        """Once the book stands on the screen: work out the verdicts, and take up the demo's test."""
        if self._book is None:
            return
        self._at_work = True
        with self.guard():
            from wintry_tally.book.runs import GUIDED

            demo = self._book.meta("demo") == "yes"
            if demo:
                from wintry_tally.demo import begin_now

                begin_now(self._book)
            for run in self.running.interrupted():
                # what real instruments do is for a person to say; a run by hand was never out of hand
                if run.method == GUIDED or (demo and run.method == "simulated"):
                    self.running.take_up(run)
            for words in self.running.hear_guards():
                self.failed.emit(words)
            self._put_right(self._book)
        for sample in self._samples:
            self.dossier(sample.id)

    def _put_right(self, book: Book) -> None:
        """What a kill left behind, beside everything else: sealing a long run takes its time."""
        from wintry_tally.book.mending import put_right

        def done(words: list[str]) -> None:
            if words and book is self._book:
                self.said.emit(" ".join(words))
                for sample in self._samples:
                    self.touch_runs(sample.id)

        self.workshop.start(lambda _job: put_right(book), done, self.failed.emit)

    def _in_background(
        self, job: Callable[[], str], done: Callable[[str], None], failed: Callable[[str], None]
    ) -> None:
        self.workshop.start(lambda _job: job(), done, failed)

    def close_book(self) -> None:
        """Park the running tests and close the book; everything is written."""
        if self._book is not None:
            self.leaving_book.emit()
        self._timer.stop()
        self._at_work = False
        if self._running is not None:
            for words in self._running.park():
                self.failed.emit(f"{words} The guard goes on switching it off.")
            self._running = None
        if self._book is not None:
            self._book.close()
            self._book = None
        self._samples, self._reports, self._dossiers = [], {}, {}
        self._pending.clear()
        self._outdated.clear()

    def shut_down(self) -> None:
        """At the very end."""
        self.workshop.close()
        self.close_book()
        if self._stand_ins is not None:
            self._stand_ins.stop()
            self._stand_ins = None

    @property
    def running(self) -> LiveRuns:
        """The running tests."""
        assert self._running is not None
        return self._running

    def _tick(self) -> None:
        with self.guard():
            if self._running is not None and self._running.follow():
                self.ticked.emit()
            if self._book is not None:
                self._book.look()
                if self._book.moved_words != self._told_moved:
                    self._told_moved = self._book.moved_words
                    self.failed.emit(self._told_moved)

    # --- samples and claims ---

    def samples(self) -> list[Sample]:
        """Every sample."""
        return list(self._samples)

    def holds(self, sample_id: int) -> bool:
        """Whether the open book has this sample; late timers and late results must ask."""
        return any(sample.id == sample_id for sample in self._samples)

    def sample(self, sample_id: int) -> Sample:
        """One sample."""
        return next(sample for sample in self._samples if sample.id == sample_id)

    def change(self, words: str, do: Callable[[], object], undo: Callable[[], object], field: str = "") -> bool:
        """Make an edit that can be undone; whether the book took it. Edits of one `field` in a row are undone as one."""
        if not self._taken(do):
            return False
        self.undo_stack.push(Change(words, lambda: self._taken(do), lambda: self._taken(undo), self.undo_stack, field))
        return True

    def _taken(self, act: Callable[[], object]) -> bool:
        try:
            act()
            return True
        except WintryError as error:
            self.failed.emit(str(error))
            return False

    @property
    def equipment(self) -> Equipment:
        """The bench as the book has it: its instruments and channels."""
        from wintry_tally.app.bench_book import equipment_of

        return equipment_of(self.book)

    def set_equipment(self, words: str, made: Equipment) -> None:
        """Change the bench; can be undone."""
        from wintry_tally.bench.equipment import equipment_data

        before, after = self.book.meta("bench"), json.dumps(equipment_data(made))

        def put(data: str) -> None:
            self.book.set_meta("bench", data)
            self.bench_changed.emit()

        self.change(words, lambda: put(after), lambda: put(before))

    @property
    def attended_text(self) -> str:
        """When somebody is at this bench, as typed."""
        from wintry_tally.core.protocol.attended import USUAL

        return self.book.meta("attended") or USUAL

    @property
    def attended(self) -> AttendedHours:
        """When somebody is at this bench."""
        from wintry_tally.core.protocol.attended import parse_attended

        return parse_attended(self.attended_text)

    def set_attended(self, text: str) -> None:
        """Change the attended hours; can be undone."""
        before = self.attended_text

        def put(kept: str) -> None:
            self.book.set_meta("attended", kept)
            self.bench_changed.emit()

        self.change("change the attended hours", lambda: put(text), lambda: put(before))

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

    def add_sample(self) -> int | None:
        """Hang a new tag; returns its number."""
        made: list[int] = []

        def do() -> None:
            if made:
                self.book.samples.change(made[0], removed=False)
            else:
                made.append(self.book.samples.add(self.book.samples.next_code(), "", "", "lfp"))
            self._reload()

        def undo() -> None:
            self.book.samples.change(made[0], removed=True)
            self._reload()

        self.change("hang a tag", do, undo)
        return made[0] if made else None

    def remove_sample(self, sample_id: int) -> None:
        """Take a tag off the rack; undo hangs it back, nothing is deleted."""

        def put(removed: bool) -> None:
            self.book.samples.change(sample_id, removed=removed)
            self._reload()

        self.change("take off the tag", lambda: put(True), lambda: put(False))

    def set_sample(self, sample_id: int, words: str, **values: Any) -> bool:
        """Change columns of a sample, undoably; whether the book took it."""
        sample = self.sample(sample_id)
        before = {}
        for name in values:
            column = "family_key" if name == "family" else name
            source = (
                sample
                if hasattr(sample, column) and name in {"code", "maker", "model", "family", "nominal_V"}
                else sample.arrival
            )
            before[name] = getattr(source, column)
        if before == values:
            return True

        def put(data: dict[str, Any]) -> None:
            self.book.samples.change(sample_id, **data)
            self._reload(sample_id)

        field = f"notes:{sample_id}" if set(values) == {"notes"} else ""
        return self.change(words, lambda: put(values), lambda: put(before), field)

    def set_prose(self, sample_id: int, text: str) -> bool:
        """Keep the tester's words, undoably; whether the book took them."""
        with self.guard():
            before = self.book.samples.prose(sample_id)
            if text == before:
                return True

            def put(words: str) -> None:
                self.book.samples.change(sample_id, prose=words)
                self._forget(sample_id)
                self.prose_changed.emit(sample_id)

            return self.change("change the words", lambda: put(text), lambda: put(before), f"prose:{sample_id}")
        return False

    def add_claim(self, sample_id: int, claim: Claim) -> bool:
        """Keep a claim; whether the book took it."""
        made: list[int] = []

        def do() -> None:
            kept = replace(claim, id=made[0]) if made else claim
            number = self.book.samples.add_claim(sample_id, kept)
            if not made:
                made.append(number)
            self._reload(sample_id)

        def undo() -> None:
            self.book.samples.remove_claim(made[0])
            self._reload(sample_id)

        return self.change(f"add the claim “{claim.text or claim.kind}”", do, undo)

    def remove_claim(self, sample_id: int, claim: Claim) -> None:
        """Strike a claim; undo puts it back with its own number."""
        assert claim.id is not None
        number = claim.id

        def do() -> None:
            self.book.samples.remove_claim(number)
            self._reload(sample_id)

        def undo() -> None:
            self.book.samples.add_claim(sample_id, claim)
            self._reload(sample_id)

        self.change(f"strike the claim “{claim.text or claim.kind}”", do, undo)

    def _reload(self, sample_id: int | None = None) -> None:
        before = [sample.id for sample in self._samples]
        self._samples = self.book.samples.all()
        if sample_id is None or before != [sample.id for sample in self._samples]:
            self.samples_changed.emit()
        if sample_id is not None:
            self._forget(sample_id)
            self.sample_changed.emit(sample_id)
            self.dossier_changed.emit(sample_id)

    # --- runs ---

    def runs(self, sample_id: int) -> list[Run]:
        """The runs of a sample, oldest first."""
        return self.book.runs.all(sample_id)

    def set_run(self, run: Run, words: str, **values: Any) -> None:
        """Change columns of a run (left_out, repair), undoably."""
        before = {name: getattr(run, name) for name in values}

        def put(data: dict[str, Any]) -> None:
            self.book.runs.change(run.id, **data)
            self.touch_runs(run.sample_id)

        self.change(words, lambda: put(values), lambda: put(before))

    def enter(self, sample_id: int, claim: Claim, value: float | None, limit: float | None = None) -> bool:
        """Enter what was measured or seen of a claim, in its unit (1 or 0 for yes or no); None takes it back."""
        of = claim.text or ""
        before = self.book.samples.entered(sample_id)
        after = [item for item in before if (item["kind"], item["of"]) != (claim.kind, of)]
        if value is not None:
            unit = claim.unit if claim.value is not None else ""
            after.append({"kind": claim.kind, "of": of, "value": value, "limit": limit, "unit": unit})

        def put(data: list[dict[str, Any]]) -> None:
            self.book.set_meta(f"entered:{sample_id}", json.dumps(data))
            self._forget(sample_id)
            self.dossier_changed.emit(sample_id)

        return self.change(f"enter {claim.definition.label.lower()}", lambda: put(after), lambda: put(before))

    def touch_runs(self, sample_id: int) -> None:
        """Runs of a sample changed."""
        self._forget(sample_id)
        self.runs_changed.emit(sample_id)
        self.dossier_changed.emit(sample_id)

    # --- verdicts ---

    def set_school(self, school: School) -> None:
        """Judge by another school from now on; the book keeps it, and it can be undone."""
        before = self.school

        def put(chosen: School) -> None:
            self.book.set_meta("school", chosen.value)
            self.school = chosen
            self._dossiers.clear()
            for sample in self._samples:
                self.dossier_changed.emit(sample.id)

        if school is not before:
            self.change(f"judge by the {school.value} school", lambda: put(school), lambda: put(before))

    def dossier(self, sample_id: int) -> Dossier | None:
        """Everything on a sample; None while it is being worked out, `dossier_changed` follows."""
        known = self._dossiers.get(sample_id)
        if known is None and self._at_work and sample_id not in self._pending and self._book is not None:
            self._pending.add(sample_id)
            book, sample, school = self._book, self.sample(sample_id), self.school
            self.workshop.start(
                lambda job: self._work_out(book, sample, school),
                lambda made: self._worked_out(book, sample_id, school, made),
                lambda text: self._not_worked_out(sample_id, text),
            )
        return known

    def _forget(self, sample_id: int) -> None:
        """What was worked out no longer holds, nor what is being worked out just now."""
        self._dossiers.pop(sample_id, None)
        if sample_id in self._pending:
            self._outdated.add(sample_id)

    def _work_out(self, book: Book, sample: Sample, school: School) -> Dossier:
        from wintry_tally.app.dossiers import dossier_of

        return dossier_of(book, sample, school, self._reports)

    def _worked_out(self, book: Book, sample_id: int, school: School, made: Dossier) -> None:
        if book is not self._book:
            return  # another book was opened meanwhile
        self._pending.discard(sample_id)
        fresh = any(sample == made.sample for sample in self._samples)
        if fresh and school is self.school and sample_id not in self._outdated:
            self._dossiers[sample_id] = made
        self._outdated.discard(sample_id)
        if self.holds(sample_id):
            self.dossier_changed.emit(sample_id)

    def _not_worked_out(self, sample_id: int, text: str) -> None:
        self._pending.discard(sample_id)
        self.failed.emit(text)
