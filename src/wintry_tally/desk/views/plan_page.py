"""Planning a capacity test on the simulated bench: rate, cut-off, rest, load, forecast, pre-flight, cautions."""

from __future__ import annotations

import random
from dataclasses import dataclass
from datetime import datetime

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QComboBox, QWidget

from wintry_tally.app.comparison import health_of_stand_in, held_words
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.book import RunSettings
from wintry_tally.core.message import NOTHING, said
from wintry_tally.core.plan import Forecast
from wintry_tally.core.protocol.attended import Attendance, Offer
from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, reference_current
from wintry_tally.core.protocol.cautions import discharge_cautions
from wintry_tally.core.protocol.preflight import Check, preflight
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.room import ROOM_C
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.flow import Halves
from wintry_tally.desk.widgets.parts import card, column, fields_beside, label, scrolling
from wintry_tally.desk.widgets.quantity_field import QuantityField
from wintry_tally.desk.widgets.start_card import StartCard

MODES = (
    ("constant current", "current", "current"),
    ("constant power", "power", "power"),
    ("fixed resistor", "resistance", "resistance"),
)
SPEEDS = (("real time", 1.0), ("60 × real time", 60.0), ("600 × real time", 600.0), ("3600 × real time", 3600.0))


@dataclass(frozen=True)
class Asked:
    """What the fields say, when all of them can be read."""

    plan: CapacityPlan
    limits: LoadLimits


