"""The ways out of a plan: a lower rate over night, a slow night, taken where the plan is better for it and never else.

The ways out are the handbook's: common practice, no published source. Every time here is worked out by hand beside it.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import replace
from datetime import UTC, datetime
from types import SimpleNamespace

import pytest

from wintry_tally.app.able import able
from wintry_tally.app.campaign import Drawn, draw_up, standing_of
from wintry_tally.app.nights import given_over_night
from wintry_tally.app.ways_out import NEVER, Merit, as_before, better_ways, turned_down, ways_out, weighed
from wintry_tally.app.wishes import Wishes
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.book import RunStatus
from wintry_tally.core.battery import Family, Sample, family_named, parse_claim
from wintry_tally.core.plan.calendar import Calendar
from wintry_tally.core.plan.campaign import Plan
from wintry_tally.core.plan.over_night import over_night_A
from wintry_tally.core.plan.programme import Asked, TurnedDown
from wintry_tally.core.plan.standing import Standing
from wintry_tally.core.protocol.attended import Attendance, parse_attended
from wintry_tally.core.protocol.in_programme import Charged
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.exchange.recipe_file import shipped

BENCH = Equipment(
    (Instrument("load", "load", power_W=1000.0, current_A=100.0), Instrument("supply", "charger", current_A=20.0, voltage_V=16.0)),
    (ChannelSpec("one", load="load", charger="supply"),),
)  # fmt: skip
FRIDAY_NOON = datetime(2027, 1, 15, 11, 0, tzinfo=UTC)
HOURS = "Mon-Fri 8-17; Sat 9-12"
DRAWN: dict[str, Drawn] = {}
"""What was asked before, and the plan drawn up for it."""
REFERENCE, OVER_NIGHT, SLOW = "capacity-reference", "capacity-over-night", "capacity-slow-night"


@pytest.fixture(autouse=True)
def in_oslo(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TZ", "Europe/Oslo")
    monkeypatch.setattr("wintry_tally.app.campaign.own_zone", lambda: __import__("zoneinfo").ZoneInfo("Europe/Oslo"))


def _full(family: str = "lfp", asked: Asked = Asked(), code: str = "B1") -> Standing:
    """A battery that is full, of which a run says what it holds: its forecast is good to 3 %."""
    sample = Sample(1, code, "", "", family, (parse_claim("40 Ah"),))
    made = standing_of(sample, [], None, None, Wishes(), BENCH, FRIDAY_NOON)
    assert made is not None
    return replace(made, left=Charged.FULL, since=FRIDAY_NOON, known=True, asked=asked)


def _drawn(standing: Standing, hours: str = HOURS, wishes: Wishes = Wishes(), **more: object) -> Drawn:
    given: dict[str, object] = {"before": {}, "seconds": 0.5, "thorough": True, **more}
    asked = repr((standing, hours, wishes, given))
    if asked not in DRAWN:
        DRAWN[asked] = draw_up({1: standing}, BENCH, hours, wishes, now=FRIDAY_NOON, **given)  # type: ignore[arg-type]
    return DRAWN[asked]


def _recipes(drawn: Drawn) -> list[str]:
    return [step.recipe for step in drawn.programmes[1].steps if step.recipe]


def test_a_lower_rate_is_taken_over_a_week_end_and_says_what_it_saves_and_costs() -> None:
    """Full on Friday at noon: 6 h would end at 18 h, an hour after everybody went, so the reference waits for Monday.

    At C/17, the quickest that ends the next morning over most nights, it is begun at three and ends 18 h on, on Saturday
    morning, and is charged again by the evening: two days sooner.
    """
    drawn = _drawn(_full())
    assert OVER_NIGHT in _recipes(drawn) and REFERENCE not in _recipes(drawn)
    step = next(step for step in drawn.programmes[1].steps if step.recipe == OVER_NIGHT)
    assert (
        "all is done sooner, by more than 24 h" in step.why
        and "favours the battery a little" in step.why
        and step.settles == ("capacity",)
    )
    begins = drawn.moment(drawn.plan.starts[f"B1-{step.name}"])
    assert (begins.weekday(), begins.hour) == (4, 15)
    assert drawn.moment(drawn.plan.end).weekday() == 5
    assert drawn.gained.startswith("1 test goes on through the night, and all is done 2 d ")
    # nobody there on Saturday: nothing is gained, and it stays as it is
    assert REFERENCE in _recipes(_drawn(_full(), "Mon-Fri 8-17")) and not _drawn(_full(), "Mon-Fri 8-17").gained
    # lead-acid is at C/20 already, and a slow night is no way to be done sooner
    assert REFERENCE in _recipes(_drawn(_full("agm")))


@pytest.mark.parametrize(
    ("asked", "wishes"),
    [
        (Asked(left_out={OVER_NIGHT: "too slow"}), Wishes()),
        (Asked(runs={REFERENCE: 1}), Wishes()),
        (Asked(by_hand=(REFERENCE,)), Wishes()),
        (Asked(), Wishes().pinned("B1-capacity-reference", datetime(2027, 1, 18, 9, 0, tzinfo=UTC))),
    ],
)  # fmt: skip
def test_what_a_person_asked_for_stays_what_it_is(asked: Asked, wishes: Wishes) -> None:
    assert REFERENCE in _recipes(_drawn(_full(asked=asked), wishes=wishes))


def test_a_plan_that_has_one_keeps_it_while_it_is_drawn_up_at_once() -> None:
    """Else the reference would stand there for some seconds after each change."""
    first = _drawn(_full())
    before = {name: first.moment(slot) for name, slot in first.plan.starts.items()}
    again = _drawn(_full(), before=before, thorough=False, seconds=0.0)
    assert OVER_NIGHT in _recipes(again)
    assert REFERENCE in _recipes(_drawn(_full(), thorough=False, seconds=0.0))
    # and lets go of it once it saves nothing; why it stands there is said anew
    assert REFERENCE in _recipes(_drawn(_full(), "Mon-Fri 8-17", before=before))
    kept = next(step for step in _drawn(_full(), before=before).programmes[1].steps if step.recipe == OVER_NIGHT)
    assert "sooner" in kept.why and "plan before" not in kept.why
    calendar = first.plan.campaign.calendar
    other = as_before({1: _full(code="B10")}, before, calendar)
    assert not other[1].asked.over_night, "another sample's test"
    assert not as_before({1: _full()}, {"B1-capacity-over-nights": 0}, calendar)[1].asked.over_night


def test_a_slow_night_runs_on_a_real_channel() -> None:
    """Its steps are over one after the other: the ten hours of its night alone would end it long before it is empty."""
    facts = Facts(family_named("lfp"), 100.0, (parse_claim("100 Ah"),))
    assert SLOW not in able(BENCH, facts).barred and OVER_NIGHT not in able(BENCH, facts).barred
    assert ways_out(REFERENCE, _full()) == [OVER_NIGHT, SLOW]
    assert ways_out(REFERENCE, _full("agm")) == [SLOW] and ways_out("surge", _full()) == []
    # 3 h of attendance hold a reference of 6 h by no start, nor C/20 with its 5 %: it is turned down for the night
    evenings = _drawn(replace(_full(), known=False), "17:00-20:00")
    step = next(step for step in evenings.programmes[1].steps if step.recipe in {OVER_NIGHT, SLOW})
    assert "nobody could be there at its end" in step.why and not evenings.plan.unplaced
    assert evenings.gained.startswith("1 test goes on through the night, and ")
    # and at once, before the solver was asked
    quick = _drawn(replace(_full(), known=False), "17:00-20:00", thorough=False, seconds=0.0)
    assert not quick.plan.unplaced and _recipes(quick) == _recipes(evenings)
    never = _drawn(replace(_full(), known=False), "17:00-17:10", thorough=False, seconds=0.0)
    assert REFERENCE in _recipes(never) and never.plan.unplaced, "what finds no place by any way stands as it is"


def test_both_plans_are_thought_about_and_the_costs_decide() -> None:
    plain, down = {1: _full()}, {1: _full(asked=Asked(over_night={REFERENCE: TurnedDown(OVER_NIGHT, "")}))}
    asked: list[tuple[bool, float]] = []

    def think(standings: Mapping[int, Standing], seconds: float) -> str:
        asked.append((bool(standings[1].asked.over_night), seconds))
        return "down" if standings[1].asked.over_night else "plain"

    def ends(of_plain: int, of_down: int):
        return lambda made: Merit(0, 0, of_down if made == "down" else of_plain)

    left = iter((4.0, 2.0))
    assert weighed(plain, down, think, ends(1000, 999), lambda: next(left)) == ("plain", "down")
    assert asked == [(False, 2.0), (True, 2.0)], "half of the time each"
    assert weighed(plain, down, think, ends(1000, 1000), lambda: 4.0) == ("plain", None)
    asked.clear()
    assert weighed(plain, plain, think, ends(9, 1), lambda: 4.0) == ("plain", None) and asked == [(False, 4.0)]


def test_what_counts_is_a_place_then_whole_hours_late_then_the_end_with_what_it_costs() -> None:
    base = Merit(1, 5, 1000)
    assert Merit(0, 9, 9000).better_than(base) and not Merit(2, 0, 0).better_than(base)
    assert "late" in Merit(1, 4, 9000).better_than(base) and not Merit(1, 6, 0).better_than(base)
    assert "sooner" in Merit(1, 5, 999).better_than(base) and not Merit(1, 5, 1000).better_than(base)
    plan = _drawn(_full(), thorough=False, seconds=0.0).plan
    end = Merit.of(plan, 2, {1: _full()})
    assert end == Merit(2, 0, plan.end)
    for by, costs in ((OVER_NIGHT, 24 * 12), (SLOW, NEVER)):
        down = turned_down(_full(), REFERENCE, TurnedDown(by, ""), plan.campaign.calendar)
        assert Merit.of(plan, 0, {1: down}).end == plan.end + costs
        assert not turned_down(down, REFERENCE, None, plan.campaign.calendar).asked.over_night


def test_each_is_tried_while_there_is_time_and_only_what_is_better_stays() -> None:
    base = _drawn(_full(), thorough=False, seconds=0.0).plan
    tried: list[str] = []

    def draw(late: Mapping[str, int]) -> object:
        def at_once(standings: Mapping[int, Standing]) -> tuple[Plan, int]:
            by = "".join(down.by for down in standings[1].asked.over_night.values())
            tried.append(by)
            tasks = tuple(replace(task, due=base.ends(task) - 12 * late[by], recipe=by or task.recipe) if task.recipe == REFERENCE else task for task in base.campaign.tasks)  # fmt: skip
            return replace(base, campaign=replace(base.campaign, tasks=tasks)), 0

        return at_once

    late = {"": 5, OVER_NIGHT: 5, SLOW: 3}
    found = better_ways({1: _full()}, draw(late), {}, lambda: True)  # type: ignore[arg-type]
    down = found[1].asked.over_night[REFERENCE]
    assert down.by == SLOW and down.why == "so that less is late"
    assert better_ways({1: _full()}, draw({"": 3, OVER_NIGHT: 4, SLOW: 3}), {}, lambda: True) == {1: _full()}  # type: ignore[arg-type]
    tried.clear()
    assert better_ways({1: _full()}, draw(late), {}, lambda: False) == {1: _full()} and set(tried) == {""}  # type: ignore[arg-type]
    assert better_ways({1: _full()}, draw(late), {"B1-capacity-reference": 0}, lambda: True) == {1: _full()}  # type: ignore[arg-type]


def nights_that_suit(part: int, spread: float, family: Family, calendar: Calendar) -> int:
    """By trying every slot of every day of the first week: of how many the test may be begun for an hour on end."""
    fixed = family.rest_s / 3600.0 + 5.0 / 60.0
    early, late = (12.0 * (fixed + (1.0 + sign * spread) * part) for sign in (-1.0, 1.0))
    found = 0
    for number, (opens, closes) in enumerate(calendar.stretches):
        later = calendar.stretches[number + 1 :]
        good = [any(o <= slot + early and slot + late <= c for o, c in later) for slot in range(opens, closes + 1)]
        longest = max((sum(1 for _ in run) for fits, run in itertools.groupby(good) if fits), default=0)
        found += number > 0 and opens < 7 * 24 * 12 and longest > 12
    return found


@pytest.mark.parametrize("known", [True, False])
@pytest.mark.parametrize(
    "hours", ["Mon-Fri 8-17; Sat 9-12", "Mon-Sun 7-22", "17:00-20:00", "Mon-Fri 9-12; Mon-Fri 14-18", "Wed 9-17", "Tue 8-20; Thu 6-23"]
)  # fmt: skip
def test_the_rate_over_night_is_the_quickest_that_suits_most_nights(hours: str, known: bool) -> None:
    # exhaustive search: every part of the rating from C/6 on, begun at every five minutes
    calendar, lfp = Calendar(FRIDAY_NOON, parse_attended(hours), days=12), family_named("lfp")
    spread = 0.03 if known else 1.645 * lfp.spreads.capacity
    suits = {part: nights_that_suit(part, spread, lfp, calendar) for part in range(6, 41)}
    amps = over_night_A(lfp, 40.0, known, calendar)
    if not max(suits.values()):
        assert amps is None
    else:
        assert amps is not None
        part = round(40.0 / amps)
        assert suits[part] == max(suits.values()) and all(suits[one] < suits[part] for one in range(6, part))


def test_the_rate_over_night_is_that_of_the_plan_and_of_the_page() -> None:
    step = next(one for one in _drawn(_full()).programmes[1].steps if one.recipe == OVER_NIGHT)
    sample = Sample(1, "B1", "", "", "lfp", (parse_claim("40 Ah"),))
    begins = FRIDAY_NOON.astimezone(__import__("zoneinfo").ZoneInfo("Europe/Oslo"))
    run = SimpleNamespace(recipe={"method": "capacity"}, status=RunStatus.FINISHED, left_out=False)
    given = given_over_night(sample, [run], Attendance(begins, parse_attended(HOURS)))
    assert given["over_night"] == pytest.approx(40.0 / 17.0) and given["night"] == 16 * 3600.0
    assert step.usual_h == pytest.approx(1.0 + 17.0 + 5.0 / 60.0, rel=0.01)
    filled = fill(shipped()[OVER_NIGHT], Facts(sample.family, 40.0, sample.claims, given=given))
    assert filled.steps[1].setting == pytest.approx(40.0 / 17.0, abs=1e-3)
    assert fill(shipped()[OVER_NIGHT], Facts(sample.family, 40.0, sample.claims)).steps[1].setting == 2.0
