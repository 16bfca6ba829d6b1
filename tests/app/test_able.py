"""What a bench can run, and what a person asks for otherwise: the way from claims to tests bends, and says so.

The ways out (a lower rate, loads on an inverter) are the handbook's: common practice, no published source.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from wintry_tally.app.able import able, better_words, channel_of, places_of
from wintry_tally.app.campaign import Drawn, draw_up, standing_of
from wintry_tally.app.wishes import Wishes
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.book import Run, RunSettings, RunStatus
from wintry_tally.core.battery import Sample, family_named, pack_of, parse_claim
from wintry_tally.core.battery.sample import CyclesHad
from wintry_tally.core.plan.programme import Asked, Programme, programme
from wintry_tally.core.protocol.in_programme import Presence
from wintry_tally.core.protocol.recipe import Step, most_amps
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.exchange.recipe_file import shipped


def _bench(watts: float, amps: float, charger: float = 0.0) -> Equipment:
    parts = [Instrument("load", "load", power_W=watts, current_A=amps)]
    if charger:
        parts.append(Instrument("supply", "charger", current_A=charger, voltage_V=16.0))
    return Equipment(tuple(parts), (ChannelSpec("one", load="load", charger="supply" if charger else ""),))


def _made(
    bench: Equipment, asked: Asked = Asked(), *claims: str, rated: float = 100.0, family: str = "lfp"
) -> Programme:
    facts = Facts(family_named(family), rated, tuple(parse_claim(text) for text in claims))
    can = able(bench, facts)
    return programme(can.facts, shipped(), asked=asked, barred=can.barred)


def _recipes(made: Programme) -> list[str]:
    return [step.recipe for step in made.steps]


def test_a_weak_load_draws_less_and_what_it_cannot_is_said_with_the_way_out() -> None:
    """20 A × 13.6 V are above 180 W: at its ceiling (97 % of it) 100 Ah take about 100 / 12.8 h."""
    claims = ("100 Ah", "surge 250 A 5 s", "continuous discharge 100 A")
    made = _made(_bench(180.0, 20.0), Asked(), *claims)
    assert _recipes(made) == ["charge-lithium-usual", "capacity-load-limited", "charge-lithium-usual"]
    slow, ceiling = made.steps[1], 0.97 * 180.0 / family_named("lfp").charge_state[0][0]
    rests = family_named("lfp").rest_s / 3600.0 + 5.0 / 60.0
    assert slow.usual_h == pytest.approx(100.0 / ceiling + rests, abs=0.25)
    assert "above the load's" in slow.why and "favours the battery" in slow.why and slow.settles == ("capacity",)
    told = {one.claim.kind: one for one in made.untestable}
    assert set(told) == {"surge", "continuous-discharge"} and told["surge"].recipe == "surge"
    assert "250.0 A" in told["surge"].reason and "inverter" in told["surge"].reason
    strong = _made(_bench(4000.0, 300.0), Asked(), *claims)
    assert "capacity-reference" in _recipes(strong) and {"hold", "surge"} <= set(_recipes(strong))
    assert not strong.untestable and not any("instead" in step.why for step in strong.steps)
    # just able, and just not: the reference rate's own watts
    start = family_named("lfp").charge_state[0][0]
    assert "capacity-reference" in _recipes(_made(_bench(20.0 * start + 0.1, 20.0), Asked(), "100 Ah"))
    assert "capacity-load-limited" in _recipes(_made(_bench(20.0 * start - 0.1, 20.0), Asked(), "100 Ah"))
    assert "capacity-load-limited" in _recipes(_made(_bench(4000.0, 19.9), Asked(), "100 Ah"))


def test_by_hand_is_a_way_out_that_takes_a_person_and_no_load() -> None:
    made = _made(_bench(180.0, 20.0), Asked(by_hand=("surge",)), "surge 250 A 5 s")
    surge = next(step for step in made.steps if step.recipe == "surge")
    assert surge.uses == () and surge.presence is Presence.THROUGHOUT and "by hand" in surge.title
    assert not made.untestable
    # nothing on the bench at all: everything is by hand, and no ceiling is known
    bare = _made(Equipment(), Asked(), "surge 250 A 5 s")
    assert "surge" in _recipes(bare) and not bare.untestable
    # a channel without a charger charges by hand too; one that is too weak still charges, more slowly
    assert "charge-lithium-usual" in _recipes(_made(_bench(900.0, 60.0), Asked(), "100 Ah"))
    weak = _made(_bench(900.0, 60.0, charger=0.5), Asked(), "100 Ah")
    assert any(step.recipe.startswith("charge") for step in weak.steps)
    # and settles no claim of a current that it cannot give
    slow = _made(_bench(900.0, 60.0, charger=5.0), Asked(), "100 Ah", "charge current 50 A")
    assert [one.claim.kind for one in slow.untestable] == ["charge-current"] and "stronger charger" in slow.untestable[
        0
    ].reason
    assert any(step.recipe.startswith("charge") for step in slow.steps) and not any(
        "charge-current" in step.settles for step in slow.steps
    )
    able = _made(_bench(900.0, 60.0, charger=60.0), Asked(), "100 Ah", "charge current 50 A")
    assert any("charge-current" in step.settles for step in able.steps) and not able.untestable


def test_a_test_longer_than_its_own_limit_is_said() -> None:
    long = _made(_bench(300.0, 30.0), Asked(), "100 Ah", "runs a 0.85 A device for 120 h")
    assert "4 d 22 h" in long.untestable[0].reason and "give it longer" in long.untestable[0].reason
    shorter = _made(_bench(300.0, 30.0), Asked(), "40 Ah", "runs a 0.85 A device for 40 h", rated=40.0)
    assert "capacity-device" in _recipes(shorter)


def test_a_draw_so_small_that_it_never_ends_is_no_way_out() -> None:
    made = _made(_bench(20.0, 20.0), Asked(), "100 Ah")
    assert not any("capacity" in recipe for recipe in _recipes(made))
    assert "above the load's" in made.untestable[0].reason and made.untestable[0].claim.kind == "capacity"


def test_repeated_brought_forward_and_left_out() -> None:
    bench = _bench(4000.0, 300.0)
    twice = _made(bench, Asked(runs={"capacity-reference": 2}), "100 Ah")
    assert _recipes(twice).count("capacity-reference") == 2 and _recipes(twice).count("charge-lithium-usual") == 3
    assert len({step.name for step in twice.steps}) == len(twice.steps)
    settled = programme(
        Facts(family_named("lfp"), 100.0, (parse_claim("100 Ah"),)), shipped(), {"capacity"},
        asked=Asked(runs={"capacity-reference": 1}),
    )  # fmt: skip
    assert "capacity-reference" in _recipes(settled)
    early = _made(bench, Asked(first=("surge",)), "100 Ah", "surge 250 A 5 s")
    assert _recipes(early).index("surge") < _recipes(early).index("capacity-reference")
    usual = _made(bench, Asked(), "100 Ah", "surge 250 A 5 s")
    assert _recipes(usual).index("surge") > _recipes(usual).index("capacity-reference")
    out = _made(bench, Asked(left_out={"surge": "no helper"}), "surge 250 A 5 s").untestable[0]
    assert out.reason == "its test is left out: no helper" and out.recipe == "surge"


def test_wishes_are_kept_and_count_what_is_done() -> None:
    wishes = Wishes().repeated("M1", "hold", 3).forward("M1", "hold", True).handed("M1", "surge", True)
    assert wishes.forward("M1", "hold", False).first == {} and wishes.repeated("M1", "hold", 0).runs == {}
    begun = datetime(2027, 1, 11, 8, tzinfo=UTC)
    run = Run(
        1, 1, "load", "Hold", "bench", RunStatus.FINISHED, begun, begun + timedelta(hours=1), RunSettings(),
        {"name": "hold"}, {}, {}, "", "", "", False, "safe", "",
    )  # fmt: skip
    others = [
        replace(run, status=RunStatus.INTERRUPTED),
        replace(run, left_out=True),
        replace(run, recipe={"name": "surge"}),
    ]
    asked = wishes.of("M1", [run, *others], begun, CyclesHad())
    assert asked.runs == {"hold": 2} and asked.first == ("hold",) and asked.by_hand == ("surge",)
    assert wishes.of("M2", [], begun, CyclesHad()) == Asked()


def _drawn(attended: str, family: str = "lfp") -> Drawn:
    sample = Sample(1, "B1", "", "", family, (parse_claim("40 Ah"),))
    now = datetime(2027, 1, 11, 6, 0, tzinfo=UTC)
    standing = standing_of(sample, [], None, None, Wishes(), Equipment(), now)
    assert standing is not None
    return draw_up({1: standing}, Equipment(), attended, Wishes(), {}, now, 0.0, False)


def test_where_nobody_can_be_at_its_end_it_is_turned_down_for_the_night() -> None:
    """40 Ah at 0.2 C and a rest of an hour end six hours on: nobody there from 17 to 20 h can do it in one go."""
    evenings = _drawn("17:00-20:00")
    recipes = [step.recipe for step in evenings.programmes[1].steps]
    assert "capacity-slow-night" in recipes and "capacity-reference" not in recipes
    step = next(one for one in evenings.programmes[1].steps if one.recipe == "capacity-slow-night")
    assert "nobody could be there at its end" in step.why and "elapsed time means nothing" in step.why
    assert 22.0 < step.early_h < step.late_h < 27.0
    name = f"B1-{step.name}"
    begins, ends = (
        evenings.moment(slot) for slot in (evenings.plan.starts[name], evenings.plan.ends(evenings.task(name)))
    )  # type: ignore[arg-type]
    for moment in (begins, ends):
        assert 17 <= moment.hour + moment.minute / 60 <= 20
    assert not evenings.plan.unplaced
    # by day there is no need for it, and where nobody ever is there is no night to turn it down for
    assert "capacity-slow-night" not in [step.recipe for step in _drawn("8:00-19:00").programmes[1].steps]
    assert _drawn("8:00-19:00").plan.campaign.calendar.night() == (11 * 3600.0, 13 * 3600.0)


def test_what_flows_at_the_most_follows_the_pack_s_own_volts() -> None:
    """A constant power draws most at the cut-off, a resistor at full: by Ohm's law, whatever the cells in series."""
    twelve, high = family_named("lfp"), pack_of(family_named("lfp"), 51.2)
    power, ohms = Step("discharge", "", "power", 500.0), Step("discharge", "", "resistance", 2.0)
    assert most_amps(power, twelve) == pytest.approx(500.0 / twelve.cutoff_V) and twelve.cutoff_V == 10.0
    assert most_amps(power, high) == pytest.approx(12.5) and high.cutoff_V == 40.0
    assert most_amps(ohms, high) == pytest.approx(4.0 * most_amps(ohms, twelve))
    assert (
        most_amps(Step("discharge", "", "current", 8.0), high)
        == 8.0
        == most_amps(Step("charge", "", "charge", 8.0), high)
    )
    assert most_amps(Step("rest", "", "hand", 5.0), high) == 0.0 and most_amps(replace(ohms, setting=0.0), high) == 0.0


