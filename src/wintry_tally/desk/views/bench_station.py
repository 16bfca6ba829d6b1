"""A station of the bench: its runs so far, the ways to make one, and whichever of them is under way."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QStackedWidget

from wintry_tally.desk.session import Session
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.views.station_overview import StationOverview
from wintry_tally.desk.widgets.parts import column

if TYPE_CHECKING:
    from wintry_tally.app.live_run import LiveRun
    from wintry_tally.app.safety import AllOff
    from wintry_tally.core.battery import Family
    from wintry_tally.core.protocol.template import Template


class BenchStation(StationView):
    """A stack of pages; which one shows follows from what is going on, or from what was asked."""

    def __init__(self, session: Session, key: str) -> None:
        super().__init__(session)
        self.key = key
        self.pages = QStackedWidget()
        self.overview = StationOverview(session, key)
        self.overview.opened.connect(self.opened)
        self.overview.go.connect(self.go)
        self.overview.recipe.connect(self.plan_recipe)
        self.overview.plan.connect(self.show_plan)
        self.overview.hand.connect(self.begin_hand)
        self.overview.choose_file.connect(lambda: self.window().import_log())  # type: ignore[attr-defined]
        self.overview.dropped.connect(self.import_file)
        self.pages.addWidget(self.overview)
        self.setLayout(column(self.pages))
        self._asked = ""

    def page(self, name: str) -> StationView:
        """A page by name, made when first shown."""
        known = self.findChild(StationView, name)
        if known is not None:
            return known
        made: StationView
        if name == "plan":
            from wintry_tally.desk.views.plan_page import PlanPage

            made = PlanPage(self.session)
            made.recipe.connect(self.plan_recipe)
        elif name == "recipe":
            from wintry_tally.desk.views.recipe_page import RecipePage

            made = RecipePage(self.session, self.key)
        elif name == "run":
            from wintry_tally.desk.views.run_page import RunPage

            made = RunPage(self.session)
        elif name == "hand":
            from wintry_tally.desk.views.hand_page import HandPage

            made = HandPage(self.session, self.key)
        else:
            from wintry_tally.desk.views.import_page import ImportPage

            made = ImportPage(self.session)
        made.setObjectName(name)
        made.opened.connect(self.opened)
        made.go.connect(self._done)
        self.pages.addWidget(made)
        return made

    def refresh(self) -> None:
        """Show what is going on, or the overview; nothing before a sample was shown here, or once its tag is off."""
        if not self.session.holds(self.sample_id):
            return
        running = self.session.running
        target: StationView = self.overview
        if self._live() is not None:
            self._asked = ""
            target = self.page("run")
        elif self._asked:
            target = self.page(self._asked)
        elif running.open_hand_run(self.sample_id, self.key) is not None:
            target = self.page("hand")
        self.pages.setCurrentWidget(target)
        target.show_sample(self.sample_id)

    def all_off(self, doing: AllOff, families: list[Family]) -> None:
        """See StationView."""
        run_page = self.findChild(StationView, "run")
        if run_page is not None:
            run_page.all_off(doing, families)

    def _live(self) -> LiveRun | None:
        live = self.session.running.of_sample(self.sample_id)
        return live if live is not None and live.run.station == self.key else None

    def sample_switched(self) -> None:
        """A page asked for belongs to the sample before."""
        self._asked = ""

    def show_plan(self) -> None:
        """Plan a run on the simulated bench."""
        self._asked = "plan"
        self.refresh()

    def plan_recipe(self, template: Template) -> None:
        """Plan a run by a recipe."""
        self._asked = "recipe"
        self.refresh()
        self.page("recipe").load(template)  # type: ignore[attr-defined]

    def begin_hand(self) -> None:
        """Read by hand."""
        self._asked = "hand"
        self.refresh()

    def import_file(self, *paths: Path) -> None:
        """Show the import page on a file, or on several that are one log."""
        self._asked = "import"
        self.refresh()
        self.page("import").load(*paths)  # type: ignore[attr-defined]

    def _done(self, where: str) -> None:
        self._asked = ""
        if where in {"", self.key}:
            self.refresh()
        else:
            self.go.emit(where)

    def dossier_changed(self) -> None:
        """The overview shows the analyses."""
        self.overview.dossier_changed()

    def tick(self) -> None:
        """The page shown follows the run."""
        current = self.pages.currentWidget()
        if isinstance(current, StationView):
            if current is self.page("run") and self._live() is None:
                self.refresh()
            else:
                current.tick()

    def leave(self) -> None:
        """Every page keeps its own."""
        for index in range(self.pages.count()):
            page = self.pages.widget(index)
            if isinstance(page, StationView):
                page.leave()

    def theme_changed(self) -> None:
        """Curves follow."""
        for index in range(self.pages.count()):
            page = self.pages.widget(index)
            if isinstance(page, StationView):
                page.theme_changed()
