"""A station's runs with their figures and remarks, and the ways to make another: recipes, hand readings, a log."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QApplication, QFileDialog, QGridLayout, QLayout, QVBoxLayout, QWidget

from wintry_tally.core.protocol.kinds import TEST_KINDS
from wintry_tally.core.protocol.method import Method
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import anew, button, card, clear, column, label, row, scrolling
from wintry_tally.desk.widgets.portrait_card import PortraitCard
from wintry_tally.desk.widgets.run_card import RunCardView
from wintry_tally.desk.widgets.slices import Slices
from wintry_tally.desk.widgets.station_card import StationCard
from wintry_tally.desk.widgets.turns import turns

if TYPE_CHECKING:
    from wintry_tally.book import Run
    from wintry_tally.core.battery import Sample
    from wintry_tally.report.dossier import Dossier, RunReport

MOST_CARDS = 8
"""So many tests are shown at first, the newest: a page of forty is not read, and their curves are a thicket."""
AT_ONCE = 1
"""Cards that a window shows at the least; the others are made when it has drawn these."""
PURPOSES = {
    "charge": "Charge to a known full, and see how fast and how full it gets.",
    "rest": "Rest before a test: runs compare only when they rested alike.",
    "capacity": "Draw it empty at a known rate and count what came out.",
    "load": "Heavy currents: what it holds, what it stands for seconds, where it opens. Attended throughout.",
    "cold": "What the cold takes, whether a charge below freezing is refused, what a heater does.",
    "shelf": "Store it full for months; what it lost shows on the recharge.",
    "revival": "Packs that seem dead: wake them, or bring a flat one back. Attended throughout.",
}
"""What each station is for, in a line."""


class StationOverview(StationView):
    """`recipe`, `plan`, `hand` and `choose_file` ask for one of the ways."""

    recipe = Signal(object)
    plan = Signal()
    hand = Signal()
    choose_file = Signal()
    dropped = Signal(object)

    def __init__(self, session: Session, key: str) -> None:
        super().__init__(session)
        self.key = key
        capacity = key == "capacity"
        self.bench_button = button("Simulated bench…", self.plan.emit, "main")
        self.hand_button = button("Hand readings…", self.hand.emit)
        self.import_button = button("Import a log…", self.choose_file.emit)
        self.own_button = button("Open a recipe…", self._open_recipe, "link", "Open a recipe from a file")
        ways = (
            Flow(label("New capacity test:", "heading"), self.bench_button, self.hand_button, self.import_button)
            if capacity
            else Flow(label(PURPOSES[key], "heading", wrap=True), self.hand_button, self.import_button, fills=True)
        )
        if not capacity and not any(kind.station == key for kind in TEST_KINDS.values()):
            self.hand_button.hide()
        note = label(
            "The simulated bench draws on a battery model in fast time: for practice and for planning. "
            "A log can also be dropped anywhere on the window.",
            "small",
            wrap=True,
        )
        if not capacity:
            note.hide()
        self._recipes = QGridLayout()
        self._recipes.setHorizontalSpacing(14)
        self._recipes.setVerticalSpacing(6)
        self._recipes.setColumnStretch(1, 1)
        heading = row(label("Recipes", "heading"), None, self.own_button)
        self._recipe_card = card(heading, self._recipes)
        self._filled_for, self._most = "", MOST_CARDS
        self._slices = Slices(self, AT_ONCE)
        self._banner = QVBoxLayout()
        self._runs = QVBoxLayout()
        self._runs.setSpacing(10)
        self.curve = Curve("Voltage against charge", "charge drawn / Ah", "voltage / V").by_keyboard()
        self.curve.setFixedHeight(230)
        self._curve_card = card(self.curve)
        self.told, self.picture = StationCard(), PortraitCard()
        self.picture.said.connect(session.said)
        self.picture.opened.connect(self.opened)
        self._pictured = 0
        self._inner = inner = QWidget()
        self._drawn_for = self._at_run = 0
        parts: list[QWidget | QLayout | None] = [
            card(ways, note),
            self._banner,
            self.told,
            self._curve_card,
            self.picture,
            self._runs,
            self._recipe_card,
        ]
        if not capacity:
            parts = [parts[0], self._banner, self.told, self.picture, self._recipe_card, self._runs]
        inner.setLayout(column(*parts, None, gap=3))
        self.setLayout(column(scrolling(inner)))

    def refresh(self) -> None:
        """Runs as the book has them, recipes as the family has them."""
        clear(self._banner)
        turns().ask(self._recipe_card, self._fill_recipes)
        live = self.session.running.of_sample(self.sample_id)
        if live is not None and live.run.station != self.key:
            station = live.run.station
            told = label(f"{live.run.title} is under way at {station.capitalize()}.", wrap=True)
            go = button(f"Go to {station.capitalize()}", lambda: self.go.emit(station), "main")
            line = row(told, go)
            line.setStretch(0, 1)
            self._banner.addWidget(card(line, role="banner"))
        for run in self.session.running.interrupted():
            if run.sample_id == self.sample_id and run.station == self.key:
                self._banner.addWidget(self._interrupted(run))
        for run in self._own_runs():
            if self.session.running.elsewhere(run):
                words = f"{run.title} is running in another window of this book."
                self._banner.addWidget(card(label(words, wrap=True), role="banner"))
        self.dossier_changed()

    def _own_runs(self) -> list[Run]:
        return [run for run in self.session.runs(self.sample_id) if run.station == self.key]

    def _fill_recipes(self) -> None:
        """The shipped recipes of this station that fit the family."""
        from wintry_tally.exchange.recipe_file import shipped

        if not self.session.has_book or not self.session.holds(self.sample_id):
            return
        family = self.session.sample(self.sample_id).family
        if self._filled_for == family.key:
            return
        self._filled_for = family.key
        clear(self._recipes)
        fitting = [item for item in shipped().values() if item.station == self.key and item.fits(family)]
        for line, template in enumerate(sorted(fitting, key=lambda item: not item.first)):
            go = button(template.title, partial(self.recipe.emit, template), "link", f"Plan: {template.title}")
            self._recipes.addWidget(go, line, 0, Qt.AlignmentFlag.AlignTop)
            school = f" ({template.school})" if template.school else ""
            self._recipes.addWidget(label(template.words + school, "quiet", wrap=True), line, 1)
        if not fitting:
            words = f"No shipped recipe of this station is for a {family.words} battery; open one of your own, or import a log."
            self._recipes.addWidget(label(words, "quiet", wrap=True), 0, 0, 1, 2)

    def _open_recipe(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open a recipe", str(Path.home()), "Recipes (*.toml *.json)")
        if name:
            self.open_recipe_file(Path(name))

    def open_recipe_file(self, path: Path) -> None:
        """Plan with a recipe of one's own."""
        from wintry_tally.exchange.recipe_file import read_recipe

        with self.session.guard():
            self.recipe.emit(read_recipe(path))

    def _interrupted(self, run: Run) -> QWidget:
        words = label(
            f"{run.title} was interrupted: the program was closed or killed in the middle of it. Every reading kept "
            "until then is here. Resume it (the gap is marked), or close it as interrupted."
            + (
                " Real instruments go on alone: look at the load and the charger now, and switch off what is still on."
                if run.method is Method.BENCH
                else ""
            ),
            wrap=True,
        )
        return card(
            words,
            row(
                button("Resume", lambda: self._take_up(run), "main"),
                button("Close as interrupted", lambda: self._close_interrupted(run)),
                None,
            ),
            role="banner",
        )

    def _close_interrupted(self, run: Run) -> None:
        running = self.session.running
        self.session.write(
            f"Close {run.title}", lambda: running.close_interrupted(run), lambda _done: None, run.sample_id
        )

    def _take_up(self, run: Run) -> None:
        with self.session.guard():
            self.session.running.take_up(run)

    def dossier_changed(self) -> None:
        """Figures and remarks of each run."""
        if not self.sample_id or not self.session.has_book:
            return
        dossier = self.session.dossier(self.sample_id)
        runs = [run for run in self._own_runs() if run.status != "running"]
        self.told.setVisible(dossier is not None)
        self.picture.setVisible(dossier is not None)
        if dossier is None:
            self._slices.stop()
            self._hold_still()
            clear(self._runs)
            if runs:
                self._runs.addWidget(label("Working it out…", "quiet"))
            self._curve_card.hide()
            return
        reports = {report.facts.id: report for report in dossier.runs}
        newest = [run for run in reversed(runs) if run.id in reports]
        with anew(self._runs, QVBoxLayout()) as cards:
            cards.setSpacing(10)
            self._slices.begin(self._cards(cards, [(run, reports[run.id]) for run in newest]))
        drawn = [(run.title, reports[run.id].curve) for run in newest[: self._most] if not run.left_out]
        shown = [(title, *curve) for title, curve in reversed(drawn) if curve is not None]
        sample = self.session.sample(self.sample_id)
        self._show_told(sample, dossier, [reports[run.id] for run in newest])
        self._curve_card.setVisible(bool(shown) and self.key == "capacity")
        lines = [("x", sample.rated_Ah, f"claimed {sample.rated_Ah:g} Ah")] if sample.rated_Ah else []
        self.curve.show_curves(shown, None, lines)
        if not runs and not self._banner.count() and self.key == "capacity":
            self._runs.addWidget(
                label(
                    "No test yet. Charge the battery fully and let it rest; then choose one of the three ways above.",
                    "quiet",
                    wrap=True,
                )
            )

    def _hold_still(self) -> None:
        """While the same battery's runs are worked out anew nothing moves, and whoever was at a card stays there."""
        if self._drawn_for == self.sample_id:
            self._inner.setMinimumHeight(self._inner.height())
            at = QApplication.focusWidget()
            while at is not None and not isinstance(at, RunCardView):
                at = at.parentWidget()
            if at is not None and self.isAncestorOf(at):
                self._at_run = at.number
                self._inner.setFocus()  # Qt would go to the next key there is, and scroll to it

    def _cards(self, cards: QVBoxLayout, newest: list[tuple[Run, RunReport]]) -> Iterator[None]:
        """A card a test, one at a step, and the way to the earlier ones."""
        for run, report in newest[: self._most]:
            made = self._card(run, report)
            cards.addWidget(made)
            if run.id == self._at_run and self.isVisible():
                made.setFocus()
            yield
        self._drawn_for, self._at_run = self.sample_id, 0
        self._inner.setMinimumHeight(0)
        more = len(newest) - self._most
        if more > 0:
            words = f"Show {min(more, MOST_CARDS)} earlier of {more}"
            cards.addLayout(row(button(words, self._show_more, "link", f"{words} tests"), None))

    def _show_told(self, sample: Sample, dossier: Dossier, newest: list[RunReport]) -> None:
        """What it settles, what is to come, and the picture of its newest run or of the one asked for."""
        from wintry_tally.app.places import lately
        from wintry_tally.app.station_told import station_told

        now = datetime.now().astimezone()
        runs = self.session.runs(self.sample_id)
        read = lately(self.session.open.known.latest, now) if self.key == "cold" else {}
        self.told.show_told(station_told(self.key, sample, dossier, runs, self.session.drawn(), now, read))
        drawn = [report for report in newest if report.portrait is not None]
        chosen = next((one for one in drawn if one.facts.id == self._pictured), drawn[0] if drawn else None)
        title = "" if chosen is None else f"{chosen.facts.title}, {chosen.facts.started.astimezone():%d %b %Y}"
        self.picture.show_portrait(title, chosen.portrait if chosen is not None else None)

    def _show_picture(self, run: Run) -> None:
        self._pictured = run.id
        self.dossier_changed()

    def _show_more(self) -> None:
        self._most += MOST_CARDS
        self.dossier_changed()

    def sample_switched(self) -> None:
        """Another battery: its newest tests."""
        self._most, self._pictured = MOST_CARDS, 0
        self._drawn_for = self._at_run = 0
        self._inner.setMinimumHeight(0)

    def _card(self, run: Run, report: RunReport) -> RunCardView:
        from wintry_tally.app.run_card import run_card

        made = RunCardView(run_card(run, report), run.id)
        made.opened.connect(self.opened)
        made.picture.connect(lambda: self._show_picture(run))
        made.save.connect(lambda: self._save(run))
        made.left_out.connect(lambda out: self._leave_out(run, out))
        made.repaired.connect(lambda on: self._repair(run, on))
        made.saw_end.connect(lambda told: self._say_end(run, told))
        return made

    def _leave_out(self, run: Run, out: bool) -> None:
        words = "leave out of the verdicts" if out else "take into the verdicts"
        self.session.set_run(run, words, left_out=out)

    def _repair(self, run: Run, on: bool) -> None:
        words = "apply the offered repair" if on else "take back the repair"
        self.session.set_run(run, words, repair="offered" if on else "safe")

    def _say_end(self, run: Run, told: str) -> None:
        words = "say how it ended" if told else "take back how it ended"
        self.session.set_run(run, words, settings=replace(run.settings, saw_end=told))

    def _save(self, run: Run) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self,
            "Save readings or their analysis",
            str(Path.home() / f"run-{run.id}.csv"),
            "CSV (*.csv);;Parquet (*.parquet);;Analysis as JSON (*.json)",
        )
        if name:
            self.save_run(run, Path(name))

    def save_run(self, run: Run, path: Path) -> None:
        """The run's readings, or (where the name ends so) its analysis as JSON; beside everything else."""
        dossier, book = self.session.dossier(self.sample_id), self.session.book
        reports = dossier.runs if dossier is not None else ()
        analysis = next((item.analysis for item in reports if item.facts.id == run.id), None)

        def work(_job: object) -> None:
            from wintry_tally.exchange.analysis_json import write_analysis
            from wintry_tally.exchange.writer import write_log

            if path.suffix == ".json":
                write_analysis(analysis, path)
            else:
                write_log(book.runs.trace(run.id), path)

        def done(_none: object) -> None:
            self.session.said.emit(f"Saved {path}")

        self.session.workshop.start(work, done, self.session.failed.emit)

    def tick(self) -> None:
        """Nothing here moves by itself."""

    def theme_changed(self) -> None:
        """The curves follow."""
        self.curve.theme_changed()
        self.told.theme_changed()
        self.picture.theme_changed()
