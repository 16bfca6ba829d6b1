"""Plans keep every rule, drop nothing without a reason, and are the best where that can be looked up by trying all."""

from __future__ import annotations

import itertools
import random
from dataclasses import replace
from datetime import date, datetime, timedelta
from functools import partial
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from tests.plan.rules import broken, plan_apart
from wintry_tally.app.solver_apart import APART
from wintry_tally.core.plan.calendar import Calendar, slots_up
from wintry_tally.core.plan.campaign import After, Campaign, Task, in_order, score
from wintry_tally.core.plan.placing import Placing
from wintry_tally.core.plan.planning import plan
from wintry_tally.core.plan.solver import HERE, Solved, Solver, solve
from wintry_tally.core.plan.ways import chosen_ways
from wintry_tally.core.plan.why import cannot_stand, why
from wintry_tally.core.plan.windows import Windows, windows
from wintry_tally.core.protocol.attended import parse_attended
from wintry_tally.core.protocol.in_programme import Presence
from wintry_tally.exchange.plan_file import read_plan
from wintry_tally.exchange.plan_json import plan_dict

OSLO = ZoneInfo("Europe/Oslo")
WEEKS = {
    "Mon-Fri 8-17:30; Sat 9-12": {**{day: [("08:00", "17:30")] for day in range(5)}, 5: [("09:00", "12:00")]},
    "7:00-22:00": {day: [("07:00", "22:00")] for day in range(7)},
    "Tue 10-12; Thu 9-11:30, Thu 13-18": {1: [("10:00", "12:00")], 3: [("09:00", "11:30"), ("13:00", "18:00")]},
}
BEGINS = {"2027-01-11T08:00": "in winter", "2027-03-26T06:10": "over the night that is an hour short", "2026-10-23T13:00": "over the long one"}  # fmt: skip


def _uses(chance: random.Random, places: dict[str, int]) -> list[Any]:
    """Some places, and now and then one of a few."""
    uses: list[Any] = chance.sample(sorted(places), chance.randint(0, 2))
    left = sorted(set(places) - set(uses))
    if chance.random() < 0.4 and len(left) > 1:
        uses.append(chance.sample(left, chance.randint(1, len(left))))
    return uses


def made_up(seed: int) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """A campaign's head and its tasks, as in a file; everything in it by chance."""
    chance = random.Random(seed)
    begins = chance.choice(sorted(BEGINS))
    first = date.fromisoformat(begins[:10])
    places = {"load": chance.choice([1, 1, 2]), "big load": 1, "charger": 1, "freezer": chance.choice([0, 1, 2])}
    away = sorted(first + timedelta(days=chance.randint(0, 12)) for _ in range(chance.randint(0, 3)))
    head = {"begins": begins, "attended": chance.choice(sorted(WEEKS)), "places": places, "away": away}
    tasks: list[dict[str, Any]] = []
    for sample in range(chance.randint(1, 4)):
        for number in range(chance.randint(1, 5)):
            task: dict[str, Any] = {
                "id": f"s{sample}-{number}", "sample": f"S{sample}",
                "hours": chance.choice([0.3, 1, 2, 4.26, 7, 12, 30]),
                "uses": _uses(chance, places),
                "attended": chance.choice(["none", "start", "ends", "throughout"]),
            }  # fmt: skip
            if number and chance.random() < 0.7:
                least = chance.choice([0, 0.5, 1, 24])
                rest = [least] if chance.random() < 0.4 else [least, least + chance.choice([0.5, 6, 48])]
                task["after"] = [{"id": f"s{sample}-{chance.randrange(number)}", "rest_h": rest}]
            if chance.random() < 0.2:
                task["not_before"] = f"{first + timedelta(days=chance.randint(0, 6))}T09:00"
            if chance.random() < 0.3:
                task["due"] = f"{first + timedelta(days=chance.randint(1, 9))}T18:00"
            tasks.append(task)
    return head, tasks


def written(folder: Path, head: dict[str, Any], tasks: list[dict[str, Any]]) -> Path:
    """The same as a file."""
    away = ", ".join(f'"{day}"' for day in head["away"])
    lines = ["[plan]", f'begins = "{head["begins"]}"', 'timezone = "Europe/Oslo"', f'attended = "{head["attended"]}"', f"away = [{away}]"]  # fmt: skip
    for name, count in head["places"].items():
        lines += ["[[resource]]", f'name = "{name}"', f"count = {count}"]
    for task in tasks:
        lines.append("[[task]]")
        for key, value in task.items():
            if key == "after":
                lines.append(
                    "after = [" + ", ".join(f'{{id = "{w["id"]}", rest_h = {w["rest_h"]}}}' for w in value) + "]"
                )
            else:
                lines.append(f"{key} = {value!r}".replace("'", '"'))
    path = folder / "plan.toml"
    path.write_text("\n".join(lines), encoding="utf-8")
    return path


