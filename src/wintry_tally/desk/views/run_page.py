"""A run while it goes on: few, large figures, the curve, and what can be asked of it."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QSizePolicy, QWidget

from wintry_tally.app.run_seen import Keys, figures_of, keys_of
from wintry_tally.core.engine import Phase, Request
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.protocol.template import in_words
from wintry_tally.core.trace.beside import INTO_TRACE, beside_column, cells_told
from wintry_tally.core.working import Working
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.across import AcrossRoom
from wintry_tally.desk.views.phases import doing_words
from wintry_tally.desk.views.plan_page import SPEEDS
from wintry_tally.desk.views.run_outlook import outlook_of
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.flow import Columns, Flow
from wintry_tally.desk.widgets.guided_card import GuidedCard
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.parts import button, card, column, label, narrow, row, scrolling, under
from wintry_tally.desk.widgets.quantity_field import QuantityField
from wintry_tally.desk.widgets.twice import Twice

if TYPE_CHECKING:
    from wintry_tally.app.live_run import LiveRun
    from wintry_tally.app.safety import AllOff
    from wintry_tally.core.battery import Family

TOLD_WORDS = {"counter_Ah": "the instrument's counter", "counter_Wh": "its energy counter", "charge_state": "the gauge"}
TOLD_UNITS = {"counter_Ah": "Ah", "counter_Wh": "Wh", "charge_state": "%"}
COUNTED = (("counter_Ah", "Ah"), ("counter_Wh", "Wh"))
MINOR = ("Charge so far", "Power", "Energy", "Under load", "Ends about", "To come")
WHERE = {Method.SIMULATED: "simulated bench", Method.GUIDED: "by hand"}


class RunPage(StationView):
    """Follows the live run of the sample."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.state = label("", "heading", wrap=True)
        self.trouble = label("", "problem", wrap=True)
        self.step = label("", "quiet", wrap=True)
        self.warned = FindingList()
        self.beside = label("", "quiet", wrap=True)
        self.how_beside = button("Working", self._show_beside, "link", "Working of what is told beside the reading")
        told = row(self.beside, self.how_beside)
        told.setStretch(0, 1)
        self.asked = label("", wrap=True)
        answer = partial(self._ask_of_step, "answer", words="done")
        self.done = Twice("Done", "", answer, "main", "What was asked is done").key
        asking = row(self.asked, self.done)
        asking.setStretch(0, 1)
        self.prompt = card(asking, role="banner")
        self.prompt.hide()
        self.guided = GuidedCard(session)
        self._titles = {name: label(name, "small") for name in ("Voltage", "Current", "Charge", *MINOR)}
        self.figures = {name: Figure(name, "huge") for name in ("Voltage", "Current", "Charge")}
        self.minor = {name: Figure(name) for name in MINOR}
        for figure in (*self.figures.values(), *self.minor.values()):
            figure.opened.connect(self.opened)
        self.curve = Curve("Voltage over time", "time / h", "voltage / V")
        # whatever height is left, and a readable one at the least: the page scrolls before it is squeezed
        self.curve.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
        self.curve.setMinimumHeight(150)
        self._across: AcrossRoom | None = None
        QShortcut(QKeySequence("F11"), self, self.show_across)
        self._shown = self._run_id = 0
        self._stops = ("Stop the test", "Press again to stop it", partial(self._ask, Request("stop")))
        self._closes = (
            "It is unplugged: close the run", "Press again: it is unplugged", partial(self._ask, Request("unplugged")),
        )  # fmt: skip
        skip = partial(self._ask_of_step, "skip")
        self._skips = (("Skip this step", "", skip), ("Skip this step", "Press again to skip it", skip))
        self._told: tuple[int, str] = (0, "")
        self._make_keys()
        self._big = QWidget()
        self._lay_out(told)

    def _make_keys(self) -> None:
        self.pause = button("Pause", self._pause)
        self.rate = QuantityField("New setting", "current", "new current")
        self.rate.line.setMaximumWidth(130)
        self.change = button("Change the rate", self._change)
        self.rate.entered.connect(self._change)
        self._stopping = Twice(*self._stops)
        self.stop = self._stopping.key
        self.speed = QComboBox()
        self.speed.setAccessibleName("Speed of the simulated bench")
        for words, value in SPEEDS:
            self.speed.addItem(words, value)
        self.speed.activated.connect(self._speed)
        self._skipping = Twice(*self._skips[True])
        self.skip = self._skipping.key
        self.mark = Line()
        self.mark.setAccessibleName("A mark for the record")
        self.mark.setPlaceholderText("note for the record, Enter")
        self.mark.setMaximumWidth(190)
        self.mark.returnPressed.connect(self._mark)
        self.across_button = button("Across the room", self.show_across, "link", "Show it in huge figures (F11)")
        self.over = QComboBox()
        self.over.setAccessibleName("Hand the run over to another bench")
        narrow(self.over)
        self.over.activated.connect(self._hand_over)

    def _lay_out(self, told: QHBoxLayout) -> None:
        self._big.setLayout(Columns(*(under(self._titles[name], figure) for name, figure in self.figures.items())))
        self._so_far = under(self._titles["Charge so far"], self.minor["Charge so far"])
        others = (under(self._titles[name], self.minor[name]) for name in MINOR[1:])
        small = Columns(self._so_far, *others, gap=3, down=1)
        steering = QWidget()
        steering.setLayout(Flow(self.pause, self.skip, self.stop))
        bar = Flow(steering, self.rate, self.change, self.speed, fills=True)
        inner = QWidget()
        inner.setLayout(
            column(
                Flow(self.state, self.over, self.mark, self.across_button, fills=True),
                self.step,
                self.trouble,
                self.warned,
                self.prompt,
                self.guided,
                card(self._big, small, told, gap=3),
                card(self.curve),
                gap=3,
            )
        )
        inner.layout().setStretch(7, 1)
        self.setLayout(column(scrolling(inner), bar, gap=3))

    def refresh(self) -> None:
        """Another run, or the same."""
        live = self.session.running.of_sample(self.sample_id)
        if live is None:
            return
        self.speed.setVisible(live.run.method is Method.SIMULATED)
        index = self.speed.findData(live.worker.speed)
        self.speed.setCurrentIndex(index if index >= 0 else 0)
        if live.run.id != self._run_id:  # the same one is told anew whenever its book changes
            self._run_id = live.run.id
            self._stopping.mean(*self._stops)
            self._stopping.forget()
        self._offer_others(live)
        self.tick()

    def tick(self) -> None:
        """The newest figures."""
        live = self.session.running.of_sample(self.sample_id)
        if live is None:
            return
        seen = live.latest
        self._shown = seen.state.index
        where = WHERE.get(live.run.method, "") or f"channel {live.run.settings.channel}"
        doing = doing_words(seen)
        self.state.setText(f"{live.run.title} · {doing} · {where}")
        if seen.ended and seen.trouble:
            self._stopping.mean(*self._closes)
        self._say_step(live)
        self.trouble.setText(seen.trouble or live.worker.refusal)
        self.trouble.setVisible(bool(self.trouble.text()))
        self._warn(live)
        for name, one in figures_of(live).items():
            figure = self.figures.get(name) or self.minor[name]
            figure.set_text(one.text, "", one.unit, one.working)
            self._titles[name].setText(one.title)
        self._outlook(live)
        self.guided.show_run(live)
        by_hand = live.guide is not None
        self._big.setVisible(not by_hand)  # what was just typed needs no huge figures; the line to type into needs room
        self._so_far.setVisible(by_hand)
        self.beside.setText(beside_words(seen.beside))
        self.beside.setVisible(bool(self.beside.text()))
        self.how_beside.setVisible(bool(self.beside.text()))
        self._show_keys(keys_of(live))
        self._draw(live)
        if self._across is not None and self._across.isVisible():
            code = self.session.sample(self.sample_id).code
            self._across.show_run(live, code, doing_words(seen))

    def _warn(self, live: LiveRun) -> None:
        """What comes near before anything has to stop."""
        seen = live.latest
        near = [f"{words[:1].upper()}{words[1:]}." for _, words in seen.state.warned if not seen.ended]
        if near != self.warned.messages:
            self.warned.reset()
            for words in near:
                self.warned.add("heed", words)
        self.warned.setVisible(bool(near))

    def _show_keys(self, keys: Keys) -> None:
        self.pause.setText(keys.pause)
        self.pause.setEnabled(keys.pausing)
        self.rate.setVisible(keys.settable)
        self.change.setVisible(keys.settable)
        self.change.setEnabled(keys.pausing)
        self._skipping.mean(*self._skips[keys.ends])
        self.skip.setVisible(keys.skipping)
        self.skip.setEnabled(keys.skip)

    def _say_step(self, live: LiveRun) -> None:
        """Where in the recipe it is, and what a person is asked to do."""
        state, steps = live.latest.state, live.recipe.steps
        current = steps[state.index]
        asks = state.phase is Phase.PROMPTING
        words = "" if asks else f": {in_words(current)}"
        self.step.setText(f"Step {state.index + 1} of {len(steps)} · {current.title}{words}")
        self.prompt.setVisible(asks)
        if asks:
            self.asked.setText(current.words or current.title)
        place = (live.run.id, f"{state.index}{state.phase}")
        if asks and place != self._told:
            self.done.setFocus()
        self._told = place

    def _outlook(self, live: LiveRun) -> None:
        """When it ends and what is to come, with the band of both."""
        found = outlook_of(live)
        self.minor["Ends about"].set_text(found.ends, found.between, "", found.working)
        self.minor["To come"].set_text(found.to_come, found.to_come_doubt, "Ah" if found.working else "", found.working)

    def _show_beside(self) -> None:
        """Where the figures beside the reading come from."""
        live = self.session.running.of_sample(self.sample_id)
        if live is None:
            return
        inputs = {}
        for name, value in live.latest.beside.items():
            column = beside_column(name) if name not in INTO_TRACE else None
            words = column.words if column is not None else TOLD_WORDS[name]
            unit = column.unit if column is not None else TOLD_UNITS[name]
            inputs[words] = f"{value:.3f} {unit}" if unit in {"V", "A", "Ah"} else f"{value:g} {unit}"
        cells = cells_told(live.latest.beside)
        apart = f"{1000 * (max(cells.values()) - min(cells.values())):.0f} mV" if len(cells) > 1 else ""
        source = "as told by each instrument; kept beside every reading, never counted in its place"
        self.opened.emit(Working("Beside the reading", "cells apart = highest − lowest", inputs, apart, source))

    def _mark(self) -> None:
        text = self.mark.text().strip()
        if text:
            self._ask(Request("mark", words=text))
            self.mark.clear()
            self.session.said.emit(f"Marked: {text}")

    def all_off(self, doing: AllOff, families: list[Family]) -> None:
        """See StationView: across the room too."""
        if self._across is not None and self._across.isVisible():
            self._across.show_all_off(doing, families)

    def show_across(self) -> None:
        """The figures in a window of their own, readable from across the room; again closes it."""
        if self.session.running.of_sample(self.sample_id) is None:
            return
        if self._across is None:
            self._across = AcrossRoom()
            self._across.wanted.connect(self.session.all_off_asked)
        if self._across.isVisible():
            self._across.close()
        else:
            self._across.resize(1280, 800)
            self._across.showMaximized()
            self.tick()

    def leave(self) -> None:
        """The far view belongs to the run."""
        if self._across is not None:
            self._across.close()

    def _draw(self, live: LiveRun) -> None:
        points = live.worker.curve()
        if not live.one_discharge:
            self._draw_onward(live, points)
            return
        step = max(1, len(points) // 1500)
        thinned = points[::step] + points[-1:]
        x = [point[0] / 3600.0 for point in thinned]
        y = [point[1] for point in thinned]
        base = (
            live.latest.state.step_since_s / 3600.0 if live.latest.state.phase is Phase.RESTING else _first_load(points)
        )
        ahead = ("model", [base + t / 3600.0 for t in live.curve.time_s], list(live.curve.voltage_V))
        if live.recipe.steps[0].kind == "rest":
            rest = live.recipe.steps[0].ends[0].value / 3600.0
            ahead = (
                "model",
                [max(0.0, t / 3600.0 - rest) + base for t in live.curve.time_s],
                list(live.curve.voltage_V),
            )
        self.curve.show_curves([("measured", x, y)], ahead)

    def _draw_onward(self, live: LiveRun, points: list[tuple[float, float, float, float]]) -> None:
        """Charges, and runs of several steps: what was measured, and the model's way on from here."""
        stride = max(1, len(points) // 1500)
        thinned = points[::stride] + points[-1:]
        to_come, ago = live.onward() if live.recipe.live else (None, 0.0)
        now = live.latest.elapsed_s - ago
        ahead = (
            None
            if to_come is None
            else ("model", [(now + t) / 3600.0 for t in to_come.time_s], list(to_come.voltage_V))
        )
        self.curve.show_curves([("measured", [p[0] / 3600.0 for p in thinned], [p[1] for p in thinned])], ahead)

    # --- what can be asked ---

    def _ask(self, request: Request) -> None:
        live = self.session.running.of_sample(self.sample_id)
        if live is not None:
            live.worker.ask(request)

    def _ask_of_step(self, kind: str, setting: float = 0.0, words: str = "") -> None:
        """What is asked of the step that is shown: pressed twice, it is not asked of the next one."""
        self._ask(Request(kind, setting, words, of_step=self._shown))

    def _pause(self) -> None:
        self._ask(Request("resume" if self.pause.text() == "Resume" else "pause"))

    def _change(self) -> None:
        if self.rate.number is not None:
            self._ask_of_step("set", self.rate.number)
            self.rate.set_text("")

    def _offer_others(self, live: LiveRun) -> None:
        """The benches that could take the run over: other channels, or hands. A stand-in battery is on its own bench."""
        self.over.clear()
        own = live.run.settings.channel
        others = [] if live.guide is not None else [("by hand", "")]
        with self.session.guard():
            names = (channel.name for channel in self.session.equipment.channels)
            others += [(f"channel {name}", name) for name in names if name != own]
        self.over.addItem("Hand over to…", None)
        for words, name in others:
            self.over.addItem(words, name)
        self.over.setVisible(live.run.method is not Method.SIMULATED and bool(others))

    def _hand_over(self) -> None:
        live, chosen = self.session.running.of_sample(self.sample_id), self.over.currentData()
        self.over.setCurrentIndex(0)
        if live is not None and chosen is not None:
            with self.session.guard():
                self.session.running.hand_over(live, str(chosen))

    def _speed(self) -> None:
        live = self.session.running.of_sample(self.sample_id)
        if live is not None:
            with self.session.guard():
                self.session.running.set_speed(live.run.id, float(self.speed.currentData()))

    def theme_changed(self) -> None:
        """The curve follows."""
        self.curve.theme_changed()


def beside_words(told: Mapping[str, float]) -> str:
    """What is told beside the reading, in one line: a second meter, counters, the pack's own figures."""
    parts = []
    second = [f"{told[name]:.3f} {unit}" for name, unit in (("second_V", "V"), ("second_A", "A")) if name in told]
    if second:
        parts.append(f"second meter {', '.join(second)}".replace("-", "−"))
    parts += [f"counter {told[name]:.2f} {unit}" for name, unit in COUNTED if name in told]
    cells = cells_told(told)
    if len(cells) > 1:
        low, high = min(cells.values()), max(cells.values())
        lowest = next(number for number, value in cells.items() if value == low)
        which = f", the lowest is cell {lowest}" if high - low >= 0.002 else ""
        parts.append(f"cells {low:.3f} to {high:.3f} V, {1000 * (high - low):.0f} mV apart{which}")
    if "charge_state" in told:
        parts.append(f"the pack's gauge says {told['charge_state']:.0f} %")
    if "pack_C" in told:
        parts.append(f"its thermometer {told['pack_C']:.1f} °C")
    return " · ".join(parts)


def _first_load(points: list[tuple[float, float, float, float]]) -> float:
    return next((point[0] / 3600.0 for point in points if point[2] > 0.02), 0.0)
