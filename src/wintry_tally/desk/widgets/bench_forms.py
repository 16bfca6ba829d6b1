"""The forms of the Bench page: an instrument with its limits and accuracies, a channel with who does what on it."""

from __future__ import annotations

import re
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QWidget

from wintry_tally.bench.connect import dialect_for
from wintry_tally.bench.drivers.dialect import dialect_named, shipped_dialects
from wintry_tally.bench.equipment import ADDRESS_HINTS, KINDS, WAYS, ChannelSpec, Equipment, Instrument, checked
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.leads import KCMIL_MM2, Leads, ampacity_A
from wintry_tally.core.quantity import Accuracy, parse_accuracy
from wintry_tally.core.quantity.wires import awg_area_mm2
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.parts import button, column, fields_above, label, narrow, row
from wintry_tally.desk.widgets.quantity_field import QuantityField, TypedField

OWN = "a file of one's own"
"""What is chosen to name a dialect file."""


def read_area(text: str) -> float:
    """A cross-section as people write it: "6 mm²", "6", "AWG 10", "AWG 2/0", "250 kcmil".

    Raises:
        InputError: it is none.
    """
    match = re.fullmatch(r"\s*awg\s*(\d{1,2})(/0)?\s*", text, re.IGNORECASE)
    if match is not None:
        return awg_area_mm2(1 - int(match[1]) if match[2] else int(match[1]))
    match = re.fullmatch(r"\s*(\d+)\s*kcmil\s*", text, re.IGNORECASE)
    if match is not None:
        return int(match[1]) * KCMIL_MM2
    match = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*(?:mm2|mm²)?\s*", text)
    if match is None:
        raise InputError(f'"{text}" is no cross-section', mend="write it like “6 mm²” or “AWG 10”")
    return float(match[1].replace(",", "."))


