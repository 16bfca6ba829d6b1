"""The charge in a log: what went into the cells until full, how, and how long; a heater's share apart."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from wintry_tally.core.analysis.counting import Count, Instrument, Integral, Span, count
from wintry_tally.core.analysis.ending import CHARGE_PROTECTION, TAPER
from wintry_tally.core.analysis.groups import largest_group
from wintry_tally.core.analysis.stages import FLOAT_DROP_V, Scale, Stage, StageKind, gap_after, span_of
from wintry_tally.core.battery.families import Family
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace.trace import Trace

RESISTING_DROP_V = 0.3
"""A heater holds the charger at its limit; when the cells take over, the voltage falls at least so far."""


GIVEN_WAY_V, STEADY_DIGITS = 0.05, 5.0
COLD_C = 5.0
"""Below this a self-heating pack heats before it charges; common practice, no published source."""

GENTLE_V = 0.3
"""So far below the gentlest limit of its kind a charger's may be read; common practice."""
COARSE_SHARE = 0.01
"""Readings further apart than this share of a charge are coarse: the time to full is looked for between two of them."""
LITHIUM_TAPER_C = 0.05
"""The full criterion where the family is not known, as a share of capacity per hour."""
RESISTING_V, AT_LIMIT_V, FLAT_V = 13.6, 13.9, (0.1, 0.15)
"""Of a 12 V pack, as the two above: a charger's voltage that cells do not set, one that stands at its limit, and over how much
it may swing there."""


@dataclass(frozen=True)
class Heating:
    """The heater phase before the cells accept charge, as long as its readings show.

    `early_s`, `late_s`: gaps before and after those readings, in which it may have begun, or gone on.
    """

    duration_s: float
    energy: Quantity
    end_s: float = 0.0
    power: Quantity | None = None
    level_V: float = 0.0
    late_s: float = 0.0
    early_s: float = 0.0


@dataclass(frozen=True)
class ChargeResult:
    """The largest charge of a log, cells only, until full.

    Parts:
        time_to_full_s: None when it never got full, or nobody can tell; full_doubt_s: its standard uncertainty by what
        the meter may be off at the taper mark. share_constant_current: of the charge.
        after_full: what flowed in the same charge after it was full, a float too; None where it was not.
        all_in: everything that went in until a discharge began; undecided: why full cannot be told.
        full_early_s, full_late_s: by how much it may have been full sooner or later than was read, for a gap lies there.
    """

    count: Count
    time_to_full_s: float | None
    share_constant_current: float
    ended_by: str
    heating: Heating | None
    full_doubt_s: float = 0.0
    after_full: Count | None = None
    all_in: Count | None = None
    undecided: Message = NOTHING
    full_early_s: float = 0.0
    full_late_s: float = 0.0


def charge_of(
    trace: Trace,
    integral: Integral,
    scale: Scale,
    stages: list[Stage],
    endings: list[str | None],
    instrument: Instrument,
    family: Family | None,
    rated_Ah: float | None,
) -> ChargeResult | None:
    """The largest charge, or None when nothing was charged.

    Full: the protection opened, or the current fell to 0.05 C (2 % of C20 for lead-acid) at a steady voltage limit.
    What flows in after that is given apart.
    """
    found = largest_group(integral, stages, StageKind.CHARGE)
    if found is None:
        return None
    (_, last), charging = found
    heating, charging = _heater(trace, integral, scale, charging, instrument)
    if heating is None and _heater_alone(trace, scale, charging):
        # the log ends before the cells took over
        span = span_of(trace, scale, charging[0])
        heating = _heating(trace, span, count(trace, integral, [span], instrument))
        nothing = count(trace, integral, [replace(span, last=span.first, lead_s=0.0, tail_s=0.0)], instrument)
        return ChargeResult(nothing, None, 0.0, endings[last] or "log-end", heating)
    if not charging:
        return None
    ended_by = endings[last] or "log-end"
    mark_A = (LITHIUM_TAPER_C if family is None else family.full_taper_C) * (rated_Ah or 0.0)
    whole = charging
    undecided = NOTHING
    if 0.0 < mark_A <= scale.zero_A:
        undecided = said("full-below-zero", mark=mark_A, zero=scale.zero_A)
    full_at, charging, doubt_s = (
        (None, charging, 0.0) if undecided else _full_of(trace, scale, charging, mark_A, family, instrument)
    )
    spans = [span_of(trace, scale, stage) for stage in charging]
    if full_at is not None:
        ended_by = TAPER
        spans[-1] = replace(spans[-1], tail_s=0.0, tail_doubt_s=0.0)
    elif not undecided and _ended_full(trace, charging[-1], ended_by, family, rated_Ah):
        full_at = float(trace.time_s[spans[-1].last]) + spans[-1].tail_s
    at = charging[-1].last
    tapered = ended_by == TAPER and full_at is not None and full_at <= float(trace.time_s[at])
    counted = count(trace, integral, spans, instrument)
    begun = float(trace.time_s[spans[0].first]) - spans[0].lead_s
    return ChargeResult(
        counted,
        None if full_at is None else full_at - begun,
        _share_constant(trace, integral, charging, spans, counted, instrument),
        ended_by,
        heating,
        doubt_s,
        _after(trace, integral, scale, whole, charging, instrument) if full_at is not None else None,
        _all_in(trace, integral, scale, stages, last, whole, instrument),
        undecided,
        gap_after(trace, scale, at - 1) if tapered else 0.0,
        0.0 if tapered or full_at is None else gap_after(trace, scale, at),
    )


