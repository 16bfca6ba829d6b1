"""Help: every key with what it does, and the words as this application uses them."""

from __future__ import annotations

import tomllib
from importlib import resources

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QWidget

from wintry_tally import __version__
from wintry_tally.desk.commands import COMMANDS
from wintry_tally.desk.session import Session
from wintry_tally.desk.theme import SPACE
from wintry_tally.desk.views.page import MainPage
from wintry_tally.desk.widgets.parts import button, card, column, label, row, scrolling

ELSEWHERE = (
    ("Tab", "from figure to figure; the Working pane follows"),
    ("Enter, Space", "open the working of a figure, or press a key"),
    ("Ctrl+C", "copy a figure with its uncertainty and unit"),
    ("Left, Right", "from station to station on the trail; from test to test on the plan"),
    ("Alt+arrows", "push a test on the plan by half an hour"),
    ("Ctrl+Z, Ctrl+Shift+Z", "take back, do again"),
)
"""Keys that are no command's."""


def glossary() -> list[tuple[str, str]]:
    """Every word with what it says."""
    text = resources.files("wintry_tally.desk").joinpath("glossary.toml").read_text(encoding="utf-8")
    return [(str(one["name"]), str(one["says"])) for one in tomllib.loads(text)["word"]]


def purposes() -> dict[str, tuple[str, str]]:
    """What each page is for and its own keys, by the page's key."""
    text = resources.files("wintry_tally.desk").joinpath("pages.toml").read_text(encoding="utf-8")
    return {str(one["key"]): (str(one["says"]), str(one["keys"])) for one in tomllib.loads(text)["page"]}


class HelpPage(MainPage):
    """What the page before it is for, what can be done by which key, and what is meant by which word."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.page_title, self.page_says = label("", "heading"), label("", "", wrap=True)
        self.page_keys = label("", "quiet", wrap=True)
        self._page = card(
            row(self.page_title, None, button("Back to it", lambda: self.leads_back())), self.page_says, self.page_keys
        )
        self._page.hide()
        keys = [(spec.shortcut, spec.text.replace("&", "").rstrip("…")) for spec in COMMANDS if spec.shortcut]
        inner = QWidget()
        inner.setLayout(
            column(
                label("Help", "title"),
                label(
                    "F12 or the red key switches everything off, wherever you are. Type numbers as you write them: 12,9 · 1280 Wh · "
                    "21.7 lb · 8h42. Whatever is done can be taken back; a reading once taken is never lost or changed in silence.",
                    "", wrap=True,
                ),
                self._page,
                card(label("Keys", "heading"), _table([*keys, *ELSEWHERE])),
                card(label("Words", "heading"), _table(glossary())),
                label(
                    f"Wintry Tally {__version__}, under the Apache License 2.0; typeface B612 (with round parentheses) under the SIL Open Font License. The "
                    "battery's manual, local codes and licensed practice rule over anything said here.",
                    "small", wrap=True,
                ),
                None, gap=3,
            )
        )  # fmt: skip
        inner.layout().setContentsMargins(0, 0, 2 * SPACE, 0)
        self.setLayout(column(scrolling(inner)))

    def tell_alone(self) -> None:
        """With no book open: the way back to the first page."""
        self.page_title.setText("No book is open")
        self.page_says.setText("A test book is one file; make one, open one, or look around in the demo.")
        self.page_keys.hide()
        self._page.show()

    def tell_of(self, key: str, title: str) -> None:
        """Say what a page is for; nothing where there is none."""
        says, keys = purposes().get(key, ("", ""))
        self.page_title.setText(title)
        self.page_says.setText(says)
        self.page_keys.setText(keys)
        self.page_keys.setVisible(bool(keys))
        self._page.setVisible(bool(says))


def _table(lines: list[tuple[str, str]]) -> QGridLayout:
    grid = QGridLayout()
    grid.setHorizontalSpacing(18)
    grid.setVerticalSpacing(6)
    grid.setColumnStretch(1, 1)
    for line, (name, says) in enumerate(lines):
        grid.addWidget(label(name, "heading"), line, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(label(says, "", wrap=True), line, 1)
    return grid
