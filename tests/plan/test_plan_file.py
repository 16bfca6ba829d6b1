"""The plan's file, its errors with their places, daylight saving, programmes from claims, and the calendar's file."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import icalendar
import pytest
from click.testing import CliRunner

from wintry_tally.cli.main import cli, invoke
from wintry_tally.core.battery import Claim, Direction, family_named, parse_claim
from wintry_tally.core.errors import InputError
from wintry_tally.core.plan.planning import plan
from wintry_tally.core.plan.programme import Asked, Programme, Stand, programme
from wintry_tally.core.protocol.in_programme import Charged, InProgramme, Presence
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.exchange.calendar_file import calendar_bytes
from wintry_tally.exchange.plan_file import read_plan
from wintry_tally.exchange.recipe_file import shipped

HEAD = '[plan]\nbegins = "2027-03-27T08:00"\ntimezone = "Europe/Oslo"\nattended = "8-18"\n[[resource]]\nname = "load"\n'
CLAIMS = """
[battery]
family = "lfp"
rated_Ah = 40
[[claim]]
kind = "capacity"
value = 40
[[claim]]
kind = "cycles"
value = 4000
[[claim]]
kind = "cold-charge-block"
value = 0
"""


def _written(folder: Path, text: str) -> Path:
    (folder / "claims.toml").write_text(CLAIMS, encoding="utf-8")
    path = folder / "plan.toml"
    path.write_text(HEAD + text, encoding="utf-8")
    return path


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ('[[task]]\nid = "a"\n', "task[1]: it has neither hours nor a recipe"),
        ('[[task]]\nid = "a"\nhours = 0\n', "task[1].hours"),
        ('[[task]]\nid = "a"\nhours = inf\n', "task[1].hours"),
        ('[[task]]\nid = "a"\nhours = 1\nuses = ["lod"]\n', 'task[1].uses: "lod" is no resource of this plan; perhaps "load"'),
        ('[[task]]\nid = "a"\nhours = 1\nafter = [{id = "b"}]\n', 'task[1].after[1].id: "b" is no task'),
        ('[[task]]\nid = "a"\nhours = 1\nafter = [{id = "a"}]\n', "tasks wait for each other: a → a"),
        ('[[task]]\nid = "a"\nhours = 1\n[[task]]\nid = "a"\nhours = 1\n', 'two tasks "a"'),
        ('[[task]]\nid = "b"\nhours = 1\n[[task]]\nid = "a"\nhours = 1\nafter = [{id = "b", rest_h = [4, 2]}]\n', "task[2].after[1].rest_h"),
        ('[[task]]\nid = "b"\nhours = 1\n[[task]]\nid = "a"\nhours = 1\nafter = [{id = "b", rest_h = [1, 2, 3]}]\n', "task[2].after[1].rest_h"),
        ('[[task]]\nid = "b"\nhours = 1\n[[task]]\nid = "a"\nhours = 1\nafter = [{id = "b", rest_h = -1}]\n', "task[2].after[1].rest_h"),
        ('[[task]]\nid = "a"\nhours = 1\nattended = "sometimes"\n', "task[1].attended"),
        ('[[task]]\nid = "a"\nhours = 1\ndue = "soon"\n', 'task[1].due: "soon" is no moment'),
        ('[[task]]\nid = "a"\nhours = 1\ndue = "2127-01-01"\n', "task[1].due"),
        ('[[task]]\nid = "a"\nrecipe = "capacity"\n', 'task[1].recipe: "capacity" is not known'),
        ('[[task]]\nid = "a"\nrecipe = "capacity-reference"\n', "cannot be foretold without its battery"),
        ('[[sample]]\ncode = "M1"\nclaims = "none.toml"\n', "none.toml: there is no such file"),
        ('[[sample]]\ncode = "M1"\n[[sample]]\ncode = "M1"\n', "two samples have one code"),
        ('[[sample]]\ncode = "M1"\nbattery = {family = "tin", rated_Ah = 4}\n', "sample[1].battery.family"),
        ('[[resource]]\nname = "load"\n', 'resource[2].name: there are two called "load"'),
        ('[[resource]]\nname = "x"\ncount = -1\n', "resource[2].count"),
        ("oddly = 1\n", "oddly"),
    ],
)  # fmt: skip
def test_errors_name_their_place(text: str, place: str, tmp_path: Path) -> None:
    with pytest.raises(InputError) as told:
        read_plan(_written(tmp_path, text))
    assert place in str(told.value)
    assert "\n" not in str(told.value)


@pytest.mark.parametrize(
    ("old", "new", "place"),
    [
        ("Europe/Oslo", "Europe/Nowhere", "plan.timezone"),
        ("Europe/Oslo", "../etc", "plan.timezone"),
        ("2027-03-27T08:00", "yesterday", "plan.begins"),
        ('"8-18"', '"8-30"', "plan.attended"),
        ('attended = "8-18"', 'away = ["2027-03-30/2027-03-28"]', "plan.away[1]"),
        ('attended = "8-18"', 'away = ["Monday"]', "plan.away[1]"),
    ],
)
def test_errors_of_the_head(old: str, new: str, place: str, tmp_path: Path) -> None:
    path = _written(tmp_path, "")
    path.write_text(HEAD.replace(old, new), encoding="utf-8")
    with pytest.raises(InputError) as told:
        read_plan(path)
    assert place in str(told.value)
    assert invoke(["plan", str(path)]) == 2


def test_a_day_of_23_hours_is_one(tmp_path: Path) -> None:
    """Facts of the calendar: on 28 March 2027 the clocks of Oslo go from 2:00 to 3:00 (zone data of the IANA)."""
    task = '[[task]]\nid = "a"\nhours = 24\nattended = "ends"\n[[task]]\nid = "b"\nhours = 1\ndue = "2027-03-28"\nnot_before = 2027-03-28T09:00:00\n'
    read = read_plan(_written(tmp_path, task))
    found = plan(read.campaign, 1.0)
    calendar = found.campaign.calendar
    assert found.ends(read.campaign.tasks[0]) - found.starts["a"] == 24 * 12
    # 24 true hours on from 8:00 is 9:00 by the clock
    assert f"{calendar.moment(found.ends(read.campaign.tasks[0])):%d %H:%M %z}" == "28 09:00 +0200"
    assert f"{calendar.moment(found.starts['b']):%H:%M}" == "09:00"
    assert calendar.moment(read.campaign.tasks[1].due or 0) == datetime(2027, 3, 29, tzinfo=ZoneInfo("Europe/Oslo"))
    assert calendar.stretches[1][0] - calendar.stretches[0][0] == 23 * 12


def test_the_programme_of_a_sample_is_planned(tmp_path: Path) -> None:
    path = _written(tmp_path, '[[sample]]\ncode = "M1"\nclaims = "claims.toml"\ncharged = 0.4\n')
    out = CliRunner().invoke(cli, ["plan", str(path), "--json", "--seconds", "1", "--ics", str(tmp_path / "o.ics")])
    assert out.exit_code == 0, out.output
    found = json.loads(out.output)
    assert found["schema"] == "wintry-tally.plan/1"
    names = [one["id"].removeprefix("M1-") for one in found["tasks"]]
    first = "charge-lithium-usual-before-capacity-reference"
    assert names == [first, "capacity-reference", "soak-before-charge-block", "charge-block"]
    assert [one["settles"] for one in found["tasks"]][1] == ["capacity"]
    assert found["untestable"][0]["claim"] == "cycles"
    assert found["assumed"] == ["charger", "freezer"]
    capacity = found["tasks"][1]
    assert capacity["soonest_h"] < capacity["likely_h"] < capacity["latest_h"]
    assert 5.0 < capacity["likely_h"] < 7.0  # 40 Ah at 8 A after an hour's rest
    # P19: the calendar's file parses with the `icalendar` package
    calendar = icalendar.Calendar.from_ical((tmp_path / "o.ics").read_bytes())
    events = list(calendar.walk("VEVENT"))
    assert len(events) == sum(len(one["hands"]) for one in found["tasks"])
    assert sorted(event["dtstart"].dt.isoformat() for event in events) == sorted(
        datetime.fromisoformat(one["at"]).astimezone(ZoneInfo("UTC")).isoformat() for task in found["tasks"] for one in task["hands"]
    )  # fmt: skip
    assert all(event.walk("VALARM")[0]["trigger"].dt < timedelta(0) for event in events)
    assert invoke(["plan", str(path), "--ics", str(tmp_path / "no" / "o.ics")]) == 2
    assert "All done" in CliRunner().invoke(cli, ["plan", str(path), "--seconds", "1"]).output


def test_events_keep_their_identity(tmp_path: Path) -> None:
    both = '[[task]]\nid = "a"\nhours = 2\nattended = "ends"\n[[task]]\nid = "b"\nhours = 2\nattended = "start"\n'
    first = plan(read_plan(_written(tmp_path, both)).campaign, 1.0)
    moved = plan(
        read_plan(
            _written(tmp_path, both.replace("hours = 2\n", 'hours = 3\nnot_before = "2027-03-28T10:00"\n'))
        ).campaign,
        1.0,
    )
    made = datetime(2027, 3, 1, tzinfo=ZoneInfo("UTC"))

    def marks(one: object, at: datetime) -> dict[str, tuple[int, datetime]]:
        calendar = icalendar.Calendar.from_ical(calendar_bytes(one, "winter", at))  # type: ignore[arg-type]
        return {str(e["uid"]): (int(e["sequence"]), e["dtstart"].dt) for e in calendar.walk("VEVENT")}

    old, new = marks(first, made), marks(moved, made + timedelta(hours=1))
    assert len(old) == 3 and set(old) == set(new)
    assert all(new[mark][0] > old[mark][0] and new[mark][1] != old[mark][1] for mark in old)


def _made(family: str, rated: float, *claims: str, **more: object) -> Programme:
    facts = Facts(family_named(family), rated, tuple(parse_claim(text) for text in claims))
    return programme(facts, shipped(), **more)  # type: ignore[arg-type]


def _recipes(made: Programme) -> list[str]:
    return [step.recipe or step.name.split("-")[0] for step in made.steps]


def test_programmes_are_small_and_sound() -> None:
    """Handbook order of work; common practice, no published source."""
    assert _recipes(_made("lfp", 40, "4.3 kg")) == ["arrival-check"]
    assert _recipes(_made("lfp", 40, "40 Ah", "512 Wh")) == [
        "charge-lithium-usual",
        "capacity-reference",
        "charge-lithium-usual",
    ]
    lead = _made("agm", 55, "55 Ah", "reserve 100 min")
    assert _recipes(lead) == [
        "charge-lead-acid",
        "capacity-reference",
        "charge-lead-acid",
        "reserve",
        "charge-lead-acid",
    ]
    assert [step.wait.most_h for step in lead.steps] == [
        None,
        24.0,
        4.0,
        24.0,
        4.0,
    ]  # lead-acid is never left empty overnight
    assert lead.steps[2].wait.most_h == 4.0 and lead.steps[1].settles == ("capacity",)
    # a charge is judged from empty
    timed = _made("lfp", 40, "charge time 5 h")
    assert _recipes(timed) == ["charge-lithium-usual", "capacity-reference", "charge-lithium-usual"]
    assert [step.settles for step in timed.steps] == [(), (), ("charge-time",)]
    # a short heavy test is begun full; what follows takes what it leaves
    heavy = _made("lfp", 40, "continuous discharge 40 A", "surge 80 A 5 s")
    assert _recipes(heavy) == ["charge-lithium-usual", "hold", "surge"]
    # a block wants an empty pack, soaked and put to the charger at once
    cold = _made("lfp", 40, "low temperature charge cut 0 °C")
    assert _recipes(cold) == ["charge-lithium-usual", "capacity-reference", "soak", "charge-block"]
    assert cold.steps[2].uses == ("freezer",) and cold.steps[2].early_h == 24.0 and cold.steps[2].stretch_h > 0
    assert cold.steps[3].wait.most_h == 0.25 and cold.steps[3].presence is Presence.THROUGHOUT
    loss = Claim("cold-loss", 15.0, "%", Direction.AT_MOST)
    pair = programme(Facts(family_named("lfp"), 40, (loss,)), shipped())
    assert _recipes(pair) == [
        "charge-lithium-usual",
        "warm-twin",
        "charge-lithium-usual",
        "soak",
        "cold-capacity",
        "charge-lithium-usual",
    ]
    assert pair.steps[5].wait.least_h == 8.0  # it has to thaw before it is charged
    # settled ones ask for nothing; what is left out is told with what it would have settled
    assert _recipes(_made("lfp", 40, "40 Ah", "512 Wh", settled={"capacity", "energy"})) == []
    left = _made("lfp", 40, "continuous discharge 40 A", asked=Asked(left_out={"hold": "no heater"}))
    assert _recipes(left) == [] and left.untestable[0].claim.kind == "continuous-discharge"
    months = _made("lfp", 40, "self discharge 3 %/month")
    assert _recipes(months) == ["shelf-start", "shelf", "shelf-end"]
    assert months.steps[1].early_h == pytest.approx(30.44 * 24) and months.steps[1].presence is Presence.NONE
    slower = _made("lfp", 40, "self discharge 1 %/month")
    assert slower.steps[1].early_h == pytest.approx(3 * 30.44 * 24)


def test_a_programme_begins_where_the_battery_stands() -> None:
    empty, full = Stand(Charged.EMPTY, 0.02), Stand(Charged.FULL, 1.0)
    assert _recipes(_made("agm", 55, "55 Ah", settled={"capacity"}, stand=empty)) == ["charge-lead-acid"]
    assert _recipes(_made("agm", 55, "55 Ah", settled={"capacity"}, stand=full)) == []
    assert _recipes(_made("lfp", 40, "40 Ah", stand=full)) == ["capacity-reference", "charge-lithium-usual"]
    timed = _made("lfp", 40, "charge time 5 h", stand=empty)
    assert _recipes(timed) == ["charge-lithium-usual"] and timed.steps[0].settles == ("charge-time",)
    shelved = _made("lfp", 40, "self discharge 3 %/month", "40 Ah", stand=Stand(Charged.FULL, None, True))
    assert _recipes(shelved) == ["shelf", "shelf-end", "capacity-reference", "charge-lithium-usual"]


def test_a_run_of_its_own_narrows_the_forecast() -> None:
    wide, narrow = _made("lfp", 40, "40 Ah").steps[1], _made("lfp", 40, "40 Ah", known=True).steps[1]
    assert wide.usual_h == narrow.usual_h
    assert wide.late_h - wide.early_h > 4 * (narrow.late_h - narrow.early_h) > 0
    fuller = _made("lfp", 40, "40 Ah", stand=Stand(charged=0.9)).steps[0]
    assert fuller.usual_h < _made("lfp", 40, "40 Ah", stand=Stand(charged=0.2)).steps[0].usual_h


@pytest.mark.parametrize(
    "data",
    [{}, {"order": "1"}, {"order": 1, "odd": 1}, {"order": 1, "before": "fill"}, {"order": 1, "presence": "never"},
     {"order": 1, "places": "freezer"}, {"order": 1, "soak_h": -1}, {"order": 1, "takes_h": [2]}, {"order": 1, "takes_h": [3, 2]},
     {"order": 1, "usual": 1}, []],
)  # fmt: skip
def test_a_recipe_says_where_it_stands(data: object) -> None:
    with pytest.raises(InputError, match="programme"):
        InProgramme.read(data, "own.toml")


@pytest.mark.parametrize("hours", [(2, 2), (0.5, 0.75), (1, 30)])
def test_a_test_may_take_less_than_an_hour_and_as_long_each_time(hours: tuple[float, float]) -> None:
    assert InProgramme.read({"order": 1, "takes_h": list(hours)}, "own.toml").takes_h == hours
    with pytest.raises(InputError, match="takes_h"):
        InProgramme.read({"order": 1, "takes_h": [0, 3]}, "own.toml")


def test_where_it_stands_is_kept() -> None:
    for template in shipped().values():
        if template.programme is not None:
            assert InProgramme.read(template.programme.data(), "again") == template.programme


def test_tests_worked_out_from_claims_go_on_through_the_night_where_there_is_no_other_way(tmp_path: Path) -> None:
    """40 Ah at 0.2 C and a rest of an hour last 6 to 7 h: nobody there from 17 to 20 h can be at both ends of it."""
    text = '[[sample]]\ncode = "M1"\nbattery = {family = "lfp", rated_Ah = 40}\ncharged = 0.4\nclaims = "claims.toml"\n'
    path = _written(tmp_path, text)
    path.write_text(path.read_text(encoding="utf-8").replace('"8-18"', '"17:00-20:00"'), encoding="utf-8")
    found = json.loads(CliRunner().invoke(cli, ["plan", str(path), "--seconds", "0.5", "--json"]).stdout)
    down = found["turned_down"][0]
    assert (down["sample"], down["recipe"], down["why"]) == (
        "M1",
        "capacity-reference",
        "nobody could be there at its end",
    )
    assert down["cost"] and any(
        task["recipe"] == down["by"] and task["settles"] == ["capacity"] for task in found["tasks"]
    )
    assert not any("capacity" in one["id"] for one in found["unplaced"])
    told = CliRunner().invoke(cli, ["plan", str(path), "--seconds", "0.5"]).stdout
    assert "through the night: " in told and down["cost"] in told
    # by day there is no need for it, and what the file gives as its own task is left as it is
    path = _written(tmp_path, text)
    by_day = json.loads(CliRunner().invoke(cli, ["plan", str(path), "--seconds", "0.5", "--json"]).stdout)
    assert by_day["turned_down"] == [] and any(task["recipe"] == "capacity-reference" for task in by_day["tasks"])
    own = text + '[[task]]\nid = "c"\nsample = "M1"\nrecipe = "capacity-reference"\n'
    path.write_text((HEAD + own).replace('"8-18"', '"17:00-20:00"'), encoding="utf-8")
    fixed = json.loads(CliRunner().invoke(cli, ["plan", str(path), "--seconds", "0.5", "--json"]).stdout)
    assert fixed["turned_down"] == [] and [one["id"] for one in fixed["unplaced"]] == ["c"]
