"""Cutting a log into rests, charges, discharges and pauses, and telling how each was controlled."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from wintry_tally.core.analysis.counting import Span, rest_of_interval
from wintry_tally.core.trace.repair import GAP_FACTOR
from wintry_tally.core.trace.trace import BLOCK, Column, Trace, noise_of

MEAN_SIGMAS = 5.0
DIGITS_AT_ZERO, DIGITS_SHARE = 2.0, 0.05
"""So many last digits are no current where nothing is known of the meter, beside one that they are so small a share of."""
FLICKER_DIGITS, FLICKER_SHARE = 5.0, 0.25
"""A log of no more digits than so many, mostly of DIGITS_AT_ZERO, that jump about by such a share of them, shows a meter's zero
and nothing else."""
MAX_STEPS = 24
"""More load steps than this in one discharge are household loads: one stage of mixed control."""


class StageKind(StrEnum):
    """What the battery was doing."""

    REST = "rest"
    CHARGE = "charge"
    DISCHARGE = "discharge"
    PAUSE = "pause"


@dataclass(frozen=True)
class Stage:
    """One stretch of a log: readings first to last, both included, with its kind and control."""

    kind: StageKind
    first: int
    last: int
    control: str = "none"


@dataclass(frozen=True)
class Scale:
    """What counts as nothing, and as a change, in this log."""

    usual_s: float
    reference_A: float
    dead_A: float
    noise_A: float
    noise_V: float
    zero_A: float = 0.0
    share: float = 1.0
    """Cells in series over those of a 12 V pack: voltages that are fixed for one go by it."""


def scale_of(trace: Trace, zero_A: float = 0.0, share: float = 1.0) -> Scale:
    """The log's own scale: usual interval, current in use, what is as good as zero, noise.

    `zero_A` is the meter's own limit at zero, the offset part of its accuracy: within it a current is none. Where that
    is not known, what its own rested readings show stands for it; and what they show where nothing can flow, in any case.
    """
    stride = max(1, len(trace) // 50_000)
    current = np.abs(trace.current[::stride])
    noise_A = noise_of(trace.current)
    step = trace.digit_A
    zero_A = max(zero_A or own_zero(trace.current[::stride]), leapt_zero(trace, share))
    live = current[current > zero_A]
    reference = float(np.quantile(live, 0.9)) if len(live) else 0.0
    top = float(current.max(initial=0.0))
    flickers = top <= FLICKER_DIGITS * step and noise_A >= FLICKER_SHARE * reference
    if not zero_A and flickers and float(np.median(current)) <= DIGITS_AT_ZERO * step:
        zero_A = top  # nothing flows in all of it
    if not zero_A and DIGITS_AT_ZERO * step <= DIGITS_SHARE * reference:
        zero_A = DIGITS_AT_ZERO * step
    dead = max(0.004 * reference, 1.5 * step, min(4 * noise_A, 0.1 * reference), 1e-4)
    dead = min(dead, 0.3 * reference) or 1e-4
    if zero_A > 0.0:
        # a zero error flickers by its noise and its last digit
        dead = max(dead, zero_A + max(step, min(3.0 * noise_A, 0.5 * zero_A)))
    return Scale(trace.usual_s, reference, dead, noise_A, noise_of(trace.voltage_V), zero_A, share)


IDLE_SHARE, IDLE_CHARGE, IDLE_READINGS, IDLE_SPREADS = 0.01, 0.03, 5, 5.0
"""What lies so far below the current in use, alike in all its readings and next to no charge in all, is a meter's zero."""


def own_zero(current: Column) -> float:
    """What a log's own rested readings show at the most, A; 0.0 where none stand apart from its currents.

    A small device's current is no zero: it is what flows in that log, or it makes a share of what flows.
    """
    sizes = np.abs(current)
    top = float(np.quantile(sizes, 0.98)) if len(sizes) else 0.0
    idle = current[sizes <= IDLE_SHARE * top]
    if len(idle) < IDLE_READINGS or float(np.sum(np.abs(idle))) > IDLE_CHARGE * float(np.sum(sizes)):
        return 0.0
    middle = float(np.median(idle))
    spread = 1.4826 * float(np.median(np.abs(idle - middle)))
    return abs(middle) + IDLE_SPREADS * spread if middle or spread else 0.0


