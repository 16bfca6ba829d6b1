"""The line a reading is typed into: time, voltage, current, counter, temperature; slips caught with an offer."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QWidget

from wintry_tally.bench.hand import HandReading, Slip, parse_moment
from wintry_tally.core.errors import WintryError
from wintry_tally.desk.preferences import unit_name
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.parts import button, clear, column, label
from wintry_tally.desk.widgets.quantity_field import QuantityField, written

Check = Callable[[HandReading], list[Slip]]


class ReadingLine(QWidget):
    """`kept` carries a reading once nothing speaks against it, or the person keeps it as typed.

    `check` finds likely slips; `before` is the time of the reading before, for “+30 min” and for midnight.
    """

    kept = Signal(object)

    def __init__(self, check: Check, before: Callable[[], datetime | None]) -> None:
        super().__init__()
        self._check, self._before = check, before
        self.time = Line()
        self.time.setAccessibleName("Time")
        self.time.setPlaceholderText("now")
        self.volts = QuantityField("Voltage", "voltage", "12.94")
        self.amps = QuantityField("Current", "current", "8.0")
        self.counter = QuantityField("Counter", "charge", "0.00")
        self.warmth = QuantityField("Temperature", "temperature", unit_name("°C"))
        self.note = Line()
        self.note.setAccessibleName("Note")
        self.note.setPlaceholderText("note")
        self.keep = button("Keep reading", self.enter, "main")
        self.slips = FindingList()
        self._offers = QHBoxLayout()
        self._numbers = (self.volts, self.amps, self.counter, self.warmth)
        for line in (*(field.line for field in self._numbers), self.time, self.note):
            line.returnPressed.connect(self.enter)
            line.textEdited.connect(self.reset_slips)
        entry = QHBoxLayout()
        entry.setSpacing(8)
        for name, part, stretch in (
            ("Time", self.time, 2),
            ("Voltage", self.volts, 2),
            ("Current", self.amps, 2),
            ("Counter", self.counter, 2),
            ("Temperature", self.warmth, 2),
            ("Note", self.note, 3),
            (" ", self.keep, 0),
        ):
            holder = QWidget()
            holder.setLayout(column(label(name, "small"), part, gap=0))
            entry.addWidget(holder, stretch, Qt.AlignmentFlag.AlignTop)
        self.setLayout(column(entry, self.slips, self._offers))

    def reset_slips(self) -> None:
        """Nothing is said against what stands here."""
        self.slips.reset()
        clear(self._offers)

    def empty(self) -> None:
        """Ready for the next reading."""
        for field in self._numbers:
            field.set_text("")
        self.time.clear()
        self.note.clear()
        self.reset_slips()

    def complain(self, text: str) -> None:
        """Say why a reading cannot be kept."""
        self.reset_slips()
        self.slips.add("warning", text)

    def reading(self) -> HandReading | None:
        """What is typed, or None with the reason shown."""
        try:
            at = parse_moment(self.time.text(), datetime.now().astimezone(), self._before())
        except WintryError as error:
            self.complain(str(error))
            return None
        if any(field.problem for field in self._numbers):
            return None
        volts, amps, counter, warmth = (field.number for field in self._numbers)
        if volts is None and counter is None and amps is None:
            self.complain("Type a voltage, and the current or the counter.")
            return None
        return HandReading(at, volts, amps, counter, self.note.text().strip(), warmth)

    def enter(self, anyway: bool = False) -> None:
        """Keep the reading; with likely slips, ask first."""
        reading = self.reading()
        if reading is None:
            return
        slips = self._check(reading)
        never = next((slip for slip in slips if not slip.may_be), None)
        if never is not None:
            self.complain(never.message)
        elif slips and not anyway:
            self._offer(slips)
        else:
            self.kept.emit(reading)

    def _offer(self, slips: list[Slip]) -> None:
        self.reset_slips()
        fields = {"voltage": self.volts, "current": self.amps, "counter": self.counter}
        for slip in slips:
            self.slips.add("warning", f"{slip.field.capitalize()}: {slip.message}")
            if slip.offered is not None and slip.field in fields:
                field, value = fields[slip.field], slip.offered

                def take(target: QuantityField = field, number: float = value) -> None:
                    target.line.setText(f"{number:g}")
                    self.reset_slips()
                    target.line.setFocus()

                unit = {"voltage": "V", "current": "A", "counter": "Ah"}[slip.field]
                self._offers.addWidget(button(f"Use {written(value, unit)}", take))
        self._offers.addWidget(button("Keep as typed", lambda: self.enter(anyway=True)))
        self._offers.addStretch(1)
