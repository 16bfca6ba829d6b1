"""The campaign of a book: where every sample stands, what is wished (days away, pins, tests left out), and its plan."""

from __future__ import annotations

import json
import math
import time
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from functools import cached_property
from typing import TYPE_CHECKING

from wintry_tally.app.able import able, channel_place, places_of, taken_by
from wintry_tally.app.comparison import held_by
from wintry_tally.app.nights import says_what_it_holds
from wintry_tally.app.ways_out import SOONER, Merit, as_before, better_ways, said_why, weighed
from wintry_tally.app.wishes import Wishes
from wintry_tally.book import RunStatus
from wintry_tally.book.records import plain_of, read_as
from wintry_tally.core.battery import CLAIM_KINDS
from wintry_tally.core.battery.sample import CyclesHad
from wintry_tally.core.errors import InputError
from wintry_tally.core.plan.calendar import SLOT_S, Calendar
from wintry_tally.core.plan.campaign import Campaign, Plan, Task
from wintry_tally.core.plan.programme import DRIVEN, DRIVES, Programme, recipe_hours
from wintry_tally.core.plan.standing import Running, Standing, programme_of, tasks_to_come
from wintry_tally.core.protocol.attended import parse_attended
from wintry_tally.core.protocol.in_programme import Charged
from wintry_tally.core.protocol.recipe import OWN_ENDS, EndCause
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.quantity.moments import clock_words
from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.exchange.plan_file import own_zone
from wintry_tally.exchange.recipe_file import shipped

if TYPE_CHECKING:
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.book import Book, Run
    from wintry_tally.core.battery import Sample
    from wintry_tally.report.dossier import Dossier

KEPT = "plan"
"""Key of the book's small facts: the newest plan."""
BATTERY = "battery "
"""How the names of places begin that are batteries: of a bank and its units only one is tested at a time."""
UNDER_WAY = "run "
"""How the names of tasks begin that are under way."""
LOOK_ROUND_S = 1.5
"""How long ways out are looked for, beside what the plan itself is thought about."""
LATE_SHARE = 0.12
"""How much longer than foretold the rest of a running test may take, as a share of it."""
OLD = timedelta(days=7)
LEAVES = {"charge": Charged.FULL, "capacity": Charged.EMPTY, "reserve": Charged.EMPTY, "runtime": Charged.EMPTY, "cold-loss": Charged.EMPTY}  # fmt: skip
"""How a test of a method leaves a battery, where no recipe says it."""
SETTLED = {Outcome.MET, Outcome.MISSED, Outcome.TOO_CLOSE}


