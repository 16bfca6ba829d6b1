"""Where a book is, asked of a person: a new one, one to open, a copy."""

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
