"""Which sign a log gives to a discharge."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator

import numpy as np

from wintry_tally.core.trace.repair import ABSURD
from wintry_tally.core.trace.trace import BLOCK, Column

ZERO_SHARE, AT_REST_A = 0.02, 0.1


MOST_STEPS = 250
"""So many of a block's steps are looked at, or less than twice as many."""


def _steps(
    current_A: Column, voltage_V: Column, reference: float, packs: float
) -> tuple[tuple[float, int], tuple[float, int]]:
    """Sums of how far the voltage moved with the current, times the sign of its step, and of how many steps: first of those
    that begin from nothing; then of those from one current to another of its sign, or to a larger one of the other.

    The second say less: a current that rises while another flows may be cells that take over from a heater at the
    charger's limit, and pull the voltage down in charging.

    What the voltage was about to move anyway is no answer to a step: a charge's voltage rises to its limit while its
    current begins to fall. Readings that collapse or leap by volts (a protection at work) say nothing of the sign.
    """
    moved, count = [0.0, 0.0], [0, 0]
    for start in range(0, len(current_A) - 1, BLOCK):
        current = current_A[start : start + BLOCK + 1]
        steps = np.diff(current)
        large = np.flatnonzero(np.abs(steps) > 0.1 * reference)
        idle = np.abs(current[large]) < ZERO_SHARE * reference
        enough = idle | (np.abs(steps[large]) > 0.3 * reference)
        large, idle = large[enough], idle[enough]
        ahead, behind = current[large + 1], current[large]
        risen = np.abs(ahead) > np.abs(behind) + 0.08 * reference
        less = ~risen & (np.abs(ahead) > ZERO_SHARE * reference) & (np.sign(ahead) == np.sign(behind))
        told = np.flatnonzero(risen | less)
        for place in told[:: max(1, len(told) // MOST_STEPS)]:
            index, lower = large[place], less[place]
            before, after = float(voltage_V[start + index]), float(voltage_V[start + index + 1])
            if (
                min(before, after if lower else before) > 3.0
                and abs(after - before) < 3.0 * packs
                and (lower or _own_before(current_A, voltage_V, start + int(index), reference, packs) == start + index)
            ):
                moves, step = after - before, float(steps[index])
                if index and abs(steps[index - 1]) < 0.1 * abs(step):
                    going = before - float(voltage_V[start + index - 1])
                    moves -= math.copysign(min(abs(going), abs(moves)), moves) if moves * going > 0.0 else 0.0
                moved[not idle[place]] += math.copysign(1.0, step) * moves
                count[not idle[place]] += 1
    return (moved[0], count[0]), (moved[1], count[1])


PACK_V, SAMPLED, TAKEN, THIN = 13.0, 10_000, 50_000, 16
"""A log of more blocks than THIN is looked at by a reading in many for what usually flows."""


def _packs(voltage_V: Column) -> float:
    """How many packs of 12 V in series it looks like, one at the least: what volts leap by at once goes with them."""
    seen = voltage_V[:: max(1, len(voltage_V) // SAMPLED)]
    seen = seen[np.isfinite(seen) & (np.abs(seen) < ABSURD)]
    return max(1.0, float(np.median(seen)) / PACK_V) if len(seen) else 1.0


LEAST_V, DIGITS, COARSEST_V = 0.01, 2.5, 0.1
"""Less than this, or than so many steps of the voltage's own last digit, is no move of the voltage."""


def _digit(voltage_V: Column) -> float:
    """The smallest step between readings of the voltage, V."""
    steps = np.abs(np.diff(voltage_V[: 20 * BLOCK // 64]))
    steps = steps[steps > 1e-6]
    return min(COARSEST_V, float(steps.min())) if len(steps) else 0.0


STOOD_LOOK_BACK, ZERO_MOST, LEAP_V = 100_000, 0.15, 0.4
"""A meter may be off at zero by such a share of a small current."""


def _own_before(current_A: Column, voltage_V: Column, at: int, reference: float, packs: float) -> int:
    """Where before an onset the idle voltage is the battery's own: at it, or, where a charger's stands there (it leapt up with
    no current flowing), at the last reading before that."""
    for look in (STOOD_LOOK_BACK // 1000, STOOD_LOOK_BACK):
        begin = max(0, at - look)
        live = np.flatnonzero(np.abs(current_A[begin : at + 1]) >= ZERO_MOST * reference)
        if len(live):
            begin += int(live[-1]) + 1
            break
    steps = np.diff(voltage_V[begin : at + 1])
    leaps = np.flatnonzero(steps > LEAP_V * packs)
    if len(leaps) and float(voltage_V[at]) > float(voltage_V[begin + int(leaps[-1])]) + LEAP_V * packs:
        return begin + int(leaps[-1])
    return at


LEFT_READINGS, MOST_STRETCHES, LIVE_SHARE = 4, 1000, 0.2


def _left_behind(current_A: Column, voltage_V: Column, reference: float, packs: float) -> float:
    """How far the voltage without current moved over each stretch of current, times its sign: up over a charge, down over
    a discharge, of which none leaves it higher than it was. A charger that stays on when its charge is refused does."""
    live = np.abs(current_A) >= LIVE_SHARE * reference
    edges = np.flatnonzero(np.diff(live.astype(np.int8)))
    found = 0.0
    for begin, end in list(itertools.pairwise(edges))[:MOST_STRETCHES]:
        if not live[begin + 1]:
            continue
        own = _own_before(current_A, voltage_V, int(begin), reference, packs)
        flowed = current_A[begin + 1 : end + 1]
        middle = float(np.median(flowed))
        if float(flowed.min()) * float(flowed.max()) < 0.0:
            continue
        spans = slice(max(0, own + 1 - LEFT_READINGS), own + 1), slice(end + 1, end + 1 + LEFT_READINGS)
        # a current that hovers about LIVE_SHARE has no current beside it, only less
        before, after = (voltage_V[span][np.abs(current_A[span]) < ZERO_MOST * abs(middle)] for span in spans)
        if min(before.min(initial=np.inf), after.min(initial=np.inf)) > 3.0 and len(before) and len(after):
            found += float(np.sign(middle)) * float(np.median(after) - np.median(before))
    return found


def _let_go(current_A: Column, voltage_V: Column, reference: float, packs: float) -> float:
    """How far the voltage moved where a current ended, times that current's sign: a charger that is switched off lets it
    fall. Where it rose, a load ended or a charge was refused, and this says nothing: 0."""
    live = np.abs(current_A) >= LIVE_SHARE * reference
    ends = np.flatnonzero(live[:-1] & (np.abs(current_A[1:]) < ZERO_MOST * reference))[:MOST_STRETCHES]
    moved = voltage_V[ends + 1] - voltage_V[ends]
    told = (np.minimum(voltage_V[ends], voltage_V[ends + 1]) > 3.0) & (np.abs(moved) < 3.0 * packs)
    fell = float(np.sum(moved[told]))
    return float(np.sign(np.median(current_A[ends[told]]))) * fell if fell < 0.0 else 0.0


def _sizes(current_A: Column) -> Iterator[Column]:
    """How large each sound reading is, a block at a time, each in the place of the one before: a long log's stay near the
    processor."""
    room = np.empty(min(BLOCK, len(current_A)))
    for start in range(0, len(current_A), BLOCK):
        block = current_A[start : start + BLOCK]
        sizes = np.abs(block, out=room[: len(block)])
        sound = sizes < ABSURD
        yield sizes if sound.all() else sizes[sound]


def _reference(current_A: Column) -> float:
    """What flows where something flows, A; 0 for a log in which nothing ever does."""
    largest, count = np.zeros(0), 0
    for sizes in _sizes(current_A):
        count += len(sizes)
        if len(largest) < 3 or sizes.max(initial=0.0) > largest[0]:
            both = np.concatenate((largest, sizes))
            largest = np.sort(both if len(both) <= 3 else np.partition(both, -3)[-3:])
    if not count:
        return 0.0
    # what flows stands far above a meter's zero, however short it lasted; one or two odd readings are no current
    top = float(largest[0]) if count >= 3 else float(largest[-1])
    if top < AT_REST_A:
        # a log at rest all along: what flowed in it, flowed for a reading or two
        top = float(largest[-1])
    floor = ZERO_SHARE * top
    # a long log's usual current is told by a reading in many, unless it flowed for a moment only
    if len(current_A) > THIN * BLOCK:
        thin = next(_sizes(current_A[:: len(current_A) // BLOCK][:BLOCK]))
        if np.count_nonzero(thin > floor) > BLOCK // THIN:
            return float(np.quantile(thin[thin > floor], 0.9))
    many = sum(int(np.count_nonzero(sizes > floor)) for sizes in _sizes(current_A))
    if not many:
        return top
    step, at, few = max(1, many // TAKEN), 0, []
    for sizes in _sizes(current_A):
        live = sizes[sizes > floor]
        few.append(live[-at % step :: step])
        at += len(live)
    return float(np.quantile(np.concatenate(few), 0.9))


def discharge_sign(current_A: Column, voltage_V: Column, header: str) -> str:
    """ "+" or "-": the sign of the current while the battery gives.

    Switching a current on pulls the voltage the way of its sign: down for a discharge. Where nothing is switched
    on within the log, the trend of the voltage under the current tells; at last, the header's words and the sign used.
    """
    size = len(current_A)
    reference = _reference(current_A)
    if reference == 0.0:
        return "+"
    packs = _packs(voltage_V)
    for moved, count in _steps(current_A, voltage_V, reference, packs):
        if abs(moved) > max(LEAST_V, DIGITS * _digit(voltage_V) * math.sqrt(max(1, count))):
            return "+" if moved < 0 else "-"
    left = _left_behind(current_A, voltage_V, reference, packs)
    if abs(left) > max(LEAST_V, DIGITS * _digit(voltage_V)):
        return "+" if left < 0 else "-"
    ended = _let_go(current_A, voltage_V, reference, packs)
    if abs(ended) > max(LEAST_V, DIGITS * _digit(voltage_V)):
        return "+" if ended > 0 else "-"
    thin = slice(None, None, max(1, size // 200_000))
    good = (np.abs(current_A[thin]) < ABSURD) & (np.abs(voltage_V[thin]) < ABSURD)
    current, voltage = current_A[thin][good], voltage_V[thin][good]
    if len(current) < 2:
        return "+"
    live = np.flatnonzero(np.abs(current) > LIVE_SHARE * reference)
    if len(live) > 3:
        trend = 0.0
        for sign in (1.0, -1.0):
            part = live[np.sign(current[live]) == sign]
            if len(part) > 3:
                quarter = max(1, len(part) // 4)
                change = float(np.median(voltage[part[-quarter:]]) - np.median(voltage[part[:quarter]]))
                trend += sign * change * len(part)
        if trend != 0.0:
            return "+" if trend < 0 else "-"
    if "discharge" in header.lower() or "entlade" in header.lower() or "load" in header.lower():
        return "+"
    return "+" if np.count_nonzero(current > 0) >= np.count_nonzero(current < 0) else "-"
