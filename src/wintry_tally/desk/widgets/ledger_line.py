"""One claim's line in the ledger: its stroke, the claim, what was measured, how sure that is, the way to the working."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QVBoxLayout, QWidget

from wintry_tally.core.battery import Claim
from wintry_tally.core.battery.label import printed
from wintry_tally.core.message import sentences
from wintry_tally.core.verdict.outcome import BOUND_WORDS, OUTCOME_WORDS, Outcome, Verdict
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import button, column, label, row
from wintry_tally.desk.widgets.quantity_field import QuantityField
from wintry_tally.desk.widgets.tally import STEP, draw_stroke
from wintry_tally.report.words import chance_words, claim_words, effect_words

CHANCE_WIDTH, LINK_WIDTH = "< 0.001  ", "  Working  "

Enter = Callable[[Claim, float | None, float | None], bool]
"""Keeps what was measured of a claim by hand, with what it is good to; None takes it back. False where it is refused."""


class Stroke(QWidget):
    """One outcome's stroke, larger."""

    def __init__(self, outcome: Outcome) -> None:
        super().__init__()
        self.outcome = outcome
        self.setAccessibleName(OUTCOME_WORDS[outcome])
        self.setFixedSize(QSize(16, 24))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw it."""
        draw_stroke(QPainter(self), self.outcome, (self.width() - STEP) / 2, 1.0, 22.0)


def columns(grid: QGridLayout, widget: QWidget) -> None:
    """The ledger's columns, alike in every line."""
    metrics = widget.fontMetrics()
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setHorizontalSpacing(14)
    grid.setVerticalSpacing(8)
    grid.setColumnMinimumWidth(0, 16)
    grid.setColumnStretch(1, 5)
    grid.setColumnStretch(2, 4)
    grid.setColumnMinimumWidth(3, metrics.horizontalAdvance(CHANCE_WIDTH))
    grid.setColumnMinimumWidth(4, metrics.horizontalAdvance(LINK_WIDTH))


class LedgerLine(QWidget):
    """A verdict. `opened` carries a working; `figure` is what was measured, `fields` where it is typed by hand."""

    opened = Signal(object)

    def __init__(self, verdict: Verdict, ruled: bool, enter: Enter) -> None:
        super().__init__()
        self.verdict, self.ruled, self._enter = verdict, ruled, enter
        self.figure: Figure | None = None
        self.fields: tuple[QuantityField, QuantityField] | None = None
        top = Qt.AlignmentFlag.AlignTop
        grid = QGridLayout(self)
        columns(grid, self)
        if ruled:
            rule = QFrame()
            rule.setProperty("role", "rule")
            grid.addWidget(rule, 0, 0, 1, 5)
        said = label(OUTCOME_WORDS[verdict.outcome], "heading")
        claimed, source = label(claim_words(verdict.claim), wrap=True), label(printed(verdict.claim.source), "small")
        grid.addWidget(Stroke(verdict.outcome), 1, 0, top)
        grid.addLayout(column(said, claimed, source, None, gap=0), 1, 1)
        grid.addLayout(self._measured(), 1, 2)
        grid.addWidget(label("–" if verdict.probability is None else chance_words(verdict.probability)), 1, 3, top)
        if verdict.working is not None:
            told = f"Working of {claim_words(verdict.claim)}"
            grid.addWidget(button("Working", lambda: self.opened.emit(verdict.working), "link", told), 1, 4, top)
        if verdict.advice:
            grid.addWidget(label("\n".join(sentences(verdict.advice)), "small", wrap=True), 2, 1, 1, 4)

    def key(self) -> tuple[str, str]:
        """Which claim it is of, to find what is half typed by."""
        return self.verdict.claim.kind, self.verdict.claim.text

    def half_typed(self) -> tuple[list[str], int | None]:
        """The texts in its fields, and which of them is being typed in."""
        fields = self.fields or ()
        focused = next((place for place, field in enumerate(fields) if field.line.hasFocus()), None)
        return [field.line.text() for field in fields], focused

    def go_on_typing(self, texts: list[str], focused: int | None) -> None:
        """Put back what was half typed in the line before it."""
        for place, (field, text) in enumerate(zip(self.fields or (), texts, strict=False)):
            if text:
                field.set_text(text)
            if focused == place:
                field.line.setFocus()

    def _measured(self) -> QVBoxLayout:
        verdict = self.verdict
        measured = QVBoxLayout()
        measured.setSpacing(2)
        if verdict.shown is not None:
            self.figure = Figure(f"{verdict.claim.definition.label}, measured")
            self.figure.set_quantity(verdict.shown, verdict.working)
            self.figure.opened.connect(self.opened)
            if verdict.bound is not None:
                measured.addWidget(label(BOUND_WORDS[verdict.bound].strip(), "small"))
            measured.addWidget(self.figure)
        for condition in verdict.conditions:
            if condition.effect is not None:
                measured.addWidget(label(effect_words(condition, verdict.claim), "small", wrap=True))
        if verdict.evidence:
            measured.addWidget(label("from " + ", ".join(verdict.evidence), "small", wrap=True))
        self._by_hand(measured)
        measured.addStretch(1)
        return measured

    def _by_hand(self, place: QVBoxLayout) -> None:
        """Where a claim is settled by looking or by a ruler: the field or the two answers, and the way back."""
        claim, verdict = self.verdict.claim, self.verdict
        if claim.definition.evidence != "measured" or (claim.kind == "mass" and verdict.measured is not None):
            return
        words = claim_words(claim)
        if verdict.outcome is not Outcome.NOT_TESTED:
            take_back = button("Take back", lambda: self._enter(claim, None, None), "link", f"Take back: {words}")
            place.addLayout(row(take_back, None))
        elif claim.value is None:
            yes = button("It does", lambda: self._enter(claim, 1.0, None), "", f"It does: {words}")
            no = button("It does not", lambda: self._enter(claim, 0.0, None), "", f"It does not: {words}")
            place.addLayout(Flow(yes, no))
        else:
            dimension, money = claim.definition.dimension, claim.currency if claim.kind == "price" else ""
            value = QuantityField(f"Measured: {words}", dimension, "measured", currency=money)
            limit = QuantityField(f"Good to: {words}", dimension, "good to, ±", width=True, currency=money)
            self.fields = (value, limit)
            for field in self.fields:
                field.entered.connect(self._typed)
            place.addLayout(Flow(value, limit, button("Enter", self._typed, "", f"Enter what was measured: {words}")))

    def _typed(self) -> None:
        assert self.fields is not None
        value, limit = self.fields
        number, good_to = value.number, limit.number
        if number is None or limit.problem:
            return
        texts = [field.line.text() for field in self.fields]
        for field in self.fields:
            field.set_text("")
        if not self._enter(self.verdict.claim, number, good_to):
            for field, text in zip(self.fields, texts, strict=True):
                field.set_text(text)
