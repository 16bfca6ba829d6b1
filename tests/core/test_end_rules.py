"""Every end rule by the reading at it and the one just beyond, and the engine's moves between steps, one by one.

What each rule means is docs/formats.md; the values are common practice, no published source. Invented figures.
"""

from __future__ import annotations

import math
from contextlib import nullcontext
from dataclasses import replace

import pytest

from wintry_tally.core.engine import Observation, Phase, Request, Result, RunState, begin, step
from wintry_tally.core.engine.rules import IDLE_A, RULES, SLOPE_OVER_S, WARMING_MIN, idle_below
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits
from wintry_tally.core.protocol.end_rules import END_RULES
from wintry_tally.core.protocol.recipe import OWN_ENDS
from wintry_tally.core.protocol.sound import check_filled

DRAW = Step("discharge", "Draw", "current", 8.0)
CHARGE = Step("charge", "Charge", "charge", 8.0, limit_V=14.4)
REST = Step("rest", "Rest")
STATE = RunState(Phase.DISCHARGING, zero_A=0.0)
IDLE = idle_below(DRAW, STATE)


def told(kind: str, value: float, step_: Step, volts: float, amps: float, celsius: float | None = None, state: RunState = STATE, now_s: float = 10.0) -> bool:  # fmt: skip
    return bool(RULES[kind](EndRule(kind, value, EndCause.TIME), step_, state, Observation(volts, amps, celsius), now_s))  # fmt: skip


def test_a_device_of_21_mA_draws_a_current() -> None:
    assert IDLE_A == 0.02 and idle_below(DRAW, STATE) >= IDLE_A


@pytest.mark.parametrize(
    ("kind", "value", "step_", "holds", "not_yet"),
    [
        ("voltage", 10.0, DRAW, [(10.0, 8.0)], [(10.01, 8.0), (9.0, 0.0), (9.0, IDLE_A)]),
        ("above", 14.0, CHARGE, [(14.0, -1.0)], [(13.99, -1.0), (14.5, 0.0), (14.5, 1.0)]),
        ("above", 13.0, REST, [(13.0, 0.0)], [(12.99, 0.0)]),
        ("protection", 6.0, DRAW, [(5.99, 0.0), (0.0, IDLE)], [(6.0, 0.0), (5.0, 1.01 * IDLE)]),
        ("refused", 13.8, CHARGE, [(13.8, 0.0), (14.0, -IDLE), (14.0, IDLE)], [(13.79, 0.0), (14.0, -1.01 * IDLE)]),
        ("flows", 2.0, CHARGE, [(13.0, -2.0)], [(13.0, -1.99), (13.0, 2.0)]),
        ("taken", 13.5, CHARGE, [(13.5, -1.0)], [(13.51, -1.0), (13.0, -IDLE), (13.0, 1.0)]),
        ("taper", 0.4, CHARGE, [(14.184, -0.4)], [(14.18, -0.4), (14.4, -0.41), (14.4, -0.01)]),
    ],
    ids=["cut-off", "above on charge", "above at rest", "protection", "refused", "flows", "taken", "taper"],
)
def test_a_rule_holds_at_its_value_and_not_beside_it(
    kind: str, value: float, step_: Step, holds: list[tuple[float, float]], not_yet: list[tuple[float, float]]
) -> None:
    assert all(told(kind, value, step_, *reading) for reading in holds)
    assert not any(told(kind, value, step_, *reading) for reading in not_yet)


def test_what_a_meter_reads_at_zero_is_no_current_to_any_rule() -> None:
    off = replace(STATE, zero_A=0.5)
    assert told("protection", 6.0, DRAW, 0.3, 0.5, state=off) and not told("protection", 6.0, DRAW, 0.3, 0.5)
    assert not told("voltage", 10.0, DRAW, 9.0, 0.5, state=off) and told("voltage", 10.0, DRAW, 9.0, 0.51, state=off)
    assert not told("taken", 13.5, CHARGE, 13.0, -0.5, state=off) and told(
        "taken", 13.5, CHARGE, 13.0, -0.51, state=off
    )
    # a load set by hand has no setting that its idle current could be a share of
    assert idle_below(replace(DRAW, mode="resistance", setting=100.0), STATE) < idle_below(replace(DRAW, setting=100.0), STATE)  # fmt: skip


