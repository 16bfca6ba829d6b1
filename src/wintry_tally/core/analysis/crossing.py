"""Where a voltage under load first falls through a threshold, between readings."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from wintry_tally.core.analysis.counting import Instrument
from wintry_tally.core.analysis.stages import Scale, Stage
from wintry_tally.core.trace.trace import BLOCK, Trace


@dataclass(frozen=True)
class Crossing:
    """A threshold crossed `tail_s` after reading `last` (the last one above), at the current and the voltage there.

    `doubt_s`: of the instant between two readings; `mark_doubt_s`: by the voltmeter's error at the threshold.
    """

    last: int
    tail_s: float
    current_A: float
    voltage_V: float
    doubt_s: float
    mark_doubt_s: float = 0.0


def find_crossing(
    trace: Trace, scale: Scale, stages: list[Stage], threshold_V: float, instrument: Instrument
) -> tuple[int, Crossing] | None:
    """The stage (by position in `stages`) and the crossing within it; None when it is never reached.

    Where the voltage falls slower than its noise from reading to reading, a mean of five readings is what
    crosses. The doubt of the instant: where the curve lies at the threshold and twice the meter's error there (and the
    noise) above and below; a curve is flat on one side of its knee and steep on the other, and the wider side counts.
    """
    for position, stage in enumerate(stages):
        index = _first_below(trace, scale, stage, threshold_V)
        if index is None:
            continue
        found = _at(trace, stage, index, threshold_V)
        if index <= stage.first:
            return position, found
        error = _error(trace, scale, threshold_V, instrument)
        under_load = _load_time(trace, stages, position, index)
        sooner, later = (_reached(trace, scale, stages, threshold_V + side * error) for side in (2.0, -2.0))
        wide = max(under_load - sooner, later - under_load) / 2.0
        return position, replace(found, mark_doubt_s=wide)
    return None


def _error(trace: Trace, scale: Scale, threshold_V: float, instrument: Instrument) -> float:
    """The standard uncertainty of a voltage near the threshold, V."""
    step = trace.digit_V
    error = math.hypot(scale.noise_V, step / math.sqrt(12.0))
    if instrument.voltage is None:
        return error
    return math.hypot(error, instrument.voltage.gain_standard() * threshold_V, instrument.voltage.offset_standard(step))


def _load_time(trace: Trace, stages: list[Stage], position: int, index: int) -> float:
    """Seconds under load up to a reading of the stage at `position`."""
    before = math.fsum(float(trace.time_s[stage.last] - trace.time_s[stage.first]) for stage in stages[:position])
    return before + float(trace.time_s[index] - trace.time_s[stages[position].first])


def _reached(trace: Trace, scale: Scale, stages: list[Stage], threshold_V: float) -> float:
    """Seconds under load until a voltage is first reached; all of them where it never is."""
    for position, stage in enumerate(stages):
        index = _first_below(trace, scale, stage, threshold_V)
        if index is not None:
            return _load_time(trace, stages, position, index)
    return _load_time(trace, stages, len(stages) - 1, stages[-1].last)


def _first_below(trace: Trace, scale: Scale, stage: Stage, threshold_V: float) -> int | None:
    voltage = trace.voltage_V
    for start in range(stage.first, stage.last + 1, BLOCK):
        stop = min(stage.last + 1, start + BLOCK)
        block = voltage[start:stop]
        if float(block.min()) > threshold_V:
            continue
        below = start + np.flatnonzero(block <= threshold_V)
        first = int(below[0])
        if _steep(trace, scale, stage, first):
            return first
        low, high = max(stage.first, start - 2), min(stage.last + 1, stop + 2)
        window = voltage[low:high]
        if len(window) < 5:
            return first
        smooth = np.convolve(window, np.full(5, 0.2), mode="valid")
        smooth_below = low + 2 + np.flatnonzero(smooth <= threshold_V)
        if len(smooth_below) and smooth_below[0] == stage.first + 2:
            return first  # it lay below from the beginning
        if len(smooth_below):
            return int(smooth_below[0])
        if (
            high == stage.last + 1
            and float(np.mean(voltage[max(stage.first, stage.last - 1) : stage.last + 1])) <= threshold_V
        ):
            return stage.last
    return None


def _steep(trace: Trace, scale: Scale, stage: Stage, index: int) -> bool:
    low, high = max(stage.first, index - 3), min(stage.last, index + 3)
    if high - low < 2:
        return True
    fall = float(trace.voltage_V[low] - trace.voltage_V[high]) / (high - low)
    return fall > 3.0 * scale.noise_V or scale.noise_V == 0.0


def _at(trace: Trace, stage: Stage, index: int, threshold_V: float) -> Crossing:
    if index <= stage.first:
        return Crossing(stage.first, 0.0, float(trace.current[stage.first]), float(trace.voltage_V[stage.first]), 0.0)
    before, interval = index - 1, float(trace.time_s[index] - trace.time_s[index - 1])
    upper, lower = float(trace.voltage_V[before]), float(trace.voltage_V[index])
    fraction = (
        (upper - threshold_V) / (upper - lower)
        if upper > threshold_V > lower
        else (1.0 if lower == threshold_V else 0.5)
    )
    fraction = min(1.0, max(0.0, fraction))
    current = float(trace.current[before]) + fraction * float(trace.current[index] - trace.current[before])
    interpolation = interval / math.sqrt(12.0) * 0.25  # a straight line across a curved knee
    return Crossing(before, fraction * interval, current, upper + fraction * (lower - upper), interpolation)
