"""What the batteries compared are for: needs typed, held against each of them, and how the voltage goes under one."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QLineEdit, QWidget

from wintry_tally.core.errors import WintryError
from wintry_tally.core.quantity import format_quantity
from wintry_tally.desk.preferences import shown
from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, row

if TYPE_CHECKING:
    from wintry_tally.core.compare import NeedResult

HINT = "mast: logger 0.85 A down to 11.4 V; radio 12 W 5 %; 120 h at -10 °C"


class NeedCard(QWidget):
    """The needs of the book. `opened` carries a working; `asked`: the needs are others now, hold the batteries against them."""

    opened = Signal(object)
    asked = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._shown_need = ""
        self._needs = column(gap=1)
        self.line = QLineEdit()
        self.line.setPlaceholderText(shown(HINT))
        self.line.setAccessibleName("A need: what is to be run, for how long, how cold")
        self.line.returnPressed.connect(self.add)
        self.problem = label("", "problem", wrap=True)
        self.problem.hide()
        self.things = QComboBox()
        self.things.setAccessibleName("A thing that draws, put into the need")
        self.things.setMinimumContentsLength(22)
        self.things.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.things.activated.connect(self._put_in)
        self._changing = ""
        self.course = Curve("Voltage under a need", "time / h", "voltage / V")
        self.course.setFixedHeight(230)
        self.course_told = label("", "small", wrap=True)
        whole = card(
            label("What it is for", "heading"),
            label("A need, held against each of them by batteries that fit its own discharges.", "small", wrap=True),
            Flow(self.line, self.things, button("Hold against it", self.add), fills=True), self.problem, self._needs,
            self.course_told, self.course,
        )  # fmt: skip
        self.setLayout(column(whole))
        self.course.hide()
        self.course_told.hide()

    def show_results(self, results: list[NeedResult]) -> None:
        """What each battery does under each need."""
        from wintry_tally.app.comparison import need_working
        from wintry_tally.core.compare.typed_need import kept_needs
        from wintry_tally.report.words import bill_lines, need_line

        clear(self._needs)
        self._fill_things()
        by_need: dict[str, list[NeedResult]] = {}
        unread = kept_needs(self.session.needs)[1]
        for text in self.session.needs:
            name = text.partition(":")[0].strip()
            own = by_need[text] = [
                one for one in results if one.need == name or (":" not in text and one.need == "need")
            ]
            keys = [
                button(
                    "Course",
                    partial(self.show_course, text, own),
                    "link",
                    f"How the voltage goes under the need: {name}",
                ),
                button("Change", partial(self.change, text), "link", f"Change the need: {name}"),
                button("Take it off", partial(self.remove, text), "link", f"Take off the need: {name}"),
            ]
            line = row(label(text, "", wrap=True), *keys)
            line.setStretch(0, 1)
            self._needs.addLayout(line)
            if text in unread:
                self._needs.addWidget(label(unread[text], "problem"))
            for one in own:
                told = row(label(need_line(one), "small", wrap=True))
                told.setStretch(0, 1)
                if one.steps:
                    show = partial(self.opened.emit, need_working(one))
                    told.addWidget(button("Working", show, "link", f"Working: {one.need} on {one.code}"))
                self._needs.addLayout(told)
            for words in bill_lines(own):
                self._needs.addWidget(label(words, "small", wrap=True))
        first = next((text for text, own in by_need.items() if own), "")
        shown = self._shown_need if self._shown_need in by_need else first
        self.show_course(shown, by_need.get(shown, []))

    def _fill_things(self) -> None:
        from wintry_tally.app.comparison import things_that_draw

        things = ["add a thing that draws…", *things_that_draw(self.session.needs)]
        if [self.things.itemText(n) for n in range(self.things.count())] != things:
            self.things.clear()
            self.things.addItems(things)

    def _put_in(self, index: int) -> None:
        """What was chosen goes into the line; the keyboard with it."""
        from wintry_tally.core.compare.typed_need import with_device

        if index > 0:
            try:
                self.line.setText(with_device(self.line.text(), self.things.itemText(index)))
            except WintryError as error:
                self._tell(str(error))
        self.things.setCurrentIndex(0)
        self.line.setFocus()

    def show_course(self, text: str, results: list[NeedResult]) -> None:
        """How the voltage under load goes, hour by hour, of the batteries that fit each; where a device drops out."""
        from wintry_tally.core.compare.typed_need import parse_need

        self._shown_need = text
        known = [one for one in results if one.course]
        self.course.setVisible(bool(known))
        self.course_told.setVisible(bool(known))
        if not known:
            return
        import numpy as np

        need = parse_need(text)
        series = []
        for one in known:
            hours, _, middle, _ = np.array(one.course).T
            series.append((one.code, hours, middle))
        lines = [("x", need.hours, f"asked: {need.hours:g} h")]
        lines += [("y", device.least_V, f"{device.name} drops out") for device in need.devices if device.least_V]
        self.course.show_curves(series, None, lines)
        ends = [f"{one.code} {format_quantity(one.hours)}" for one in known if one.hours is not None and not one.bound]
        until = f" It ends at {', '.join(ends)}." if ends else " None of them ends within twice the hours asked."
        self.course_told.setText(f"{need.name}: voltage under load of half of the batteries that fit each.{until}")

    def add(self) -> None:
        """Keep the need that is typed, and hold the samples against it."""
        from wintry_tally.core.compare.typed_need import need_words, parse_need

        text = self.line.text().strip()
        if not text:
            return
        try:
            made = need_words(parse_need(text))
        except WintryError as error:
            self._tell(str(error))
            return
        self._tell("")
        kept = self.session.needs
        if self._changing in kept:
            words, after = f"change the need to “{made}”", [made if one == self._changing else one for one in kept]
        else:
            words, after = f"add the need “{made}”", [*kept, made]
        if made in kept:
            self.asked.emit()
            return

        def then(done: bool) -> None:
            if done:
                self.line.clear()
                self._changing = ""
            self.asked.emit()

        self.session.set_needs(words, after, then)

    def change(self, text: str) -> None:
        """Put a need back into the line; Enter keeps what it then is in its place."""
        self._changing = text
        self.line.setText(text)
        self.line.setFocus()

    def _tell(self, words: str) -> None:
        self.problem.setText(words)
        self.problem.setVisible(bool(words))

    def remove(self, text: str) -> None:
        """Take a need off; Ctrl+Z brings it back."""
        self.session.set_needs(f"take off the need “{text}”", [one for one in self.session.needs if one != text])
        self.asked.emit()

    def theme_changed(self) -> None:
        """The plot is painted."""
        self.course.theme_changed()
