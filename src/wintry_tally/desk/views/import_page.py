"""Importing a log, or several files that are one: what was detected, a preview, every part of it open to correction."""

from __future__ import annotations

import json
import re
from dataclasses import asdict, replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QTimer
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QHeaderView,
    QProgressBar,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from wintry_tally.book.records import plain_of, read_as
from wintry_tally.core.analysis import Instrument, Options
from wintry_tally.core.analysis.derivation import charge_working, energy_working, mean_voltage_working
from wintry_tally.core.battery import Sample
from wintry_tally.core.errors import WintryError
from wintry_tally.core.protocol.kinds import TEST_KINDS
from wintry_tally.core.quantity import Accuracy, format_duration, parse_accuracy
from wintry_tally.core.verdict.evidence import ASKED_ABOUT, likely_method
from wintry_tally.desk.background import Job
from wintry_tally.desk.importing import Looked, Unread, keep, look, shape_key
from wintry_tally.desk.session import Session
from wintry_tally.desk.theme.style import colour
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.line_number import LineNumber
from wintry_tally.desk.widgets.parts import button, card, chooser, column, fields_above, label, named, row, scrolling
from wintry_tally.desk.widgets.quantity_field import QuantityField, TypedField
from wintry_tally.exchange.layout import DELIMITER_WORDS, Choices, Layout
from wintry_tally.report.curve import discharge_curve

FIELD_WORDS = (
    ("", "not used"),
    ("time", "time"),
    ("date", "date"),
    ("voltage", "voltage"),
    ("current", "current"),
    ("temperature", "temperature"),
    ("counter_Ah", "counter Ah"),
    ("counter_Wh", "counter Wh"),
    ("power", "power"),
    ("charge_state", "gauge %"),
    ("frame", "frame number"),
    ("channel", "channel"),
    ("state", "charge or not"),
)
TIMES_IN = (("as found", ""), ("seconds", "s"), ("minutes", "min"), ("hours", "h"), ("days", "d"), ("milliseconds", "ms"))  # fmt: skip
SIGNS = (("found by itself", "auto"), ("discharge is +", "+"), ("discharge is −", "-"))
VOLTS_AT = (("not said", ""), ("the battery's terminals", "terminals"), ("the load", "load"))
PREVIEW_ROWS = 4
SHELL_MEND = re.compile(r"(name|choose) (?:it|the column|another) with --map \w+=COLUMN(?:; the columns are: .*)?")
"""How the shell is told to name a column; here it is chosen."""


def told_here(text: str) -> str:
    """What is refused, with what to do about it on this page instead of in the shell."""
    return SHELL_MEND.sub("choose it above its column", text).replace("with --interval", "under “Frame every”")


