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