def _two_channels() -> Equipment:
    """A strong load with a fair meter, a weak one with a good one, a charger on the first alone, one thermometer for both."""
    parts = (
        Instrument("strong", "load", power_W=4000.0, current_A=300.0, current_accuracy="1%+0.1"),
        Instrument("weak", "load", power_W=400.0, current_A=30.0, current_accuracy="0.1%+0.005"),
        Instrument("supply", "charger", current_A=30.0, voltage_V=16.0, current_accuracy="1%"),
        Instrument("probe", "thermometer"),
    )
    channels = (
        ChannelSpec("A", load="strong", charger="supply", thermometer="probe"), ChannelSpec("B", load="weak", thermometer="probe"),
    )  # fmt: skip
    return Equipment(parts, channels)


def test_each_test_takes_a_channel_that_can_carry_it_the_better_meter_first() -> None:
    bench = _two_channels()
    found = able(bench, Facts(family_named("lfp"), 100.0, (parse_claim("100 Ah"), parse_claim("surge 250 A 5 s"))))
    assert places_of(bench, 2, 3) == {"channel A": 1, "channel B": 1, "probe": 1, "freezer": 2, "shelf": 3}
    assert found.ways["capacity-reference"] == (("channel B", "probe"), ("channel A", "probe"))
    assert found.ways["surge"] == (("channel A", "probe"),) and found.ways["charge-lithium-usual"] == (
        ("channel A", "probe"),
    )
    assert channel_of("channel B") == "B" and channel_of("probe") == ""
    # nothing on the bench charges: that is worked by hand, and holds no channel
    only = Equipment(bench.instruments[:2], (ChannelSpec("A", load="strong"), ChannelSpec("B", load="weak")))
    plain = able(only, found.facts)
    assert "charge-lithium-usual" not in plain.ways and places_of(only, 1, 1)["charger"] == 1
    assert plain.ways["capacity-reference"] == (("channel B",), ("channel A",))
    assert places_of(Equipment(), 1, 6) == {"load": 1, "charger": 1, "freezer": 1, "shelf": 6}


