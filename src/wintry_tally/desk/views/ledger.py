"""The Ledger: every claim with its outcome, value, uncertainty, probability and working."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from PySide6.QtWidgets import QComboBox, QGridLayout, QVBoxLayout, QWidget

from wintry_tally.core.battery import Claim
from wintry_tally.core.verdict.outcome import RULE_NAMES, SCHOOL_WORDS, School, Verdict
from wintry_tally.desk.copying import copy_button
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.ledger_line import LedgerLine, columns
from wintry_tally.desk.widgets.letting_go import let_go
from wintry_tally.desk.widgets.parts import button, card, clear, column, empty, label, row, scrolling
from wintry_tally.desk.widgets.slices import Slices
from wintry_tally.desk.widgets.tally import Tally, tally_words
from wintry_tally.report.tables import Table, verdict_table

AT_ONCE = 2
"""Lines that a window shows at the least; the others are made when it has drawn these."""


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
        self._lines.setSpacing(8)
        self._table = card(self._lines)
        self.findings = FindingList()
        self.findings.opened.connect(self.opened)
        self._contradictions = card(label("Printed claims that contradict each other", "heading"), self.findings)
        self.copy = copy_button(self._as_table, session.said.emit, "the verdicts")
        counted = row(self.tally, self.words, gap=3)
        counted.setStretch(1, 1)
        head = Flow(counted, self.copy, label("Decision rule", "quiet"), self.school, gap=3, fills=True)
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
        self._drafts: dict[tuple[str, str], tuple[list[str], int | None]] = {}
        self.lines: list[LedgerLine] = []
        """The lines that are there by now; the others follow while nobody waits."""
        self._slices = Slices(self, AT_ONCE)
        self.setLayout(column(scrolling(inner)))

    def _as_table(self) -> Table | None:
        dossier = self.session.dossier(self.sample_id)
        return verdict_table(dossier.verdicts) if dossier is not None else None

    @property
    def figures(self) -> dict[int, Figure]:
        """What was measured of each claim, by its place."""
        return {place: line.figure for place, line in enumerate(self.lines) if line.figure is not None}

    def sample_switched(self) -> None:
        """What is half typed belongs to the sample before."""
        self._slices.stop()
        self.lines, self._drafts = [], {}
        clear(self._lines)

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
        self._drafts |= {line.key(): line.half_typed() for line in self.lines if line.fields is not None}
        self._slices.begin(self._fill(dossier.verdicts))
        contradictions = [finding for finding in dossier.findings if finding.weight == "contradiction"]
        self.findings.show_findings(contradictions)
        self._contradictions.setVisible(bool(contradictions))

    def _fill(self, verdicts: Sequence[Verdict]) -> Iterator[None]:
        """A line a verdict, one at a step; lines whose verdict is as it was are left as they are."""
        if not self._lines.count():
            self._lines.addLayout(self._heads())
        for place, verdict in enumerate(verdicts):
            there = self.lines[place] if place < len(self.lines) else None
            if there is not None and there.verdict == verdict:
                continue
            made = LedgerLine(verdict, place > 0, self._enter)
            made.opened.connect(self.opened)
            if there is not None:
                self._lines.replaceWidget(there, made)
                let_go(there)
                self.lines[place] = made
            else:
                self._lines.addWidget(made)
                self.lines.append(made)
            if made.key() in self._drafts:  # what is half typed outlives a result that comes meanwhile
                made.go_on_typing(*self._drafts[made.key()])
            yield
        for line in self.lines[len(verdicts) :]:
            self._lines.removeWidget(line)
            let_go(line)
        del self.lines[len(verdicts) :]

    def _heads(self) -> QGridLayout:
        heads = QGridLayout()
        columns(heads, self)
        for place, name in enumerate(("", "Claim", "Measured", "Probability", "")):
            heads.addWidget(label(name, "small"), 0, place)
        return heads

    def _enter(self, claim: Claim, value: float | None, good_to: float | None) -> bool:
        return self.session.enter(self.sample_id, claim, value, good_to)
