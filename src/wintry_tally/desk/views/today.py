"""Today: what needs hands now and next, what runs, what is late, what is due; the first page seen of a book."""

from __future__ import annotations

import time
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QGridLayout, QLabel, QPushButton, QWidget

from wintry_tally.core.engine import Phase
from wintry_tally.core.quantity import amps_words
from wintry_tally.core.quantity.moments import DAYS, MONTHS
from wintry_tally.desk.session import Session
from wintry_tally.desk.theme import SPACE
from wintry_tally.desk.views.page import MainPage
from wintry_tally.desk.widgets.parts import anew, button, card, column, label, row, scrolling, set_role
from wintry_tally.desk.widgets.slices import Slices

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from wintry_tally.app.today import Item, Seen

GROUP_WORDS = {
    "now": "Needs your hands now",
    "running": "Running",
    "late": "Late",
    "next": "Next, within two days",
    "due": "Due later",
}
ANEW_S = 15.0
MOST_LINES = 12
"""So many lines a group are shown at first: the most urgent stand first."""
NOTHING = {"now": "Nothing needs your hands.", "next": "Nothing is planned for the next two days."}


class TodayPage(MainPage):
    """The day as lines, each with its one key."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.title = label("", "title")
        self.told = label("", "quiet")
        self._body = column(gap=3)
        self.filling = Slices(self, 1)
        self._all: set[str] = set()
        """Groups that somebody wants to see to their end."""
        inner = QWidget()
        inner.setLayout(column(row(self.title, None, self.told), self._body, None, gap=3))
        inner.layout().setContentsMargins(0, 0, 2 * SPACE, 0)
        self.setLayout(column(scrolling(inner)))
        self._shown: list[Item] | None = None
        self._doing: dict[int, QLabel] = {}
        self._wants: dict[int, str] = {}
        self._filled_at = 0.0
        session.plan_changed.connect(self.changed)
        session.runs_changed.connect(self.changed)
        session.dossier_changed.connect(self.changed)
        session.sample_changed.connect(self.changed)
        session.pictures_changed.connect(self.changed)
        session.ticked.connect(self.tick)

    def items(self) -> list[Item]:
        """The lines of the day as they stand."""
        return self._gathered()()

    def _gathered(self) -> Callable[[], list[Item]]:
        """What works them out, on whatever thread, from what is known now."""
        from wintry_tally.app.pictures import missing
        from wintry_tally.app.safety import quarantines_of
        from wintry_tally.app.today import Seen, today

        session, now = self.session, datetime.now().astimezone()
        samples = session.samples()
        held = {number: found.why for number, found in quarantines_of(session.book).items()}
        known = session.open.known
        elsewhere = [
            Seen(run.id, "", "in another window", None) for run in known.going if session.running.elsewhere(run)
        ]
        live, drawn, silent = [*self._live(), *elsewhere], session.drawn(), session.open.silent

        def work_out() -> list[Item]:
            unseen = missing(samples, known.runs, known.pictures)
            return today(samples, known.runs, live, drawn, held, now, silent, unseen)

        return work_out

    def _live(self) -> list[Seen]:
        from wintry_tally.app.today import Seen

        found = []
        for live in self.session.running.live.values():
            latest = live.latest
            due = live.guide.due_in_s if live.guide is not None else None
            wants = (
                latest.trouble
                or (f"waits for you: {latest.asks}" if latest.state.phase is Phase.PROMPTING and latest.asks else "")
                or ("waits for you" if latest.state.phase is Phase.PROMPTING else "")
                or ("a reading is due" if due is not None and due <= 0 else "")
            )
            volts = f"{latest.voltage_V:.2f} V" if latest.voltage_V == latest.voltage_V else ""
            amps = amps_words(latest.current_A)
            doing = " · ".join(part for part in (latest.state.phase.value, amps, volts) if part)
            found.append(Seen(live.run.id, wants, doing, live.ends_at()))
        return found

    def tick(self) -> None:
        """What runs, as it runs; every line anew where one begins to want somebody, and every quarter of a minute."""
        if not self.isVisible() or self._shown is None:
            return
        live = {one.run_id: one for one in self._live()}
        wants = {number: one.wants for number, one in live.items()}
        if wants != self._wants or time.monotonic() - self._filled_at > ANEW_S:
            self.refresh()
            return
        for number, line in self._doing.items():
            if number in live:
                line.setText(live[number].doing)

    def refresh(self) -> None:
        """Every line anew."""
        if not self.session.has_book:
            return
        if not self.session.open.shelf.at_work:
            self.title.setText("Today")
            return
        with self.session.guard():
            self.work_out(self._gathered(), self._fill)

    def _fill(self, items: list[Item]) -> None:
        now = datetime.now().astimezone()
        self.title.setText(f"{DAYS[now.weekday()]} {now.day} {MONTHS[now.month - 1]}")
        drawn = self.session.drawn()
        self.told.setText(
            "The plan is being worked out…" if drawn is None or not drawn.thorough
            else f"planned {drawn.made.astimezone():%H:%M} · all done {_day(drawn.moment(drawn.plan.end))}"
        )  # fmt: skip
        self._shown, self._doing = items, {}
        self._wants = {one.run_id: one.wants for one in self._live()}
        self._filled_at = time.monotonic()
        self.filling.begin(self._groups(items))
        if self.few:
            self.filling.finish()

    def _groups(self, items: list[Item]) -> Iterator[None]:
        """A group at a step, and all of them seen together."""
        with anew(self._body, column(gap=3)) as groups:
            for group in GROUP_WORDS:
                own = [item for item in items if item.group == group]
                if own or group in NOTHING:
                    groups.addWidget(self._group(group, own))
                    yield
            holder = QApplication.focusWidget()
            inside = holder is not None and self.isAncestorOf(holder)
            name = holder.accessibleName() if inside and holder is not None else ""
        if inside:  # the keyboard stays where it was
            same = [key for key in self.findChildren(QPushButton) if key.accessibleName() == name and key.isVisible()]
            (same[0] if same else self).setFocus()

    def _group(self, group: str, items: list[Item]) -> QWidget:
        heading = label(GROUP_WORDS[group], "heading")
        if not items:
            return card(heading, label(NOTHING[group], "quiet"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(8)
        grid.setColumnStretch(2, 1)
        shown = items if group in self._all else items[:MOST_LINES]
        for line, item in enumerate(shown):
            clock, code = label(item.clock, "small"), label(item.code, "heading")
            words = label(item.words, "", wrap=True)
            beside = label(item.beside, "small", wrap=True)
            if group == "late":
                set_role(words, "late")
            if group == "running":
                self._doing[item.run_id] = beside
            if not item.beside:
                beside.hide()
            box = QWidget()
            box.setLayout(column(words, beside, gap=0))
            top = Qt.AlignmentFlag.AlignTop
            grid.addWidget(code, line, 0, top)
            grid.addWidget(clock, line, 1, top)
            grid.addWidget(box, line, 2, top)
            if item.key or item.station:
                act = partial(self.leads.emit, item.sample_id, item.station, item.recipe)
                key = button(
                    item.key or "Look", act, "main" if group == "now" else "", f"{item.key}: {item.code}, {item.words}"
                )
                grid.addWidget(key, line, 3, top)
        grid.setColumnMinimumWidth(0, 48)
        grid.setColumnMinimumWidth(1, 110)
        left = len(items) - len(shown)
        if not left:
            return card(heading, grid)
        more = f"{left} more"
        return card(
            heading,
            grid,
            row(button(more, partial(self._show_all, group), "link", f"{GROUP_WORDS[group]}: {more}"), None),
        )

    def _show_all(self, group: str) -> None:
        self._all.add(group)
        self.refresh()


def _day(moment: datetime) -> str:
    return f"{DAYS[moment.weekday()]} {moment.day} {MONTHS[moment.month - 1]}"
