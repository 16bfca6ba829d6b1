"""Compare: samples side by side, their curves on one axis, each figure with its difference, and what they are needed for."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from wintry_tally.app.shapes import Shapes
from wintry_tally.core.errors import WintryError
from wintry_tally.core.quantity.preferred import value_in
from wintry_tally.desk.asking import page_place
from wintry_tally.desk.copying import copy_button
from wintry_tally.desk.preferences import current, unit_name
from wintry_tally.desk.session import Session
from wintry_tally.desk.theme import SPACE
from wintry_tally.desk.views.page import MainPage
from wintry_tally.desk.widgets.curve import Curve
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.model_card import ModelCard
from wintry_tally.desk.widgets.need_card import NeedCard
from wintry_tally.desk.widgets.parts import anew, button, card, column, label, row, scrolling
from wintry_tally.desk.widgets.turns import turns
from wintry_tally.report.tables import comparison_table

if TYPE_CHECKING:
    from wintry_tally.app.comparison import Model
    from wintry_tally.core.compare import Comparison, NeedResult, Row
    from wintry_tally.report.dossier import Dossier, RunReport
    from wintry_tally.report.views_of_trace import Against

MOST = 6
MOST_CHIPS = 12
LOOKED_AT_ONCE = 150
"""Of a large rack so many are looked at in one turn: whether they have anything that can be compared."""
"""Of more samples than so many, the rest are picked from a list."""
AXES = {"charge": "Charge", "time": "Time", "energy": "Energy", "share": "% of rating", "mass": "Charge by mass"}
AXIS_TITLES = {"charge": "charge / Ah", "time": "time / h", "energy": "energy / Wh", "share": "share of the rating / %", "mass": "charge by mass / Ah/kg"}  # fmt: skip

LEAST_BESIDE = 70
"""So many letters' width the page has where what is said of a difference stands beside the figures."""
NAME, NAME_NARROW = 150, 116
"""How wide a quantity's name is, px: there, and where what is said stands below."""


