"""From a sample's claims to the tests that settle them: which, in which order, how long each takes, what comes between."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from types import MappingProxyType

from wintry_tally.core.battery import CLAIM_KINDS, Claim
from wintry_tally.core.battery.claims import judged
from wintry_tally.core.cell import aged, parameters_for
from wintry_tally.core.cell.parameters import Parameters
from wintry_tally.core.errors import InputError
from wintry_tally.core.plan.calendar import slots_down, slots_up
from wintry_tally.core.plan.campaign import After, Task
from wintry_tally.core.plan.forecast import forecast
from wintry_tally.core.protocol.in_programme import Charged, InProgramme, Presence
from wintry_tally.core.protocol.recipe import Recipe
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import Template, fill
from wintry_tally.core.room import ROOM_C

Z_95 = 1.645
"""Standard deviations from the middle to the 5 % and 95 % points."""
KNOWN_SHARE = 0.03
"""Doubt of a duration, as a share, once a run of this battery says what it holds."""
EMPTY_SHARE, RECEIVED_SHARE, SHORT_SHARE = 0.02, 0.4, 0.8
"""Charge left: when empty, as received where nothing else is said, after a short test from full."""
RECHARGE_MOST_H = {"lithium": 24.0, "lead": 4.0}
REST_MOST_H = 24.0
THAW_H = 8.0
SOAKED_MOST_H = 0.25
SOAK_STRETCH_H = 72.0
SHELF_MONTHS, SURE_SHARE = 3.0, 2.0
MONTH_H = 30.44 * 24.0
"""Handbook practice: recharge within hours, lead-acid above all; runs rest alike; months of 30.44 days. A loss of less than
`SURE_SHARE` percent a month takes `SHELF_MONTHS` to be seen beside what a taper repeats to."""
DRIVES = {"discharge": "load", "charge": "charger"}
"""What a step of a kind takes."""
DRIVEN = frozenset(DRIVES.values())
DEPLETING = "capacity-reference"
"""The recipe that empties a battery for a test that needs it empty."""


@dataclass(frozen=True)
class Wait:
    """Rest after the test before, h: at least, and at most where there is a most."""

    least_h: float = 0.0
    most_h: float | None = None


@dataclass(frozen=True)
class ProgrammeStep:
    """One test, soak or storage of a programme; each begins after the one before it.

    Parts:
        name: its own within the programme; recipe: empty for a soak or a shelf.
        early_h, usual_h, late_h: how long it takes; 5 % are over sooner, 5 % later.
        settles: claim kinds it speaks to; why: where it is there for another's sake.
        stretch_h: how much longer a soak may go on until what follows begins; may_damage: what it may do to a weak battery.
    """

    name: str
    title: str
    recipe: str
    early_h: float
    usual_h: float
    late_h: float
    presence: Presence
    uses: tuple[str, ...]
    wait: Wait = Wait()
    settles: tuple[str, ...] = ()
    why: str = ""
    stretch_h: float = 0.0
    may_damage: str = ""


@dataclass(frozen=True)
class Untestable:
    """A claim that this bench cannot settle, and why; `recipe`: the test that would, where there is one."""

    claim: Claim
    reason: str
    recipe: str = ""


@dataclass(frozen=True)
class Programme:
    """The tests of a sample, in order; what cannot be tested; which kinds are settled already."""

    steps: tuple[ProgrammeStep, ...]
    untestable: tuple[Untestable, ...]
    settled: tuple[str, ...] = field(default=())


@dataclass(frozen=True)
class Stand:
    """How a battery stands now: what its last test left, its share of charge where known, whether it is on the shelf."""

    left: Charged = Charged.ANY
    charged: float | None = None
    shelved: bool = False


@dataclass(frozen=True)
class TurnedDown:
    """A test turned down for the night: the recipe that takes its place, and why."""

    by: str
    why: str


@dataclass(frozen=True)
class Asked:
    """What a person wants otherwise of a sample's tests, each by the name of its recipe.

    Parts:
        left_out: not wanted, each with its reason; runs: how many are asked for, whatever the claims ask.
        first: brought forward; by_hand: done by hand, as nothing on the bench can.
        over_night: to be turned down for the night, each with what takes its place, and why.
    """

    left_out: Mapping[str, str] = field(default_factory=dict)
    runs: Mapping[str, int] = field(default_factory=dict)
    first: Collection[str] = ()
    by_hand: Collection[str] = ()
    over_night: Mapping[str, TurnedDown] = field(default_factory=dict)


def programme(
    facts: Facts,
    recipes: Mapping[str, Template],
    settled: Collection[str] = (),
    stand: Stand = Stand(),
    known: bool = False,
    asked: Asked = Asked(),
    barred: Mapping[str, str] = MappingProxyType({}),
) -> Programme:
    """The smallest sound set of tests that settles what can be settled.

    Args:
        recipes: by name; settled: claim kinds that are; stand: how it stands now.
        known: a run of this battery says what it holds; asked: what a person wants otherwise.
        barred: recipes that the bench cannot run, each with what stands in the way.
    """
    fitting = {
        name: template
        for name, template in recipes.items()
        if template.programme is not None and template.fits(facts.family)
    }
    barred = {name: reason for name, reason in barred.items() if name not in asked.by_hand}
    barred |= {name: down.why for name, down in asked.over_night.items()}
    closed = {**barred, **{name: _left_out(reason) for name, reason in asked.left_out.items()}}
    able = {name: template for name, template in fitting.items() if name not in closed}
    ways = {name: t for name, t in able.items() if not _plan(t).instead_of or _takes_place(t, barred, asked)}
    wanted, untestable = _wanted(facts, fitting, ways, closed, settled)
    for name, number in asked.runs.items():
        if number > 0 and name in ways:
            wanted.setdefault(name, set())
    if not any(t.station == "charge" for t in ways.values()):
        # whatever charges it, it has to be charged: by hand, and more slowly; no claim is settled so
        ways |= {name: t for name, t in fitting.items() if t.station == "charge" and name not in asked.left_out}
    maker = _Maker(facts, ways, wanted, stand, known, asked, barred)
    return Programme(maker.made(), tuple(untestable), tuple(sorted(set(settled) & {c.kind for c in facts.claims})))


def _takes_place(template: Template, barred: Mapping[str, str], asked: Asked) -> bool:
    """Whether a way out is called for: by the bench, or by the night."""
    here = _plan(template)
    down = asked.over_night.get(here.instead_of)
    if down is not None:
        return template.name == down.by
    return here.instead_of in barred and not here.over_night


def _left_out(reason: str) -> str:
    return f"its test is left out: {reason}" if reason else "its test is left out"


def _wanted(
    facts: Facts, fitting: Mapping[str, Template], ways: Mapping[str, Template], closed: Mapping[str, str],
    settled: Collection[str],
) -> tuple[dict[str, set[str]], list[Untestable]]:  # fmt: skip
    """Recipes wanted with the kinds each settles, and what none does; `closed`: what may not be run, and why."""
    chosen: dict[str, set[str]] = {}
    untestable = []
    open_claims = [claim for claim in judged(facts.claims) if claim.kind not in settled]
    by_kind: dict[str, list[Template]] = {}
    for template in ways.values():
        for kind in template.settles:
            by_kind.setdefault(kind, []).append(template)
    # what only one test settles comes first: others may ride along with it
    for claim in sorted(open_claims, key=lambda one: len(by_kind.get(one.kind, ()))):
        definition = CLAIM_KINDS[claim.kind]
        able = by_kind.get(claim.kind, [])
        if definition.beyond:
            untestable.append(Untestable(claim, definition.beyond))
        elif not able and definition.evidence == "measured":
            untestable.append(
                Untestable(claim, "it needs no test: enter what was paid or seen beside it in the ledger")
            )
        elif not able:
            shut = [t for t in fitting.values() if claim.kind in t.settles and t.name in closed]
            usual = min(shut, key=lambda one: (not _plan(one).usual, _plan(one).order), default=None)
            none = f"no recipe settles it for a {facts.family.words} battery"
            untestable.append(
                Untestable(
                    claim, none if usual is None else closed[usual.name], usual.name if usual is not None else ""
                )
            )
        else:
            template = min(able, key=lambda one: (one.name not in chosen, not _plan(one).usual, _plan(one).order))
            chosen.setdefault(template.name, set()).add(claim.kind)
    for name in list(chosen):
        for brought in _plan(ways[name]).brings:
            if brought in ways:
                chosen.setdefault(brought, set())
    order = {claim.kind: place for place, claim in enumerate(facts.claims)}
    return chosen, sorted(untestable, key=lambda one: order[one.claim.kind])


def _plan(template: Template) -> InProgramme:
    assert template.programme is not None
    return template.programme


class _Maker:
    """Puts the wanted tests in order, and between them what makes them sound: charges, soaks, the recharge at the end."""

    def __init__(
        self, facts: Facts, fitting: Mapping[str, Template], wanted: dict[str, set[str]], stand: Stand, known: bool,
        asked: Asked, barred: Mapping[str, str],
    ) -> None:  # fmt: skip
        self.facts, self.fitting, self.wanted, self.asked, self.barred = facts, fitting, wanted, asked, barred
        self.state, self.share = stand.left, RECEIVED_SHARE if stand.charged is None else stand.charged
        self.shelved = stand.shelved
        self.spread = KNOWN_SHARE if known else Z_95 * facts.family.spreads.capacity
        self.steps: list[ProgrammeStep] = []
        self.wait = Wait()
        self.charge = min(
            (t for t in fitting.values() if t.station == "charge"), key=lambda t: _plan(t).order, default=None
        )
        charging = {name for name in wanted if fitting[name].station == "charge"}
        self.charge_kinds = {kind for name in charging for kind in wanted[name]}
        if charging:
            # the claimed charge is the sample's way of charging
            self.charge = fitting[
                min(charging, key=lambda name: (len(fitting[name].settles) < 2, _plan(fitting[name]).order))
            ]

    def made(self) -> tuple[ProgrammeStep, ...]:
        """All steps in order. What lies on the shelf stays there until its time is over."""
        if self.shelved and "shelf-end" in self.wanted:
            self.wanted.pop("shelf-start", None)
            self._shelf("shelf-end")
            self.state = Charged.FULL
            end = self.fitting["shelf-end"]
            self._add(end, tuple(sorted(self.wanted.pop("shelf-end"))))
        tests = sorted(
            (self.fitting[name] for name in self.wanted if self.fitting[name].station != "charge"),
            key=lambda one: (one.name not in self.asked.first, _plan(one).order, one.name),
        )
        for template in tests:
            for time in range(max(1, self.asked.runs.get(template.name, 0))):
                self._before(template, f"-{time + 1}" if time else "")
                self._add(
                    template, tuple(sorted(self.wanted[template.name])) if not time else (), self._instead(template),
                    f"again-{time + 1}" if time else "",
                )  # fmt: skip
            if template.name == "shelf-start":
                self._shelf("shelf-end")
        if self.charge_kinds:
            self._ensure(Charged.EMPTY, "a charge is judged from empty", "the-charge")
            self._charge("", "judged")
        if self.state is Charged.EMPTY:
            self._charge("nothing is left empty", "at-the-end")
        return tuple(self.steps)

    def _instead(self, template: Template) -> str:
        """Why a test stands in another's place, and what that costs."""
        here = _plan(template)
        if not here.instead_of or here.instead_of not in self.barred:
            return ""
        cost = f"; {here.cost}" if here.cost else ""
        has = "for the night" if here.over_night else "as the bench has it"
        return f"instead of another, {has}: {self.barred[here.instead_of]}{cost}"

    def _before(self, template: Template, again: str = "") -> None:
        here = _plan(template)
        if here.before is not Charged.ANY:
            self._ensure(here.before, f"before “{template.title}”", f"{template.name}{again}")
        if here.soak_h:
            self._append(
                ProgrammeStep(
                    f"soak-before-{template.name}{again}", f"Soak before: {template.title}", "", here.soak_h, here.soak_h, here.soak_h,
                    Presence.START, ("freezer",), Wait(0.0, self.wait.most_h), why=f"before “{template.title}”",
                    stretch_h=SOAK_STRETCH_H,
                )
            )  # fmt: skip
            self.wait = Wait(0.0, SOAKED_MOST_H)

    def _ensure(self, state: Charged, why: str, of: str) -> None:
        enough = {Charged.FULL: {Charged.FULL}, Charged.CHARGED: {Charged.FULL, Charged.CHARGED}}
        if state in enough and self.state not in enough[state]:
            self._charge(why, f"before-{of}")
        elif state is Charged.EMPTY and self.state is not Charged.EMPTY:
            deplete = next((t for t in self.fitting.values() if DEPLETING in {t.name, _plan(t).instead_of}), None)
            if deplete is not None:
                self._ensure(Charged.FULL, why, f"emptying-for-{of}")
                self._add(deplete, (), f"{why}: it has to be empty", f"before-{of}")

    def _charge(self, why: str, mark: str) -> None:
        if self.charge is None:
            return
        kinds: tuple[str, ...] = ()
        if self.state is Charged.EMPTY and self.charge_kinds:
            kinds, self.charge_kinds = tuple(sorted(self.charge_kinds)), set()
        self._add(self.charge, kinds, why, mark)

    def _add(self, template: Template, kinds: tuple[str, ...], why: str = "", mark: str = "") -> None:
        here = _plan(template)
        early, usual, late = self._hours(template)
        by_hand = template.name in self.asked.by_hand
        uses = [place for place in here.places if place != "shelf"]
        for kind, name in DRIVES.items():
            steps = (s for s in template.steps if s.kind == kind and (not s.only or self.facts.family.is_named(s.only)))
            if not by_hand and next(steps, None) is not None:
                uses.append(name)
        presence, title = here.presence, template.title
        if by_hand:
            presence, title = Presence.THROUGHOUT, f"{title}, by hand"
        self._append(
            ProgrammeStep(
                f"{template.name}-{mark}" if mark else template.name, title, template.name, early, usual, late, presence,
                tuple(uses), self.wait, kinds, why, may_damage=here.may_damage,
            )
        )  # fmt: skip
        cold = here.soak_h > 0
        lithium = self.facts.family.lithium
        self.wait = Wait()
        if here.leaves is not Charged.SAME:
            self.state = here.leaves
            self.share = {Charged.FULL: 1.0, Charged.EMPTY: EMPTY_SHARE}.get(here.leaves, SHORT_SHARE)
        if self.state is Charged.FULL:
            self.wait = Wait(0.0, REST_MOST_H)
        elif self.state is Charged.EMPTY:
            least = THAW_H if cold and lithium else 0.0
            self.wait = Wait(least, least + RECHARGE_MOST_H["lithium" if lithium else "lead"])
        elif cold:
            self.wait = Wait(THAW_H if lithium else 0.0)

    def _shelf(self, of: str) -> None:
        claim = self.facts.claimed("self-discharge")
        months = claim.conditions.get("months") if claim is not None else None
        if months is None:
            months = 1.0 if claim is not None and (claim.value or 0.0) >= SURE_SHARE else SHELF_MONTHS
        hours = months * MONTH_H
        self._append(
            ProgrammeStep(
                f"shelf-before-{of}", f"On the shelf, {months:g} {'month' if months == 1 else 'months'}", "", hours, hours,
                hours, Presence.NONE, ("shelf",), Wait(0.0, REST_MOST_H),
            )
        )  # fmt: skip
        self.wait = Wait(0.0, 7 * 24.0)

    def _append(self, step: ProgrammeStep) -> None:
        self.steps.append(step if self.steps else replace(step, wait=Wait()))

    def _hours(self, template: Template) -> tuple[float, float, float]:
        return hours_with_hands(template, self.facts, self.share, self.spread)


