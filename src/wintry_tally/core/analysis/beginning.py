"""How a stage at the very start of a log began: switched on there, or already under way when the logger was put on."""

from __future__ import annotations

import numpy as np

from wintry_tally.core.analysis.counting import Integral
from wintry_tally.core.analysis.stages import Stage
from wintry_tally.core.battery.families import Family, charge_state_band
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.trace.remarks import Remark
from wintry_tally.core.trace.trace import Trace, usual_interval

MOST_SAG = 1.7
"""How much larger than a usual one's a battery's fall under load may be; common practice."""
FULL, EMPTY = 90.0, 15.0
"""Percent of charge: what may hold at least the first by a chart may be full; what holds at least the second is not empty."""
GENTLE_C = {"lithium": 0.25, "lead": 0.1}
"""Up to this rate the voltage under load is near enough to the rested one to tell whether it may be a full one's."""
LEAST_LACKING, MOST_UNSEEN, MOST_LACKING = 0.02, 0.4, 0.9
COLD_SAG, COLD_CHART_V, FLAT_CHART_V = 2.5, 0.05, 0.05
"""In the cold: how much more a battery falls under load, and how far off its chart may be, V of a 12 V pack; and how far off,
beside what charts differ by, where the curve is so flat that a few hundredths of a volt are a fifth of the charge."""
TOP_SHARE = 0.1
TOP_V, TOP_V_PER_C, TOP_EARLY, TOP_MIDDLE = 0.015, 0.1, 0.2, 0.45
"""What a flat curve falls by at the least over the first tenth of a discharge from full, and shares of it within the first
quarter and half of that tenth; common practice."""
SURE_TOP_V, SURE_EARLY, SURE_MIDDLE, SURE_LACKS = 0.05, 0.33, 0.6, 0.08
"""The same of a fall that only the top of the curve shows, down to this share below full: on some packs steps in the middle
fall as far, but as evenly at first as later. By the battery model, one written apart, and PyBaMM's curves."""
LEAST_READINGS, FIRST_INTERVALS = 5, 3
LATE_S, LATE_READINGS, LATE_READINGS_S, LATE_SHARE = 60.0, 5.0, 300.0, 0.01
"""A clock that counts from a start shows at the first row no more than this, so many readings' time (of a logger, not of a
hand), or this of the test."""
COLD_C = 10.0
"""Below it no chart of rested voltages holds well."""


def not_from_full(
    trace: Trace,
    integral: Integral,
    stages: list[Stage],
    family: Family | None,
    celsius: float | None,
    rated_Ah: float | None = None,
) -> tuple[Message, bool]:
    """Why a discharge whose log begins under load did not begin full, or was under way before it, as what the log does;
    empty where it may have begun there.

    Also whether its first readings show that it did; True too where nothing is known of the family. Told by the voltage
    at its first reading (in the cold with more doubt), and where that tells nothing (a flat curve) by whether the fall
    of a full battery's first tenth is there; where neither tells, by a clock that counted on before the first row.

    Args:
        stages: the discharges of one test, the log's first stage first; celsius: at its start, None where not known.

    Source: common practice, no published source.
    """
    why, seen = _by_voltage(trace, integral, stages, family, celsius, rated_Ah)
    if why or (seen and family is not None):
        return why, seen
    lasted = sum(float(trace.time_s[stage.last] - trace.time_s[stage.first]) for stage in stages)
    return (late, False) if (late := _clock_words(trace, lasted)) else (NOTHING, seen)


def may_lack(
    trace: Trace, integral: Integral, stages: list[Stage], family: Family, celsius: float | None, rated_Ah: float | None,
    falls: bool,
) -> float:  # fmt: skip
    """The share of a full battery's charge that may be gone at a log's first row, by its volts under load and a usual
    battery's fall; where they do not tell, but the curve `falls` as only a full one does at first, SURE_LACKS at the most:
    so far down it still falls so. A clock that counted on before that row allows as much as would have flowed in its time,
    and readings far apart as much as between two of them.

    Source: common practice, no published source.
    """
    sag, cold_V, _ = _sag_of(trace, integral, stages, family, celsius, rated_Ah)
    begun_V, off_V = float(trace.voltage_V[0]), cold_V + (FLAT_CHART_V * family.share if family.flat else 0.0)
    # it may fall by less than a usual one, and then it was not so full
    least = charge_state_band(family, begun_V + sag / MOST_SAG - off_V)[0]
    by_volts = charge_state_band(family, begun_V + sag + cold_V)[0] >= FULL
    if falls and not by_volts:
        return min(SURE_LACKS, 1.0 - least / 100.0)
    lacks = 1.0 - least / 100.0
    if lacks <= LEAST_LACKING:
        if family.flat:
            return 0.0  # so high is only the very top: whatever its clock had counted, nothing was drawn
        lacks = 0.0
    lasted = sum(float(trace.time_s[stage.last] - trace.time_s[stage.first]) for stage in stages)
    counted = trace.begins_s / (trace.begins_s + lasted) if _counted_on(trace, lasted) else 0.0
    # who reads it now and then at first, however often later, may have begun to as long before
    usual_s = usual_interval(trace.time_s[: FIRST_INTERVALS + 1])
    counted = max(counted, usual_s / (usual_s + lasted) if usual_s > LATE_SHARE * lasted else 0.0)
    if by_volts and counted > MOST_UNSEEN:
        counted = 0.0  # with so much gone its volts would be others: the clock counted a charge or a rest too
    return min(MOST_LACKING, max(counted, lacks))