LEAP_V, LEAP_MOST_A, LEAP_READINGS, LEAP_LOOK_BACK, LEAP_LONGEST = 0.5, 0.5, 8, 60, 1_000_000
LEAP_SPREADS = 1.2
"""The terminals that leap up by so much (of a pack of 12 V) while a reading of so few A is what it was before: nothing flows."""


def leapt_zero(trace: Trace, share: float) -> float:
    """What the current shows where a charger's voltage comes to the terminals and nothing flows, A; 0.0 where none does.

    No small current could flow on unmoved through such a leap. A log too long for a test of that is not looked at.
    """
    if len(trace) > LEAP_LONGEST or len(trace) < 2 * LEAP_READINGS:
        return 0.0
    most, idle = 0.0, np.abs(trace.current) <= LEAP_MOST_A
    for index in np.flatnonzero(np.diff(trace.voltage_V) > LEAP_V * share)[:MAX_STEPS]:
        # between the two a charge may have flowed for a moment, until it was refused
        begin = max(0, index + 1 - LEAP_LOOK_BACK)
        earlier = (begin + np.flatnonzero(idle[begin : index + 1]))[-LEAP_READINGS:]
        later = np.arange(index + 1, min(len(trace), index + 1 + LEAP_READINGS))
        if len(earlier) < 2 or len(later) < 2 or not idle[later].all():
            continue
        before, after, volts = trace.current[earlier], trace.current[later], trace.voltage_V
        below = float(np.median(volts[later]) - np.median(volts[earlier])) > LEAP_V * share
        spread = max(float(np.ptp(before)), float(np.ptp(after)), trace.digit_A)
        apart = abs(float(np.median(after) - np.median(before)))
        if below and float(volts[earlier].min()) > 1.0 and apart <= LEAP_SPREADS * spread:
            most = max(most, float(np.max(np.abs([*before, *after]))) + spread)
    return most


def find_stages(trace: Trace, scale: Scale) -> list[Stage]:
    """The stages in order; together they cover every reading once."""
    runs = _without_zeros(_absorb(_runs(trace.current, scale.dead_A), trace, scale), trace, scale)
    stages: list[Stage] = []
    for index, (first, last, sign) in enumerate(runs):
        if sign == 0:
            before = runs[index - 1][2] if index else 0
            after = runs[index + 1][2] if index + 1 < len(runs) else 0
            kind = StageKind.PAUSE if before == after != 0 else StageKind.REST
            stages.append(Stage(kind, first, last))
        elif sign > 0:
            stages += _by_steps(trace, scale, StageKind.DISCHARGE, first, last)
        else:
            for part in _by_steps(trace, scale, StageKind.CHARGE, first, last):
                for piece in _plateau_apart(trace, scale, part):
                    for half in _float_apart(trace, scale, piece):
                        stages += _constant_voltage_apart(trace, scale, half)
    return stages


def _runs(current: Column, dead: float) -> list[tuple[int, int, int]]:
    """(first, last, sign) of stretches of like sign; sign 0 within ± dead."""
    edges = [0]
    previous: int | None = None
    for start in range(0, len(current), BLOCK):
        part = current[start : start + BLOCK]
        state = (part > dead).astype(np.int8) - (part < -dead).astype(np.int8)
        if previous is not None and state[0] != previous:
            edges.append(start)
        edges.extend((start + 1 + np.flatnonzero(state[1:] != state[:-1])).tolist())
        previous = int(state[-1])
    edges.append(len(current))
    runs = []
    for first, stop in itertools.pairwise(edges):
        value = float(current[first])
        runs.append((first, stop - 1, (value > dead) - (value < -dead)))
    return runs


