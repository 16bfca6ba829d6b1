"""The FILE of `plan`: a campaign in TOML or JSON, checked part by part; every error with its place."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from types import MappingProxyType
from typing import Literal
from zoneinfo import ZoneInfo

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from wintry_tally.core.battery import Claim, family_named, pack_of
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.plan.calendar import PER_HOUR, Calendar, slots_down, slots_up
from wintry_tally.core.plan.campaign import After, Campaign, Task, in_order
from wintry_tally.core.plan.programme import (
    EMPTY_SHARE,
    RECEIVED_SHARE,
    SHORT_SHARE,
    Z_95,
    Stand,
    Untestable,
    hours_with_hands,
    programme,
    tasks_of,
)
from wintry_tally.core.plan.standing import Standing
from wintry_tally.core.protocol.attended import USUAL, parse_attended
from wintry_tally.core.protocol.in_programme import Charged, Presence
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import Template
from wintry_tally.exchange.claims_file import claim_of, near, place_of, read_claims
from wintry_tally.exchange.recipe_file import shipped
from wintry_tally.files import table_of

MOST_TASKS = 2000
MOST_WAYS = 32
MOST_HOURS = 5 * 366 * 24.0
WHAT = "a plan: TOML or JSON"


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class PlanPart(_Strict):
    """[plan]"""

    begins: str | datetime | date | None = None
    timezone: str = ""
    attended: str = USUAL
    away: list[str | date] = Field(default_factory=list, max_length=2000)


class ResourcePart(_Strict):
    """[[resource]]"""

    name: str = Field(min_length=1)
    count: int = Field(default=1, ge=0, le=1000)


class AfterPart(_Strict):
    """after = [{id = …, rest_h = [1, 24]}]"""

    id: str
    rest_h: float | list[float] = 0.0


class TaskPart(_Strict):
    """[[task]]"""

    id: str = Field(min_length=1)
    sample: str = ""
    hours: float | None = Field(default=None, gt=0, le=MOST_HOURS)
    recipe: str = ""
    uses: list[str | list[str]] | None = None
    after: list[AfterPart] = Field(default_factory=list)
    attended: Literal["none", "start", "ends", "throughout"] | None = None
    not_before: str | datetime | date | None = None
    due: str | datetime | date | None = None
    pinned: str | datetime | date | None = None


class BatteryOf(_Strict):
    """battery = {…}"""

    family: str
    rated_Ah: float = Field(gt=0, lt=1e6)
    nominal_V: float | None = Field(default=None, gt=0)


class SamplePart(_Strict):
    """[[sample]]"""

    code: str = Field(min_length=1)
    battery: BatteryOf | None = None
    charged: float | None = Field(default=None, ge=0, le=1)
    claims: str = ""


class PlanFile(_Strict):
    """The whole file."""

    plan: PlanPart = Field(default_factory=PlanPart)
    resource: list[ResourcePart] = Field(default_factory=list, max_length=MOST_TASKS)
    task: list[TaskPart] = Field(default_factory=list, max_length=MOST_TASKS)
    sample: list[SamplePart] = Field(default_factory=list, max_length=MOST_TASKS)


@dataclass(frozen=True)
class ReadPlan:
    """A plan's file, read.

    Parts:
        campaign: what is to be planned; untestable: by sample, claims that no test here settles.
        hours: of tasks whose duration is a forecast, the soonest, the usual and the latest, h.
        assumed: what tests take that the file names no place of: taken as always free.
        standings: the samples whose tests are worked out from their claims, by their place in the file.
    """

    campaign: Campaign
    untestable: tuple[tuple[str, Untestable], ...]
    hours: Mapping[str, tuple[float, float, float]]
    assumed: tuple[str, ...]
    standings: Mapping[int, Standing] = field(default_factory=dict)


@dataclass(frozen=True)
class _Sample:
    facts: Facts | None
    claims: tuple[Claim, ...]
    charged: float | None


@dataclass(frozen=True)
class PlanSource:
    """A plan's file as it was read and checked: laid out once as it is, and again where its samples are asked otherwise."""

    name: str
    parsed: PlanFile
    calendar: Calendar
    places: Mapping[str, int]
    samples: Mapping[str, _Sample]

    def laid_out(self, standings: Mapping[int, Standing] = MappingProxyType({})) -> ReadPlan:
        """Its tasks; `standings`: samples of it of which something else is asked than their claims do.

        Raises:
            InputError: with the place in the file and the mend.
        """
        hours: dict[str, tuple[float, float, float]] = {}
        assumed: set[str] = set()
        parts = self.parsed.task
        around = _Context(self.calendar, dict(self.places), dict(self.samples), hours, assumed, parts)
        tasks = [_task(part, index, self.name, around) for index, part in enumerate(parts, 1)]
        untestable: list[tuple[str, Untestable]] = []
        owners = {part.sample for part in parts}
        stand_so: dict[int, Standing] = {}
        for number, (code, sample) in enumerate(self.samples.items()):
            if sample.facts is None or not sample.claims:
                continue
            one = standings.get(number, Standing(code, sample.facts))
            try:
                made = programme(one.facts, shipped(), stand=Stand(charged=sample.charged), asked=one.asked)
            except InputError as error:
                raise InputError(f"sample {code}: {error.what}", self.name, error.mend) from None
            untestable += [(code, one) for one in made.untestable]
            if code not in owners:
                stand_so[number] = one
                tasks += tasks_of(made, code, dict(self.places), hours, assumed)
        try:
            in_order(tuple(tasks))
        except InputError as error:
            raise InputError(f"task: {error.what}", self.name, error.mend) from None
        campaign = Campaign(tuple(tasks), self.places, self.calendar)
        return ReadPlan(campaign, tuple(untestable), hours, tuple(sorted(assumed)), stand_so)


