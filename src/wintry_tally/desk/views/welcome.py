"""The first page, with no book open."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QWidget

from wintry_tally.desk.remembered import books
from wintry_tally.desk.widgets.parts import button, column, empty, label


def welcome(
    new: Callable[[], None], open_: Callable[[], None], demo: Callable[[], None], again: Callable[[Path], None]
) -> QWidget:
    """Three ways on, and the books opened before."""
    known = [button(f"{path.stem}  –  {path.parent}", partial(again, path), "link") for path in books()]
    return empty(
        "Which book?",
        "A test book is one file. It holds your batteries, their claims, every reading and every verdict. "
        "Start one of your own, or look around in the demo: its batteries, makers and figures are invented.",
        button("New book…", new, "main"),
        button("Open a book…", open_),
        button("Open the demo", demo),
        more=column(label("Opened before", "heading"), *known) if known else None,
    )


def no_battery(hang: Callable[[], object]) -> QWidget:
    """What stands where a battery would, in a book with none."""
    return empty(
        "No battery on the rack yet",
        "Hang a tag for the battery that just arrived. Then type its claims as printed, like “40 Ah”, “512 Wh” or "
        "“cuts at 10 V”, and its voltage before anything else is done to it.",
        button("Hang a tag", hang, "main"),
    )
