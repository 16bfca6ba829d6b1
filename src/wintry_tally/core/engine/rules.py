"""Whether an end rule or a stop limit holds at a reading."""

from __future__ import annotations

import math
from collections.abc import Callable

from wintry_tally.core.engine.state import LIVE, Observation, Phase, RunState
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.protocol.recipe import EndRule, Step, StopLimits

IDLE_A = 0.02
"""At or below this no current flows, as far as a rule goes."""
SLOPE_OVER_S = 600.0
"""A slope is taken over at least this long."""
WARMING_MIN = 2.0
"""A rate of warming is taken over at least so many minutes, and over twice that at the most."""
LIMIT_SHARE, OWN_SHARE = 0.985, 0.996
"""A charge at so much of its limit is at it: charger and meter, each good to a percent or half of one, and leads are so far
apart; where its current has not fallen, closer. Common practice, no published source."""
FALLEN = 0.9
"""A current of less than so much of what was set has fallen."""


def at_limit(volts: float, limit_V: float, *, fallen: bool = True) -> bool:
    """Whether a charge that reads so has come to its charger's limit, as far as two instruments can say; `fallen`: its current
    has fallen below what was set, which a limit does."""
    return volts >= (LIMIT_SHARE if fallen else OWN_SHARE) * limit_V


def idle_below(step: Step, state: RunState) -> float:
    """The current that counts as none, beside this step's setting and what the meter may read at zero."""
    return max(IDLE_A, 0.004 * step.setting if step.mode in {"current", "charge"} else 0.0, state.zero_A)


Holds = Callable[[EndRule, Step, RunState, Observation, float], Message]


