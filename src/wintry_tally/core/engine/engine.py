"""The engine: a pure step function over an explicit transition table.

Time is elapsed seconds on whatever clock feeds it. Charge once counted stays counted: a pause stops the count,
a resumption goes on from it. After every end the last command is OFF.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from wintry_tally.core.engine.near_limits import near_limits
from wintry_tally.core.engine.rules import RULES, SLOPE_OVER_S, WARMING_MIN, lasted_s, stop_limit
from wintry_tally.core.engine.state import (
    LIVE,
    OFF,
    Command,
    Event,
    Observation,
    Phase,
    Request,
    Result,
    RunState,
    Trigger,
    moved,
)
from wintry_tally.core.errors import InputError
from wintry_tally.core.message import Message, as_message, said
from wintry_tally.core.protocol.end_rules import END_RULES
from wintry_tally.core.protocol.recipe import CAUSE_WORDS, EndCause, Recipe, Step

BAD_READINGS = 3
"""So many unusable readings together mean the instrument is lost."""

_TRIGGERS = {
    "rest": Trigger.START_REST,
    "discharge": Trigger.START_DISCHARGE,
    "charge": Trigger.START_CHARGE,
    "prompt": Trigger.ASK,
}


def begin(recipe: Recipe, now_s: float = 0.0, zero_A: float = 0.0) -> Result:
    """Start a run at its first step; `zero_A` is what its meter may read with nothing flowing."""
    return _enter(recipe, RunState(zero_A=zero_A), 0, now_s, said("step-started"))


def command_for(step_: Step, setting: float) -> Command:
    """What the bench must do in a step."""
    if step_.kind == "discharge":
        return Command("draw", step_.mode, setting)
    if step_.kind == "charge":
        return Command("charge", step_.mode, setting, step_.limit_V)
    return OFF


def _enter(recipe: Recipe, state: RunState, index: int, now_s: float, why: Message) -> Result:
    target = recipe.steps[index]
    begun, event = moved(
        state,
        _TRIGGERS[target.kind],
        now_s,
        said("step-begun", step=target.title, why=why),
        index=index,
        step_since_s=now_s,
        step_live_s=0.0,
        setting=target.setting,
        step_Ah=0.0,
        met=(0,) * len(target.ends),
        cold_s=0.0,
        anchor_s=None,
        warned=(),
    )
    commands: tuple[Command, ...] = (command_for(target, target.setting),)
    if target.kind == "prompt":
        commands = (OFF, Command("ask", words=target.words or target.title))
    return Result(begun, commands, (event,))


def step(recipe: Recipe, state: RunState, seen: Observation | Request | None, now_s: float) -> Result:
    """Go on by one observation, one request, or (None) by the mere passing of time.

    Raises:
        InputError: a request that the phase does not allow, or a setting that cannot be.
    """
    if state.phase is Phase.ENDED:
        return Result(state, (OFF,) if isinstance(seen, Request) else ())
    if isinstance(seen, Request):
        return _asked(recipe, state, seen, now_s)
    if seen is None and state.phase is Phase.RESTING:
        over = _rested(recipe, state, now_s)
        if over is not None:
            return over
    if seen is None or not math.isfinite(seen.voltage_V) or not math.isfinite(seen.current_A):
        return _unusable(recipe, state, seen, now_s)
    state = _counted(recipe, state, seen, now_s)
    stopped = stop_limit(recipe.stops, state, seen, now_s)
    if stopped:
        return _stop(state, EndCause.STOP_LIMIT, stopped, now_s)
    near = near_limits(recipe, state, seen, now_s)
    if not near:
        return _end_rules(recipe, state, seen, now_s)
    known = {key for key, _ in state.warned}
    new = tuple((key, words) for key, words in near if key not in known)
    result = _end_rules(recipe, replace(state, warned=(*state.warned, *new)) if new else state, seen, now_s)
    told = tuple(Event(now_s, "warning", words) for _, words in new)
    return replace(result, events=(*told, *result.events)) if told else result


def _counted(recipe: Recipe, state: RunState, seen: Observation, now_s: float) -> RunState:
    changes: dict[str, Any] = {"bad": 0, "last_s": now_s, "last_V": seen.voltage_V, "last_A": seen.current_A}
    if state.anchor_s is None or now_s - state.anchor_s >= 2.0 * SLOPE_OVER_S:
        sparse = state.anchor_s is not None and state.last_s is not None and now_s - state.last_s >= SLOPE_OVER_S
        if sparse and math.isfinite(state.last_V):
            # readings far apart: the one before is the other end of the slope
            changes.update(anchor_s=state.last_s, anchor_V=state.last_V)
        else:
            changes.update(anchor_s=now_s, anchor_V=seen.voltage_V)
    changes.update(_warming(state, seen, now_s))
    if state.last_s is not None and state.phase in LIVE and math.isfinite(state.last_V):
        step_s = max(0.0, now_s - max(state.last_s, state.step_since_s))
        charge = 0.5 * (seen.current_A + state.last_A) * step_s / 3600.0
        energy = 0.5 * (seen.current_A * seen.voltage_V + state.last_A * state.last_V) * step_s / 3600.0
        changes["step_Ah"] = state.step_Ah + abs(charge)
        if state.phase is Phase.DISCHARGING:
            changes["charge_Ah"] = state.charge_Ah + charge
            changes["energy_Wh"] = state.energy_Wh + energy
            changes["load_s"] = state.load_s + step_s
        else:
            changes["put_in_Ah"] = state.put_in_Ah - charge
            changes["put_in_Wh"] = state.put_in_Wh - energy
            changes["charge_s"] = state.charge_s + step_s
            stops = recipe.stops
            cold = seen.temperature_C is not None and seen.temperature_C < stops.cold_charge_C
            limit_V = recipe.steps[state.index].limit_V
            heats = stops.cold_exempt_V > 0 and seen.voltage_V >= limit_V - stops.cold_exempt_V
            flows = -seen.current_A > stops.cold_charge_A and not heats
            changes["cold_s"] = state.cold_s + step_s if cold and flows else 0.0
    return state.after(changes)


def _warming(state: RunState, seen: Observation, now_s: float) -> dict[str, Any]:
    """Two readings of the temperature, moved up in turn, so that there is always one two to four minutes old."""
    if seen.temperature_C is None:
        return {}
    if state.warm_s is None or state.warmer_s is None:
        return {"warm_s": now_s, "warm_C": seen.temperature_C, "warmer_s": now_s, "warmer_C": seen.temperature_C}
    if now_s - state.warmer_s < 60.0 * WARMING_MIN:
        return {}
    return {"warm_s": state.warmer_s, "warm_C": state.warmer_C, "warmer_s": now_s, "warmer_C": seen.temperature_C}


def _rested(recipe: Recipe, state: RunState, now_s: float) -> Result | None:
    """A rest is over when its time is, whether or not anybody reads anything."""
    lasted = lasted_s(state, now_s)
    for rule in recipe.steps[state.index].ends:
        if rule.kind == "time" and lasted >= rule.value:
            return _step_over(recipe, state, rule.cause, said("lasted", seconds=lasted), now_s, rule.skip)
    return None


def _unusable(recipe: Recipe, state: RunState, seen: Observation | None, now_s: float) -> Result:
    bad = state.bad + (0 if seen is None else 1)
    since = state.last_s if state.last_s is not None else state.step_since_s
    silent = now_s - since
    state = replace(state, bad=bad)
    waits = state.phase in {Phase.PAUSED, Phase.PROMPTING}
    if waits or recipe.steps[state.index].by_hand:
        return Result(state)
    if bad >= BAD_READINGS or silent > recipe.stops.silence_s:
        fault = seen.fault if seen is not None and seen.fault else said("silent", seconds=silent)
        return _stop(state, EndCause.INSTRUMENT, said("switched-off", fault=as_message(fault)), now_s)
    return Result(state)


def _end_rules(recipe: Recipe, state: RunState, seen: Observation, now_s: float) -> Result:
    if state.phase is Phase.PAUSED:
        return Result(state)
    current: Step = recipe.steps[state.index]
    met = list(state.met) if len(state.met) == len(current.ends) else [0] * len(current.ends)
    changed = False
    for position, rule in enumerate(current.ends):
        told = RULES[rule.kind](rule, current, state, seen, now_s)
        count = met[position] + 1 if told else 0
        if count != met[position]:
            met[position], changed = count, True
        if told and count >= (1 if END_RULES[rule.kind].once else rule.readings):
            return _step_over(recipe, replace(state, met=tuple(met)), rule.cause, told, now_s, rule.skip)
    return Result(state.after({"met": tuple(met)}) if changed else state)


def _step_over(recipe: Recipe, state: RunState, cause: EndCause, detail: str, now_s: float, skip: int = 0) -> Result:
    """A step's own end: the cause of a discharge's end (or else a charge's) is the run's; then the next step."""
    kind = recipe.steps[state.index].kind
    if kind == "discharge" or (kind == "charge" and state.charge_Ah == 0.0):
        state = replace(state, cause=cause, detail=detail)
    if state.index + 1 + skip < len(recipe.steps):
        seen = said("step-after", cause=CAUSE_WORDS[cause], seen=as_message(detail))
        why = seen if kind != "rest" else said("step-follows")
        return _enter(recipe, state, state.index + 1 + skip, now_s, why)
    ends = state.cause or cause
    ended, event = moved(
        state, Trigger.FINISH, now_s, said("finished"), cause=ends, over=ends, over_detail=state.detail
    )
    return Result(ended, (OFF,), (event,))


def _stop(state: RunState, cause: EndCause, detail: str, now_s: float) -> Result:
    # a discharge that already ended keeps its own cause, when only the watching of the rebound was cut short
    watching = state.cause is not None and state.phase in {Phase.RESTING, Phase.PROMPTING}
    ended, event = moved(
        state,
        Trigger.STOP,
        now_s,
        said("stopped-seen", cause=CAUSE_WORDS[cause], seen=as_message(detail))
        if detail
        else said("stopped", cause=CAUSE_WORDS[cause]),
        cause=state.cause if watching else cause,
        detail=state.detail if watching else detail,
        over=cause,
        over_detail=detail,
    )
    return Result(ended, (OFF,), (event,))


def _asked(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    handler = _REQUESTS.get(request.kind)
    if handler is None:
        raise InputError(f'"{request.kind}" is not a request', mend=f"use one of {', '.join(_REQUESTS)}")
    if request.of_step not in {None, state.index}:
        _allow(request.kind in {"skip", "answer"}, "the step that was meant is over already: nothing was changed")
        return Result(state, (), ())  # it is over: a second press asks for nothing more
    return handler(recipe, state, request, now_s)


def _ask_stop(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    return _stop(state, EndCause.OPERATOR, request.words, now_s)


def _stopping(cause: EndCause) -> Callable[[Recipe, RunState, Request, float], Result]:
    """A request that ends the run at once, with this cause."""

    def stop(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
        return _stop(state, cause, request.words, now_s)

    return stop


def _ask_cut_off(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    _allow(state.phase is Phase.DISCHARGING, "no load is on that could have stopped by itself")
    return _step_over(recipe, state, EndCause.SET_CUTOFF, request.words, now_s)


def _ask_pause(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    _allow(state.phase in LIVE, "only a discharge or a charge under way can be paused")
    paused, event = moved(
        state,
        Trigger.PAUSE,
        now_s,
        said("paused"),
        step_live_s=state.step_live_s + now_s - state.step_since_s,
        last_s=None,
    )
    return Result(paused, (OFF,), (event,))


def _ask_resume(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    _allow(state.phase is Phase.PAUSED, "only a paused run can be resumed")
    current = recipe.steps[state.index]
    trigger = Trigger.RESUME_CHARGE if current.kind == "charge" else Trigger.RESUME_DISCHARGE
    resumed, event = moved(
        state,
        trigger,
        now_s,
        said("resumed"),
        step_since_s=now_s,
        last_s=None,
        met=(0,) * len(current.ends),
        anchor_s=None,
    )
    return Result(resumed, (command_for(current, state.setting),), (event,))


def _ask_set(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    _allow(
        state.phase in LIVE or state.phase is Phase.PAUSED, "the rate can be changed only in a discharge or a charge"
    )
    current = recipe.steps[state.index]
    _allow(math.isfinite(request.setting) and request.setting > 0, f"a setting of {request.setting:g} cannot be")
    if current.mode in {"current", "charge"}:
        most = recipe.stops.charge_high_A if current.kind == "charge" else recipe.stops.current_high_A
        _allow(request.setting <= most, f"{request.setting:g} A is above the stop limit of {most:g} A")
    changed = replace(state, setting=request.setting, met=(0,) * len(current.ends))
    event = Event(now_s, "set", said("set", before=state.setting, after=request.setting))
    commands = (command_for(current, request.setting),) if state.phase in LIVE else ()
    return Result(changed, commands, (event,))


def _ask_skip(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    _allow(state.phase is not Phase.PAUSED, "resume or stop a paused run first")
    _allow(state.index + 1 < len(recipe.steps), "this is the last step: stop the run instead")
    title = recipe.steps[state.index].title
    kind = recipe.steps[state.index].kind
    if kind in {"discharge", "charge"}:
        state = replace(state, cause=EndCause.OPERATOR, detail=said("skipped", step=title))
    return _enter(recipe, state, state.index + 1, now_s, said("step-skipped", step=title))


def _ask_answer(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    _allow(state.phase is Phase.PROMPTING, "nothing is asked just now")
    return _step_over(recipe, state, EndCause.CONFIRMED, request.words or said("done"), now_s)


def _ask_mark(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    return Result(state, (), (Event(now_s, "mark", request.words or said("marked")),))


def _ask_hand_over(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    _allow(state.phase is not Phase.READY, "a run that has not begun is begun where it is wanted")
    words = Event(now_s, "hand-over", said("handed-over", where=request.words))
    if state.phase not in LIVE:
        return Result(state, (OFF,), (words,))
    paused = _ask_pause(recipe, state, request, now_s)
    return Result(paused.state, paused.commands, (words, *paused.events))


_REQUESTS = {
    "stop": _ask_stop,
    "lost": _stopping(EndCause.INSTRUMENT),
    "disturbed": _stopping(EndCause.DISTURBED),
    "not-proven": _stopping(EndCause.NOT_PROVEN),
    "limit": _stopping(EndCause.STOP_LIMIT),
    "make-safe": _stopping(EndCause.MADE_SAFE),
    "fault": _stopping(EndCause.PROGRAM),
    "cut-off": _ask_cut_off,
    "pause": _ask_pause,
    "resume": _ask_resume,
    "set": _ask_set,
    "skip": _ask_skip,
    "answer": _ask_answer,
    "mark": _ask_mark,
    "hand-over": _ask_hand_over,
}


def _allow(condition: bool, otherwise: str) -> None:
    if not condition:
        raise InputError(otherwise)
