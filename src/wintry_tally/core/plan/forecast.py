"""When a capacity test will end and what it will give: the same engine and recipe, on the battery model."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from wintry_tally.core.cell import BatteryModel, Parameters
from wintry_tally.core.cell.connected import Connected
from wintry_tally.core.engine import LIVE, Command, Observation, Phase, Request, Result, RunState, begin, step
from wintry_tally.core.protocol import EndCause, Recipe
from wintry_tally.core.room import ROOM_C


@dataclass(frozen=True)
class Forecast:
    """What the model says of a run: time and charge at the end of the discharge, and the curve to get there.

    `step_ends`: of each step gone through, its number from 0, when it ended, s, and the Ah moved in it. `moved_Ah`: in
    the step, at each point of the curve; `step_at`: the step's number there.
    """

    end_s: float
    charge_Ah: float
    energy_Wh: float
    cause: EndCause | None
    time_s: tuple[float, ...]
    voltage_V: tuple[float, ...]
    put_in_Ah: float = 0.0
    step_ends: tuple[tuple[int, float, float], ...] = ()
    moved_Ah: tuple[float, ...] = ()
    step_at: tuple[int, ...] = ()


def forecast(
    recipe: Recipe, parameters: Parameters, ambient_C: float = ROOM_C, step_s: float | None = None, full: float = 1.0
) -> Forecast:
    """Run a recipe on the battery model.

    `step_s` is how finely; without it, about three hundred steps for the whole of a usual test, 20 s at least.
    """
    step_s = step_s or usual_step_s(recipe, parameters)
    connected = Connected(BatteryModel(parameters, full, ambient_C))
    return walked(recipe, begin(recipe), connected, parameters, step_s, 0.0)


def usual_step_s(recipe: Recipe, parameters: Parameters) -> float:
    """About three hundred steps for the whole of a usual test."""
    drawing = next((part.setting for part in recipe.steps if part.mode == "current" and part.setting > 0), 0.0)
    usual_s = 3600.0 * parameters.capacity_Ah / drawing if drawing else 18_000.0
    return max(20.0, usual_s / 300.0)


def walked(
    recipe: Recipe, result: Result, connected: Connected, parameters: Parameters, step_s: float, now: float
) -> Forecast:
    """The recipe on the model from where `result` stands, at `now`, to the end of its last step with current."""
    state = result.state
    times: list[float] = []
    volts: list[float] = []
    amount: list[float] = []
    at_step: list[int] = []
    end_s, charge, energy = now, state.charge_Ah, state.energy_Wh
    limit = now + sum(rule.value for part in recipe.steps for rule in part.ends if rule.kind == "time") + step_s
    fell = 0.0
    step_ends: list[tuple[int, float, float]] = []
    moved_before = state.charge_Ah + state.put_in_Ah - state.step_Ah
    last_live = max((n for n, part in enumerate(recipe.steps) if part.kind in {"discharge", "charge"}), default=-1)
    while state.phase is not Phase.ENDED and now <= limit:
        for command in result.commands:
            _carry_out(connected, command, parameters)
        if state.phase is Phase.PROMPTING:
            result = step(recipe, state, Request("answer"), now)
            state = result.state
            continue
        stride = _stride(recipe, state, step_s, fell)
        before_V = connected.voltage_V
        connected.advance(stride)
        fell = abs(before_V - connected.voltage_V)
        now += stride
        live = state.phase in LIVE
        seen = Observation(connected.voltage_V, connected.current_A, connected.model.temperature_C)
        result = step(recipe, state, seen, now)
        if live and not connected.model.open_discharge:
            times.append(now)
            volts.append(connected.voltage_V)
            amount.append(result.state.step_Ah if result.state.index == state.index else math.nan)
            at_step.append(state.index)
        if result.state.index != state.index or result.state.phase is Phase.ENDED:
            moved = result.state.charge_Ah + result.state.put_in_Ah
            step_ends.append((state.index, now, moved - moved_before))
            moved_before = moved
        if live and (result.state.index != state.index or result.state.phase is Phase.ENDED):
            end_s, charge, energy = now, result.state.charge_Ah, result.state.energy_Wh
            if state.index >= last_live:
                state = result.state
                break
        state = result.state
        if live and result.state.phase in LIVE:
            end_s, charge, energy = now, state.charge_Ah, state.energy_Wh
    return Forecast(
        end_s, charge, energy, state.cause, tuple(times), tuple(volts), state.put_in_Ah, tuple(step_ends),
        tuple(amount), tuple(at_step),
    )  # fmt: skip


def _stride(recipe: Recipe, state: RunState, step_s: float, fell_V: float) -> float:
    """Shorter steps where a recipe's step is short, and where the voltage bends."""
    shortest = min((rule.value for rule in recipe.steps[state.index].ends if rule.kind == "time"), default=math.inf)
    stride = min(step_s, max(0.5, shortest / 20.0))
    return stride if fell_V < 0.1 or stride <= 5.0 else max(5.0, stride * min(1.0, 0.1 / fell_V) * 0.5)