class InstrumentForm(QWidget):
    """The fields of one instrument; `kept` carries it once they are in order."""

    kept = Signal(object)
    cancelled = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.name = Line()
        self.name.setAccessibleName("Instrument's name")
        self.name.setPlaceholderText("what you call it")
        self.kind, self.way, self.dialect = QComboBox(), QComboBox(), QComboBox()
        for box, words in ((self.kind, "What it is"), (self.way, "How it is spoken to"), (self.dialect, "Dialect")):
            box.setAccessibleName(words)
        for key, words in KINDS.items():
            self.kind.addItem(words, key)
        for key, words in WAYS.items():
            self.way.addItem(words, key)
        narrow(self.kind, self.dialect)
        self.way.activated.connect(self._way_chosen)
        self.dialect.activated.connect(self._dialect_chosen)
        self.address = Line()
        self.address.setAccessibleName("Address")
        self.power = QuantityField("Power ceiling", "power", "if it has one")
        self.current = QuantityField("Current ceiling", "current", "if it has one")
        self.voltage = QuantityField("Voltage ceiling", "voltage", "if it has one")
        self.accuracy_V = TypedField("Voltage accuracy", parse_accuracy, lambda a: f"= {a}", "0.1% + 2 digits")
        self.accuracy_A = TypedField("Current accuracy", parse_accuracy, lambda a: f"= {a}", "0.5% + 0.002")
        self.digit_V = QuantityField("Last digit of the voltage", "voltage", "1 mV")
        self.digit_A = QuantityField("Last digit of the current", "current", "1 mA")
        self.turned = QCheckBox("its current has the other sign")
        self.own_cutoff = QCheckBox("it stops by itself at its cut-off; I have seen it")
        self.kind.activated.connect(self._kind_chosen)
        self.problem = label("", "problem", wrap=True)
        self.problem.hide()
        fields: tuple[tuple[str, QWidget], ...] = (
            ("Name", self.name), ("It is a", self.kind), ("Spoken to by", self.way), ("Dialect", self.dialect),
            ("Address", self.address), ("At most", self.power), ("At most", self.current), ("At most", self.voltage),
            ("Voltage good to", self.accuracy_V), ("Last digit", self.digit_V), ("Current good to", self.accuracy_A),
            ("Last digit", self.digit_A),
        )  # fmt: skip
        keys = row(None, button("Cancel", self.cancelled.emit), button("Keep the instrument", self.keep, "main"))
        self.setLayout(column(fields_above(fields), Flow(self.turned, self.own_cutoff, gap=6), self.problem, keys))

    def show_instrument(self, made: Instrument) -> None:
        """Fill the fields in."""
        self.problem.hide()
        self.name.setText(made.name)
        self.kind.setCurrentIndex(self.kind.findData(made.kind))
        self.way.setCurrentIndex(self.way.findData(made.way))
        self._way_chosen()
        self._choose_dialect(made.dialect)
        self.address.setText(made.address)
        for field, value in (
            (self.power, made.power_W),
            (self.current, made.current_A),
            (self.voltage, made.voltage_V),
        ):
            field.set_number(value or None)
        self.accuracy_V.set_text(made.voltage_accuracy)
        self.accuracy_A.set_text(made.current_accuracy)
        self.digit_V.set_text(f"{1000 * made.voltage_resolution:g} mV")
        self.digit_A.set_text(f"{1000 * made.current_resolution:g} mA")
        self.turned.setChecked(made.turned)
        self.own_cutoff.setChecked(made.own_cutoff)
        self._kind_chosen()

    def _kind_chosen(self) -> None:
        self.own_cutoff.setVisible(self.kind.currentData() == "load")

    def _way_chosen(self) -> None:
        way = self.way.currentData()
        self.dialect.clear()
        for name, dialect in shipped_dialects().items():
            if dialect.kind == way:
                self.dialect.addItem(dialect.title, name)
        self.dialect.addItem("one of your own, in a file…", OWN)
        self.address.setPlaceholderText(ADDRESS_HINTS[way])

    def _choose_dialect(self, name: str) -> None:
        """A shipped one by its name; one's own by its path stays what it is."""
        place = self.dialect.findData(name)
        if place < 0 and name.endswith(".toml"):
            place = self.dialect.count() - 1
            self.dialect.insertItem(place, Path(name).name, name)
            self.dialect.setItemData(place, name, Qt.ItemDataRole.ToolTipRole)
        self.dialect.setCurrentIndex(max(0, place))

    def _dialect_chosen(self) -> None:
        if self.dialect.currentData() != OWN:
            return
        name, _ = QFileDialog.getOpenFileName(self, "A dialect of your own", "", "Dialects (*.toml)")
        self.take_dialect(name)

    def take_dialect(self, name: str) -> None:
        """A dialect file, checked whole; what is wrong with it is said beneath the fields."""
        self.problem.hide()
        self.dialect.setCurrentIndex(0)
        if not name:
            return
        try:
            found = dialect_named(name)
            if found.kind != self.way.currentData():
                raise InputError(f"{Path(name).name} is for {WAYS[found.kind]}", mend="choose that way first")
            self._choose_dialect(name)
        except InputError as error:
            self.problem.setText(str(error))
            self.problem.show()

    def keep(self) -> None:
        """Check, and hand over; what cannot be is said beneath the fields."""
        fields = (self.power, self.current, self.voltage, self.accuracy_V, self.accuracy_A, self.digit_V, self.digit_A)
        try:
            wrong = next((field.problem for field in fields if field.problem), "")
            if wrong:
                raise InputError(wrong)
            if self.dialect.currentData() == OWN:
                raise InputError("no dialect is chosen", mend="choose one, or a file of your own")
            made = checked(
                Instrument(
                    self.name.text().strip(),
                    str(self.kind.currentData()),
                    str(self.way.currentData()),
                    str(self.dialect.currentData()),
                    self.address.text().strip(),
                    self.power.number or 0.0,
                    self.current.number or 0.0,
                    self.voltage.number or 0.0,
                    _accuracy_text(self.accuracy_V),
                    _accuracy_text(self.accuracy_A),
                    self.digit_V.number or 0.001,
                    self.digit_A.number or 0.001,
                    self.turned.isChecked(),
                    self.own_cutoff.isChecked() and self.kind.currentData() == "load",
                )
            )
        except InputError as error:
            self.problem.setText(str(error))
            self.problem.show()
            return
        try:
            dialect_for(made)
        except InputError as error:
            self.problem.setText(str(error))
            self.problem.show()
            return
        self.kept.emit(made)


def _accuracy_text(field: TypedField) -> str:
    return field.line.text().strip() if isinstance(field.value, Accuracy) else ""