class ComparePage(MainPage):
    """The samples picked, the first of them the one that the others are held against."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.picked: list[int] = []
        self._by_hand = False
        """Whether a person has picked: until then the usual ones are taken anew as samples come to be known."""
        self._known: tuple[object, ...] = ()
        self._chipped: list[tuple[int, str, str]] = []
        self._chip_of: dict[int, QPushButton] = {}
        self._comparable: dict[int, tuple[Dossier | None, bool]] = {}
        self._waits = False
        self._runs: dict[str, str] = {}
        self._chips = row(gap=1)
        self.others = QComboBox()
        self.others.setAccessibleName("Compare another")
        self.others.setMinimumContentsLength(14)
        self.others.activated.connect(self._pick_other)
        self.told = label("", "quiet", wrap=True)
        self.curve = Curve("Discharges compared", AXIS_TITLES["charge"], "voltage / V").by_keyboard()
        self.curve.setFixedHeight(250)
        self.axes: dict[str, QPushButton] = {}
        for key, words in AXES.items():
            made = button(words, partial(self._against, key), "choice", f"Against {words.lower()}")
            made.setCheckable(True)
            made.setAutoExclusive(True)
            self.axes[key] = made
        self.axes["charge"].setChecked(True)
        self._table, self._table_box = QGridLayout(), QVBoxLayout()
        self.need = NeedCard(session)
        self.need.opened.connect(self.opened)
        self.need.asked.connect(self.refresh)
        self._curve_card = card(Flow(label("Against", "quiet"), *self.axes.values(), gap=1), self.curve)
        self._shown: Comparison | None = None
        copy = copy_button(
            lambda: comparison_table(self._shown) if self._shown else None, session.said.emit, "the comparison"
        )
        self._said: list[tuple[QLabel, int]] = []
        self._names: list[QLabel] = []
        """What is said of each row's difference, and the row."""
        self._table_card = card(row(None, copy), self._table_box)
        self.model = ModelCard()
        self.model.opened.connect(self.opened)
        self.series = QComboBox()
        for count in range(1, MOST + 1):
            self.series.addItem("side by side" if count == 1 else f"{count} in series", count)
        self.series.setAccessibleName("Units in series in each string of a bank")
        self.join = button(
            "Join these to a bank", self.join_bank, "link", "Hang a tag for a bank of the samples picked"
        )
        self.save_page = button("Save as a page…", self.ask_page, "link", "Save the comparison as a web page")
        self._lay_out()
        self._shapes = Shapes(session.workshop, session.failed.emit)
        self._offered: list[tuple[int, str, str, bool]] | None = None
        self._drawn: tuple[object, ...] = ()
        self._wanted_now: list[Dossier] = []
        session.dossier_changed.connect(self.changed)
        session.samples_changed.connect(self.changed)
        session.plan_changed.connect(self.changed)

    def _lay_out(self) -> None:
        inner = QWidget()
        inner.setLayout(
            column(
                Flow(label("Compare", "title"), self.series, self.join, self.save_page, fills=True), Flow(self._chips, self.others), self.told, self._curve_card, self._table_card, self.model, self.need, None,
                gap=3,
            )
        )  # fmt: skip
        inner.layout().setContentsMargins(0, 0, 2 * SPACE, 0)
        self.setLayout(column(scrolling(inner)))

    # --- drawing ---

    def refresh(self) -> None:
        """The samples that can be compared, and those that are."""
        if not self.session.has_book or not self.session.open.shelf.at_work:
            return
        with self.session.guard():
            known = {sample.id: self.session.dossier(sample.id) for sample in self.session.samples()}
            fresh = [
                (number, one) for number, one in known.items() if one is not None and not self._looked_at(number, one)
            ]
            for number, one in fresh[:LOOKED_AT_ONCE]:
                self._can(number, one)
            if len(fresh) > LOOKED_AT_ONCE:
                turns().ask(self, self.refresh)
                return
            able = [number for number, dossier in known.items() if dossier is not None and self._can(number, dossier)]
            # one that is being worked out again stays picked
            kept = [number for number in self.picked if number in able or (number in known and known[number] is None)]
            self.picked = kept if self._by_hand and kept else self._usual(able, known)
            turns().ask(self._chips, partial(self._fill_chips, able))
            picked = [known[number] for number in self.picked]
            dossiers = [dossier for dossier in picked if dossier is not None]
            self._compare(dossiers, any(dossier is None for dossier in known.values()))

    def _can(self, number: int, dossier: Dossier) -> bool:
        """Whether a whole discharge of it is over; found out once of each dossier."""
        if not self._looked_at(number, dossier):
            self._comparable[number] = (dossier, any(_whole(run) for run in dossier.runs))
        return self._comparable[number][1]

    def _looked_at(self, number: int, dossier: Dossier) -> bool:
        known = self._comparable.get(number)
        return known is not None and known[0] is dossier

    def _usual(self, able: list[int], known: dict[int, Dossier | None]) -> list[int]:
        """Two units of one model where there are some, else the first two."""
        of_model: dict[str, list[int]] = {}
        for number in able:
            dossier = known[number]
            if dossier is not None:
                of_model.setdefault(dossier.sample.title, []).append(number)
        return next((units[:2] for units in of_model.values() if len(units) > 1), able[:2])

    def _fill_chips(self, able: list[int]) -> None:
        if not self.session.has_book or not all(self.session.holds(number) for number in able):
            return  # they are asked for again
        wanted = [
            (sample.id, sample.code, sample.title, sample.id in self.picked)
            for sample in map(self.session.sample, able)
        ]
        if wanted == self._offered:
            return
        self._offered = wanted
        few = set([*self.picked, *(number for number in able if number not in self.picked)][:MOST_CHIPS])
        shown = [
            (sample.id, sample.code, sample.title) for sample in map(self.session.sample, able) if sample.id in few
        ]
        if shown == self._chipped:  # the keyboard stays on the one that was pressed
            for number, chip in self._chip_of.items():
                chip.setChecked(number in self.picked)
        else:
            self._chipped = shown
            with anew(self._chips, QGridLayout()) as chips:
                chips.setHorizontalSpacing(4)
                self._chip_of = {number: self._chip(number) for number, _, _ in shown}
                for place, chip in enumerate(self._chip_of.values()):
                    chips.addWidget(chip, 0, place)
        others = [number for number in able if number not in few]
        self.others.setVisible(bool(others))
        if others != [self.others.itemData(place) for place in range(1, self.others.count())]:
            self.others.clear()
            self.others.addItem("another…", None)
            for number in others:
                self.others.addItem(f"{self.session.sample(number).code}  {self.session.sample(number).title}", number)
        self.others.setCurrentIndex(0)

    def _chip(self, number: int) -> QPushButton:
        sample = self.session.sample(number)
        made = button(sample.code, partial(self.pick, number), "choice", f"Compare {sample.code}, {sample.title}")
        made.setCheckable(True)
        made.setChecked(number in self.picked)
        made.setToolTip(sample.title)
        return made

    def _pick_other(self, place: int) -> None:
        number = self.others.itemData(place)
        if number is not None:
            self.pick(number)

    def pick(self, number: int) -> None:
        """Take a sample in, or out again; the first picked is the one that the others are held against."""
        self._by_hand = True
        if number in self.picked:
            self.picked.remove(number)
        elif len(self.picked) < MOST:
            self.picked.append(number)
        self.refresh()

    def _compare(self, dossiers: list[Dossier], reading: bool) -> None:
        few = len(dossiers) < 2
        for part in (self._curve_card, self._table_card):
            part.setVisible(bool(dossiers))
        self.need.setVisible(bool(dossiers))
        if reading and few:
            self.told.setText("The samples are being read…")
        elif few:
            self.told.setText("Pick two samples or more that were discharged to their end. The first is the one the others are held against.")  # fmt: skip
        else:
            first, *others = (dossier.sample.code for dossier in dossiers)
            self.told.setText(
                f"{', '.join(others)} against {first}. Errors that one meter brings to both cancel in a difference."
            )
        self._draw(dossiers)
        needs = self.session.needs
        wanted = (tuple((d.sample.id, id(d)) for d in dossiers), tuple(needs))
        if wanted == self._known or self._waits or not dossiers:
            return
        self._waits = True

        def work(_job: object) -> tuple[Comparison, list[NeedResult], Model | None]:
            from wintry_tally.app.comparison import compare_dossiers, judge_needs, model_of
            from wintry_tally.core.compare.typed_need import kept_needs

            asked = [need for _, need in kept_needs(needs)[0]]
            found = compare_dossiers(dossiers, asked)
            return found, judge_needs(dossiers, asked), model_of(dossiers, found)

        def done(found: tuple[Comparison, list[NeedResult], Model | None]) -> None:
            self._known, self._waits = wanted, False
            self._fill(found[0])
            self.need.show_results(found[1])
            self.model.show_model(found[2])
            self.changed()

        def failed(words: str) -> None:
            self._waits = False
            self.session.failed.emit(words)

        self.session.workshop.start(work, done, failed)

    def _against(self, key: str) -> None:
        self.axes[key].setChecked(True)
        self.refresh()

    @property
    def axis(self) -> str:
        """What the curves stand against."""
        return next(key for key, made in self.axes.items() if made.isChecked())

    def _draw(self, dossiers: list[Dossier]) -> None:
        """The runs that the table compares; until it is there, each one's latest whole discharge."""
        self._wanted_now = dossiers

        def again() -> None:
            if self._wanted_now is dossiers and self.session.has_book:
                self._draw(dossiers)

        axis, chosen, kilo = self.axis, [], value_in(1.0, "Ah/kg", current().units)
        for dossier in dossiers:
            sample = dossier.sample
            whole = [run for run in dossier.runs if _whole(run)]
            run = next(
                (one for one in whole if one.facts.title == self._runs.get(sample.code)), whole[-1] if whole else None
            )
            if run is not None and run.analysis is not None:
                chosen.append((sample, run, run.analysis))
        kind: Against = "time" if axis == "time" else "energy" if axis == "energy" else "charge"
        if not self._shapes.ready([(run.facts.id, one) for _, run, one in chosen], kind, again):
            return
        wanted = (axis, kilo, [(id(analysis), sample.code, sample.rated_Ah) for sample, _, analysis in chosen])
        if wanted == self._drawn[:3]:
            return
        self._drawn, series = (*wanted, chosen), []  # kept, so that no other has its place in memory
        for sample, run, _ in chosen:
            shape = self._shapes.of(run.facts.id, kind).drawn
            each = {"share": (sample.rated_Ah or 1.0) / 100.0, "mass": (sample.arrival.mass_kg or 1.0) / kilo}.get(
                axis, 1.0
            )
            if len(shape.x):
                series.append((f"{sample.code}: {run.facts.title}", shape.x / each, shape.voltage))
        self.curve.set_titles(AXIS_TITLES[axis].replace("Ah/kg", unit_name("Ah/kg")), "voltage / V")
        self.curve.show_curves(series)

    def _fill(self, found: Comparison) -> None:
        from wintry_tally.report.words import unlike_of

        self._said, self._names, self._shown = [], [], found
        self._runs = next((dict(one.runs) for one in found.rows if one.quantity == "charge"), {})
        first, *others = found.codes
        told: tuple[object, ...] = ()
        with anew(self._table_box, QGridLayout()) as self._table:
            self._table.setHorizontalSpacing(16)
            self._table.setVerticalSpacing(6)
            for place, code in enumerate(found.codes):
                self._table.addWidget(label(code, "heading"), 0, 1 + place)
            self._less = label(f"less {first}" if len(others) == 1 else f"each less {first}", "heading")
            if others:
                self._table.addWidget(self._less, 0, 1 + len(found.codes))
            for line, one in enumerate(found.rows, 1):
                self._fill_row(2 * line, one, found.codes, one.unlike == () or unlike_of(one) != told)
                told = unlike_of(one) or told
            self._table.setColumnStretch(1 + len(found.codes), 1)
            self._place_said()

    def _place_said(self) -> None:
        """Beside a row's figures, or below them where the window is narrow or the text large."""
        beside = self.width() >= LEAST_BESIDE * self.fontMetrics().horizontalAdvance("n")
        if self._said:  # what stands below its row names both
            self._less.setVisible(beside and self._less.parentWidget() is not None)
        for name in self._names:
            name.setFixedWidth(NAME if beside else NAME_NARROW)
        for said, line in self._said:
            if beside:
                self._table.addWidget(said, line, self._table.columnCount() - 1, Qt.AlignmentFlag.AlignTop)
            else:
                self._table.addWidget(said, line + 1, 0, 1, -1)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """See QWidget."""
        super().resizeEvent(event)
        self._place_said()

    def _fill_row(self, line: int, one: Row, codes: tuple[str, ...], afresh: bool) -> None:
        from wintry_tally.report.words import difference_words, handy, money_of

        top, money = Qt.AlignmentFlag.AlignTop, money_of(one)
        name = label(f"{one.label}, {money}" if money else one.label, "quiet", wrap=True)
        self._names.append(name)
        self._table.addWidget(name, line, 0, top)
        for place, code in enumerate(codes):
            value = one.values[code]
            if value is None:
                way = one.missing.get(code, "")
                missing = button(
                    "get it", partial(self._get, one, code), "link", f"{one.label} of {code}: no evidence; {way}"
                )
                missing.setToolTip(f"No evidence: {way}")
                self._table.addWidget(missing, line, 1 + place, top)
                continue
            figure = Figure(f"{one.label} of {code}", "body")
            figure.set_quantity(replace(handy(value), unit=handy(value).unit.removeprefix(money)), one.working)
            figure.opened.connect(self.opened)
            self._table.addWidget(figure, line, 1 + place, top)
        said = label(difference_words(one, codes, afresh), "small", wrap=True)
        self._said.append((said, line))

    def _get(self, one: Row, code: str) -> None:
        """Go where the test stands that would give a figure."""
        from wintry_tally.core.compare.comparing import kind_of

        number = next((sample.id for sample in self.session.samples() if sample.code == code), 0)
        if number:
            self.leads.emit(number, kind_of(one).station, "")

    # --- doing ---

    def join_bank(self) -> None:
        """Hang a tag for a bank of the samples picked, string by string in the order they were picked; shown at once."""
        from wintry_tally.core.battery.banks import joined

        units = tuple(self.session.sample(number) for number in self.picked)
        series, made = int(self.series.currentData()), list[int]()
        try:
            bank = joined(units, series, len(units) // series)
        except WintryError as error:
            self.session.failed.emit(f"{str(error)[:1].upper()}{str(error)[1:]}.")
            return
        self.session.change(
            self.session.open.edits.add_bank(bank, made),
            lambda done: self.leads.emit(made[0], "arrival", "") if done else None,
        )

    def ask_page(self) -> None:
        """Ask where the comparison goes as a page, and write it."""
        from wintry_tally.app.reporting import comparison_page
        from wintry_tally.core.compare.typed_need import kept_needs

        known = [self.session.dossier(number) for number in self.picked]
        dossiers = [dossier for dossier in known if dossier is not None]
        path = page_place(self, " ".join(dossier.sample.code for dossier in dossiers)) if dossiers else None
        if path is None:
            return
        needs = list(self.session.needs)
        self.session.workshop.start(
            lambda _job: comparison_page(dossiers, kept_needs(needs)[0], path, current().units),
            lambda _none: self.session.said.emit(f"Saved {path}"),
            self.session.failed.emit,
        )

    def theme_changed(self) -> None:
        """The plot is painted."""
        self.curve.theme_changed()
        self.need.theme_changed()


def _whole(run: RunReport) -> bool:
    from wintry_tally.app.comparison import as_tested
    from wintry_tally.core.compare import emptied

    one = as_tested(run)
    return one is not None and emptied(one)
