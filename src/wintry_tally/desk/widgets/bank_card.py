"""The card of a bank: how its units are joined, what is to be looked at before, what their own tests say of it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QWidget

from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.parts import card, clear, column, label

if TYPE_CHECKING:
    from wintry_tally.core.battery.banks import Bank
    from wintry_tally.report.dossier import Dossier


class BankCard(QWidget):
    """Hidden for a single battery. What it takes long to say is worked out beside everything else."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.sample_id = session, 0
        self.words = label("", "", wrap=True)
        self.findings = FindingList()
        self.said = column(gap=1)
        self._known: tuple[object, ...] = ()
        heading = label("A bank of", "heading")
        self.setLayout(column(card(heading, self.words, self.findings, self.said)))

    def show_sample(self, sample_id: int) -> None:
        """As the book has it."""
        from wintry_tally.app.banks import bank_of, findings_of

        self.sample_id = sample_id
        bank = bank_of(self.session.book, sample_id)
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
        from wintry_tally.app.banks import bank_lines, judge_on_units
        from wintry_tally.core.compare.typed_need import parse_need
        from wintry_tally.report.words import need_line

        needs, code = list(self.session.needs), self.session.sample(self.sample_id).code
        wanted = (self.sample_id, tuple((number, id(one)) for number, one in dossiers.items()), tuple(needs))
        if wanted == self._known:
            return
        self._known = wanted

        def work(_job: object) -> list[str]:
            lines = bank_lines(bank, dossiers)
            for text in needs:
                judged = judge_on_units(parse_need(text), code, bank, dossiers)
                if judged is not None:
                    lines.append(f"{judged.need}, by its units: {need_line(judged).partition(': ')[2]}")
            return lines

        def done(lines: list[str]) -> None:
            if self._known == wanted:
                clear(self.said)
                for line in lines:
                    self.said.addWidget(label(line, "small", wrap=True))

        self.session.workshop.start(work, done, self.session.failed.emit)