def _ended_full(trace: Trace, stage: Stage, ended_by: str, family: Family | None, rated_Ah: float | None) -> bool:
    return ended_by == TAPER or (ended_by == CHARGE_PROTECTION and _may_be_full(trace, stage, family, rated_Ah))


def _may_be_full(trace: Trace, stage: Stage, family: Family | None, rated_Ah: float | None) -> bool:
    """Whether a pack that opened on charge may have done so for being full: a clamp that came off in the midst reads the same.

    Between readings that are far apart its voltage may have risen unseen.
    """
    last_V = float(np.max(trace.voltage_V[max(stage.first, stage.last - 2) : stage.last + 1]))
    if family is None or last_V >= family.charge_V[0] - GENTLE_V * family.share:
        return True
    apart_s = float(trace.time_s[min(stage.last + 1, len(trace) - 1)] - trace.time_s[stage.last])
    moved_Ah = abs(float(trace.current[stage.last])) * apart_s / 3600.0
    return moved_Ah > COARSE_SHARE * (rated_Ah or math.inf)


def _full_of(
    trace: Trace, scale: Scale, charging: list[Stage], mark_A: float, family: Family | None, instrument: Instrument
) -> tuple[float | None, list[Stage], float]:
    """When the current fell to the full criterion at a steady limit, s, the stages until then, and the instant's doubt, s."""
    full_at, until = _until_full(trace, charging, mark_A)
    if full_at is None:
        full_at, until = _full_at_last(trace, scale, charging, mark_A, family)
    if full_at is None:
        return None, charging, 0.0
    doubt_s = _mark_doubt(trace, until[-1], mark_A, instrument)
    if not gap_after(trace, scale, until[-1].last - 1):
        full_at, unread_s = _between(trace, until, mark_A)
        doubt_s = math.hypot(doubt_s, unread_s)
    return full_at, until, doubt_s


def _between(trace: Trace, charging: list[Stage], mark_A: float) -> tuple[float, float]:
    """When the current went through the full criterion, s, and its standard uncertainty: at the first reading below it; where
    that one is far from the one before, as if it fell by equal shares between the two."""
    at, begun = charging[-1].last, charging[0].first
    now, before = float(trace.time_s[at]), float(trace.time_s[at - 1])
    apart, (above, below) = now - before, np.abs(trace.current[at - 1 : at + 1])
    if apart <= COARSE_SHARE * (now - float(trace.time_s[begun])) or not above > mark_A >= below > 0.0:
        return now, 0.0
    share = math.log(float(above) / mark_A) / math.log(float(above / below))
    return before + share * apart, apart / math.sqrt(12.0)