def test_a_plan_runs_on_the_channels_there_are_and_says_what_the_second_best_costs() -> None:
    """Two batteries at once on two channels; what takes the one charger waits for its channel, and never shares it."""
    parts, channels = _two_channels().instruments, (
        ChannelSpec("A", load="strong", charger="supply"), ChannelSpec("B", load="weak"),
    )  # fmt: skip
    bench = Equipment(parts[:3], channels)
    now = datetime(2027, 1, 11, 7, 0, tzinfo=UTC)
    standings = {}
    for number in (1, 2):
        sample = Sample(number, f"M{number}", "", "", "lfp", (parse_claim("100 Ah"),))
        standing = standing_of(sample, [], None, None, Wishes(), bench, now)
        assert standing is not None
        standings[number] = standing
    drawn = draw_up(standings, bench, "always", Wishes(), {}, now, 2.0)
    plan = drawn.plan
    spans = [(plan.takes(t), plan.starts[t.id], plan.ends(t), t) for t in plan.campaign.tasks if t.id in plan.starts]
    assert not plan.unplaced and {place for takes, *_ in spans for place in takes} <= {"channel A", "channel B"}
    for at in range(plan.end):
        here = [takes for takes, begins, ends, _ in spans if begins <= at < ends]
        assert len({place for takes in here for place in takes}) == sum(map(len, here))
    assert all(takes == ("channel A",) for takes, _, _, task in spans if "charge" in task.recipe)
    draws = [(takes, task) for takes, _, _, task in spans if task.recipe == "capacity-reference"]
    assert ("channel B",) in [takes for takes, _ in draws]
    assert better_words(bench, draws[0][1], ("channel A",)) == (
        "on channel A, as channel B is taken: its current is good to 1%+0.1 there, not to 0.1%+0.005"
    )
    assert better_words(bench, draws[0][1], ("channel B",)) == ""
    wider = draw_up(standings, bench, "always", Wishes(), {}, now, 2.0, more="charger")
    assert wider.plan.end < plan.end and "another charger" in {
        p for t in wider.plan.campaign.tasks for p in wider.plan.takes(t)
    }
    more = draw_up(standings, bench, "always", Wishes(), {}, now, 0.0, False, more="freezer")
    assert more.plan.campaign.places["freezer"] == 2
