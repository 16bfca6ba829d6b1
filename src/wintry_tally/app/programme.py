"""A sample's programme as a page shows it: the tests to come with their moments, what is settled, what would settle the rest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from wintry_tally.app.able import better_words, channel_of
from wintry_tally.app.campaign import UNDER_WAY, Drawn
from wintry_tally.book import RunStatus
from wintry_tally.core.battery import CLAIM_KINDS
from wintry_tally.core.errors import InputError
from wintry_tally.core.plan.hands import people_min
from wintry_tally.core.plan.programme import EMPTY_SHARE, ProgrammeStep, hours_with_hands
from wintry_tally.core.protocol.in_programme import Presence
from wintry_tally.core.quantity import format_hours
from wintry_tally.core.quantity.moments import clock_words
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS, Outcome
from wintry_tally.exchange.recipe_file import shipped

if TYPE_CHECKING:
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.book import Run
    from wintry_tally.core.plan.standing import Standing
    from wintry_tally.core.protocol.template import Template
    from wintry_tally.core.verdict.outcome import Verdict

WORTH = 0.8
"""Another way is told where it takes less than this share of the time."""
FULL = 1.0


@dataclass(frozen=True)
class Line:
    """One test of a programme.

    Parts:
        state: "running", "next" or "later"; when: its moment in the plan; takes: how long; hands: a person's time.
        beside: what it speaks to, why it is there, how long it waits.
        recipe, station: what sets it up, and where.
        asked: a person may leave it out, repeat it or bring it forward; first, by_hand: whether that is so.
    """

    state: str
    title: str
    when: str
    takes: str
    hands: str
    beside: tuple[str, ...]
    recipe: str = ""
    station: str = ""
    asked: bool = False
    first: bool = False
    by_hand: bool = False


@dataclass(frozen=True)
class Rest:
    """A claim that no test to come will settle: why, and the key that would change it ("by-hand", "take-in", or none)."""

    label: str
    why: str
    recipe: str = ""
    key: str = ""


@dataclass(frozen=True)
class Page:
    """All of it.

    Parts:
        told: how much there is to do, and till when; lines: in order; settled: claims with their outcomes.
        rest: claims left; ways: where another test settles the same in less time.
    """

    told: str
    lines: tuple[Line, ...]
    settled: tuple[str, ...]
    rest: tuple[Rest, ...]
    ways: tuple[str, ...]


def programme_page(
    sample_id: int, drawn: Drawn, runs: Sequence[Run], verdicts: Sequence[Verdict], now: datetime, equipment: Equipment
) -> Page | None:
    """The page of one sample; None where nothing says its rating, or it is held in quarantine."""
    standing, made = drawn.standings.get(sample_id), drawn.programmes.get(sample_id)
    if standing is None or made is None:
        return None
    lines = [_running(run) for run in runs if run.status is RunStatus.RUNNING]
    tests = [
        _line(step, standing, drawn, now, equipment, not lines and not place) for place, step in enumerate(made.steps)
    ]
    steps = list(made.steps)
    rest = [_rest(one.claim.definition.label, one.reason, one.recipe, standing) for one in made.untestable]
    rest += [
        Rest(verdict.claim.definition.label, f"too close to call; {verdict.advice or 'a better meter would settle it'}")
        for verdict in verdicts
        if verdict.outcome is Outcome.TOO_CLOSE
    ]
    settled = [
        f"{verdict.claim.definition.label}: {OUTCOME_WORDS[verdict.outcome].lower()}"
        for verdict in verdicts
        if verdict.outcome in {Outcome.MET, Outcome.MISSED}
    ]
    return Page(
        _told(steps, standing, drawn, now), (*lines, *tests), tuple(settled), tuple(rest), _ways(steps, standing)
    )


def _told(steps: list[ProgrammeStep], standing: Standing, drawn: Drawn, now: datetime) -> str:
    if not steps:
        return "Nothing is to be done: every claim that a test here settles is settled."
    tests = sum(bool(step.settles) for step in steps)
    minutes = sum(people_min(step.presence, step.usual_h) for step in steps)
    hours = sum(step.usual_h + step.wait.least_h for step in steps)
    words = f"{tests} {'test' if tests == 1 else 'tests'} to go" if tests else "No test to go, but something to be done"
    words += f": about {format_hours(hours)} in all, {format_hours(minutes / 60.0)} of them with you"
    own = [task for task in drawn.plan.campaign.tasks if task.sample == standing.code and task.id in drawn.plan.starts]
    if own:
        words += f"; all done {clock_words(drawn.moment(max(drawn.plan.ends(task) for task in own)), now)}"
    return words


def _running(run: Run) -> Line:
    return Line("running", run.title, "under way", "", "", (), "", run.station)


def _line(
    step: ProgrammeStep, standing: Standing, drawn: Drawn, now: datetime, equipment: Equipment, first: bool
) -> Line:
    name = f"{standing.code}-{step.name}"
    starts = drawn.plan.starts
    task = drawn.task(name)
    when = clock_words(drawn.moment(starts[name]), now) if task is not None and name in starts else "no place yet"
    if task is not None and task.fixed is not None and task.fixed < 0:
        when = f"since {clock_words(drawn.moment(task.fixed), now)}"
    early, usual, late = (format_hours(hours) for hours in (step.early_h, step.usual_h, step.late_h))
    beside = []
    if step.settles:
        beside.append(f"settles {', '.join(CLAIM_KINDS[kind].label.lower() for kind in step.settles)}")
    if step.why:
        beside.append(step.why)
    if step.wait.least_h:
        beside.append(f"rests {step.wait.least_h:g} h before it")
    if step.wait.most_h is not None and step.wait.most_h < 24.0:
        beside.append(f"begins within {format_hours(step.wait.most_h)} of the one before")
    if early != late:
        beside.append(f"{early} to {late}")
    template = shipped().get(step.recipe)
    if step.may_damage:
        beside.append(step.may_damage)
    if task is not None and name in starts and len(standing.ways.get(step.recipe, ())) > 1:
        taken = drawn.plan.takes(task)
        surer = better_words(equipment, task, taken)  # the surest meters are not always the ones that are free
        beside += [surer] if surer else [f"on {place}" for place in taken if channel_of(place)]
    minutes = people_min(step.presence, step.usual_h)
    there = (
        "with you throughout" if step.presence is Presence.THROUGHOUT
        else f"{format_hours(minutes / 60.0)} with you" if minutes else "without you"
    )  # fmt: skip
    station = template.station if template is not None else "cold" if "freezer" in step.uses else "shelf"
    return Line(
        "next" if first else "later", step.title, when, f"about {usual}", there, tuple(beside), step.recipe, station,
        bool(step.settles and step.recipe), step.recipe in standing.asked.first, step.recipe in standing.asked.by_hand,
    )  # fmt: skip


def _rest(label: str, reason: str, recipe: str, standing: Standing) -> Rest:
    key = "take-in" if recipe in standing.asked.left_out else "by-hand" if recipe in standing.barred else ""
    return Rest(label, reason, recipe, key)


def _ways(steps: list[ProgrammeStep], standing: Standing) -> tuple[str, ...]:
    """Other tests that settle what a test to come settles, where they are over sooner or ask less of a person."""
    found = []
    for step in (one for one in steps if one.settles and one.recipe):
        for other in shipped().values():
            kinds = [kind for kind in step.settles if kind in other.settles]
            if not kinds or other.name == step.recipe or not _may(other.name, standing):
                continue
            said = _saves(shipped()[step.recipe], other, standing)
            words = ", ".join(CLAIM_KINDS[kind].label.lower() for kind in kinds)
            if said:
                found.append(f"{words[:1].upper()}{words[1:]}: “{other.title}” is another way, {said}")
    return tuple(found)


def _saves(one: Template, other: Template, standing: Standing) -> str:
    """What another test saves, both begun alike; nothing where that is not worth telling, or cannot be foretold."""
    share = EMPTY_SHARE if one.station == "charge" else FULL
    assert one.programme is not None and other.programme is not None
    try:
        hours, less = (hours_with_hands(made, standing.facts, share, 0.0)[1] for made in (one, other))
    except InputError:
        return ""
    own, asks = people_min(one.programme.presence, hours), people_min(other.programme.presence, less)
    said = []
    if less < WORTH * hours:
        said.append(f"quicker: about {format_hours(less)} instead of {format_hours(hours)}")
    if asks < WORTH * own:
        said.append(f"with {format_hours(asks / 60.0)} of your time instead of {format_hours(own / 60.0)}")
    return "; ".join(said)


def _may(name: str, standing: Standing) -> bool:
    template = shipped()[name]
    return (
        template.programme is not None and template.fits(standing.facts.family) and name not in standing.barred
        and name not in standing.asked.left_out and not template.programme.instead_of
    )  # fmt: skip


def next_station(sample_id: int, drawn: Drawn | None) -> str | None:
    """The station where the next test of a sample stands; "" where nothing is to come, None where nobody knows yet."""
    if drawn is None or sample_id not in drawn.standings:
        return None
    task = drawn.next_task(sample_id)
    if task is None or task.id.startswith(UNDER_WAY):
        return ""
    template = shipped().get(task.recipe)
    return template.station if template is not None else "cold" if "freezer" in task.uses else "shelf"