def _mark_doubt(trace: Trace, stage: Stage, mark_A: float, instrument: Instrument) -> float:
    """How uncertain the instant is at which a tapering current goes through a mark, s, by the meter's error there."""
    accuracy = instrument.current
    if accuracy is None:
        return 0.0
    error = math.hypot(accuracy.gain_standard() * mark_A, accuracy.offset_standard(trace.digit_A))
    current, time = np.abs(trace.current), trace.time_s
    earlier = stage.last
    # the stretch over which it fell by a fifth tells its slope
    while earlier > stage.first and current[earlier] < 1.2 * mark_A:
        earlier -= 1
    fall, lasted = float(current[earlier] - current[stage.last]), float(time[stage.last] - time[earlier])
    return error * lasted / fall if fall > 0 else lasted


def _after(
    trace: Trace, integral: Integral, scale: Scale, whole: list[Stage], charging: list[Stage], instrument: Instrument
) -> Count | None:
    """What flowed on after the reading at which it was full."""
    last = charging[-1].last
    rest = [replace(stage, first=max(stage.first, last)) for stage in whole if stage.last > last]
    return count(trace, integral, [span_of(trace, scale, stage) for stage in rest], instrument) if rest else None


def _all_in(
    trace: Trace,
    integral: Integral,
    scale: Scale,
    stages: list[Stage],
    last: int,
    whole: list[Stage],
    instrument: Instrument,
) -> Count:
    """Everything that went in from this charge on until a discharge began; without one, all but a float."""
    following = next((n for n in range(last + 1, len(stages)) if stages[n].kind == StageKind.DISCHARGE), None)
    if following is not None:
        more = [stage for stage in stages[last + 1 : following] if stage.kind == StageKind.CHARGE]
        counted = [*whole, *more]
    else:
        levels = [float(np.median(trace.voltage_V[stage.first : stage.last + 1])) for stage in whole]
        top = int(np.argmax(levels))
        counted = [
            stage
            for n, (stage, level) in enumerate(zip(whole, levels, strict=True))
            if n <= top or level > levels[top] - FLOAT_DROP_V
        ]
    return count(trace, integral, [span_of(trace, scale, stage) for stage in counted], instrument)


def _share_constant(
    trace: Trace, integral: Integral, charging: list[Stage], spans: list[Span], counted: Count, instrument: Instrument
) -> float:
    steady = [span for stage, span in zip(charging, spans, strict=True) if stage.control != "voltage"]
    if not steady or counted.charge.value == 0.0:
        return 0.0
    return min(1.0, count(trace, integral, steady, Instrument()).charge.value / counted.charge.value)


def _until_full(trace: Trace, charging: list[Stage], mark_A: float) -> tuple[float | None, list[Stage]]:
    """Where the current first stayed at or below the full criterion while the voltage held its limit."""
    if mark_A <= 0.0:
        return None, charging
    for position, stage in enumerate(charging):
        if stage.control != "voltage" or stage.last - stage.first < 3:
            continue
        current = np.abs(trace.current[stage.first : stage.last + 1])
        low = np.flatnonzero(current <= mark_A)
        # one low reading may be a flicker: the two after it must be low as well
        for index in low[:2000]:
            if np.all(current[index : index + 3] <= mark_A):
                at = stage.first + int(index)
                # at its first reading it was low from the start, unless the same limit stood before a gap
                if at <= stage.first and not (position and charging[position - 1].control == "voltage"):
                    break
                return float(trace.time_s[at]), [*charging[:position], replace(stage, last=at)]
    return None, charging


def _full_at_last(
    trace: Trace, scale: Scale, charging: list[Stage], mark_A: float, family: Family | None
) -> tuple[float | None, list[Stage]]:
    """The same of a charge that somebody read now and then: too few readings at its limit to say that it was one, the last
    of them below the full criterion, at the voltage of a full battery."""
    rows = slice(charging[0].first, charging[-1].last + 1)
    amps, volts, time = np.abs(trace.current[rows]), trace.voltage_V[rows], trace.time_s[rows]
    above = np.flatnonzero(amps > mark_A)
    if mark_A <= 0.0 or not len(above) or above[-1] == len(amps) - 1 or any(s.control == "voltage" for s in charging):
        return None, charging
    first = int(above[-1]) + 1
    limit = family.charge_V[0] - GENTLE_V * scale.share if family else 0.0
    stands = float(volts[first:].min()) >= max(limit, float(volts.max()) - FLAT_V[0] * scale.share)
    if not stands or float(time[first] - time[first - 1]) <= COARSE_SHARE * float(time[first] - time[0]):
        return None, charging
    at = rows.start + first
    kept = [stage for stage in charging if stage.first <= at]
    return float(trace.time_s[at]), [*kept[:-1], replace(kept[-1], last=at)]


