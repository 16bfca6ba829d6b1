"""What current a battery held, and for how long: the hold and the surge test."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.analysis.counting import Instrument
from wintry_tally.core.analysis.ending import PROTECTION
from wintry_tally.core.analysis.readings import current_quantity
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind, span_of
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace.trace import Trace

STEADY = 0.9
"""A current whose lowest stretch lies below this share of its mean was not held, only reached on average."""


@dataclass(frozen=True)
class Held:
    """The best stretch under load for a wanted time.

    Parts:
        current: its mean, A; lowest_A: the lowest of its readings, smoothed.
        wanted_s, lasted_s: the time wanted, and what the stretch lasted.
        begins_s: where it begins; start_V, end_V: under load; rested_V: just before the load came on, or None.
        opened: whether the protection ended the discharge it belongs to before the wanted time was over.
    """

    current: Quantity
    lowest_A: float
    wanted_s: float
    lasted_s: float
    begins_s: float
    start_V: float
    end_V: float
    rested_V: float | None
    opened: bool

    @property
    def complete(self) -> bool:
        """Whether it lasted as long as wanted."""
        return self.lasted_s >= self.wanted_s

    @property
    def steady(self) -> bool:
        """Whether the current stayed near its mean."""
        return self.lowest_A >= STEADY * self.current.value

    @property
    def sag_V(self) -> float | None:
        """From the rested voltage to the end under load."""
        return None if self.rested_V is None else self.rested_V - self.end_V


def held_for(
    trace: Trace, scale: Scale, stages: list[Stage], endings: list[str | None], instrument: Instrument, wanted_s: float
) -> Held | None:
    """The stretch with the highest mean current over the wanted time; the heaviest shorter one when none is so long.

    None when nothing was discharged. Source: common practice, no published source.
    """
    long: list[Held] = []
    short: list[Held] = []
    for first, last in _runs(stages):
        begin, end = stages[first], stages[last]
        lead, tail = span_of(trace, scale, begin).lead_s, span_of(trace, scale, end).tail_s
        lasted = float(trace.time_s[end.last] - trace.time_s[begin.first]) + lead + tail
        opened = endings[last] == PROTECTION
        # two switching instants, each known to half an interval
        if lasted >= wanted_s - scale.usual_s:
            long.append(_best_window(trace, scale, begin.first, end.last, instrument, wanted_s, lasted))
        if lasted < wanted_s - scale.usual_s or opened:
            heaviest = max(stages[first : last + 1], key=lambda stage: _mean(trace, stage.first, stage.last))
            if opened:
                heaviest = end
            short.append(_whole(trace, scale, heaviest, instrument, wanted_s, opened))
    broken = [held for held in short if held.opened and held.lasted_s < wanted_s]
    if long:
        best = max(long, key=lambda held: held.current.value)
        # a stretch that opened at no more current than was held elsewhere is the finding
        worse = [held for held in broken if held.current.value <= best.current.value]
        return worse[0] if worse else best
    return max(short, key=lambda held: held.current.value) if short else None


def _runs(stages: list[Stage]) -> list[tuple[int, int]]:
    runs: list[tuple[int, int]] = []
    for position, stage in enumerate(stages):
        if stage.kind != StageKind.DISCHARGE:
            continue
        if runs and runs[-1][1] == position - 1:
            runs[-1] = (runs[-1][0], position)
        else:
            runs.append((position, position))
    return runs


def _mean(trace: Trace, first: int, last: int) -> float:
    if last == first:
        return float(trace.current[first])
    time = trace.time_s[first : last + 1]
    return float(np.trapezoid(trace.current[first : last + 1], time) / (time[-1] - time[0]))


def _best_window(
    trace: Trace, scale: Scale, first: int, last: int, instrument: Instrument, wanted_s: float, lasted_s: float
) -> Held:
    time, current = trace.time_s[first : last + 1], trace.current[first : last + 1]
    span = float(time[-1] - time[0])
    if span <= wanted_s or len(time) < 3:
        return _held(trace, scale, first, last, instrument, wanted_s, max(wanted_s, lasted_s), False)
    drawn = np.concatenate([[0.0], np.cumsum(0.5 * np.diff(time) * (current[1:] + current[:-1]))])
    starts = time[time <= time[-1] - wanted_s]
    means = (np.interp(starts + wanted_s, time, drawn) - drawn[: len(starts)]) / wanted_s
    at = int(np.argmax(means))
    stop = int(np.searchsorted(time, starts[at] + wanted_s, side="right")) - 1
    return _held(trace, scale, first + at, first + max(at + 1, stop), instrument, wanted_s, lasted_s, False)


def _whole(trace: Trace, scale: Scale, stage: Stage, instrument: Instrument, wanted_s: float, opened: bool) -> Held:
    span = span_of(trace, scale, stage)
    lasted = float(trace.time_s[stage.last] - trace.time_s[stage.first]) + span.lead_s + span.tail_s
    return _held(trace, scale, stage.first, stage.last, instrument, wanted_s, lasted, opened)


def _held(
    trace: Trace,
    scale: Scale,
    first: int,
    last: int,
    instrument: Instrument,
    wanted_s: float,
    lasted_s: float,
    opened: bool,
) -> Held:
    current = trace.current[first : last + 1]
    # the first and the last reading may hold part of a switching
    inner = current[1:-1] if len(current) > 4 else current
    smooth = np.convolve(inner, np.full(3, 1 / 3), mode="valid") if len(inner) >= 3 else inner
    mean = _mean(trace, first + 1, last - 1) if len(current) > 4 else float(np.median(current))
    quantity = current_quantity(trace, instrument, mean, scale.noise_A / math.sqrt(len(current)))
    before = first - 1
    rested = (
        float(trace.voltage_V[before]) if before >= 0 and abs(float(trace.current[before])) <= scale.dead_A else None
    )
    return Held(
        quantity,
        float(np.min(smooth)),
        wanted_s,
        lasted_s,
        float(trace.time_s[first]),
        float(trace.voltage_V[first]),
        float(trace.voltage_V[last]),
        rested,
        opened,
    )


def best_charge_current(
    trace: Trace, scale: Scale, stages: list[Stage], instrument: Instrument, window_s: float = 60.0
) -> tuple[Quantity, bool] | None:
    """The highest mean current into the battery over a minute, and whether it was held at constant current.

    None without a charge. At a steady voltage limit the battery decides what flows; below it the charger does.
    """
    best: tuple[float, Stage] | None = None
    for stage in stages:
        if stage.kind != StageKind.CHARGE or stage.last <= stage.first:
            continue
        time, current = trace.time_s[stage.first : stage.last + 1], -trace.current[stage.first : stage.last + 1]
        drawn = np.concatenate([[0.0], np.cumsum(0.5 * np.diff(time) * (current[1:] + current[:-1]))])
        length = min(window_s, float(time[-1] - time[0]))
        starts = time[time <= time[-1] - length]
        mean = float(np.max((np.interp(starts + length, time, drawn) - drawn[: len(starts)]) / length))
        if best is None or mean > best[0]:
            best = (mean, stage)
    if best is None:
        return None
    quantity = current_quantity(trace, instrument, best[0], scale.noise_A / math.sqrt(10.0))
    return quantity, best[1].control != "voltage"
