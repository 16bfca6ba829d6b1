"""What units of one model say of it, where all that are compared are of one."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame

from wintry_tally.desk.widgets.parts import button, clear, column, label, row

if TYPE_CHECKING:
    from wintry_tally.app.comparison import Model


class ModelCard(QFrame):
    """A line a quantity or claim, each with its working; `opened` carries the one asked for."""

    opened = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("role", "card")
        self._lines = column(gap=1)
        self._title = label("", "heading")
        self.setLayout(column(self._title, self._lines, gap=2, margin=3))
        self.hide()

    def show_model(self, model: Model | None) -> None:
        """Of this model, or nothing."""
        from wintry_tally.app.comparison import model_lines

        clear(self._lines)
        self.setVisible(model is not None and bool(model.rows))
        if model is None:
            return
        self._title.setText(f"The model at large: {model.title}, by {len(model.codes)} units")
        workings = [*(one.working for one in model.rows), *(one.working for one in model.claims)]
        for words, working in zip(model_lines(model), workings, strict=True):
            line = row(label(words, "small", wrap=True))
            line.setStretch(0, 1)
            line.addWidget(button("Working", partial(self.opened.emit, working), "link", f"Working: {words}"))
            self._lines.addLayout(line)
