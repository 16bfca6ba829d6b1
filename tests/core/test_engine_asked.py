"""What each request does in each phase: a table written apart from the engine, and every cell of it tried."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from typing import Literal

import pytest

from wintry_tally.core.engine import Observation, Phase, Request, RunState, begin, step
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol import EndCause
from wintry_tally.core.protocol.recipe import EndRule, Recipe, Step, StopLimits

LIMITS = StopLimits(8.0, 15.6, 30.0, 400.0, -20.0, 60.0, charge_high_A=20.0)
TIME = (EndRule("time", 600.0, EndCause.TIME),)
RECIPE = Recipe(
    "all", "All of it", 1,
    (
        Step("discharge", "draw", "current", 8.0, TIME),
        Step("charge", "fill", "charge", 10.0, TIME, limit_V=14.4),
        Step("rest", "lie", ends=TIME),
        Step("prompt", "look", words="Look at it."),
        Step("rest", "lie again", ends=TIME),
    ),
    LIMITS,
)  # fmt: skip
GOOD = Observation(13.0, 8.0)
PHASES = {"drawing": 0, "filling": 1, "lying": 2, "asked": 3, "last": 4, "paused": 0, "paused filling": 1}
ENDING = {
    "stop": EndCause.OPERATOR, "lost": EndCause.INSTRUMENT, "disturbed": EndCause.DISTURBED,
    "not-proven": EndCause.NOT_PROVEN, "limit": EndCause.STOP_LIMIT, "make-safe": EndCause.MADE_SAFE, "fault": EndCause.PROGRAM,
}  # fmt: skip


def at(name: str) -> tuple[RunState, float]:
    """The run in one of the phases, a minute after it came there."""
    state, now = begin(RECIPE).state, 60.0
    for _ in range(PHASES[name]):
        kind = "answer" if state.phase is Phase.PROMPTING else "skip"
        state, now = step(RECIPE, state, Request(kind), now).state, now + 60.0
    if "paused" in name:
        state, now = step(RECIPE, state, Request("pause"), now).state, now + 60.0
    return state, now


def does(name: str, kind: str) -> tuple[str, list[str]] | None:
    """The phase it goes to and the commands that follow, by the table; None for what is refused."""
    to_next = {
        "drawing": ("charging", ["charge"]), "filling": ("resting", ["off"]), "lying": ("prompting", ["off", "ask"]),
        "asked": ("resting", ["off"]),
    }  # fmt: skip
    live = {"drawing": "discharging", "filling": "charging"}
    phases = {**live, "lying": "resting", "asked": "prompting", "last": "resting"}
    if kind in ENDING:
        return "ended", ["off"]
    if kind == "mark":
        return phases.get(name, "paused"), []
    if kind == "hand-over":
        return "paused" if name in live else phases.get(name, "paused"), ["off"]
    if kind == "pause":
        return ("paused", ["off"]) if name in live else None
    if kind == "resume":
        return {"paused": ("discharging", ["draw"]), "paused filling": ("charging", ["charge"])}.get(name)
    if kind == "set":
        if name in live:
            return live[name], ["draw" if name == "drawing" else "charge"]
        return ("paused", []) if "paused" in name else None
    if kind == "cut-off":
        return to_next["drawing"] if name == "drawing" else None
    if kind == "answer":
        return to_next["asked"] if name == "asked" else None
    return to_next.get(name)


@pytest.mark.parametrize("name", PHASES)
@pytest.mark.parametrize("kind", [*ENDING, "mark", "hand-over", "pause", "resume", "set", "cut-off", "answer", "skip"])
def test_it_does_what_the_table_says(name: str, kind: str) -> None:
    state, now = at(name)
    wanted = does(name, kind)
    if wanted is None:
        with pytest.raises(InputError):
            step(RECIPE, state, Request(kind, 5.0, "for a reason"), now)
        return
    done = step(RECIPE, state, Request(kind, 5.0, "for a reason"), now)
    assert (done.state.phase.value, [command.kind for command in done.commands]) == wanted
    assert all(event.at_s == now for event in done.events) and done.events
    if kind in ENDING:
        assert done.state.over is ENDING[kind] and "for a reason" in done.state.over_detail
        rebound = name in {"lying", "asked", "last"}  # what ended the discharge (it was passed over) stays
        assert done.state.cause is (EndCause.OPERATOR if rebound else ENDING[kind])
        assert ("skipped" if rebound else "for a reason") in done.state.detail
        kept = RunState.from_dict(json.loads(json.dumps(done.state.as_dict())))
        assert (kept.over, kept.over_detail) == (done.state.over, done.state.over_detail)
    if kind == "set":
        assert done.state.setting == 5.0 and [command.setting for command in done.commands] in ([5.0], [])
    if kind == "resume":
        assert done.commands[0].setting == (8.0 if name == "paused" else 10.0)
    if kind == "hand-over":
        assert "for a reason" in done.events[0].message


def test_a_run_that_goes_its_way_is_over_by_what_ended_its_discharge() -> None:
    state, now = begin(RECIPE).state, 0.0
    while state.phase is not Phase.ENDED:
        now += 30.0
        seen = {
            "discharging": Observation(13.0, 8.0),
            "charging": Observation(13.6, -10.0),
            "prompting": Request("answer"),
        }
        state = step(RECIPE, state, seen.get(state.phase.value, Observation(13.3, 0.0)), now).state
    assert state.over is state.cause is EndCause.TIME and state.over_detail == state.detail != ""


@pytest.mark.parametrize("kind", ["mark", "answer"])
def test_without_words_it_says_what_was_done(kind: str) -> None:
    state, now = at("asked")
    done = step(RECIPE, state, Request(kind), now)
    assert {"mark": "marked", "answer": "done"}[kind] in " ".join(event.message.lower() for event in done.events)


@pytest.mark.parametrize("setting", [0.0, -1.0, math.nan, math.inf])
def test_a_setting_that_cannot_be_is_refused(setting: float) -> None:
    state, now = at("drawing")
    with pytest.raises(InputError, match="cannot be"):
        step(RECIPE, state, Request("set", setting), now)


@pytest.mark.parametrize(("name", "most"), [("drawing", 30.0), ("paused", 30.0), ("filling", 20.0)])
def test_a_setting_goes_up_to_its_own_stop_limit(name: str, most: float) -> None:
    state, now = at(name)
    assert step(RECIPE, state, Request("set", most), now).state.setting == most
    with pytest.raises(InputError, match=f"stop limit of {most:g} A"):
        step(RECIPE, state, Request("set", most + 0.1), now)


def test_a_run_that_is_not_begun_is_not_handed_over_and_an_unknown_request_is_named() -> None:
    with pytest.raises(InputError, match="not begun"):
        step(RECIPE, RunState(), Request("hand-over"), 0.0)
    with pytest.raises(InputError, match="dance") as caught:
        step(RECIPE, at("drawing")[0], Request("dance"), 60.0)
    assert "make-safe" in str(caught.value)


def test_what_has_ended_says_off_to_whatever_is_asked_and_nothing_to_readings() -> None:
    ended = step(RECIPE, at("drawing")[0], Request("stop"), 60.0).state
    for kind in (*ENDING, "resume", "set", "skip", "mark"):
        done = step(RECIPE, ended, Request(kind, 5.0), 70.0)
        assert done.state == ended and [command.kind for command in done.commands] == ["off"]
    assert not step(RECIPE, ended, Observation(13.0, 8.0), 70.0).commands


def charged(seconds: float, volts: float, degrees: float | None, amps: float = 10.0, exempt_V: float = 0.0) -> RunState:
    """The run's charge, read once a second, of a pack at so many degrees."""
    recipe = replace(RECIPE, stops=replace(LIMITS, cold_charge_C=0.0, cold_exempt_V=exempt_V))
    state, now = at("filling")
    for _ in range(round(seconds)):
        now += 1.0
        state = step(recipe, state, Observation(volts, -amps, degrees), now).state
    return state


