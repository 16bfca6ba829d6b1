"""Every command of the window with its words and shortcut, in one table; menus are made from it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class CommandSpec:
    """One command: the menu it stands in, its words, its shortcut, and the window's method that does it."""

    menu: str
    text: str
    shortcut: str
    method: str


COMMANDS = (
    CommandSpec("&Book", "&New book…", "Ctrl+Shift+N", "ask_new_book"),
    CommandSpec("&Book", "&Open book…", "Ctrl+O", "ask_open_book"),
    CommandSpec("&Book", "Open the &demo", "", "open_demo"),
    CommandSpec("&Book", "", "", ""),
    CommandSpec("&Book", "&Quit", "Ctrl+Q", "close"),
    CommandSpec("&Sample", "&Hang a tag", "Ctrl+N", "hang_tag"),
    CommandSpec("&Sample", "&Import a log…", "Ctrl+I", "import_log"),
    CommandSpec("&Sample", "&Save the report…", "Ctrl+S", "save_report"),
    CommandSpec("&Sample", "", "", ""),
    CommandSpec("&Sample", "Take &off the tag", "", "remove_tag"),
    CommandSpec("&Go", "&Arrival", "Ctrl+1", "go_arrival"),
    CommandSpec("&Go", "&Capacity", "Ctrl+2", "go_capacity"),
    CommandSpec("&Go", "C&urves", "Ctrl+3", "go_curves"),
    CommandSpec("&Go", "&Ledger", "Ctrl+4", "go_ledger"),
    CommandSpec("&Go", "&Report", "Ctrl+5", "go_report"),
    CommandSpec("&Go", "", "", ""),
    CommandSpec("&Go", "Ne&xt tag", "Ctrl+Down", "next_tag"),
    CommandSpec("&Go", "&Previous tag", "Ctrl+Up", "previous_tag"),
    CommandSpec("&View", "&Working", "F9", "toggle_working"),
    CommandSpec("&View", "&Night theme", "Ctrl+Shift+D", "toggle_theme"),
)