@pytest.mark.parametrize("seed", range(10))
def test_every_plan_keeps_every_rule(seed: int, tmp_path: Path) -> None:
    head, tasks = made_up(seed)
    read = read_plan(written(tmp_path, head, tasks))
    quick = seed % 2 == 0
    found = plan_dict(plan(read.campaign, 1.0, thorough=not quick))
    assert broken(found, tasks, head["places"], WEEKS[head["attended"]], set(head["away"]), OSLO) == []
    assert all(one["reason"] for one in found["unplaced"])
    for one in found["tasks"]:
        due = next(task for task in tasks if task["id"] == one["id"]).get("due")
        late = 0.0
        if due is not None:
            gone = datetime.fromisoformat(one["ends"]) - datetime.fromisoformat(due).replace(tzinfo=OSLO)
            late = max(0.0, gone.total_seconds() / 3600.0)
        assert one["late_h"] == pytest.approx(late, abs=1e-3)


def _campaign(
    tasks: list[Task], places: dict[str, int], attended: str = "always", begins: str = "2027-01-11T08:00"
) -> Campaign:
    calendar = Calendar(datetime.fromisoformat(begins).replace(tzinfo=OSLO), parse_attended(attended), days=3)
    return Campaign(tuple(tasks), places, calendar)


def _exhaustive(campaign: Campaign, latest: int) -> tuple[int, int, int] | None:
    """The best score of all plans there are up to a slot: every start of every task is tried."""
    tasks = campaign.tasks
    allowed = [
        [slot for low, high in windows(task, campaign.calendar).spans for slot in range(low, min(high, latest) + 1)]
        for task in tasks
    ]
    best = None
    for chosen in itertools.product(*allowed):
        starts = {task.id: slot for task, slot in zip(tasks, chosen, strict=True)}
        ends = {task.id: starts[task.id] + task.slots for task in tasks}
        together = [
            (a, b)
            for a, b in itertools.combinations(range(len(tasks)), 2)
            if starts[tasks[a].id] < ends[tasks[b].id] and starts[tasks[b].id] < ends[tasks[a].id]
        ]
        if any(tasks[a].sample == tasks[b].sample for a, b in together):
            continue
        if not any(
            not any(set(ways[a]) & set(ways[b]) for a, b in together)
            for ways in itertools.product(*(task.choices for task in tasks))
        ):
            continue
        if any(
            not wait.least <= starts[task.id] - ends[wait.task] <= (10**9 if wait.most is None else wait.most)
            for task in tasks
            for wait in task.after
        ):
            continue
        found = (
            sum(max(0, ends[task.id] - task.due) for task in tasks if task.due is not None), max(ends.values()),
            sum(starts.values()),
        )  # fmt: skip
        best = found if best is None else min(best, found)
    return best


@pytest.mark.parametrize("seed", range(10))
def test_small_ones_are_the_best_of_all(seed: int) -> None:
    chance = random.Random(100 + seed)
    tasks: list[Task] = []
    for number in range(3):
        after: tuple[After, ...] = ()
        if number and chance.random() < 0.6:
            after = (After(f"t{chance.randrange(number)}", chance.randint(0, 2), chance.choice([None, 2, 4])),)
        tasks.append(
            Task(
                f"t{number}", f"S{chance.randrange(2)}", chance.randint(1, 5), uses=chance.choice([(), ("load",)]),
                after=after, presence=chance.choice(list(Presence)), due=chance.choice([None, None, 4, 7]),
                ways=chance.choice([(), (), (("big",),), (("small",), ("big",)), (("big", "meter"), ("small",))]),
            )
        )  # fmt: skip
    campaign = _campaign(tasks, {"load": 1, "small": 1, "big": 1, "meter": 1}, "8:00-8:35; 9:10-10:00")
    best = _exhaustive(campaign, 26)
    if best is None:
        pytest.skip("nothing fits within the day")
    found = plan(campaign, 3.0)
    assert not found.unplaced
    assert score(campaign, found.starts) == best
    assert found.optimal
    assert found.bound_end == found.end == best[1]


