"""Protections that opened: which, when, at what current and voltage, how long after the cause."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from wintry_tally.core.analysis.ending import CHARGE_PROTECTION, OPENED, PROTECTION, EndOptions
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind, gap_after, span_of
from wintry_tally.core.trace.trace import BLOCK, Column, Trace

OVER_CURRENT, LOW_VOLTAGE = "over-current", "low-voltage"
OVER_VOLTAGE, LOW_TEMPERATURE = "over-voltage", "low-temperature"

HEAVY_C = 1.0
"""A protection that opens above this rate, well over its low-voltage cut, opened on the current; common practice."""
COLD_C = 5.0
"""Above this a charge that is refused is refused for another reason than cold; common practice."""
BLOCKS_WITHIN_S = 30.0


@dataclass(frozen=True)
class Trip:
    """A protection that opened.

    Parts:
        kind: over-current, low-voltage, over-voltage or low-temperature.
        at_s: the opening, in the middle of the interval in which it happened.
        current_A: the last current before it (discharge positive); voltage_V: the last reading before it.
        latency_s: from the last rise of the current, or from crossing the limit of the voltage; else 0.
        latency_least_s: the same from the latest moment at which it may have risen (the rise may lie in a gap).
        index: the last reading before it.
        hidden_s: how long after that reading nothing was logged, where it was a gap: the opening lies somewhere in it.
    """

    kind: str
    at_s: float
    current_A: float
    voltage_V: float
    latency_s: float
    index: int
    hidden_s: float = 0.0
    latency_least_s: float = 0.0


def find_trips(
    trace: Trace,
    scale: Scale,
    stages: list[Stage],
    endings: list[str | None],
    options: EndOptions,
    ambient_C: float | None = None,
) -> list[Trip]:
    """Every protection that opened in the log, in order of time. Source: common practice, no published source."""
    found = []
    for position, (stage, cause) in enumerate(zip(stages, endings, strict=True)):
        if cause in OPENED:
            trip = _of_discharge(trace, scale, stages, position, options)
            # gone with much left in it and nothing foretold: whatever it was, its voltage was not low
            found += [trip] if cause == PROTECTION or trip.kind == OVER_CURRENT else []
        elif cause == CHARGE_PROTECTION:
            found.append(_of_charge(trace, scale, stages, position, options, ambient_C))
        elif stage.kind in {StageKind.REST, StageKind.PAUSE}:
            refused = _refused(trace, scale, stages, position, options, ambient_C)
            found += [] if refused is None else [refused]
    return [
        replace(
            trip,
            hidden_s=gap_after(trace, scale, trip.index),
            latency_least_s=trip.latency_least_s if trip.kind == OVER_CURRENT else trip.latency_s,
        )
        for trip in found
    ]


def temperature_near(trace: Trace, index: int, ambient_C: float | None) -> float | None:
    """The temperature in the log around a reading, or the ambient one."""
    if trace.temperature_C is not None:
        around = trace.temperature_C[max(0, index - 2) : index + 3]
        around = around[np.isfinite(around)]
        if len(around):
            return float(np.mean(around))
    return ambient_C


def _of_discharge(trace: Trace, scale: Scale, stages: list[Stage], position: int, options: EndOptions) -> Trip:
    stage = stages[position]
    last = stage.last
    opened = float(trace.time_s[last]) + span_of(trace, scale, stage).tail_s
    current, volts = float(trace.current[last]), float(trace.voltage_V[last])
    usual = float(np.median(trace.current[max(stage.first, last - 5) : last + 1]))
    if current < 0.8 * usual and last > stage.first:
        current = usual  # the opening fell into this reading
    first = first_of_run(stages, position)
    if is_over_current(trace, stage, current, volts, options):
        rise, latest = _last_rise(trace, scale, first, last)
        return Trip(OVER_CURRENT, opened, current, volts, opened - rise, last, latency_least_s=opened - latest)
    limit = options.cutoff_V or (options.family.cutoff_V if options.family else None)
    since = opened if limit is None else _crossed(trace, first, last, limit, falling=True, otherwise=opened)
    return Trip(LOW_VOLTAGE, opened, current, volts, opened - since, last)


def is_over_current(trace: Trace, stage: Stage, current_A: float, volts: float, options: EndOptions) -> bool:
    """Whether an opening on discharge was for the current rather than for the voltage."""
    cutoff = options.cutoff_V or (options.family.cutoff_V if options.family else 10.5)
    if volts <= cutoff + 0.15:
        return False
    if options.rated_Ah:
        return current_A >= HEAVY_C * options.rated_Ah and not _sinking(trace, stage)
    lasted = float(trace.time_s[stage.last] - trace.time_s[stage.first])
    return lasted <= 600.0 and volts > cutoff + 0.6 and not _sinking(trace, stage)


def _sinking(trace: Trace, stage: Stage) -> bool:
    """Whether the voltage fell ever faster towards the end: a battery running empty."""
    size = stage.last - stage.first
    if size < 20:
        return False
    tail = max(4, size // 10)
    end = float(trace.voltage_V[stage.last - tail] - trace.voltage_V[stage.last])
    middle = float(trace.voltage_V[stage.last - 3 * tail] - trace.voltage_V[stage.last - 2 * tail])
    return end > 0.3 and end > 3.0 * max(middle, 0.0)


def first_of_run(stages: list[Stage], position: int) -> int:
    """The first reading of the unbroken discharge (or charge) that ends with this stage."""
    first = position
    while first > 0 and stages[first - 1].kind == stages[position].kind:
        first -= 1
    return stages[first].first


def _last_rise(trace: Trace, scale: Scale, first: int, last: int) -> tuple[float, float]:
    """The middle and the end of the interval in which the current last rose to stay, s."""
    current = np.abs(trace.current[max(0, first - 1) : last + 1])
    begun = float(trace.time_s[first])
    base = max(0, first - 1)
    level = max(float(np.median(current[-min(5, len(current)) :])), float(current[-1]))  # a step seen once is one too
    threshold = max(0.01 * level, 6.0 * scale.noise_A, 2.0 * trace.digit_A)
    rises = np.flatnonzero(np.diff(current) > threshold)
    # a load's regulation may dip for a reading and come back: that is no rise
    for index in rises[::-1]:
        before = float(np.median(current[max(0, index - 3) : index + 1]))
        if level - before > threshold:
            at = base + int(index)
            return 0.5 * float(trace.time_s[at] + trace.time_s[at + 1]), float(trace.time_s[at + 1])
    return begun, begun


def _last_within(volts: Column, limit: float, falling: bool) -> int | None:
    """The last reading above a limit, or below it; looked for from the end on."""
    for end in range(len(volts), 0, -BLOCK):
        part = volts[max(0, end - BLOCK) : end]
        inside = np.flatnonzero(part > limit if falling else part < limit)
        if len(inside):
            return end - len(part) + int(inside[-1])
    return None


def _crossed(trace: Trace, first: int, last: int, limit: float, falling: bool, otherwise: float) -> float:
    """When the voltage went through a limit for good before the opening, s."""
    part = trace.voltage_V[first : last + 1]
    beyond = part[-1] <= limit if falling else part[-1] >= limit
    if not beyond:
        return otherwise
    inside = _last_within(part, limit, falling)
    if inside is None:
        return float(trace.time_s[first])
    at = first + inside
    a, b = float(trace.voltage_V[at]), float(trace.voltage_V[at + 1])
    share = (a - limit) / (a - b) if a != b else 0.5
    return float(trace.time_s[at]) + share * float(trace.time_s[at + 1] - trace.time_s[at])


def _of_charge(
    trace: Trace, scale: Scale, stages: list[Stage], position: int, options: EndOptions, ambient_C: float | None
) -> Trip:
    stage = stages[position]
    last = stage.last
    opened = float(trace.time_s[last]) + span_of(trace, scale, stage).tail_s
    current, volts = float(trace.current[last]), float(trace.voltage_V[last])
    first = first_of_run(stages, position)
    limit = options.family.charge_V[2] if options.family else 14.6
    cold = temperature_near(trace, last, ambient_C)
    begun = float(trace.time_s[first]) - span_of(trace, scale, stages[position]).lead_s
    brief = opened - begun <= BLOCKS_WITHIN_S
    if cold is not None and cold <= COLD_C and (brief or volts < limit - 0.3):
        return Trip(LOW_TEMPERATURE, opened, current, volts, opened - _last_rise(trace, scale, first, last)[0], last)
    since = _crossed(trace, first, last, limit, falling=False, otherwise=opened)
    return Trip(OVER_VOLTAGE, opened, current, volts, opened - since, last)


def _refused(
    trace: Trace, scale: Scale, stages: list[Stage], position: int, options: EndOptions, ambient_C: float | None
) -> Trip | None:
    """A charger put on a cold pack that takes nothing from the first reading: the voltage jumps, no current flows."""
    stage = stages[position]
    if stage.last - stage.first < 2 or (position and stages[position - 1].kind == StageKind.CHARGE):
        return None
    part = trace.voltage_V[stage.first : stage.last + 1]
    limit = options.family.charge_V[0] if options.family else 14.0
    least = limit - 0.5
    if float(part.max()) < least:
        return None
    jumps = np.flatnonzero((part[1:] >= least) & (np.diff(part) > max(0.3, 8.0 * scale.noise_V)))
    for index in jumps:
        at = stage.first + int(index)
        cold = temperature_near(trace, at, ambient_C)
        if cold is None or cold > COLD_C:
            continue
        stays = trace.voltage_V[at + 1 : min(stage.last, at + 5) + 1]
        # a surface charge decays at once; a charger's voltage stands
        if float(stays.min()) < least:
            continue
        moment = 0.5 * float(trace.time_s[at] + trace.time_s[at + 1])
        return Trip(LOW_TEMPERATURE, moment, 0.0, float(trace.voltage_V[at + 1]), 0.0, at + 1)
    return None
