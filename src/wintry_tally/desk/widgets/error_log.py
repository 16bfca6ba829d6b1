"""What went wrong inside the program, to read, copy and send."""

from __future__ import annotations

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QPlainTextEdit, QWidget

from wintry_tally.app.logbook import last_lines, log_path
from wintry_tally.desk.widgets.parts import button, column, label, row


class ErrorLog(QDialog):
    """The last of the error log, newest at the end."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("What went wrong")
        self.resize(720, 420)
        self.text = QPlainTextEdit(last_lines() or "Nothing: no failure of this program was noted.")
        self.text.setReadOnly(True)
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setAccessibleName("The last of the error log")
        words = f"Kept in {log_path()}; your home folder stands in it as ~. Send it with a word on what you were doing."
        self.copy = button("Copy", self._copy, "main")
        self.setLayout(
            column(
                label(words, "quiet", wrap=True),
                self.text,
                row(None, self.copy, button("Close", self.accept)),
                gap=2,
                margin=3,
            )
        )

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText(self.text.toPlainText())