class ImportPage(StationView):
    """One file at a time."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._paths: tuple[Path, ...] = ()
        self._known = False
        self._choices = Choices()
        self._looked: Looked | None = None
        self._job: Job | None = None
        self._asked = 0
        self._filling = self._keeping = False
        self._header_found = -2
        self.title = label("", "heading")
        self.problem = label("", "problem", wrap=True)
        self.progress = QProgressBar()
        self.progress.setRange(0, 100)
        self.progress.setMaximumHeight(16)
        self.cancel = button("Cancel", self._cancel)
        self._back = button("Back", lambda: self.go.emit(""))
        self._make_choices()
        self._test_chosen = False
        self.interval = QuantityField("Seconds from frame to frame", "duration", "if it has no clock")
        self.interval.line.setFixedWidth(130)
        self.interval.committed.connect(lambda _value: self._chosen())
        self.volts_at = chooser("Where the volts were read", VOLTS_AT)
        for box in (self.delimiter, self.decimal, self.header, self.unit, self.sign, self.channel):
            box.activated.connect(self._chosen)
        self.preview = QTableWidget(0, 0)
        self.preview.setAccessibleName("Preview")
        self.preview.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.preview.setTabKeyNavigation(False)
        self.preview.verticalHeader().hide()
        self.preview.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.preview.setFixedHeight(30 * (PREVIEW_ROWS + 2) + 12)
        self.problem.hide()
        self._boxes: list[QComboBox] = []
        self.accuracy_V = TypedField(
            "Instrument's voltage accuracy", parse_accuracy, lambda a: f"= {a}", "0.5% + 2 digits"
        )
        self.accuracy_A = TypedField("Instrument's current accuracy", parse_accuracy, lambda a: f"= {a}", "1% + 0.01")
        self.cutoff = QuantityField("Set cut-off", "voltage", "if one was set")
        self.ambient = QuantityField("Ambient", "temperature", "if noted")
        for field in (self.accuracy_V, self.accuracy_A, self.cutoff, self.ambient):
            field.committed.connect(lambda _value: self._look())
        self.volts_at.activated.connect(self._look)
        self.summary = label("", wrap=True)
        self.charge, self.energy, self.mean = Figure("Charge"), Figure("Energy"), Figure("Mean voltage")
        for figure in (self.charge, self.energy, self.mean):
            figure.opened.connect(self.opened)
        self.remarks = FindingList()
        self.curve = Curve("Voltage against charge", "charge drawn / Ah", "voltage / V")
        self.curve.setFixedHeight(190)
        self.repair = QCheckBox("Apply what is offered; the readings stay as logged")
        self.repair.clicked.connect(lambda _checked: self._look())
        self.keep_button = button("Keep in the book", self.keep, "main")
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(250)
        self._timer.timeout.connect(self._look)
        self._lay_out()

    def _make_choices(self) -> None:
        """What of a file's form may be chosen otherwise than it was found."""
        self.delimiter = chooser("Delimiter", [(words, sign) for sign, words in DELIMITER_WORDS.items()])
        self.decimal = chooser("Decimal mark", (("point", "."), ("comma", ",")))
        self.header = LineNumber()
        self.header.setAccessibleName("Header line")
        self.unit = chooser("Unit of the time", TIMES_IN)
        self.channel = chooser("Channel of the log", ())
        self._channel = named("Channel", self.channel)
        self.sign = chooser("Sign of a discharge", SIGNS)
        self.test = chooser(
            "What kind of test it is the log of", [(one.words, one.method) for one in TEST_KINDS.values()]
        )
        self.test.activated.connect(lambda _index: setattr(self, "_test_chosen", True))

    def _lay_out(self) -> None:
        layout = Flow(gap=3)
        for name, widget in (
            ("Delimiter", self.delimiter),
            ("Decimal mark", self.decimal),
            ("Header is line", self.header),
            ("Time in", self.unit),
            ("Sign", self.sign),
            ("Frame every", self.interval),
            ("It is the log of a", self.test),
        ):
            layout.put(named(name, widget))
        layout.put(self._channel)
        self._channel.hide()
        known = fields_above([
            ("Voltage good to", self.accuracy_V), ("Current good to", self.accuracy_A), ("Cut-off", self.cutoff),
            ("Ambient", self.ambient), ("Volts read at", self.volts_at),
        ], across=5)  # fmt: skip
        figures = Flow(
            named("Charge", self.charge), named("Energy", self.energy), named("Mean voltage", self.mean), gap=5
        )
        self._found = card(
            label("What it holds", "heading"), figures, self.summary, self.remarks, self.repair, self.curve
        )
        working = QWidget()
        working.setLayout(row(self.progress, self.cancel))
        self._working = working
        inner = QWidget()
        body = QVBoxLayout(inner)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(12)
        for part in (
            card(
                row(self.title, None, self._back, self.keep_button),
                self.problem,
                working,
                layout,
                label("Each column's use stands above it; change it where it is wrong.", "small"),
                self.preview,
            ),
            self._found,
            card(label("The instrument it was logged with", "heading"), known),
        ):
            body.addWidget(part)
        body.addStretch(1)
        self.setLayout(column(scrolling(inner)))

    # --- loading ---

    def load(self, *paths: Path) -> None:
        """Look at a file, or at several that are parts of one log, with everything left to detection."""
        self._paths = paths
        self._known = self._test_chosen = False
        self._choices = Choices()
        self._looked = None
        sample = self.session.sample(self.sample_id)
        self.cutoff.set_number(None, most=sample.family.plausible_V[1])
        self.repair.setChecked(False)
        more = f" and {len(paths) - 1} more" if len(paths) > 1 else ""
        self.title.setText(f"{paths[0].name}{more} → {sample.code}")
        self.interval.set_text("")
        self.unit.setCurrentIndex(0)
        self.sign.setCurrentIndex(0)
        self._found.hide()
        self._channel.hide()
        self.preview.setRowCount(0)
        self._look()

    def refresh(self) -> None:
        """Nothing in the book changes what is looked at."""

    def sample_switched(self) -> None:
        """A file belongs to the sample it was looked at for."""
        self._cancel()
        self._paths = ()

    def leave(self) -> None:
        """End work nobody waits for."""
        self._timer.stop()
        self._cancel()

    def _options(self, sample: Sample) -> Options:
        volts, amps = self.accuracy_V.value, self.accuracy_A.value
        return Options(
            family=sample.family,
            rated_Ah=sample.rated_Ah,
            instrument=Instrument(
                volts if isinstance(volts, Accuracy) else None,
                amps if isinstance(amps, Accuracy) else None,
                f"{self.accuracy_V.line.text()}/{self.accuracy_A.line.text()}",
            ),
            cutoff_V=self.cutoff.number,
            ambient_C=self.ambient.number,
            volts_at=self.volts_at.currentData(),
            repair="offered" if self.repair.isChecked() else "safe",
        )

    def _look(self) -> None:
        if not self._paths or not self.session.holds(self.sample_id):
            return
        self._cancel()
        paths, choices, options = self._paths, self._choices, self._options(self.session.sample(self.sample_id))
        self.problem.hide()
        self.keep_button.setEnabled(False)
        self._working.show()
        self.progress.setValue(0)
        self._asked = asked = self._asked + 1
        self._job = self.session.workshop.start(
            lambda job: look(paths, choices, options, job),
            lambda found: self._seen(found) if asked == self._asked else None,
            lambda text: self._failed(text) if asked == self._asked else None,
        )
        self._job.progress.connect(self._told_share)

    def _told_share(self, share: float) -> None:
        """How far it is; a method, so that nothing is told once the page is gone."""
        self.progress.setValue(int(100 * share))

    def _cancel(self) -> None:
        if self._job is not None:
            self._job.cancel()
            self._asked += 1  # what it may still deliver is out of date
            self._job = None
        self._working.hide()

    def _refused(self, unread: Unread) -> None:
        """Its columns can be chosen in the preview, or are known from before."""
        if unread.layout is not None and self._remembered(unread.layout):
            return
        self._failed(unread.problem)
        if unread.layout is not None:
            self._fill_layout(unread.layout)

    def _failed(self, text: str) -> None:
        self._working.hide()
        self.problem.setText(told_here(text))
        self.problem.show()
        self._looked = None
        self._found.hide()

    def _seen(self, looked: Looked | Unread) -> None:
        self._working.hide()
        if isinstance(looked, Unread):
            self._refused(looked)
            return
        self.problem.hide()
        self._looked = looked
        if self._remembered(looked.log.layout):
            return
        if not self._test_chosen:
            likely = likely_method(looked.analysis)
            self.test.setCurrentIndex(self.test.findData(likely))
        self._fill_layout(looked.log.layout)
        self._fill_channels(looked.log.channels)
        self._fill_found(looked)
        self.keep_button.setEnabled(True)
        holder = QApplication.focusWidget()
        if holder is None or holder is self._back or not self.isAncestorOf(holder):
            self.keep_button.setFocus()  # Enter keeps it, unless somebody is correcting something here

    def _fill_channels(self, channels: tuple[str, ...]) -> None:
        """Offer the channels of a log that holds several; the first is read where none was chosen."""
        self._channel.setVisible(bool(channels))
        self.channel.clear()
        self.channel.addItems(channels)
        self.channel.setCurrentIndex(max(0, self.channel.findText(self._choices.channel)))

    def _fill_layout(self, layout: Layout) -> None:
        self._filling = True
        self._header_found = layout.header_line
        self.delimiter.setCurrentIndex(max(0, self.delimiter.findData(layout.delimiter)))
        self.decimal.setCurrentIndex(max(0, self.decimal.findData(layout.decimal)))
        self.header.setValue(max(1, layout.header_line + 1))
        text_file = layout.encoding != "parquet"
        for widget in (self.delimiter, self.decimal, self.header):
            widget.setEnabled(text_file)
        self.preview.clear()
        self.preview.setColumnCount(len(layout.headers))
        rows = layout.sample[:PREVIEW_ROWS]
        self.preview.setRowCount(len(rows) + 1)
        self.preview.setHorizontalHeaderLabels(
            [header.text or f"column {i + 1}" for i, header in enumerate(layout.headers)]
        )
        self._boxes = []
        used = {index: field for field, index in layout.columns.items()}
        beside = {index for index, _ in layout.beside.values()}
        for index in range(len(layout.headers)):
            box = QComboBox()
            box.setAccessibleName(f"Use of column {layout.headers[index].text or index + 1}")
            for key, words in FIELD_WORDS:
                box.addItem(words, key)
            if index in beside:
                box.setItemText(0, "kept beside")
            if index == layout.opposite:
                box.setItemText(0, "the other way")
            box.setCurrentIndex(max(0, box.findData(used.get(index, ""))))
            box.activated.connect(self._columns_chosen)
            self._boxes.append(box)
            self.preview.setCellWidget(0, index, box)
            for line, cells in enumerate(rows, 1):
                item = QTableWidgetItem(cells[index] if index < len(cells) else "")
                if index not in used:
                    item.setForeground(QColor(colour("quiet")))
                self.preview.setItem(line, index, item)
        self.preview.setRowHeight(0, 34)
        self._filling = False

    def _fill_found(self, looked: Looked) -> None:
        analysis, log = looked.analysis, looked.log
        test, instrument = analysis.capacity, analysis.options.instrument
        usual_s, span = analysis.scale.usual_s, format_duration(float(analysis.trace.time_s[-1]))
        kinds = ", ".join(
            f"{result.stage.kind.value} {format_duration(result.end_s - result.start_s)}"
            for result in analysis.stages[:8]
        )
        more = "" if len(analysis.stages) <= 8 else f" and {len(analysis.stages) - 8} more stages"
        started = f", begun {log.started:%Y-%m-%d %H:%M} UTC" if log.started else ""
        self.summary.setText(
            f"{log.rows} rows over {span}{started}, one every {format_duration(usual_s) if usual_s >= 60.0 else f'{usual_s:.3g} s'}; discharge is "
            f"{log.discharge_sign.replace('-', '−')}. {kinds.capitalize()}{more}."
        )
        if test is not None:
            readings = analysis.readings_counted
            self.charge.set_quantity(test.count.charge, lambda: charge_working(test.count, instrument, readings))
            self.energy.set_quantity(test.count.energy, lambda: energy_working(test.count, instrument, readings))
            family = analysis.options.family
            self.mean.set_quantity(
                test.count.mean_voltage, lambda: mean_voltage_working(test.count, family.mean_V if family else None)
            )
        else:
            for figure in (self.charge, self.energy, self.mean):
                figure.set_quantity(None)
        self.remarks.reset()
        self.repair.setVisible(any(remark.code in ASKED_ABOUT for remark in analysis.remarks))
        for remark in (*log.remarks, *analysis.remarks):
            place = f" ({remark.place})" if remark.place else ""
            offer = f" Offer: {remark.offer}." if remark.offer else ""
            self.remarks.add("warning" if remark.offer else "note", remark.message + place + offer)
        curve = discharge_curve(analysis)
        self.curve.setVisible(curve is not None)
        if curve is not None:
            self.curve.show_curves([("", *curve)])
        self._found.show()

    # --- what was set for this device's logs before ---

    def _remembered(self, layout: Layout) -> bool:
        """Whether logs of this shape were corrected before: then the same is set again, and looked at once more."""
        if self._known:
            return False
        self._known = True
        with self.session.guard():
            kept = self.session.book.meta(shape_key(layout))
            if not kept:
                return False
            with read_as("what was set for this device's logs"):
                data = plain_of(kept)
                self._choices = Choices(**data["choices"])
                data["voltage"], data["current"]
            for field, text in ((self.accuracy_V, data["voltage"]), (self.accuracy_A, data["current"])):
                if text and not field.line.text():
                    field.set_text(text)
            self.unit.setCurrentIndex(max(0, self.unit.findData(self._choices.time_unit or "")))
            self.volts_at.setCurrentIndex(max(0, self.volts_at.findData(data.get("volts_at", ""))))
            self.sign.setCurrentIndex(max(0, self.sign.findData(self._choices.discharge_sign)))
            self.session.said.emit("Set as for this device's logs before; change what is wrong.")
            self._look()
            return True
        return False

    def _of_device(self) -> dict[str, Any]:
        """What is set here, for the next log of this shape."""
        return {
            "choices": asdict(replace(self._choices, interval_s=None, channel="")),
            "voltage": self.accuracy_V.line.text() if self.accuracy_V.value else "",
            "current": self.accuracy_A.line.text() if self.accuracy_A.value else "",
            "volts_at": self.volts_at.currentData(),
        }

    # --- choosing ---

    def _chosen(self, *_: object) -> None:
        if self._filling:
            return
        header = self.header.value() - 1
        found = self._header_found
        self._choices = replace(
            self._choices,
            delimiter=self.delimiter.currentData(),
            decimal=self.decimal.currentData(),
            header_line=header if self._choices.header_line is not None or header != found else None,
            time_unit=self.unit.currentData() or None,
            discharge_sign=self.sign.currentData(),
            interval_s=self.interval.number,
            channel=self.channel.currentText() if self._channel.isVisibleTo(self) else "",
        )
        self._timer.start()

    def _columns_chosen(self) -> None:
        if self._filling:
            return
        chosen: dict[str, str] = {key: "" for key, _ in FIELD_WORDS if key}
        for index, box in enumerate(self._boxes):
            if box.currentData():
                chosen[box.currentData()] = str(index + 1)
        self._choices = replace(self._choices, columns=chosen)
        self._timer.start()

    # --- keeping ---

    def keep(self) -> None:
        """Keep the log as a run: the readings as read, the file's own bytes beside them."""
        if self._looked is None or not self._paths or self._keeping:
            return
        looked, paths, device = self._looked, self._paths, json.dumps(self._of_device())
        kind = TEST_KINDS[str(self.test.currentData())]
        sample, book = self.session.sample(self.sample_id), self.session.book
        self._paths, self._keeping = (), True
        self.keep_button.setEnabled(False)
        self.session.said.emit(f"keeping {paths[0].name}…")
        # in its turn among the edits: it is waited for when the book is closed
        self.session.open.ask(
            lambda: keep(book, sample, kind, looked, paths, device), partial(self._kept, sample.id, paths, kind.station)
        )

    def _kept(self, sample_id: int, paths: tuple[Path, ...], station: str, raised: BaseException | None) -> None:
        self._keeping = False
        here = sample_id == self.sample_id and not self._paths
        if raised is None:
            self.session.said.emit(f"{paths[0].name} is kept in the book.")
            if here:
                self.go.emit("" if station == "capacity" else station)
            return
        if not isinstance(raised, WintryError):
            raise raised
        self.session.failed.emit(str(raised))
        if here:
            self._paths = paths  # it can be tried again
            self.keep_button.setEnabled(True)

    def theme_changed(self) -> None:
        """The curve follows."""
        self.curve.theme_changed()
