"""The Working pane: formula, numbers, the terms of the uncertainty and the source, for whichever figure was asked."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication, QGridLayout, QVBoxLayout, QWidget
from shiboken6 import isValid

from wintry_tally.core.working import Working
from wintry_tally.desk.widgets.formula import Formula
from wintry_tally.desk.widgets.parts import button, clear, column, label, row, scrolling


class WorkingPane(QWidget):
    """Draws a Working tree; closable, copies as text."""

    closed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Working")
        self._working: Working | None = None
        self._asked_by: QWidget | None = None
        self._title = label("Working", "heading")
        head = row(self._title, None, button("Copy", self._copy, "link"), button("Close", self.closed.emit, "link"))
        self._inner = QWidget()
        self._steps = QVBoxLayout(self._inner)
        self._steps.setContentsMargins(0, 0, 8, 0)
        self._steps.setSpacing(10)
        self.setLayout(column(head, scrolling(self._inner), margin=3))
        self.show_working(None)

    def give_focus_back(self, otherwise: QWidget) -> None:
        """Before it is hidden: the keyboard goes to whatever asked, or the page; left to itself it would go to the next key,
        which switches everything off."""
        focused = QApplication.focusWidget()
        if focused is not None and self.isAncestorOf(focused):
            asked = self._asked_by if self._asked_by is not None and isValid(self._asked_by) else None
            (asked if asked is not None and asked.isVisible() else otherwise).setFocus()

    def working(self) -> Working | None:
        """What is shown."""
        return self._working

    def show_working(self, working: Working | None, of: str | None = None) -> None:
        """Draw this tree, or the invitation. `of`: the battery it speaks of, "" for none; as before where it is not said."""
        self._working, focused = working, QApplication.focusWidget()
        if focused is not None and not self.isAncestorOf(focused):
            self._asked_by = focused
        if of is not None:
            self._title.setText(f"Working · {of}" if of else "Working")
        clear(self._steps)
        if working is None:
            text = "Choose any figure (click it, or reach it with Tab) to see how it was come by."
            self._steps.addWidget(label(text, "quiet", wrap=True))
        else:
            for depth, step in working.walk():
                self._steps.addWidget(self._step(depth, step))
        self._steps.addStretch(1)

    def _step(self, depth: int, step: Working) -> QWidget:
        box = QWidget()
        layout = QVBoxLayout(box)
        layout.setContentsMargins(10 * min(depth, 3), 0, 0, 0)
        layout.setSpacing(3)
        layout.addWidget(label(step.label, "heading", wrap=True))
        if step.formula:
            layout.addWidget(Formula(step.formula))
        if step.inputs:
            grid = QGridLayout()
            grid.setContentsMargins(0, 0, 0, 0)
            grid.setHorizontalSpacing(10)
            grid.setVerticalSpacing(2)
            grid.setColumnStretch(1, 1)
            for index, (name, value) in enumerate(step.inputs.items()):
                left, right = label(name, "small", wrap=True), label(str(value), wrap=True)
                right.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
                grid.addWidget(left, index, 0, Qt.AlignmentFlag.AlignTop)
                grid.addWidget(right, index, 1)
            layout.addLayout(grid)
        if step.result:
            layout.addWidget(label(f"→ {step.result}", wrap=True))
        if step.source:
            layout.addWidget(label(step.source, "small", wrap=True))
        return box

    def _copy(self) -> None:
        if self._working is not None:
            QGuiApplication.clipboard().setText(self._working.as_text())
