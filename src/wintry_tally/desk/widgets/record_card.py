"""What happened in a run, line by line, each a way to that moment on its curve. Read beside the interface."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QGridLayout, QVBoxLayout

from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.findings import Mark
from wintry_tally.desk.widgets.parts import anew, button, column, label

if TYPE_CHECKING:
    from wintry_tally.report.record import Happened

MOST_LINES, MOST_MARKS = 80, 24
SHORT = 16
"""A note on a curve has so many letters; the whole sentence stands in the list."""


class RecordCard(QFrame):
    """Hidden while nothing is known. `went`: to this moment, in hours; `known`: the record of the run shown was read."""

    went = Signal(float)
    known = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setProperty("role", "card")
        self.lines: tuple[Happened, ...] = ()
        self._run: int | None = None
        self._holder = QVBoxLayout()
        self.setLayout(column(label("What happened", "heading"), self._holder, margin=3))
        self.hide()

    @property
    def marks(self) -> list[tuple[float, str]]:
        """What its curve shows: hours since it began, and a word, or the beginning of a note."""
        told = [line for line in self.lines if line.marked][:MOST_MARKS]
        return [(line.at_s / 3600.0, _short(line.sentence) if line.kind == "mark" else line.word) for line in told]

    def show_run(self, run_id: int) -> None:
        """Read what happened in a run, and show it."""
        from wintry_tally.app.run_record import record_of

        if run_id != self._run:
            self._run, self.lines = run_id, ()
            self.hide()
        book = self._session.book
        self._session.reading.start(
            lambda _job: record_of(book, run_id), partial(self._read, run_id), self._session.failed.emit
        )

    def _read(self, run_id: int, lines: tuple[Happened, ...]) -> None:
        if run_id != self._run or (lines == self.lines and not self.isHidden()):
            return
        self.lines = lines
        with anew(self._holder, QGridLayout()) as grid:
            grid.setHorizontalSpacing(14)
            grid.setVerticalSpacing(5)
            for place, line in enumerate(lines[:MOST_LINES]):
                self._line(grid, place, line)
            if len(lines) > MOST_LINES:
                more = f"and {len(lines) - MOST_LINES} more; the report has them all"
                grid.addWidget(label(more, "small"), MOST_LINES, 2)
            grid.setColumnStretch(3, 1)
        self.setVisible(bool(lines))
        self.known.emit()

    def _line(self, grid: QGridLayout, place: int, line: Happened) -> None:
        if line.heed:
            grid.addWidget(Mark("warning"), place, 0)
        go = button(line.at, partial(self.went.emit, line.at_s / 3600.0), "link", f"Look at {line.at}: {line.sentence}")
        grid.addWidget(go, place, 1)
        grid.addWidget(label(line.word, "small"), place, 2)
        grid.addWidget(label(line.sentence, wrap=True), place, 3)


def _short(sentence: str) -> str:
    return sentence if len(sentence) <= SHORT else f"{sentence[: SHORT - 1].rstrip()}…"
