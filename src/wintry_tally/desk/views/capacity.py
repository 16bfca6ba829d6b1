"""Capacity: the runs so far, the three ways to make one, and whichever of them is under way."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QStackedWidget

from wintry_tally.desk.session import Session
from wintry_tally.desk.views.capacity_overview import CapacityOverview
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.parts import column


class CapacityView(StationView):
    """A stack of pages; which one shows follows from what is going on, or from what was asked."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.pages = QStackedWidget()
        self.overview = CapacityOverview(session)
        self.overview.opened.connect(self.opened)
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
        elif name == "run":
            from wintry_tally.desk.views.run_page import RunPage

            made = RunPage(self.session)
        elif name == "hand":
            from wintry_tally.desk.views.hand_page import HandPage

            made = HandPage(self.session)
        else:
            from wintry_tally.desk.views.import_page import ImportPage

            made = ImportPage(self.session)
        made.setObjectName(name)
        made.opened.connect(self.opened)
        made.go.connect(self._done)
        self.pages.addWidget(made)
        return made

    def refresh(self) -> None:
        """Show what is going on, or the overview."""
        running = self.session.running
        target: StationView = self.overview
        if running.of_sample(self.sample_id) is not None:
            self._asked = ""
            target = self.page("run")
        elif self._asked:
            target = self.page(self._asked)
        elif running.open_hand_run(self.sample_id) is not None:
            target = self.page("hand")
        self.pages.setCurrentWidget(target)
        target.show_sample(self.sample_id)

    def sample_switched(self) -> None:
        """A page asked for belongs to the sample before."""
        self._asked = ""

    def show_plan(self) -> None:
        """Plan a run on the simulated bench."""
        self._asked = "plan"
        self.refresh()

    def begin_hand(self) -> None:
        """Read by hand."""
        self._asked = "hand"
        self.refresh()

    def import_file(self, path: Path) -> None:
        """Show the import page on a file."""
        self._asked = "import"
        self.refresh()
        self.page("import").load(path)  # type: ignore[attr-defined]

    def _done(self, where: str) -> None:
        self._asked = ""
        if where in {"", "capacity"}:
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
            if current is self.page("run") and self.session.running.of_sample(self.sample_id) is None:
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
