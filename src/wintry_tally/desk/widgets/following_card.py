"""Following up: what a battery lost from test to test, the cycles it had elsewhere, and the day of its next re-test."""

from __future__ import annotations

from calendar import monthrange
from collections.abc import Callable
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QWidget

from wintry_tally.core.battery.sample import CyclesHad
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.quantity import parse_typed
from wintry_tally.desk.edit_session import Then
from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.parts import button, card, clear, column, label, row

if TYPE_CHECKING:
    from wintry_tally.app.wishes import Retest
    from wintry_tally.core.working import Working

DAYS_IN, MONTHS_IN = {"day": 1, "week": 7}, {"month": 1, "year": 12}


class FollowingCard(QWidget):
    """One card of a sample. `opened` of the view shows a trend's working."""

    def __init__(self, session: Session, show_working: Callable[[Working], object]) -> None:
        super().__init__()
        self.session, self.sample_id = session, 0
        self._show = show_working
        self._lines = column(gap=1)
        self.cycles = QLineEdit()
        self.cycles.setPlaceholderText("cycles since noted last")
        self.cycles.setAccessibleName("Cycles it had elsewhere since they were noted last")
        self.cycles.returnPressed.connect(self.note)
        self.cycles.setMinimumWidth(190)
        self.told = label("", "small")
        self.recipe = QComboBox()
        self.recipe.setAccessibleName("Which test is made again")
        self.recipe.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.on = QLineEdit()
        self.on.setPlaceholderText("6 months, or 100 cycles")
        self.on.setMinimumWidth(190)
        self.on.setAccessibleName("When the re-test is: a day, months or cycles from now")
        self.on.returnPressed.connect(self.ask_again)
        self._again = column(gap=1)
        self.problem = label("", "problem", wrap=True)
        self.problem.hide()
        whole = card(
            label("Following up", "heading"), self._lines,
            Flow(label("Cycles elsewhere", "quiet"), self.cycles, button("Note them", self.note), self.told),
            Flow(label("Again", "quiet"), self.recipe, self.on, button("Ask for it", self.ask_again)),
            self._again, self.problem,
        )  # fmt: skip
        self.setLayout(column(whole))

    def show_sample(self, sample_id: int) -> None:
        """As the book has it."""
        from wintry_tally.app.following import made_before, noted_of
        from wintry_tally.exchange.recipe_file import shipped
        from wintry_tally.report.words import trend_words

        if sample_id != self.sample_id:
            self.cycles.clear()
            self.on.clear()
            self._tell("")
        self.sample_id = sample_id
        dossier, sample = self.session.dossier(sample_id), self.session.sample(sample_id)
        runs = self.session.runs(sample_id)
        clear(self._lines)
        trends = dossier.trends if dossier is not None else ()
        for one in trends:
            self._lines.addLayout(self._line(trend_words(one), one.working))
        if not trends:
            self._lines.addWidget(
                label("Two like tests, some time or some cycles apart, show what it loses.", "small", wrap=True)
            )
        noted = noted_of(self.session.book, sample_id)
        self.told.setText(
            f"{sum(one.cycles for one in noted):g} noted, last on {noted[-1].at.astimezone():%Y-%m-%d}" if noted else ""
        )
        made = made_before(runs)
        if [self.recipe.itemData(n) for n in range(self.recipe.count())] != [t.name for t in made]:
            self.recipe.clear()
            for template in made:
                self.recipe.addItem(template.title, template.name)
        clear(self._again)
        had = dossier.had if dossier is not None else CyclesHad()
        for name, due in sorted(self.session.wishes.retests(sample.code, runs, had).items()):
            title = shipped()[name].title if name in shipped() else name
            back = button(
                "Take it off", lambda one=name: self._set(one, None), "link", f"Take off the re-test: {title}"
            )
            self._again.addLayout(Flow(label(f"{title}: {due.words(had)}", "small", wrap=True), back))

    def _line(self, words: str, working: Working) -> QHBoxLayout:
        made = row(
            label(words, "small", wrap=True),
            button("Working", lambda: self._show(working), "link", f"Working: {words}"),
        )
        made.setStretch(0, 1)
        return made

    def note(self) -> None:
        """Note the cycles typed, as had until now."""
        try:
            count = parse_typed(self.cycles.text(), "count").value
        except WintryError as error:
            self._tell(str(error))
            return
        self._tell("")
        self.session.note_cycles(
            self.sample_id, datetime.now().astimezone(), count, lambda done: self.cycles.clear() if done else None
        )

    def ask_again(self) -> None:
        """Ask for the re-test chosen, when the line says."""
        if self.recipe.currentData() is None:
            self._tell("Nothing was tested yet that could be tested again.")
            return
        try:
            due = self._due(self.on.text())
        except WintryError as error:
            self._tell(str(error))
            return
        self._tell("")
        self._set(str(self.recipe.currentData()), due, lambda done: self.on.clear() if done else None)

    def _due(self, text: str) -> Retest:
        """ "100 cycles" from now on, or a day."""
        from wintry_tally.app.wishes import MOST_CYCLES, Retest

        count, _, unit = text.strip().lower().removeprefix("after ").partition(" ")
        if unit.strip() not in {"cycle", "cycles"}:
            return Retest(on=day_of(text, date.today()))
        number = parse_typed(count, "count").value
        if not 0 < number <= MOST_CYCLES:
            raise InputError(
                f"{number:g} cycles cannot be", mend="write how many more it has until then, as 100 cycles"
            )
        dossier = self.session.dossier(self.sample_id)
        if dossier is None:
            raise InputError("its runs are still being worked out", mend="ask again in a moment")
        return Retest(cycles=round(dossier.had.now + number))

    def _set(self, recipe: str, due: Retest | None, then: Then | None = None) -> None:
        code = self.session.sample(self.sample_id).code
        words = f"{'ask for' if due else 'take off'} the re-test “{recipe}” of {code}"
        self.session.set_wishes(words, self.session.wishes.retested(code, recipe, due), then)

    def _tell(self, words: str) -> None:
        self.problem.setText(words)
        self.problem.setVisible(bool(words))


def day_of(text: str, today: date) -> date:
    """A day as typed: "2027-11-26", or so many days, weeks, months or years from today.

    Raises:
        InputError: neither, or a day that is over.
    """
    words = text.strip().lower().removeprefix("in ").split()
    if len(words) == 2 and words[0].isdigit() and 0 < int(words[0]) < 1000:
        number, unit = int(words[0]), words[1].rstrip("s")
        if unit in DAYS_IN:
            return today + timedelta(days=number * DAYS_IN[unit])
        if unit in MONTHS_IN:
            months = today.month - 1 + number * MONTHS_IN[unit]
            year, month = today.year + months // 12, months % 12 + 1
            return date(year, month, min(today.day, monthrange(year, month)[1]))
    try:
        found = date.fromisoformat(text.strip())
    except ValueError:
        raise InputError(f"“{text.strip()}” is no day", mend="write 2027-11-26, 6 months or 100 cycles") from None
    if found < today:
        raise InputError(f"{found.isoformat()} is over", mend="a re-test is still to come")
    return found
