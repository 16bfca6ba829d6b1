"""Whether an end rule or a stop limit holds at a reading."""

from __future__ import annotations

import math
from collections.abc import Callable

from wintry_tally.core.engine.state import LIVE, Observation, Phase, RunState
from wintry_tally.core.protocol.recipe import EndRule, Step, StopLimits

IDLE_A = 0.02
"""At or below this no current flows, as far as a rule goes."""
SLOPE_OVER_S = 600.0
"""A slope is taken over at least this long."""
WARMING_MIN = 2.0
"""A rate of warming is taken over at least so many minutes, and over twice that at the most."""
AT_LIMIT_V = 0.06
"""A charge this close to its limit is at it: leads and meters differ by as much."""


def idle_below(step: Step, state: RunState) -> float:
    """The current that counts as none, beside this step's setting and what the meter may read at zero."""
    return max(IDLE_A, 0.004 * step.setting if step.mode in {"current", "charge"} else 0.0, state.zero_A)


Holds = Callable[[EndRule, Step, RunState, Observation, float], str]


def _voltage(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    # the protection's own collapse is told by its rule; a cut-off is crossed with current flowing
    crossed = seen.voltage_V <= rule.value and seen.current_A > max(IDLE_A, state.zero_A)
    return f"{seen.voltage_V:.2f} V ≤ {rule.value:g} V" if crossed else ""


def _above(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    crossed = seen.voltage_V >= rule.value and (step.kind != "charge" or seen.current_A < -max(IDLE_A, state.zero_A))
    return f"{seen.voltage_V:.2f} V ≥ {rule.value:g} V" if crossed else ""


def _protection(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    opened = seen.current_A <= idle_below(step, state) and seen.voltage_V < rule.value
    return f"no current, {seen.voltage_V:.2f} V" if opened else ""


def _refused(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    refused = abs(seen.current_A) <= idle_below(step, state) and seen.voltage_V >= rule.value
    return f"no current at {seen.voltage_V:.2f} V" if refused else ""


def _flows(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    return f"{-seen.current_A:.2f} A flows" if -seen.current_A >= rule.value else ""


def _taken(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    taken = -seen.current_A > idle_below(step, state) and seen.voltage_V <= rule.value
    return f"{-seen.current_A:.2f} A at {seen.voltage_V:.2f} V" if taken else ""


def _taper(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    at_limit = seen.voltage_V >= step.limit_V - AT_LIMIT_V
    # a taper mark below the meter's own zero is still waited for, from above
    idle = min(idle_below(step, state), 0.5 * rule.value)
    low = at_limit and idle < -seen.current_A <= rule.value
    return f"{-seen.current_A:.2f} A ≤ {rule.value:.3g} A at {seen.voltage_V:.2f} V" if low else ""


def lasted_s(state: RunState, now_s: float) -> float:
    """How long the step has gone on, pauses left out."""
    return state.step_live_s + now_s - state.step_since_s


def _time(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    lasted = lasted_s(state, now_s)
    return f"after {lasted:.0f} s" if lasted >= rule.value else ""


def _moved(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    return f"{state.step_Ah:.3f} Ah moved" if state.step_Ah >= rule.value else ""


def _slope(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    if state.anchor_s is None or now_s - state.anchor_s < SLOPE_OVER_S or not math.isfinite(state.anchor_V):
        return ""
    slope = abs(seen.voltage_V - state.anchor_V) / (now_s - state.anchor_s) * 3600.0
    return f"{1000.0 * slope:.0f} mV/h" if slope <= rule.value else ""


def _warmer(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    reached = seen.temperature_C is not None and seen.temperature_C >= rule.value
    return f"{seen.temperature_C:.1f} °C" if reached else ""


def _colder(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    reached = seen.temperature_C is not None and seen.temperature_C <= rule.value
    return f"{seen.temperature_C:.1f} °C" if reached else ""


def _confirm(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> str:
    return ""  # only a request answers a prompt


RULES: dict[str, Holds] = {
    "voltage": _voltage,
    "above": _above,
    "protection": _protection,
    "refused": _refused,
    "flows": _flows,
    "taken": _taken,
    "taper": _taper,
    "time": _time,
    "moved": _moved,
    "slope": _slope,
    "warmer": _warmer,
    "colder": _colder,
    "confirm": _confirm,
}
"""Each rule's test: the words of what was seen when it holds, empty when it does not."""
ONCE = frozenset({"time", "moved", "slope"})
"""Rules that need no second reading: what they look at cannot jump."""


def stop_limit(stops: StopLimits, state: RunState, seen: Observation, now_s: float) -> str:
    """Which stop limit a reading crosses, in words; empty when none."""
    volts, amps = seen.voltage_V, seen.current_A
    if volts > stops.voltage_high_V:
        return f"{volts:.2f} V is above {stops.voltage_high_V:g} V"
    lowest = seen.lowest_cell
    if lowest is not None and state.phase is Phase.CHARGING and lowest[1] < stops.cell_low_V:
        number = lowest[0].removeprefix("cell_").removesuffix("_V")
        return f"cell {number} reads {lowest[1]:.2f} V, below {stops.cell_low_V:g} V: it must not be charged again"
    flowing = amps > max(0.05, state.zero_A)
    if flowing and 1.0 < volts < stops.voltage_low_V and state.phase is Phase.DISCHARGING:
        return f"{volts:.2f} V under load is below {stops.voltage_low_V:g} V"
    if amps > stops.current_high_A:
        return f"{amps:.2f} A is above {stops.current_high_A:g} A"
    if -amps > stops.charge_high_A:
        return f"{-amps:.2f} A of charge is above {stops.charge_high_A:g} A"
    if abs(amps) * volts > stops.power_high_W:
        return f"{abs(amps) * volts:.0f} W is above {stops.power_high_W:g} W"
    if state.charge_Ah > stops.charge_most_Ah or state.put_in_Ah > stops.charge_most_Ah:
        return f"{max(state.charge_Ah, state.put_in_Ah):.2f} Ah is above {stops.charge_most_Ah:g} Ah"
    if now_s > stops.time_most_s:
        return f"{now_s:.0f} s is beyond the {stops.time_most_s:g} s of the whole run"
    return _temperature_limit(stops, state, seen)


def _temperature_limit(stops: StopLimits, state: RunState, seen: Observation) -> str:
    celsius = seen.temperature_C
    if celsius is None:
        return ""
    charging_cold = state.phase is Phase.CHARGING and celsius < stops.cold_charge_C
    if charging_cold and state.cold_s > stops.cold_charge_s:
        return (
            f"{-seen.current_A:.2f} A still flows into a pack at {celsius:.1f} °C after {stops.cold_charge_s:g} s: "
            "no block seen, and it is being damaged"
        )
    if state.phase in LIVE and not stops.temperature_low_C <= celsius <= stops.temperature_high_C:
        return f"{celsius:.1f} °C is outside {stops.temperature_low_C:g} to {stops.temperature_high_C:g} °C"
    rate = warming_K_min(state, celsius)
    if rate is not None and rate > stops.temperature_rate_K_min:
        return f"{rate:.1f} K/min is faster than {stops.temperature_rate_K_min:g} K/min"
    return ""


def warming_K_min(state: RunState, celsius: float) -> float | None:
    """How fast the case warms, over the last two to four minutes, K/min; None while it is too early to say."""
    if state.warm_s is None or state.warm_C is None or state.last_s is None:
        return None
    minutes = (state.last_s - state.warm_s) / 60.0
    return (celsius - state.warm_C) / minutes if minutes >= WARMING_MIN else None
