"""From an analysed log that ends in mid-test to the stage under way, and what is to come of it."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.ending import ENDING_WORDS, LOG_END
from wintry_tally.core.analysis.groups import groups_of
from wintry_tally.core.analysis.stages import Stage, StageKind, control_of
from wintry_tally.core.battery.families import Family
from wintry_tally.core.errors import LogError
from wintry_tally.core.plan.so_far import SoFar
from wintry_tally.core.room import ROOM_C

USUAL_LIMIT_DOUBT_V, SEEN_LIMIT_DOUBT_V = 0.12, 0.01
LAST = 30
METER_V = 0.02


def under_way(
    analysis: Analysis, family: Family, rated_Ah: float, full: float | None = None, limit_V: float | None = None
) -> tuple[SoFar, float]:
    """The stage in progress where a log ends, and when it began, s from the log's first row.

    Consecutive stages of a kind and the pauses between them count as one. `full`: the charge at the log's first row,
    0 to 1; `limit_V`: the charger's limit.

    Raises:
        LogError: nothing is under way: the log ends at rest, or what it holds has ended.
    """
    stages, trace = analysis.plain_stages, analysis.trace
    if stages[-1].kind not in {StageKind.CHARGE, StageKind.DISCHARGE}:
        raise LogError("the log ends at rest: nothing is under way")
    kind = stages[-1].kind
    first, last = groups_of(stages, kind)[-1]
    charging = kind == StageKind.CHARGE
    ended = analysis.endings[last]
    # the analysis speaks of the log's largest charge: an earlier one may have been full, and is not this one
    filled = analysis.charge if analysis.charge is not None and analysis.charge.time_to_full_s is not None else None
    if charging and filled is not None and filled.count.spans[-1].last >= stages[first].first:
        raise LogError("the charge has ended: it is full by the taper")
    if not charging and ended is not None and ended != LOG_END:
        raise LogError(f"the discharge has ended: {ENDING_WORDS[ended]}")
    cutoff_V = analysis.options.cutoff_V
    if not charging and cutoff_V is not None and trace.voltage_V[-1] <= cutoff_V:
        raise LogError(f"the discharge has ended: it is below the cut-off of {cutoff_V:g} V")
    begin, stop = stages[first].first, len(trace)
    part = slice(begin, stop)
    time_s = trace.time_s[part] - trace.time_s[begin]
    if stop - begin < 3:
        raise LogError("too little of it is logged to tell")
    volts, amps = trace.voltage_V[part], trace.current[part]
    if full is not None and begin > 0:
        before = float(np.trapezoid(trace.current[: begin + 1], trace.time_s[: begin + 1])) / 3600.0
        full = min(1.0, max(0.0, full - before / rated_Ah))
    rested = math.nan
    if begin > 0 and stages[first - 1].kind in {StageKind.REST, StageKind.PAUSE}:
        rested = float(np.median(trace.voltage_V[max(0, begin - 5) : begin]))
    accuracy = analysis.options.instrument.voltage
    meter_V = METER_V * family.share
    if accuracy is not None:
        meter_V = accuracy.limit(float(np.median(volts)), trace.digit_V) / math.sqrt(3.0)
    known = SoFar(
        time_s, volts, amps, kind.value, full=full, rested_V=rested, celsius=_celsius(analysis, begin), meter_V=meter_V
    )
    begun = float(trace.time_s[begin])
    if charging:
        setting, limit, doubt = _charger(analysis, stages[first : last + 1], family, limit_V)
        mark = family.full_taper_C * rated_Ah
        return replace(known, amps=setting, limit_V=limit, limit_doubt_V=doubt, mark_A=mark), begun
    mode, setting = _load(analysis, stages[last])
    end_V = analysis.options.cutoff_V or family.cutoff_V
    return replace(known, mode=mode, setting=setting, end_V=end_V), begun


def _celsius(analysis: Analysis, begin: int) -> float:
    if analysis.trace.temperature_C is not None:
        known = analysis.trace.temperature_C[begin:]
        known = known[np.isfinite(known)]
        if len(known):
            return float(np.median(known))
    return ROOM_C if analysis.options.ambient_C is None else analysis.options.ambient_C


def _load(analysis: Analysis, stage: Stage) -> tuple[str, float]:
    """How the load draws, and its last setting."""
    trace = analysis.trace
    mode = control_of(trace, analysis.scale, stage.first, stage.last)
    here = slice(max(stage.first, stage.last - LAST), stage.last + 1)
    volts, amps = trace.voltage_V[here], trace.current[here]
    if mode == "power":
        return mode, float(np.median(volts * amps))
    if mode == "resistance":
        return mode, float(np.median(volts / amps))
    # household loads: what they drew on average goes on
    whole = slice(stage.first, stage.last + 1)
    return "current", float(np.mean(trace.current[whole]) if mode == "mixed" else np.median(amps))


def _charger(
    analysis: Analysis, stages: list[Stage], family: Family, limit_V: float | None
) -> tuple[float, float, float]:
    """What the charger gives at constant current, its limit, and how uncertain that is."""
    trace, live = analysis.trace, [stage for stage in stages if stage.kind == StageKind.CHARGE]
    last = live[-1]
    if last.control == "voltage":
        held = trace.voltage_V[last.first : last.last + 1]
        steady = [stage for stage in live if stage.control != "voltage"]
        at = steady[-1] if steady else last
        most = float(np.max(np.abs(trace.current[at.first : at.last + 1])))
        return most, float(np.median(held[len(held) // 2 :])), SEEN_LIMIT_DOUBT_V * family.share
    setting = float(np.median(np.abs(trace.current[max(last.first, last.last - LAST) : last.last + 1])))
    if limit_V is not None:
        return setting, limit_V, SEEN_LIMIT_DOUBT_V * family.share
    return setting, max(family.charge_V[1], float(trace.voltage_V[last.last])), USUAL_LIMIT_DOUBT_V * family.share
