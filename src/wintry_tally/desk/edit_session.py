"""What a session edits: each edit done in the book's own thread, and put on the undo stack once the book has it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QTimer, Signal
from PySide6.QtGui import QUndoStack

from wintry_tally.core.errors import WintryError
from wintry_tally.desk.changes import Change
from wintry_tally.desk.safe_session import SafeSession

if TYPE_CHECKING:
    from wintry_tally.app.edits import Edit
    from wintry_tally.app.open_book import OpenBook
    from wintry_tally.app.places import PlaceSpec
    from wintry_tally.app.wishes import Wishes
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.book import Run
    from wintry_tally.core.battery import Claim, Sample
    from wintry_tally.core.verdict.outcome import School

Then = Callable[[bool], object]
"""Called once an edit is over: whether it was done."""
SOON_MS, WONDERED_MS = 15, 400
"""An edit that is not done at once is looked for so often, and spoken of after so long."""


class EditSession(SafeSession):
    """The part of a session that edits; the session itself is made on top of it.

    Each method says whether the book has the edit already; `then`, where one can be given, is called once it is over.
    """

    said = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.undo_stack = QUndoStack(self)
        self._soon, self._wondered = QTimer(self), ""
        self._soon.setInterval(SOON_MS)
        self._soon.timeout.connect(self._deliver)

    @property
    def open(self) -> OpenBook:
        """The book that is open."""
        raise LookupError

    def sample(self, sample_id: int) -> Sample:
        """One sample."""
        raise LookupError

    @contextmanager
    def guard(self) -> Iterator[None]:
        """Turn the world's errors into a line the window shows; ours go on to the top."""
        try:
            yield
        except WintryError as error:
            self.failed.emit(str(error))

    def change(self, edit: Edit | None, then: Then | None = None) -> bool:
        """Make an edit that can be undone; whether the book has taken it. One that changes nothing is taken as it is.

        Where the book is busy it is made a moment later, in its turn: False until then. `then` is called once it is
        over, with whether it was taken.
        """
        if edit is None:
            if then is not None:
                then(True)
            return True
        taken = list[bool]()

        def over(done: bool) -> None:
            taken.append(done)
            if done:
                acts = (partial(self._act, edit, edit.do), partial(self._act, edit, edit.undo))
                self.undo_stack.push(Change(edit.words, *acts, self.undo_stack, edit.field))
            if then is not None:
                then(done)

        self._act(edit, edit.do, over)
        return taken == [True]

    def write(self, words: str, act: Callable[[], object], then: Then, of_sample: int | None = None) -> None:
        """Have something done to the book that is not taken back, in its turn; `then` is told whether it was.

        `of_sample`: whose runs it changes.
        """
        if not self.open.ask(act, self._teller(then), also=of_sample):
            self._waits(words)

    def _act(self, edit: Edit, act: Callable[[], object], over: Then) -> None:
        """Have one half of an edit done; `over` is told whether it was."""
        if edit.shown:
            act()
            over(True)
        elif not self.open.ask(act, self._teller(over)):
            self._waits(edit.words)

    def _teller(self, over: Then) -> Callable[[BaseException | None], None]:
        """What the book refused is told, before `over` is told whether it was done."""

        def told(raised: BaseException | None) -> None:
            if raised is not None and not isinstance(raised, WintryError):
                raise raised
            if raised is not None:
                self.failed.emit(str(raised))
            over(raised is None)

        return told

    def _waits(self, words: str) -> None:
        """It is looked for quickly; where it takes long enough to be wondered at, that is said."""
        opened = self.open
        self._soon.start()

        def wondered() -> None:
            if self.has_book and self.open is opened and opened.writing.busy:
                self._wondered = words
                self.said.emit(f"The book is busy; “{words}” is done in a moment.")

        QTimer.singleShot(WONDERED_MS, wondered)

    def _deliver(self) -> None:
        if self.has_book:
            self.open.writing.deliver()
        if not self.has_book or not self.open.writing.busy:
            self._soon.stop()
            if self._wondered:
                self.said.emit(f"“{self._wondered}” is over.")
                self._wondered = ""

    def set_equipment(self, words: str, made: Equipment) -> None:
        """Change the bench; can be undone."""
        self.change(self.open.edits.set_equipment(words, made))

    def set_attended(self, text: str) -> None:
        """Change the attended hours; can be undone."""
        self.change(self.open.edits.set_attended(text))

    def set_wishes(self, words: str, made: Wishes, then: Then | None = None) -> bool:
        """Change them, undoably; whether the book has taken it; see `change`."""
        return self.change(self.open.edits.set_wishes(words, made), then)

    def set_needs(self, words: str, made: list[str], then: Then | None = None) -> bool:
        """Change them, undoably; whether the book has taken it; see `change`."""
        return self.change(self.open.edits.set_needs(words, made), then)

    def set_places(self, words: str, made: tuple[PlaceSpec, ...], then: Then | None = None) -> bool:
        """Change them, undoably; whether the book has taken it; see `change`."""
        with self.guard():
            return self.change(self.open.edits.set_places(words, made), then)
        return False

    def read_place(self, place: str, at: datetime, temperature_C: float, then: Then | None = None) -> bool:
        """Keep a reading of a place made by hand, undoably; whether the book has taken it; see `change`."""
        return self.change(self.open.edits.read_place(place, at, temperature_C), then)

    def add_sample(self, then: Callable[[int], object]) -> None:
        """Hang a new tag; `then` is called with its number."""
        made: list[int] = []
        self.change(self.open.edits.add_sample(made), lambda done: then(made[0]) if done else None)

    def remove_sample(self, sample_id: int) -> None:
        """Take a tag off the rack; undo hangs it back, nothing is deleted."""
        self.change(self.open.edits.remove_sample(sample_id))

    def hang_again(self, sample: Sample) -> None:
        """Hang a tag again that was taken off the rack, undoably."""
        self.change(self.open.edits.hang_again(sample))

    def set_sample(self, sample_id: int, words: str, **values: Any) -> bool:
        """Change columns of a sample, undoably; whether the book took it."""
        return self.change(self.open.edits.set_sample(self.sample(sample_id), words, **values))

    def set_prose(self, sample_id: int, text: str) -> bool:
        """Keep the tester's words, undoably; whether the book has taken them."""
        with self.guard():
            return self.change(self.open.edits.set_prose(sample_id, text))
        return False

    def add_claim(self, sample_id: int, claim: Claim, then: Then | None = None) -> bool:
        """Keep a claim; whether the book has taken it; see `change`."""
        return self.change(self.open.edits.add_claim(sample_id, claim), then)

    def remove_claim(self, sample_id: int, claim: Claim) -> None:
        """Remove a claim; undo puts it back with its own number."""
        self.change(self.open.edits.remove_claim(sample_id, claim))

    def enter(self, sample_id: int, claim: Claim, value: float | None, limit: float | None = None) -> bool:
        """Enter what was measured or seen of a claim, in its unit (1 or 0 for yes or no); None takes it back."""
        return self.change(self.open.edits.enter(sample_id, claim, value, limit))

    def note_cycles(self, sample_id: int, at: datetime, cycles: float, then: Then | None = None) -> bool:
        """Note cycles that a battery had elsewhere, undoably; whether the book has taken it; see `change`."""
        with self.guard():
            return self.change(self.open.edits.note_cycles(self.sample(sample_id), at, cycles), then)
        return False

    def set_run(self, run: Run, words: str, **values: Any) -> None:
        """Change columns of a run (left_out, repair), undoably."""
        self.change(self.open.edits.set_run(run, words, **values))

    def set_school(self, school: School) -> None:
        """Judge by another decision rule from now on; the book keeps it, and it can be undone."""
        self.change(self.open.edits.set_school(school))