@dataclass(frozen=True)
class Drawn:
    """A campaign as it was drawn up: the plan, and what it was made from.

    Parts:
        made: when; hours: forecasts by task; by_sample: task names by the sample's number; standings: by code.
        unread: codes of samples whose verdicts were not known then.
        moved: tasks that stood elsewhere before, each with the moment it stood at.
        gained: what tests that are turned down for the night save, in words.
    """

    plan: Plan
    made: datetime
    programmes: Mapping[int, Programme]
    standings: Mapping[int, Standing]
    hours: Mapping[str, tuple[float, float, float]]
    wishes: Wishes
    thorough: bool
    moved: Mapping[str, datetime] = field(default_factory=dict)
    gained: str = ""

    @property
    def untested(self) -> int:
        """How many claims no test to come settles; a sample that nothing can be foretold of counts for all of its own."""
        none = [one for number, one in self.standings.items() if number not in self.programmes]
        return sum(len(made.untestable) for made in self.programmes.values()) + sum(
            len(one.facts.claims) for one in none
        )

    @property
    def late_h(self) -> float:
        """How late all of it is together, h."""
        return sum(self.plan.late_h(task) for task in self.plan.campaign.tasks if task.id in self.plan.starts)

    def moment(self, slot: float) -> datetime:
        """A slot as a local moment."""
        return self.plan.campaign.calendar.moment(slot)

    def task(self, name: str) -> Task | None:
        """A task by its name; None where there is none any more."""
        return self._by_name.get(name)

    def sample_of(self, task: Task) -> int | None:
        """The number of the sample that a task belongs to."""
        return self._by_code.get(task.sample)

    @cached_property
    def _by_name(self) -> dict[str, Task]:
        return {task.id: task for task in self.plan.campaign.tasks}

    @cached_property
    def _by_code(self) -> dict[str, int]:
        return {one.code: number for number, one in self.standings.items()}

    @cached_property
    def _to_come(self) -> dict[str, list[Task]]:
        found: dict[str, list[Task]] = {}
        for task in self.plan.campaign.tasks:
            if task.id in self.plan.starts and task.fixed is None:
                found.setdefault(task.sample, []).append(task)
        return found

    def next_of(self, sample_id: int, recipe: str) -> Task | None:
        """The first task of a sample by this recipe that is still to come."""
        own = [task for task in self._coming(sample_id) if task.recipe == recipe]
        return min(own, key=lambda task: self.plan.starts[task.id], default=None)

    def _coming(self, sample_id: int) -> list[Task]:
        code = self.standings[sample_id].code if sample_id in self.standings else ""
        return self._to_come.get(code, [])

    def next_task(self, sample_id: int) -> Task | None:
        """The first task of a sample that is not under way."""
        own = self._coming(sample_id)
        return min(own, key=lambda task: self.plan.starts[task.id], default=None)


def foretold_end(run: Run, sample: Sample) -> datetime | None:
    """When a run would end by its recipe alone, as nobody here follows it; None where that cannot be foretold."""
    template = shipped().get(str(run.recipe.get("name", "")))
    if template is None or sample.rated_Ah is None:
        return None
    full = run.settings.state_of_charge
    try:
        _, usual, _ = recipe_hours(template, Facts(sample.family, sample.rated_Ah, sample.claims), full, 0.0)
    except InputError:
        return None
    return run.started + timedelta(hours=usual)


def running_of(run: Run, now: datetime, ends: datetime | None, equipment: Equipment) -> Running:
    """A test under way as the plan sees it; without a forecast of its end, an hour from now."""
    recipe = str(run.recipe.get("name", ""))
    template = shipped().get(recipe)
    ends = ends if ends is not None and ends > now else now + timedelta(hours=1 if ends is None else 0.1)
    channel = next((one for one in equipment.channels if one.name == run.settings.channel), None)
    if channel is not None:
        uses = taken_by(channel, equipment)
    else:  # by hand, or elsewhere
        kinds = {step.get("kind") for step in run.recipe.get("steps", []) if isinstance(step, dict)}
        uses = tuple(use for kind, use in DRIVES.items() if kind in kinds) or ("load",)
    method = str(run.recipe.get("method", "") or "capacity")
    settles = (
        template.settles
        if template is not None
        else tuple(k for k, kind in CLAIM_KINDS.items() if kind.evidence == method)
    )
    return Running(
        f"{UNDER_WAY}{run.id}", run.title, run.started, ends, ends + LATE_SHARE * (ends - now), uses, left_by(run),
        recipe, settles,
    )  # fmt: skip


def left_by(run: Run) -> Charged:
    """How a run leaves its battery: as its recipe says, or else its last step; stopped early, nobody knows."""
    if run.cause == EndCause.NOT_PROVEN:
        return Charged.SAME  # nothing flowed
    if run.cause and run.cause not in OWN_ENDS:
        return Charged.ANY
    template = shipped().get(str(run.recipe.get("name", "")))
    if template is not None and template.programme is not None:
        return template.programme.leaves
    steps = [step for step in run.recipe.get("steps", []) if isinstance(step, dict)]
    if not steps:
        return LEAVES.get(str(run.recipe.get("method", "") or "capacity"), Charged.ANY)
    live = [step for step in steps if step.get("kind") in {"discharge", "charge"}]
    if not live:
        return Charged.SAME
    ends = {str(rule.get("kind")) for rule in live[-1].get("ends", []) if isinstance(rule, dict)}
    if live[-1]["kind"] == "charge":
        return Charged.FULL if ends & {"taper", "refused"} else Charged.ANY
    return Charged.EMPTY if "voltage" in ends or "protection" in ends else Charged.ANY


