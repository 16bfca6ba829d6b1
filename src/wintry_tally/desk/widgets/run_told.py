"""What is told of a run beneath its curves: its stages, remarks and record, resistance steps, and what its runs say together."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from wintry_tally.core.analysis.ending import ENDING_WORDS
from wintry_tally.core.quantity import format_duration, format_quantity
from wintry_tally.core.working import Working
from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import below, button, card, clear, column, label, under
from wintry_tally.desk.widgets.record_card import RecordCard
from wintry_tally.desk.widgets.relations_card import RelationsCard
from wintry_tally.desk.widgets.slices import Slices

if TYPE_CHECKING:
    from wintry_tally.core.analysis import Analysis
    from wintry_tally.core.analysis.analyse import StageResult
    from wintry_tally.core.trace import Remark
    from wintry_tally.report.dossier import RunReport

MOST_STAGES = 40


class RunTold(QWidget):
    """Cards beneath a curve, filled one after the other between events. `looked` asks for a stretch of the curve, h;
    `opened` carries a working."""

    looked = Signal(float, float)
    opened = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.sample_id = session, 0
        self._stages = QGridLayout()
        self._stages.setHorizontalSpacing(14)
        self._stages.setVerticalSpacing(5)
        self.remarks = FindingList()
        self._steps = QVBoxLayout()
        self._steps.setSpacing(4)
        self.record = RecordCard(session)
        self.record.went.connect(lambda at_h: self.looked.emit(at_h - 0.02, at_h + 0.02))
        self.relations = RelationsCard()
        self.relations.opened.connect(self.opened)
        self.filling = Slices(self, 0)
        stages = card(label("Stages", "heading"), self._stages)
        self._remark_card = card(label("Remarks", "heading"), self.remarks)
        self._step_card = card(label("Resistance from steps", "heading"), self._steps)
        self.setLayout(column(stages, self._remark_card, self.record, self._step_card, self.relations, gap=3))

    def show_run(self, sample_id: int, report: RunReport, own: list[RunReport]) -> None:
        """All of it of this run, and of all of its sample's."""
        self.sample_id = sample_id
        self.filling.begin(self._fill(report, own))

    def _fill(self, report: RunReport, own: list[RunReport]) -> Iterator[None]:
        assert report.analysis is not None
        self._fill_stages(report.analysis)
        yield
        self._fill_remarks(report)
        yield
        self._fill_steps(report.analysis)
        yield
        self.relations.show_reports(own)

    def _fill_stages(self, analysis: Analysis) -> None:
        clear(self._stages)
        for place, name in enumerate(("", "Lasted", "Charge", "Mean voltage; from, to", "How it ended")):
            self._stages.addWidget(label(name, "small"), 0, place)
        for line, result in enumerate(analysis.stages[:MOST_STAGES], 1):
            self._stage(line, result, analysis.seen_to_end(line - 1))
        if len(analysis.stages) > MOST_STAGES:
            more = label(f"and {len(analysis.stages) - MOST_STAGES} more", "small")
            self._stages.addWidget(more, MOST_STAGES + 1, 0)
        self._stages.setColumnStretch(4, 1)

    def _stage(self, line: int, result: StageResult, ended_by: str) -> None:
        kind = result.stage.kind.value
        start, end = result.start_s / 3600.0, result.end_s / 3600.0
        go = button(kind, partial(self.looked.emit, start, end), "link", f"Look at {kind} {line}")
        control = result.stage.control if result.stage.control != "none" else ""
        live = control != ""
        steered = f"at constant {control}" if control in {"current", "voltage", "power", "resistance"} else control
        cells = [
            under(go, label(steered, "small", wrap=True)) if steered else go,
            label(format_duration(result.end_s - result.start_s), wrap=True),
            label(format_quantity(result.count.charge) if live else "–", wrap=True),
            below(
                format_quantity(result.count.mean_voltage), f"{result.voltage_start:.2f} to {result.voltage_end:.2f} V"
            ),
            label(ENDING_WORDS.get(ended_by, ""), "quiet", wrap=True),
        ]
        for place, cell in enumerate(cells):
            self._stages.addWidget(cell, line, place, Qt.AlignmentFlag.AlignTop)

    def _fill_remarks(self, report: RunReport) -> None:
        self.remarks.reset()
        analysis = report.analysis
        assert analysis is not None
        for remark in analysis.remarks:
            words = remark.message + (f" Offer: {remark.offer}." if remark.offer else "")
            self.remarks.add(
                "warning" if remark.offer else "note",
                words,
                remark.place.capitalize(),
                partial(self._look_at, remark, analysis) if remark.rows else None,
            )
        self._offer(report)
        self._remark_card.setVisible(bool(analysis.remarks) or analysis.options.repair == "offered")

    def _offer(self, report: RunReport) -> None:
        from wintry_tally.core.verdict.evidence import ASKED_ABOUT

        analysis = report.analysis
        assert analysis is not None
        run = next((item for item in self.session.runs(self.sample_id) if item.id == report.facts.id), None)
        if run is None:
            return
        if run.repair == "offered":
            self.remarks.add(
                "note",
                "Offered repairs are applied; the original readings are kept.",
                "Take back",
                lambda: self.session.set_run(run, "take back the repair", repair="safe"),
            )
        elif any(remark.code in ASKED_ABOUT and remark.offer for remark in analysis.remarks):
            self.remarks.add(
                "warning",
                "Repairs are offered above: applied as a whole, and undone as a whole. The readings as they came are kept.",
                "Apply",
                lambda: self.session.set_run(run, "apply the offered repair", repair="offered"),
            )

    def _look_at(self, remark: Remark, analysis: Analysis) -> None:
        assert remark.rows is not None
        from wintry_tally.report.views_of_trace import index_of_row

        trace = analysis.trace
        low, high = (float(trace.time_s[index_of_row(trace, number)]) / 3600.0 for number in remark.rows)
        usual = analysis.scale.usual_s / 3600.0
        self.looked.emit(low - 10 * usual, high + 10 * usual)

    def _fill_steps(self, analysis: Analysis) -> None:
        clear(self._steps)
        self._step_card.setVisible(bool(analysis.resistance))
        for step in analysis.resistance[:8]:
            figure = Figure(f"Resistance at {format_duration(step.at_s)}", "body")
            working = Working(
                "Internal resistance",
                "R = (V1 − V2) / (I2 − I1)",
                {
                    "current": f"{step.from_A:.3g} to {step.to_A:.3g} A",
                    "read before, after": f"{step.before_s:.3g} s, {step.after_s:.3g} s from the step",
                },
                format_quantity(step.ohm.scaled(1000.0, "mΩ")),
                "common practice; IEC 61960-3 has times of its own (from memory)",
            )
            figure.set_quantity(step.ohm.scaled(1000.0, "mΩ"), working)
            figure.opened.connect(self.opened)
            words = f"at {format_duration(step.at_s)}, {step.from_A:.3g} to {step.to_A:.3g} A, read {step.after_s:.2g} s after"
            at = step.at_s / 3600.0
            go = button("look", partial(self.looked.emit, at - 0.01, at + 0.01), "link", f"Look at the step {words}")
            self._steps.addLayout(Flow(figure, label(words, "quiet", wrap=True), go, gap=3))
