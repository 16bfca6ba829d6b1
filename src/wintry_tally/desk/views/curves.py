"""Curves: a run's stages banded along the axis, a drop-out to drag, other runs beside it, its slips and repairs."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QButtonGroup, QCheckBox, QComboBox, QPushButton, QWidget

from wintry_tally.app.shapes import Shapes
from wintry_tally.core.quantity import Quantity, format_quantity
from wintry_tally.core.working import Working
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.curve_parts import Series
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import button, card, clear, column, empty, label, named, scrolling
from wintry_tally.desk.widgets.quantity_field import QuantityField
from wintry_tally.desk.widgets.run_told import RunTold
from wintry_tally.desk.widgets.turns import turns

if TYPE_CHECKING:
    from wintry_tally.core.analysis import Analysis
    from wintry_tally.core.analysis.capacity import Usable
    from wintry_tally.report.dossier import RunReport
    from wintry_tally.report.views_of_trace import Against

AGAINST: tuple[tuple[Against, str], ...] = (("time", "Time"), ("charge", "Charge"), ("energy", "Energy"))
MOST_BESIDE = 6
"""So many other runs are offered to be laid over."""


class CurvesView(StationView):
    """One run at a time, others laid over it."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.run = QComboBox()
        self.run.setAccessibleName("Run shown")
        self.run.setMinimumWidth(180)
        self.run.activated.connect(lambda _i: self._chosen())
        self.against: dict[Against, QPushButton] = {}
        self._group = QButtonGroup(self)
        for key, words in AGAINST:
            made = button(words, partial(self._against, key), "choice", f"Against {words.lower()}")
            made.setCheckable(True)
            self._group.addButton(made)
            self.against[key] = made
        self.against["time"].setChecked(True)
        self.whole = button("Whole run", self._whole, "link")
        self.slope = button("Measure between", self._slope, "choice", "Measure between two moments")
        self.slope.setCheckable(True)
        self.between = label("", wrap=True)
        self.between.hide()
        self._over = Flow(gap=3)
        self.curve = Curve("Voltage of the run", "", "voltage / V").by_keyboard()
        self.curve.setFixedHeight(270)
        self.curve.level_moved.connect(self._dragged)
        self.curve.stretch_moved.connect(self._say_slope)
        self.amps = Curve("Current of the run", "time / h", "current / A")
        self.amps.setFixedHeight(105)
        self.dropout = QuantityField("Drop-out voltage", "voltage")
        self.dropout.line.setFixedWidth(92)
        self.dropout.committed.connect(self._typed)
        self.dropout.entered.connect(lambda: self._typed(self.dropout.number))
        self.draw = QuantityField("Draw of the device", "current", "its draw")
        self.draw.line.setFixedWidth(92)
        self.draw.line.textChanged.connect(lambda _t: self._read_out())
        self.figures = {
            name: Figure(f"{name} above the drop-out") for name in ("Charge", "Energy", "Hours", "Left below")
        }
        for figure in self.figures.values():
            figure.opened.connect(self.opened)
        self.told = RunTold(session)
        self.told.looked.connect(self._go)
        self.told.opened.connect(self.opened)
        self.told.record.known.connect(self._mark)
        self._shapes = Shapes(session.workshop, session.failed.emit)
        self._shown: RunReport | None = None
        self._overlaid: set[int] = set()
        self._lay_out()

    def _lay_out(self) -> None:
        head = Flow(
            label("Run", "quiet"), self.run, label("against", "quiet"), *self.against.values(), self.slope, self.whole
        )
        over = QWidget()
        over.setLayout(self._over)
        fields = (("Drop-out", self.dropout), ("Device draws", self.draw), *self.figures.items())
        self._readout = QWidget()
        self._readout.setLayout(Flow(*(named(words, field) for words, field in fields), gap=5))
        plots = card(self.curve, self.amps, self.between, self._readout)
        self._body = QWidget()
        self._body.setLayout(column(head, over, plots, self.told, gap=3))
        self._none = empty(
            "No run to look at yet",
            "Curves show what a run or an imported log holds: its stages, how each ended, and what a device that drops "
            "out early could use of it.",
            button("Go to Capacity", lambda: self.go.emit("capacity"), "main"),
        )
        inner = QWidget()
        inner.setLayout(column(self._body, self._none, None))
        self.setLayout(column(scrolling(inner)))

    # --- what is shown ---

    def sample_switched(self) -> None:
        """Another sample: its newest run, nothing laid over."""
        self._overlaid = set()
        self._shown = None
        self._shapes.forget()
        self.draw.set_text("")

    def refresh(self) -> None:
        """As the dossier says."""
        self.dossier_changed()

    def _reports(self) -> list[RunReport]:
        dossier = self.session.dossier(self.sample_id) if self.session.holds(self.sample_id) else None
        return [] if dossier is None else [item for item in dossier.runs if item.analysis is not None]

    def dossier_changed(self) -> None:
        """The runs were analysed anew."""
        if not self.session.has_book or not self.session.holds(self.sample_id):
            return
        reports = self._reports()
        self._body.setVisible(bool(reports))
        self._none.setVisible(not reports)
        if not reports:
            return
        newest = next((item for item in reversed(reports) if item.evidence is not None), reports[-1])
        keep = self._shown.facts.id if self._shown is not None else newest.facts.id
        self.run.clear()
        for report in reversed(reports):
            self.run.addItem(report.facts.title, report.facts.id)
        place = self.run.findData(keep)
        self.run.setCurrentIndex(max(0, place))
        self._chosen()

    def _read(self) -> None:
        """A long run was read; where nobody looks on, it is drawn when somebody comes back."""
        if self.isVisible():
            self._chosen()

    def _chosen(self) -> None:
        reports = {report.facts.id: report for report in self._reports()}
        chosen = reports.get(self.run.currentData())
        if chosen is None or chosen.analysis is None:
            return
        if not self._shapes.ready([(chosen.facts.id, chosen.analysis)], self.axis, self._read):
            return  # it is long: what was shown stays until it is read
        fresh = self._shown is None or self._shown.facts.id != chosen.facts.id
        self._shown = chosen
        if fresh:
            self._usual_dropout(chosen.analysis)
        turns().ask(self._over, partial(self._fill_overlays, list(reports.values()), chosen))
        self.told.record.show_run(chosen.facts.id)
        self._draw()
        self.told.show_run(self.sample_id, chosen, list(reports.values()))

    def _usual_dropout(self, analysis: Analysis) -> None:
        sample = self.session.sample(self.sample_id)
        claimed = next((c.conditions["dropout_V"] for c in sample.claims if "dropout_V" in c.conditions), None)
        drawn = next((c.conditions["device_A"] for c in sample.claims if "device_A" in c.conditions), None)
        self.dropout.set_number(
            claimed or round(sample.family.cutoff_V + 0.45 * (sample.family.nominal_V - sample.family.cutoff_V), 2)
        )
        if drawn is not None:
            self.draw.set_number(drawn)

    def _fill_overlays(self, own: list[RunReport], chosen: RunReport) -> None:
        if not self.session.has_book or not self.session.holds(self.sample_id):
            return
        clear(self._over)
        self._over.addWidget(label("Also show", "quiet"))
        others = [(report.facts.id, report.facts.title) for report in own if report.facts.id != chosen.facts.id]
        for sample in self.session.samples():
            if len(others) >= MOST_BESIDE:
                break
            if sample.id != self.sample_id:
                dossier = self.session.dossier(sample.id)
                for report in (dossier.runs if dossier is not None else ())[-1:]:
                    if report.analysis is not None and report.analysis.capacity is not None:
                        others.append((report.facts.id, f"{sample.code}: {report.facts.title}"))
        for number, words in others[:MOST_BESIDE]:
            box = QCheckBox(words)
            box.setChecked(number in self._overlaid)
            box.toggled.connect(partial(self._overlay, number))
            self._over.addWidget(box)
        if not others:
            self._over.addWidget(label("no other run yet", "small"))

    def _overlay(self, number: int, on: bool) -> None:
        (self._overlaid.add if on else self._overlaid.discard)(number)
        if on and self.axis == "time":
            # runs begin at times of their own: charge is what they share
            self.against["charge"].setChecked(True)
        self._draw()

    @property
    def axis(self) -> Against:
        """What the curves stand against."""
        return next(key for key, made in self.against.items() if made.isChecked())

    def _against(self, key: Against) -> None:
        self.against[key].setChecked(True)
        self._draw()

    def _draw(self) -> None:
        if self._shown is None or self._shown.analysis is None:
            return
        from wintry_tally.report.views_of_trace import AXIS_WORDS

        axis, analysis = self.axis, self._shown.analysis
        over = self._overlaid_runs()
        wanted = [(self._shown.facts.id, analysis), *((report.facts.id, one) for _, report, one in over)]
        if not self._shapes.ready(wanted, axis, self._read):
            return
        whole = self._shapes.of(self._shown.facts.id, axis)
        shape, outlines = whole.drawn, {}
        self.amps.set_titles(AXIS_WORDS[axis], "current / A")
        series: list[Series] = [(self._shown.facts.title, shape.x, shape.voltage)] if len(shape.x) else []
        if len(shape.charge_x):
            series.append(("charge", shape.charge_x, shape.charge_voltage))
        for name, report, _ in over:
            beside = self._shapes.of(report.facts.id, axis).drawn
            if len(beside.x):
                series.append((name, beside.x, beside.voltage))
        if whole.outlines:
            outlines = {self._shown.facts.title: whole.outlines["voltage"]}
        self.curve.show_curves(series, outlines=outlines)
        self.amps.show_curves([("current", shape.x, shape.current)] if len(shape.x) else [], outlines=whole.outlines)
        self._mark()
        if self.slope.isChecked():
            self.slope.setChecked(False)
            self._slope()
        self.amps.follow(self.curve)
        self._whole()
        self.curve.set_level(self.dropout.number if analysis.capacity is not None else None)
        self._readout.setVisible(analysis.capacity is not None)
        self._read_out()

    def _mark(self) -> None:
        """Its stages along the axis; against time, openings and what was noted or warned of in the run."""
        if self._shown is None or self._shown.analysis is None:
            return
        shape = self._shapes.of(self._shown.facts.id, self.axis).drawn
        bands = [(band.start, band.end, band.words, band.live) for band in shape.bands]
        marks = []
        if self.axis == "time":
            marks = [(trip.at_s / 3600.0, f"{trip.kind} trip") for trip in self._shown.analysis.trips]
            marks += self.told.record.marks
        self.curve.decorate(bands, marks)

    def _overlaid_runs(self) -> list[tuple[str, RunReport, Analysis]]:
        found = []
        for sample in self.session.samples():
            dossier = self.session.dossier(sample.id) if self._overlaid else None
            for report in dossier.runs if dossier is not None else ():
                if report.facts.id in self._overlaid and report.analysis is not None:
                    name = report.facts.title if sample.id == self.sample_id else f"{sample.code}: {report.facts.title}"
                    found.append((name, report, report.analysis))
        return found

    def _whole(self) -> None:
        """The whole axis; open terminals and single leaps do not press the curve flat."""
        if self._shown is None or self._shown.analysis is None:
            return
        shape = self._shapes.of(self._shown.facts.id, self.axis)
        if shape.low_V is None:
            self.curve.look_at_all()
            return
        level = self.dropout.number if self._readout.isVisibleTo(self) else None
        self.curve.look_at_all(shape.low_V if level is None else min(shape.low_V, level), shape.high_V)

    def _slope(self) -> None:
        """Two ends to drag on the time axis, and what lies between them; again takes them away."""
        on = self.slope.isChecked() and self._shown is not None and self._shown.analysis is not None
        self.slope.setChecked(on)
        self.between.setVisible(on)
        if not on:
            self.curve.set_stretch(None)
            return
        if self.axis != "time":
            self.slope.setChecked(False)  # drawing anew takes a measurement away
            self.against["time"].setChecked(True)
            self._draw()
            self.slope.setChecked(True)
            self.between.show()
        low, high = self.curve.seen()
        third = (high - low) / 3.0
        self.curve.set_stretch(low + third, high - third)
        self._say_slope(low + third, high - third)

    def _say_slope(self, low_h: float, high_h: float) -> None:
        from wintry_tally.report.views_of_trace import slope_between

        if self._shown is None or self._shown.analysis is None:
            return
        found = slope_between(self._shown.analysis.trace, 3600.0 * low_h, 3600.0 * high_h)
        self.between.setText(found.words())

    def _dragged(self, volts: float) -> None:
        self.dropout.set_number(round(volts, 2))
        self._read_out()

    def _typed(self, value: object) -> None:
        if isinstance(value, float):
            self.curve.set_level(value)
            self._read_out()

    def _usable(self) -> Usable | None:
        report, volts = self._shown, self.dropout.number
        if report is None or report.analysis is None or report.analysis.capacity is None or volts is None:
            return None
        from wintry_tally.core.analysis.capacity import usable_above

        analysis = report.analysis
        assert analysis.capacity is not None
        return usable_above(
            analysis.trace,
            self._shapes.of(report.facts.id, self.axis).integral,
            analysis.scale,
            analysis.plain_stages,
            analysis.capacity,
            volts,
            analysis.options.instrument,
        )

    def _read_out(self) -> None:
        usable = self._usable()
        if usable is None or self._shown is None or self._shown.analysis is None:
            for figure in self.figures.values():
                figure.set_quantity(None)
            return
        test = self._shown.analysis.capacity
        assert test is not None
        reached = "reached" if usable.reached else "never reached: everything lies above it"
        working = Working(
            f"Usable above {usable.dropout_V:.2f} V",
            "∫ I dt under load until the smoothed voltage first falls through the drop-out",
            {"drop-out": f"{usable.dropout_V:.2f} V, {reached}", "drawn in all": format_quantity(test.count.charge)},
            format_quantity(usable.charge),
            "common practice",
        )
        self.figures["Charge"].set_quantity(usable.charge, working)
        self.figures["Energy"].set_quantity(usable.energy, working)
        amps = self.draw.number
        hours = Quantity(usable.duration_s / 3600.0, 0.0, "h")
        told = working
        if amps and amps > 0:
            hours = usable.charge.scaled(1.0 / amps, "h")
            told = Working(
                "Hours at the device's draw",
                "t = Q / I",
                {"Q": format_quantity(usable.charge), "I": f"{amps:g} A"},
                format_quantity(hours),
                "common practice",
                (working,),
            )
        self.figures["Hours"].set_quantity(hours, told)
        total = test.count.charge.value
        left = 100.0 * max(0.0, 1.0 - usable.charge.value / total) if total > 0 else 0.0
        self.figures["Left below"].set_text(f"{left:.0f}", "", "%", working)

    def _go(self, start: float, end: float) -> None:
        self.against["time"].setChecked(True)
        self._draw()
        self.curve.look_at(start, end)

    def theme_changed(self) -> None:
        """Curves follow."""
        self.curve.theme_changed()
        self.amps.theme_changed()