def last_left(runs: Sequence[Run]) -> tuple[Charged, Run | None]:
    """How the tests that are over leave a battery, and the one that did."""
    over = [run for run in runs if run.status is not RunStatus.RUNNING and not run.left_out]
    for run in sorted(over, key=lambda run: run.ended or run.started, reverse=True):
        left = Charged.ANY if run.status is RunStatus.INTERRUPTED else left_by(run)
        if left is not Charged.SAME:
            return left, run
    return Charged.ANY, None


def standing_of(
    sample: Sample, runs: list[Run], dossier: Dossier | None, running: Running | None, wishes: Wishes, equipment: Equipment,
    now: datetime,
) -> Standing | None:  # fmt: skip
    """Where a sample stands; None while its rating is not known, for then nothing can be foretold of it."""
    rated = sample.rated_Ah
    if rated is None:
        return None
    left, last = last_left(runs)
    since = (last.ended or last.started) if last is not None else None
    shelved = since if last is not None and last.recipe.get("name") == "shelf-start" and left is Charged.FULL else None
    verdicts = dossier.verdicts if dossier is not None else ()
    by_kind: dict[str, list[bool]] = {}
    for verdict in verdicts:
        by_kind.setdefault(verdict.claim.kind, []).append(verdict.outcome in SETTLED)
    known = says_what_it_holds(runs)
    had = dossier.had if dossier is not None else CyclesHad()
    can = able(equipment, Facts(sample.family, rated, sample.claims, held=held_by(dossier)))
    return Standing(
        sample.code, can.facts, tuple(kind for kind, done in by_kind.items() if all(done)),
        left, since, shelved, running, known, wishes.of(sample.code, runs, now, had), can.barred, can.ways, had,
    )  # fmt: skip


def standings_of(
    samples: Iterable[Sample], runs: Mapping[int, list[Run]], dossier: Callable[[Sample], Dossier | None],
    ends_of: Callable[[Run, Sample], datetime | None], wishes: Wishes, equipment: Equipment, now: datetime,
    banks: Mapping[int, tuple[int, tuple[int, ...]]] | None = None,
) -> dict[int, Standing]:  # fmt: skip
    """Where every sample stands that has a rating, by its number; `ends_of` foretells the end of a test under way.

    `banks`: which samples are banks, of which units (`book.banks`): a bank and its units are never tested together.
    """
    samples = list(samples)
    found = {}
    joined = {unit for _, units in (banks or {}).values() for unit in units}
    codes = {sample.id: sample.code for sample in samples}
    for sample in samples:
        own = runs[sample.id]
        going = next((run for run in own if run.status is RunStatus.RUNNING), None)
        running = running_of(going, now, ends_of(going, sample), equipment) if going is not None else None
        standing = standing_of(sample, own, dossier(sample), running, wishes, equipment, now)
        if standing is not None:
            shared = (banks or {}).get(sample.id, (1, (sample.id,) if sample.id in joined else ()))[1]
            shares = tuple(f"{BATTERY}{codes[unit]}" for unit in shared if unit in codes)
            found[sample.id] = replace(standing, shares=shares)
    return found


