"""The ways out of a plan: tests turned down for the night, where that finds them a place, makes less late or the whole sooner."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import TypeVar

from wintry_tally.core.plan.calendar import PER_HOUR, Calendar
from wintry_tally.core.plan.campaign import Plan, Task, score
from wintry_tally.core.plan.hands import ends_unattended
from wintry_tally.core.plan.over_night import over_night_A
from wintry_tally.core.plan.programme import TurnedDown
from wintry_tally.core.plan.standing import Standing
from wintry_tally.exchange.recipe_file import shipped

Standings = Mapping[int, Standing]
Thought = TypeVar("Thought")
MOST_WAYS = 3
Draw = Callable[[Standings], tuple[Plan, int]]
"""A plan at once for samples that stand so, and how many claims none of its tests settles."""

NEVER = 1_000_000
"""What a way out costs, in slots of the whole, that is not taken for a sooner end alone."""
AS_BEFORE = "as in the plan before"
NO_PLACE, LESS_LATE, SOONER = ("nobody could be there at its end", "so that less is late", "so that all is done sooner")


@dataclass(frozen=True)
class Merit:
    """How good a plan is with its ways out, the smaller the better.

    Parts:
        lost: tests without a place, and claims that no test to come settles; late_h: whole hours; end: slots, with the costs.
    """

    lost: int
    late_h: int
    end: int

    @classmethod
    def of(cls, plan: Plan, untested: int, standings: Standings) -> Merit:
        """Of a plan drawn up for samples that stand so, with so many claims that none of its tests settles."""
        costs = sum(_worth(down.by) for one in standings.values() for down in one.asked.over_night.values())
        late, end, _ = score(plan.campaign, plan.starts)
        return cls(len(plan.unplaced) + untested, late // PER_HOUR, end + costs)

    def better_than(self, other: Merit) -> str:
        """What is better about it, in words; nothing where it is not."""
        if self.lost != other.lost:
            return NO_PLACE if self.lost < other.lost else ""
        if self.late_h != other.late_h:
            return LESS_LATE if self.late_h < other.late_h else ""
        return SOONER if self.end < other.end else ""


def why_turned(words: str, by: str) -> str:
    """Why a recipe takes the place of another; for a sooner end alone, by how much that had to be."""
    worth = _worth(by)
    return f"{words}, by more than {worth / PER_HOUR:g} h" if words == SOONER and worth < NEVER else words


def weighed(
    standings: Standings, turned: Standings, think: Callable[[Standings, float], Thought], merit: Callable[[Thought], Merit],
    left_s: Callable[[], float],
) -> tuple[Thought, Thought | None]:  # fmt: skip
    """A plan as it is and one with its ways out, both thought about; the second where it is then still worth its costs.

    `left_s`: how many seconds are left for both.
    """
    if not any(one.asked.over_night for one in turned.values()):
        return think(turned, left_s()), None
    as_it_is = think(standings, 0.5 * left_s())
    otherwise = think(turned, left_s())
    return as_it_is, otherwise if merit(otherwise).better_than(merit(as_it_is)) else None


def ways_out(recipe: str, standing: Standing) -> list[str]:
    """The recipes that may take the place of another over night, on this sample, the less costly first."""
    if recipe in standing.asked.by_hand or standing.asked.runs.get(recipe):
        return []  # asked for as it is: by hand, or on the same recipe as before
    found = []
    for name, template in shipped().items():
        here = template.programme
        if here is None or not here.over_night or here.instead_of != recipe or not template.fits(standing.facts.family):
            continue
        if name not in standing.barred and name not in standing.asked.left_out:
            found.append((here.order, name))
    return [name for _, name in sorted(found)]


def turned_down(standing: Standing, recipe: str, down: TurnedDown | None, calendar: Calendar) -> Standing:
    """A sample with one of its tests turned down for the night, or as it is."""
    others = {name: one for name, one in standing.asked.over_night.items() if name != recipe}
    asked = replace(standing.asked, over_night=others if down is None else {**others, recipe: down})
    given = dict(standing.facts.given)
    if night := calendar.night():
        given |= {"until_night": max(900.0, night[0] - standing.facts.family.rest_s - 900.0), "night": night[1]}
    if amps := over_night_A(standing.facts.family, standing.facts.rated_Ah, standing.known, calendar):
        given["over_night"] = amps
    return replace(standing, asked=asked, facts=replace(standing.facts, given=given))


def as_before(standings: Standings, before: Mapping[str, object], calendar: Calendar) -> Standings:
    """With those tests turned down that were so in the plan before, as far as they still may be."""
    made = dict(standings)
    plans = {name: one.programme for name, one in shipped().items() if one.programme is not None}
    ways = {name: here.instead_of for name, here in plans.items() if here.over_night}
    # of thousands of tasks hardly one is
    tasks = [task for task in before if any(f"-{name}" in task for name in ways)]
    for number, one in standings.items() if tasks else ():
        for name, recipe in ways.items():
            own = f"{one.code}-{name}"
            stood = any(task == own or task.startswith(f"{own}-") for task in tasks)
            if stood and name in ways_out(recipe, one):
                made[number] = turned_down(made[number], recipe, TurnedDown(name, AS_BEFORE), calendar)
    return made


def better_ways(
    standings: Standings, draw: Draw, pinned: Mapping[str, object], go_on: Callable[[], bool],
    lost_alone: bool = False,
) -> Standings:  # fmt: skip
    """One test after the other turned down for the night, or let be again, as long as the plan is better for it.

    Args:
        pinned: tasks that a person has set, which stay what they are.
        go_on: whether there is time for another try; lost_alone: only tests without a place are looked at.
    """
    standings = _with_a_place(standings, draw, pinned)
    if lost_alone:
        return standings
    plan, untested = draw(standings)
    merit, calendar = Merit.of(plan, untested, standings), plan.campaign.calendar
    looked: set[tuple[int, str, str]] = set()
    while True:
        # each once: after a better one was found, those that were no better before hardly are
        way = next((one for one in _tries(standings, plan, pinned) if one not in looked), None)
        if way is None or not go_on():
            return standings
        looked.add(way)
        number, recipe, by = way
        one = standings[number]
        tried = {**standings, number: turned_down(one, recipe, TurnedDown(by, "") if by else None, calendar)}
        there, untested = draw(tried)
        found = Merit.of(there, untested, tried)
        words = found.better_than(merit)
        if words:
            if by:
                tried[number] = turned_down(one, recipe, TurnedDown(by, why_turned(words, by)), calendar)
            merit, standings, plan = found, tried, there


def _with_a_place(standings: Standings, draw: Draw, pinned: Mapping[str, object]) -> Standings:
    """With those tests turned down that have no place because nobody is there at their end; as little as finds them one."""
    made = dict(standings)
    for turn in range(MOST_WAYS):
        plan, _ = draw(made)
        lost, calendar = {one.id for one in plan.unplaced}, plan.campaign.calendar
        if not calendar.stretches:
            break
        found = False
        for number, recipe, task in _tests(made, plan, pinned):
            if task.id in lost and ends_unattended(task, calendar):
                ways = ways_out(recipe, standings[number])
                down = TurnedDown(ways[turn], NO_PLACE) if turn < len(ways) else None
                found = found or down is not None
                # what finds no place by any way stands as it is
                made[number] = turned_down(made[number], recipe, down, calendar)
        if not found:
            break
    return made


def said_why(standings: Standings, words: str) -> Standings:
    """With why tests are turned down, where that is only that they were before."""
    made = dict(standings)
    for number, one in standings.items():
        downs = {
            recipe: replace(down, why=why_turned(words, down.by)) if down.why == AS_BEFORE else down
            for recipe, down in one.asked.over_night.items()
        }
        made[number] = replace(one, asked=replace(one.asked, over_night=downs))
    return made


def _tries(standings: Standings, plan: Plan, pinned: Mapping[str, object]) -> Iterator[tuple[int, str, str]]:
    """What might be done otherwise: a sample, the recipe, and what takes its place ("" for itself)."""
    for number, recipe, task in _tests(standings, plan, pinned):
        now = task.recipe if task.recipe != recipe else ""
        yield from ((number, recipe, by) for by in ("", *ways_out(recipe, standings[number])) if by != now)


def _tests(standings: Standings, plan: Plan, pinned: Mapping[str, object]) -> Iterator[tuple[int, str, Task]]:
    """The tests that might be done otherwise, each with its sample and its usual recipe; what is late or last comes first."""
    numbers = {one.code: number for number, one in standings.items()}
    seen: set[tuple[int, str]] = set()

    def urgent(task: Task) -> tuple[float, int]:
        there = task.id in plan.starts
        return (-plan.late_h(task), -plan.ends(task)) if there else (-math.inf, 0)

    for task in sorted(plan.campaign.tasks, key=urgent):
        number = numbers.get(task.sample)
        if number is None or task.fixed is not None or task.id in pinned or not task.recipe:
            continue
        usual = {made.by: recipe for recipe, made in standings[number].asked.over_night.items()}
        recipe = usual.get(task.recipe, task.recipe)
        if (number, recipe) not in seen:
            seen.add((number, recipe))
            yield number, recipe, task


def _worth(recipe: str) -> int:
    """By how many slots the whole must end sooner for a way out to be worth it."""
    here = shipped()[recipe].programme
    return round(here.worth_h * PER_HOUR) if here is not None and here.worth_h else NEVER