def _absorb(runs: list[tuple[int, int, int]], trace: Trace, scale: Scale) -> list[tuple[int, int, int]]:
    """Join stretches too short to be anything, and those of like sign that then touch."""

    def too_short(first: int, last: int, sign: int) -> bool:
        if sign == 0:
            # one idle reading between live ones, with no rebound to show for it, is a hiccup of the log
            if last > first or first == 0 or last == len(trace) - 1:
                return False
            around = 0.5 * (trace.voltage_V[first - 1] + trace.voltage_V[last + 1])
            return abs(float(trace.voltage_V[first] - around)) <= max(4 * scale.noise_V, 0.005)
        # a live stretch of one reading, not above a few times the dead band, is noise
        return last == first and abs(float(trace.current[first])) < 4 * scale.dead_A

    joined: list[tuple[int, int, int]] = []
    for index, (first, last, sign) in enumerate(runs):
        if joined and too_short(first, last, sign):
            sign = joined[-1][2]
        elif not joined and too_short(first, last, sign) and index + 1 < len(runs):
            sign = runs[index + 1][2]
        if joined and joined[-1][2] == sign:
            joined[-1] = (joined[-1][0], last, sign)
        else:
            joined.append((first, last, sign))
    return joined


def _without_zeros(runs: list[tuple[int, int, int]], trace: Trace, scale: Scale) -> list[tuple[int, int, int]]:
    """Stretches whose mean lies within the meter's own limit at zero are none, whatever single readings show."""
    if scale.zero_A <= 0.0:
        return runs
    found: list[tuple[int, int, int]] = []
    for first, last, sign in runs:
        # a few readings have a mean no surer than their noise
        most = scale.zero_A + MEAN_SIGMAS * scale.noise_A / math.sqrt(last - first + 1)
        own = 0 if sign and abs(float(np.mean(trace.current[first : last + 1]))) <= most else sign
        if found and found[-1][2] == own:
            found[-1] = (found[-1][0], last, own)
        else:
            found.append((first, last, own))
    return found


def _by_steps(trace: Trace, scale: Scale, kind: StageKind, first: int, last: int) -> list[Stage]:
    """Split a live stretch where the setting was changed: a lasting step of the current within one interval."""
    current = trace.current
    threshold = max(0.04 * scale.reference_A, 8 * scale.noise_A, 2.5 * trace.digit_A)
    cuts: list[int] = []
    for start in range(first, last, BLOCK):
        stop = min(last, start + BLOCK)
        jumps = np.abs(current[start + 1 : stop + 1] - current[start:stop])
        if jumps.size and float(jumps.max()) > threshold:
            candidates = start + 1 + np.flatnonzero(jumps > threshold)
            if len(candidates) > 20_000:
                return [Stage(kind, first, last, "mixed")]
            for candidate in candidates:
                if _lasting(current, int(candidate), first, last, threshold) and (
                    not cuts or candidate - cuts[-1] >= 3
                ):
                    cuts.append(int(candidate))
    if len(cuts) > MAX_STEPS:
        return [Stage(kind, first, last, "mixed")]
    edges = [first, *cuts, last + 1]
    return [
        Stage(kind, start, stop - 1, control_of(trace, scale, start, stop - 1))
        for start, stop in itertools.pairwise(edges)
    ]


def _lasting(current: Column, at: int, first: int, last: int, threshold: float) -> bool:
    """Whether the level before and after differ by a step that happened within about one interval."""
    if at - first < 2 or last - at < 2:
        return False
    before = current[max(first, at - 6) : at]
    after = current[at : min(last + 1, at + 6)]
    apart = float(np.median(after) - np.median(before))
    jump = float(current[at] - current[at - 1])
    level = max(abs(float(np.median(after))), abs(float(np.median(before))))
    return abs(apart) > max(threshold, 0.03 * level) and jump * apart > 0 and abs(jump) >= 0.55 * abs(apart)