def _one_more(
    standings: Mapping[int, Standing], equipment: Equipment, places: dict[str, int], more: str
) -> Mapping[int, Standing]:
    """As if there were one more of something: of a load or a charger that a channel has, one as good as that."""
    channels = {channel_place(channel.name) for channel in equipment.channels if getattr(channel, more, "")}
    if not channels:
        places[more] = places.get(more, 0) + 1
        return standings
    name = f"another {more}"
    places[name] = 1

    def wider(ways: tuple[tuple[str, ...], ...]) -> tuple[tuple[str, ...], ...]:
        like = next((way for way in ways if channels & set(way)), None)
        return ways if like is None else (*ways, (name, *(place for place in like if place in DRIVEN)))

    return {
        number: replace(one, ways={recipe: wider(ways) for recipe, ways in one.ways.items()})
        for number, one in standings.items()
    }


def draw_up(
    standings: Mapping[int, Standing], equipment: Equipment, attended: str, wishes: Wishes, before: Mapping[str, datetime],
    now: datetime, seconds: float, thorough: bool = True, more: str = "", cancelled: Callable[[], bool] = lambda: False,
) -> Drawn:  # fmt: skip
    """The plan of all samples from where they stand now; with `more`, as if there were one more of that."""
    from wintry_tally.app.solver_apart import APART
    from wintry_tally.core.plan.planning import plan

    zone = own_zone()
    late = now.astimezone(UTC)
    begins = datetime.fromtimestamp(math.ceil(late.timestamp() / SLOT_S) * SLOT_S, UTC).astimezone(zone)
    calendar = Calendar(begins, parse_attended(attended), wishes.days())
    places = places_of(equipment, wishes.freezers, wishes.shelves)
    places |= {battery: 1 for standing in standings.values() for battery in standing.shares}
    if more:
        standings = _one_more(standings, equipment, places, more)
    stood = {name: slot for name, at in before.items() if (slot := round(calendar.slot(at))) >= 0}

    def drawn(standings: Mapping[int, Standing], seconds: float, thorough: bool) -> Drawn:
        hours: dict[str, tuple[float, float, float]] = {}
        programmes, tasks = _tasks(standings, wishes, calendar, places, hours, now)
        campaign = Campaign(tuple(tasks), _enough(places, tasks), calendar)
        found = plan(campaign, seconds, stood, cancelled, thorough=thorough, solver=APART)
        moved = {name: before[name] for name in found.moved}
        return Drawn(found, now, programmes, standings, hours, wishes, thorough, moved)

    newest: list[tuple[Mapping[int, Standing], Drawn]] = []

    def quick(standings: Mapping[int, Standing]) -> Drawn:
        if not newest or newest[0][0] != standings:
            newest[:] = [(dict(standings), drawn(standings, 0.0, False))]
        return newest[0][1]

    def at_once(standings: Mapping[int, Standing]) -> tuple[Plan, int]:
        return quick(standings).plan, quick(standings).untested

    stood_so = as_before(standings, before, calendar)
    until = time.monotonic() + LOOK_ROUND_S

    def go_on() -> bool:
        return time.monotonic() < until and not cancelled()

    if not thorough:
        return quick(better_ways(stood_so, at_once, wishes.pins, go_on, lost_alone=True))
    turned = better_ways(stood_so, at_once, wishes.pins, go_on)
    if any(one.asked.over_night for one in turned.values()):
        words = Merit.of(*at_once(turned), turned).better_than(Merit.of(*at_once(standings), standings))
        turned = said_why(turned, words or SOONER)
    begun = time.monotonic()
    as_it_is, otherwise = weighed(
        standings, turned, lambda one, least: drawn(one, least, True), lambda one: Merit.of(one.plan, one.untested, one.standings),
        lambda: max(0.1, seconds - (time.monotonic() - begun)),
    )  # fmt: skip
    return as_it_is if otherwise is None else replace(otherwise, gained=_gained(as_it_is, otherwise))


