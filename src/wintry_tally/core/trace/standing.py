"""Readings that stand still: a meter or a line that repeats its last values while the world goes on."""

from __future__ import annotations

import math

import numpy as np

from wintry_tally.core.message import said
from wintry_tally.core.trace.remarks import Remark
from wintry_tally.core.trace.trace import Column, Trace

STRIDE = 10
LEAST = 3 * STRIDE
"""No shorter run of equal readings is looked at."""
CHANCE = 1e-6
"""A run that a living meter would show with less than this chance stood still."""
STRETCH, BESIDE = 20, 2
"""Its neighbours are looked at over twice a run's length either way, so many readings at a time: a value that lies between
two steps of the last digit stands for long, and flickers where it comes to the next."""
STRETCHES, FEWEST, DIGITS, TURNING = 4, 2, 3, 0.2
"""Fewer stretches tell nothing, but where each flickers over so many digits: then no value lies so that it would stand. Of a living meter's changes so many turn back: a value that creeps on in steps does not."""
MOST_RUNS = 5


def stood_still(trace: Trace, zero_A: float) -> list[tuple[int, int]]:
    """(first, last) readings of each run that repeats voltage and current to the last digit where its neighbours never do.

    `zero_A`: a current within it is none. The first reading of a run is the last that was taken.
    Source: common practice, no published source.
    """
    if len(trace) < 3 * LEAST:
        return []
    voltage, current = trace.voltage_V, trace.current
    sparse_V, sparse_A = voltage[::STRIDE], current[::STRIDE]
    equal = (sparse_V[1:] == sparse_V[:-1]) & (sparse_A[1:] == sparse_A[:-1])
    nothing_A = max(zero_A, 0.02 * float(np.max(np.abs(sparse_A))))
    edges = np.flatnonzero(np.diff(np.concatenate([[False], equal, [False]]).astype(np.int8)))
    starts, stops = edges[::2], edges[1::2]
    longest = np.argsort(starts - stops)[:MOST_RUNS]
    runs = [_whole_run(trace, int(starts[place]) * STRIDE, int(stops[place]) * STRIDE) for place in longest]
    runs = [(first, last) for first, last in runs if last - first + 1 >= LEAST]
    found: list[tuple[int, int]] = []
    # what stood still beside another run is no neighbour of it: the shorter ones first, and again without them
    for first, last in [*runs[::-1], *runs]:
        if (first, last) not in found and _alive_beside(trace, first, last, nothing_A, found):
            found.append((first, last))
    return sorted(found)


def _whole_run(trace: Trace, first: int, last: int) -> tuple[int, int]:
    """The run of equal readings that holds a stretch found in strides."""
    begin, end = max(0, first - STRIDE), min(len(trace), last + STRIDE + 1)
    middle = (first + last) // 2 - begin
    voltage, current = trace.voltage_V[begin:end], trace.current[begin:end]
    unlike = np.flatnonzero((voltage != voltage[middle]) | (current != current[middle]))
    before, after = unlike[unlike < middle], unlike[unlike > middle]
    return begin + (int(before[-1]) + 1 if len(before) else 0), begin + (
        int(after[0]) if len(after) else end - begin
    ) - 1


def _alive_beside(trace: Trace, first: int, last: int, nothing_A: float, found: list[tuple[int, int]]) -> bool:
    """Whether the readings beside a run, under the same current, flicker everywhere, so that the run is none of theirs.

    `found`: runs that stood still, which are not looked at.
    """
    size, level = last - first + 1, float(trace.current[first])
    sides, looked_at = [], 0
    for begin, end in ((max(0, first - BESIDE * size), first), (last + 1, min(len(trace), last + 1 + BESIDE * size))):
        alike = np.abs(trace.current[begin:end] - level) <= max(0.3 * abs(level), nothing_A)
        for still, until in found:
            alike[max(0, still - begin) : max(0, until + 1 - begin)] = False
        looked_at += int(np.count_nonzero(alike))
        sides.append((trace.voltage_V[begin:end][alike], trace.current[begin:end][alike]))
    # a voltage drifts through its digits, so that it takes as many neighbours; a held current does not
    columns = (0, 1) if looked_at >= size else (1,)
    held = (float(trace.voltage_V[first]), level)
    return any(_chance([side[place] for side in sides], held[place], size, len(trace)) < CHANCE for place in columns)


def _chance(sides: list[Column], value: float, size: int, count: int) -> float:
    """How likely a living meter of `count` readings is to show `size` times a value, by its quietest stretch beside that."""
    quietest, changed, turned, looked_at, digits = 1.0, 0, 0, 0, STRETCH
    gaps = np.diff(np.unique(np.round(np.concatenate(sides), 9)))
    digit = float(np.min(gaps)) if len(gaps) else math.inf
    for values in sides:
        moved = np.diff(values)
        stretches = [moved[at : at + STRETCH] for at in range(0, len(moved) - STRETCH + 1, STRETCH)]
        quietest = min([quietest, *(float(np.count_nonzero(one)) / STRETCH for one in stretches)])
        signs = np.sign(moved[moved != 0.0])
        looked_at += len(stretches)
        starts = range(0, len(stretches) * STRETCH, STRETCH)
        digits = min([digits, *(_digits(values[at : at + STRETCH], digit) for at in starts)])
        changed += len(signs) if stretches else 0
        turned += int(np.count_nonzero(signs[1:] != signs[:-1]))
    # at another level, a digit that flickers over two values says nothing of one that may lie between them
    here = any(bool(np.any(np.abs(values - value) < 1.5 * digit)) for values in sides)
    if digits < DIGITS and not here:
        return 1.0
    if looked_at < (FEWEST if digits >= DIGITS else STRETCHES) or changed < STRIDE or turned < TURNING * changed:
        return 1.0
    return float(count * (1.0 - quietest) ** (size - 1))


def _digits(values: Column, digit: float) -> int:
    """Over how many neighbouring digits a stretch flickers; a step of the current within it is none of that."""
    chain = longest = 1
    for gap in np.diff(np.unique(np.round(values, 9))):
        chain = chain + 1 if gap < 1.5 * digit else 1
        longest = max(longest, chain)
    return longest


def without_standing(trace: Trace, zero_A: float, leave_out: bool, remarks: list[Remark]) -> Trace:
    """Leave out what a meter merely repeated, all but the first of each run: what happened there is a gap then."""
    keep = np.ones(len(trace), dtype=np.bool_)
    for first, last in stood_still(trace, zero_A):
        rows = (trace.row_at(first), trace.row_at(last))
        lasted = float(trace.time_s[last] - trace.time_s[first])
        told = said(
            "stood-still-out" if leave_out else "stood-still", count=last - first, row=rows[0], seconds=lasted,
            volts=float(trace.voltage_V[first]), amps=float(trace.current[first]),
        )  # fmt: skip
        remarks.append(Remark("readings-stand-still", told, rows))
        keep[first + 1 : last + 1] = False
    if not leave_out or bool(np.all(keep)):
        return trace
    return trace.taking(keep)
