"""How the window looks: day or night, and everything written anew when the units change."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QApplication

from wintry_tally.desk.finding_one_s_way import PREFERENCES
from wintry_tally.desk.preferences import current, put
from wintry_tally.desk.theme import NIGHT
from wintry_tally.desk.theme import current as tokens
from wintry_tally.desk.theme.style import apply_named

if TYPE_CHECKING:
    from wintry_tally.desk.window import Window


def follow_preferences(window: Window) -> None:
    """Units and theme as they are chosen on their page."""
    window.session.units_changed.connect(lambda: _write_anew(window))
    window.session.theme_changed.connect(lambda: _theme_changed(window))


def set_theme(window: Window, name: str) -> None:
    """Put a theme in force and remember it."""
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    apply_named(application, name)
    put(replace(current(), theme=name))
    _theme_changed(window)


def toggle_theme(window: Window) -> None:
    """Day, or night."""
    set_theme(window, "day" if tokens() is NIGHT else "night")


def _theme_changed(window: Window) -> None:
    for made in window.every_page():
        made.theme_changed()


def _write_anew(window: Window) -> None:
    """Every page is made anew when it is next shown, but the one that the units were chosen on."""
    window.keep_typed()
    window.forget_pages(but=PREFERENCES)
    if window.session.has_book:
        window.rack.fill()
        window.heading()
        window.pane.show_working(window.pane.working())
