"""The engine: a pure step function over an explicit transition table.

Time is elapsed seconds on whatever clock feeds it. Charge once counted stays counted: a pause stops the count,
a resumption goes on from it. After every end the last command is OFF.
"""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass, replace
from enum import StrEnum
from typing import Any

from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.recipe import CAUSE_WORDS, EndCause, Recipe, Step

BAD_READINGS = 3
"""So many unusable readings together mean the instrument is lost."""


class Phase(StrEnum):
    """Where a run is."""

    READY = "ready"
    RESTING = "resting"
    DISCHARGING = "discharging"
    PAUSED = "paused"
    ENDED = "ended"


class Trigger(StrEnum):
    """What can move it on."""

    START_REST = "start-rest"
    START_DISCHARGE = "start-discharge"
    PAUSE = "pause"
    RESUME = "resume"
    NEXT = "next"
    FINISH = "finish"
    STOP = "stop"


TRANSITIONS: dict[tuple[Phase, Trigger], Phase] = {
    (Phase.READY, Trigger.START_REST): Phase.RESTING,
    (Phase.READY, Trigger.START_DISCHARGE): Phase.DISCHARGING,
    (Phase.READY, Trigger.STOP): Phase.ENDED,
    (Phase.RESTING, Trigger.START_DISCHARGE): Phase.DISCHARGING,
    (Phase.RESTING, Trigger.START_REST): Phase.RESTING,
    (Phase.RESTING, Trigger.FINISH): Phase.ENDED,
    (Phase.RESTING, Trigger.STOP): Phase.ENDED,
    (Phase.DISCHARGING, Trigger.PAUSE): Phase.PAUSED,
    (Phase.DISCHARGING, Trigger.START_REST): Phase.RESTING,
    (Phase.DISCHARGING, Trigger.FINISH): Phase.ENDED,
    (Phase.DISCHARGING, Trigger.STOP): Phase.ENDED,
    (Phase.PAUSED, Trigger.RESUME): Phase.DISCHARGING,
    (Phase.PAUSED, Trigger.STOP): Phase.ENDED,
}
"""Every move a run can make; anything else is a bug and raises."""


@dataclass(frozen=True)
class Observation:
    """One reading of the bench; NaN where the instrument gave nothing usable. Current positive while drawn."""

    voltage_V: float
    current_A: float
    temperature_C: float | None = None


@dataclass(frozen=True)
class Request:
    """What a person asks: "pause", "resume", "stop", or "set" with a new setting."""

    kind: str
    setting: float = 0.0


@dataclass(frozen=True)
class Command:
    """What the bench must do now: "draw" in a mode at a setting, or "off"."""

    kind: str
    mode: str = ""
    setting: float = 0.0


@dataclass(frozen=True)
class Event:
    """Something that happened, with its time: kept with the run."""

    at_s: float
    kind: str
    message: str


OFF = Command("off")


@dataclass(frozen=True)
class RunState:
    """Everything the engine knows of a run; plain data, so that it can be kept and taken up again."""

    phase: Phase = Phase.READY
    index: int = 0
    step_since_s: float = 0.0
    step_live_s: float = 0.0
    last_s: float | None = None
    last_V: float = math.nan
    last_A: float = 0.0
    setting: float = 0.0
    charge_Ah: float = 0.0
    energy_Wh: float = 0.0
    load_s: float = 0.0
    below: int = 0
    open: int = 0
    bad: int = 0
    cause: EndCause | None = None
    detail: str = ""

    def as_dict(self) -> dict[str, Any]:
        """Plain data for the journal."""
        return asdict(self)

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> RunState:
        """Taken up again from `as_dict`."""
        known = {name: data[name] for name in cls.__dataclass_fields__ if name in data}
        known["phase"] = Phase(known["phase"])
        known["cause"] = EndCause(known["cause"]) if known.get("cause") else None
        for name in ("last_V", "last_A"):
            known[name] = math.nan if known.get(name) is None else known[name]
        return cls(**known)


@dataclass(frozen=True)
class Result:
    """The state after a step, the commands to carry out in order, and the events to keep."""

    state: RunState
    commands: tuple[Command, ...] = ()
    events: tuple[Event, ...] = ()


def _moved(state: RunState, trigger: Trigger, now_s: float, message: str, **changes: Any) -> tuple[RunState, Event]:
    try:
        phase = TRANSITIONS[state.phase, trigger]
    except KeyError:
        raise AssertionError(f"no transition from {state.phase} by {trigger}") from None
    return replace(state, phase=phase, **changes), Event(now_s, trigger.value, message)


