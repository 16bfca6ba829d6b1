"""What several runs say together: the effect of the rate, and how well they repeat."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QVBoxLayout

from wintry_tally.core.errors import InputError
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import clear, column, label, named

if TYPE_CHECKING:
    from wintry_tally.core.quantity import Quantity
    from wintry_tally.core.working import Working
    from wintry_tally.report.dossier import RunReport


def relations(reports: Sequence[RunReport]) -> list[tuple[str, Quantity, Working, str]]:
    """Name, figure, working and a remark for each relation that the whole discharges among these runs show."""
    from wintry_tally.core.analysis.consistency import repeatability
    from wintry_tally.core.analysis.ending import PROTECTION, SET_CUTOFF
    from wintry_tally.core.analysis.rate import RatePoint, rate_law

    whole = [
        (report.facts.title, test)
        for report in reports
        if not report.facts.left_out
        and report.facts.test in {"", "capacity", "runtime"}
        and report.analysis is not None
        and (test := report.analysis.capacity) is not None
        and test.ended_by in {PROTECTION, SET_CUTOFF}
    ]
    found: list[tuple[str, Quantity, Working, str]] = []
    points = [RatePoint(name, test.count.mean_current.value, test.count.charge) for name, test in whole]
    try:
        law = rate_law(points)
        span = f"from {law.lowest_A:.3g} to {law.highest_A:.3g} A; beyond them it is a guess"
        found.append(("Peukert exponent", law.exponent, law.working, span))
    except InputError:
        pass  # the rates are too much alike to show an effect
    for name, test in whole:
        alike = [
            (other, its.count.charge)
            for other, its in whole
            if abs(its.count.mean_current.value / test.count.mean_current.value - 1.0) < 0.1
        ]
        if len(alike) > 1 and alike[0][0] == name:
            spread = repeatability([other for other, _ in alike], [charge for _, charge in alike])
            words = f"{len(alike)} runs at about {test.count.mean_current.value:.3g} A scatter by {spread.relative_percent:.2g} %"
            found.append(("Mean of like runs", spread.mean, spread.working, words))
    return found


class RelationsCard(QFrame):
    """Hidden while there is nothing to say."""

    opened = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("role", "card")
        self._lines = QVBoxLayout()
        self.setLayout(column(label("Runs together", "heading"), self._lines, margin=3))

    def show_reports(self, reports: Sequence[RunReport]) -> None:
        """What these runs say together."""
        clear(self._lines)
        found = relations(reports)
        self.setVisible(bool(found))
        for name, quantity, working, words in found:
            figure = Figure(name)
            figure.set_quantity(quantity, working)
            figure.opened.connect(self.opened)
            self._lines.addLayout(Flow(named(name, figure), label(words, "quiet", wrap=True), gap=5))
