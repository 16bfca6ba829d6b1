"""The Report: the tester's own words, what the page will hold, and saving it as a self-contained web page."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QWidget

from wintry_tally.core.verdict.outcome import RULE_NAMES
from wintry_tally.desk.preferences import current
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.lines import Page
from wintry_tally.desk.widgets.parts import button, card, column, label, row, scrolling
from wintry_tally.desk.widgets.tally import Tally, tally_words

MOST_CURVES = 8
"""So many are drawn here, the newest; the page itself has them all."""


class ReportView(StationView):
    """Prose on the left, what goes in on the right."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.prose = Page()
        self.prose.setAccessibleName("Your own words: for, against, recommendation")
        self.prose.setPlaceholderText("What speaks for it, what against, and whom you would recommend it to.")
        self.prose.setMinimumHeight(240)
        self.prose.kept.connect(lambda text: self.session.set_prose(self.sample_id, text))
        session.prose_changed.connect(self._prose_changed)
        self.tally = Tally(height=26)
        self.words = label("", "quiet", wrap=True)
        self.contents = FindingList()
        self.curve = Curve("Voltage against charge", "charge drawn / Ah", "voltage / V")
        self.curve.setFixedHeight(220)
        self.save_button = button("Save as web page…", self.save, "main")
        self.open_button = button("Open it", self._open)
        self.open_button.hide()
        self.saved = label("", "small", wrap=True)
        self._path: Path | None = None
        left = card(label("In your own words", "heading"), self.prose)
        right = card(
            label("What the page holds", "heading"),
            row(self.tally, None),
            self.words,
            self.contents,
            row(self.save_button, self.open_button, None),
            self.saved,
        )
        halves = QHBoxLayout()
        halves.setSpacing(12)
        halves.addWidget(left, 1)
        halves.addWidget(right, 1)
        self._curve_card = card(self.curve)
        inner = QWidget()
        inner.setLayout(column(halves, self._curve_card, None, gap=3))
        self.setLayout(column(scrolling(inner)))

    def sample_switched(self) -> None:
        """Its own prose."""
        self._prose_changed(self.sample_id)
        self.saved.setText("")
        self.open_button.hide()

    def _prose_changed(self, sample_id: int) -> None:
        """As the book has them: another sample's, or an edit taken back."""
        if sample_id == self.sample_id and self.session.has_book:
            self.prose.show_kept(self.session.open.known.prose.get(sample_id, ""))

    def refresh(self) -> None:
        """As the dossier says."""
        self.dossier_changed()

    def dossier_changed(self) -> None:
        """What would be in it now."""
        if not self.sample_id or not self.session.has_book:
            return
        dossier = self.session.dossier(self.sample_id)
        self.save_button.setEnabled(dossier is not None)
        if dossier is None:
            self.words.setText("working it out…")
            return
        outcomes = [verdict.outcome for verdict in dossier.verdicts]
        self.tally.set_outcomes(outcomes)
        self.words.setText(tally_words(outcomes))
        self.contents.reset()
        obtained = dossier.sample.arrival.obtained
        self.contents.add(
            "good" if obtained else "heed",
            f"Disclosure: {obtained}."
            if obtained
            else "Disclosure: note at Arrival whether it was bought or supplied.",
        )
        tests = [run for run in dossier.runs if run.analysis is not None and run.analysis.capacity is not None]
        used = [run for run in tests if not run.facts.left_out]
        self.contents.add(
            "good" if used else "heed",
            f"{len(used)} capacity test{'s' if len(used) != 1 else ''} with curve, method and conditions."
            if used
            else "No finished capacity test yet.",
        )
        self.contents.add("good", f"{len(dossier.verdicts)} claims with outcome, uncertainty and full working.")
        self.contents.add(
            "good", f"Judged by the {RULE_NAMES[dossier.school]} decision rule, named on the page; cautions at its end."
        )
        if not self.prose.toPlainText().strip():
            self.contents.add("note", "Your own words are still empty.")
        curves = [(run.facts.title, *run.curve) for run in used[-MOST_CURVES:] if run.curve is not None]
        self._curve_card.setVisible(bool(curves))
        rated = dossier.sample.rated_Ah
        self.curve.show_curves(curves, None, [("x", rated, f"claimed {rated:g} Ah")] if rated else [])

    def leave(self) -> None:
        """Keep the words."""
        if self.prose.pending and self.session.has_book and self.session.holds(self.sample_id):
            self.prose.keep()

    def save(self) -> None:
        """Ask where, and write."""
        sample = self.session.sample(self.sample_id)
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the report", str(Path.home() / f"{sample.code}-report.html"), "Web page (*.html)"
        )
        if name:
            self.save_to(Path(name))

    def save_to(self, path: Path) -> None:
        """Write the page."""
        self.leave()
        from dataclasses import replace

        from wintry_tally.app.reporting import write_report

        dossier = self.session.dossier(self.sample_id)
        if dossier is None:
            # the words just changed: everything else is known, and follows in a moment
            job_sample = self.sample_id

            def again(changed: int) -> None:
                if changed == job_sample and self.session.dossier(job_sample) is not None:
                    self.session.dossier_changed.disconnect(again)
                    self.save_to(path)

            self.session.dossier_changed.connect(again)
            return
        told = replace(dossier, prose=self.prose.toPlainText().strip())
        needs, book = self.session.needs, self.session.book
        # needs are run on many batteries, photographs are made smaller: that takes a moment
        self.saved.setText("working out what it is good for…" if needs else "writing…")
        self.session.workshop.start(
            lambda _job: write_report(told, needs, path, book, current().units),
            lambda _none: self._written(path),
            self._not_written,
        )

    def _written(self, path: Path) -> None:
        self._path = path
        self.saved.setText(f"Saved {path}")
        self.open_button.show()

    def _not_written(self, words: str) -> None:
        self.saved.setText("")
        self.session.failed.emit(words)

    def _open(self) -> None:
        if self._path is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self._path)))

    def theme_changed(self) -> None:
        """The curve follows."""
        self.curve.theme_changed()
