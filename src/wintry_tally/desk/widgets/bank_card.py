"""The card of a bank: how its units are joined, what is to be looked at before, what their own tests say of it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QWidget

from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, row

if TYPE_CHECKING:
    from wintry_tally.core.battery.banks import Bank
    from wintry_tally.core.working import Working
    from wintry_tally.report.dossier import Dossier


class BankCard(QWidget):
    """Hidden for a single battery. What it takes long to say is worked out beside everything else."""

    def __init__(self, session: Session, show_working: Callable[[Working], object]) -> None:
        super().__init__()
        self._show = show_working
        self.session, self.sample_id = session, 0
        self.words = label("", "", wrap=True)
        self.findings = FindingList()
        self.said = column(gap=1)
        self._known: tuple[object, ...] = ()
        heading = label("A bank of", "heading")
        self.setLayout(column(card(heading, self.words, self.findings, self.said)))

    def show_sample(self, sample_id: int) -> None:
        """As the book has it."""
        from wintry_tally.app.banks import findings_of

        if sample_id != self.sample_id:
            clear(self.said)  # what is said is of another bank
            self._known = ()
        self.sample_id = sample_id
        bank = self.session.open.bank(sample_id)
        self.setVisible(bank is not None)
        if bank is None:
            return
        self.words.setText(f"{bank.words}; {bank.nominal_V:g} V in all.")
        known = {unit.id: self.session.dossier(unit.id) for unit in bank.units if self.session.holds(unit.id)}
        dossiers = {number: one for number, one in known.items() if one is not None}
        self.findings.show_findings(findings_of(bank, dossiers), "Nothing speaks against joining them.")
        if len(dossiers) == len(bank.units):
            self._work_out(bank, dossiers)

    def _work_out(self, bank: Bank, dossiers: dict[int, Dossier]) -> None:
        from wintry_tally.app.banks import bank_lines, expected_of, judge_on_units
        from wintry_tally.core.compare.typed_need import kept_needs
        from wintry_tally.report.words import need_line

        needs, code = list(self.session.needs), self.session.sample(self.sample_id).code
        wanted = (self.sample_id, tuple((number, id(one)) for number, one in dossiers.items()), tuple(needs))
        if wanted == self._known:
            return
        self._known = wanted

        def work(_job: object) -> tuple[list[str], Working | None]:
            found = expected_of(bank, dossiers)
            lines = bank_lines(bank, dossiers)
            for _, need in kept_needs(needs)[0]:
                judged = judge_on_units(need, code, bank, dossiers)
                if judged is not None:
                    lines.append(f"{judged.need}, by its units: {need_line(judged).partition(': ')[2]}")
            return lines, None if found is None else found.working

        def done(made: tuple[list[str], Working | None]) -> None:
            lines, working = made
            if self._known != wanted:
                return
            clear(self.said)
            for number, words in enumerate(lines):
                line = row(label(words, "small", wrap=True))
                line.setStretch(0, 1)
                if working is not None and number == 0:
                    line.addWidget(button("Working", lambda: self._show(working), "link", f"Working: {words}"))
                self.said.addLayout(line)

        def failed(words: str) -> None:
            self._known = ()  # asked again, it is tried again
            self.session.failed.emit(words)

        self.session.workshop.start(work, done, failed)