def test_warm_cold_time_charge_and_slope() -> None:
    assert told("warmer", 5.0, REST, 13.0, 0.0, 5.0) and not told("warmer", 5.0, REST, 13.0, 0.0, 4.9)
    assert told("colder", -10.0, REST, 13.0, 0.0, -10.0) and not told("colder", -10.0, REST, 13.0, 0.0, -9.9)
    assert not told("warmer", -99.0, REST, 13.0, 0.0) and not told("colder", 99.0, REST, 13.0, 0.0), "not read"
    since = replace(STATE, step_since_s=100.0, step_live_s=30.0)
    assert told("time", 60.0, REST, 13.0, 0.0, state=since, now_s=130.0)
    assert not told("time", 60.0, REST, 13.0, 0.0, state=since, now_s=129.9)
    assert told("moved", 4.0, DRAW, 13.0, 8.0, state=replace(STATE, step_Ah=4.0))
    assert not told("moved", 4.0, DRAW, 13.0, 8.0, state=replace(STATE, step_Ah=3.99))
    anchored = replace(STATE, anchor_s=0.0, anchor_V=13.0)
    quiet = 13.0 - 0.010 * SLOPE_OVER_S / 3600.0  # ten millivolts an hour
    assert told("slope", 0.0101, REST, quiet, 0.0, state=anchored, now_s=SLOPE_OVER_S)
    assert not told("slope", 0.0099, REST, quiet, 0.0, state=anchored, now_s=SLOPE_OVER_S)
    assert not told("slope", 1.0, REST, quiet, 0.0, state=anchored, now_s=SLOPE_OVER_S - 1.0), "too soon to tell"


STOPS = StopLimits(8.0, 15.0, 25.0, 300.0, -20.0, 60.0, silence_s=5.0, charge_high_A=10.0)


def a_recipe(*steps: Step) -> Recipe:
    return Recipe("r", "r", 1, steps, STOPS)


def ends(step_: Step, **rule: float) -> Step:
    (kind, value), *_ = rule.items()
    return replace(step_, ends=(EndRule(kind, value, EndCause.TIME),))


SHORT = ends(REST, time=10.0)


def gone_on(
    recipe: Recipe, readings: list[tuple[float, Observation | None]], state: RunState | None = None
) -> list[Result]:
    state = begin(recipe).state if state is None else state
    found = []
    for now_s, seen in readings:
        found.append(step(recipe, state, seen, now_s))
        state = found[-1].state
    return found


def test_a_prompt_switches_off_and_asks_in_its_own_words_or_by_its_title() -> None:
    asked = begin(a_recipe(Step("prompt", "Connect it", words="Put the clamps on."), SHORT))
    assert [item.kind for item in asked.commands] == ["off", "ask"] and asked.commands[1].words == "Put the clamps on."
    assert begin(a_recipe(Step("prompt", "Connect it"), SHORT)).commands[1].words == "Connect it"
    assert [item.kind for item in begin(a_recipe(SHORT)).commands] == ["off"], "a rest asks nothing"


def test_a_rest_goes_by_although_nobody_reads_and_nothing_else_does() -> None:
    recipe = a_recipe(SHORT, ends(DRAW, time=10.0))
    quiet = gone_on(recipe, [(4.0, None), (9.9, None), (10.0, None)])
    assert [item.state.phase for item in quiet] == [Phase.RESTING, Phase.ENDED, Phase.ENDED], "silent for too long"
    read = gone_on(recipe, [(4.0, Observation(13.0, 0.0)), (8.0, Observation(13.0, 0.0)), (10.0, None)])
    assert read[-1].state.phase is Phase.DISCHARGING and read[-1].events[-1].message.count("begun") == 1
    lone = gone_on(a_recipe(ends(DRAW, time=10.0), SHORT), [(4.0, Observation(13.0, 8.0)), (8.0, Observation(13.0, 8.0)), (11.0, None)])  # fmt: skip
    assert lone[-1].state.phase is Phase.DISCHARGING, "a discharge ends by what was read"


