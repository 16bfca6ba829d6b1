"""The instrument's own counter against the integrated current."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.analysis.counting import HOUR, Count, Integral
from wintry_tally.core.message import said
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.trace import Column, Trace


@dataclass(frozen=True)
class CounterReading:
    """What a counter moved over a stretch, in Ah (or Wh), resets joined; with its resolution's doubt."""

    moved: Quantity
    start: float
    resets: tuple[int, ...]


@dataclass(frozen=True)
class Counters:
    """What the instrument's own counters moved over the capacity test; None where the log has none."""

    charge: CounterReading | None = None
    energy: CounterReading | None = None


def counters_of(trace: Trace, first: int, last: int) -> Counters:
    """The counters over a discharge, from the reading before it."""
    begin = max(0, first - 1)
    charge = energy = None
    if trace.counter_Ah is not None:
        charge = read_counter(trace.counter_Ah, begin, last, "Ah", trace.digit("counter_Ah"))
    if trace.counter_Wh is not None:
        energy = read_counter(trace.counter_Wh, begin, last, "Wh", trace.digit("counter_Wh"))
    return Counters(charge, energy)


def read_counter(values: Column, first: int, last: int, unit: str, resolution: float) -> CounterReading:
    """How far a counter moved, running up, or down from a preset (preset to 120, reading 18.1: 101.9 drawn).

    A jump against its run, or far larger than its usual step, is a reset: the count goes on from there.
    """
    part = values[first : last + 1]
    part = part[np.isfinite(part)]
    if len(part) < 2:
        return CounterReading(Quantity(0.0, None, unit), math.nan, ())
    steps = np.diff(part)
    moving = steps[steps != 0.0]
    if len(moving) == 0:
        return CounterReading(Quantity(0.0, resolution / math.sqrt(6.0), unit), float(part[0]), ())
    down = np.count_nonzero(moving < 0) > np.count_nonzero(moving > 0)
    run = -steps if down else steps
    largest = 50.0 * float(np.median(np.abs(moving)))
    resets = np.flatnonzero(
        (run < -1.5 * resolution) & (np.abs(run) > 3 * np.median(np.abs(moving)))
        | (run > max(largest, 20 * resolution))
    )
    total = float(np.sum(run)) - float(np.sum(run[resets]))
    return CounterReading(
        Quantity(total, resolution / math.sqrt(6.0), unit), float(part[0]), tuple(int(first + i + 1) for i in resets)
    )


def counter_remarks(trace: Trace, integral: Integral, first: int, last: int, counted: Count) -> list[Remark]:
    """Not zero at the start, reset in mid-run, or apart from the integral beyond both doubts."""
    if trace.counter_Ah is None:
        return []
    resolution = trace.digit("counter_Ah")
    begin = max(0, first - 1)
    reading = read_counter(trace.counter_Ah, begin, last, "Ah", resolution)
    remarks = []
    if not math.isfinite(reading.start):
        return []
    moved = reading.moved.value
    if abs(reading.start) > max(2 * resolution, 0.005 * max(moved, 0.0)) and not _runs_down(
        trace.counter_Ah, begin, last
    ):
        told, offer = (
            said("counter-begins", start=reading.start, moved=moved),
            said("offer-counter", start=reading.start),
        )
        remarks.append(Remark("counter-not-zero", told, (trace.row_at(begin), trace.row_at(begin)), offer))
    for index in reading.resets[:5]:
        row, (before, after) = trace.row_at(index), (float(trace.counter_Ah[at]) for at in (index - 1, index))
        remarks.append(Remark("counter-reset", said("counter-jumps", before=before, after=after, row=row), (row, row)))
    within = integral.between(begin, last)[0] / HOUR
    charge = counted.charge
    own = charge.standard or math.hypot(0.01 * charge.value, counted.recorded_Ah)
    doubt = math.hypot(2 * own, 2 * (reading.moved.standard or 0.0))
    if abs(moved - within) > max(doubt, 2 * resolution, 0.005 * abs(within)):
        share = 100 * (moved - within) / within if within else math.inf
        told = said("counter-apart", moved=moved, within=within, share=share, limit=doubt)
        remarks.append(Remark("counter-disagrees", told, (trace.row_at(begin), trace.row_at(last))))
    return remarks


def _runs_down(values: Column, first: int, last: int) -> bool:
    steps = np.diff(values[first : last + 1])
    return bool(np.count_nonzero(steps < 0) > np.count_nonzero(steps > 0))
