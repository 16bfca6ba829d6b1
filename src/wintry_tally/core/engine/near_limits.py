"""Early warnings: a reading that comes near a stop limit, told once in a step before anything has to stop."""

from __future__ import annotations

import math

from wintry_tally.core.engine.state import LIVE, Observation, Phase, RunState
from wintry_tally.core.message import Message, said
from wintry_tally.core.protocol.recipe import Recipe, StopLimits

WARM_K, COLD_K, FREEZING_K = 10.0, 3.0, 2.0
"""A case this close to its hot limit is warm (40 °C where 50 °C stops), to its cold one cold; a charge is warned of this
close above the temperature below which it may not be. Common practice, no published source."""
ABOVE_LIMIT = 1.007
"""A charge further than this share above its set limit: the charger, or its sense leads, are off."""
NEARLY = 0.9
"""So much of the most that may be moved, or of the longest it may take."""
CELL_V = 0.3


def near_limits(recipe: Recipe, state: RunState, seen: Observation, now_s: float) -> list[tuple[str, Message]]:
    """What a reading comes near, as (key, message); only while current is meant to flow."""
    if state.phase not in LIVE:
        return []
    stops, found = recipe.stops, []
    celsius = seen.temperature_C
    if celsius is not None:
        found += _temperature(stops, state, celsius)
    if state.phase is Phase.CHARGING:
        limit = recipe.steps[state.index].limit_V
        if limit and seen.voltage_V > ABOVE_LIMIT * limit:
            found.append(("above-limit", said("near-charge-limit", volts=seen.voltage_V, limit=limit)))
        lowest = seen.lowest_cell
        if lowest is not None and lowest[1] < stops.cell_low_V + CELL_V:
            found.append(("cell", said("near-cell", volts=lowest[1], limit=stops.cell_low_V)))
    moved = max(state.charge_Ah, state.put_in_Ah)
    if math.isfinite(stops.charge_most_Ah) and moved > NEARLY * stops.charge_most_Ah:
        found.append(("charge", said("near-charge", charge_Ah=moved, limit=stops.charge_most_Ah)))
    if math.isfinite(stops.time_most_s) and now_s > NEARLY * stops.time_most_s:
        left = max(0.0, stops.time_most_s - now_s) / 60.0
        found.append(("time", said("near-time", minutes=left)))
    return found


def _temperature(stops: StopLimits, state: RunState, celsius: float) -> list[tuple[str, Message]]:
    found = []
    if celsius > stops.temperature_high_C - WARM_K:
        found.append(("warm", said("near-warm", celsius=celsius, limit=stops.temperature_high_C)))
    if celsius < stops.temperature_low_C + COLD_K:
        found.append(("cold", said("near-cold", celsius=celsius, limit=stops.temperature_low_C)))
    charging = state.phase is Phase.CHARGING
    if charging and stops.cold_charge_C <= celsius < stops.cold_charge_C + FREEZING_K:
        found.append(("freezing", said("near-freezing", celsius=celsius, limit=stops.cold_charge_C)))
    return found