def hours_with_hands(template: Template, facts: Facts, share: float, spread: float) -> tuple[float, float, float]:
    """As `recipe_hours`, with a person's work that no forecast holds; as the recipe says where no forecast can know.

    Raises:
        InputError: a set-point that nothing is known for.
    """
    here = template.programme
    hands = here.hands_min / 60.0 if here is not None else 0.0
    if here is not None and here.takes_h:
        low, high = here.takes_h
        return low + hands, 0.5 * (low + high) + hands, high + hands
    low, usual, high = recipe_hours(template, facts, share, spread)
    return low + hands, usual + hands, high + hands


@lru_cache(maxsize=4096)
def _foretold(recipe: Recipe, parameters: Parameters, share: float) -> tuple[tuple[tuple[int, float], ...], float]:
    """When each step ends and when the whole does, s; units of one model are asked about again and again."""
    found = forecast(recipe, parameters, ROOM_C, full=share)
    return tuple((number, at) for number, at, _ in found.step_ends), found.end_s


def recipe_hours(template: Template, facts: Facts, share: float, spread: float) -> tuple[float, float, float]:
    """How long a test takes on this sample, h: 5 % are over sooner, the usual, 5 % later.

    What ends by the clock is certain; what ends by the battery is off by `spread`, as a share.

    Raises:
        InputError: a set-point that nothing is known for.
    """
    recipe = fill(template, facts)
    step_ends, end_s = _foretold(recipe, aged(parameters_for(facts.family, facts.rated_Ah), facts.held), share)
    ends = dict(step_ends)
    certain = by_battery = begun = 0.0
    for number, part in enumerate(recipe.steps):
        timed = [rule.value for rule in part.ends if rule.kind == "time"]
        at = ends.get(number)
        if at is None:
            certain += min(timed, default=0.0) if part.kind == "rest" else 0.0
            continue
        took, begun = at - begun, at
        if part.kind in {"rest", "prompt"} or (timed and took >= 0.99 * min(timed)):
            certain += took
        else:
            by_battery += took
    if not ends and end_s > 0:
        by_battery = end_s
    low = (certain + (1.0 - spread) * by_battery) / 3600.0
    usual, high = (certain + by_battery) / 3600.0, (certain + (1.0 + spread) * by_battery) / 3600.0
    if not math.isfinite(high):
        raise InputError(f"{template.title}: how long it takes cannot be foretold")
    return low, usual, high


