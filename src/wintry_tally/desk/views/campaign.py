"""Plan: every test of every sample laid over the days; what holds it there, and what a person sets otherwise."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QButtonGroup, QFrame, QLineEdit, QPushButton, QScrollArea, QSpinBox, QWidget

from wintry_tally.core.errors import WintryError
from wintry_tally.core.quantity import format_hours
from wintry_tally.core.quantity.moments import clock_words
from wintry_tally.desk.asking import calendar_place
from wintry_tally.desk.session import Session
from wintry_tally.desk.theme import SPACE
from wintry_tally.desk.views.page import MainPage
from wintry_tally.desk.widgets.days import DaysChart
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, row, scrolling
from wintry_tally.desk.widgets.slices import Slices, while_open

if TYPE_CHECKING:
    from wintry_tally.app.campaign import Drawn
    from wintry_tally.app.days import Chart
    from wintry_tally.app.wishes import Wishes
    from wintry_tally.core.plan.campaign import Task


LEGEND = (
    "filled: under way · dashed: planned · with a bar at its left: pinned · triangle: needs hands · tinted: nobody there. "
    "Arrows walk, Alt and arrows move by half an hour, Enter sets up; or drag."
)


class CampaignPage(MainPage):
    """The plan, what is marked in it, what has no place, and what is wished."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.filling = Slices(self, 1)
        self.told = label("", "quiet", wrap=True)
        self._legend = label(LEGEND, "small", wrap=True)
        self.chart = DaysChart()
        self.chart.chosen.connect(lambda _name: self._show_task())
        self.chart.dropped.connect(self.pin)
        self.chart.opened.connect(self._set_up)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._area.setWidget(self.chart)
        self.by_sample, self.by_instrument = self._way("By sample"), self._way("By instrument")
        self.by_sample.setChecked(True)
        ways = QButtonGroup(self)
        for way in (self.by_sample, self.by_instrument):
            ways.addButton(way)
            way.clicked.connect(lambda _on: self.refresh())
        self.anew = button("Plan anew", session.plan_anew)
        self.save = button("Save a calendar…", self.save_calendar, "link", "Save what needs hands as a calendar file")
        self._task_box, self._lost_box, self._out_box = column(gap=1), column(gap=1), column(gap=1)
        self.why_out = QLineEdit()
        self.away = QLineEdit()
        self.away.setPlaceholderText("2027-01-18, 2027-01-25/2027-01-27")
        self.away.setAccessibleName("Days away")
        self.away.editingFinished.connect(self._keep_away)
        self.away_problem = label("", "problem", wrap=True)
        self.away_problem.hide()
        self.freezers, self.shelves = self._count("Places in the freezer"), self._count("Places on the shelf")
        self.what_if = label("", "small", wrap=True)
        self.what_if.hide()
        asks = [
            button(f"one more {what}?", partial(self.ask_what_if, what), "link", f"What if there were one more {what}")
            for what in ("load", "charger", "freezer")
        ]
        self._if_row = row(label("What if:", "quiet"), *asks, None, gap=2)
        self._task_card = card(self._task_box)
        self._lost_card = card(label("Without a place, and beyond this bench", "heading"), self._lost_box)
        self._out_card = card(label("Left out", "heading"), self._out_box)
        self._lay_out(self._wishes())
        session.plan_changed.connect(self.changed)
        session.runs_changed.connect(self.changed)
        session.dossier_changed.connect(self.changed)
        session.bench_changed.connect(self.changed)

    def _wishes(self) -> QFrame:
        return card(
            label("People and places", "heading"),
            label(
                "Attended hours are set on the Bench page. On days away nobody starts or ends anything.",
                "small",
                wrap=True,
            ),
            row(label("Days away", "quiet"), self.away, gap=2),
            self.away_problem,
            row(
                label("In the freezer", "quiet"),
                self.freezers,
                label("on the shelf", "quiet"),
                self.shelves,
                None,
                gap=2,
            ),
        )

    def _lay_out(self, wishes: QFrame) -> None:
        inner = QWidget()
        inner.setLayout(
            column(
                row(label("Plan", "title"), None, self.by_sample, self.by_instrument, self.save, self.anew, gap=2),
                self.told, self._area, self._legend, self._if_row, self.what_if, self._task_card, self._lost_card, self._out_card, wishes, None, gap=3,
            )
        )  # fmt: skip
        inner.layout().setContentsMargins(0, 0, 2 * SPACE, 0)
        self.setLayout(column(scrolling(inner)))

    def _way(self, words: str) -> QPushButton:
        made = QPushButton(words)
        made.setProperty("role", "choice")
        made.setCheckable(True)
        made.setAccessibleName(words)
        return made

    def _count(self, name: str) -> QSpinBox:
        made = QSpinBox()
        made.setRange(0, 99)
        made.setAccessibleName(name)
        made.valueChanged.connect(lambda _value: self._keep_places())
        return made

    # --- drawing ---

    def refresh(self) -> None:
        """The newest plan; another is drawn up where it no longer holds."""
        if not self.session.has_book:
            return
        with self.session.guard():
            drawn = self.session.drawn()
            self._fill_wishes()
            self._show(drawn)

    def _show(self, drawn: Drawn | None) -> None:
        for part in (self._area, self._legend, self._task_card, self._lost_card, self._out_card):
            part.setVisible(drawn is not None)
        if drawn is None:
            self.told.setText("The plan is drawn up once every sample has been read…")
            return
        from wintry_tally.app.days import chart

        now = datetime.now().astimezone()
        codes = [sample.code for sample in self.session.samples()]
        by_instrument = self.by_instrument.isChecked()

        def show(found: Chart) -> None:
            self.filling.begin(while_open(self.session, self._fill(drawn, found, now)))
            if self.few:
                self.filling.finish()

        self.work_out(lambda: chart(drawn, codes, now, by_instrument), show)

    def _fill(self, drawn: Drawn, found: Chart, now: datetime) -> Iterator[None]:
        """The chart, and in steps what stands beneath it."""
        bars = found.placed
        self.chart.show_days(found.rows, bars, found.there, now, found.first, found.last)
        self._area.setFixedHeight(self.chart.sizeHint().height() + 18)
        self.told.setText(self._summary(drawn, now))
        yield
        if not self.chart.picked and bars:
            coming = [bar for bar in self.chart.bars() if bar.state != "running"]
            self.chart.pick((coming or bars)[0].id)  # which shows it
        else:
            self._show_task()
        yield
        self._fill_lost(drawn)
        yield
        self._fill_out()

    def _summary(self, drawn: Drawn, now: datetime) -> str:
        if not drawn.plan.starts:
            return "Nothing is to be done: every claim that a test here settles is settled."
        ends = clock_words(drawn.moment(drawn.plan.end), now)
        bound = clock_words(drawn.moment(drawn.plan.bound_end), now)
        sure = (
            "a better one is being looked for"
            if not drawn.thorough
            else "none ends sooner" if drawn.plan.bound_end >= drawn.plan.end else f"none can end before {bound}"
        )  # fmt: skip
        moved = f" · {len(drawn.moved)} moved since the plan before" if drawn.moved else ""
        gained = f" · {drawn.gained}" if drawn.gained else ""
        return f"All done {ends} ({sure}) · drawn up {drawn.made.astimezone():%H:%M}{moved}{gained}"

    def _task(self) -> tuple[Drawn, Task] | None:
        drawn = self.session.drawn()
        task = drawn.task(self.chart.picked) if drawn is not None else None
        return (drawn, task) if drawn is not None and task is not None and task.id in drawn.plan.starts else None

    def _show_task(self) -> None:
        from wintry_tally.app.able import better_words
        from wintry_tally.app.campaign import UNDER_WAY
        from wintry_tally.core.plan.hands import hands
        from wintry_tally.core.plan.why import why

        clear(self._task_box)
        found = self._task()
        self._task_card.setVisible(found is not None)
        if found is None:
            return
        drawn, task = found
        now = datetime.now().astimezone()
        begins, ends = drawn.moment(drawn.plan.starts[task.id]), drawn.moment(drawn.plan.ends(task))
        self._task_box.addWidget(label(f"{task.sample} · {task.words or task.id}", "heading"))
        lines = [f"{clock_words(begins, now)} to {clock_words(ends, begins)}"]
        if task.id in drawn.hours:
            low, usual, high = (format_hours(hours) for hours in drawn.hours[task.id])
            lines[0] += f" at the latest: it takes about {usual} ({low} to {high})"
        takes = drawn.plan.takes(task)
        lines.append(f"Takes: {', '.join(takes)}" if takes else "Takes no instrument")
        if cost := better_words(self.session.equipment, task, takes):
            lines[-1] += f" ({cost})"
        if task.settles:
            lines[-1] += f" · speaks to {', '.join(kind.replace('-', ' ') for kind in task.settles)}"
        asked = [
            f"{clock_words(drawn.moment(one.slot), now)} {one.what} ({one.minutes} min)"
            for one in hands(drawn.plan, task)
        ]
        lines.append("Hands: " + ("; ".join(asked) if asked else "none"))
        lines.append(f"Why here: {why(drawn.plan, task)}.")
        self._task_box.addWidget(label("\n".join(lines), "", wrap=True))
        if task.id.startswith(UNDER_WAY):
            return
        keys = []
        if task.recipe:
            keys.append(button("Set it up", lambda: self._set_up(task.id), "main"))
        if task.fixed is None:
            keys.append(button("Pin it here", lambda: self.pin(task.id, begins)))
        elif task.fixed >= 0:
            keys.append(button("Unpin", lambda: self.pin(task.id, None)))
        for words, shift in (("½ h sooner", timedelta(minutes=-30)), ("½ h later", timedelta(minutes=30))):
            keys.append(button(words, partial(self.pin, task.id, begins + shift), "link"))
        self._task_box.addLayout(row(*keys, None, gap=2))
        if task.settles and task.recipe:
            out = button("Leave it out", lambda: self.leave_out(task), "link", f"Leave out: {task.words}")
            self.why_out = QLineEdit()
            self.why_out.setPlaceholderText("why")
            self.why_out.setAccessibleName("Why it is left out")
            self.why_out.returnPressed.connect(lambda: self.leave_out(task))
            self._task_box.addLayout(row(out, self.why_out, gap=2))

    def _fill_lost(self, drawn: Drawn) -> None:
        clear(self._lost_box)
        lines = [(drawn.task(one.id), one.reason) for one in drawn.plan.unplaced]
        words = [f"{task.sample} · {task.words or task.id}: {reason}" for task, reason in lines if task is not None]
        for number, made in drawn.programmes.items():
            code = drawn.standings[number].code
            words += [f"{code} · {one.claim.definition.label}: {one.reason}" for one in made.untestable]
        for text in words:
            self._lost_box.addWidget(label(text, "small", wrap=True))
        self._lost_card.setVisible(bool(words))

    def _fill_out(self) -> None:
        clear(self._out_box)
        left = [
            (code, recipe, why) for code, own in self.session.wishes.left_out.items() for recipe, why in own.items()
        ]
        for code, recipe, why in left:
            back = button(
                "Take it in again", partial(self._take_in, code, recipe), "link", f"Take in again: {code} {recipe}"
            )
            self._out_box.addLayout(
                row(label(f"{code} · {recipe}: {why or 'no reason given'}", "small", wrap=True), None, back)
            )
        self._out_card.setVisible(bool(left))

    def _fill_wishes(self) -> None:
        wishes = self.session.wishes
        if not self.away.hasFocus():
            self.away.setText(", ".join(wishes.away))
        for box, value in ((self.freezers, wishes.freezers), (self.shelves, wishes.shelves)):
            box.blockSignals(True)
            box.setValue(value)
            box.blockSignals(False)

    # --- doing ---

    def pin(self, name: str, moment: datetime | None) -> None:
        """Let a test stand at a moment, where it can; with none, let it go again."""
        from wintry_tally.core.plan.why import cannot_stand

        drawn = self.session.drawn()
        task = drawn.task(name) if drawn is not None else None
        if drawn is None or task is None:
            return
        wrong = cannot_stand(drawn.plan, task, moment) if moment is not None else ""
        if wrong:
            at = clock_words(moment, datetime.now().astimezone()) if moment is not None else ""
            self.session.failed.emit(f"{task.sample} · {task.words or task.id} cannot stand at {at}: {wrong}.")
            self.refresh()
            return
        words = f"{'pin' if moment is not None else 'unpin'} “{task.words or task.id}” of {task.sample}"
        self.session.set_wishes(words, self.session.wishes.pinned(name, moment))

    def ask_what_if(self, more: str) -> None:
        """Draw the plan up once more as if there were one more of something, and say what that changes."""
        self.what_if.show()
        self.what_if.setText(f"With one more {more}: being worked out…")
        self.session.what_if(more, self.what_if.setText)

    def leave_out(self, task: Task) -> None:
        """Leave a test of a sample out, for the reason typed."""
        reason = self.why_out.text().strip()
        words = f"leave out “{task.words or task.recipe}” of {task.sample}"
        self.session.set_wishes(words, self.session.wishes.without(task.sample, task.recipe, reason))

    def _take_in(self, code: str, recipe: str) -> None:
        self.session.set_wishes(f"take in “{recipe}” of {code}", self.session.wishes.without(code, recipe, None))

    def _set_up(self, name: str) -> None:
        drawn = self.session.drawn()
        task = drawn.task(name) if drawn is not None else None
        number = drawn.sample_of(task) if drawn is not None and task is not None else None
        if task is None or number is None:
            return
        from wintry_tally.exchange.recipe_file import shipped

        template = shipped().get(task.recipe)
        self.leads.emit(number, template.station if template is not None else "shelf", task.recipe)

    def _wish(self, words: str, made: Wishes) -> None:
        if made != self.session.wishes:
            self.session.set_wishes(words, made)

    def _keep_away(self) -> None:
        from dataclasses import replace

        spans = tuple(part.strip() for part in self.away.text().replace(";", ",").split(",") if part.strip())
        made = replace(self.session.wishes, away=spans)
        try:
            made.days()
            self.away_problem.setText("")
        except WintryError as error:
            self.away_problem.setText(str(error))
        self.away_problem.setVisible(bool(self.away_problem.text()))
        if not self.away_problem.text():
            self._wish("change the days away", made)

    def _keep_places(self) -> None:
        from dataclasses import replace

        made = replace(self.session.wishes, freezers=self.freezers.value(), shelves=self.shelves.value())
        self._wish("change the places", made)

    def save_calendar(self, path: Path | None = None) -> None:
        """Save what needs hands as an iCalendar file."""
        from wintry_tally.exchange.calendar_file import write_calendar

        drawn = self.session.drawn()
        target = path or calendar_place(self)
        if drawn is None or target is None:
            return
        with self.session.guard():
            write_calendar(drawn.plan, self.session.book.meta("name", "bench"), target)
            self.session.said.emit(f"{target.name} is saved; subscribe a calendar to it, or open it with one.")

    def leave(self) -> None:
        """Days away that are half typed are kept."""
        if self.away.hasFocus():
            self._keep_away()

    def theme_changed(self) -> None:
        """The chart is painted."""
        self.chart.update()
