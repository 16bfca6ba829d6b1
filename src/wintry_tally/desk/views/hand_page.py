"""Hand readings: typed as they are taken; slips caught with an offer, never changed without a click."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from wintry_tally.bench.hand import CLOCK_LIMIT_S, HandReading, Slip, check_reading
from wintry_tally.book import RunSettings, RunStatus
from wintry_tally.core.protocol.kinds import TEST_KINDS
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.quantity import format_duration, parse_accuracy
from wintry_tally.core.working import Working
from wintry_tally.desk.preferences import shown, unit_name
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import button, card, column, fields_beside, label, named, row, scrolling
from wintry_tally.desk.widgets.quantity_field import QuantityField, TypedField
from wintry_tally.desk.widgets.reading_line import ReadingLine

if TYPE_CHECKING:
    from wintry_tally.book import Run

ENDS = (
    ("the pack's protection opened", "battery-protection"),
    ("the load's cut-off", "set-cutoff"),
    ("I switched it off", "operator"),
)
CHARGE_ENDS = (
    ("the current tapered off", "current-taper"),
    ("the pack's protection opened", "charge-protection"),
    ("I switched it off", "operator"),
)
CHARGING = frozenset({"charge", "charge-block", "heater", "self-discharge"})
"""Kinds of tests whose current is typed as the charger shows it."""

LEAST_TABLE = 120
"""Height of the readings at the least, px: the page scrolls before they are squeezed."""


class HandPage(StationView):
    """Set-up first; then the line to type into, the readings, and the end."""

    def __init__(self, session: Session, station: str = "capacity") -> None:
        super().__init__(session)
        self.station = station
        self.kind = QComboBox()
        self.kind.setAccessibleName("What kind of test it is")
        for kind in TEST_KINDS.values():
            if kind.station == station:
                self.kind.addItem(kind.words, kind.method)
        self._run: Run | None = None
        self._readings: list[tuple[int, HandReading]] = []
        self.setting = QuantityField("Load set to", "current", "8 A")
        self.cutoff = QuantityField("Cut-off", "voltage", "10 V")
        self.accuracy_V = TypedField("Meter's voltage accuracy", parse_accuracy, lambda a: f"= {a}", "0.5% + 2 digits")
        self.accuracy_A = TypedField("Meter's current accuracy", parse_accuracy, lambda a: f"= {a}", "1% + 2 digits")
        self.begin_button = button("Begin", self._begin_run, "main")
        self.entry = ReadingLine(self._slips, self._last_moment)
        self.entry.kept.connect(self._keep)
        self.table = QTableWidget(0, 6)
        self.table.setAccessibleName("Readings")
        self.table.setHorizontalHeaderLabels(["Time", "V", "A", "Counter Ah", unit_name("°C"), "Note"])
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setAlternatingRowColors(True)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.setTabKeyNavigation(False)
        self.elapsed, self.charge = Figure("Since the first reading"), Figure("Charge so far")
        self.charge.opened.connect(self.opened)
        self.end = QComboBox()
        self.end.setAccessibleName("How it ended")
        self.end.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.finish_button = button("Finish the run", self.finish)
        self.undo_hint = label("Ctrl+Z takes back the last reading.", "small")
        self._lay_out()

    def _lay_out(self) -> None:
        items: tuple[tuple[str, QWidget], ...] = (
            ("It is a", self.kind),
            ("Set to", self.setting),
            ("Cut-off or limit", self.cutoff),
            ("Voltage good to", self.accuracy_V),
            ("Current good to", self.accuracy_A),
        )
        grid, _ = fields_beside(items)
        self._setup = card(
            label("Read by hand", "heading"),
            label(
                "Type readings as you take them: the time (or nothing, for now), voltage, and the current or the load's "
                "counter. Begin with one before it is switched on, at 0 A: it shows what it held. Read every few minutes "
                "towards the end, and say how it ended. The accuracies are in the meter's manual; without them the verdict "
                "has no probability. Each reading of the clock is taken as good to 30 s.",
                "quiet",
                wrap=True,
            ),
            grid,
            row(None, button("Back", lambda: self.go.emit("")), self.begin_button),
        )
        self.elapsed.opened.connect(self.opened)
        counted = row(named("Since the first reading", self.elapsed), named("Charge so far", self.charge), None, gap=4)
        figures = Flow(counted, self.end, self.finish_button, fills=True)
        self.table.setMinimumHeight(LEAST_TABLE)
        self._entry = QWidget()
        self._entry.setLayout(column(card(self.entry), card(figures), self.table, self.undo_hint, gap=3))
        self._entry.layout().setStretch(2, 1)
        inner, whole = QWidget(), column(self._setup, self._entry, None)
        whole.setStretch(1, 1000)
        whole.setStretch(2, 1)
        inner.setLayout(whole)
        self.setLayout(column(scrolling(inner)))

    # --- showing ---

    def sample_switched(self) -> None:
        """What is usual for the sample."""
        sample = self.session.sample(self.sample_id)
        if sample.rated_Ah:
            self.setting.set_number(round(sample.family.reference_rate_C * sample.rated_Ah, 2))
        self.cutoff.set_number(sample.cutoff_V, most=sample.family.plausible_V[1])
        self.entry.empty()

    def refresh(self) -> None:
        """The open run, or the set-up of one."""
        self._run = self.session.running.open_hand_run(self.sample_id, self.station)
        self._setup.setVisible(self._run is None)
        self._entry.setVisible(self._run is not None)
        if self._run is None:
            return
        ends = CHARGE_ENDS if self._run.settings.charging else ENDS
        if self.end.count() != len(ends) or self.end.itemData(0) != ends[0][1]:
            self.end.clear()
            for words, key in ends:
                self.end.addItem(words, key)
        rows = self.session.open.known.typed.get(self._run.id, ())
        self._readings = [
            (index, HandReading(self._run.started + timedelta(seconds=r[0]), r[1], r[2], r[4], r[5], r[3]))
            for index, r in enumerate(rows)
        ]
        self.table.setRowCount(len(rows))
        for line, (_, reading) in enumerate(self._readings):
            at = reading.at.astimezone()
            cells = (
                f"{at:%d %b %H:%M:%S}",
                _cell(reading.voltage_V),
                _cell(reading.current_A),
                _cell(reading.counter_Ah),
                "" if reading.temperature_C is None else shown(f"{reading.temperature_C:.1f} °C").partition(" ")[0],
                reading.note,
            )
            for place, text in enumerate(cells):
                self.table.setItem(line, place, QTableWidgetItem(text))
        self.table.scrollToBottom()
        self._figures()

    def _figures(self) -> None:
        if not self._readings:
            self.elapsed.set_text("–", "", "", None)
            self.charge.set_text("–", "", "", None)
            return
        first, last = self._readings[0][1], self._readings[-1][1]
        since = format_duration((last.at - first.at).total_seconds())
        ends = {"first": f"{first.at.astimezone():%d %b %H:%M:%S}", "last": f"{last.at.astimezone():%d %b %H:%M:%S}"}
        clock = Working("Since the first reading", "last − first", ends, since, "the clock as typed, each good to 30 s")
        self.elapsed.set_text(since, "", "", clock)
        counted = [reading for _, reading in self._readings if reading.counter_Ah is not None]
        with_current = [reading for _, reading in self._readings if reading.current_A is not None]
        if len(counted) > 1:
            moved = abs((counted[-1].counter_Ah or 0) - (counted[0].counter_Ah or 0))
            working = Working(
                "Charge so far",
                "the counter's last reading less its first",
                {},
                f"{moved:.3g} Ah",
                "the load's counter",
            )
            self.charge.set_text(f"{moved:.2f}", "", "Ah", working)
        elif len(with_current) > 1:
            total = sum(
                0.5 * ((a.current_A or 0) + (b.current_A or 0)) * (b.at - a.at).total_seconds() / 3600.0
                for a, b in itertools.pairwise(with_current)
            )
            working = Working(
                "Charge so far",
                "Q = Σ ½ (I₁ + I₂) Δt",
                {"readings": str(len(with_current))},
                f"{total:.3g} Ah",
                "common practice",
            )
            self.charge.set_text(f"{total:.2f}", "", "Ah", working)

    # --- doing ---

    def _begin_run(self) -> None:
        sample = self.session.sample(self.sample_id)
        if any(field.problem for field in (self.setting, self.cutoff, self.accuracy_V, self.accuracy_A)):
            self.session.failed.emit("A field cannot be read: see the words beneath it.")
            return
        settings = RunSettings.of(
            sample,
            cutoff_V=self.cutoff.number,
            voltage_accuracy=str(self.accuracy_V.value or ""),
            current_accuracy=str(self.accuracy_A.value or ""),
            voltage_resolution=0.01,
            current_resolution=0.01,
            instrument="hand meter",
            mode="hand",
            setting=self.setting.number or 0.0,
            clock_s=CLOCK_LIMIT_S / 3**0.5,
            charging=self.kind.currentData() in CHARGING,
        )
        kind, sample_id, book = TEST_KINDS[str(self.kind.currentData())], self.sample_id, self.session.book
        words = kind.words.removesuffix(" test").capitalize()
        number = sum(1 for run in self.session.runs(sample_id) if run.title.startswith(words)) + 1
        title, now = f"{words} {number}", datetime.now(UTC)

        def then(done: bool) -> None:
            self.begin_button.setEnabled(True)
            if done and self.sample_id == sample_id:
                self.refresh()
                self.entry.volts.line.setFocus()

        self.begin_button.setEnabled(False)  # where the book is busy, it is begun once, a moment later
        self.session.write(
            f"Begin {title}",
            lambda: book.runs.begin(
                sample_id, title, Method.HAND, now, settings, {"method": kind.method}, kind.station
            ),
            then,
            sample_id,
        )

    def _last_moment(self) -> datetime | None:
        return self._readings[-1][1].at.astimezone() if self._readings else None

    def _slips(self, reading: HandReading) -> list[Slip]:
        """Likely slips in what is typed."""
        assert self._run is not None
        sample = self.session.sample(self.sample_id)
        earlier = [kept for _, kept in self._readings]
        expected = self._run.settings.setting or None
        return check_reading(reading, earlier, sample.family, expected, datetime.now().astimezone())

    def _keep(self, reading: HandReading) -> None:
        assert self._run is not None
        run = self._run
        elapsed = (reading.at - run.started).total_seconds() if self._readings else 0.0

        def then(done: bool) -> None:
            self.entry.setEnabled(True)
            if done and self._run is not None and self._run.id == run.id:  # not what is typed for another by now
                self.entry.empty()
                self.entry.volts.line.setFocus()

        self.entry.setEnabled(False)  # where the book is busy, it is kept once, a moment later
        self.session.change(self.session.open.edits.keep_reading(run, reading, elapsed), then)

    def finish(self) -> None:
        """End the run as said."""
        if self._run is None:
            return
        if len(self._readings) < 2:
            self.entry.complain("A run needs at least two readings.")
            return
        run, book, sample_id = self._run, self.session.book, self.sample_id
        cause, last = str(self.end.currentData()), self._readings[-1][1].at

        def then(done: bool) -> None:
            self.entry.setEnabled(True)
            self.finish_button.setEnabled(True)
            if done:
                self.session.undo_stack.clear()
                if self.sample_id == sample_id:
                    self.go.emit("")

        self.entry.setEnabled(False)
        self.finish_button.setEnabled(False)
        self.session.write(
            f"End {run.title}", lambda: book.runs.finish(run.id, cause, "", last, RunStatus.FINISHED), then, sample_id
        )


def _cell(value: float | None) -> str:
    return "" if value is None else f"{value:g}"
