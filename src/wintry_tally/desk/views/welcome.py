"""The first page, with no book open."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from wintry_tally.desk.widgets.parts import button, empty


def welcome(new: Callable[[], None], open_: Callable[[], None], demo: Callable[[], None]) -> QWidget:
    """Three ways on."""
    return empty(
        "Which book?",
        "A test book is one file. It holds your batteries, their claims, every reading and every verdict. "
        "Start one of your own, or look around in the demo: its batteries, makers and figures are invented.",
        button("New book…", new, "main"),
        button("Open a book…", open_),
        button("Open the demo", demo),
    )