def test_a_charge_that_flows_into_a_frozen_pack_is_stopped_after_ten_seconds() -> None:
    # handbook: "if current still flows after 10 s at a core below 0 °C, stop the charge" (common practice)
    assert charged(11.0, 13.4, -1.0).phase is Phase.CHARGING, "the first reading only begins the counting"
    stopped = charged(13.0, 13.4, -1.0)
    assert stopped.phase is Phase.ENDED and stopped.cause is EndCause.STOP_LIMIT
    for degrees in (0.0, 1.0, None):
        assert charged(30.0, 13.4, degrees).phase is Phase.CHARGING
    assert charged(30.0, 13.4, -1.0, amps=0.05).phase is Phase.CHARGING, "no more than the meter's own zero"
    assert charged(30.0, 14.4, -1.0).phase is Phase.ENDED, "at the charger's limit too, where no heater is"
    assert charged(30.0, 14.0, -1.0, exempt_V=0.4).phase is Phase.CHARGING, "a heater's current, near the limit"
    assert charged(30.0, 13.9, -1.0, exempt_V=0.4).phase is Phase.ENDED


def test_a_pause_is_no_part_of_a_step_s_time_however_often_it_is_made() -> None:
    state, now = begin(RECIPE).state, 0.0
    for _ in range(3):  # 150 s of drawing, then 1000 s of pause, three times
        for _ in range(15):
            now += 10.0
            state = step(RECIPE, state, GOOD, now).state
        state = step(RECIPE, state, Request("pause"), now).state
        now += 1000.0
        state = step(RECIPE, state, Request("resume"), now).state
    assert state.phase is Phase.DISCHARGING and state.index == 0
    for _ in range(15):
        now += 10.0
        assert state.index == 0, "not before its ten minutes"
        state = step(RECIPE, state, GOOD, now).state
    assert state.index == 1


