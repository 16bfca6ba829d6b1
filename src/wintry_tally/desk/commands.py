"""Every command of the window with its words and shortcut, in one table; menus are made from it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class CommandSpec:
    """One command: the menu it stands in, its words, its shortcut, the window's method that does it, and with what."""

    menu: str
    text: str
    shortcut: str
    method: str
    argument: str = ""
    needs_book: bool = True


RECENT = "recent"
"""No method: the place of the books opened before."""

COMMANDS = (
    CommandSpec("&Book", "&New book…", "Ctrl+Shift+N", "ask_new_book", needs_book=False),
    CommandSpec("&Book", "&Open book…", "Ctrl+O", "ask_open_book", needs_book=False),
    CommandSpec("&Book", "&Recent books", "", RECENT, needs_book=False),
    CommandSpec("&Book", "Open the &demo", "", "open_demo", needs_book=False),
    CommandSpec("&Book", "Save a &copy…", "", "ask_copy"),
    CommandSpec("&Book", "", "", ""),
    CommandSpec("&Book", "&Quit", "Ctrl+Q", "close", needs_book=False),
    CommandSpec("&Sample", "&Hang a tag", "Ctrl+N", "hang_tag"),
    CommandSpec("&Sample", "&Import a log…", "Ctrl+I", "import_log"),
    CommandSpec("&Sample", "&Save the report…", "Ctrl+S", "save_report"),
    CommandSpec("&Sample", "", "", ""),
    CommandSpec("&Sample", "Take &off the tag", "", "remove_tag"),
    CommandSpec("&Go", "&Arrival", "Ctrl+1", "show_station", "arrival"),
    CommandSpec("&Go", "C&harge", "Ctrl+2", "show_station", "charge"),
    CommandSpec("&Go", "R&est", "Ctrl+3", "show_station", "rest"),
    CommandSpec("&Go", "&Capacity", "Ctrl+4", "show_station", "capacity"),
    CommandSpec("&Go", "L&oad", "Ctrl+5", "show_station", "load"),
    CommandSpec("&Go", "Col&d", "Ctrl+6", "show_station", "cold"),
    CommandSpec("&Go", "&Shelf", "Ctrl+7", "show_station", "shelf"),
    CommandSpec("&Go", "Re&vival", "Ctrl+8", "show_station", "revival"),
    CommandSpec("&Go", "C&urves", "Ctrl+9", "show_station", "curves"),
    CommandSpec("&Go", "&Ledger", "Ctrl+0", "show_station", "ledger"),
    CommandSpec("&Go", "&Report", "Ctrl+E", "show_station", "report"),
    CommandSpec("&Go", "Pro&gramme", "Ctrl+R", "show_station", "programme"),
    CommandSpec("&Go", "", "", ""),
    CommandSpec("&Go", "&Today", "Ctrl+T", "show_page", "today"),
    CommandSpec("&Go", "&Plan", "Ctrl+P", "show_page", "plan"),
    CommandSpec("&Go", "Co&mpare", "Ctrl+M", "show_page", "compare"),
    CommandSpec("&Go", "The &bench", "Ctrl+B", "show_page", "bench"),
    CommandSpec("&Go", "", "", ""),
    CommandSpec("&Go", "&Find a tag", "Ctrl+F", "find_tag"),
    CommandSpec("&Go", "Ne&xt tag", "Ctrl+Down", "next_tag"),
    CommandSpec("&Go", "Pre&vious tag", "Ctrl+Up", "previous_tag"),
    CommandSpec("&Go", "All &off, at once", "", "make_safe", needs_book=False),
    CommandSpec("&View", "&Working", "F9", "toggle_working"),
    CommandSpec("&View", "&Night theme", "Ctrl+Shift+D", "toggle_theme", needs_book=False),
    CommandSpec("&View", "&Preferences", "Ctrl+,", "show_preferences", needs_book=False),
    CommandSpec("&Help", "&This page, keys and words", "F1", "show_help", needs_book=False),
    CommandSpec("&Help", "&Commands and tags…", "Ctrl+K", "show_commands", needs_book=False),
    CommandSpec("&Help", "&What went wrong…", "", "show_log", needs_book=False),
)
