"""The views, one a station, and the pages of the whole book; each is made when first shown."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wintry_tally.desk.session import Session
    from wintry_tally.desk.views.page import MainPage
    from wintry_tally.desk.views.station import StationView


def make_view(key: str, session: Session) -> StationView:
    """The view of a station. A new station is a new file and a line here."""
    module, name, *more = VIEWS[key]
    made: StationView = getattr(import_module(f"wintry_tally.desk.views.{module}"), name)(session, *more)
    return made


BENCH_STATIONS = ("charge", "rest", "capacity", "load", "cold", "shelf", "revival")
"""Stations at which tests are run."""

VIEWS: dict[str, tuple[str, ...]] = {
    "arrival": ("arrival", "ArrivalView"),
    **{key: ("bench_station", "BenchStation", key) for key in BENCH_STATIONS},
    "programme": ("programme", "ProgrammeView"),
    "curves": ("curves", "CurvesView"),
    "ledger": ("ledger", "LedgerView"),
    "report": ("report", "ReportView"),
}
"""Station to the module, the class and the further arguments of its view."""

PAGES: dict[str, tuple[str, str, str]] = {
    "today": ("Today", "today", "TodayPage"),
    "plan": ("Plan", "campaign", "CampaignPage"),
    "compare": ("Compare", "compare", "ComparePage"),
    "bench": ("Bench", "bench", "BenchView"),
    "help": ("Help", "help", "HelpPage"),
    "preferences": ("Preferences", "preferences_page", "PreferencesPage"),
}
"""Pages that need no sample: key to title, module and class. A new one is a new file, a line here and one in COMMANDS."""
OFF_RACK = ("help", "preferences")
"""Those that a menu leads to, and no key of the rack."""


def make_page(key: str, session: Session) -> MainPage:
    """A page of the whole book."""
    _, module, name = PAGES[key]
    made: MainPage = getattr(import_module(f"wintry_tally.desk.views.{module}"), name)(session)
    return made
