"""Help for where one is, and the list of everything that can be done or gone to."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, cast

from wintry_tally.desk.commands import COMMANDS
from wintry_tally.desk.remembered import remember_place, remember_shown
from wintry_tally.desk.views import OFF_RACK, PAGES, make_page
from wintry_tally.desk.views.page import MainPage
from wintry_tally.desk.widgets.command_list import Entry

if TYPE_CHECKING:
    from wintry_tally.desk.views.help import HelpPage
    from wintry_tally.desk.window import Window

HELP, PREFERENCES = "help", "preferences"
TITLES = {spec.argument: spec.text.replace("&", "") for spec in COMMANDS if spec.argument}
"""What the menus call a station or a page."""


def entries(window: Window) -> list[Entry]:
    """Every command that can be given now, with its keys, and every tag."""
    found = [
        Entry(action.text().replace("&", ""), action.shortcut().toString(), action.trigger)
        for _, action in window.menus.actions
        if action.isEnabled()
    ]
    if window.session.has_book:
        for sample in window.session.samples():
            words = f"{sample.code}  {sample.maker} {sample.model}".rstrip()
            found.append(Entry(words, sample.family.words, partial(window.show_sample, sample.id)))
    return found


def show_help(window: Window) -> None:
    """The help page, telling of the page that was shown."""
    where = _where(window)
    page = show_beside(window, HELP)
    if where != HELP and window.session.has_book:
        cast("HelpPage", page).tell_of(where, TITLES.get(where, where.capitalize()))


def _where(window: Window) -> str:
    return window.page_shown or (window.station if window.sample_id is not None else "")


def show_beside(window: Window, key: str) -> MainPage:
    """A page that a menu leads to, with its way back to what was shown; without a book it stands alone."""
    where = _where(window)
    if window.session.has_book:
        window.show_page(key)
        page = window.page(key)
        if where not in OFF_RACK:
            page.leads_back = partial(window.show_page if where in PAGES else window.show_station, where)
        return page
    shown = window.pages.currentWidget()
    if isinstance(shown, MainPage):
        shown.leads_back()  # one at a time
    alone = make_page(key, window.session)

    def leave() -> None:
        window.pages.setCurrentIndex(0)
        window.pages.removeWidget(alone)
        alone.deleteLater()

    alone.leads_back = leave
    alone.tell_alone()
    window.pages.addWidget(alone)
    window.pages.setCurrentWidget(alone)
    alone.setFocus()
    return alone


def remember_where(window: Window) -> None:
    """Where the window stands, and which sample is shown, for the next time."""
    remember_place(window)
    session, shown = window.session, window.sample_id
    if session.has_book and shown is not None and session.holds(shown) and session.book.meta("demo") != "yes":
        remember_shown(session.book.path, session.sample(shown))
