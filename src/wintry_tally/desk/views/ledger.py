"""The Ledger: every claim with its outcome, value, doubt, probability and working."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QComboBox, QFrame, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from wintry_tally.core.battery.label import printed
from wintry_tally.core.quantity import format_quantity
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS, RULE_NAMES, SCHOOL_WORDS, Outcome, School, Verdict
from wintry_tally.desk.copying import copy_button
from wintry_tally.desk.session import Session
from wintry_tally.desk.theme.style import font
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.parts import anew, button, card, column, empty, label, row, scrolling
from wintry_tally.desk.widgets.quantity_field import QuantityField
from wintry_tally.desk.widgets.tally import STEP, Tally, draw_stroke, tally_words
from wintry_tally.report.tables import Table, verdict_table
from wintry_tally.report.words import chance_words, claim_words


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


class LedgerView(StationView):
    """A line a claim; the school chosen above."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.school = QComboBox()
        self.school.setAccessibleName("Decision rule")
        for school in School:
            self.school.addItem(RULE_NAMES[school], school.value)
        self.school.activated.connect(lambda _i: self.session.set_school(School(self.school.currentData())))
        self.school_words = label("", "small", wrap=True)
        self.tally = Tally(height=26)
        self.words = label("", "quiet", wrap=True)
        self._lines = QVBoxLayout()
        self._table = card(self._lines)
        self.findings = FindingList()
        self.findings.opened.connect(self.opened)
        self._contradictions = card(label("Printed claims that contradict each other", "heading"), self.findings)
        self.copy = copy_button(self._as_table, session.said.emit, "the verdicts")
        head = row(self.tally, self.words, self.copy, label("Decision rule", "quiet"), self.school, gap=3)
        head.setStretch(1, 1)
        inner = QWidget()
        self._body = QVBoxLayout(inner)
        self._body.setContentsMargins(0, 0, 0, 0)
        self._body.setSpacing(12)
        self._head = QWidget()
        self._head.setLayout(column(head, self.school_words, gap=1))
        self._none = empty(
            "No claims yet",
            "Type the claims as printed at Arrival; each gets a line here, whatever becomes of it.",
            button("Go to Arrival", lambda: self.go.emit("arrival"), "main"),
        )
        for part in (self._head, self._table, self._contradictions, self._none):
            self._body.addWidget(part)
        self._body.addStretch(1)
        self.figures: dict[int, Figure] = {}
        self._entries: dict[tuple[str, str], tuple[QuantityField, QuantityField]] = {}
        self.setLayout(column(scrolling(inner)))

    def _as_table(self) -> Table | None:
        dossier = self.session.dossier(self.sample_id)
        return verdict_table(dossier.verdicts) if dossier is not None else None

    def sample_switched(self) -> None:
        """What is half typed belongs to the sample before."""
        self._entries = {}

    def refresh(self) -> None:
        """As the dossier says."""
        self.dossier_changed()

    def dossier_changed(self) -> None:
        """Draw the verdicts."""
        if not self.sample_id or not self.session.has_book:
            return
        self.school.setCurrentIndex(self.school.findData(self.session.school.value))
        self.school_words.setText(SCHOOL_WORDS[self.session.school] + ". Values ± expanded uncertainty, k = 2.")
        dossier = self.session.dossier(self.sample_id)
        claims = self.session.sample(self.sample_id).claims
        for part in (self._head, self._table):
            part.setVisible(bool(claims))
        self._none.setVisible(not claims)
        if dossier is None:
            self.words.setText("working it out…")
            self._contradictions.hide()
            return
        outcomes = [verdict.outcome for verdict in dossier.verdicts]
        self.tally.set_outcomes(outcomes)
        self.words.setText(tally_words(outcomes))
        drafts = {key: [field.line.text() for field in fields] for key, fields in self._entries.items()}
        focused = next(
            (
                (key, n)
                for key, fields in self._entries.items()
                for n, field in enumerate(fields)
                if field.line.hasFocus()
            ),
            None,
        )
        self.figures, self._entries = {}, {}
        with anew(self._lines, QGridLayout()) as self._grid:
            self._grid.setHorizontalSpacing(14)
            self._grid.setVerticalSpacing(8)
            self._grid.setColumnStretch(1, 5)
            self._grid.setColumnStretch(2, 4)
            for place, name in enumerate(("", "Claim", "Measured", "Probability", "")):
                self._grid.addWidget(label(name, "small"), 0, place)
            line = 1
            for index, verdict in enumerate(dossier.verdicts):
                line = self._verdict(index, verdict, line)
        for key, texts in drafts.items():  # what is half typed outlives a result that comes meanwhile
            for n, field in enumerate(self._entries.get(key, ())):
                if texts[n]:
                    field.set_text(texts[n])
                if focused == (key, n):
                    field.line.setFocus()
        contradictions = [finding for finding in dossier.findings if finding.weight == "contradiction"]
        self.findings.show_findings(contradictions)
        self._contradictions.setVisible(bool(contradictions))

    def _entry(self, verdict: Verdict, place: QVBoxLayout) -> None:
        """Where a claim is settled by looking or by a ruler: the field or the two answers, and the way back."""
        claim = verdict.claim
        if claim.definition.evidence != "measured" or (claim.kind == "mass" and verdict.measured is not None):
            return
        words = claim_words(claim)
        if verdict.outcome is not Outcome.NOT_TESTED:
            take_back = button(
                "Take back", lambda: self.session.enter(self.sample_id, claim, None), "link", f"Take back: {words}"
            )
            place.addLayout(row(take_back, None))
        elif claim.value is None:
            yes = button("It does", lambda: self.session.enter(self.sample_id, claim, 1.0), "", f"It does: {words}")
            no = button(
                "It does not", lambda: self.session.enter(self.sample_id, claim, 0.0), "", f"It does not: {words}"
            )
            place.addLayout(row(yes, no, None))
        else:
            value = QuantityField(f"Measured: {words}", claim.definition.dimension, "measured")
            limit = QuantityField(f"Good to: {words}", claim.definition.dimension, "good to, ±")

            self._entries[claim.kind, claim.text] = (value, limit)

            def enter() -> None:
                number, good_to = value.number, limit.number
                if number is not None and not limit.problem:
                    typed = [field.line.text() for field in (value, limit)]
                    value.set_text("")
                    limit.set_text("")
                    if not self.session.enter(self.sample_id, claim, number, good_to):
                        value.set_text(typed[0])
                        limit.set_text(typed[1])

            value.entered.connect(enter)
            limit.entered.connect(enter)
            place.addLayout(row(value, limit, button("Enter", enter, "", f"Enter what was measured: {words}")))

    def _verdict(self, index: int, verdict: Verdict, line: int) -> int:
        top = Qt.AlignmentFlag.AlignTop
        if index:
            rule = QFrame()
            rule.setProperty("role", "rule")
            self._grid.addWidget(rule, line, 0, 1, 5)
            line += 1
        self._grid.addWidget(Stroke(verdict.outcome), line, 0, top)
        outcome = label(OUTCOME_WORDS[verdict.outcome], "heading")
        words = column(
            outcome, label(claim_words(verdict.claim), wrap=True), label(printed(verdict.claim.source), "small"), gap=0
        )
        holder = QWidget()
        holder.setLayout(words)
        self._grid.addWidget(holder, line, 1, top)
        measured = QVBoxLayout()
        measured.setSpacing(2)
        if verdict.shown is not None:
            figure = Figure(f"{verdict.claim.definition.label}, measured")
            figure.set_quantity(verdict.shown, verdict.working)
            figure.opened.connect(self.opened)
            self.figures[index] = figure
            measured.addWidget(figure)
        for condition in verdict.conditions:
            if condition.effect is not None:
                sign = "+" if condition.effect.value >= 0 else ""
                text = f"{condition.name}: {condition.actual} instead of {condition.claimed}; likely {sign}{format_quantity(verdict.claim.shown(condition.effect))} at the claim's own"
                measured.addWidget(label(text, "small", wrap=True))
        if verdict.evidence:
            measured.addWidget(label("from " + ", ".join(verdict.evidence), "small", wrap=True))
        if verdict.advice:
            measured.addWidget(label(verdict.advice, "small", wrap=True))
        self._entry(verdict, measured)
        box = QWidget()
        measured.setContentsMargins(0, 0, 0, 0)
        box.setLayout(measured)
        self._grid.addWidget(box, line, 2, top)
        chance = "–" if verdict.probability is None else chance_words(verdict.probability)
        probability = label(chance)
        probability.setFont(font("body"))
        self._grid.addWidget(probability, line, 3, top)
        if verdict.working is not None:
            link = button(
                "Working",
                lambda found=verdict.working: self.opened.emit(found),
                "link",
                f"Working of {claim_words(verdict.claim)}",
            )
            holder = QWidget()
            holder.setLayout(QHBoxLayout())
            holder.layout().setContentsMargins(0, 0, 0, 0)
            holder.layout().addWidget(link)
            self._grid.addWidget(holder, line, 4, top)
        return line + 1