def test_three_unusable_readings_together_and_no_fewer() -> None:
    bad, good = Observation(math.nan, math.nan), Observation(13.0, 8.0)
    recipe = a_recipe(ends(DRAW, time=100.0))
    one = gone_on(recipe, [(1.0, bad), (2.0, bad), (3.0, good), (4.0, bad), (4.5, bad)])
    assert one[-1].state.phase is Phase.DISCHARGING and one[2].state.bad == 0
    assert step(recipe, one[-1].state, bad, 5.0).state.cause is EndCause.INSTRUMENT


def test_the_cause_is_the_discharge_s_and_a_skipped_rest_leaves_it() -> None:
    recipe = a_recipe(
        replace(DRAW, ends=(EndRule("voltage", 10.0, EndCause.SET_CUTOFF),)), ends(REST, time=60.0), SHORT
    )
    drawn = gone_on(recipe, [(1.0, Observation(9.9, 8.0)), (2.0, Observation(9.9, 8.0)), (3.0, Observation(9.9, 8.0))])
    state = drawn[-1].state
    assert (state.phase, state.cause) == (Phase.RESTING, EndCause.SET_CUTOFF)
    after = step(recipe, state, Request("skip"), 4.0).state
    assert after.index == state.index + 1 and after.cause is EndCause.SET_CUTOFF, (
        "a rest skipped says nothing of the test"
    )
    cut = step(recipe, begin(recipe).state, Request("skip"), 1.0).state
    assert cut.cause is EndCause.OPERATOR and "Draw skipped" in cut.detail
    with pytest.raises(InputError, match="last step"):
        step(recipe, replace(after, index=2), Request("skip"), 5.0)


def test_what_was_asked_of_a_step_that_is_over_is_asked_of_no_other() -> None:
    """A key pressed twice in a rest, before the window shows the discharge, would have cut the discharge short."""
    recipe = a_recipe(ends(REST, time=60.0), DRAW, replace(SHORT, kind="prompt"))
    twice = Request("skip", of_step=0)
    drawing = step(recipe, begin(recipe).state, twice, 1.0).state
    again = step(recipe, drawing, twice, 1.1)
    assert drawing.index == 1 and again.state == drawing and not again.commands and not again.events
    with pytest.raises(InputError, match="over already: nothing was changed"):
        step(recipe, drawing, Request("set", 5.0, of_step=0), 2.0)
    assert step(recipe, drawing, Request("set", 5.0, of_step=1), 2.0).state.setting == 5.0
    asked = step(recipe, drawing, Request("skip", of_step=1), 3.0).state
    assert asked.phase is Phase.PROMPTING and step(recipe, asked, Request("answer", of_step=1), 4.0).state == asked


def test_a_rate_is_changed_within_the_stop_limits_and_only_where_something_flows() -> None:
    recipe = a_recipe(ends(DRAW, time=100.0), ends(CHARGE, time=100.0), SHORT)
    drawing = begin(recipe).state
    set_ = step(recipe, drawing, Request("set", 25.0), 1.0)
    assert set_.state.setting == 25.0 and set_.commands[0].setting == 25.0
    for amps in (25.1, 0.0, -1.0, math.nan, math.inf):
        with pytest.raises(InputError):
            step(recipe, drawing, Request("set", amps), 1.0)
    charging = step(recipe, drawing, Request("skip"), 2.0).state
    assert step(recipe, charging, Request("set", 10.0), 3.0).state.setting == 10.0
    with pytest.raises(InputError, match="above the stop limit of 10 A"):
        step(recipe, charging, Request("set", 10.1), 3.0)
    paused = step(recipe, charging, Request("pause"), 4.0).state
    waiting = step(recipe, paused, Request("set", 3.0), 5.0)
    assert waiting.state.setting == 3.0 and not waiting.commands, "nothing is switched while it is paused"
    with pytest.raises(InputError, match="only in a discharge or a charge"):
        step(recipe, step(recipe, charging, Request("skip"), 6.0).state, Request("set", 3.0), 7.0)