def read_source(path: Path) -> PlanSource:
    """Read and check a plan's file.

    Raises:
        InputError: with the place in the file (plan.begins, sample[3].battery, …) and the mend.
    """
    name = str(path)
    data = table_of(path, WHAT)
    try:
        parsed = PlanFile.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        more = f" (and {len(error.errors()) - 1} more)" if len(error.errors()) > 1 else ""
        raise InputError(
            f"{place_of(first['loc'])}: {first['msg'].lower()}{more}", name, "see docs/formats.md"
        ) from None
    calendar = _calendar(parsed.plan, name)
    places = _places(parsed.resource, name)
    samples = {part.code: _sample(part, index, path) for index, part in enumerate(parsed.sample, 1)}
    if len(samples) < len(parsed.sample):
        raise InputError("two samples have one code", name, "give each a code of its own")
    return PlanSource(name, parsed, calendar, places, samples)


def read_plan(path: Path) -> ReadPlan:
    """A plan's file, laid out as it is.

    Raises:
        InputError: as `read_source` and `PlanSource.laid_out`.
    """
    return read_source(path).laid_out()


@dataclass
class _Context:
    calendar: Calendar
    places: Mapping[str, int]
    samples: Mapping[str, _Sample]
    hours: dict[str, tuple[float, float, float]]
    assumed: set[str]
    parts: list[TaskPart]


def _task(part: TaskPart, index: int, name: str, around: _Context) -> Task:
    place = f"task[{index}]"
    template = None
    if part.recipe:
        if part.recipe not in shipped():
            raise InputError(f'{place}.recipe: "{part.recipe}" is not known', name, near(part.recipe, list(shipped())))
        template = shipped()[part.recipe]
    if part.hours is None and template is None:
        raise InputError(f"{place}: it has neither hours nor a recipe", name, "write hours = 5.5, or name a recipe")
    uses = part.uses
    if uses is None:
        needed = [] if template is None else _needs(template)
        uses = [use for use in needed if use in around.places]
        around.assumed.update(use for use in needed if use not in around.places)
    for use in (one for part_ in uses for one in ([part_] if isinstance(part_, str) else part_)):
        if use not in around.places:
            known = list(around.places) or ["[[resource]]"]
            raise InputError(f'{place}.uses: "{use}" is no resource of this plan', name, near(use, known))
    sure, ways = _ways(uses, place, name)
    if (
        around.samples
        and part.sample
        and part.sample not in around.samples
        and template is not None
        and part.hours is None
    ):
        raise InputError(f'{place}.sample: "{part.sample}" is no sample', name, near(part.sample, list(around.samples)))
    early, slots = _slots(part, template, place, name, around)
    planned = template.programme if template is not None else None
    attended = part.attended or (str(planned.presence) if planned is not None else "none")
    calendar = around.calendar
    return Task(
        part.id, part.sample or part.id, slots, early, sure,
        tuple(_after(one, f"{place}.after[{number}]", name, around) for number, one in enumerate(part.after, 1)),
        Presence(attended), _slot(part.not_before, f"{place}.not_before", name, calendar, up=True) or 0,
        _slot(part.due, f"{place}.due", name, calendar, up=False, day_ends=True),
        _slot(part.pinned, f"{place}.pinned", name, calendar, up=True), part.recipe,
        _settles(template, around.samples.get(part.sample)), template.title if template is not None else part.id,
        ways=ways,
    )  # fmt: skip


