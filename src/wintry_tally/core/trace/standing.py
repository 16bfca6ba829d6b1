"""Readings that stand still: a meter or a line that repeats its last values while the world goes on."""

from __future__ import annotations

import numpy as np

from wintry_tally.core.trace.remarks import Remark
from wintry_tally.core.trace.trace import Trace

STRIDE = 10
LEAST = 3 * STRIDE
"""No shorter run of equal readings is looked at."""
CHANCE = 1e-6
"""A run that a living meter would show with less than this chance stood still."""
LIVELY, TURNING = 0.8, 0.2
"""A living meter: at most the first share of its neighbouring readings equal the one before, and of its changes at least
the second turn back (a last digit that flickers); a value that merely creeps on in steps tells nothing."""
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
    found: list[tuple[int, int]] = []
    for place in np.argsort(starts - stops)[:MOST_RUNS]:
        first, last = _whole_run(trace, int(starts[place]) * STRIDE, int(stops[place]) * STRIDE)
        if last - first + 1 >= LEAST and _alive_beside(trace, first, last, nothing_A):
            found.append((first, last))
    return sorted(found)


def _whole_run(trace: Trace, first: int, last: int) -> tuple[int, int]:
    """The run of equal readings that holds most of a stretch."""
    voltage, current = trace.voltage_V, trace.current
    middle = (first + last) // 2
    same = (voltage == voltage[middle]) & (current == current[middle])
    unlike = np.flatnonzero(~same)
    before, after = unlike[unlike < middle], unlike[unlike > middle]
    return int(before[-1]) + 1 if len(before) else 0, int(after[0]) - 1 if len(after) else len(same) - 1


def _alive_beside(trace: Trace, first: int, last: int, nothing_A: float) -> bool:
    """Whether the readings beside a run, under the same current, flicker so that the run is none of theirs."""
    size, level = last - first + 1, float(trace.current[first])
    changed = turned = steps = 0
    for part in (slice(max(0, first - size), first), slice(last + 1, last + 1 + size)):
        alike = np.abs(trace.current[part] - level) <= max(0.3 * abs(level), nothing_A)
        if np.count_nonzero(alike) < STRIDE:
            continue
        moves = [np.diff(column[part][alike]) for column in (trace.voltage_V, trace.current)]
        steps += len(moves[0])
        changed += int(np.count_nonzero((moves[0] != 0.0) | (moves[1] != 0.0)))
        signs = [np.sign(moved[moved != 0.0]) for moved in moves]
        turned += max(int(np.count_nonzero(one[1:] != one[:-1])) for one in signs)
    if steps < LEAST // 2 or changed < STRIDE or turned < TURNING * changed:
        return False
    share = 1.0 - changed / steps
    return share <= LIVELY and len(trace) * share ** (size - 1) < CHANCE if share > 0.0 else True


def without_standing(trace: Trace, zero_A: float, leave_out: bool, remarks: list[Remark]) -> Trace:
    """Leave out what a meter merely repeated, all but the first of each run: what happened there is a gap then."""
    keep = np.ones(len(trace), dtype=np.bool_)
    for first, last in stood_still(trace, zero_A):
        rows = (trace.row_at(first), trace.row_at(last))
        lasted = float(trace.time_s[last] - trace.time_s[first])
        told = (
            f"{last - first} rows after row {rows[0]} ({lasted:.0f} s) repeat {trace.voltage_V[first]:.4g} V and "
            f"{trace.current[first]:.4g} A to the last digit, as their neighbours never do: the meter stood still"
        )
        remarks.append(Remark("readings-stand-still", f"{told}{'; left out.' if leave_out else '.'}", rows))
        keep[first + 1 : last + 1] = False
    if not leave_out or bool(np.all(keep)):
        return trace
    return trace.taking(keep)
