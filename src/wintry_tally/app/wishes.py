"""What a person has set for the campaign of a book: days away, pins, tests left out or asked for, re-tests."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, timedelta
from typing import TYPE_CHECKING, Any, TypeVar

from wintry_tally.book import RunStatus
from wintry_tally.book.records import plain_of, read_as
from wintry_tally.core.plan.programme import Asked
from wintry_tally.exchange.plan_file import days_of

if TYPE_CHECKING:
    from wintry_tally.book import Book, Run
    from wintry_tally.core.battery.sample import CyclesHad

WISHES = "campaign"
"""Key of the book's small facts."""
EARLY = timedelta(days=7)
"""A re-test is planned for from so long before its day on."""
TAKEN = {RunStatus.FINISHED, RunStatus.RUNNING}
CYCLES = "cycles"
HALF = 0.5
MOST_CYCLES = 100_000.0


@dataclass(frozen=True)
class Retest:
    """When a re-test is due: on a day, or once the battery has had so many whole cycles in all."""

    on: date | None = None
    cycles: float | None = None

    @classmethod
    def read(cls, text: str) -> Retest:
        """As it is kept.

        Raises:
            ValueError: neither a day nor a count.
        """
        count, _, unit = text.partition(" ")
        return cls(cycles=float(count)) if unit == CYCLES else cls(on=date.fromisoformat(text))

    def __str__(self) -> str:
        return f"{self.cycles:g} {CYCLES}" if self.on is None else self.on.isoformat()

    def near(self, now: datetime, had: CyclesHad) -> bool:
        """Whether it is to be planned for."""
        if self.on is not None:
            return self.on <= now.astimezone().date() + EARLY
        return self.cycles is not None and had.now >= self.cycles - HALF

    def made_by(self, run: Run, had: CyclesHad) -> bool:
        """Whether a run of its recipe is it."""
        if self.on is not None:
            return run.started.astimezone().date() >= self.on - EARLY
        before = had.now if run.status is RunStatus.RUNNING else had.before.get(run.title, 0.0)
        return self.cycles is not None and before >= self.cycles - HALF

    def words(self, had: CyclesHad) -> str:
        """ "on 2027-11-26", "at 412 cycles, of which it had 310"."""
        return f"on {self}" if self.on is not None else f"at {self}, of which it had {had.now:.0f}"