def _ways(uses: list[str | list[str]], place: str, name: str) -> tuple[tuple[str, ...], tuple[tuple[str, ...], ...]]:
    """What it takes for sure, and of each list within the list one."""
    sure = tuple(dict.fromkeys(use for use in uses if isinstance(use, str)))
    several = [list(dict.fromkeys(one)) for one in uses if isinstance(one, list)]
    if any(not one for one in several):
        raise InputError(f"{place}.uses: an empty list within the list", name, "name what would do, the best first")
    if math.prod(len(one) for one in several) > MOST_WAYS:
        raise InputError(f"{place}.uses: more than {MOST_WAYS} ways", name, "name fewer that would do")
    return sure, tuple(dict.fromkeys(itertools.product(*several))) if several else ()


def _settles(template: Template | None, sample: _Sample | None) -> tuple[str, ...]:
    if template is None:
        return ()
    if sample is None or not sample.claims:
        return template.settles
    claimed = {claim.kind for claim in sample.claims}
    return tuple(kind for kind in template.settles if kind in claimed)


def _needs(template: Template) -> list[str]:
    kinds = {step.kind for step in template.steps}
    found = list(template.programme.places) if template.programme is not None else []
    return found + [use for kind, use in (("discharge", "load"), ("charge", "charger")) if kind in kinds]


def _slots(part: TaskPart, template: Template | None, place: str, name: str, around: _Context) -> tuple[int, int]:
    """The soonest and the latest end, in slots from the start."""
    if part.hours is not None:
        return 0, max(1, slots_up(part.hours))
    assert template is not None
    sample = around.samples.get(part.sample)
    if sample is None or sample.facts is None:
        raise InputError(
            f'{place}.recipe: how long "{part.recipe}" takes cannot be foretold without its battery', name,
            f'write [[sample]] with code = "{part.sample}" and battery = {{family = …, rated_Ah = …}}, or give hours',
        )  # fmt: skip
    try:
        spread = Z_95 * sample.facts.family.spreads.capacity
        found = hours_with_hands(template, sample.facts, _share(part, template, sample, around), spread)
    except WintryError as error:
        raise InputError(f"{place}.recipe: {error.what}", name, error.mend) from None
    around.hours[part.id] = found
    return max(1, slots_down(found[0])), max(1, slots_up(found[2]))


def _share(part: TaskPart, template: Template, sample: _Sample, around: _Context) -> float:
    """The share of charge it begins with: what it needs, or what the test before it leaves."""
    wants = {Charged.FULL: 1.0, Charged.CHARGED: SHORT_SHARE, Charged.EMPTY: EMPTY_SHARE}
    planned = template.programme
    if planned is not None and planned.before in wants:
        return wants[planned.before]
    by_id = {one.id: one for one in around.parts}
    for before in part.after:
        earlier = by_id.get(before.id)
        recipe = shipped().get(earlier.recipe) if earlier is not None and earlier.sample == part.sample else None
        if recipe is not None and recipe.programme is not None and recipe.programme.leaves in wants:
            return wants[recipe.programme.leaves]
    return RECEIVED_SHARE if sample.charged is None else sample.charged


def _after(part: AfterPart, place: str, name: str, around: _Context) -> After:
    known = [one.id for one in around.parts]
    if part.id not in known:
        raise InputError(f'{place}.id: "{part.id}" is no task', name, near(part.id, known))
    rest = part.rest_h if isinstance(part.rest_h, list) else [part.rest_h]
    if not 1 <= len(rest) <= 2 or any(not 0 <= hours <= MOST_HOURS for hours in rest):
        raise InputError(f"{place}.rest_h: {rest} is no rest", name, "write rest_h = [1] or rest_h = [1, 24], in hours")
    if len(rest) == 2 and rest[1] < rest[0]:
        raise InputError(
            f"{place}.rest_h: at least {rest[0]:g} h and at most {rest[1]:g} h cannot be",
            name,
            "the second is the most",
        )
    least = slots_up(rest[0])
    most = None if len(rest) == 1 else slots_down(rest[1])
    if most is not None and most < least:
        raise InputError(
            f"{place}.rest_h: no multiple of five minutes lies between {rest[0]:g} h and {rest[1]:g} h", name,
            "leave five minutes between them",
        )  # fmt: skip
    return After(part.id, least, most)