def begin(recipe: Recipe, now_s: float = 0.0) -> Result:
    """Start a run at its first step."""
    return _enter(recipe, RunState(), 0, now_s, "started")


def _enter(recipe: Recipe, state: RunState, index: int, now_s: float, why: str) -> Result:
    target = recipe.steps[index]
    trigger = Trigger.START_REST if target.kind == "rest" else Trigger.START_DISCHARGE
    moved, event = _moved(
        state,
        trigger,
        now_s,
        f"{target.title}: {why}",
        index=index,
        step_since_s=now_s,
        step_live_s=0.0,
        setting=target.setting,
        below=0,
        open=0,
    )
    command = OFF if target.kind == "rest" else Command("draw", target.mode, target.setting)
    return Result(moved, (command,), (event,))


def step(recipe: Recipe, state: RunState, seen: Observation | Request | None, now_s: float) -> Result:
    """Go on by one observation, one request, or (None) by the mere passing of time.

    Raises:
        InputError: a request that the phase does not allow, or a setting that cannot be.
    """
    if state.phase is Phase.ENDED:
        return Result(state, (OFF,) if isinstance(seen, Request) else ())
    if isinstance(seen, Request):
        return _asked(recipe, state, seen, now_s)
    if seen is None or not math.isfinite(seen.voltage_V) or not math.isfinite(seen.current_A):
        return _unusable(recipe, state, seen, now_s)
    state = _counted(state, seen, now_s)
    stopped = _stop_limit(recipe, state, seen)
    if stopped:
        return _stop(state, EndCause.STOP_LIMIT, stopped, now_s)
    return _end_rules(recipe, state, seen, now_s)


def _counted(state: RunState, seen: Observation, now_s: float) -> RunState:
    changes: dict[str, Any] = {"bad": 0, "last_s": now_s, "last_V": seen.voltage_V, "last_A": seen.current_A}
    if state.last_s is not None and state.phase is Phase.DISCHARGING and math.isfinite(state.last_V):
        step_s = max(0.0, now_s - max(state.last_s, state.step_since_s))
        changes["charge_Ah"] = state.charge_Ah + 0.5 * (seen.current_A + state.last_A) * step_s / 3600.0
        power = 0.5 * (seen.current_A * seen.voltage_V + state.last_A * state.last_V)
        changes["energy_Wh"] = state.energy_Wh + power * step_s / 3600.0
        changes["load_s"] = state.load_s + step_s
    return replace(state, **changes)


def _unusable(recipe: Recipe, state: RunState, seen: Observation | None, now_s: float) -> Result:
    bad = state.bad + (0 if seen is None else 1)
    since = state.last_s if state.last_s is not None else state.step_since_s
    silent = now_s - since
    state = replace(state, bad=bad)
    if state.phase is Phase.PAUSED or recipe.steps[state.index].mode == "hand":
        return Result(state)
    if bad >= BAD_READINGS or silent > recipe.stops.silence_s:
        return _stop(
            state, EndCause.INSTRUMENT, f"no usable reading for {silent:.0f} s; the load is switched off", now_s
        )
    return Result(state)


def _stop_limit(recipe: Recipe, state: RunState, seen: Observation) -> str:
    stops, volts = recipe.stops, seen.voltage_V
    if volts > stops.voltage_high_V:
        return f"{volts:.2f} V is above {stops.voltage_high_V:g} V"
    flowing = seen.current_A > 0.05
    if flowing and volts < stops.voltage_low_V and state.phase is Phase.DISCHARGING and volts > 1.0:
        return f"{volts:.2f} V under load is below {stops.voltage_low_V:g} V"
    if seen.current_A > stops.current_high_A:
        return f"{seen.current_A:.2f} A is above {stops.current_high_A:g} A"
    if seen.current_A * volts > stops.power_high_W:
        return f"{seen.current_A * volts:.0f} W is above {stops.power_high_W:g} W"
    celsius = seen.temperature_C
    if celsius is not None and not stops.temperature_low_C <= celsius <= stops.temperature_high_C:
        return f"{celsius:.1f} °C is outside {stops.temperature_low_C:g} to {stops.temperature_high_C:g} °C"
    return ""


