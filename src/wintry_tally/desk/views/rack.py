"""The rack: every sample as a hang-tag."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QBoxLayout,
    QButtonGroup,
    QComboBox,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from wintry_tally.app.racked import ORDERS, WHICH, in_order, is_asked_for
from wintry_tally.core.engine import LIVE, Phase
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.quantity import amps_words
from wintry_tally.core.quantity.moments import clock_words
from wintry_tally.desk.remembered import order_kept, remember_order
from wintry_tally.desk.session import Session
from wintry_tally.desk.views import OFF_RACK, PAGES
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import anew, button, column, label, narrow, row, scrolling
from wintry_tally.desk.widgets.slices import Slices
from wintry_tally.desk.widgets.tag import Tag

if TYPE_CHECKING:
    from wintry_tally.app.live_run import LiveRun
    from wintry_tally.core.battery import Sample

LEAST_LOOK = 96
"""What the heading and the line to look in need beside the way to a new tag, px."""
AT_ONCE = 7
"""Tags that a window shows at the most; the others are hung when it has drawn these."""
TOGETHER = 40
"""So many of the others are put on the rack in one go: each go draws anew what is seen."""


class Rack(QWidget):
    """The tags in the order they came. `chosen` carries a sample's number; `hang` asks for a new tag; `page` for a page of the book.

    `lead` carries what the code of a bench sheet, read into the line above the tags, leads to: sample, station, recipe.
    """

    chosen = Signal(int)
    lead = Signal(int, str, str)
    hang = Signal()
    page = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setProperty("role", "rack")
        self.setAccessibleName("Rack")
        self._tags: dict[int, Tag] = {}
        self._off: list[Sample] = []
        self._slices, self._marked = Slices(self, AT_ONCE), 0
        self._one = QButtonGroup(self)
        inner = QWidget()
        self._column = QVBoxLayout(inner)
        self._column.setContentsMargins(0, 0, 6, 0)
        self._column.setSpacing(4)
        self.add = button("Hang a tag", self.hang.emit)
        self.looking = QLineEdit()
        self.looking.setPlaceholderText("find")
        self.looking.setMinimumWidth(34)
        self.looking.setToolTip("Part of a code, maker or model; or a bench sheet's code (Ctrl+F)")
        self.looking.setAccessibleName("Find a tag, by its code, maker, model or a bench sheet's code")
        self.looking.setClearButtonEnabled(True)
        self.looking.textChanged.connect(self._filter)
        self.looking.returnPressed.connect(self._take)
        self.which, self.order = self._choice("Which tags", WHICH), self._choice("In which order", ORDERS)
        self.order.setCurrentIndex(max(0, self.order.findData(order_kept())))
        self.order.activated.connect(lambda _index: remember_order(str(self.order.currentData())))
        self._none = label("No such tag.", "small")
        self._none.hide()
        self._area = scrolling(inner)
        self._area.setHorizontalScrollBarPolicy(
            Qt.ScrollBarPolicy.ScrollBarAlwaysOff
        )  # a tag leaves out what has no room
        self.pages = {key: self._to(key, title) for key, (title, _, _) in PAGES.items() if key not in OFF_RACK}
        ways = Flow(*self.pages.values(), gap=1)
        looked = QWidget()
        looked.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        looked.setLayout(row(label("Rack", "heading"), self.looking, gap=2))
        self._head = head = row(looked, self.add, gap=2)
        head.setStretch(0, 1)
        self._choices = row(self.which, self.order, gap=1)
        self.setLayout(column(head, self._choices, self._none, self._area, ways, margin=3))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Where the rack is narrow, or the text large, each thing of its head has a row of its own."""
        super().resizeEvent(event)
        beside = self.width() >= self.add.sizeHint().width() + LEAST_LOOK
        for held in (self._head, self._choices):
            held.setDirection(QBoxLayout.Direction.LeftToRight if beside else QBoxLayout.Direction.TopToBottom)
        self._head.setStretch(0, int(beside))

    def _choice(self, name: str, words: Mapping[str, str]) -> QComboBox:
        made = QComboBox()
        made.setAccessibleName(name)
        narrow(made)
        for key, said in words.items():
            made.addItem(said, key)
        made.activated.connect(lambda _index: self.fill())
        return made

    def _to(self, key: str, title: str) -> QPushButton:
        made = button(title, lambda: self.page.emit(key), "choice")
        made.setCheckable(True)
        return made

    def _filter(self, text: str) -> None:
        """Only the tags that the words typed speak of."""
        shown = 0
        for sample in self._samples():
            tag = self._tags.get(sample.id)
            if tag is not None:
                fits = self._shows(sample, text)
                tag.setVisible(fits)
                shown += fits
        asked = bool(text.split()) or bool(self.which.currentData())
        self._none.setVisible(asked and not shown and not self._slices.busy)

    def _samples(self) -> Sequence[Sample]:
        if self.which.currentData() == "off":
            return self._off
        return self._session.samples()

    def _shows(self, sample: Sample, text: str) -> bool:
        """Whether a tag is one of those asked for, by its state and by the words typed."""
        which = str(self.which.currentData() or "")
        if not _fits(sample, text):
            return False
        if which in {"", "off"}:
            return True
        session = self._session
        live = session.running.of_sample(sample.id)
        return is_asked_for(
            which, session.outcomes(sample.id), session.runs(sample.id), live is not None and bool(_wants(live))
        )

    def _take(self) -> None:
        """Enter: what a sheet's code leads to, or the first tag left."""
        from wintry_tally.exchange.recipe_file import shipped
        from wintry_tally.report.sheet import code_read

        read = code_read(self.looking.text())
        if read is not None:
            number = next((sample.id for sample in self._session.samples() if sample.code == read[1]), None)
            template = shipped().get(read[2])
            if number is None or template is None:
                self._none.show()
                return
            self.looking.clear()
            self.lead.emit(number, template.station, template.name)
            return
        self._slices.finish()
        first = next((number for number, tag in self._tags.items() if tag.isVisibleTo(self)), None)
        if first is not None and self.looking.text().strip():
            self.looking.clear()
            self.chosen.emit(first)

    def mark_page(self, key: str) -> None:
        """Mark the page shown, or none while a sample is."""
        for name, made in self.pages.items():
            made.setChecked(name == key)
        if key:
            self._marked = 0
            self._one.setExclusive(False)
            for tag in self._tags.values():
                tag.setChecked(False)
            self._one.setExclusive(True)

    def fill(self) -> None:
        """All tags anew: those that are seen at once, the others while nobody waits."""
        self._one.deleteLater()
        self._tags, self._one = {}, QButtonGroup(self)
        self._one.idClicked.connect(self._pressed)
        off = self.which.currentData() == "off" and self._session.has_book
        self._off = list(self._session.open.known.taken_off) if off else []
        with anew(self._column, QVBoxLayout()) as tags:
            tags.setSpacing(self._column.spacing())
            tags.addStretch(1)
            self._slices.begin(self._hang(tags), lambda: self._filter(self.looking.text()))

    def _hang(self, tags: QVBoxLayout) -> Iterator[None]:
        samples, order = self._samples(), str(self.order.currentData() or "")
        runs = {one.id: self._session.runs(one.id) for one in samples} if order == "newest" and not self._off else {}
        under, room = "", AT_ONCE
        group = self._group()
        for heading, sample in in_order(samples, order, runs):
            if heading != under:
                under = heading
                group.layout().addWidget(label(heading, "small"))
            self._hang_one(sample, group)
            room -= 1
            if not room:
                self._put(tags, group)
                group, room = self._group(), TOGETHER
            yield
        self._put(tags, group)

    def _group(self) -> QWidget:
        """Tags that nobody sees yet."""
        made = QWidget()
        inside = QVBoxLayout(made)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(self._column.spacing())
        return made

    def _put(self, tags: QVBoxLayout, group: QWidget) -> None:
        tags.insertWidget(tags.count() - 1, group)
        if self._marked in self._tags and group.isAncestorOf(self._tags[self._marked]):
            self.mark(self._marked)

    def _hang_one(self, sample: Sample, group: QWidget) -> None:
        tag = Tag(sample.code, sample.title, sample.family.words)
        if self._off:
            tag.setToolTip("Hangs no longer: press it to hang it again")
            tag.set_doing("taken off: press to hang it again")
        self._tags[sample.id] = tag
        self._one.addButton(tag, sample.id)
        group.layout().addWidget(tag)
        tag.setVisible(self._shows(sample, self.looking.text()))
        tag.ensurePolished()
        if not self._off:
            self.refresh(sample.id)

    def _pressed(self, sample_id: int) -> None:
        """One connection for all: to connect each takes as long as to make its tag."""
        off = next((one for one in self._off if one.id == sample_id), None)
        if off is None:
            self.chosen.emit(sample_id)
        else:
            self._hang_again(off)

    def _hang_again(self, sample: Sample) -> None:
        self.which.setCurrentIndex(0)
        self._session.hang_again(sample)
        self.fill()
        if self._session.holds(sample.id):
            self.chosen.emit(sample.id)

    def tag(self, sample_id: int) -> Tag:
        """The tag of a sample."""
        if sample_id not in self._tags:
            self._slices.finish()
        return self._tags[sample_id]

    def mark(self, sample_id: int) -> None:
        """Mark the one shown."""
        self._marked = sample_id
        if sample_id in self._tags:
            tag = self._tags[sample_id]
            tag.setChecked(True)
            # a tag just hung has no place yet: bring it into view once it has
            QTimer.singleShot(30, tag, lambda: self._area.ensureWidgetVisible(tag, 0, 8))

    def refresh(self, sample_id: int) -> None:
        """One tag: what it is doing, and its tally."""
        tag = self._tags.get(sample_id)
        if tag is None or not self._session.holds(sample_id):
            return
        sample = self._session.sample(sample_id)
        if self.which.currentData():
            tag.setVisible(self._shows(sample, self.looking.text()))
        tag.set_facts(sample.title, sample.family.words)
        outcomes = self._session.outcomes(sample_id)
        tag.set_outcomes(() if outcomes is None and not sample.claims else outcomes)
        self._doing(sample_id, tag)

    def tick(self) -> None:
        """What the running ones are doing."""
        for sample_id, tag in self._tags.items():
            if self._session.running.of_sample(sample_id) is not None:
                self._doing(sample_id, tag)

    def _doing(self, sample_id: int, tag: Tag) -> None:
        running = self._session.running
        live = running.of_sample(sample_id)
        if live is not None:
            self._doing_live(live, tag)
            return
        runs = self._session.runs(sample_id)
        # hand readings may begin before an import that came later; what is under way goes before what is over
        last = max(runs, key=lambda run: (run.status == "running", run.ended or run.started), default=None)
        if last is None:
            sample = self._session.sample(sample_id)
            tag.set_doing("just arrived" if sample.arrival.rested_V is None else "ready for its capacity test")
        elif last.status == "running":
            elsewhere = "a test runs in another window" if running.elsewhere(last) else "a test was interrupted"
            tag.set_doing("hand readings under way" if last.method is Method.HAND else elsewhere)
        else:
            done = (last.ended or last.started).astimezone()
            tag.set_doing(f"{last.title.lower()} {last.status.value} {done:%d %b %H:%M}")

    @staticmethod
    def _doing_live(live: LiveRun, tag: Tag) -> None:
        """A run under way: what wants hands before what flows, and when it ends."""
        seen, phase = live.latest, live.latest.state.phase
        volts = f" · {seen.voltage_V:.2f} V" if seen.voltage_V == seen.voltage_V else ""
        wants = _wants(live)
        if wants or phase not in LIVE:
            tag.set_doing(f"{wants or phase.value}{volts}", True)
            return
        at = live.ends_at()
        clock = "" if at is None else clock_words(at, datetime.now().astimezone())
        ends, to = (f" · ends about {clock}", f" · to {clock}") if at is not None else ("", "")
        way = "drawing" if phase is Phase.DISCHARGING else "charging"
        amps = f"{amps_words(seen.current_A)}{volts}"
        tag.set_doing(f"{way} {amps}{ends}", True, f"{amps}{to}")


def _wants(live: LiveRun) -> str:
    """What a run under way wants of somebody; nothing where it goes on by itself."""
    if live.latest.trouble:
        return "needs your hands now"
    if live.latest.state.phase is Phase.PROMPTING:
        return "waits for you"
    due = live.guide.due_in_s if live.guide is not None else None
    return "a reading is due" if due is not None and due <= 0 else ""


def _fits(sample: Sample, looked_for: str) -> bool:
    """Whether a tag says all the words looked for."""
    told = f"{sample.code} {sample.title} {sample.family.words}".lower()
    return all(word in told for word in looked_for.lower().split())