def _sag_of(
    trace: Trace, integral: Integral, stages: list[Stage], family: Family, celsius: float | None, rated_Ah: float | None
) -> tuple[float, float, float]:
    """How far such a battery usually falls under this load, how far off its chart may be in the cold, V; and the rate, C."""
    drawn_As = sum(integral.between(stage.first, stage.last)[0] for stage in stages)
    lasted = sum(float(trace.time_s[stage.last] - trace.time_s[stage.first]) for stage in stages)
    rate = drawn_As / lasted / rated_Ah if rated_Ah else 3600.0 / lasted
    cold = celsius is not None and celsius < COLD_C
    sag = family.build.ohm_Ah * rate * family.share * (COLD_SAG if cold else 1.0)
    return sag, COLD_CHART_V * family.share if cold else 0.0, rate


def _by_voltage(
    trace: Trace, integral: Integral, stages: list[Stage], family: Family | None, celsius: float | None,
    rated_Ah: float | None,
) -> tuple[Message, bool]:  # fmt: skip
    first = stages[0]
    lasted = sum(float(trace.time_s[stage.last] - trace.time_s[stage.first]) for stage in stages)
    if family is None:
        return NOTHING, True
    drawn_As = sum(integral.between(stage.first, stage.last)[0] for stage in stages)
    if drawn_As <= 0.0 or lasted <= 0.0:
        return NOTHING, True
    begun_V, cold = float(trace.voltage_V[0]), celsius is not None and celsius < COLD_C
    sag, off_V, rate = _sag_of(trace, integral, stages, family, celsius, rated_Ah)
    begins = said("begins-flowing-at", amps=float(trace.current[0]), volts=begun_V)
    if charge_state_band(family, begun_V + sag + off_V)[0] >= FULL:
        return NOTHING, True
    if charge_state_band(family, begun_V + MOST_SAG * sag + off_V)[1] < FULL:
        return said("begins-not-full", begins=begins), False
    if not family.flat:
        tells = not cold and rate <= GENTLE_C["lithium" if family.lithium else "lead"]
        return said("begins-low", begins=begins) if tells else NOTHING, False
    drawn_A = trace.current[first.first : first.last + 1]
    moved = np.array([integral.to(at)[0] for at in _looked_at(first)]) - integral.to(first.first)[0]
    reached = int(np.searchsorted(moved, TOP_SHARE * drawn_As))
    tenth = _looked_at(first)[reached] if reached < len(moved) else first.last
    if tenth - first.first < LEAST_READINGS or float(np.ptp(drawn_A)) > 0.3 * abs(float(trace.current[0])):
        return NOTHING, False
    quarter, half = (first.first + max(2, (tenth - first.first) * fourths // 4) for fourths in (1, 2))
    early, middle, fell = (
        begun_V - float(np.median(trace.voltage_V[at - 2 : at + 1])) for at in (quarter, half, tenth)
    )
    by_rate = TOP_V_PER_C * rate
    if _falls(fell, early, middle, (SURE_TOP_V + by_rate) * family.share, SURE_EARLY, SURE_MIDDLE):
        return NOTHING, True
    if _falls(fell, early, middle, (TOP_V + by_rate) * family.share, TOP_EARLY, TOP_MIDDLE):
        return NOTHING, False  # a full one may, and so may one on a step in the middle of its curve
    return said("begins-no-fall", begins=begins, fall=1000.0 * fell), False


def _falls(fell: float, early: float, middle: float, least: float, by_quarter: float, by_half: float) -> bool:
    """Whether it fell by so much, so much of it at once."""
    return fell >= least and early >= by_quarter * fell and middle >= by_half * fell


def _clock_words(trace: Trace, lasted_s: float) -> Message:
    """That the log's own clock, which counts from a test's start, stands well beyond it at its first row; else nothing."""
    if not _counted_on(trace, lasted_s):
        return NOTHING
    return said("begins-late", amps=abs(float(trace.current[0])), seconds=trace.begins_s)


def _counted_on(trace: Trace, lasted_s: float) -> bool:
    return trace.begins_s > max(LATE_S, min(LATE_READINGS * trace.usual_s, LATE_READINGS_S), LATE_SHARE * lasted_s)


def _looked_at(stage: Stage) -> list[int]:
    return [int(at) for at in np.linspace(stage.first, stage.last, min(2001, stage.last - stage.first + 1))]


def not_from_empty(trace: Trace, first: int, lasted_s: float, family: Family | None) -> Message:
    """Why a charge whose log begins with it did not begin empty, as what the log does; empty where it may have.

    Source: common practice, no published source.
    """
    if first == 0 and (late := _clock_words(trace, lasted_s)):
        return late
    if family is None or first != 0 or lasted_s <= 0.0:
        return NOTHING
    begun_V = float(trace.voltage_V[0])
    risen = MOST_SAG * family.build.ohm_Ah * 3600.0 / lasted_s * family.share
    if charge_state_band(family, begun_V - risen)[0] <= EMPTY:
        return NOTHING
    return said("begins-not-empty", volts=begun_V)


def begins_remark(trace: Trace, why: Message) -> Remark:
    """What is told of a log whose first reading already carries a current, and where its start is not seen; `why` may be empty."""
    current = float(trace.current[0])
    begins = why or said("begins-flowing", amps=abs(current))
    told = said("drawn-before" if current > 0 else "charged-before", why=begins)
    return Remark("begins-under-load", told, (trace.row_at(0), trace.row_at(0)))
