"""Set-points, templates, every shipped recipe on every battery it is for, and the engine over random recipes."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.amount import some
from wintry_tally.bench.simulation import SimulatedBattery, battery_from, simulate
from wintry_tally.core.battery import FAMILIES, Claim
from wintry_tally.core.engine import OFF, Command, Observation, Phase, Request, begin, step
from wintry_tally.core.engine.state import LIVE
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits
from wintry_tally.core.protocol.capacity import LoadLimits
from wintry_tally.core.protocol.setpoints import Facts, resolve
from wintry_tally.core.protocol.template import fill, in_words, template_data, template_from
from wintry_tally.exchange.recipe_file import read_recipe, shipped, shipped_recipe, write_recipe

LFP = FAMILIES["lfp"]
CLAIMS = (
    Claim(kind="surge", value=80.0, unit="A", conditions={"duration_s": 5.0}, direction="at-least"),
    Claim(kind="continuous-discharge", value=40.0, unit="A", conditions={"duration_s": 600.0}, direction="at-least"),
    Claim(kind="over-current-trip", value=100.0, unit="A", tolerance=20.0, direction="within"),
    Claim(kind="reserve", value=70.0, unit="min", direction="at-least"),
    Claim(kind="cold-charge-release", value=4.0, unit="°C", direction="at-least"),
    Claim(kind="heater-stop", value=9.0, unit="°C", direction="at-least"),
    Claim(
        kind="runtime", value=900.0, unit="min", conditions={"device_A": 2.0, "dropout_V": 11.4}, direction="at-least"
    ),
)
FACTS = Facts(LFP, 40.0, CLAIMS, LoadLimits(1800.0, 150.0))


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("0.2 C", 8.0), (3, 3.0), ("10.5 V", 10.5), ("30 min", 1800.0), ("1.5 x rated", 60.0), ("claim:surge", 80.0),
        ("claim:surge.duration_s", 5.0), ("claim:over-current-trip+", 120.0), ("claim:over-current-trip-", 80.0),
        ("claim:cycles | 0.5 C", 20.0), ("given:cutoff | cutoff", LFP.cutoff_V), ("2 x claim:surge", 160.0),
        ("500 mA", 0.5), ("50 °F", 10.0),
    ],
)  # fmt: skip
def test_set_points_follow_from_the_sample(text: str | float, value: float) -> None:
    assert resolve(text, FACTS) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "C", "0.2 parsec", "claim:nonsense", "claim:cycles", "given:x", "1 2"])
def test_set_points_that_cannot_be_say_where(text: str) -> None:
    with pytest.raises(InputError, match="step 3"):
        resolve(text, FACTS, "Hold, step 3")
    with pytest.raises(InputError, match="no kind of claim"):
        resolve("claim:nonsense | 3 A", FACTS, "Hold, step 3")


def test_a_step_lasts_or_goes_on_until_something() -> None:
    time, volts = EndRule("time", 1800.0, EndCause.TIME), EndRule("voltage", 10.0, EndCause.SET_CUTOFF)
    rest, draw = Step("rest", "Rest"), Step("discharge", "Draw", "current", 8.0)
    assert in_words(replace(rest, ends=(time,))) == "Rest for 30 min" and in_words(rest) == "Rest"
    assert in_words(replace(draw, ends=(volts,))) == "Discharge at 8 A until 10 V"
    assert in_words(replace(draw, ends=(volts, time))) == "Discharge at 8 A until 10 V or 30 min"


def test_the_label_goes_before_the_web_page() -> None:
    facts = Facts(LFP, 40.0, (replace(CLAIMS[0], value=90.0, source="web"), replace(CLAIMS[0], source="label")))
    assert resolve("claim:surge", facts) == 80.0


@pytest.mark.parametrize("name", sorted(shipped()))
def test_every_shipped_recipe_fills_reads_and_writes(name: str, tmp_path) -> None:
    template = shipped()[name]
    assert template.title and template.words and template.families and template.station
    for key in (family.key for family in FAMILIES.values() if template.fits(family)):
        recipe = fill(template, replace(FACTS, family=FAMILIES[key]))
        assert recipe.steps and all(in_words(part) for part in recipe.steps)
        assert recipe.method == template.method
        for part in recipe.steps:
            if part.kind in {"discharge", "charge"}:
                assert part.setting > 0 and part.ends, part.title
                assert any(rule.kind in {"time", "moved"} for rule in part.ends), f"{part.title} could go on for ever"
            if part.kind == "charge":
                # the over-voltage test goes past the usual limit on purpose; nothing goes past the plausible
                assert FAMILIES[key].charge_V[0] - 1 < part.limit_V < FAMILIES[key].plausible_V[1]
        if recipe.live:
            assert recipe.cautions, "a hazard is never without its caution"
    for suffix in (".toml", ".json"):
        target = tmp_path / f"copy{suffix}"
        write_recipe(template, target)
        assert read_recipe(target) == template


def test_no_recipe_shorts_a_battery() -> None:
    # handbook 8: a short circuit is never made on purpose; every draw stays within what a load regulates
    for template in shipped().values():
        for key in (family.key for family in FAMILIES.values() if template.fits(family)):
            for part in fill(template, replace(FACTS, family=FAMILIES[key])).steps:
                assert not (part.mode == "resistance" and part.setting < 0.05)
                assert "short" not in part.title.lower()


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"step": []}, "no step"),
        ({"step": [{"kind": "dance", "title": "x"}]}, r"step\[1\].kind is none of"),
        ({"step": [{"kind": "rest", "title": "x", "ends": [{"moonrise": 3}]}]}, "each names one of"),
        ({"step": [{"kind": "rest", "title": "x", "speed": 3}]}, "speed"),
        ({"families": ["nuclear"]}, "nuclear"),
        ({"station": "moon"}, "moon"),
        ({"colour": "red"}, "colour"),
        ({"title": 3}, "title is no text"),
        ({"stops": 3}, "stops is no table"),
        ({"stops": {"voltage_high": True}}, r"stops.voltage_high: True is no set-point"),
        ({"step": [{"kind": "rest", "title": "x", "only": ["nuclear"], "ends": [{"time": "1 h"}]}]}, r"only: .nuclear"),
    ],
)
def test_a_bad_recipe_says_what_is_wrong(change: dict, says: str) -> None:
    data = {**template_data(shipped_recipe("hold")), **change}
    with pytest.raises(InputError, match=says):
        template_from(data, "mine.toml")


def test_a_recipe_file_that_is_none(tmp_path) -> None:
    for text in ("", "{", "a = ", "\x00\xff", "[[[[", '{"step": 3}'):
        (tmp_path / "x.toml").write_text(text, encoding="latin-1")
        with pytest.raises(InputError):
            read_recipe(tmp_path / "x.toml")
    with pytest.raises(InputError, match="no such file"):
        read_recipe(tmp_path / "none.toml")
    with pytest.raises(InputError, match="there are"):
        shipped_recipe("none")


# --- recipes on the stand-in bench: each ends as it is meant to ---


@pytest.mark.parametrize(
    ("name", "battery", "ends"),
    [
        ("capacity-reference", {"family": "lfp", "rated_Ah": 10.0}, {EndCause.PROTECTION, EndCause.SET_CUTOFF}),
        ("charge-lithium-usual", {"family": "lfp", "rated_Ah": 10.0, "state_of_charge": 0.3}, {EndCause.TAPER}),
        ("charge-lead-acid", {"family": "agm", "rated_Ah": 10.0, "state_of_charge": 0.5}, {EndCause.TAPER, EndCause.TIME}),
        ("charge-block", {"family": "lfp", "rated_Ah": 10.0, "state_of_charge": 0.5, "ambient_C": 20.0, "start_C": -8.0}, {EndCause.FLOWS}),
        ("hold", {"family": "lfp", "rated_Ah": 40.0}, {EndCause.TIME, EndCause.PROTECTION}),
        ("overload-trip", {"family": "lfp", "rated_Ah": 40.0, "protection": {"over_current_A": 90.0}}, {EndCause.PROTECTION}),
        ("rest-until-settled", {"family": "agm", "rated_Ah": 20.0}, {EndCause.SETTLED, EndCause.TIME}),
        ("reserve", {"family": "flooded", "rated_Ah": 40.0}, {EndCause.SET_CUTOFF}),
        ("resistance-steps", {"family": "nmc", "rated_Ah": 20.0}, {EndCause.TIME}),
    ],
)  # fmt: skip
def test_recipes_end_as_they_are_meant_to(name: str, battery: dict, ends: set[EndCause]) -> None:
    made = battery_from(battery, "x")
    recipe = fill(shipped_recipe(name), replace(FACTS, family=made.family, rated_Ah=made.rated_Ah))
    result = simulate(recipe, made, seed=4, interval_s=5.0)
    assert result.state.phase is Phase.ENDED and result.state.cause in ends, result.events[-3:]
    assert result.events[-1].kind in {"finish", "stop"}
    again = simulate(recipe, made, seed=4, interval_s=5.0)
    assert (again.trace.voltage_V == result.trace.voltage_V).all() and again.truth == result.truth


def test_an_unprotected_pack_s_cold_charge_stops_itself() -> None:
    # handbook 8: below freezing with current still flowing after 10 s, the pack is being damaged
    battery = SimulatedBattery(LFP, 10.0, state_of_charge=0.5, ambient_C=-10.0, start_C=-10.0, no_protection=True)
    recipe = fill(shipped_recipe("charge-lithium-usual"), replace(FACTS, rated_Ah=10.0))
    result = simulate(recipe, battery, seed=1)
    assert result.state.cause is EndCause.STOP_LIMIT and "damaged" in result.state.detail
    assert result.trace.time_s[-1] < 15


def test_a_simulated_battery_that_cannot_be() -> None:
    for data, says in (
        ({"family": "lfp"}, "rated_Ah"),
        ({"family": "lfp", "rated_Ah": "many"}, "not a number"),
        ({"family": "lfp", "rated_Ah": -3}, "cannot be"),
        ({"family": "lfp", "rated_Ah": 3, "colour": 1}, "colour"),
        ({"family": "tin", "rated_Ah": 3}, "tin"),
    ):
        with pytest.raises(InputError, match=says):
            battery_from(data, "battery.toml")
    with pytest.raises(InputError, match="no part of protection"):
        simulate(fill(shipped_recipe("hold"), FACTS), battery_from({"family": "lfp", "rated_Ah": 3, "protection": {"x": 1.0}}, "b"), 1)  # fmt: skip


# --- properties of the engine over random recipes, observations and requests ---

rules = st.builds(
    EndRule,
    kind=st.sampled_from(["voltage", "above", "protection", "refused", "taper", "time", "moved", "slope", "warmer", "colder", "flows", "taken"]),
    value=st.floats(0.01, 50.0),
    cause=st.sampled_from([EndCause.SET_CUTOFF, EndCause.TIME, EndCause.TAPER, EndCause.PROTECTION]),
    readings=st.integers(1, 3),
    skip=st.integers(0, 2),
)  # fmt: skip
steps = st.one_of(
    st.builds(Step, kind=st.just("rest"), title=st.just("rest"), ends=st.tuples(rules)),
    st.builds(Step, kind=st.just("discharge"), title=st.just("out"), mode=st.just("current"), setting=st.floats(0.1, 20.0), ends=st.tuples(rules, rules)),
    st.builds(Step, kind=st.just("charge"), title=st.just("in"), mode=st.just("charge"), setting=st.floats(0.1, 20.0), limit_V=st.floats(13.0, 14.6), ends=st.tuples(rules, rules)),
    st.builds(Step, kind=st.just("prompt"), title=st.just("ask"), ends=st.just((EndRule("confirm", 0.0, EndCause.CONFIRMED),))),
)  # fmt: skip
STOPS = StopLimits(9.0, 15.0, 25.0, 400.0, -20.0, 60.0, charge_high_A=25.0, cold_charge_C=0.0)
recipes = st.builds(lambda parts: Recipe("r", "R", 1, tuple(parts), STOPS), st.lists(steps, min_size=1, max_size=5))
happenings = st.one_of(
    st.builds(Observation, st.floats(0.0, 16.0), st.floats(-30.0, 30.0), st.one_of(st.none(), st.floats(-15.0, 70.0))),
    st.just(Observation(math.nan, math.nan)),
    st.none(),
    st.builds(Request, st.sampled_from(["pause", "resume", "stop", "skip", "answer", "mark", "set"]), st.floats(0.0, 30.0)),
)  # fmt: skip


class Outputs:
    """What the bench would be doing after the commands so far."""

    def __init__(self) -> None:
        self.on = ""

    def take(self, commands: tuple[Command, ...]) -> None:
        for command in commands:
            if command.kind in {"draw", "charge"}:
                self.on = command.kind
            elif command.kind == "off":
                self.on = ""


@settings(max_examples=some(83, 250))
@given(recipes, st.lists(happenings, max_size=60), st.floats(0.1, 600.0))
def test_whatever_happens(recipe: Recipe, items: list[object], interval: float) -> None:
    outputs, now, finals = Outputs(), 0.0, 0
    result = begin(recipe)
    outputs.take(result.commands)
    state = result.state
    for item in items:
        now += interval
        before = state
        try:
            result = step(recipe, state, item, now)  # type: ignore[arg-type]
        except InputError:
            continue  # a request out of place is refused and changes nothing
        state = result.state
        outputs.take(result.commands)
        finals += sum(event.kind in {"finish", "stop"} for event in result.events)
        # outputs follow the phase: on only while current is meant to flow
        assert bool(outputs.on) == (state.phase in LIVE), (state.phase, outputs.on)
        if outputs.on:
            assert outputs.on == ("charge" if state.phase is Phase.CHARGING else "draw")
        # nothing is counted while paused, prompting or resting, and never for longer than the time that passed
        if before.phase not in LIVE:
            assert (state.charge_Ah, state.put_in_Ah) == (before.charge_Ah, before.put_in_Ah)
        assert 0.0 <= state.load_s + state.charge_s <= now + 1e-6
        # a crossed stop limit does not outlive its reading
        if isinstance(item, Observation) and item.voltage_V > STOPS.voltage_high_V and math.isfinite(item.current_A):
            assert state.phase is Phase.ENDED or before.phase is Phase.ENDED
    if state.phase is not Phase.ENDED:
        final = step(recipe, state, Request("stop"), now + interval)
        outputs.take(final.commands)
        finals += sum(event.kind in {"finish", "stop"} for event in final.events)
        state = final.state
    assert state.phase is Phase.ENDED and state.cause is not None and not outputs.on
    assert finals == 1, "one end, with one cause"
    assert step(recipe, state, Observation(12.0, 5.0), now + 9e9).state == state, "an end is final"
    assert step(recipe, state, Request("resume"), now).commands == (OFF,)


@given(st.lists(st.tuples(st.floats(0.5, 20.0), st.integers(1, 40)), min_size=1, max_size=6))
def test_charge_is_counted_once_over_pauses(parts: list[tuple[float, int]]) -> None:
    recipe = Recipe(
        "r", "R", 1, (Step("discharge", "out", "current", 5.0, (EndRule("time", 1e9, EndCause.TIME),)),), STOPS
    )
    state, now, expected = begin(recipe).state, 0.0, 0.0
    for amps, readings in parts:
        now += 1.0
        state = step(recipe, state, Observation(13.0, amps), now).state
        for _ in range(readings):
            now += 1.0
            state = step(recipe, state, Observation(13.0, amps), now).state
        expected += amps * readings / 3600.0
        state = step(recipe, state, Request("pause"), now).state
        for _ in range(50):
            now += 10.0
            state = step(recipe, state, Observation(13.3, 0.0), now).state
        state = step(recipe, state, Request("resume"), now).state
    # each part counts from its first reading on, and from the resumption to that reading at most one interval more
    assert expected - 1e-9 <= state.charge_Ah <= expected + sum(a for a, _ in parts) / 3600.0 + 1e-9


def test_families_are_named_by_key_by_chemistry_or_all() -> None:
    names = {
        key: {word for word in ("lfp", "lithium", "lead-acid", "all", "agm") if FAMILIES[key].is_named((word,))}
        for key in FAMILIES
    }
    assert names["lfp"] == {"lfp", "lithium", "all"} and names["nmc"] == {"lithium", "all"}
    assert names["agm"] == {"agm", "lead-acid", "all"} and names["flooded"] == {"lead-acid", "all"}
    assert not FAMILIES["lfp"].is_named(())
