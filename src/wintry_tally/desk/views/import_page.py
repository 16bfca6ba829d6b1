"""Importing a log: what was detected, a preview, every part of it open to correction, and what it will count."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QProgressBar,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from wintry_tally.book import RunSettings, RunStatus
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse
from wintry_tally.core.analysis.derivation import charge_working, energy_working, mean_voltage_working
from wintry_tally.core.battery import Sample
from wintry_tally.core.quantity import Accuracy, format_duration, parse_accuracy
from wintry_tally.core.verdict.evidence import ALTERS
from wintry_tally.desk.background import Job
from wintry_tally.desk.session import Session
from wintry_tally.desk.theme.style import colour
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.parts import button, card, column, label, row, scrolling
from wintry_tally.desk.widgets.quantity_field import QuantityField, TypedField
from wintry_tally.exchange.layout import DELIMITER_WORDS, Choices
from wintry_tally.exchange.reader import LogFile, file_bytes, read_log
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
)
PREVIEW_ROWS = 4


@dataclass(frozen=True)
class Looked:
    """A log read and analysed with some choices."""

    log: LogFile
    analysis: Analysis


def look(path: Path, choices: Choices, options: Options, job: Job) -> Looked:
    """Read and analyse; can be cancelled between the two and within the second."""
    job.tell(0.05)
    log = read_log(path, choices)
    job.tell(0.6)
    return Looked(log, analyse(log.trace, options, lambda share: job.tell(0.6 + 0.4 * share)))


class LineNumber(QComboBox):
    """Which line of the file holds the header, from 1."""

    def __init__(self) -> None:
        super().__init__()
        self.addItems([str(number) for number in range(1, 61)])

    def value(self) -> int:
        """The line chosen."""
        return self.currentIndex() + 1

    def setValue(self, number: int) -> None:
        """Show a line; lines beyond the list are added to it."""
        while self.count() < number:
            self.addItem(str(self.count() + 1))
        self.setCurrentIndex(max(0, number - 1))


class ImportPage(StationView):
    """One file at a time."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._path: Path | None = None
        self._choices = Choices()
        self._looked: Looked | None = None
        self._job: Job | None = None
        self._filling = False
        self.title = label("", "heading")
        self.problem = label("", "problem", wrap=True)
        self.progress = QProgressBar()
        self.progress.setRange(0, 100)
        self.progress.setMaximumHeight(16)
        self.cancel = button("Cancel", self._cancel)
        self.delimiter = QComboBox()
        self.delimiter.setAccessibleName("Delimiter")
        for sign, words in DELIMITER_WORDS.items():
            self.delimiter.addItem(words, sign)
        self.decimal = QComboBox()
        self.decimal.setAccessibleName("Decimal mark")
        self.decimal.addItem("point", ".")
        self.decimal.addItem("comma", ",")
        self.header = LineNumber()
        self.header.setAccessibleName("Header line")
        self.unit = QComboBox()
        self.unit.setAccessibleName("Unit of the time")
        for words, key in (
            ("as found", ""),
            ("seconds", "s"),
            ("minutes", "min"),
            ("hours", "h"),
            ("milliseconds", "ms"),
        ):
            self.unit.addItem(words, key)
        self.sign = QComboBox()
        self.sign.setAccessibleName("Sign of a discharge")
        for words, key in (("found by itself", "auto"), ("discharge is +", "+"), ("discharge is −", "-")):
            self.sign.addItem(words, key)
        for box in (self.delimiter, self.decimal, self.header, self.unit, self.sign):
            box.activated.connect(self._chosen)
        self.preview = QTableWidget(0, 0)
        self.preview.setAccessibleName("Preview")
        self.preview.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.preview.setTabKeyNavigation(False)
        self.preview.verticalHeader().hide()
        self.preview.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.preview.horizontalHeader().setStretchLastSection(True)
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
        self.summary = label("", wrap=True)
        self.charge, self.energy, self.mean = Figure("Charge"), Figure("Energy"), Figure("Mean voltage")
        for figure in (self.charge, self.energy, self.mean):
            figure.opened.connect(self.opened)
        self.remarks = FindingList()
        self.curve = Curve("Voltage against charge", "charge drawn / Ah", "voltage / V")
        self.curve.setFixedHeight(190)
        self.repair = QCheckBox("Apply what is offered (the readings stay as logged; it can be taken back)")
        self.repair.clicked.connect(lambda _checked: self._look())
        self.keep_button = button("Keep in the book", self.keep, "main")
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(250)
        self._timer.timeout.connect(self._look)
        self._lay_out()

    def _lay_out(self) -> None:
        layout = QHBoxLayout()
        layout.setSpacing(10)
        for name, widget in (
            ("Delimiter", self.delimiter),
            ("Decimal mark", self.decimal),
            ("Header is line", self.header),
            ("Time in", self.unit),
            ("Sign", self.sign),
        ):
            holder = QWidget()
            holder.setLayout(column(label(name, "small"), widget, gap=0))
            layout.addWidget(holder)
        layout.addStretch(1)
        known = QGridLayout()
        known.setHorizontalSpacing(12)
        for index, (name, field) in enumerate(
            (
                ("Voltage good to", self.accuracy_V),
                ("Current good to", self.accuracy_A),
                ("Cut-off", self.cutoff),
                ("Ambient", self.ambient),
            )
        ):
            known.addWidget(label(name, "small"), 0, index)
            known.addWidget(field, 1, index, Qt.AlignmentFlag.AlignTop)
            known.setColumnStretch(index, 1)
        figures = row(
            column(label("Charge", "small"), self.charge, gap=0),
            column(label("Energy", "small"), self.energy, gap=0),
            column(label("Mean voltage", "small"), self.mean, gap=0),
            None,
            gap=5,
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
                row(self.title, None, button("Back", lambda: self.go.emit("capacity")), self.keep_button),
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

    def load(self, path: Path) -> None:
        """Look at a file, with everything left to detection."""
        self._path = path
        self._choices = Choices()
        self._looked = None
        sample = self.session.sample(self.sample_id)
        self.cutoff.set_number(None)
        self.repair.setChecked(False)
        self.title.setText(f"{path.name} → {sample.code}")
        self.unit.setCurrentIndex(0)
        self.sign.setCurrentIndex(0)
        self._found.hide()
        self.preview.setRowCount(0)
        self._look()

    def refresh(self) -> None:
        """Nothing in the book changes what is looked at."""

    def sample_switched(self) -> None:
        """A file belongs to the sample it was looked at for."""
        self._cancel()
        self._path = None

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
            repair="offered" if self.repair.isChecked() else "safe",
        )

    def _look(self) -> None:
        if self._path is None or not self.session.holds(self.sample_id):
            return
        self._cancel()
        path, choices, options = self._path, self._choices, self._options(self.session.sample(self.sample_id))
        self.problem.hide()
        self.keep_button.setEnabled(False)
        self._working.show()
        self.progress.setValue(0)
        self._job = self.session.workshop.start(lambda job: look(path, choices, options, job), self._seen, self._failed)
        self._job.progress.connect(lambda share: self.progress.setValue(int(100 * share)))

    def _cancel(self) -> None:
        if self._job is not None:
            self._job.cancel()
            self._job = None
        self._working.hide()

    def _failed(self, text: str) -> None:
        self._working.hide()
        self.problem.setText(text)
        self.problem.show()
        self._looked = None
        self._found.hide()

    def _seen(self, looked: Looked) -> None:
        self._working.hide()
        self._looked = looked
        self._fill_layout(looked.log)
        self._fill_found(looked)
        self.keep_button.setEnabled(True)

    def _fill_layout(self, log: LogFile) -> None:
        self._filling = True
        layout = log.layout
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
        for index in range(len(layout.headers)):
            box = QComboBox()
            box.setAccessibleName(f"Use of column {layout.headers[index].text or index + 1}")
            for key, words in FIELD_WORDS:
                box.addItem(words, key)
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
        span = format_duration(float(analysis.trace.time_s[-1]))
        kinds = ", ".join(
            f"{result.stage.kind.value} {format_duration(result.end_s - result.start_s)}"
            for result in analysis.stages[:8]
        )
        more = "" if len(analysis.stages) <= 8 else f" and {len(analysis.stages) - 8} more stages"
        started = f", begun {log.started:%Y-%m-%d %H:%M} UTC" if log.started else ""
        self.summary.setText(
            f"{log.rows} rows over {span}{started}, one every {analysis.scale.usual_s:.3g} s; discharge is "
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
        self.repair.setVisible(any(remark.code in ALTERS for remark in analysis.remarks))
        for remark in (*log.remarks, *analysis.remarks):
            place = f" (rows {remark.rows[0]} to {remark.rows[1]})" if remark.rows else ""
            offer = f" Offer: {remark.offer}." if remark.offer else ""
            self.remarks.add("warning" if remark.offer else "note", remark.message + place + offer)
        curve = discharge_curve(analysis)
        self.curve.setVisible(curve is not None)
        if curve is not None:
            self.curve.show_curves([("", *curve)])
        self._found.show()

    # --- choosing ---

    def _chosen(self, *_: object) -> None:
        if self._filling:
            return
        header = self.header.value() - 1
        found = self._looked.log.layout.header_line if self._looked else -2
        self._choices = replace(
            self._choices,
            delimiter=self.delimiter.currentData(),
            decimal=self.decimal.currentData(),
            header_line=header if self._choices.header_line is not None or header != found else None,
            time_unit=self.unit.currentData() or None,
            discharge_sign=self.sign.currentData(),
        )
        self._timer.start()

    def _columns_chosen(self) -> None:
        if self._filling or self._looked is None:
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
        if self._looked is None or self._path is None:
            return
        log, path = self._looked.log, self._path
        options = self._looked.analysis.options
        trace = log.trace
        sample = self.session.sample(self.sample_id)
        settings = RunSettings(
            family=sample.family_key,
            rated_Ah=sample.rated_Ah,
            cutoff_V=options.cutoff_V,
            voltage_accuracy=str(options.instrument.voltage or ""),
            current_accuracy=str(options.instrument.current or ""),
            voltage_resolution=trace.resolution.get("voltage_V", 0.0),
            current_resolution=trace.resolution.get("current_A", 0.0),
            instrument=options.instrument.name,
            ambient_C=options.ambient_C,
            mode="imported",
        )
        book = self.session.book
        with self.session.guard():
            number = sum(1 for run in self.session.runs(self.sample_id) if run.station == "capacity") + 1
            started = log.started or datetime.fromtimestamp(path.stat().st_mtime, UTC)
            run_id = book.runs.begin(
                self.sample_id, f"Capacity {number}", "imported", started, settings, status=RunStatus.RUNNING
            )
            try:
                book.runs.keep_original(run_id, path.name, file_bytes(path))
                book.runs.seal(run_id, trace)
                book.runs.change(run_id, repair=options.repair)
                test = self._looked.analysis.capacity
                book.runs.finish(run_id, test.ended_by if test else "", "", started)
            except Exception:
                book.runs.remove(run_id)
                raise
            self.session.said.emit(f"{path.name} is kept in the book.")
            self._path = None
            self.session.touch_runs(self.sample_id)
            self.go.emit("capacity")

    def theme_changed(self) -> None:
        """The curve follows."""
        self.curve.theme_changed()