def _sample(part: SamplePart, index: int, path: Path) -> _Sample:
    place, name = f"sample[{index}]", str(path)
    claims: tuple[Claim, ...] = ()
    family, rated, nominal = None, None, None
    if part.claims:
        where = path.parent / part.claims
        read = read_claims(where)
        claims = tuple(claim_of(one, number, str(where)) for number, one in enumerate(read.claim, 1))
        family, rated, nominal = read.battery.family, read.battery.rated_Ah, read.battery.nominal_V
    if part.battery is not None:
        family, rated = part.battery.family, part.battery.rated_Ah
        nominal = part.battery.nominal_V or nominal
    if rated is None:
        rated = next((claim.value for claim in claims if claim.kind == "capacity"), None)
    if family is None:
        return _Sample(None, claims, part.charged)
    try:
        pack = pack_of(family_named(family), nominal)
    except InputError as error:
        raise InputError(f"{place}.battery.family: {error.what}", name, error.mend) from None
    if rated is None:
        if claims:
            raise InputError(f"{place}: nothing says its rating", name, "write battery = {family = …, rated_Ah = …}")
        return _Sample(None, claims, part.charged)
    return _Sample(Facts(pack, rated, claims), claims, part.charged)


def _places(parts: list[ResourcePart], name: str) -> dict[str, int]:
    places: dict[str, int] = {}
    for index, part in enumerate(parts, 1):
        if part.name in places:
            raise InputError(
                f'resource[{index}].name: there are two called "{part.name}"', name, "write count = 2 once"
            )
        places[part.name] = part.count
    return places


def _calendar(part: PlanPart, name: str) -> Calendar:
    zone = _zone(part.timezone, name)
    if part.begins is None:
        now = datetime.now(zone)
        begins = now.replace(second=0, microsecond=0) + timedelta(minutes=-now.minute % 5)
    else:
        begins = _moment(part.begins, "plan.begins", name, zone, day_ends=False)
    try:
        hours = parse_attended(part.attended)
    except InputError as error:
        raise InputError(f"plan.attended: {error.what}", name, error.mend) from None
    away: set[date] = set()
    for index, span in enumerate(part.away, 1):
        away |= days_of(span, f"plan.away[{index}]", name)
    return Calendar(begins, hours, frozenset(away))


def _zone(text: str, name: str) -> ZoneInfo:
    if not text:
        return own_zone()
    try:
        return ZoneInfo(text)
    except (KeyError, ValueError, OSError):
        raise InputError(f'plan.timezone: "{text}" is no time zone', name, 'write it like "Europe/Oslo"') from None


def own_zone() -> ZoneInfo:
    """This computer's zone; UTC where it has none."""
    try:
        with Path("/etc/localtime").open("rb") as file:
            return ZoneInfo.from_file(file, "local")
    except (OSError, ValueError):
        return ZoneInfo("UTC")


def days_of(span: str | date, place: str, name: str) -> set[date]:
    """The days of "2027-01-18" or "2027-01-25/2027-01-27".

    Raises:
        InputError: it is neither, with its place.
    """
    if isinstance(span, datetime):
        span = span.date()
    first, _, last = str(span).partition("/")
    try:
        begin, end = date.fromisoformat(first.strip()), date.fromisoformat((last or first).strip())
    except ValueError:
        raise InputError(
            f'{place}: "{span}" are no days', name, 'write "2027-01-18" or "2027-01-25/2027-01-27"'
        ) from None
    if end < begin or (end - begin).days > 3660:
        raise InputError(
            f'{place}: "{span}" ends before it begins, or lasts for ten years', name, "the first day comes first"
        )
    return {begin + timedelta(days=number) for number in range((end - begin).days + 1)}


def _moment(given: str | datetime | date, place: str, name: str, zone: ZoneInfo, day_ends: bool) -> datetime:
    wrong = InputError(f'{place}: "{given}" is no moment', name, 'write it like "2027-01-11T08:00"')
    try:
        if isinstance(given, datetime):
            moment = given
        elif isinstance(given, date) or len(given.strip()) == 10:
            day = given if isinstance(given, date) else date.fromisoformat(given.strip())
            moment = datetime.combine(day + timedelta(days=1 if day_ends else 0), time(0))
        else:
            moment = datetime.fromisoformat(given.strip())
        if not 1990 <= moment.year <= 2200:
            raise wrong
        return moment.replace(tzinfo=zone) if moment.tzinfo is None else moment.astimezone(UTC).astimezone(zone)
    except (ValueError, OverflowError):
        raise wrong from None


def _slot(
    given: str | datetime | date | None, place: str, name: str, calendar: Calendar, up: bool, day_ends: bool = False
) -> int | None:
    if given is None:
        return None
    zone = calendar.begins.tzinfo
    assert isinstance(zone, ZoneInfo)
    at = calendar.slot(_moment(given, place, name, zone, day_ends))
    if abs(at) > 3660 * 24 * PER_HOUR:
        raise InputError(f'{place}: "{given}" is more than ten years from the beginning', name, "check the year")
    return math.ceil(at - 1e-9) if up else math.floor(at + 1e-9)