def _end_rules(recipe: Recipe, state: RunState, seen: Observation, now_s: float) -> Result:
    if state.phase is Phase.PAUSED:
        return Result(state)
    current_step: Step = recipe.steps[state.index]
    discharging = state.phase is Phase.DISCHARGING
    for rule in current_step.ends:
        if rule.kind == "voltage" and discharging:
            # the protection's own collapse is told by the rule before; a cut-off is crossed with current flowing
            hit = seen.voltage_V <= rule.value and seen.current_A > 0.02
            if hit or state.below:
                state = replace(state, below=state.below + 1 if hit else 0)
            if state.below >= rule.readings:
                return _step_over(recipe, state, rule.cause, f"{seen.voltage_V:.2f} V ≤ {rule.value:g} V", now_s)
        elif rule.kind == "protection" and discharging:
            idle = seen.current_A <= 0.02 and seen.voltage_V < rule.value
            if idle or state.open:
                state = replace(state, open=state.open + 1 if idle else 0)
            if state.open >= rule.readings:
                return _step_over(recipe, state, rule.cause, f"no current, {seen.voltage_V:.2f} V", now_s)
        elif rule.kind == "time":
            lasted = now_s - state.step_since_s if not discharging else state.step_live_s + now_s - state.step_since_s
            if lasted >= rule.value:
                return _step_over(recipe, state, rule.cause, f"after {lasted:.0f} s", now_s)
    return Result(state)


def _step_over(recipe: Recipe, state: RunState, cause: EndCause, detail: str, now_s: float) -> Result:
    """A step's own end: the cause of a discharge's end is the run's; then the next step, or the end."""
    if recipe.steps[state.index].kind == "discharge":
        state = replace(state, cause=cause, detail=detail)
    if state.index + 1 < len(recipe.steps):
        why = f"{CAUSE_WORDS[cause]} ({detail})" if recipe.steps[state.index].kind == "discharge" else "begun"
        return _enter(recipe, state, state.index + 1, now_s, why)
    ended, event = _moved(state, Trigger.FINISH, now_s, "finished", cause=state.cause or cause)
    return Result(ended, (OFF,), (event,))


def _stop(state: RunState, cause: EndCause, detail: str, now_s: float) -> Result:
    # a discharge that already ended keeps its own cause: only the watching of the rebound was cut short
    kept = state.cause or cause
    ended, event = _moved(
        state,
        Trigger.STOP,
        now_s,
        f"stopped: {CAUSE_WORDS[cause]}, {detail}" if detail else f"stopped: {CAUSE_WORDS[cause]}",
        cause=kept,
        detail=state.detail if state.cause else detail,
    )
    return Result(ended, (OFF,), (event,))


def _asked(recipe: Recipe, state: RunState, request: Request, now_s: float) -> Result:
    if request.kind == "stop":
        return _stop(state, EndCause.OPERATOR, "", now_s)
    if request.kind == "pause":
        _allow(state.phase is Phase.DISCHARGING, "only a discharge under way can be paused")
        moved, event = _moved(
            state,
            Trigger.PAUSE,
            now_s,
            "paused; the count stands",
            step_live_s=state.step_live_s + now_s - state.step_since_s,
            last_s=None,
        )
        return Result(moved, (OFF,), (event,))
    if request.kind == "resume":
        _allow(state.phase is Phase.PAUSED, "only a paused run can be resumed")
        moved, event = _moved(state, Trigger.RESUME, now_s, "resumed", step_since_s=now_s, last_s=None, below=0, open=0)
        return Result(moved, (Command("draw", recipe.steps[state.index].mode, state.setting),), (event,))
    if request.kind == "set":
        _allow(state.phase in {Phase.DISCHARGING, Phase.PAUSED}, "the rate can be changed only in a discharge")
        current_step = recipe.steps[state.index]
        _allow(math.isfinite(request.setting) and request.setting > 0, f"a setting of {request.setting:g} cannot be")
        if current_step.mode == "current":
            _allow(
                request.setting <= recipe.stops.current_high_A,
                f"{request.setting:g} A is above the stop limit of {recipe.stops.current_high_A:g} A",
            )
        changed = replace(state, setting=request.setting, below=0)
        event = Event(now_s, "set", f"setting changed from {state.setting:g} to {request.setting:g}")
        live = state.phase is Phase.DISCHARGING
        return Result(changed, (Command("draw", current_step.mode, request.setting),) if live else (), (event,))
    raise InputError(f'"{request.kind}" is not a request', mend="pause, resume, set or stop")


def _allow(condition: bool, otherwise: str) -> None:
    if not condition:
        raise InputError(otherwise)
