"""What is to come of a run that goes on: the same engine on the battery model, from where the run stands."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wintry_tally.core.cell import BatteryModel, Parameters
from wintry_tally.core.cell.connected import Connected
from wintry_tally.core.engine import LIVE, Observation, Phase, Request, Result, RunState, command_for, step
from wintry_tally.core.engine.rules import FALLEN, at_limit, lasted_s
from wintry_tally.core.plan.forecast import Forecast, usual_step_s, walked
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.protocol.recipe import Step
from wintry_tally.core.room import ROOM_C

COARSER = 3.0
"""Steps are longer than a plan's: it is worked out again and again while the window looks on."""
ONWARD_SHARE = 0.12
"""The model's doubt of what is still to come in a run of several steps, or a charge; common practice, no source."""


@dataclass(frozen=True)
class Onward:
    """What is to come of a run from where it stands: seconds from now, with a band, and the model's curve.

    Parts:
        step_s: to the end of this step; end_s, early_s, late_s: to the end of the last step with current.
        step_Ah: still to be moved in this step; time_s (from now), voltage_V: the model's curve.
    """

    step_s: float
    end_s: float
    early_s: float
    late_s: float
    step_Ah: float
    time_s: tuple[float, ...]
    voltage_V: tuple[float, ...]


def onward(
    recipe: Recipe,
    state: RunState,
    elapsed_s: float,
    seen: Observation,
    parameters: Parameters,
    ambient_C: float = ROOM_C,
    full: float = 1.0,
    whole: Forecast | None = None,
) -> Onward | None:
    """The same recipe on the battery model from a run's present state on; None once it has ended.

    The model's charge follows from what it began with, less what was drawn and more what was put in; while a charge
    stands at its limit, from the current it takes there. A prompt counts as answered, a pause as over. Lead-acid remembers
    how it was drawn from, and loses charge to gas as it fills: it is followed along `whole`, the forecast made at the
    start, by what was moved in each step.
    """
    if state.phase in {Phase.ENDED, Phase.READY}:
        return None
    if whole is not None and parameters.available < 1.0 and state.phase in LIVE and state.index in whole.step_at:
        return _along(whole, recipe.steps[state.index], state, elapsed_s)
    part = recipe.steps[state.index]
    connected = Connected(_as_it_stands(part, state, elapsed_s, seen, parameters, ambient_C, full))
    if state.phase is Phase.PROMPTING:
        result = step(recipe, state, Request("answer"), elapsed_s)
    elif state.phase is Phase.PAUSED:
        result = step(recipe, state, Request("resume"), elapsed_s)
    else:
        result = Result(state, (command_for(part, state.setting),))
    begun = connected.model.snapshot()
    step_s = COARSER * usual_step_s(recipe, parameters)
    found = walked(recipe, result, connected, parameters, step_s, elapsed_s)
    if 0.0 < found.end_s - elapsed_s < 100.0 * step_s:  # little is left: it costs little to look closer
        connected.model.restore(begun)
        connected = Connected(connected.model)
        finer = max(10.0, (found.end_s - elapsed_s) / 100.0)
        found = walked(recipe, result, connected, parameters, finer, elapsed_s)
    ends = next(((at, Ah) for index, at, Ah in found.step_ends if index == state.index), (found.end_s, 0.0))
    remaining = max(0.0, found.end_s - elapsed_s)
    return Onward(
        step_s=max(0.0, ends[0] - elapsed_s),
        end_s=remaining,
        early_s=(1.0 - ONWARD_SHARE) * remaining,
        late_s=(1.0 + ONWARD_SHARE) * remaining,
        step_Ah=max(0.0, ends[1] - state.step_Ah),
        time_s=tuple(at - elapsed_s for at in found.time_s),
        voltage_V=found.voltage_V,
    )


def _as_it_stands(
    part: Step, state: RunState, elapsed_s: float, seen: Observation, parameters: Parameters, ambient_C: float, full: float
) -> BatteryModel:  # fmt: skip
    """The battery model where the run has brought it."""
    moved = state.charge_Ah - state.put_in_Ah
    start = min(1.0, max(0.0, full - moved / parameters.capacity_Ah))
    model = BatteryModel(parameters, start, ambient_C)
    if seen.temperature_C is not None:
        model.temperature_C = seen.temperature_C
    if state.phase in LIVE:
        settled = 1.0 - math.exp(-max(0.0, lasted_s(state, elapsed_s)) / parameters.slow_s)
        model.slow_V = seen.current_A * parameters.slow_ohm * settled if math.isfinite(seen.current_A) else 0.0
        model.branch = 1.0 if state.phase is Phase.CHARGING else 0.0
    # lead-acid's taper also tells of how it was charged before: it is no measure of how full it is
    fallen = -seen.current_A < FALLEN * (state.setting or part.setting)
    tapers = part.kind == "charge" and at_limit(seen.voltage_V, part.limit_V, fallen=fallen)
    if parameters.available >= 1.0 and tapers and seen.current_A < -0.01:
        _set_by_taper(model, parameters, -seen.current_A, part.limit_V)
    return model


def _along(whole: Forecast, part: Step, state: RunState, elapsed_s: float) -> Onward:
    """Where a charge stands on the forecast made at its start, by the Ah put in during this step."""
    own = [n for n, index in enumerate(whole.step_at) if index == state.index]
    ends_s, ends_Ah = next(((at, Ah) for index, at, Ah in whole.step_ends if index == state.index), (whole.end_s, 0.0))
    here = next((n for n in own if whole.moved_Ah[n] >= state.step_Ah), own[-1] if own else len(whole.time_s) - 1)
    at = whole.time_s[here] if whole.time_s else ends_s
    slower = part.setting / state.setting if state.setting > 0 and part.setting > 0 else 1.0
    step_s = max(60.0, (ends_s - at) * slower)
    left = [rule.value - lasted_s(state, elapsed_s) for rule in part.ends if rule.kind == "time"]
    step_s = max(0.0, min([step_s, *left]))
    if ends_s - whole.time_s[own[0]] > 0.98 * min(
        [math.inf, *(rule.value for rule in part.ends if rule.kind == "time")]
    ):
        step_s = max(0.0, min(left))  # a step that its time ends, whatever is moved in it
    remaining = step_s + max(0.0, whole.end_s - ends_s)
    return Onward(
        step_s, remaining, (1.0 - ONWARD_SHARE) * remaining, (1.0 + ONWARD_SHARE) * remaining,
        max(0.0, ends_Ah - state.step_Ah), tuple(t - at for t in whole.time_s[here:]), whole.voltage_V[here:],
    )  # fmt: skip


def _set_by_taper(model: BatteryModel, parameters: Parameters, amps: float, limit_V: float) -> None:
    """How full a battery is that takes this current at its limit: looked for by halving."""
    low, high = 0.0, 1.0
    model.slow_V = -amps * parameters.slow_ohm  # by then it has long settled
    for _ in range(24):
        middle = 0.5 * (low + high)
        model.free_Ah = parameters.capacity_Ah * middle * parameters.available
        model.bound_Ah = parameters.capacity_Ah * middle * (1.0 - parameters.available)
        low, high = (middle, high) if model.terminal_V(-amps) < limit_V else (low, middle)
