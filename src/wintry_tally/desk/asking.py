"""Where a file is, asked of a person: a new book, one to open, a copy, a calendar."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFileDialog

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget

KIND = "Test books (*.wintry)"


def new_place(parent: QWidget, title: str, suggested: Path) -> Path | None:
    """Where a book is to be made; its ending is added where it was not typed."""
    name, _ = QFileDialog.getSaveFileName(parent, title, str(suggested), KIND)
    return Path(name if name.endswith(".wintry") else f"{name}.wintry") if name else None


def book_to_open(parent: QWidget) -> Path | None:
    """Which book."""
    name, _ = QFileDialog.getOpenFileName(parent, "Open book", str(Path.home()), f"{KIND};;All files (*)")
    return Path(name) if name else None


def page_place(parent: QWidget, name: str) -> Path | None:
    """Where a web page is to be saved; its ending is added where it was not typed."""
    chosen, _ = QFileDialog.getSaveFileName(
        parent, "Save as a page", str(Path.home() / f"{name}.html"), "Pages (*.html)"
    )
    return Path(chosen if chosen.endswith(".html") else f"{chosen}.html") if chosen else None


def pictures_to_keep(parent: QWidget) -> list[Path]:
    """Which photographs and pages."""
    names, _ = QFileDialog.getOpenFileNames(
        parent, "Add photographs or pages", str(Path.home()), "Pictures and pages (*.jpg *.jpeg *.png *.webp *.pdf)"
    )
    return [Path(name) for name in names]


def calendar_place(parent: QWidget) -> Path | None:
    """Where a calendar is to be saved; its ending is added where it was not typed."""
    name, _ = QFileDialog.getSaveFileName(
        parent, "Save a calendar", str(Path.home() / "bench.ics"), "Calendars (*.ics)"
    )
    return Path(name if name.endswith(".ics") else f"{name}.ics") if name else None