def _voltage(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    # the protection's own collapse is told by its rule; a cut-off is crossed with current flowing
    crossed = seen.voltage_V <= rule.value and seen.current_A > max(IDLE_A, state.zero_A)
    return said("fell-to", volts=seen.voltage_V, limit=rule.value) if crossed else NOTHING


def _above(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    crossed = seen.voltage_V >= rule.value and (step.kind != "charge" or seen.current_A < -max(IDLE_A, state.zero_A))
    return said("rose-to", volts=seen.voltage_V, limit=rule.value) if crossed else NOTHING


def _protection(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    opened = seen.current_A <= idle_below(step, state) and seen.voltage_V < rule.value
    return said("opened", volts=seen.voltage_V) if opened else NOTHING


def _refused(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    refused = abs(seen.current_A) <= idle_below(step, state) and seen.voltage_V >= rule.value
    return said("refused", volts=seen.voltage_V) if refused else NOTHING


def _flows(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    return said("flows", amps=-seen.current_A) if -seen.current_A >= rule.value else NOTHING


def _taken(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    taken = -seen.current_A > idle_below(step, state) and seen.voltage_V <= rule.value
    return said("taken", amps=-seen.current_A, volts=seen.voltage_V) if taken else NOTHING


def _taper(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    # a charger that was set to no more than the mark says nothing by its current
    there = at_limit(seen.voltage_V, step.limit_V, fallen=rule.value < FALLEN * (state.setting or step.setting))
    # a taper mark below the meter's own zero is still waited for, from above
    idle = min(idle_below(step, state), 0.5 * rule.value)
    low = there and idle < -seen.current_A <= rule.value
    if not low:
        return NOTHING
    return said("tapered", amps=-seen.current_A, limit=rule.value, volts=seen.voltage_V)


def lasted_s(state: RunState, now_s: float) -> float:
    """How long the step has gone on, pauses left out."""
    return state.step_live_s + now_s - state.step_since_s


def _time(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    lasted = lasted_s(state, now_s)
    return said("lasted", seconds=lasted) if lasted >= rule.value else NOTHING


def _moved(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    return said("moved", charge_Ah=state.step_Ah) if state.step_Ah >= rule.value else NOTHING


def _slope(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    if state.anchor_s is None or now_s - state.anchor_s < SLOPE_OVER_S or not math.isfinite(state.anchor_V):
        return NOTHING
    slope = abs(seen.voltage_V - state.anchor_V) / (now_s - state.anchor_s) * 3600.0
    return said("slope", slope_mV_h=1000.0 * slope) if slope <= rule.value else NOTHING


def _warmer(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    celsius = seen.temperature_C
    return said("at-celsius", celsius=celsius) if celsius is not None and celsius >= rule.value else NOTHING


def _colder(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    celsius = seen.temperature_C
    return said("at-celsius", celsius=celsius) if celsius is not None and celsius <= rule.value else NOTHING


def _confirm(rule: EndRule, step: Step, state: RunState, seen: Observation, now_s: float) -> Message:
    return NOTHING  # only a request answers a prompt


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
"""Each rule's test: what was seen when it holds, nothing when it does not."""


def stop_limit(stops: StopLimits, state: RunState, seen: Observation, now_s: float) -> Message:
    """Which stop limit a reading crosses; nothing when none."""
    volts, amps = seen.voltage_V, seen.current_A
    if volts > stops.voltage_high_V:
        return said("volts-above", volts=volts, limit=stops.voltage_high_V)
    lowest = seen.lowest_cell
    if lowest is not None and state.phase is Phase.CHARGING and lowest[1] < stops.cell_low_V:
        number = lowest[0].removeprefix("cell_").removesuffix("_V")
        return said("cell-below", cell=number, volts=lowest[1], limit=stops.cell_low_V)
    flowing = amps > max(0.05, state.zero_A)
    if flowing and 1.0 < volts < stops.voltage_low_V and state.phase is Phase.DISCHARGING:
        return said("volts-below", volts=volts, limit=stops.voltage_low_V)
    if amps > stops.current_high_A + state.zero_A:
        return said("amps-above", amps=amps, limit=stops.current_high_A)
    if -amps > stops.charge_high_A + state.zero_A:
        return said("charge-amps-above", amps=-amps, limit=stops.charge_high_A)
    if abs(amps) * volts > stops.power_high_W:
        return said("watts-above", watts=abs(amps) * volts, limit=stops.power_high_W)
    if state.charge_Ah > stops.charge_most_Ah or state.put_in_Ah > stops.charge_most_Ah:
        return said("charge-above", charge_Ah=max(state.charge_Ah, state.put_in_Ah), limit=stops.charge_most_Ah)
    if now_s > stops.time_most_s:
        return said("too-long", seconds=now_s, limit=stops.time_most_s)
    return _temperature_limit(stops, state, seen)


def _temperature_limit(stops: StopLimits, state: RunState, seen: Observation) -> Message:
    celsius = seen.temperature_C
    if celsius is None:
        return NOTHING
    charging_cold = state.phase is Phase.CHARGING and celsius < stops.cold_charge_C
    if charging_cold and state.cold_s > stops.cold_charge_s:
        return said("cold-charge", amps=-seen.current_A, celsius=celsius, seconds=stops.cold_charge_s)
    if state.phase in LIVE and not stops.temperature_low_C <= celsius <= stops.temperature_high_C:
        return said("celsius-outside", celsius=celsius, low=stops.temperature_low_C, high=stops.temperature_high_C)
    rate = warming_K_min(state, celsius)
    if rate is not None and rate > stops.temperature_rate_K_min:
        return said("warms-fast", rate=rate, limit=stops.temperature_rate_K_min)
    return NOTHING


def warming_K_min(state: RunState, celsius: float) -> float | None:
    """How fast the case warms, over the last two to four minutes, K/min; None while it is too early to say."""
    if state.warm_s is None or state.warm_C is None or state.last_s is None:
        return None
    minutes = (state.last_s - state.warm_s) / 60.0
    return (celsius - state.warm_C) / minutes if minutes >= WARMING_MIN else None
