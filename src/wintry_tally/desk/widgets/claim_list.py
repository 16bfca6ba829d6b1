"""A sample's claims, a line each, with the one that is being changed where it stands."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QGridLayout, QPushButton, QVBoxLayout, QWidget

from wintry_tally.core.battery import Claim
from wintry_tally.desk.widgets.parts import anew, button, column, label
from wintry_tally.desk.widgets.slices import Slices
from wintry_tally.report.words import claim_words

NEW = -1
"""Stands for a claim that is not there yet."""
AT_ONCE = 4
"""Claims that a window shows at the most; the others are written below when it has drawn these."""


class ClaimList(QWidget):
    """The lines of claims, with `editor` between them. What is asked for by their keys is told, and done elsewhere:
    `change` and `remove` carry a claim, `order` all of them as they are wanted.
    """

    change = Signal(object)
    remove = Signal(object)
    order = Signal(object)

    def __init__(self, editor: QWidget) -> None:
        super().__init__()
        self._editor = editor
        self._shown: tuple[object, ...] = ()
        self._claims: tuple[Claim, ...] = ()
        self._above, self._below = QVBoxLayout(), QVBoxLayout()
        self._slices = Slices(self, 1)
        self.setLayout(column(self._above, editor, self._below, gap=0))
        for keys, by in (("Alt+Up", -1), ("Alt+Down", 1)):
            way = QShortcut(QKeySequence(keys), self, partial(self._move, by))
            way.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)

    def show_claims(self, sample_id: int, claims: tuple[Claim, ...], editing: int | None) -> None:
        """Show a sample's; `editing`: the number of the one that is being changed, or NEW."""
        shown = (sample_id, claims, editing)
        if shown == self._shown:
            return  # what is being changed stays as it is typed
        self._shown, self._claims = shown, claims
        self._editor.setVisible(editing is not None)
        known = [claim.id for claim in claims]
        above = known.index(editing) if editing in known else 0 if editing == NEW else len(claims)
        with anew(self._above, column(gap=0)) as before, anew(self._below, column(gap=0)) as after:
            below = [claim for claim in claims[above:] if claim.id != editing]
            self._slices.begin(self._lines((before, claims[:above]), (after, below)))

    def _lines(self, *groups: tuple[QVBoxLayout, Sequence[Claim]]) -> Iterator[None]:
        """The claims, some at a step, each some a grid: what is put in is laid out, and not all that was there before."""
        words = label("", "small")
        words.ensurePolished()
        metrics = words.fontMetrics()
        widest = max((metrics.horizontalAdvance(claim.source) for _, claims in groups for claim in claims), default=0)
        for holder, claims in groups:
            for first in range(0, len(claims), AT_ONCE):
                some, grid = QWidget(), QGridLayout()
                grid.setContentsMargins(0, 0, 0, 2)
                grid.setVerticalSpacing(2)
                grid.setColumnStretch(0, 1)
                grid.setColumnMinimumWidth(1, widest + 2)
                for place, claim in enumerate(claims[first : first + AT_ONCE]):
                    for across, part in enumerate(self._line(claim)):
                        grid.addWidget(part, place, across)
                some.setLayout(grid)
                holder.addWidget(some)
                yield

    def _line(self, claim: Claim) -> tuple[QWidget, ...]:
        said = claim_words(claim)
        change = button("Change", partial(self.change.emit, claim), "link", f"Change {said}")
        remove = button("Remove", partial(self.remove.emit, claim), "link", f"Remove {said}")
        for key in (change, remove):
            key.setProperty("claim", claim.id)
            key.setToolTip("Alt with an arrow moves the claim up or down")
        return label(said, wrap=True), label(claim.source, "small"), change, remove

    def _move(self, by: int) -> None:
        """The claim that the keyboard stands on, up or down."""
        focus, claims = self.focusWidget(), list(self._claims)
        number = focus.property("claim") if focus is not None else None
        place = next((at for at, claim in enumerate(claims) if number is not None and claim.id == number), -1)
        if focus is None or place < 0 or not 0 <= place + by < len(claims):
            return
        claims[place], claims[place + by] = claims[place + by], claims[place]
        said = focus.accessibleName()
        self.order.emit(claims)
        self._slices.finish()
        keys = (key for key in self.findChildren(QPushButton) if key.accessibleName() == said and key.isVisible())
        again = next(keys, None)
        if again is not None:
            again.setFocus()
