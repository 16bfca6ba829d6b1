"""Bench: the instruments with their limits and accuracies, the channels that say who does what, and what they say."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from functools import partial

from PySide6.QtWidgets import QHBoxLayout, QLabel, QPlainTextEdit, QVBoxLayout, QWidget

from wintry_tally.bench.connect import Tried, tried
from wintry_tally.bench.drivers.quantities import kept_unit
from wintry_tally.bench.equipment import KINDS, ChannelSpec, Equipment, Instrument
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.protocol.attended import USUAL, parse_attended
from wintry_tally.core.quantity import amps_words
from wintry_tally.core.trace.beside import cell_number
from wintry_tally.desk.session import Session
from wintry_tally.desk.theme.style import font
from wintry_tally.desk.views.page import MainPage
from wintry_tally.desk.widgets.bench_forms import ChannelForm, InstrumentForm
from wintry_tally.desk.widgets.findings import Mark
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, row, scrolling
from wintry_tally.desk.widgets.places_card import PlacesCard
from wintry_tally.desk.widgets.quantity_field import TypedField


def told_of(answer: Tried) -> str:
    """What an instrument measured, in one line."""
    told = ", ".join(f"{value:g} {kept_unit(name)}{_of_cell(name)}" for name, value in answer.values.items())
    return told or "it answers, and measures nothing by itself"


def _of_cell(name: str) -> str:
    number = cell_number(name)
    return "" if number is None else f" (cell {number})"


class BenchView(MainPage):
    """Instruments and channels; kept in the book, undone with Ctrl+Z."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._instruments, self._channels = QVBoxLayout(), QVBoxLayout()
        for part in (self._instruments, self._channels):
            part.setSpacing(6)
        self.instrument_form, self.channel_form = InstrumentForm(), ChannelForm()
        self.instrument_form.kept.connect(self._keep_instrument)
        self.instrument_form.cancelled.connect(self.instrument_form.hide)
        self.channel_form.kept.connect(self._keep_channel)
        self.channel_form.cancelled.connect(self.channel_form.hide)
        self._before = ""
        self._doing: dict[str, QLabel] = {}
        self._health: dict[str, tuple[datetime, Tried]] = {}
        self.exchange = QPlainTextEdit()
        self.exchange.setReadOnly(True)
        self.exchange.setFont(font("mono"))
        self.exchange.setAccessibleName("Raw exchange")
        self.exchange.setFixedHeight(110)
        self.said = label("", wrap=True)
        self._exchange_card = card(label("What it said", "heading"), self.said, self.exchange)
        self.ask_all = button("Ask all", self.read_all, "", "Ask every instrument once")
        self.add_instrument = button("Add an instrument", self.new_instrument, "main")
        self.add_channel = button("Add a channel", self.new_channel)
        self.stand_ins = button("Start stand-ins here", self.start_stand_ins, "link", "Start stand-in instruments here")
        self.hours = TypedField("Somebody is there", parse_attended, lambda _hours: "", USUAL)
        self.hours.committed.connect(self._keep_hours)
        self.hours.line.setMaximumWidth(320)
        self.places = PlacesCard(session)
        self._lay_out()
        session.bench_changed.connect(self.refresh)
        session.places_changed.connect(self._places_changed)
        session.ticked.connect(self.tick)
        self.instrument_form.hide()
        self.channel_form.hide()
        self._exchange_card.hide()

    def _lay_out(self) -> None:
        note = label(
            "Instruments and channels of this bench are kept in this book. Nothing is switched on from this page. With "
            "nothing to connect, stand-ins on this computer answer as instruments do.",
            "quiet",
            wrap=True,
        )
        inner = QWidget()
        inner.setLayout(
            column(
                row(label("Bench", "title"), None, self.stand_ins),
                note,
                card(
                    row(label("Instruments", "heading"), None, self.ask_all, self.add_instrument),
                    self._instruments,
                    self.instrument_form,
                ),
                self._exchange_card,
                card(row(label("Channels", "heading"), None, self.add_channel), self._channels, self.channel_form),
                self.places,
                card(
                    label("People", "heading"),
                    label(
                        "When somebody is there, by the clock on the wall. A run that must be attended, or could drive a "
                        "battery flat, is not started where its end falls outside.",
                        "small",
                        wrap=True,
                    ),
                    self.hours,
                ),
                None,
                gap=3,
            )
        )
        self.setLayout(column(scrolling(inner)))

    def _places_changed(self) -> None:
        if self.isVisible():
            with self.session.guard():
                self.places.refresh()

    def refresh(self) -> None:
        """As the book has it."""
        if not self.session.has_book:
            return
        with self.session.guard():
            self.places.refresh()
            equipment = self.session.equipment
            clear(self._instruments)
            clear(self._channels)
            self._doing = {}
            for instrument in equipment.instruments:
                self._instruments.addLayout(self._instrument_row(instrument))
            if not equipment.instruments:
                words = "None yet. Hand readings need none; add one to have it read and driven."
                self._instruments.addWidget(label(words, "quiet", wrap=True))
            for channel in equipment.channels:
                self._channels.addLayout(self._channel_row(channel, equipment))
            if not equipment.channels:
                words = "None yet. A channel says which instrument draws, which charges and whose readings count."
                self._channels.addWidget(label(words, "quiet", wrap=True))
            self.add_channel.setEnabled(bool(equipment.instruments))
            self.ask_all.setEnabled(bool(equipment.instruments))
            self.hours.set_text(self.session.attended_text)

    def _instrument_row(self, made: Instrument) -> QVBoxLayout:
        ceilings = [f"{value:g} {unit}" for value, unit in ((made.power_W, "W"), (made.current_A, "A"), (made.voltage_V, "V")) if value]  # fmt: skip
        known = [f"V {made.voltage_accuracy}" if made.voltage_accuracy else "", f"A {made.current_accuracy}" if made.current_accuracy else ""]  # fmt: skip
        words = " · ".join(
            part
            for part in (KINDS[made.kind], made.address, ", ".join(ceilings), ", ".join(part for part in known if part))
            if part
        )
        tools = row(
            label(made.name, "strong"),
            None,
            button("Read once", partial(self.read_once, made), "link", f"Read {made.name} once"),
            button("Change", partial(self._change_instrument, made), "link", f"Change {made.name}"),
            button("Remove", partial(self._remove, made.name), "link", f"Remove {made.name}"),
        )
        lines: list[QWidget | QHBoxLayout] = [tools, label(words, "small", wrap=True)]
        heard = self._health.get(made.name)
        if heard is not None:
            at, answer = heard
            mark = Mark("warning" if answer.problem else "good")
            said = label(f"{at:%H:%M:%S}: {answer.problem or told_of(answer)}", "small", wrap=True)
            health = row(mark, said)
            health.setStretch(1, 1)
            lines.append(health)
        return column(*lines, gap=0)

    def _channel_row(self, made: ChannelSpec, equipment: Equipment) -> QVBoxLayout:
        roles = [f"{words}: {getattr(made, key)}" for key, words, _ in ChannelForm.ROLES if getattr(made, key)]
        leads = made.leads
        if leads is not None:
            roles.append(f"leads {leads.area_mm2:.3g} mm², {leads.length_m:g} m")
        self._doing[made.name] = label(self._doing_on(made.name), "quiet")
        tools = row(
            label(f"Channel {made.name}", "strong"),
            self._doing[made.name],
            None,
            button("Change", partial(self._change_channel, made), "link", f"Change channel {made.name}"),
            button("Remove", partial(self._remove, made.name), "link", f"Remove channel {made.name}"),
        )
        return column(tools, label(" · ".join(roles), "small", wrap=True), gap=0)

    def _doing_on(self, channel: str) -> str:
        """What goes on on a channel, now."""
        busy = self.session.running.on_channel(channel)
        if busy is None:
            return "free"
        seen = busy.latest
        flows = (
            "" if seen.voltage_V != seen.voltage_V else f" · {seen.voltage_V:.2f} V · {amps_words(seen.current_A, 2)}"
        )
        trouble = f" · {seen.trouble}" if seen.trouble else ""
        return f"{self.session.sample(busy.run.sample_id).code}: {busy.run.title} is running{flows}{trouble}"

    def tick(self) -> None:
        """Channels follow what goes on on them."""
        if self.isVisible() and self.session.has_book:
            for channel, shown in self._doing.items():
                shown.setText(self._doing_on(channel))

    # --- changing ---

    def _keep_hours(self, hours: object) -> None:
        with self.session.guard():
            self.session.set_attended(self.hours.line.text().strip() if hours is not None else USUAL)

    def new_instrument(self) -> None:
        """An empty form."""
        self._change_instrument(Instrument(""))

    def _change_instrument(self, made: Instrument) -> None:
        self._before = made.name
        self.instrument_form.show_instrument(made)
        self.instrument_form.show()
        self.instrument_form.name.setFocus()

    def _keep_instrument(self, made: Instrument) -> None:
        def act() -> None:
            equipment = self.session.equipment
            taken = {item.name for item in equipment.instruments} | {item.name for item in equipment.channels}
            if made.name != self._before and made.name in taken:
                raise InputError(f"there is a {made.name} already", mend="choose another name")
            if self._before and made.name != self._before:
                raise InputError("a name stays once given, for runs refer to it", mend="remove it and add another")
            self.session.set_equipment(f"keep {made.name}", equipment.with_instrument(made))
            self.instrument_form.hide()

        self._tried(act, self.instrument_form.problem)

    def new_channel(self) -> None:
        """An empty form."""
        self._change_channel(ChannelSpec(""))

    def _change_channel(self, made: ChannelSpec) -> None:
        with self.session.guard():
            self.channel_form.show_channel(made, self.session.equipment)
            self.channel_form.show()
            self.channel_form.name.setFocus()

    def _keep_channel(self, made: ChannelSpec) -> None:
        def act() -> None:
            self.session.set_equipment(f"keep channel {made.name}", self.session.equipment.with_channel(made))
            self.channel_form.hide()

        self._tried(act, self.channel_form.problem)

    def _tried(self, act: Callable[[], None], problem: QLabel) -> None:
        try:
            act()
        except WintryError as error:
            problem.setText(str(error))
            problem.show()

    def _remove(self, name: str) -> None:
        with self.session.guard():
            self.session.set_equipment(f"remove {name}", self.session.equipment.without(name))

    # --- reading ---

    def read_once(self, made: Instrument) -> None:
        """Ask an instrument, without waiting for it here, and show what went over the line."""
        self._exchange_card.show()
        self.said.setText(f"Asking {made.name}…")
        self.exchange.setPlainText("")
        self.session.workshop.start(lambda _job: tried(made), lambda answer: self._answered(made, answer), self._failed)

    def read_all(self) -> None:
        """Ask every instrument once, one after the other; what each answers stands beside it."""
        with self.session.guard():
            for made in self.session.equipment.instruments:
                self.session.workshop.start(
                    lambda _job, one=made: tried(one), partial(self._noted, made), self._failed
                )  # fmt: skip

    def _noted(self, made: Instrument, answer: Tried) -> None:
        self._health[made.name] = (datetime.now(), answer)
        self.refresh()

    def _answered(self, made: Instrument, answer: Tried) -> None:
        self._noted(made, answer)
        self.said.setText(f"{made.name}: {answer.problem or told_of(answer)}")
        self.exchange.setPlainText("\n".join(answer.exchange) or "nothing went over the line")

    def _failed(self, text: str) -> None:
        self.said.setText(text)

    def start_stand_ins(self) -> None:
        """Instruments on loopback, with a channel, for whoever has none at hand."""
        with self.session.guard():
            self.session.start_stand_ins()
