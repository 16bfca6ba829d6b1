"""The runs of a sample with their figures and remarks, and the three ways to make another."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QFrame, QHBoxLayout, QVBoxLayout, QWidget

from wintry_tally.core.analysis.ending import ENDING_WORDS
from wintry_tally.core.protocol.recipe import CAUSE_WORDS, EndCause
from wintry_tally.core.quantity import format_duration
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, row, scrolling

if TYPE_CHECKING:
    from wintry_tally.book import Run
    from wintry_tally.report.dossier import RunReport

METHODS = {"simulated": "simulated bench", "hand": "read by hand", "imported": "imported"}


class CapacityOverview(StationView):
    """`plan`, `hand` and `choose_file` ask for one of the three ways."""

    plan = Signal()
    hand = Signal()
    choose_file = Signal()
    dropped = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.bench_button = button("Simulated bench…", self.plan.emit, "main")
        self.hand_button = button("Hand readings…", self.hand.emit)
        self.import_button = button("Import a log…", self.choose_file.emit)
        ways = row(
            label("New capacity test:", "heading"), self.bench_button, self.hand_button, self.import_button, None
        )
        note = label(
            "The simulated bench draws on a battery model in fast time: for practice and for planning. "
            "A log can also be dropped anywhere on the window.",
            "small",
            wrap=True,
        )
        self._banner = QVBoxLayout()
        self._runs = QVBoxLayout()
        self._runs.setSpacing(10)
        self.curve = Curve("Voltage against charge", "charge drawn / Ah", "voltage / V")
        self.curve.setFixedHeight(230)
        self._curve_card = card(self.curve)
        inner = QWidget()
        inner.setLayout(column(card(ways, note), self._banner, self._curve_card, self._runs, None, gap=3))
        self.setLayout(column(scrolling(inner)))

    def refresh(self) -> None:
        """Runs as the book has them."""
        clear(self._banner)
        for run in self.session.running.interrupted():
            if run.sample_id == self.sample_id:
                self._banner.addWidget(self._interrupted(run))
        for run in self.session.runs(self.sample_id):
            if run.method == "simulated" and self.session.running.elsewhere(run):
                words = f"{run.title} is running in another window of this book."
                self._banner.addWidget(card(label(words, wrap=True), role="banner"))
        self.dossier_changed()

    def _interrupted(self, run: Run) -> QWidget:
        running = self.session.running
        words = label(
            f"{run.title} was interrupted: the program was closed or killed in the middle of it. Every reading kept "
            "until then is here. Resume it (the gap is marked), or close it as interrupted.",
            wrap=True,
        )
        return card(
            words,
            row(
                button("Resume", lambda: running.take_up(run), "main"),
                button("Close as interrupted", lambda: running.close_interrupted(run)),
                None,
            ),
            role="banner",
        )

    def dossier_changed(self) -> None:
        """Figures and remarks of each run."""
        if not self.sample_id or not self.session.has_book:
            return
        clear(self._runs)
        dossier = self.session.dossier(self.sample_id)
        runs = [run for run in self.session.runs(self.sample_id) if run.status != "running"]
        if dossier is None:
            if runs:
                self._runs.addWidget(label("Working it out…", "quiet"))
            self._curve_card.hide()
            return
        reports = {report.facts.id: report for report in dossier.runs}
        shown = []
        from wintry_tally.report.curve import discharge_curve

        for run in reversed(runs):
            report = reports.get(run.id)
            if report is not None:
                self._runs.addWidget(self._card(run, report))
                if report.analysis is not None and not run.left_out:
                    curve = discharge_curve(report.analysis)
                    if curve is not None:
                        shown.append((run.title, *curve))
        shown.reverse()
        sample = self.session.sample(self.sample_id)
        self._curve_card.setVisible(bool(shown))
        lines = [("x", sample.rated_Ah, f"claimed {sample.rated_Ah:g} Ah")] if sample.rated_Ah else []
        self.curve.show_curves(shown, None, lines)
        if not runs and not self._banner.count():
            self._runs.addWidget(
                label(
                    "No test yet. Charge the battery fully and let it rest; then choose one of the three ways above.",
                    "quiet",
                    wrap=True,
                )
            )

    def _card(self, run: Run, report: RunReport) -> QFrame:
        started = run.started.astimezone()
        head = row(
            label(run.title, "heading"),
            label(
                f"{started:%d %b %Y %H:%M} · {METHODS.get(run.method, run.method)}"
                + (f" · {run.original_name}" if run.original_name else ""),
                "small",
            ),
            None,
        )
        words = "Take into the verdicts" if run.left_out else "Leave out of the verdicts"
        head.addWidget(
            button(
                words,
                lambda: self.session.set_run(run, words.lower(), left_out=not run.left_out),
                "link",
                f"{words}: {run.title}",
            )
        )
        head.addWidget(button("Save readings…", lambda: self._save(run), "link", f"Save readings: {run.title}"))
        parts: list[QWidget | QHBoxLayout] = [head]
        if report.problem:
            parts.append(label(report.problem, "problem", wrap=True))
        test = report.analysis.capacity if report.analysis else None
        if test is not None:
            line = QHBoxLayout()
            line.setSpacing(22)
            for name, which, quantity in (
                ("Charge", "charge", test.count.charge),
                ("Energy", "energy", test.count.energy),
                ("Mean voltage", "voltage", test.count.mean_voltage),
            ):
                figure = Figure(f"{name}, {run.title}")
                figure.set_quantity(quantity, lambda key=which: report.working(key))
                figure.opened.connect(self.opened)
                line.addLayout(column(label(name, "small"), figure, gap=0))
            line.addStretch(1)
            parts.append(line)
            cause = ENDING_WORDS.get(test.ended_by, test.ended_by)
            if run.cause and run.cause in EndCause._value2member_map_:
                cause = CAUSE_WORDS[EndCause(run.cause)]
            rate = f" · {test.c_rate:.3f} C" if test.c_rate else ""
            parts.append(
                label(
                    f"{format_duration(test.count.duration_s)} under load{rate} · {test.voltage_start:.2f} to "
                    f"{test.voltage_end:.2f} V · {cause}",
                    "quiet",
                    wrap=True,
                )
            )
        elif report.analysis is not None:
            parts.append(label("Nothing was discharged in this log.", "quiet"))
        if report.analysis is not None and report.analysis.remarks:
            remarks = FindingList()
            for remark in report.analysis.remarks:
                offered = remark.offer and run.repair != "offered" and remark.code in {"sign-flipped", "unit-suspect"}
                remarks.add(
                    "warning" if remark.offer else "note",
                    remark.message + (f" Offer: {remark.offer}." if remark.offer else ""),
                    "Apply" if offered else "",
                    (lambda: self.session.set_run(run, "apply the offered repair", repair="offered"))
                    if offered
                    else None,
                )
            parts.append(remarks)
        if run.repair == "offered":
            parts.append(
                row(
                    label("Offered repairs are applied; the original readings are kept.", "small"),
                    button(
                        "Take back", lambda: self.session.set_run(run, "take back the repair", repair="safe"), "link"
                    ),
                    None,
                )
            )
        return card(*parts)

    def _save(self, run: Run) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "Save readings", str(Path.home() / f"run-{run.id}.csv"), "CSV (*.csv)"
        )
        if name:
            with self.session.guard():
                from wintry_tally.exchange.writer import write_log

                write_log(self.session.book.runs.trace(run.id), Path(name))
                self.session.said.emit(f"Saved {name}")

    def tick(self) -> None:
        """Nothing here moves by itself."""

    def theme_changed(self) -> None:
        """The curve follows."""
        self.curve.theme_changed()