class PlanPage(StationView):
    """Fields on the left, pre-flight list on the right, cautions to acknowledge, start. `recipe` asks for another."""

    recipe = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.mode = QComboBox()
        self.mode.setAccessibleName("How the load draws")
        for words, key, _ in MODES:
            self.mode.addItem(words, key)
        self.mode.activated.connect(self._mode_changed)
        self.settings = {key: QuantityField(f"Set to, {words}", dimension) for words, key, dimension in MODES}
        self.cutoff = QuantityField("Cut-off", "voltage")
        self.rest = QuantityField("Rest before", "duration", "1 h")
        self.power = QuantityField("Load's power ceiling", "power")
        self.ceiling = QuantityField("Load's current ceiling", "current")
        self.ambient = QuantityField("Ambient", "temperature", "23 °C")
        self.speed = QComboBox()
        self.speed.setAccessibleName("Speed of the simulated bench")
        for words, value in SPEEDS:
            self.speed.addItem(words, value)
        self.speed.setCurrentIndex(3)
        self.speed.activated.connect(self._later)
        self.why = label("", "small", wrap=True)
        self.start_card = StartCard("Start the test")
        self.start_card.opened.connect(self.opened)
        self.start_card.started.connect(self.start)
        self.start_card.offered.connect(self.take_offer)
        self.start_card.left.connect(lambda: self.go.emit(""))
        for field in (*self.settings.values(), self.cutoff, self.rest, self.power, self.ceiling, self.ambient):
            field.line.textChanged.connect(self._later)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(150)
        self._timer.timeout.connect(self.review)
        self._lay_out()

    def _lay_out(self) -> None:
        lines: tuple[tuple[str, QWidget], ...] = (
            ("Load draws", self.mode),
            *((("Set to", self.settings[key])) for _, key, _ in MODES),
            ("", self.why),
            ("Cut-off", self.cutoff),
            ("Rest before", self.rest),
            ("Load: at most", self.power),
            ("", self.ceiling),
            ("Ambient", self.ambient),
            ("Speed", self.speed),
        )
        grid, labels = fields_beside(lines)
        self._set_labels = [words for words in labels if words.text() == "Set to"]
        left = card(
            label("Capacity test on the simulated bench", "heading"),
            label("Nothing real is switched: a battery model stands in, in fast time.", "small", wrap=True),
            grid,
        )
        inner = QWidget()
        inner.setLayout(column(Halves((left, 2), (self.start_card, 3)), None))
        self.setLayout(column(scrolling(inner)))

    def sample_switched(self) -> None:
        """Fill in what is usual for the sample."""
        sample = self.session.sample(self.sample_id)
        self.power.set_number(180.0)
        self.ceiling.set_number(20.0)
        rated = sample.rated_Ah or 0.0
        limits = LoadLimits(180.0, 20.0)
        current, why = reference_current(sample.family, rated, limits) if rated else (0.0, "no capacity is claimed yet")
        self.settings["current"].set_number(current)
        self.settings["power"].set_number(round(current * sample.family.nominal_V, 1))
        self.settings["resistance"].set_number(round(sample.family.nominal_V / current, 3) if current else None)
        self.why.setText(f"{current:g} A: {why}.")
        self.cutoff.set_number(sample.cutoff_V)
        self.rest.set_number(sample.family.rest_s)
        self.ambient.set_number(ROOM_C)
        self.start_card.show_cautions(discharge_cautions(sample.family))
        self._mode_changed()

    def leave(self) -> None:
        """Nothing is left to be reviewed."""
        self._timer.stop()

    def refresh(self) -> None:
        """Check again: a claim may have changed."""
        self.review()

    def _mode_changed(self) -> None:
        chosen = self.mode.currentData()
        for (_, key, _), words in zip(MODES, self._set_labels, strict=True):
            self.settings[key].setVisible(key == chosen)
            words.setVisible(key == chosen)
        self.why.setVisible(chosen == "current")
        self.review()

    def _later(self) -> None:
        self._timer.start()

    def asked(self) -> Asked | None:
        """The plan as the fields say; None while one of them cannot be read."""
        mode = self.mode.currentData()
        fields = (self.settings[mode], self.cutoff, self.power, self.ceiling)
        if (
            any(field.number is None or field.number <= 0 for field in fields)
            or self.rest.problem
            or self.ambient.problem
        ):
            return None
        setting, cutoff, power, current = (field.number or 0.0 for field in fields)
        return Asked(CapacityPlan(mode, setting, cutoff, self.rest.number or 0.0), LoadLimits(power, current))

    def review(self) -> None:
        """The pre-flight list and the forecast, for what the fields say now."""
        if not self.session.holds(self.sample_id):
            return
        sample = self.session.sample(self.sample_id)
        asked = self.asked()
        if asked is None:
            self.start_card.show_checks([Check(NOTHING, "bar", said("field-not-positive"))])
            return
        outlook: Forecast | None = None
        told = ""
        if sample.rated_Ah:
            _, outlook = self.session.running.plan_of(sample, asked.plan, asked.limits)
            speed = float(self.speed.currentData())
            told = (
                f"Forecast: {outlook.charge_Ah:.1f} Ah in {format_duration(outlook.end_s)} from the start; at this speed "
                f"{format_duration(outlook.end_s / speed)} on the clock."
            ) + held_words(self.session.dossier(sample.id), outlook.charge_Ah)
        ends_s = outlook.end_s if outlook else None
        self.start_card.show_checks(
            preflight(
                sample.family, sample.rated_Ah, asked.plan, asked.limits, None, ends_s, attendance=self._attendance()
            ),
            told,
        )

    def _attendance(self) -> Attendance | None:
        """Who is there, for a run in real time; in fast time nobody needs to be."""
        if float(self.speed.currentData()) != 1.0:
            return None
        return Attendance(datetime.now().astimezone(), self.session.attended, own_cutoff=True)

    def take_offer(self, offer: Offer) -> None:
        """Mend the plan as offered: rest longer before, or draw less."""
        if offer.kind == "rate":
            self.settings["current"].set_number(offer.value)
        elif offer.kind == "wait":
            self.rest.set_number((self.rest.number or 0.0) + offer.value)
        else:
            from wintry_tally.exchange.recipe_file import shipped_recipe

            self.recipe.emit(shipped_recipe("capacity-slow-night"))

    def start(self) -> None:
        """Start the run as planned."""
        asked = self.asked()
        if asked is None or not self.start_card.start_button.isEnabled():
            return
        sample = self.session.sample(self.sample_id)
        seed = random.SystemRandom().randrange(1, 10**9)
        settings = RunSettings.of(
            sample,
            cutoff_V=asked.plan.cutoff_V,
            voltage_accuracy=STAND_IN_METER.voltage_accuracy,
            current_accuracy=STAND_IN_METER.current_accuracy,
            voltage_resolution=STAND_IN_METER.voltage_resolution,
            current_resolution=STAND_IN_METER.current_resolution,
            instrument="simulated meter",
            ambient_C=ROOM_C if self.ambient.number is None else self.ambient.number,
            rest_before_s=asked.plan.rest_s,
            speed=float(self.speed.currentData()),
            seed=seed,
            mode=asked.plan.mode,
            setting=asked.plan.setting,
            power_W=asked.limits.power_W,
            load_A=asked.limits.current_A,
            health=health_of_stand_in(self.session.dossier(self.sample_id), seed),
        )
        with self.session.guard():
            recipe, _ = self.session.running.plan_of(sample, asked.plan, asked.limits)
            self.session.running.start(sample, recipe, settings, discharge_cautions(sample.family))
            self.start_card.acknowledge(False)
            self.session.touch_runs(self.sample_id)
            self.go.emit("")
