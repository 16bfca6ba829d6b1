"""Attended hours: as typed, through nights and week ends, and what is offered for an end when nobody is there."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.attended import Attendance, offers_for, parse_attended
from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits
from wintry_tally.core.protocol.editing import begun_later, with_current
from wintry_tally.core.protocol.preflight import Bench, bars, preflight, preflight_recipe
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.exchange.recipe_file import shipped_recipe

EVENING = datetime(2026, 1, 22, 17, 20, tzinfo=UTC)  # a Thursday
DAILY = parse_attended("7:00-22:00")
HOUR = 3600.0


@pytest.mark.parametrize(
    ("text", "there", "away"),
    [
        ("7:00-22:00", "07:00", "22:00"),
        ("7-22", "21:59", "06:59"),
        ("8.30 to 17.30", "08:30", "17:30"),
        ("22:00-6:00", "23:30", "12:00"),
        ("Thu 8-12; Fri 9-17", "11:00", "13:00"),
        ("Mon–Fri 8-17, Sat 9-12", "16:59", "17:01"),
    ],
)
def test_hours_as_typed(text: str, there: str, away: str) -> None:
    hours = parse_attended(text)
    for clock, says in ((there, True), (away, False)):
        hour, minute = map(int, clock.split(":"))
        assert hours.there(EVENING.replace(hour=hour, minute=minute)) is says, clock


def test_nights_week_ends_and_always() -> None:
    over = parse_attended("22:00-6:00")
    assert over.there(EVENING.replace(hour=5)) and over.closing(EVENING.replace(hour=23)) == EVENING.replace(
        day=23, hour=6, minute=0
    )
    week = parse_attended("Mon-Fri 8-17")
    assert week.next_opening(EVENING + timedelta(days=1)) == datetime(2026, 1, 26, 8, 0, tzinfo=UTC), (
        "after the week end"
    )
    always = parse_attended("always")
    assert always.there(EVENING) and always.closing(EVENING) is None
    assert parse_attended("Fri-Mon 8-9").there(datetime(2026, 1, 25, 8, 30, tzinfo=UTC)), "over the week's end"


WORK = {day: [(8, 12), (13, 17)] for day in range(5)}


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("Mon-Fri 8-12, 13-17", WORK), ("Monday-Friday 8-12; 13-17", WORK), ("weekdays 8am-12pm, 1 p.m. - 5 p.m.", WORK),
        ("Mo-Fr 0800-1200 and 1300-1700", WORK), ("Mon-Fri 8h-12h, 13h00-17h00", WORK),
        ("Mon, Wed, Fri 9-17", {0: [(9, 17)], 2: [(9, 17)], 4: [(9, 17)]}),
        ("Tue/Thu 9-17; Sat 9-12", {1: [(9, 17)], 3: [(9, 17)], 5: [(9, 12)]}),
        ("8-12; Sat 9-10", {**{day: [(8, 12)] for day in range(7)}, 5: [(8, 12), (9, 10)]}),
        ("weekends 10-14, Mon 12am-1am", {5: [(10, 14)], 6: [(10, 14)], 0: [(0, 1)]}),
        ("daily 8-24", {day: [(8, 24)] for day in range(7)}),
    ],
)  # fmt: skip
def test_days_are_of_the_hours_behind_them(text: str, wanted: dict[int, list[tuple[int, int]]]) -> None:
    found = parse_attended(text).week
    assert [[(begin / 60, end / 60) for begin, end in day] for day in found] == [
        wanted.get(day, []) for day in range(7)
    ]


def test_a_stretch_within_another_ends_no_sooner() -> None:
    hours = parse_attended("Thu 8-22; Thu 17-18")
    assert hours.closing(EVENING) == EVENING.replace(hour=22, minute=0)


@pytest.mark.parametrize(
    "text",
    ["", ";", "seven to ten", "25-26", "7:70-8", "7:60-8", "Xyz 7-8", "7", "Mon, Tue", "8-9; Fri", "0pm-3pm", "8-13pm", "24-8", "8-24:30", "Mon 8-9 x"],
)  # fmt: skip
def test_what_are_no_hours(text: str) -> None:
    with pytest.raises(InputError):
        parse_attended(text)


@given(st.integers(0, 14 * 24 * 60), st.floats(60.0, 40 * HOUR))
def test_waiting_as_offered_ends_with_somebody_there(minute: int, lasts_s: float) -> None:
    for hours in (DAILY, parse_attended("Mon-Fri 8-17:30; Sat 9-12"), parse_attended("21-6")):
        begins = EVENING + timedelta(minutes=minute)
        wait = hours.wait_for_end(begins, lasts_s)
        assert wait is not None and hours.there(begins + timedelta(seconds=wait + lasts_s))
        assert (wait == 0.0) is hours.there(begins + timedelta(seconds=lasts_s))
        both = hours.wait_for_end(begins, lasts_s, begun_by_hand=True)
        if both is not None:
            starts = begins + timedelta(seconds=both)
            assert both >= wait and hours.there(starts) and hours.there(starts + timedelta(seconds=lasts_s))


def test_an_end_at_two_in_the_morning_is_offered_three_mends() -> None:
    # the handbook's slip: a test that would end at two in the morning (common practice, no published source)
    attendance = Attendance(EVENING, DAILY)
    lasts = 8 * HOUR + 40 * 60
    assert attendance.clock(lasts) == "Fri 02:00"
    wait, rate, night = offers_for(attendance, lasts, 7 * HOUR + 40 * 60, 8.0)
    assert wait.value == 5 * HOUR and wait.words == "Begin at 22:20"
    slower = 8.0 * (7 + 40 / 60) / (7 + 40 / 60 + 5.25)
    assert rate.value == pytest.approx(slower, abs=0.01) and night.kind == "night"
    assert attendance.night() == ((4 * 60 + 40) * 60.0, 9 * HOUR)
    assert offers_for(attendance, HOUR, HOUR, 8.0) == [], "it ends while somebody is there"
    assert [offer.kind for offer in offers_for(attendance, lasts, HOUR, 8.0)] == ["wait", "night"], (
        "half the rate at least"
    )


def test_a_lead_acid_battery_is_not_left_to_be_driven_flat() -> None:
    # 4.4: lead-acid without automatic cut-off may not end alone; LFP with its protection may (common practice)
    plan, lasts = CapacityPlan("current", 3.75, 10.5), 9 * HOUR
    at_night = Attendance(EVENING, DAILY)

    def end(family: str, attendance: Attendance | None):
        limits = LoadLimits(180.0, 20.0)
        checks = preflight(FAMILIES[family], 75.0, plan, limits, 12.8, lasts, attendance=attendance)
        return next(check for check in checks if check.name == "End")

    assert end("agm", at_night).state == "bar" and [o.kind for o in end("agm", at_night).offers] == [
        "wait",
        "rate",
        "night",
    ]
    assert end("agm", Attendance(EVENING, DAILY, own_cutoff=True)).state == "heed"
    assert end("agm", Attendance(EVENING, parse_attended("always"))).state == "heed"
    lfp = end("lfp", at_night)
    assert lfp.state == "good" and "nobody is there" in lfp.message and lfp.offers


def test_an_attended_recipe_waits_for_the_morning() -> None:
    facts = Facts(FAMILIES["agm"], 75.0)
    reserve = shipped_recipe("reserve")
    recipe, bench = fill(reserve, facts), Bench(400.0, 30.0, 50.0, 16.0)
    assert recipe.attended
    late, early = Attendance(EVENING.replace(hour=21), DAILY), Attendance(EVENING, DAILY)
    barred = bars(preflight_recipe(reserve, recipe, facts, bench, 12.8, 3 * HOUR, late))
    assert [check.name for check in barred] == ["Attended"] and "nobody is there" in barred[0].message
    assert [offer.kind for offer in barred[0].offers] == ["wait"], "no other rate: 25 A is the test"
    assert not bars(preflight_recipe(reserve, recipe, facts, bench, 12.8, 3 * HOUR, early))


def test_a_slow_night_is_offered_for_capacity_tests_alone() -> None:
    facts, bench = Facts(FAMILIES["lfp"], 40.0), Bench(180.0, 20.0, 50.0, 16.0)
    for name, kinds in (("capacity-reference", ["wait", "rate", "night"]), ("warm-twin", ["wait", "rate"])):
        template = shipped_recipe(name)
        found = preflight_recipe(
            template, fill(template, facts), facts, bench, 13.3, 9 * HOUR, Attendance(EVENING, DAILY)
        )
        offers = next((check.offers for check in found if check.name == "End"), ())
        assert [offer.kind for offer in offers] == kinds, name


def test_a_template_waits_and_draws_as_offered() -> None:
    facts = Facts(FAMILIES["lfp"], 40.0)
    template = shipped_recipe("capacity-reference")
    once = begun_later(template, 3600.0)
    assert len(once.steps) == len(template.steps) + 1 and fill(once, facts).steps[0].ends[0].value == 3600.0
    twice = begun_later(once, 1800.0)
    assert len(twice.steps) == len(once.steps) and fill(twice, facts).steps[0].ends[0].value == 5400.0
    slower = fill(with_current(template, 5.5), facts)
    assert [step.setting for step in slower.steps if step.kind == "discharge"] == [5.5]
    given = Facts(FAMILIES["lfp"], 40.0, given={"until_night": 7200.0, "night": 9 * HOUR})
    nights = fill(shipped_recipe("capacity-slow-night"), given).steps
    assert [rule.value for step in nights[1:3] for rule in step.ends if rule.kind == "time"] == [7200.0, 9 * HOUR]


@pytest.mark.parametrize(
    ("clock", "there"),
    [("06:59:59", False), ("07:00:00", True), ("07:00:30", True), ("21:59:59", True), ("22:00:00", False)],
)
def test_somebody_is_there_to_the_second(clock: str, there: bool) -> None:
    assert DAILY.there(datetime.fromisoformat(f"2026-01-14T{clock}+01:00")) is there
