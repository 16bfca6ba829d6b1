"""Arrival: who made it, what it claims, how it came, and at once what the tool makes of that."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, cast

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QFrame, QGridLayout, QLineEdit, QWidget  # fmt: skip

from wintry_tally.core.battery import FAMILIES, Claim, Sample, arrival_findings, pack_of, packs_of
from wintry_tally.core.battery.claims import NOTED, in_sheet_order
from wintry_tally.core.battery.economy import Sum, derived_sums
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity.display import format_plain
from wintry_tally.desk.preferences import current
from wintry_tally.desk.session import Session
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.bank_card import BankCard
from wintry_tally.desk.widgets.claim_editor import SOURCES, ClaimEditor
from wintry_tally.desk.widgets.claim_list import NEW, ClaimList
from wintry_tally.desk.widgets.figure import Figure
from wintry_tally.desk.widgets.findings import FindingList
from wintry_tally.desk.widgets.flow import Columns, Halves
from wintry_tally.desk.widgets.lines import Line, Lines, Page
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, named, row, scrolling
from wintry_tally.desk.widgets.pictures_card import PicturesCard
from wintry_tally.desk.widgets.quantity_field import QuantityField, TypedField
from wintry_tally.desk.widgets.slices import Slices, while_open
from wintry_tally.desk.widgets.words_offer import WordsOffer
from wintry_tally.report.words import claim_words

if TYPE_CHECKING:
    from wintry_tally.core.battery.printed import Typed

OBTAINED = ("", "bought", "supplied by the maker", "lent")


class ArrivalView(StationView):
    """Claims on the left, facts of the arrival on the right, findings below."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._filling = False
        self.code, self.maker, self.model = Line(), Line(), Line()
        for name, line in (("code", self.code), ("maker", self.maker), ("model", self.model)):
            line.setAccessibleName(name)
            line.editingFinished.connect(lambda key=name, field=line: self._set_text(key, field))
        self.code.setMaximumWidth(90)
        self.maker.setPlaceholderText("maker")
        self.model.setPlaceholderText("model")
        self.family = QComboBox()
        self.family.setAccessibleName("Family")
        for family in FAMILIES.values():
            self.family.addItem(family.words, family.key)
        self.family.activated.connect(lambda _i: self._set_family())
        self.pack = QComboBox()
        self.pack.setAccessibleName("Nominal voltage of the pack")
        self.pack.setMinimumContentsLength(len("51.2 V, 16 cells"))
        self.pack.activated.connect(lambda _i: self._set(nominal_V=self.pack.currentData()))

        self.claim = TypedField("Claims as printed", self._read_claims, self._say, "12.8 V 40 Ah 512 Wh", Lines())
        for line, then in ((self.code, self.maker), (self.maker, self.model), (self.model, self.claim.line)):
            line.returnPressed.connect(then.setFocus)  # Enter goes on to what is typed next
        self.claim.entered.connect(self.add_claim)
        self.claim.line.typed.connect(lambda _text: self._mark())
        self.source = QComboBox()
        self.source.setAccessibleName("Where it is printed")
        self.source.addItems(list(SOURCES))
        self.add = button("Add claim", self.add_claim, "main")
        self.order = button(
            "As on a data sheet", self.order_claims, "link", "Put the claims into the order of a data sheet"
        )
        self.by_kind = button("By kind…", self.put_by_kind, "link", "Put in a claim by its kind")
        self.editor = ClaimEditor()
        self.editor.kept.connect(self._keep_edited)
        self.editor.ended.connect(self._end_editing)
        self.editor.hide()
        self.claims = ClaimList(self.editor)
        self.claims.change.connect(self.change_claim)
        self.claims.remove.connect(lambda claim: self.session.remove_claim(self.sample_id, claim))
        self.claims.order.connect(self._put_in_order)
        self.words = WordsOffer()
        self.words.failed.connect(self.session.failed)
        self.words.learned.connect(self._learned)
        self._editing: int | None = None
        self._below_it = Slices(self, 0)

        self._make_facts()
        self.findings = FindingList()
        self.findings.opened.connect(self.opened)
        self.pictures = PicturesCard(session)
        self.bank = BankCard(session, self.opened.emit)
        self._lay_out()

    def _make_facts(self) -> None:
        """What was found when it came."""
        self.rested_V = QuantityField("As-received voltage", "voltage", "13.1 V")
        self.rested_V.committed.connect(lambda value: self._set(rested_V=value))
        self.rested = QCheckBox("rested, nothing connected")
        self.rested.clicked.connect(lambda checked: self._set(rested=bool(checked)))
        self.mass = QuantityField("Mass", "mass", "4.3 kg")
        self.mass.committed.connect(lambda value: self._set(mass_kg=value))
        self.mass_limit = QuantityField("Scale good to", "mass", "10 g", width=True)
        self.mass_limit.committed.connect(lambda value: self._set(mass_limit_kg=value))
        self.obtained = QComboBox()
        self.obtained.setAccessibleName("How it was obtained")
        for text in OBTAINED:
            self.obtained.addItem(text or "not noted", text)
        self.obtained.activated.connect(lambda _i: self._set(obtained=self.obtained.currentData()))
        self.serial, self.date_code = Line(), Line()
        for name, key, line in (("Serial", "serial", self.serial), ("Date code", "date_code", self.date_code)):
            line.setAccessibleName(name)
            line.setPlaceholderText("as printed on it")
            line.editingFinished.connect(lambda of=key, field=line: self._set_text(of, field))
        self.polarity = QCheckBox("polarity checked by meter")
        self.polarity.clicked.connect(lambda checked: self._set(polarity=bool(checked)))
        self.tight = QCheckBox("terminals tight")
        self.tight.clicked.connect(lambda checked: self._set(tight=bool(checked)))
        self.notes = Page()
        self.notes.setAccessibleName("What came in the box, and damage")
        self.notes.setPlaceholderText("what came in the box, and damage")
        self.notes.setMaximumHeight(76)
        self.notes.kept.connect(lambda text: self._set(notes=text))

    def _lay_out(self) -> None:
        who, what = row(self.code, self.maker, self.model), row(self.family, self.pack)
        what.setStretch(0, 1)
        identity = Halves((who, 1), (what, 1))
        entry = QGridLayout()
        entry.setContentsMargins(0, 0, 0, 0)
        entry.setHorizontalSpacing(8)
        entry.addWidget(self.claim, 0, 0, 1, 4)
        entry.addWidget(label("printed on", "quiet"), 1, 0)
        entry.addWidget(self.source, 1, 1)
        entry.addLayout(row(self.by_kind, self.add, gap=2), 1, 3)
        entry.setColumnStretch(2, 1)
        hint = label(
            "Type or paste what is printed, one claim or many: “12.8 V 40 Ah 512 Wh”, “cuts at 10 V”, “surge 80 A (5 s)”.",
            "small",
            wrap=True,
        )
        claims = card(row(label("Claims", "heading"), None, self.order), hint, entry, self.words, self.claims)

        arrival = self._facts_card()
        halves = Halves((claims, 3), (arrival, 2))
        made_of = card(label("What this makes of it", "heading"), self.findings)
        inner = QWidget()
        self._sums = Columns(gap=6)
        self._sums_card = card(label("For what it costs and weighs", "heading"), self._sums)
        inner.setLayout(column(identity, self.bank, halves, made_of, self.pictures, self._sums_card, None, gap=3))
        self._area = scrolling(inner)
        self.setLayout(column(self._area))

    def _facts_card(self) -> QFrame:
        facts = QGridLayout()
        facts.setContentsMargins(0, 0, 0, 0)
        facts.setHorizontalSpacing(10)
        facts.setVerticalSpacing(6)
        checks = QWidget()
        checks.setLayout(column(self.polarity, self.tight, gap=0))
        lines: tuple[tuple[str, QWidget], ...] = (
            ("As received", self.rested_V),
            ("", self.rested),
            ("Weighed", self.mass),
            ("Scale good to", self.mass_limit),
            ("Serial", self.serial),
            ("Date code", self.date_code),
            ("Obtained", self.obtained),
            ("", checks),
            ("Notes", self.notes),
        )
        for index, (name, widget) in enumerate(lines):
            facts.addWidget(label(name, "quiet"), index, 0, Qt.AlignmentFlag.AlignTop)
            facts.addWidget(widget, index, 1)
        facts.setColumnStretch(1, 1)
        return card(label("As it came", "heading"), facts)

    # --- showing ---

    def refresh(self) -> None:
        """Everything as the book has it; what is being typed stays."""
        sample = self.session.sample(self.sample_id)
        self._filling = True
        named = ((self.code, sample.code), (self.maker, sample.maker), (self.model, sample.model))
        for line, text in (*named, (self.serial, sample.arrival.serial), (self.date_code, sample.arrival.date_code)):
            if not line.hasFocus() or line.text() != text:
                line.setText(text)
        self.family.setCurrentIndex(self.family.findData(sample.family_key))
        self._show_packs(sample)
        arrival = sample.arrival
        for field, value in (
            (self.rested_V, arrival.rested_V),
            (self.mass, arrival.mass_kg),
            (self.mass_limit, arrival.mass_limit_kg),
        ):
            if field.number != value:
                field.set_number(value)
        self.rested.setChecked(arrival.rested)
        self.polarity.setChecked(bool(arrival.polarity))
        self.tight.setChecked(bool(arrival.tight))
        self.obtained.setCurrentIndex(max(0, self.obtained.findData(arrival.obtained)))
        self.notes.show_kept(arrival.notes)
        self._show_claims(sample.claims)
        self.pictures.show_sample(sample.id)
        self._filling = False
        self._below_it.begin(while_open(self.session, self._lower(sample)))

    def _lower(self, sample: Sample) -> Iterator[None]:
        """What stands below the claims, a card at a step."""
        self.findings.show_findings(arrival_findings(sample), "Nothing yet: type a claim and the as-received voltage.")
        yield
        self._show_sums(derived_sums(sample))
        yield
        self.bank.show_sample(sample.id)
        yield

    def _show_sums(self, sums: list[Sum]) -> None:
        """What follows from price, cycles, mass and size, each with its working."""
        clear(self._sums)
        self._sums_card.setVisible(bool(sums))
        for derived in sums:
            figure = Figure(derived.label)
            figure.set_text(format_plain(derived.value), "", derived.unit, derived.working)
            figure.opened.connect(self.opened)
            self._sums.put(named(derived.label, figure))

    def _show_claims(self, claims: tuple[Claim, ...]) -> None:
        self.order.setVisible(list(claims) != in_sheet_order(claims))
        self.claims.show_claims(self.sample_id, claims, self._editing)

    def order_claims(self) -> None:
        """As a data sheet has them: by their kinds, then by their values; undoable."""
        self._put_in_order(in_sheet_order(self.session.sample(self.sample_id).claims))

    def _put_in_order(self, wanted: Sequence[Claim]) -> None:
        self.session.change(self.session.open.edits.order_claims(self.sample_id, wanted))

    def change_claim(self, claim: Claim) -> None:
        """Take up a claim where it stands."""
        sample = self.session.sample(self.sample_id)
        self._editing = claim.id
        self._show_claims(sample.claims)
        self.editor.begin(claim, "", claim.source, sample)

    def put_by_kind(self) -> None:
        """Put in a claim by its kind; what is typed above, and was not read, waits for it."""
        sample = self.session.sample(self.sample_id)
        self._editing = NEW
        self._show_claims(sample.claims)
        self.editor.begin(None, self.claim.line.text(), self.source.currentText(), sample)

    def _keep_edited(self, made: Claim) -> None:
        before = self.editor.claim
        if self._is_there(made, before):
            return
        printed = self.editor.printed if before is None else before.text if before.kind != made.kind else ""
        sample_id = self.sample_id

        def then(done: bool) -> None:
            self.editor.setEnabled(True)
            if done and sample_id == self.sample_id:
                self._end_editing()
                self.words.offer(printed, made, self.session.sample(sample_id).family_key)

        self.editor.setEnabled(False)  # where the book is busy, it is kept once, a moment later
        if before is None:
            self.session.add_claim(sample_id, made, then)
            self.claim.set_text("")
        else:
            self.session.change(self.session.open.edits.change_claim(before, made), then)

    def _learned(self) -> None:
        self.session.said.emit("Kept among your own words; they stand in Preferences.")
        self.claim.line.setFocus()

    def _end_editing(self) -> None:
        self._editing = None
        if self.session.has_book and self.session.holds(self.sample_id):
            self._show_claims(self.session.sample(self.sample_id).claims)
        self.claim.line.setFocus()

    def _is_there(self, made: Claim, but: Claim | None = None) -> bool:
        """Whether it stands there already, said so."""
        if made.kind == NOTED:
            return any((one.kind, one.text) == (NOTED, made.text) for one in self.session.sample(self.sample_id).claims)
        alike = replace(made, id=None, text="")
        known = self.session.sample(self.sample_id).claims
        found = any(replace(one, id=None, text="") == alike for one in known if but is None or one.id != but.id)
        if found:
            self.session.said.emit(f"{claim_words(made)}, on the {made.source}: that stands there already.")
        return found

    def begin(self) -> None:
        """A new tag: type the maker first."""
        self.maker.setFocus()

    def sample_switched(self) -> None:
        """Half-typed claims belong to the sample before; the next is seen from its top."""
        self._area.verticalScrollBar().setValue(0)
        self._editing = None
        self.words.hide()
        self.claim.set_text("")
        self.rested_V.set_text("")
        self.mass.set_text("")
        self.mass_limit.set_text("")

    def leave(self) -> None:
        """Keep the notes."""
        if self.notes.pending and self.session.has_book and self.session.holds(self.sample_id):
            self.notes.keep()

    # --- editing ---

    def _read_claims(self, text: str) -> Typed:
        from wintry_tally.app import own_words
        from wintry_tally.core.battery.printed import sense_of, typed_claims

        if not self.session.holds(self.sample_id):
            return typed_claims(text, self.source.currentText(), "", own_words.vocabulary())
        sample = self.session.sample(self.sample_id)
        return typed_claims(
            text,
            self.source.currentText(),
            sample.family_key,
            own_words.vocabulary(),
            sense_of(sample, current().units.money),
        )

    def _mark(self) -> None:
        """Underline what was read of what is typed."""
        typed = cast("Typed | None", self.claim.value)
        self.claim.line.mark((one.begin, one.end, one.read) for one in typed.marks) if typed else self.claim.line.mark(
            ()
        )

    def _say(self, value: object) -> str:
        typed = cast("Typed", value)
        unread = "".join(f"; not read: “{item.text}” ({item.reason})" for item in typed.left)
        pack = [] if typed.nominal_V is None else [f"a pack of {typed.nominal_V:g} V"]
        said = [*pack, *(claim_words(claim) for claim in (*typed.claims, *typed.noted))]
        return "= " + "; ".join(said) + unread

    def add_claim(self) -> None:
        """Keep the claims that are typed, one edit each."""
        if self.claim.value is not None:
            typed = self._read_claims(self.claim.line.text())
            if self._take_family(typed):
                typed = self._read_claims(self.claim.line.text())  # volts a cell are another pack's
            self._take_pack(typed)
            fresh = [claim for claim in (*typed.claims, *typed.noted) if not self._is_there(claim)]
            self._add_each(self.sample_id, fresh, "\n".join(dict.fromkeys(item.text for item in typed.left)))

    def _add_each(self, sample_id: int, fresh: list[Claim], left: str) -> None:
        """One after the other; once all are kept, what was not read stays in the line to be mended."""

        def then(done: bool) -> None:
            if done and fresh:
                self._add_each(sample_id, fresh, left)
                return
            self.claim.setEnabled(True)
            if sample_id == self.sample_id:
                if done:
                    self.claim.set_text(left)
                self.claim.line.setFocus()

        self.claim.setEnabled(False)  # where the book is busy, they are kept once, a moment later
        if not fresh:
            then(True)
            return
        claim, *fresh = fresh
        self.session.add_claim(sample_id, claim, then)

    def _take_family(self, typed: Typed) -> bool:
        """A family that is printed is noted while nothing else is; later it is told where it is another."""
        sample = self.session.sample(self.sample_id)
        if not typed.family or typed.family == sample.family_key:
            return False
        words = FAMILIES[typed.family].words
        if sample.claims or self.session.runs(sample.id):
            self.session.said.emit(
                f"{words} is printed, and the tag says {sample.family.words}: choose it above if it is so."
            )
            return False
        self._set(family=typed.family, nominal_V=None)
        self.session.said.emit(f"Noted as {words}.")
        return True

    def _take_pack(self, typed: Typed) -> None:
        """A nominal voltage read among the claims, of another pack than the one noted, is noted with them."""
        printed, sample = typed.nominal_V, self.session.sample(self.sample_id)
        if printed is None or printed == sample.nominal_V or abs(printed - sample.family.nominal_V) < 0.05:
            return
        try:
            pack = pack_of(FAMILIES[sample.family_key], printed)
        except InputError as error:
            words = str(error)
            self.session.failed.emit(f"{words[:1].upper()}{words[1:]}.")
            return
        if pack.cells != sample.family.cells:
            self._set(nominal_V=printed)
            self.session.said.emit(f"Noted as a pack of {printed:g} V, {pack.cells} cells in series.")

    def _show_packs(self, sample: Sample) -> None:
        """The packs of the family; what is printed stands as printed."""
        self.pack.clear()
        for pack in packs_of(sample.family):
            own = pack.cells == sample.family.cells
            volts = sample.nominal_V if own and sample.nominal_V is not None else pack.nominal_V
            usual = pack.cells == FAMILIES[pack.key].cells
            self.pack.addItem(f"{volts:g} V, {pack.cells} cells", None if usual and not own else volts)
            if own:
                self.pack.setItemData(self.pack.count() - 1, sample.nominal_V)
                self.pack.setCurrentIndex(self.pack.count() - 1)

    def _set_family(self) -> None:
        """Another family; a nominal voltage that no pack of it has goes with the old one."""
        if not self.session.holds(self.sample_id):
            return
        key, nominal = self.family.currentData(), self.session.sample(self.sample_id).nominal_V
        try:
            pack_of(FAMILIES[key], nominal)
        except InputError:
            self._set(family=key, nominal_V=None)
            return
        self._set(family=key)

    def _set_text(self, key: str, line: QLineEdit) -> None:
        if self._filling or not self.session.holds(self.sample_id):
            return  # its tag has just come off
        text = " ".join(line.text().split())
        if key == "code" and (
            not text or any(s.code == text and s.id != self.sample_id for s in self.session.samples())
        ):
            if text:
                self.session.failed.emit(f"The code {text} is taken; choose another.")
            line.setText(self.session.sample(self.sample_id).code)
            return
        self._set(**{key: text})

    def _set(self, **values: object) -> None:
        # what is half typed may be kept when its tag has just come off
        if not self._filling and self.session.has_book and self.session.holds(self.sample_id):
            name = next(iter(values)).replace("_", " ")
            self.session.set_sample(self.sample_id, f"change {name}", **values)
