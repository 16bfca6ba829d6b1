"""Early warnings: a reading that comes near a stop limit, told once in a step before anything has to stop."""

from __future__ import annotations

import math

from wintry_tally.core.engine.state import LIVE, Observation, Phase, RunState
from wintry_tally.core.protocol.recipe import Recipe, StopLimits

WARM_K, COLD_K, FREEZING_K = 10.0, 3.0, 2.0
"""A case this close to its hot limit is warm (40 °C where 50 °C stops), to its cold one cold; a charge is warned of this
close above the temperature below which it may not be. Common practice, no published source."""
ABOVE_LIMIT_V = 0.1
"""A charge further than this above its set limit: the charger, or its sense leads, are off."""
NEARLY = 0.9
"""So much of the most that may be moved, or of the longest it may take."""
CELL_V = 0.3


def near_limits(recipe: Recipe, state: RunState, seen: Observation, now_s: float) -> list[tuple[str, str]]:
    """What a reading comes near, as (key, words); only while current is meant to flow."""
    if state.phase not in LIVE:
        return []
    stops, found = recipe.stops, []
    celsius = seen.temperature_C
    if celsius is not None:
        found += _temperature(stops, state, celsius)
    if state.phase is Phase.CHARGING:
        limit = recipe.steps[state.index].limit_V
        if limit and seen.voltage_V > limit + ABOVE_LIMIT_V:
            found.append(("above-limit", f"{seen.voltage_V:.2f} V, above the {limit:g} V that the charger was set to"))
        lowest = seen.lowest_cell
        if lowest is not None and lowest[1] < stops.cell_low_V + CELL_V:
            found.append(
                ("cell", f"a cell reads {lowest[1]:.2f} V; below {stops.cell_low_V:g} V the charge is stopped")
            )
    moved = max(state.charge_Ah, state.put_in_Ah)
    if math.isfinite(stops.charge_most_Ah) and moved > NEARLY * stops.charge_most_Ah:
        found.append(("charge", f"{moved:.1f} Ah moved; it stops at {stops.charge_most_Ah:g} Ah"))
    if math.isfinite(stops.time_most_s) and now_s > NEARLY * stops.time_most_s:
        left = max(0.0, stops.time_most_s - now_s) / 60.0
        found.append(("time", f"the whole run may take {left:.0f} min more, then it is stopped"))
    return found


def _temperature(stops: StopLimits, state: RunState, celsius: float) -> list[tuple[str, str]]:
    found = []
    if celsius > stops.temperature_high_C - WARM_K:
        found.append(("warm", f"{celsius:.1f} °C is warm; at {stops.temperature_high_C:g} °C it is stopped"))
    if celsius < stops.temperature_low_C + COLD_K:
        found.append(("cold", f"{celsius:.1f} °C is cold; at {stops.temperature_low_C:g} °C it is stopped"))
    charging = state.phase is Phase.CHARGING
    if charging and stops.cold_charge_C <= celsius < stops.cold_charge_C + FREEZING_K:
        found.append(("freezing", f"{celsius:.1f} °C: below {stops.cold_charge_C:g} °C a charge that flows is stopped"))
    return found
