"""Tables to the clipboard: as text for a spreadsheet, and as HTML for a letter."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QMimeData
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QPushButton

from wintry_tally.desk.widgets.parts import button
from wintry_tally.report.tables import Table


def copy_button(table: Callable[[], Table | None], said: Callable[[str], object], of: str) -> QPushButton:
    """A key that puts a table on the clipboard, where there is one; `said` is told what was done."""

    def copy() -> None:
        found = table()
        if found is not None:
            made = QMimeData()
            made.setText(found.text())
            made.setHtml(found.html())
            QGuiApplication.clipboard().setMimeData(made)
            count = len(found.rows)
            said(f"{count} {'line is' if count == 1 else 'lines are'} on the clipboard, as a table.")

    return button("Copy as a table", copy, "link", f"Copy {of} as a table")
