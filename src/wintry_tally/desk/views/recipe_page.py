"""Planning a run by a recipe: its steps, the bench it runs on, the pre-flight list, the cautions, the start."""

from __future__ import annotations

import math
import random
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QWidget

from wintry_tally.app.launch import stand_in_charger
from wintry_tally.app.nights import given_over_night
from wintry_tally.app.run_settings import bench_settings
from wintry_tally.bench.guided import READ_EVERY_S
from wintry_tally.bench.hand import CLOCK_LIMIT_S
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.book import RunSettings
from wintry_tally.core.message import as_message, said
from wintry_tally.core.protocol.attended import Attendance, Offer
from wintry_tally.core.protocol.editing import begun_later, with_current
from wintry_tally.core.protocol.preflight import Bench, Check, check, preflight_recipe
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.quantity import format_duration, parse_accuracy
from wintry_tally.core.room import ROOM_C
from wintry_tally.desk.asking import page_place
from wintry_tally.desk.preferences import current
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.plan_page import SPEEDS
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.flow import Flow, Halves
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.parts import button, card, column, fields_beside, label, narrow, scrolling
from wintry_tally.desk.widgets.quantity_field import QuantityField, TypedField
from wintry_tally.desk.widgets.start_card import StartCard
from wintry_tally.desk.widgets.step_table import StepTable

if TYPE_CHECKING:
    from wintry_tally.core.plan import Forecast
    from wintry_tally.core.protocol.template import Template

BY_HAND = " by hand"
"""The bench with nothing connected; no channel can be called so, for names are kept without leading spaces."""
LEAST_EVERY_S, MOST_EVERY_S = 0.1, 14_400.0
HEAVY_W, HEAVY_A = 3000.0, 200.0
USUAL_W, USUAL_A = 180.0, 20.0


