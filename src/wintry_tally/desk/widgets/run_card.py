"""The card of a finished run, drawn from `app.run_card`."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QLayout, QPushButton, QWidget

from wintry_tally.app.run_card import SAW_END, RunCard, Shown
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import button, column, label, named, row, set_role


class RunCardView(QFrame):
    """`opened` carries a figure's working; the others ask for what their keys say. To be at it is to be at its first key."""

    opened = Signal(object)
    picture = Signal()
    save = Signal()
    left_out = Signal(bool)
    repaired = Signal(bool)
    saw_end = Signal(str)

    def __init__(self, shown: RunCard, number: int) -> None:
        super().__init__()
        self.number = number
        self.setProperty("role", "card")
        self._card = shown
        parts: list[QWidget | QLayout] = [self._head()]
        if shown.problem:
            stands = label(shown.problem, wrap=True)  # it stands there: nobody's eyes are drawn to it
            set_role(stands, "problem")
            parts.append(stands)
        if shown.headline:
            parts.append(label(shown.headline, "heading", wrap=True))
        parts += [self._figures(one) for one in shown.figures]
        parts += [label(words, "quiet" if words in shown.quiet else "", wrap=True) for words in shown.lines]
        if shown.remarks:
            parts.append(self._remarks())
        if shown.repaired:
            told = label("Offered repairs are applied; the original readings are kept.", "small")
            parts.append(row(told, button("Take back", lambda: self.repaired.emit(False), "link"), None))
        if shown.may_say:
            parts.append(Flow(label("No reading tells how it ended; who saw it may say so:", "small"), *self._ends()))
        if shown.saw_end:
            seen = f"As somebody saw it: {SAW_END[shown.saw_end][:1].lower()}{SAW_END[shown.saw_end][1:]}."
            back = button(
                "Take it back", lambda: self.saw_end.emit(""), "link", f"Take back how it ended: {shown.title}"
            )
            parts.append(Flow(label(seen, "small"), back))
        self.setLayout(column(*parts, margin=3))

    def _head(self) -> Flow:
        title, out = self._card.title, self._card.left_out
        words = "Take into the verdicts" if out else "Leave out of the verdicts"
        keys = [button(words, lambda: self.left_out.emit(not out), "link", f"{words}: {title}")]
        self.setFocusProxy(keys[0])
        if self._card.pictured:
            keys.append(button("Its picture", self.picture.emit, "link", f"Its picture: {title}"))
        keys.append(button("Save readings…", self.save.emit, "link", f"Save readings: {title}"))
        told = Flow(label(title, "heading", wrap=True), label(self._card.when, "small", wrap=True))
        return Flow(told, *keys, fills=True)

    def _ends(self) -> list[QPushButton]:
        """Keys for what somebody may have seen of its end."""
        return [
            button(SAW_END[end], lambda end=end: self.saw_end.emit(end), "link", f"{SAW_END[end]}: {self._card.title}")
            for end in self._card.may_say
        ]

    def _figures(self, figures: tuple[Shown, ...]) -> Flow:
        line = Flow(gap=5)
        for one in figures:
            figure = Figure(f"{one.label}, {self._card.title}")
            if one.quantity is not None:
                figure.set_quantity(one.quantity, one.working)
            else:
                figure.set_text(one.text[0], "", one.text[1], one.working())
            figure.opened.connect(self.opened)
            line.put(named(one.label, figure))
        return line

    def _remarks(self) -> FindingList:
        remarks = FindingList()
        for one in self._card.remarks:
            act = (lambda: self.repaired.emit(True)) if one.offered else None
            remarks.add(one.weight, one.message, "Apply" if one.offered else "", act)
        return remarks
