"""How a charge or a discharge ended, from the shape at its end and after, the options given, and the family."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.analysis.stages import Scale, Stage, StageKind
from wintry_tally.core.battery.families import Family, charge_state_band
from wintry_tally.core.message import said
from wintry_tally.core.quantity import Accuracy
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.trace import Trace

PROTECTION = "battery-protection"
SET_CUTOFF = "set-cutoff"
DROPOUT = "device-dropout"
TAPER = "current-taper"
CHARGE_PROTECTION = "charge-protection"
SET_POINT = "set-point"
OPERATOR = "operator"
LOG_END = "log-end"
GONE = "gone"
"""A pack was gone from its leads with nothing of an end in its voltage: it opened, or lost a clamp."""
OPENED = frozenset({PROTECTION, GONE})
"""Ends of a discharge after which nothing was left at the terminals of a pack with a protection."""
STOPPED = frozenset({OPERATOR, LOG_END, DROPOUT, GONE})
"""Ends of a discharge that leave open how much was still in the cells."""
AT_MARK = 1.15
"""A charge whose current fell to so many times the full criterion has come to it, as meters read; above it has not."""

ENDING_WORDS = {
    ending: said(f"ending-{ending}")
    for ending in (PROTECTION, SET_CUTOFF, DROPOUT, TAPER, CHARGE_PROTECTION, SET_POINT, OPERATOR, LOG_END, GONE)
}


@dataclass(frozen=True)
class EndOptions:
    """What the caller knows of how tests end on this bench."""

    cutoff_V: float | None = None
    dropouts_V: tuple[float, ...] = ()
    rated_Ah: float | None = None
    family: Family | None = None
    voltage: Accuracy | None = None


def ending_of(
    trace: Trace, scale: Scale, stages: list[Stage], position: int, options: EndOptions
) -> tuple[str | None, list[Remark]]:
    """The cause that ended stage `position` (None for rests and pauses), and remarks where it is unclear."""
    stage = stages[position]
    if stage.kind in {StageKind.REST, StageKind.PAUSE}:
        return None, []
    following = stages[position + 1] if position + 1 < len(stages) else None
    if following is not None and following.kind == stage.kind:
        return SET_POINT, []
    if stage.kind == StageKind.CHARGE:
        return _charge_ending(trace, scale, stage, following, options), []
    return _discharge_ending(trace, scale, stages, position, options)


def _discharge_ending(
    trace: Trace, scale: Scale, stages: list[Stage], position: int, options: EndOptions
) -> tuple[str, list[Remark]]:
    stage = stages[position]
    following = stages[position + 1] if position + 1 < len(stages) else None
    last_V = float(trace.voltage_V[stage.last])
    slope, slack = fall_per_reading(trace, stage), slack_of(trace, scale, stage, options)
    meter_V = _meter_limit(trace, last_V, options)
    at_cutoff = options.cutoff_V is not None and last_V <= options.cutoff_V + slack
    at_cutoff = at_cutoff and not past_cutoff_s(trace, stage, options.cutoff_V, slack)
    at_dropout = [drop for drop in options.dropouts_V if abs(last_V - drop) <= slack]
    if following is None:
        if at_cutoff:
            return SET_CUTOFF, []
        if at_dropout:
            return DROPOUT, []
        return LOG_END, []
    after = trace.voltage_V[following.first : following.last + 1]
    settled = float(np.median(after[: min(len(after), 12)]))
    lowest = float(np.min(after[: min(len(after), 12)]))
    nominal = options.family.nominal_V if options.family else 12.0
    # a pack whose protection opened shows next to nothing at its terminals; an open circuit always rebounds
    collapsed = settled < 0.55 * min(nominal, max(last_V, 1.0)) or (lowest < 0.3 * nominal and settled < last_V - 0.5)
    # and where it came back by itself, the first reading after it still does
    collapsed = collapsed or (float(after[0]) < 0.3 * nominal and len(after) > 1)
    protected = options.family is None or options.family.own_protection
    ends = (trace.row_at(stage.last), trace.row_at(stage.last))
    if collapsed and protected and unheralded(trace, scale, stage, options):
        return GONE, [Remark("end-unclear", said("gone-unheralded", volts=last_V), ends)]
    if collapsed and protected:
        return PROTECTION, []
    if at_cutoff:
        return SET_CUTOFF, []
    if at_dropout:
        return DROPOUT, []
    if _heavy(trace, scale, stages, position, options):
        return _heavy_ending(trace, stages, position)
    falling = slope > 0 and at_a_knee(trace, scale, stage)
    below_floor = options.family is not None and last_V < options.family.cutoff_floor_V + 0.3 * options.family.share
    # the load went off up to one interval after the last reading, and as much lower
    rebound = settled - last_V + slope
    # a meter behind a relay that opens at its setting shows no rebound
    if falling and (collapsed or rebound > max(0.05, 4 * scale.noise_V)):
        if last_V <= highest_setting(options.family) and _round_voltage(last_V, slope, options, meter_V):
            return SET_CUTOFF, []
        if options.family is not None and options.family.lithium and below_floor:
            return PROTECTION, [Remark("end-unclear", said("by-cutoff-or-protection", volts=last_V), ends)]
        if not collapsed:
            return OPERATOR, [Remark("end-unclear", said("by-cutoff-or-hand", volts=last_V), ends)]
    return OPERATOR, [Remark("end-unclear", said("gone-no-protection", volts=last_V), ends)] if collapsed else []


MOVED_V = 0.01
LEFT_PERCENT, SEEN_SHARE, WARM_C, LASTED_S = 15.0, 0.005, 45.0, 600.0
"""An opening that nothing foretold is none that an empty, a hot or an overloaded pack makes: so much was left in it by its
voltage alone, so little was drawn between two readings, it was not so warm, and the load had lasted so long. Common practice."""


def unheralded(trace: Trace, scale: Scale, stage: Stage, options: EndOptions) -> bool:
    """Whether nothing in the readings of a discharge foretold its end, though they are close enough to each other to show it."""
    family = options.family
    if family is None or at_a_knee(trace, scale, stage):
        return False
    if charge_state_band(family, float(trace.voltage_V[stage.last]))[0] < LEFT_PERCENT:
        return False
    third = max(1, (stage.last - stage.first) // 3)
    begun_V = float(np.median(trace.voltage_V[stage.first : stage.first + third]))
    ended_V = float(np.median(trace.voltage_V[stage.last - third + 1 : stage.last + 1]))
    if begun_V - ended_V < MOVED_V * family.share:
        return False  # a voltage that stands still is no battery's, and says nothing of what was left
    lasted = float(trace.time_s[stage.last] - trace.time_s[stage.first])
    if lasted < LASTED_S or stage.last - stage.first < 12:
        return False
    current = trace.current[stage.first : stage.last + 1]
    last_A = float(np.median(current[-5:]))
    if options.rated_Ah and last_A >= HEAVY_C * options.rated_Ah:
        return False
    celsius = trace.temperature_C
    if celsius is not None and float(np.nanmax(celsius[stage.first : stage.last + 1], initial=-273.0)) >= WARM_C:
        return False
    whole_As = 3600.0 * options.rated_Ah if options.rated_Ah else float(np.mean(current)) * lasted
    return last_A * float(trace.time_s[stage.last] - trace.time_s[stage.last - 1]) <= SEEN_SHARE * whole_As


PAST_SHARE, PAST_READINGS, PAST_S = 0.02, 5, 30.0
"""A load that was below its cut-off by such a share for more readings and longer does not switch off by it: common practice."""


def past_cutoff_s(trace: Trace, stage: Stage, cutoff_V: float | None, slack_V: float) -> float:
    """How long the load had been on, s, well below the cut-off that was given when it went off; 0.0 where it had not."""
    if cutoff_V is None:
        return 0.0
    volts = trace.voltage_V[stage.first : stage.last + 1]
    above = np.flatnonzero(volts >= cutoff_V - max(slack_V, PAST_SHARE * cutoff_V))
    first = stage.first + (int(above[-1]) + 1 if len(above) else 0)
    if stage.last - first < PAST_READINGS:
        return 0.0
    lasted = float(trace.time_s[stage.last] - trace.time_s[first])
    return lasted if lasted > PAST_S else 0.0


def slack_of(trace: Trace, scale: Scale, stage: Stage, options: EndOptions) -> float:
    """How far above a voltage the last reading of a discharge may lie that ended there, V: one more fall, and the meter."""
    limit = _meter_limit(trace, float(trace.voltage_V[stage.last]), options)
    return max(0.03, 4 * scale.noise_V, 1.5 * fall_per_reading(trace, stage)) + limit


def _meter_limit(trace: Trace, volts: float, options: EndOptions) -> float:
    return options.voltage.limit(volts, trace.digit_V) if options.voltage else 0.0


BRIEF_S = 30.0
"""A charge given up within this did not taper; common practice, no published source."""

HEAVY_C = 1.2
"""Above this rate an abrupt end well over the cut-off may be taken for the over-current protection; common practice."""


def _heavy(trace: Trace, scale: Scale, stages: list[Stage], position: int, options: EndOptions) -> bool:
    """Whether a lithium pack stopped giving a heavy current within minutes, well above its empty end."""
    family, stage = options.family, stages[position]
    if not options.rated_Ah or (family is not None and not family.lithium):
        return False
    current = float(np.median(trace.current[max(stage.first, stage.last - 5) : stage.last + 1]))
    lasted = float(trace.time_s[stage.last] - trace.time_s[stage.first])
    cutoff = family.cutoff_V if family else 10.0
    empty = float(trace.voltage_V[stage.last]) <= cutoff + 0.3
    return current >= HEAVY_C * options.rated_Ah and lasted <= 600.0 and not empty


def _heavy_ending(trace: Trace, stages: list[Stage], position: int) -> tuple[str, list[Remark]]:
    """The terminals still show the pack: it was switched off outside, whatever a protection may have done after."""
    stage = stages[position]
    lasted = float(trace.time_s[stage.last] - trace.time_s[stage.first])
    told = said("switched-outside", amps=float(trace.current[stage.last]), seconds=lasted)
    return OPERATOR, [Remark("end-unclear", told, (trace.row_at(stage.last), trace.row_at(stage.last)))]


def fall_per_reading(trace: Trace, stage: Stage) -> float:
    """How far the voltage fell per reading over the last few, V; 0.0 if it did not."""
    span = trace.voltage_V[max(stage.first, stage.last - 5) : stage.last + 1]
    if len(span) < 3:
        return 0.0
    return max(0.0, float(span[0] - span[-1]) / (len(span) - 1))


def at_a_knee(trace: Trace, scale: Scale, stage: Stage) -> bool:
    """Whether the voltage falls at the end much faster than in the middle of the stage."""
    size = stage.last - stage.first
    if size < 12:
        return False
    tail = max(3, size // 50)
    end = float(trace.voltage_V[stage.last - tail] - trace.voltage_V[stage.last])
    a, b = stage.first + size // 3, stage.first + 2 * size // 3
    middle = float(trace.voltage_V[a] - trace.voltage_V[b]) / max(1, b - a) * tail
    return end > 3.0 * max(middle, scale.noise_V)


def highest_setting(family: Family | None) -> float:
    """No load's cut-off is usually set above this."""
    if family is None:
        return 12.0
    return family.cutoff_V + (2.0 if family.lithium else 1.1) * family.share