class ChannelForm(QWidget):
    """Who does what on a channel, and its leads; `kept` carries it."""

    kept = Signal(object)
    cancelled = Signal()

    ROLES = (
        ("load", "draws", ("load",)),
        ("charger", "charges", ("charger",)),
        ("voltage", "voltage from", ("meter", "load", "charger")),
        ("current", "current from", ("meter", "load", "charger")),
        ("thermometer", "temperature from", ("thermometer", "meter")),
        ("second", "second meter", ("meter", "load", "charger")),
        ("telemetry", "the pack tells by", ("telemetry",)),
    )

    def __init__(self) -> None:
        super().__init__()
        self.name = Line()
        self.name.setAccessibleName("Channel's name")
        self.name.setPlaceholderText("like “1” or “left”")
        self.boxes: dict[str, QComboBox] = {}
        self.area = TypedField("Cross-section of the leads", read_area, lambda a: f"= {a:.3g} mm²", "6 mm² or AWG 10")
        self.length = QuantityField("Length of the leads, one way", "length", "1.5 m")
        self.sensed = QCheckBox("the voltage is read at the battery itself")
        self.sensed.setChecked(True)
        self.warmth = label("", "small", wrap=True)
        self.problem = label("", "problem", wrap=True)
        self.problem.hide()
        self._equipment = Equipment()
        parts: list[tuple[str, QWidget]] = [("Name", self.name)]
        for key, words, _ in self.ROLES:
            box = self.boxes[key] = QComboBox()
            box.setAccessibleName(f"Which {words}")
            narrow(box)
            box.activated.connect(self._say_warmth)
            parts.append((words.capitalize(), box))
        parts += [("Leads", self.area), ("One way", self.length)]
        for field in (self.area, self.length):
            field.line.textChanged.connect(lambda _t: self._say_warmth())
        self.sensed.clicked.connect(lambda _c: self._say_warmth())
        keys = row(None, button("Cancel", self.cancelled.emit), button("Keep the channel", self.keep, "main"))
        self.setLayout(column(fields_above(parts), self.sensed, self.warmth, self.problem, keys))

    def show_channel(self, made: ChannelSpec, equipment: Equipment) -> None:
        """Fill the fields in."""
        self._equipment = equipment
        self.problem.hide()
        self.name.setText(made.name)
        for key, _, kinds in self.ROLES:
            box = self.boxes[key]
            box.clear()
            box.addItem("–" if key != "current" else "load's and charger's own", "")
            for instrument in equipment.instruments:
                if instrument.kind in kinds:
                    box.addItem(instrument.name, instrument.name)
            box.setCurrentIndex(max(0, box.findData(getattr(made, key))))
        leads = made.leads
        self.area.set_text("" if leads is None else f"{leads.area_mm2:.4g} mm²")
        self.length.set_text("" if leads is None else f"{leads.length_m:g} m")
        self.sensed.setChecked(leads is None or leads.sensed)
        self._say_warmth()

    def _leads(self) -> Leads | None:
        area, length = self.area.value, self.length.number
        if not isinstance(area, float) or length is None:
            return None
        return Leads(area, length / 1000.0, self.sensed.isChecked())

    def _say_warmth(self) -> None:
        try:
            leads = self._leads()
        except InputError as error:
            self.warmth.setText(str(error))
            return
        if leads is None:
            self.warmth.setText("")
            return
        name = self.boxes["load"].currentData()
        amps = (self._equipment.instrument(name).current_A if name else 0.0) or ampacity_A(leads.area_mm2)
        self.warmth.setText(
            f"At {amps:g} A these leads keep {1000 * leads.drop_V(amps):.0f} mV and get {leads.rise_K(amps):.0f} K warmer "
            f"than the air; they may carry {ampacity_A(leads.area_mm2):g} A (local codes rule)."
        )

    def keep(self) -> None:
        """Check, and hand over; what cannot be is said beneath the fields."""
        try:
            wrong = self.area.problem or self.length.problem
            if wrong:
                raise InputError(wrong)
            if not self.name.text().strip():
                raise InputError("a channel needs a name", mend="any name you would call it by")
            chosen = {key: str(box.currentData() or "") for key, box in self.boxes.items()}
            made = ChannelSpec(self.name.text().strip(), **chosen, leads=self._leads())
            self._equipment.meter_of(made)
            if made.second and made.second in {made.voltage, made.current}:
                raise InputError("the second meter is the first one again", mend="choose another")
        except InputError as error:
            self.problem.setText(str(error))
            self.problem.show()
            return
        self.kept.emit(made)