class RecipePage(StationView):
    """Steps on the left, pre-flight and cautions on the right."""

    def __init__(self, session: Session, station: str) -> None:
        super().__init__(session)
        self.station = station
        self.title = label("", "heading", wrap=True)
        self.words = label("", "small", wrap=True)
        self.steps = StepTable(session.change)
        self.steps.changed.connect(self.review)
        self.edit = QCheckBox("Edit the steps")
        self.edit.clicked.connect(self._edit)
        self.sheet = button("Bench sheet…", self.save_sheet, "link", "Save a bench sheet of this test, to print")
        self.save = button("Save as a file…", self._save, "link", "Save this recipe as a file")
        self.bench = QComboBox()
        self.bench.setAccessibleName("Bench")
        narrow(self.bench)
        self.bench.activated.connect(self._bench_chosen)
        self.power = QuantityField("Stand-in load's power ceiling", "power")
        self.ceiling = QuantityField("Stand-in load's current ceiling", "current")
        self.ambient = QuantityField("Ambient", "temperature", "23 °C")
        self.core = QuantityField("Pack's temperature at the start", "temperature", "as ambient")
        self.full = QuantityField("Stand-in battery's charge at the start", "share", "100 %")
        self.speed = QComboBox()
        self.speed.setAccessibleName("Speed of the stand-in bench")
        for words, value in SPEEDS:
            self.speed.addItem(words, value)
        self.speed.setCurrentIndex(2)
        self.speed.activated.connect(self.review)
        self.every = QuantityField("Time from one kept reading to the next", "duration", "1 s")
        self.override = Line()
        self.override.setAccessibleName("Why it may begin though its connection is not proved")
        self.override.setPlaceholderText("leave empty; a reason, kept with the run")
        self.accuracy_V = TypedField("Meter's voltage accuracy", parse_accuracy, lambda a: f"= {a}", "0.5% + 2 digits")
        self.accuracy_A = TypedField("Meter's current accuracy", parse_accuracy, lambda a: f"= {a}", "1% + 2 digits")
        self.proven = QCheckBox("the load stops by itself at its cut-off; I have seen it")
        self.proven.clicked.connect(self.review)
        self.start_card = StartCard("Start")
        self.start_card.opened.connect(self.opened)
        self.start_card.started.connect(self.start)
        self.start_card.offered.connect(self.take_offer)
        self.start_card.left.connect(lambda: self.go.emit(""))
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(150)
        self._timer.timeout.connect(self.review)
        for field in (self.power, self.ceiling, self.ambient, self.core, self.full, self.every):
            field.line.textChanged.connect(lambda _t: self._timer.start())
        session.bench_changed.connect(self._fill_benches)
        self._lay_out()

    def _lay_out(self) -> None:
        lines: tuple[tuple[str, QWidget], ...] = (
            ("On", self.bench),
            ("Load: at most", self.power),
            ("", self.ceiling),
            ("Ambient", self.ambient),
            ("Pack begins at", self.core),
            ("Charged to", self.full),
            ("Speed", self.speed),
            ("Keep one every", self.every),
            ("Voltage good to", self.accuracy_V),
            ("Current good to", self.accuracy_A),
            ("", self.proven),
            ("If not proved", self.override),
        )
        grid, labels = fields_beside(lines)
        self._fields = [(words, widget) for words, (_, widget) in zip(labels, lines, strict=True)]
        left = QWidget()
        left.setLayout(
            column(
                card(self.title, self.words, self.steps, Flow(self.edit, self.sheet, self.save, fills=True), gap=2),
                card(label("Where", "heading"), grid),
                None,
                gap=3,
            )
        )
        inner = QWidget()
        inner.setLayout(column(Halves((left, 1), (self.start_card, 1)), None))
        self.setLayout(column(scrolling(inner)))

    # --- what is planned ---

    def load(self, template: Template) -> None:
        """Plan by this recipe."""
        self.title.setText(template.title)
        school = f" {template.school[:1].upper()}{template.school[1:]}." if template.school else ""
        self.words.setText(template.words + school)
        heavy = self.station == "load"
        self.power.set_number(HEAVY_W if heavy else USUAL_W)
        self.ceiling.set_number(HEAVY_A if heavy else USUAL_A)
        cold = "cold" in template.cautions
        self.ambient.set_number(20.0 if cold else ROOM_C)
        self.core.set_number(-12.0 if cold else None)
        charges = template.steps[0].kind == "charge" or template.method in {"charge", "charge-block", "heater"}
        self.full.set_text("30 %" if charges else "100 %")
        self.edit.setChecked(False)
        self._fill_benches()
        self._as_planned(template.name)
        self.steps.show_recipe(template, self._facts())
        recipe = self.steps.recipe
        cautions = recipe.cautions if recipe is not None else ()
        self.start_card.show_cautions(cautions)
        self.review()

    def _edit(self) -> None:
        if self.steps.template is not None:
            self.steps.show_recipe(self.steps.template, self._facts(), self.edit.isChecked())
            self.review()

    def _fill_benches(self) -> None:
        if not self.session.has_book:
            return
        chosen = self.bench.currentData()
        self.bench.clear()
        self.bench.addItem("stand-in bench (nothing real)", "")
        self.bench.addItem("by hand, as you are asked", BY_HAND)
        with self.session.guard():
            for channel in self.session.equipment.channels:
                self.bench.addItem(f"channel {channel.name}", channel.name)
        self.bench.setCurrentIndex(max(0, self.bench.findData(chosen)))
        self._bench_chosen()

    def _as_planned(self, recipe: str) -> None:
        """The channel that the plan has for it, where there is one and it is free."""
        drawn = self.session.drawn()
        task = drawn.next_of(self.sample_id, recipe) if drawn is not None else None
        if drawn is None or task is None:
            return
        from wintry_tally.app.able import channel_of

        planned = (channel_of(place) for place in drawn.plan.takes(task))
        name = next((name for name in planned if name and self.session.running.on_channel(name) is None), "")
        if name and (index := self.bench.findData(name)) >= 0:
            self.bench.setCurrentIndex(index)

    def _bench_chosen(self) -> None:
        shown = {self.bench, self.ambient} | {
            "": {self.power, self.ceiling, self.core, self.full, self.speed, self.every},
            BY_HAND: {self.power, self.ceiling, self.full, self.every, self.accuracy_V, self.accuracy_A, self.proven},
        }.get(str(self.bench.currentData() or ""), {self.full, self.every, self.override})
        by_hand = self.bench.currentData() == BY_HAND
        self.every.line.setPlaceholderText("30 min" if by_hand else "1 s")
        for words, widget in self._fields:
            words.setVisible(widget in shown)
            widget.setVisible(widget in shown)
        self.start_card.acknowledge(False)
        if self.steps.template is not None:
            self.review()

    def _limits(self) -> Bench:
        name = self.bench.currentData()
        if name == BY_HAND:
            load = self.power.number or 0.0, self.ceiling.number or 0.0
            return Bench(*load, math.inf, math.inf, own_cutoff=self.proven.isChecked(), by_hand=True)
        if name:
            equipment = self.session.equipment
            return equipment.limits(equipment.channel(name))
        sample = self.session.sample(self.sample_id)
        charger = stand_in_charger(sample.family, sample.rated_Ah)
        return Bench(self.power.number or 0.0, self.ceiling.number or 0.0, *charger, own_cutoff=True)

    def _attendance(self) -> Attendance | None:
        """Who is there, for a run on the wall's clock; in fast time nobody needs to be."""
        fast = not self.bench.currentData() and float(self.speed.currentData()) != 1.0
        if fast:
            return None
        by_hand = self.bench.currentData() == BY_HAND
        return Attendance(datetime.now().astimezone(), self.session.attended, self._limits().own_cutoff, by_hand)

    def _facts(self) -> Facts:
        sample = self.session.sample(self.sample_id)
        attendance = self._attendance()
        given = given_over_night(sample, self.session.runs(sample.id), attendance) if attendance is not None else {}
        return Facts(sample.family, sample.rated_Ah or 0.0, sample.claims, self._limits().limits, given)

    def take_offer(self, offer: Offer) -> None:
        """Mend the plan as offered: begin later, draw less, or turn it down for the night."""
        template = self.steps.template
        if template is None:
            return
        if offer.kind == "night":
            from wintry_tally.exchange.recipe_file import shipped_recipe

            self.load(shipped_recipe("capacity-slow-night"))
            return
        made = begun_later(template, offer.value) if offer.kind == "wait" else with_current(template, offer.value)
        self.steps.show_recipe(made, self._facts(), self.edit.isChecked())
        self.start_card.acknowledge(False)
        self.review()

    def review(self) -> None:
        """The pre-flight list, for what stands here now."""
        from wintry_tally.app.comparison import held_words

        if self.steps.template is None or not self.session.holds(self.sample_id):
            return
        sample = self.session.sample(self.sample_id)
        facts = self._facts()
        self.steps.facts_changed(facts) if not self.steps.problem else None
        told = ""
        recipe = self.steps.recipe
        found: list[Check] = []
        if recipe is None:
            found.append(check("steps", "bar", as_message(self.steps.problem) or said("step-unread")))
        else:
            limits = self._limits()
            outlook = self._forecast()
            found = preflight_recipe(
                self.steps.template,
                recipe,
                facts,
                limits,
                sample.arrival.rested_V,
                outlook.end_s if outlook else None,
                self._attendance(),
            )
            if outlook is not None and outlook.end_s > 0:
                told = _outlook_words(outlook) + held_words(
                    self.session.dossier(sample.id), outlook.charge_Ah + outlook.put_in_Ah
                )
        busy = self.session.running.on_channel(str(self.bench.currentData() or ""))
        if busy is not None:
            found.append(check("channel", "bar", said("channel-busy", run=busy.run.title)))
        fields = (
            *(self.power, self.ceiling, self.ambient, self.core, self.full, self.every, self.accuracy_V),
            self.accuracy_A,
        )
        if any(field.problem for field in fields if not field.isHidden()):
            found.append(check("fields", "bar", said("field-unread")))
        every = self.every.number
        if every is not None and not LEAST_EVERY_S <= every <= MOST_EVERY_S:
            found.append(check("readings", "bar", said("interval-out-of-range")))
        self.start_card.show_checks(found, told)

    def _forecast(self) -> Forecast | None:
        from wintry_tally.app.comparison import battery_of
        from wintry_tally.core.plan import forecast

        sample, recipe = self.session.sample(self.sample_id), self.steps.recipe
        if not sample.rated_Ah or recipe is None or not recipe.live:
            return None
        ambient = ROOM_C if self.ambient.number is None else self.ambient.number
        return forecast(recipe, battery_of(sample, self.session.dossier(sample.id)), ambient, full=self._share())

    def _share(self) -> float:
        return min(1.0, max(0.0, (100.0 if self.full.number is None else self.full.number) / 100.0))

    def sample_switched(self) -> None:
        """A plan belongs to its sample."""
        self.steps.template = None

    def leave(self) -> None:
        """Nothing is left to be reviewed."""
        self._timer.stop()

    def refresh(self) -> None:
        """Check again: a claim may have changed."""
        self.review()

    def save_sheet(self) -> None:
        """Ask where the bench sheet of what stands here goes, and write it."""
        template, recipe = self.steps.template, self.steps.recipe
        if template is None or recipe is None:
            return
        sample = self.session.sample(self.sample_id)
        if path := page_place(self, f"{sample.code} {template.name}"):
            from wintry_tally.files import write_whole
            from wintry_tally.report.sheet import render_sheet

            with self.session.guard():
                name = self.session.book.meta("name", self.session.book.path.stem)
                planned = self._planned(template.name)
                demo = self.session.book.meta("demo") == "yes"
                write_whole(render_sheet(sample, template, recipe, name, planned, demo, units=current().units), path)
                self.session.said.emit(f"Saved {path}")

    def _planned(self, recipe: str) -> str:
        """When the plan has this test begin, in words; empty where it is not in it."""
        from wintry_tally.core.quantity.moments import clock_words

        drawn = self.session.drawn()
        if drawn is None:
            return ""
        task = drawn.next_of(self.sample_id, recipe)
        return (
            "" if task is None else clock_words(drawn.moment(drawn.plan.starts[task.id]), datetime.now().astimezone())
        )

    def _save(self) -> None:
        template = self.steps.template
        if template is None:
            return
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the recipe", str(Path.home() / f"{template.name}.toml"), "Recipes (*.toml *.json)"
        )
        if name:
            from wintry_tally.exchange.recipe_file import write_recipe

            with self.session.guard():
                write_recipe(template, Path(name))
                self.session.said.emit(f"Saved {name}")

    # --- starting ---

    def start(self) -> None:
        """Start the run as planned."""
        recipe = self.steps.recipe
        if recipe is None or not self.start_card.start_button.isEnabled():
            return
        chosen = str(self.bench.currentData() or "")
        by_hand = chosen == BY_HAND
        with self.session.guard():
            self.session.running.start(
                self.session.sample(self.sample_id),
                recipe,
                self._settings(chosen),
                recipe.cautions,
                self.station,
                "" if by_hand else chosen,
                by_hand,
            )
            self.start_card.acknowledge(False)
            self.session.touch_runs(self.sample_id)
            self.go.emit("")

    def _settings(self, channel: str) -> RunSettings:
        sample, recipe = self.session.sample(self.sample_id), self.steps.recipe
        assert recipe is not None
        if channel and channel != BY_HAND:
            return bench_settings(
                sample, recipe, self.session.equipment, channel, ambient_C=self.ambient.number, full=self._share(),
                every_s=self.every.number, override=self.override.text(),
            )  # fmt: skip
        ambient = ROOM_C if self.ambient.number is None else self.ambient.number
        every = self.every.number
        known: dict[str, object] = {
            "cutoff_V": recipe.cutoff_V,
            "ambient_C": ambient,
            "mode": "recipe",
            "state_of_charge": self._share(),
            # a bench is watched every second whatever is kept
            "interval_s": min(1.0, every or 1.0),
            "keep_every_s": every if every is not None and every > 1.0 else 0.0,
        }
        if channel == BY_HAND:
            return RunSettings.of(
                sample,
                **known,
                voltage_accuracy=str(self.accuracy_V.value or ""),
                current_accuracy=str(self.accuracy_A.value or ""),
                voltage_resolution=0.01,
                current_resolution=0.01,
                instrument="hand meter",
                read_every_s=every or READ_EVERY_S,
                clock_s=CLOCK_LIMIT_S / 3**0.5,
            )
        from wintry_tally.app.comparison import health_of_stand_in

        seed = random.SystemRandom().randrange(1, 10**9)
        return RunSettings.of(
            sample,
            **known,
            voltage_accuracy=STAND_IN_METER.voltage_accuracy,
            current_accuracy=STAND_IN_METER.current_accuracy,
            voltage_resolution=STAND_IN_METER.voltage_resolution,
            current_resolution=STAND_IN_METER.current_resolution,
            instrument="simulated meter",
            speed=float(self.speed.currentData()),
            seed=seed,
            start_C=self.core.number,
            power_W=self.power.number or USUAL_W,
            load_A=self.ceiling.number or USUAL_A,
            health=health_of_stand_in(self.session.dossier(self.sample_id), seed),
        )


def _outlook_words(outlook: Forecast) -> str:
    parts = []
    if outlook.charge_Ah > 0.005:
        parts.append(f"{outlook.charge_Ah:.3g} Ah drawn")
    if outlook.put_in_Ah > 0.005:
        parts.append(f"{outlook.put_in_Ah:.3g} Ah put in")
    return f"Forecast: {', '.join(parts) or 'little moved'} in {format_duration(outlook.end_s)}."