def _round_voltage(volts: float, fall: float, options: EndOptions, meter_V: float) -> bool:
    """Whether a stop here looks like a typed setting.

    Half a volt, or an end usual in the family (5.25 V of a 6 V pack), was crossed within the last interval; or a tenth hit.
    """
    family = options.family
    share = family.share if family is not None else 1.0
    if fall > 0.25 * share:
        return False  # so steep that any setting could have been crossed
    # the load and this meter need not agree to better than a few hundredths of a volt, or what the meter may be off
    apart = max(0.045 * share, meter_V)
    low, high = volts - 1.3 * fall - apart, volts + apart
    crossed_half = math.floor(high * 2) >= math.ceil(low * 2)
    if family is not None and any(low <= usual <= high for usual in (family.cutoff_V, family.other_cutoff_V)):
        return True
    near_tenth = abs(volts * 10 - round(volts * 10)) / 10
    return crossed_half or near_tenth <= 0.006


def _charge_ending(trace: Trace, scale: Scale, stage: Stage, following: Stage | None, options: EndOptions) -> str:
    size = stage.last - stage.first
    tail = np.abs(trace.current[max(stage.first, stage.last - min(2, size)) : stage.last + 1])
    last_A = float(np.median(tail))
    share = 0.05 if options.family is None else options.family.full_taper_C
    if options.rated_Ah:
        tapered = last_A <= AT_MARK * share * options.rated_Ah
    else:
        tapered = last_A <= 0.2 * scale.reference_A and stage.control == "voltage"
    if following is not None and following.kind in {StageKind.REST, StageKind.PAUSE}:
        after = float(np.median(trace.voltage_V[following.first : following.first + 3]))
        last_V = float(np.median(trace.voltage_V[max(stage.first, stage.last - 3) : stage.last + 1]))
        protected = options.family is None or options.family.own_protection
        if protected and after > last_V + max(0.06, 5 * scale.noise_V):
            return CHARGE_PROTECTION
        brief = float(trace.time_s[stage.last] - trace.time_s[stage.first]) <= BRIEF_S
        if protected and (brief or not tapered) and _stands(trace, scale, following, last_V, options):
            return CHARGE_PROTECTION
    if tapered and (stage.control == "voltage" or _fell_at_a_limit(trace, stage, last_A, options)):
        return TAPER
    return LOG_END if following is None else OPERATOR


def _stands(trace: Trace, scale: Scale, following: Stage, last_V: float, options: EndOptions) -> bool:
    """Whether the charger's voltage stands at the terminals with no current: a pack let go of would fall at once."""
    high = options.family.charge_V[0] - 0.1 * options.family.share if options.family else 13.9
    first = trace.voltage_V[following.first : following.first + 8]
    slack = max(0.02, 3 * scale.noise_V, 1.5 * trace.digit_V)
    return last_V >= high and len(first) >= 3 and float(np.median(first)) >= last_V - slack


def _fell_at_a_limit(trace: Trace, stage: Stage, last_A: float, options: EndOptions) -> bool:
    """Whether a charge whose constant-voltage part was too short to stand apart still ended by its taper."""
    begun = float(np.median(np.abs(trace.current[stage.first : stage.first + 5])))
    gentle = options.family.charge_V[0] if options.family else 13.8
    part = trace.voltage_V[stage.first : stage.last + 1]
    if float(part[-1]) < gentle - 0.3:
        return False
    steady = float(part[-1]) >= gentle - 0.05 and float(np.ptp(part)) < 0.05
    return steady or begun > 1.3 * last_A