def _carry_out(connected: Connected, command: Command, parameters: Parameters) -> None:
    if command.kind == "draw":
        hand = command.mode == "hand"
        setting = command.setting or 0.2 * parameters.capacity_Ah
        connected.draw("current" if hand else command.mode, setting if hand else command.setting)
    elif command.kind == "charge":
        connected.source(command.setting or 0.2 * parameters.capacity_Ah, command.limit_V)
    elif command.kind == "off":
        connected.off()


@dataclass(frozen=True)
class LiveForecast:
    """A forecast while a test runs: seconds from now and total charge, each with a band that narrows."""

    remaining_s: float
    early_s: float
    late_s: float
    total_Ah: float
    low_Ah: float
    high_Ah: float

    def later(self, passed_s: float) -> LiveForecast:
        """The same, so many seconds later, while the current went on and nothing was read."""
        left, early, late = (max(0.0, at - passed_s) for at in (self.remaining_s, self.early_s, self.late_s))
        return replace(self, remaining_s=left, early_s=early, late_s=late)


def live_forecast(
    rated_Ah: float, drawn_Ah: float, current_A: float, voltage_V: float, curve: Forecast | None, prior_share: float
) -> LiveForecast | None:
    """The model rescaled to the data so far.

    The model's total is the prior, ± `prior_share`; once the curve bends, where the voltage stands on the model's
    curve says how far along the test is, and that counts ever more. None before any current flows.
    """
    if not (current_A > 0.01 and rated_Ah > 0 and math.isfinite(voltage_V)):
        return None
    prior = curve.charge_Ah if curve is not None and curve.charge_Ah > 0 else rated_Ah
    total, spread = prior, prior_share * prior
    if curve is not None and len(curve.voltage_V) > 4 and drawn_Ah > 0:
        place = _place(curve, voltage_V)
        if place is not None and place[0] > 0.02:
            share, slope = place
            seen_total = drawn_Ah / share
            # a volt's worth of model error moves the place by 1/slope: sure on a knee, blind on a plateau
            blur = 0.06 / max(slope, 1e-6)
            # the first stretch is the sag settling in: it says nothing of how much there is
            settled = min(1.0, max(0.0, (min(share, drawn_Ah / prior) - 0.2) / 0.2))
            weight = settled / (1.0 + (blur / prior_share) ** 2)
            total = (1.0 - weight) * prior + weight * seen_total
            spread = (1.0 - weight) * spread + weight * min(spread, blur * seen_total)
    total = max(total, drawn_Ah)
    low, high = max(drawn_Ah, total - 2.0 * spread), total + 2.0 * spread
    per_Ah = 3600.0 / current_A
    return LiveForecast(
        (total - drawn_Ah) * per_Ah, (low - drawn_Ah) * per_Ah, (high - drawn_Ah) * per_Ah, total, low, high
    )


def _place(curve: Forecast, voltage_V: float) -> tuple[float, float] | None:
    """How far along the model's curve this voltage stands (0 to 1), and the fall there per share, in V."""
    volts = curve.voltage_V
    size = len(volts)
    begin_at = max(1, size // 50)
    for index in range(begin_at, size):
        if volts[index] <= voltage_V:
            low, high = max(0, index - max(1, size // 40)), min(size - 1, index + max(1, size // 40))
            fall = max(0.0, volts[low] - volts[high]) / max(1, high - low) * size
            return index / size, fall if math.isfinite(fall) else 0.0
    return None
