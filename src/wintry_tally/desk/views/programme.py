"""Programme: the tests that settle a sample's claims, in order; one key starts the next; what would settle the rest."""

from __future__ import annotations

from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QLineEdit, QPushButton, QWidget

from wintry_tally.desk.session import Session
from wintry_tally.desk.theme import SPACE
from wintry_tally.desk.views.station import StationView
from wintry_tally.desk.widgets.flow import Flow
from wintry_tally.desk.widgets.following_card import FollowingCard
from wintry_tally.desk.widgets.parts import button, card, clear, column, empty, label, row, scrolling, set_role

if TYPE_CHECKING:
    from wintry_tally.app.programme import Line, Page, Rest
    from wintry_tally.app.wishes import Wishes

STATE_WORDS = {"running": "●", "next": "next", "later": ""}
IN_QUARANTINE = "It is in quarantine: its tests are planned again once that is lifted."


class ProgrammeView(StationView):
    """A line a test. `leads` carries a station and a recipe to be set up there."""

    leads = Signal(str, str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.told = label("", "quiet", wrap=True)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(6)
        self._grid.setColumnStretch(1, 1)
        self._rest_box, self._ways_box, self._settled_box = column(gap=1), column(gap=1), column(gap=1)
        self._tests = card(self._grid)
        self._rest = card(label("What would settle the rest", "heading"), self._rest_box)
        self._ways = card(label("Other ways", "heading"), self._ways_box)
        self._settled = card(label("Settled", "heading"), self._settled_box)
        self.following = FollowingCard(session, self.opened.emit)
        self._none = empty(
            "No programme yet",
            "Type the claims as printed at Arrival, its capacity among them: the tests that settle them follow from there.",
            button("Go to Arrival", lambda: self.go.emit("arrival"), "main"),
        )
        self.why_out = QLineEdit()
        self._leaving_out = ""
        inner = QWidget()
        inner.setLayout(
            column(
                self.told, self._tests, self._rest, self._ways, self._settled, self.following, self._none, None, gap=3
            )
        )
        inner.layout().setContentsMargins(0, 0, 2 * SPACE, 0)
        self.setLayout(column(scrolling(inner)))
        session.plan_changed.connect(self._plan_changed)

    def _plan_changed(self) -> None:
        if self.isVisible():
            self.refresh()

    def sample_switched(self) -> None:
        """A reason half typed belongs to the sample before."""
        self._leaving_out = ""

    def dossier_changed(self) -> None:
        """The verdicts were worked out anew."""
        self.refresh()

    def refresh(self) -> None:
        """As the newest plan has it."""
        if not self.session.has_book or not self.session.holds(self.sample_id):
            return
        from wintry_tally.app.programme import programme_page

        with self.session.guard():
            drawn, dossier = self.session.drawn(), self.session.dossier(self.sample_id)
            cards = (self._tests, self._rest, self._ways, self._settled)
            self.following.show_sample(self.sample_id)
            if drawn is None:
                for part in (*cards, self._none):
                    part.hide()
                self.told.setText("The programme is worked out once every sample has been read…")
                return
            verdicts = dossier.verdicts if dossier is not None else ()
            now = datetime.now().astimezone()
            runs, equipment = self.session.runs(self.sample_id), self.session.equipment
            page = programme_page(self.sample_id, drawn, runs, verdicts, now, equipment)
            held = page is None and self.session.quarantine(self.sample_id) is not None
            self._none.setVisible(page is None and not held)
            self.told.setText(page.told if page is not None else IN_QUARANTINE if held else "")
            if page is None:
                for part in cards:
                    part.hide()
            else:
                self._fill(page)

    def _fill(self, page: Page) -> None:
        typed = self.why_out.text() if self._leaving_out else ""
        clear(self._grid)
        for place, words in enumerate(("", "Test", "When", "Takes", "")):
            self._grid.addWidget(label(words, "small"), 0, place)
        for number, line in enumerate(page.lines, 1):
            self._fill_line(number, line, typed)
        self._tests.setVisible(bool(page.lines))
        clear(self._rest_box)
        for rest in page.rest:
            self._fill_rest(rest)
        self._rest.setVisible(bool(page.rest))
        for box, part, lines in (
            (self._ways_box, self._ways, page.ways),
            (self._settled_box, self._settled, page.settled),
        ):
            clear(box)
            if lines:
                box.addWidget(label("\n".join(lines) if part is self._ways else " · ".join(lines), "small", wrap=True))
            part.setVisible(bool(lines))

    def _fill_line(self, number: int, line: Line, typed: str) -> None:
        top = Qt.AlignmentFlag.AlignTop
        state = label(STATE_WORDS[line.state] or f"{number}", "small")
        state.setAccessibleName(f"{number}, {line.state}")
        if line.state != "later":
            set_role(state, "accent")
        words = column(label(line.title, "heading", wrap=True), gap=0)
        if line.beside:
            words.addWidget(label("; ".join(line.beside), "small", wrap=True))
        keys = self._keys(line)
        if keys:
            words.addLayout(Flow(*keys))
        if line.recipe and line.recipe == self._leaving_out:
            words.addWidget(self._reason(line, typed))
        takes = QWidget()
        takes.setLayout(column(label(line.takes, "", wrap=True), label(line.hands, "small", wrap=True), gap=0))
        box = QWidget()
        box.setLayout(words)
        for place, part in ((0, state), (1, box), (2, label(line.when, "", wrap=True)), (3, takes)):
            self._grid.addWidget(part, number, place, top)
        if line.state == "running":
            self._grid.addWidget(
                button("Look", partial(self.go.emit, line.station), "", f"Look at {line.title}"), number, 4, top
            )
        elif line.recipe:
            act = partial(self.leads.emit, line.station, line.recipe)
            role = "main" if line.state == "next" else ""
            self._grid.addWidget(button("Set up", act, role, f"Set up: {line.title}"), number, 4, top)

    def _keys(self, line: Line) -> list[QPushButton]:
        if not line.asked:
            return []
        code, wishes = self.session.sample(self.sample_id).code, self.session.wishes
        wanted = max(1, wishes.runs.get(code, {}).get(line.recipe, 0))
        found = [
            button("In its usual place" if line.first else "Bring forward",
                   partial(self._wish, f"{'put back' if line.first else 'bring forward'} “{line.title}” of {code}",
                           wishes.forward(code, line.recipe, not line.first)), "link"),
            button("Once more", partial(self._again, line, wanted + self._done(line.recipe)), "link", f"Once more: {line.title}"),
            button("Leave out…", partial(self._ask_reason, line.recipe), "link", f"Leave out: {line.title}"),
        ]  # fmt: skip
        if wishes.runs.get(code, {}).get(line.recipe):
            found.insert(
                2,
                button(
                    "Only as claimed", partial(self._again, line, 0), "link", f"Only as the claims ask: {line.title}"
                ),
            )
        if line.by_hand:
            back = wishes.handed(code, line.recipe, False)
            found.append(
                button("Not by hand", partial(self._wish, f"take “{line.title}” of {code} to the bench", back), "link")
            )
        return found[1:] if line.state == "next" and not line.first else found

    def _done(self, recipe: str) -> int:
        return sum(
            run.recipe.get("name") == recipe and run.status == "finished" and not run.left_out
            for run in self.session.runs(self.sample_id)
        )

    def _again(self, line: Line, runs: int) -> None:
        code = self.session.sample(self.sample_id).code
        wanted = runs + 1 if runs else 0
        words = f"run “{line.title}” of {code} {'once more' if runs else 'only as the claims ask'}"
        self._wish(words, self.session.wishes.repeated(code, line.recipe, wanted))

    def _reason(self, line: Line, typed: str) -> QWidget:
        self.why_out = QLineEdit(typed)
        self.why_out.setPlaceholderText("why, then Enter")
        self.why_out.setAccessibleName("Why it is left out")
        self.why_out.returnPressed.connect(lambda: self._leave_out(line))
        self.why_out.setFocus()
        return self.why_out

    def _ask_reason(self, recipe: str) -> None:
        self._leaving_out = "" if self._leaving_out == recipe else recipe
        self.refresh()
        if self._leaving_out:
            self.why_out.setFocus()

    def _leave_out(self, line: Line) -> None:
        code, reason = self.session.sample(self.sample_id).code, self.why_out.text().strip()
        self._leaving_out = ""
        self._wish(f"leave out “{line.title}” of {code}", self.session.wishes.without(code, line.recipe, reason))

    def _fill_rest(self, rest: Rest) -> None:
        words = label(f"{rest.label}: {rest.why}", "small", wrap=True)
        code, wishes = self.session.sample(self.sample_id).code, self.session.wishes
        if rest.key == "by-hand":
            made, said, name = (
                wishes.handed(code, rest.recipe, True),
                "Do it by hand",
                f"do “{rest.recipe}” of {code} by hand",
            )
        elif rest.key == "take-in":
            made, said, name = (
                wishes.without(code, rest.recipe, None),
                "Take it in again",
                f"take in “{rest.recipe}” of {code}",
            )
        else:
            self._rest_box.addWidget(words)
            return
        line = row(words, button(said, partial(self._wish, name, made), "link", f"{said}: {rest.label}"))
        line.setStretch(0, 1)
        self._rest_box.addLayout(line)

    def _wish(self, words: str, made: Wishes) -> None:
        if made != self.session.wishes:
            self.session.set_wishes(words, made)