def test_each_better_plan_is_told_when_it_is_found() -> None:
    chance = random.Random(7)
    tasks = [
        Task(
            f"{sample}-{number}", f"S{sample}", slots_up(chance.choice([2.0, 3.5, 5.0, 8.0])),
            uses=(chance.choice(["load", "charger"]),),
            after=(After(f"{sample}-{number - 1}", slots_up(chance.choice([0, 1]))),) if number else (),
            presence=Presence(chance.choice(["none", "start", "ends"])),
        )
        for sample in range(6) for number in range(5)
    ]  # fmt: skip
    campaign = _campaign(tasks, {"load": 1, "charger": 1}, "Mon-Fri 8-17:30; Sat 9-12")
    told: list[Solved] = []
    whole = plan(campaign, 3.0, solver=replace(HERE, best=partial(solve, told=told.append)))
    scores = [score(campaign, one.starts) for one in told]
    assert scores and scores == sorted(set(scores), reverse=True)
    assert all(set(one.starts) == set(whole.starts) for one in told)
    assert score(campaign, whole.starts) <= scores[-1] < score(campaign, plan(campaign, thorough=False).starts)


def test_what_cannot_be_placed_is_told_and_the_rest_is_planned() -> None:
    campaign = _campaign(
        [
            Task("long", "A", slots_up(9), presence=Presence.THROUGHOUT),
            Task("follows", "A", 2, after=(After("long"),)),
            Task("frozen", "B", 2, uses=("freezer",)),
            Task("over", "C", slots_up(10), presence=Presence.ENDS),
            Task("free", "D", 2),
        ],
        {"freezer": 0},
        "8:00-16:00",
    )
    found = plan(campaign, 1.0)
    assert set(found.starts) == {"free"}
    told = {one.id: one.reason for one in found.unplaced}
    assert "9 h 00 min" in told["long"] and "8 h 00 min" in told["long"]
    assert told["follows"] == "it comes after long, which cannot be placed"
    assert "freezer" in told["frozen"]
    assert "ends while nobody is" in told["over"]
    # a slot less, and it fits from the first moment to the last
    fits = _campaign([Task("all day", "A", slots_up(8), presence=Presence.THROUGHOUT)], {}, "8:00-16:00")
    assert plan(fits, 1.0).starts == {"all day": 0}


NONE_FOUND = replace(HERE, most=lambda *_: {})
"""A solver that comes to nothing; then the tasks are placed one by one."""


@pytest.mark.parametrize("solver", [HERE, APART, NONE_FOUND], ids=["here", "apart", "none"])
def test_no_rest_that_suits_is_told_and_takes_nothing_else_along(solver: Solver) -> None:
    campaign = _campaign(
        [
            Task("first", "A", slots_up(10), presence=Presence.START),
            Task("soon", "A", 2, after=(After("first", 0, 2),), presence=Presence.START),
            Task("other", "B", 3, presence=Presence.START),
        ],
        {},
        "8:00-12:00",
    )
    found = plan(campaign, 2.0, solver=solver)
    assert set(found.starts) == {"first", "other"}
    assert "at most 10 min 00 s after first" in found.unplaced[0].reason


def test_an_end_that_is_a_band_lies_in_one_stretch() -> None:
    calendar = _campaign([], {}, "8:00-12:00; 13:00-17:00").calendar
    task = Task("capacity", "A", slots_up(5), early=slots_up(4), presence=Presence.ENDS)
    for low, high in windows(task, calendar).spans:
        for slot in range(low, high + 1):
            soonest, latest = calendar.moment(slot + task.early), calendar.moment(slot + task.slots)
            halves = [("08:00", "12:00"), ("13:00", "17:00")]
            assert any(a <= f"{soonest:%H:%M}" and f"{latest:%H:%M}" <= b for a, b in halves)
    assert windows(task, calendar).spans[0] == (
        slots_up(1),
        slots_up(4) - 1,
    )  # ends 13:00 at the soonest, begun before 12:00