PLATEAU_V = 13.6
PLATEAU_DROP_V = 0.3
"""A charge that begins flat at or above the first and then falls by the second at the same current was a heater's."""


def _plateau_apart(trace: Trace, scale: Scale, stage: Stage) -> list[Stage]:
    """Split a charge whose voltage falls from a charger's limit to the cells' level while the current goes on."""
    first, last = stage.first, stage.last
    if last - first < 10 or float(trace.voltage_V[first + 1]) < PLATEAU_V * scale.share:
        return [stage]
    level = float(np.median(trace.voltage_V[first + 1 : first + 6]))
    for start in range(first, last + 1, BLOCK):
        part = trace.voltage_V[start : min(last + 1, start + BLOCK)]
        below = np.flatnonzero(part < level - PLATEAU_DROP_V * scale.share)
        if len(below):
            at = start + int(below[0])
            held = (
                float(np.ptp(trace.voltage_V[first + 1 : at])) < max(0.1 * scale.share, 10 * scale.noise_V)
                if at - first > 3
                else False
            )
            stays = (
                at + 3 <= last and float(np.median(trace.voltage_V[at : at + 4])) < level - PLATEAU_DROP_V * scale.share
            )
            if not held or not stays:
                return [stage]
            return [
                Stage(stage.kind, first, at - 1, "current"),
                Stage(stage.kind, at, last, control_of(trace, scale, at, last)),
            ]
    return [stage]


FEW_READINGS = 5
"""Fewer of a charge do not tell apart its constant current and its constant voltage."""
FLOAT_DROP_V = 0.25
FLOAT_READINGS = 10


