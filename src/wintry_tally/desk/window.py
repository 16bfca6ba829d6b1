"""The window: rack on the left, trail on top, the station's view in the middle, Working on the right."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QResizeEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QFrame, QMainWindow, QSplitter, QStackedWidget, QWidget

from wintry_tally.core.working import Working
from wintry_tally.desk.asking import book_to_open, new_place
from wintry_tally.desk.closing_page import ClosingPage
from wintry_tally.desk.finding_one_s_way import PREFERENCES, entries, remember_where, show_beside, show_help
from wintry_tally.desk.looks import follow_preferences, set_theme, toggle_theme
from wintry_tally.desk.menus import Menus
from wintry_tally.desk.notify import notify
from wintry_tally.desk.remembered import remember_book, shown_in
from wintry_tally.desk.session import Session
from wintry_tally.desk.views import make_page
from wintry_tally.desk.views.rack import Rack
from wintry_tally.desk.views.sample_head import SampleHead
from wintry_tally.desk.views.welcome import no_battery, welcome
from wintry_tally.desk.widgets.command_list import CommandList
from wintry_tally.desk.widgets.parts import button, column, scrolling
from wintry_tally.desk.widgets.problem_band import ProblemBand
from wintry_tally.desk.widgets.working_pane import WorkingPane
from wintry_tally.desk.worst_minute import WorstMinute

if TYPE_CHECKING:
    from wintry_tally.desk.views.page import MainPage
    from wintry_tally.desk.views.station import StationView

RACK = 292
RACK_NARROW, RACK_SMALL = 232, 204
NARROW, SMALL = 1150, 1000
"""Below these widths the rack is narrower; below the first the Working pane takes its place while it is open."""


def _rack_at(width: int) -> int:
    """How wide the rack is in a window of this width."""
    return RACK if width >= NARROW else RACK_NARROW if width >= SMALL else RACK_SMALL


class Window(QMainWindow):
    """The one window of the application."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.sample_id: int | None = None
        self.station = "arrival"
        self.setWindowTitle("Wintry Tally")
        self.resize(1280, 800)
        self.setMinimumSize(900, 600)
        self.setAcceptDrops(True)
        self.views: dict[str, StationView] = {}
        self.pages_made: dict[str, MainPage] = {}
        self.page_shown = ""
        self._closed, self._rack_fits = False, RACK
        self._build()
        self.menus = Menus(self, session)
        session.book_changed.connect(self._book_changed)
        session.samples_changed.connect(self._samples_changed)
        session.sample_changed.connect(self._sample_changed)
        session.runs_changed.connect(self._sample_changed)
        session.dossier_changed.connect(self._dossier_changed)
        session.failed.connect(self.show_problem)
        session.said.connect(lambda text: self.statusBar().showMessage(text, 8000))
        session.rang.connect(notify)
        follow_preferences(self)
        session.ticked.connect(self._ticked)
        session.all_off_asked.connect(self.make_safe)
        session.leaving_book.connect(self.keep_typed)
        self.worst = WorstMinute(self, self)

    # --- building ---

    def _build(self) -> None:
        self.rack = Rack(self.session)
        self.rack.chosen.connect(self.show_sample)
        self.rack.hang.connect(self.hang_tag)
        self.rack.page.connect(self.show_page)
        self.rack.lead.connect(self.lead)
        self.stack = QStackedWidget()
        middle = QWidget()
        self._top = SampleHead(self.session)
        self._top.opened.connect(self.show_station)
        self.trail, self.quarantine = self._top.trail, self._top.quarantine
        middle.setLayout(column(self._top, self.stack, gap=2, margin=4))
        self.pane = WorkingPane()
        self.pane.closed.connect(self.hide_working)
        self._pane_box = QFrame()
        self._pane_box.setProperty("role", "card")
        self._pane_box.setLayout(column(self.pane))
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(1)
        for part in (self.rack, middle, self._pane_box):
            self.splitter.addWidget(part)
        self.splitter.setStretchFactor(1, 1)
        self.rack.setMinimumWidth(RACK_SMALL)
        middle.setMinimumWidth(480)
        self._pane_box.setMinimumWidth(250)
        self._pane_box.hide()
        self.splitter.setSizes([_rack_at(self.width()), 1280 - _rack_at(self.width()), 0])
        self.pages = QStackedWidget()
        self.pages.addWidget(welcome(self.ask_new_book, self.ask_open_book, self.open_demo, self.open_book))
        self.pages.addWidget(self.splitter)
        whole = QWidget()
        self._band = ProblemBand()
        whole.setLayout(column(self._band, self.pages, gap=0))
        self.setCentralWidget(whole)
        self._nothing = scrolling(no_battery(self.hang_tag))
        self.stack.addWidget(self._nothing)
        self.statusBar().setSizeGripEnabled(False)
        self.all_off = button("All off  ·  F12", self.make_safe, "off", "Everything off, at once")
        self.statusBar().addPermanentWidget(self.all_off)
        self.closing = ClosingPage(self.session)
        self.closing.done.connect(self._close_for_good)
        self.pages.addWidget(self.closing)

    def view(self, key: str) -> StationView:
        """The view of a station, made when first shown."""
        if key not in self.views:
            from wintry_tally.desk.views import make_view

            made = make_view(key, self.session)
            made.opened.connect(self.show_working)
            made.go.connect(self.show_station)
            if hasattr(made, "leads"):
                made.leads.connect(lambda station, recipe: self.lead(self.sample_id or 0, station, recipe))
            self.views[key] = made
            self.stack.addWidget(made)
        return self.views[key]

    # --- what is shown ---

    def _book_changed(self) -> None:
        self.forget_pages()
        self.sample_id = None
        self.menus.set_enabled(self.session.has_book)
        self.pages.setCurrentIndex(1)
        book = self.session.book
        demo = " · demonstration data, invented" if book.meta("demo") == "yes" else ""
        self.setWindowTitle(f"{book.meta('name', book.path.stem)}{demo} – Wintry Tally")
        self.hide_working()
        samples = self.session.samples()
        if not samples:
            self._samples_changed()
            return
        # the day comes first: a sample's page is made when somebody goes there
        self.rack.fill()
        by_number = lambda number: self.session.sample(number) if self.session.holds(number) else None  # noqa: E731
        self.sample_id = shown_in(book.path, samples, by_number)
        self.show_page("today")

    def every_page(self) -> tuple[StationView | MainPage, ...]:
        """Every view and page that is made."""
        return (*self.views.values(), *self.pages_made.values())

    def forget_pages(self, but: str = "") -> None:
        """Let go of every view and page but one; each is made anew when it is shown."""
        kept = self.pages_made.pop(but, None)
        for made in self.every_page():
            self.stack.removeWidget(made)
            made.deleteLater()
        self.views, self.pages_made = {}, {} if kept is None else {but: kept}

    def _samples_changed(self) -> None:
        self.rack.fill()
        ids = [sample.id for sample in self.session.samples()]
        if self.sample_id not in ids:
            self.sample_id = None
        if self.sample_id is None and ids:
            self.show_sample(ids[0])
        elif not ids:
            self._top.hide()
            self.stack.setCurrentWidget(self._nothing)
        elif self.sample_id is not None:
            self.rack.mark(self.sample_id)

    def show_sample(self, sample_id: int) -> None:
        """Show a sample at the station shown before."""
        self.sample_id = sample_id
        self.rack.mark(sample_id)
        self._top.show()
        self.show_station(self.station)

    def show_station(self, key: str) -> None:
        """Show a station of the sample."""
        if self.sample_id is None:
            return
        self.station, self.page_shown = key, ""
        self._top.show()
        self.rack.mark_page("")
        self.rack.mark(self.sample_id)
        view, holder = self.view(key), self._top.mark(key)
        self.heading()
        view.show_sample(self.sample_id)  # before it is seen
        self._turn_to(view, holder)

    def _turn_to(self, made: QWidget, holder: QWidget) -> None:
        """Show a part of the stack; the keyboard waits at `holder` where it was in what is hidden, and opens nothing."""
        shown, focused = self.stack.currentWidget(), QApplication.focusWidget()
        if shown is not made and focused is not None and shown is not None and shown.isAncestorOf(focused):
            holder.setFocus()
        self.stack.setCurrentWidget(made)

    def page(self, key: str) -> MainPage:
        """A page of the whole book, made when first shown."""
        if key not in self.pages_made:
            made = make_page(key, self.session)
            made.leads.connect(self.lead)
            made.opened.connect(self.show_working)
            self.pages_made[key] = made
            self.stack.addWidget(made)
        return self.pages_made[key]

    def show_page(self, key: str) -> None:
        """Show a page of the whole book, whatever sample is chosen: today, plan, bench."""
        if not self.session.has_book:
            return
        made, self.page_shown = self.page(key), key
        holder = self.rack.pages.get(key, self.rack.looking)
        holder.setFocus()
        self._top.hide()
        self.rack.mark_page(key)
        made.refresh()  # before it is seen: it is laid out once
        self._turn_to(made, holder)
        made.setFocus()

    def lead(self, sample_id: int, station: str, recipe: str) -> None:
        """Go to a station of a sample, and set a recipe up there."""
        from wintry_tally.exchange.recipe_file import shipped

        if not sample_id:
            self.show_page(station)
            return
        self.station = station or self.station
        self.show_sample(sample_id)
        view = self.view(self.station)
        if recipe in shipped() and hasattr(view, "plan_recipe"):
            view.plan_recipe(shipped()[recipe])

    def heading(self) -> None:
        """Code, battery, quarantine and the trail's marks of the sample shown."""
        self._top.show_sample(self.sample_id)

    def _sample_changed(self, sample_id: int) -> None:
        self.rack.refresh(sample_id)
        if sample_id == self.sample_id:
            self.heading()
            if self.station in self.views:
                self.views[self.station].redraw(self.views[self.station].refresh)

    def _dossier_changed(self, sample_id: int) -> None:
        self.rack.refresh(sample_id)
        if sample_id == self.sample_id and self.station in self.views:
            self.views[self.station].redraw(self.views[self.station].dossier_changed)

    def _ticked(self) -> None:
        self.rack.tick()
        if self.sample_id is not None and self.station in self.views:
            self.views[self.station].tick()

    # --- Working ---

    def show_working(self, working: Working | None) -> None:
        """Open the pane on a derivation, named by the battery whose page asked."""
        number = self.sample_id if self.stack.currentWidget() in self.views.values() else None
        self.pane.show_working(working, "" if number is None else self.session.sample(number).code)
        self._open_pane()

    def _open_pane(self) -> None:
        if not self._pane_box.isVisible():
            self._pane_box.show()
            self._fit_pane()

    def hide_working(self) -> None:
        """Close the pane."""
        if self._pane_box.isVisible():
            self.pane.give_focus_back(self.stack)
            self._pane_box.hide()
            self._fit_rack()
        self.rack.show()

    def toggle_working(self) -> None:
        """Open or close the pane."""
        if self._pane_box.isVisible():
            self.hide_working()
        else:
            self._open_pane()

    def _fit_pane(self) -> None:
        open_ = self._pane_box.isVisible()
        narrow = self.width() < NARROW
        self.rack.setVisible(not (open_ and narrow))
        if open_:
            total = self.width()
            pane = 300
            rack = 0 if narrow else 240
            self.splitter.setSizes([rack, total - pane - rack, pane])

    def resizeEvent(self, event: QResizeEvent) -> None:
        """The pane and the rack share a narrow window by turns."""
        super().resizeEvent(event)
        if self._pane_box.isVisible():
            self._fit_pane()
        elif self._rack_fits != _rack_at(event.size().width()):
            self._fit_rack()

    def _fit_rack(self) -> None:
        self._rack_fits = _rack_at(self.width())
        self.splitter.setSizes([_rack_at(self.width()), self.width() - _rack_at(self.width()), 0])

    # --- problems ---

    def show_problem(self, text: str) -> None:
        """A line across the top of the view; it stays until dismissed."""
        self._band.tell(text)

    @property
    def problem(self) -> str:
        """The problem shown, or nothing."""
        return self._band.told if self._band.isVisibleTo(self) else ""

    # --- commands ---

    def ask_new_book(self) -> None:
        """Choose where the new book goes."""
        if path := new_place(self, "New book", Path.home() / "tests.wintry"):
            self.new_book(path)

    def new_book(self, path: Path) -> None:
        """Make a book and show it; an old file of the name is put aside only by the user."""
        self.session.new_book(path, partial(self._opened, path))

    def ask_open_book(self) -> None:
        """Choose a book."""
        if path := book_to_open(self):
            self.open_book(path)

    def ask_copy(self) -> None:
        """Choose where a copy of the open book goes."""
        own = self.session.book.path
        if path := new_place(self, "Save a copy", own.with_name(f"{own.stem} copy.wintry")):
            self.session.save_copy(path)

    def open_book(self, path: Path) -> None:
        """Open a book; it stands on the screen a moment later where it cannot be read at once."""
        self.pages.setVisible(self.session.has_book)  # no welcome for a moment
        self.session.open_book(path, partial(self._opened, path))

    def _opened(self, path: Path | None, done: bool) -> None:
        self.pages.show()
        if done and path is not None:
            remember_book(path)
        if not self.session.has_book:
            self.menus.set_enabled(False)
            self.pages.setCurrentIndex(0)

    def show_log(self) -> None:
        """What went wrong inside the program, to read and send."""
        from wintry_tally.desk.widgets.error_log import ErrorLog

        ErrorLog(self).show()

    def keep_typed(self) -> None:
        """Whatever is typed and not yet kept is kept."""
        for made in self.every_page():
            made.leave()

    def open_demo(self) -> None:
        """Open a scratch copy of the demo."""
        self.pages.setVisible(self.session.has_book)  # no welcome for a moment
        self.session.open_demo(partial(self._opened, None))

    def show_help(self) -> None:
        """What this page is for, every key and every word; without a book too."""
        show_help(self)

    def show_preferences(self) -> None:
        """Units, theme, sound, how a new book begins."""
        show_beside(self, PREFERENCES)

    def show_commands(self) -> None:
        """Every command and tag in one list."""
        CommandList(self, entries(self)).show()

    def hang_tag(self) -> None:
        """A new sample, shown at Arrival."""
        self.session.add_sample(self._hung)

    def _hung(self, made: int) -> None:
        self.station = "arrival"
        self.show_sample(made)
        self.view("arrival").begin()

    def remove_tag(self) -> None:
        """Take the sample shown off the rack (Ctrl+Z hangs it back)."""
        if self.sample_id is not None:
            if self.session.running.of_sample(self.sample_id) is not None:
                self.show_problem("A test of this sample is running; stop it first.")
                return
            self.session.remove_sample(self.sample_id)

    def import_log(self, *paths: Path) -> None:
        """Choose a log (or the files that make up one) and show the import page."""
        if self.sample_id is None:
            self.show_problem("Hang a tag first: a log belongs to a sample.")
            return
        if not paths:
            names, _ = QFileDialog.getOpenFileNames(
                self, "Import a log", str(Path.home()), "Logs (*.csv *.txt *.tsv *.log *.gz *.parquet);;All files (*)"
            )
            if not names:
                return
            paths = tuple(Path(name) for name in names)
        self.show_station("capacity")
        self.view("capacity").import_file(*paths)  # type: ignore[attr-defined]

    def save_report(self) -> None:
        """Show the report and ask where it goes."""
        if self.sample_id is not None:
            self.show_station("report")
            self.view("report").save()  # type: ignore[attr-defined]

    def find_tag(self) -> None:
        """Put the keyboard where a tag is looked for."""
        self.rack.show()
        self.rack.looking.setFocus()
        self.rack.looking.selectAll()

    def next_tag(self) -> None:
        """Show the next sample."""
        self._step_tag(1)

    def previous_tag(self) -> None:
        """Show the one before."""
        self._step_tag(-1)

    def _step_tag(self, step: int) -> None:
        ids = [sample.id for sample in self.session.samples()]
        if ids and self.sample_id in ids:
            self.show_sample(ids[(ids.index(self.sample_id) + step) % len(ids)])

    def toggle_theme(self) -> None:
        """Day or night."""
        toggle_theme(self)

    def set_theme(self, name: str) -> None:
        """Put a theme in force and remember it."""
        set_theme(self, name)

    # --- the window's own events ---

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Files may be dropped anywhere."""
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """A book is opened, anything else is imported."""
        files = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if files:
            self.take_file(*files)

    def take_file(self, *paths: Path) -> None:
        """Open a book, import a log; several files are parts of one."""
        if paths[0].suffix == ".wintry":
            self.open_book(paths[0])
        else:
            self.import_log(*paths)

    # --- the worst minute ---

    def make_safe(self) -> None:
        """Everything off, at once."""
        self.worst.make_safe()

    # --- closing ---

    def closeEvent(self, event: QCloseEvent) -> None:
        """Everything is written; running tests can be taken up again. What is driven is seen to be off first."""
        self.keep_typed()
        remember_where(self)
        if not self._closed and self.closing.begin():
            self.pages.setCurrentWidget(self.closing)
            event.ignore()
            return
        self.worst.let_go()
        self.session.shut_down()
        super().closeEvent(event)

    def _close_for_good(self) -> None:
        self._closed = True
        self.close()