def test_a_soak_goes_on_until_somebody_is_there() -> None:
    tasks = [
        Task(
            "soak", "A", slots_up(24), uses=("freezer",), presence=Presence.START, until="block", stretch=slots_up(72)
        ),
        Task("block", "A", slots_up(2), after=(After("soak", 0, 3),), presence=Presence.THROUGHOUT),
        Task("other", "B", slots_up(30), after=(), uses=("freezer",), presence=Presence.START),
    ]
    campaign = _campaign(tasks, {"freezer": 1}, "Mon 8-10; Wed 12-15; Fri 8-20")
    found = plan(campaign, 2.0)
    soak, block, other = tasks
    assert found.ends(soak) == found.starts["block"]
    assert found.ends(soak) - found.starts["soak"] > soak.slots
    assert found.starts["other"] >= found.ends(soak) or found.starts["soak"] >= found.ends(other)
    without = plan(
        _campaign([Task("soak", "A", soak.slots, presence=Presence.START), block], {}, "Mon 8-10; Wed 12-15; Fri 8-20"),
        1.0,
    )
    assert any(one.id == "block" for one in without.unplaced)


def test_a_new_plan_moves_little_of_the_next_days() -> None:
    tasks = [
        Task(f"{sample}-{number}", sample, slots_up(3), uses=("load",), presence=Presence.ENDS,
             after=(After(f"{sample}-{number - 1}", 0),) if number else ())
        for sample in "ABC" for number in range(4)
    ]  # fmt: skip
    campaign = _campaign(tasks, {"load": 1}, "8:00-17:00")
    before = plan_apart(campaign, 0.6)
    more = [*tasks, Task("D-0", "D", slots_up(3), uses=("load",), presence=Presence.ENDS)]
    again = plan_apart(_campaign(more, {"load": 1}, "8:00-17:00"), 1.0, before=before.starts)
    near = {name for name, slot in before.starts.items() if slot < slots_up(48)}
    assert not near & set(again.moved)
    assert again.end <= 1.05 * plan_apart(_campaign(more, {"load": 1}, "8:00-17:00"), 1.0).end
    # a load less than before: what stood side by side cannot any more, and nothing is on two at once
    fewer = plan_apart(
        _campaign(tasks, {"load": 1}, "8:00-17:00"),
        0.6,
        before=plan(_campaign(tasks, {"load": 3}, "8:00-17:00"), thorough=False).starts,
    )
    spans = sorted((slot, slot + slots_up(3)) for slot in fewer.starts.values())
    assert len(spans) == len(tasks) and all(one[1] <= other[0] for one, other in itertools.pairwise(spans))
    # what is pinned or running stands, whatever would be better
    pinned = [
        Task("A", "A", 12, uses=("load",), fixed=-6),
        Task("B", "B", 12, uses=("load",)),
        Task("C", "C", 6, uses=("load",), fixed=20),
    ]
    held = plan(_campaign(pinned, {"load": 1}), 0.5)
    assert held.starts == {"A": -6, "B": 6 if 6 + 12 <= 20 else 26, "C": 20}
    both = [Task("A", "A", 12, uses=("load",), fixed=0), Task("B", "B", 12, uses=("load",), fixed=6)]
    assert "pinned where A stands" in plan(_campaign(both, {"load": 1}), 0.5).unplaced[0].reason


def test_orders_and_windows() -> None:
    def names(*tasks: Task) -> list[str]:
        return [task.id for task in in_order(tasks)]

    assert names(Task("b", "S", 1, after=(After("a"),)), Task("a", "S", 1)) == ["a", "b"]
    with pytest.raises(Exception, match="a → b → a"):
        names(Task("a", "S", 1, after=(After("b"),)), Task("b", "S", 1, after=(After("a"),)))
    with pytest.raises(Exception, match="a → a"):
        names(Task("a", "S", 1, after=(After("a"),)))
    with pytest.raises(Exception, match="two tasks"):
        names(Task("a", "S", 1), Task("a", "S", 1))
    deep = [Task(f"t{n}", "S", 1, after=(After(f"t{n - 1}"),) if n else ()) for n in range(3000)]
    assert len(names(*reversed(deep))) == 3000
    made = Windows.of(((5, 9), (0, 3), (4, 4), (20, 19)))
    assert made.spans == ((0, 9),)
    assert [made.at_or_after(slot) for slot in (-3, 0, 9, 10)] == [0, 0, 9, None]
    assert slots_up(1.0) == 12 and slots_up(1.0 + 1e-9) == 12 and slots_up(1.01) == 13


def test_two_places_hold_two() -> None:
    tasks = [Task(name, name, 12, uses=("load",)) for name in "ABCDE"]
    campaign = _campaign(tasks, {"load": 2})
    placing = Placing(campaign, tasks, {task.id: windows(task, campaign.calendar) for task in tasks})
    starts = placing.placed({name: number for number, name in enumerate("ABCDE")})
    assert sorted(starts.values()) == [0, 0, 12, 12, 24]
    assert plan(campaign, 1.0).end == 36