def tasks_of(
    made: Programme,
    code: str,
    places: Mapping[str, int],
    hours: dict[str, tuple[float, float, float]],
    assumed: set[str],
    ways: Mapping[str, tuple[tuple[str, ...], ...]] = MappingProxyType({}),
) -> list[Task]:
    """The tasks of a sample's programme, each after the one before it.

    `hours` gets the forecasts by task, `assumed` what is taken as always free because no place of it is named.
    `ways`: by recipe, the sets of instruments that can run it, the better ones first; they stand for its load and charger.
    """
    tasks: list[Task] = []
    for step in made.steps:
        after: tuple[After, ...] = ()
        if tasks:
            most = None if step.wait.most_h is None else slots_down(step.wait.most_h)
            after = (After(tasks[-1].id, slots_up(step.wait.least_h), most),)
        assumed.update(use for use in step.uses if use not in places)
        uses, own = step.uses, ways.get(step.recipe, ()) if DRIVEN & set(step.uses) else ()
        if own:
            uses = tuple(use for use in uses if use not in DRIVEN)
        task = Task(
            f"{code}-{step.name}", code, max(1, slots_up(step.late_h)), max(1, slots_down(step.early_h)),
            tuple(use for use in uses if use in places), after, step.presence, recipe=step.recipe,
            settles=step.settles, words=step.title, ways=own,
        )  # fmt: skip
        if tasks and made.steps[len(tasks) - 1].stretch_h:
            tasks[-1] = replace(tasks[-1], until=task.id, stretch=slots_up(made.steps[len(tasks) - 1].stretch_h))
        if step.early_h != step.late_h:
            hours[task.id] = (step.early_h, step.usual_h, step.late_h)
        tasks.append(task)
    return tasks