def _heater(
    trace: Trace, integral: Integral, scale: Scale, charging: list[Stage], instrument: Instrument
) -> tuple[Heating | None, list[Stage]]:
    """A first stretch at the charger's limit with a small steady current, before voltage falls and current rises."""
    if len(charging) < 2:
        return None, charging
    first, then = charging[0], charging[1]
    first_V = float(np.median(trace.voltage_V[first.first : first.last + 1]))
    then_V = float(np.median(trace.voltage_V[then.first : min(then.last, then.first + 20) + 1]))
    first_A = float(np.median(np.abs(trace.current[first.first : first.last + 1])))
    then_A = float(np.median(np.abs(trace.current[then.first : min(then.last, then.first + 20) + 1])))
    flat = (
        float(np.ptp(trace.voltage_V[first.first + 1 : first.last])) < FLAT_V[1] * scale.share
        if first.last - first.first > 3
        else False
    )
    risen = then_A >= 1.3 * first_A or (flat and then_A >= 0.9 * first_A)
    fell = first_V - then_V >= RESISTING_DROP_V * scale.share or _given_way(trace, scale, first, then)
    if not fell or not risen or first_V < RESISTING_V * scale.share:
        return None, charging
    span = span_of(trace, scale, first)
    early = gap_after(trace, scale, first.first - 1) if first.first else 0.0
    late = gap_after(trace, scale, first.last)
    if late:  # half of a gap is no heating that anybody saw
        span = replace(span, tail_s=0.5 * scale.usual_s, tail_doubt_s=0.0)
    if early:
        span = replace(span, lead_s=0.5 * scale.usual_s, lead_doubt_s=0.0)
    warmed = count(trace, integral, [span], instrument)
    return replace(_heating(trace, span, warmed), late_s=late, early_s=early), charging[1:]


def _given_way(trace: Trace, scale: Scale, first: Stage, then: Stage) -> bool:
    """Whether the current leaps up after a stretch as a heater's, and the voltage gives way under it, however little: to cells
    that take much the charger is back at its limit within a few readings."""
    if not _as_heated(trace, scale, first, slice(first.first + 1, first.last)):
        return False
    level_V = float(np.median(trace.voltage_V[first.first + 1 : first.last]))
    least = float(np.min(trace.voltage_V[then.first : then.first + 2]))
    return level_V - least >= max(GIVEN_WAY_V * scale.share, 4.0 * scale.noise_V)


def _heater_alone(trace: Trace, scale: Scale, charging: list[Stage]) -> bool:
    """A single stretch at the charger's limit from its first reading, the current small and steady, the pack cold."""
    if len(charging) != 1:
        return False
    stage = charging[0]
    return _as_heated(trace, scale, stage, slice(stage.first + 1, stage.last + 1))


def _as_heated(trace: Trace, scale: Scale, stage: Stage, part: slice) -> bool:
    """Whether a stretch stands at the charger's limit, its current steady and the pack cold."""
    if stage.last - stage.first < 10 or trace.temperature_C is None:
        return False
    volts, amps = trace.voltage_V[part], np.abs(trace.current[part])
    known = trace.temperature_C[part][np.isfinite(trace.temperature_C[part])]
    cold = bool(len(known)) and float(np.median(known)) < COLD_C
    flat = (
        float(np.max(volts) - np.min(volts)) < FLAT_V[0] * scale.share
        and float(np.min(volts)) >= AT_LIMIT_V * scale.share
    )
    spread = float(np.quantile(amps, 0.95) - np.quantile(amps, 0.05))
    steady = max(0.15 * float(np.median(amps)), STEADY_DIGITS * trace.digit_A)
    return cold and flat and spread < steady


def _heating(trace: Trace, span: Span, warmed: Count) -> Heating:
    hours = warmed.duration_s / 3600.0
    power = warmed.energy.scaled(1.0 / hours, "W") if hours else None
    ended, level_V = float(trace.time_s[span.last]) + span.tail_s, warmed.mean_voltage.value
    return Heating(warmed.duration_s, warmed.energy, ended, power, level_V)