def test_why_names_who_stands_in_the_way_last() -> None:
    """Three wait for one charger: the third begins when the second lets go of it, not the first."""
    tasks = [
        Task(name, name.upper(), 24, uses=("charger",), words=name, due=due)
        for name, due in (("a", 24), ("b", 48), ("c", 400))
    ]
    placed = plan(_campaign(tasks, {"charger": 1}), 0.0, thorough=False)
    told = {task.id: why(placed, task) for task in tasks}
    assert told["a"] == "it begins at once"
    assert told["b"] == "until then a (A) has the charger" and told["c"] == "until then b (B) has the charger"
    day = _campaign(
        [replace(tasks[0], presence=Presence.START), replace(tasks[2], presence=Presence.START, slots=150)],
        {"charger": 1},
        "8-9:55",
    )
    found = plan(day, 0.0, thorough=False)
    assert found.starts == {"a": 0, "c": 288}, "the next morning"
    assert why(found, day.tasks[1]) == "until then a (A) has the charger"


@pytest.mark.parametrize("seed", range(20))
def test_ways_are_found_where_there_are_any_and_share_nothing(seed: int) -> None:
    """Against trying every way of every task, looked at minute by minute."""
    chance = random.Random(300 + seed)
    names = ["a", "b", "c"]
    tasks = [
        Task(
            f"t{number}", f"S{number}", chance.randint(1, 6), uses=tuple(chance.sample(["d"], chance.randint(0, 1))),
            ways=tuple((name,) for name in chance.sample(names, chance.randint(0, 3))),
        )
        for number in range(6)
    ]  # fmt: skip
    campaign = _campaign(tasks, {"a": 1, "b": 1, "c": 2, "d": 2})
    starts = {task.id: chance.randint(0, 8) for task in tasks}

    def sound(ways: tuple[tuple[str, ...], ...]) -> bool:
        for slot in range(15):
            here = [
                w for task, w in zip(tasks, ways, strict=True) if starts[task.id] <= slot < starts[task.id] + task.slots
            ]
            if any(sum(name in way for way in here) > count for name, count in campaign.places.items()):
                return False
        return True

    found = chosen_ways(campaign, starts)
    some = any(sound(ways) for ways in itertools.product(*(task.choices for task in tasks)))
    assert (found is not None) == some
    if found is not None:
        assert sound(tuple(task.choices[found.get(task.id, 0)] for task in tasks))
        assert set(found) == {task.id for task in tasks if len(task.choices) > 1}


def test_a_choice_is_the_better_one_where_that_is_free_and_pins_look_at_every_way() -> None:
    tasks = [
        Task("A", "A", 12, ways=(("good",), ("poor",))), Task("B", "B", 12, ways=(("good",), ("poor",))),
        Task("C", "C", 6, ways=(("none",), ("poor", "shared")), not_before=7), Task("D", "D", 6, ways=(("none",), ("neither",))),
    ]  # fmt: skip
    places = {"good": 1, "poor": 1, "shared": 1, "none": 0}
    for thorough in (False, True):
        found = plan(_campaign(tasks, places), 2.0, thorough=thorough)
        assert found.takes(tasks[0]) == ("good",) and found.takes(tasks[1]) == ("poor",)
        assert found.starts["A"] == found.starts["B"] == 0 and found.starts["C"] == 12
        assert found.takes(tasks[2]) == ("poor", "shared")
        assert [(one.id, one.reason) for one in found.unplaced] == [("D", "it needs a none, and there is none")]
    assert why(found, tasks[2]) == "until then B (B) has the poor"
    assert found.bound_end == found.end == 18
    moment = found.campaign.calendar.moment(0)
    fixed = [
        replace(tasks[0], fixed=0),
        replace(tasks[1], fixed=0),
        tasks[2],
        Task("E", "E", 2, ways=(("good",), ("shared",))),
    ]
    again = plan(_campaign(fixed, places), 1.0, thorough=False)
    assert again.takes(fixed[0]) == ("good",) and again.takes(fixed[1]) == ("poor",)
    assert cannot_stand(again, replace(tasks[2], not_before=0), moment) == "B (B) stands there, and cannot be moved"
    assert cannot_stand(again, fixed[3], moment) == "" and again.starts["E"] == 0