def test_the_slope_is_taken_between_two_readings_far_enough_apart() -> None:
    recipe = a_recipe(ends(REST, time=1e6))
    far = 2.0 * SLOPE_OVER_S
    volts = [(far * n, Observation(13.0 - 0.1 * n, 0.0)) for n in range(1, 4)]
    patient = replace(recipe, stops=replace(STOPS, silence_s=1e6))
    anchors = [(item.state.anchor_s, item.state.anchor_V) for item in gone_on(patient, volts)]
    # readings far apart: the one before is the other end
    assert anchors[1:] == [(far, 12.9), (2 * far, 12.8)]
    dense = [(float(n), Observation(13.0, 0.0)) for n in range(1, int(far) + 3)]
    moved = gone_on(patient, dense)[-1].state.anchor_s
    assert moved is not None and moved >= far, "a fresh one once the old one is old"


def test_the_rate_of_warming_is_taken_over_two_minutes() -> None:
    recipe = a_recipe(ends(DRAW, time=1e6))
    seen = lambda n: Observation(13.0, 8.0, 20.0 + n / 60.0)  # noqa: E731
    states = gone_on(replace(recipe, stops=replace(STOPS, silence_s=1e6)), [(float(n), seen(n)) for n in range(1, 400, 3)])  # fmt: skip
    spans = [s.state.warmer_s - s.state.warm_s for s in states if s.state.warm_s != s.state.warmer_s]  # type: ignore[operator]
    assert spans and all(60.0 * WARMING_MIN <= span < 60.0 * WARMING_MIN + 3.1 for span in spans)


def test_every_rule_has_its_row_its_test_and_its_words() -> None:
    assert list(END_RULES) == list(RULES)
    said = {name: rule.words(3720.0 if name == "time" else 0.25) for name, rule in END_RULES.items()}
    assert said["time"] == "1 h 02 min" and said["slope"] == "it changes by less than 250 mV/h"
    assert said["voltage"] == "0.25 V" and said["confirm"] == "you say so" and len(set(said.values())) == len(said)
    assert {name for name, rule in END_RULES.items() if rule.once} == {"time", "moved", "slope"}
    assert {rule.cause for rule in END_RULES.values()} <= OWN_ENDS


@pytest.mark.parametrize(
    ("kind", "value", "words"),
    [("time", 0.0, "cannot be"), ("voltage", -1.0, "cannot be"), ("voltage", 0.0, ""), ("warmer", -9.0, ""),
     ("louder", 1.0, "ends nothing"), ("taper", 0.0, "cannot be")],
)  # fmt: skip
def test_a_rule_is_worth_what_its_row_allows(kind: str, value: float, words: str) -> None:
    step_ = Step("rest", "Rest", "hand", 0.0, (EndRule(kind, value, EndCause.TIME),))
    with pytest.raises(InputError, match=words) if words else nullcontext():
        check_filled(step_, "step 1")


@pytest.mark.parametrize("readings", [1, 2, 3])
def test_a_rule_ends_a_step_at_so_many_readings_in_a_row_from_its_first_on(readings: int) -> None:
    draw = replace(DRAW, ends=(EndRule("voltage", 10.0, EndCause.SET_CUTOFF, readings),))
    recipe = Recipe("x", "X", 1, (draw,), StopLimits(5.0, 15.0, 25.0, 300.0, -20.0, 60.0))
    state = replace(begin(recipe, 0.0).state, met=())  # as taken up from a book that kept none
    for at in range(1, readings):
        state = step(recipe, state, Observation(9.9, 8.0), float(at)).state
        assert state.phase is Phase.DISCHARGING, at
    assert step(recipe, state, Observation(9.9, 8.0), 9.0).state.phase is not Phase.DISCHARGING
    above = step(recipe, state, Observation(10.1, 8.0), 9.0).state
    again = step(recipe, above, Observation(9.9, 8.0), 10.0).state
    assert (again.phase is Phase.DISCHARGING) == (readings > 1), "one above begins the count anew"