@dataclass(frozen=True)
class Wishes:
    """What a person has set for the campaign.

    Parts:
        away: days when nobody is there, as typed ("2027-01-18", "2027-01-25/2027-01-27").
        freezers, shelves: how many batteries each holds.
        pins: tasks that stand at a moment; left_out: by sample, recipes that are not wanted, each with its reason.
        runs: by sample and recipe, how many runs of it are wanted in all; first: by sample, recipes brought forward.
        by_hand: by sample, recipes done by hand, as nothing on the bench can.
        again: by sample and recipe, when a re-test is due ("2027-11-26", "412 cycles").
    """

    away: tuple[str, ...] = ()
    freezers: int = 1
    shelves: int = 6
    pins: Mapping[str, str] = field(default_factory=dict)
    left_out: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    runs: Mapping[str, Mapping[str, int]] = field(default_factory=dict)
    first: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    by_hand: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    again: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    def data(self) -> dict[str, Any]:
        """As plain data."""
        return {
            "away": list(self.away), "freezers": self.freezers, "shelves": self.shelves, "pins": dict(self.pins),
            "left_out": {code: dict(recipes) for code, recipes in self.left_out.items()},
            "runs": {code: dict(recipes) for code, recipes in self.runs.items()},
            "first": {code: list(recipes) for code, recipes in self.first.items()},
            "by_hand": {code: list(recipes) for code, recipes in self.by_hand.items()},
            "again": {code: dict(recipes) for code, recipes in self.again.items()},
        }  # fmt: skip

    def days(self) -> frozenset[date]:
        """The days away."""
        return frozenset(day for span in self.away for day in days_of(span, "days away", ""))

    def pinned(self, task: str, moment: datetime | None) -> Wishes:
        """With a task at a moment, or at none."""
        pins = {name: at for name, at in self.pins.items() if name != task}
        if moment is not None:
            pins[task] = moment.astimezone(UTC).isoformat(timespec="minutes")
        return replace(self, pins=pins)

    def without(self, code: str, recipe: str, reason: str | None) -> Wishes:
        """With a test of a sample left out for a reason; None takes it in again."""
        own = {name: words for name, words in self.left_out.get(code, {}).items() if name != recipe}
        if reason is not None:
            own[recipe] = reason
        return replace(self, left_out=_with(self.left_out, code, own))

    def repeated(self, code: str, recipe: str, runs: int) -> Wishes:
        """With so many runs of a test of a sample wanted in all; 0 for as many as the claims ask for."""
        own = {name: number for name, number in self.runs.get(code, {}).items() if name != recipe}
        if runs > 0:
            own[recipe] = runs
        return replace(self, runs=_with(self.runs, code, own))

    def forward(self, code: str, recipe: str, on: bool) -> Wishes:
        """With a test of a sample brought forward, or in its usual place again."""
        own = tuple(name for name in self.first.get(code, ()) if name != recipe)
        return replace(self, first=_with(self.first, code, (*own, recipe) if on else own))

    def handed(self, code: str, recipe: str, on: bool) -> Wishes:
        """With a test of a sample done by hand, or on the bench again."""
        own = tuple(name for name in self.by_hand.get(code, ()) if name != recipe)
        return replace(self, by_hand=_with(self.by_hand, code, (*own, recipe) if on else own))

    def retested(self, code: str, recipe: str, due: Retest | None) -> Wishes:
        """With a re-test of a sample, or with none."""
        own = {name: words for name, words in self.again.get(code, {}).items() if name != recipe}
        if due is not None:
            own[recipe] = str(due)
        return replace(self, again=_with(self.again, code, own))

    def retests(self, code: str, runs: Sequence[Run], had: CyclesHad) -> dict[str, Retest]:
        """A sample's re-tests that were not yet made, by recipe; one made a week too early counts."""
        found = {}
        for name, text in self.again.get(code, {}).items():
            due = Retest.read(text)
            own = [run for run in runs if run.recipe.get("name") == name and run.status in TAKEN and not run.left_out]
            if not any(due.made_by(run, had) for run in own):
                found[name] = due
        return found

    def of(self, code: str, runs: Sequence[Run], now: datetime, had: CyclesHad) -> Asked:
        """What is wanted of one sample that has these runs: of a re-test, once it is near."""
        done = Counter(str(run.recipe.get("name", "")) for run in runs if run.status in TAKEN and not run.left_out)
        still = {name: number - done[name] for name, number in self.runs.get(code, {}).items()}
        near = [name for name, due in self.retests(code, runs, had).items() if due.near(now, had)]
        still |= {name: max(1, still.get(name, 0)) for name in near}
        return Asked(self.left_out.get(code, {}), still, self.first.get(code, ()), self.by_hand.get(code, ()))


Own = TypeVar("Own")


def _with(kept: Mapping[str, Own], code: str, own: Own) -> dict[str, Own]:
    others = {name: one for name, one in kept.items() if name != code}
    return {**others, code: own} if own else others


def wishes_of(book: Book) -> Wishes:
    """What the book keeps of them."""
    kept = book.meta(WISHES)
    if not kept:
        return Wishes()
    with read_as("the wishes for the campaign kept in the book"):
        data = plain_of(kept)
        return Wishes(
            tuple(str(span) for span in data.get("away", [])), int(data.get("freezers", 1)), int(data.get("shelves", 6)),
            {str(name): str(at) for name, at in data.get("pins", {}).items()},
            {str(code): {str(n): str(w) for n, w in own.items()} for code, own in data.get("left_out", {}).items()},
            {str(code): {str(n): int(k) for n, k in own.items()} for code, own in data.get("runs", {}).items()},
            {str(code): tuple(map(str, own)) for code, own in data.get("first", {}).items()},
            {str(code): tuple(map(str, own)) for code, own in data.get("by_hand", {}).items()},
            {
                str(code): {str(n): str(Retest.read(str(due))) for n, due in own.items()}
                for code, own in data.get("again", {}).items()
            },
        )  # fmt: skip