def _float_apart(trace: Trace, scale: Scale, stage: Stage) -> list[Stage]:
    """Split a charge where the charger steps down from its limit and goes on at a lower, steady voltage: a float."""
    first, last = stage.first, stage.last
    if last - first < 3 * FLOAT_READINGS:
        return [stage]
    stride = max(1, (last - first) // 4000)
    index = np.arange(first, last + 1, stride)
    voltage = trace.voltage_V[index]
    limit = float(np.partition(voltage, -3)[-3])
    beyond = int(np.flatnonzero(voltage >= limit - max(0.05 * scale.share, 4 * scale.noise_V))[-1]) + 1
    tail = voltage[beyond:]
    if len(tail) < FLOAT_READINGS or limit - float(np.median(tail)) < FLOAT_DROP_V * scale.share:
        return [stage]
    settled = tail[len(tail) // 2 :]
    if float(np.quantile(settled, 0.9) - np.quantile(settled, 0.1)) > max(0.1 * scale.share, 6 * scale.noise_V):
        return [stage]
    before = float(np.median(np.abs(trace.current[index[max(0, beyond - FLOAT_READINGS) : beyond]])))
    if float(np.median(np.abs(trace.current[index[beyond:]]))) > max(before, 0.1 * scale.reference_A):
        return [stage]
    cut = int(index[beyond])
    return [
        Stage(stage.kind, first, cut - 1, control_of(trace, scale, first, cut - 1)),
        Stage(stage.kind, cut, last, "voltage"),
    ]


def _constant_voltage_apart(trace: Trace, scale: Scale, stage: Stage) -> list[Stage]:
    """Split a charge where constant current turns into constant voltage (the current falls, V stays)."""
    first, last = stage.first, stage.last
    if last - first < FEW_READINGS:
        return [stage]
    stride = max(1, (last - first) // 4000)
    index = np.arange(first, last + 1, stride)
    voltage, current = trace.voltage_V[index], np.abs(trace.current[index])
    # the third highest: a short constant-voltage part must not drown in a long rise, one odd reading must not set it
    limit = float(np.partition(voltage, -3)[-3])
    slack = max(0.03 * scale.share, 4 * scale.noise_V)
    at_limit = voltage >= limit - slack
    if not at_limit[-3:].any():
        return [stage]
    below = np.flatnonzero(~at_limit)
    begin = int(below[-1]) + 1 if len(below) else 0
    if begin >= len(index) - 4:
        return [stage]
    level = float(np.median(current[max(0, begin - 10) : begin + 1])) if begin else float(current[0])
    if float(np.median(current[-3:])) > 0.85 * level:
        return [stage]
    if begin <= 2:
        return [Stage(stage.kind, first, last, "voltage")]
    cut = int(index[begin])
    return [
        Stage(stage.kind, first, cut - 1, control_of(trace, scale, first, cut - 1)),
        Stage(stage.kind, cut, last, "voltage"),
    ]


def control_of(trace: Trace, scale: Scale, first: int, last: int) -> str:
    """Which quantity was held: "current", "power", "resistance", or "mixed".

    ln I against ln V has slope 0 at constant current, -1 at constant power, +1 through a fixed resistor.
    """
    if last - first < 3:
        return "current"
    skip = 1 if last - first > 8 else 0
    stride = max(1, (last - first) // 4000)
    index = np.arange(first + skip, last + 1 - skip, stride)
    voltage, current = trace.voltage_V[index], np.abs(trace.current[index])
    usable = (voltage > 1.0) & (current > 0)
    if np.count_nonzero(usable) < 4:
        return "mixed"
    x, y = np.log(voltage[usable]), np.log(current[usable])
    step = trace.digit_A
    floor = max(2.5 * scale.noise_A, step) / float(np.median(current[usable]))
    spread = float(np.quantile(y, 0.95) - np.quantile(y, 0.05))
    steady = spread <= max(4 * floor, 0.006)
    variance = float(np.var(x))
    if variance <= 1e-12:
        return "current" if steady or spread < 0.03 else "mixed"
    slope = float(np.mean((x - x.mean()) * (y - y.mean()))) / variance
    scatter = float(np.std(y - slope * (x - x.mean())))
    if scatter > max(0.02, 3 * floor):
        return "current" if steady else "mixed"
    # rounding repeats itself from reading to reading: no more than a few dozen readings count as independent
    doubt = scatter / (np.sqrt(variance) * np.sqrt(min(len(x), 60)))
    if steady and (doubt > 0.12 or abs(slope) < 0.65):
        return "current"
    if abs(slope) < 0.3:
        return "current"
    if -1.35 < slope < -0.65:
        return "power"
    if 0.65 < slope < 1.35:
        return "resistance"
    return "mixed"


def span_of(trace: Trace, scale: Scale, stage: Stage) -> Span:
    """The stage as a span to be counted, with half the interval at either side."""
    lead, lead_doubt = _edge(trace, scale, stage.first, False)
    tail, tail_doubt = _edge(trace, scale, stage.last, True)
    return Span(stage.first, stage.last, lead, tail, lead_doubt, tail_doubt)


def gap_after(trace: Trace, scale: Scale, last: int) -> float:
    """The gap after a reading, s; 0 where the next one follows as usual, or none does."""
    if last + 1 >= len(trace):
        return 0.0
    after = float(trace.time_s[last + 1] - trace.time_s[last])
    return after if after > 1.001 * GAP_FACTOR * scale.usual_s else 0.0


def _edge(trace: Trace, scale: Scale, index: int, forward: bool) -> tuple[float, float]:
    """Half the interval beside a stage's end reading and the doubt of its switching instant, s.

    Where the same way of current flows on beyond it (only its level changed, or a gap lies between), the whole
    interval is bridged, however long, and only the change of the current is in doubt: ΔI × interval / √12 in all.
    """
    neighbour = index + 1 if forward else index - 1
    if 0 <= neighbour < len(trace):
        own, other = float(trace.current[index]), float(trace.current[neighbour])
        if own * other > 0.0 and abs(other) > scale.dead_A:
            interval = abs(float(trace.time_s[neighbour] - trace.time_s[index]))
            return interval / 2.0, interval / math.sqrt(24.0) * abs(other - own) / abs(own)
    return rest_of_interval(trace.time_s, index, forward, scale.usual_s)