def _gained(as_it_is: Drawn, otherwise: Drawn) -> str:
    """What the tests that are turned down for the night save, in words."""
    count = sum(len(one.asked.over_night) for one in otherwise.standings.values())
    words = f"{count} {'test goes' if count == 1 else 'tests go'} on through the night"
    lost = as_it_is.untested + len(as_it_is.plan.unplaced) - otherwise.untested - len(otherwise.plan.unplaced)
    if lost > 0:
        return f"{words}, and {lost} more {'finds' if lost == 1 else 'find'} a place"
    late_s = 3600.0 * (as_it_is.late_h - otherwise.late_h)
    if late_s >= 3600.0:
        return f"{words}, and {format_duration(late_s)} less is late"
    return f"{words}, and all is done {format_duration(SLOT_S * (as_it_is.plan.end - otherwise.plan.end))} sooner"


def _tasks(
    standings: Mapping[int, Standing], wishes: Wishes, calendar: Calendar, places: Mapping[str, int],
    hours: dict[str, tuple[float, float, float]], now: datetime,
) -> tuple[dict[int, Programme], list[Task]]:  # fmt: skip
    """The programmes of samples and all their tasks, those pinned where they are pinned."""
    programmes, tasks = {}, []
    for number, standing in standings.items():
        try:
            programmes[number] = programme_of(standing, shipped(), now)
        except InputError:
            continue  # a set-point nothing is known for: its recipe page says so
        tasks += tasks_to_come(standing, programmes[number], calendar, places, hours)
    return programmes, [_pinned(task, wishes, calendar) for task in tasks]


def _enough(places: Mapping[str, int], tasks: Iterable[Task]) -> dict[str, int]:
    """The places, and at least those that what is running takes: it runs, whatever the bench says."""
    taken = Counter(use for task in tasks if task.fixed is not None and task.fixed <= 0 for use in task.uses)
    return {name: max(number, taken[name]) for name, number in places.items()}


def what_if_words(drawn: Drawn, other: Drawn, more: str, now: datetime) -> str:
    """Two plans against each other, the second with one more of something, in words."""

    ends, sooner = (clock_words(one.moment(one.plan.end), now) for one in (drawn, other))
    words = f"With one more {more}: all done {sooner} instead of {ends}"
    if other.plan.end >= drawn.plan.end:
        words = f"With one more {more}: nothing ends sooner, all done {sooner}"
    if drawn.late_h > 0.01:
        words += (
            f"; {format_duration(3600 * other.late_h)} late in all instead of {format_duration(3600 * drawn.late_h)}"
        )
    if len(other.plan.unplaced) < len(drawn.plan.unplaced):
        words += f"; {len(drawn.plan.unplaced) - len(other.plan.unplaced)} more find a place"
    return f"{words}."


def _pinned(task: Task, wishes: Wishes, calendar: Calendar) -> Task:
    at = wishes.pins.get(task.id)
    if at is None or task.fixed is not None:
        return task
    try:
        slot = round(calendar.slot(datetime.fromisoformat(at)))
    except ValueError:
        return task
    return replace(task, fixed=slot) if slot >= 0 else task


def kept_plan(book: Book, now: datetime) -> dict[str, datetime]:
    """When the tasks of the newest plan begin; nothing where that is long ago."""
    kept = book.meta(KEPT)
    if not kept:
        return {}
    with read_as("the plan kept in the book"):
        data = plain_of(kept)
        if now - datetime.fromisoformat(str(data["made"])) > OLD:
            return {}
        return {str(name): datetime.fromisoformat(str(at)) for name, at in data["starts"].items()}


def keep_plan(book: Book, drawn: Drawn) -> None:
    """Keep a plan, so that the next one moves little of it."""
    starts = {
        task.id: drawn.moment(drawn.plan.starts[task.id]).astimezone(UTC).isoformat(timespec="minutes")
        for task in drawn.plan.campaign.tasks
        if task.id in drawn.plan.starts and task.fixed is None
    }
    made = drawn.made.astimezone(UTC).isoformat(timespec="seconds")
    book.set_meta(KEPT, json.dumps({"made": made, "starts": starts}))