def test_what_held_before_a_pause_does_not_count_after_it() -> None:
    low = replace(
        RECIPE,
        steps=(
            Step("discharge", "draw", "current", 8.0, (EndRule("voltage", 10.0, EndCause.SET_CUTOFF),)),
            RECIPE.steps[2],
        ),
    )
    state = step(low, begin(low).state, GOOD, 1.0).state
    state = step(low, state, Observation(9.9, 8.0), 2.0).state
    assert state.met == (1,)
    state = step(low, step(low, state, Request("pause"), 3.0).state, Request("resume"), 4.0).state
    state = step(low, state, Observation(9.9, 8.0), 5.0).state
    assert state.phase is Phase.DISCHARGING, "one reading alone after it"
    assert step(low, state, Observation(9.9, 8.0), 6.0).state.phase is Phase.RESTING


@pytest.mark.parametrize(("kind", "waits"), [("discharge", True), ("charge", True), ("rest", False)])
def test_whoever_switches_by_hand_is_waited_for(kind: Literal["discharge", "charge", "rest"], waits: bool) -> None:
    # readings typed by hand come when they come; of a rest on instruments nobody knows whether it is one
    recipe = replace(RECIPE, steps=(Step(kind, "by hand", "hand", 8.0, TIME), RECIPE.steps[2]))
    state = begin(recipe).state
    for now in (100.0, 300.0, 700.0):
        state = step(recipe, state, None, now).state
        assert (state.phase is Phase.ENDED) is not waits and state.index == 0
    assert waits or state.over is EndCause.INSTRUMENT


@pytest.mark.parametrize("begins", [0.0, 7000.0])
def test_a_slope_is_of_what_lies_between_whenever_that_was(begins: float) -> None:
    settled = Step("rest", "settle", ends=(EndRule("slope", 0.06, EndCause.SETTLED, readings=1),))
    recipe = replace(
        RECIPE, steps=(Step("rest", "lie", ends=(EndRule("time", begins, EndCause.TIME),)), settled, RECIPE.steps[2])
    )
    for fall_V_h, ended in ((0.05, True), (0.07, False)):
        state, now = begin(recipe).state, 0.0
        while now < begins + 1400.0:
            now += 10.0
            state = step(recipe, state, Observation(13.4 - fall_V_h * now / 3600.0, 0.0), now).state
        assert (state.index == 2) is ended, (begins, fall_V_h)


@pytest.mark.parametrize(("skip", "index"), [(0, 1), (1, 2), (2, 3)])
def test_what_a_rule_passes_over_is_passed_over(skip: int, index: int) -> None:
    opened = (EndRule("protection", 2.0, EndCause.PROTECTION, skip=skip), *TIME)
    recipe = replace(RECIPE, steps=(Step("discharge", "draw", "current", 8.0, opened), *RECIPE.steps[1:]))
    state = step(recipe, begin(recipe).state, GOOD, 1.0).state
    for now in (2.0, 3.0):
        state = step(recipe, state, Observation(0.0, 0.0), now).state
    assert (state.index, state.cause) == (index, EndCause.PROTECTION)


@pytest.mark.parametrize(("volts", "stops"), [(8.1, False), (7.9, True), (1.3, True), (1.05, True), (0.9, False)])
def test_too_few_volts_stop_a_discharge_but_no_volts_are_a_protection_s(volts: float, stops: bool) -> None:
    state = step(RECIPE, begin(RECIPE).state, Observation(volts, 8.0), 1.0).state
    assert (state.phase is Phase.ENDED) is stops and (state.over is EndCause.STOP_LIMIT) is stops


def test_a_run_begins_with_nothing_counted() -> None:
    state = begin(RECIPE, 5.0).state
    counted = (
        "step_live_s",
        "charge_Ah",
        "energy_Wh",
        "load_s",
        "put_in_Ah",
        "put_in_Wh",
        "charge_s",
        "step_Ah",
        "cold_s",
        "bad",
        "zero_A",
    )
    assert all(getattr(state, name) == 0.0 == getattr(RunState(), name) for name in counted)
    assert (state.setting, state.step_since_s, state.index, RunState().setting, RunState().last_A) == (
        8.0,
        5.0,
        0,
        0.0,
        0.0,
    )
    for seconds in (6.0, 7.0, 17.0):
        state = step(RECIPE, state, GOOD, seconds).state
    assert (state.load_s, state.charge_Ah) == (11.0, pytest.approx(8.0 * 11.0 / 3600.0))
