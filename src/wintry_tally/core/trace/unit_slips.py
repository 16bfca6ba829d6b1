"""Stretches of a log in another unit: milliamperes or centiamperes among amperes, millivolts among volts.

A current is such a slip only where it stands near a factor from what the same load draws elsewhere in the log, and
where the voltage or the rating contradicts it: a pack that gave so much more would have to have next to no resistance,
or would have given several times what it holds.
Common practice, no published source.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any

import numpy as np

from wintry_tally.core.trace.trace import BLOCK, Column, Trace, noise_of

FACTORS = {1000.0: "mA", 100.0: "cA"}
NEAR = 1.6
"""A level within so many times the factor from another is near it: loads wander, chargers taper."""
JUMP = 5.0
LEAST_SHOWN = 20.0
LEAST_READINGS = 3
FINE, LEAST_FLICKER = 0.002, 20
"""A meter that shows at least so fine, A; so many readings of its flicker on either side."""
LEAST_OHM = 0.0002
"""No pack of any size has less than this between its terminals, Ω."""
SURELY_A = 1000.0
"""No log of one pack goes on for long at so many amperes."""
LIKELY_A = 200.0
MOST_SEGMENTS = 5000
PLAIN_V = 150.0
MOST_OF_RATED = 3.0
"""No stretch of current carries so many times the rating."""
MOST_C = 50.0
"""No pack gives or takes so many times its rating, not even for a starter's second."""


@dataclass(frozen=True)
class UnitSlip:
    """A stretch: readings first to last of the current or the voltage, by which factor they are too large.

    `alone`: no other stretch of the log shows what the load truly draws.
    """

    column: str
    first: int
    last: int
    factor: float
    level: float
    alone: bool = False


def unit_slips(trace: Trace, zero_A: float = 0.0, rated_Ah: float | None = None) -> list[UnitSlip]:
    """Every stretch that looks like another unit. Below `zero_A` a reading is no current, and no reference either."""
    found = _of_voltage(trace)
    milli = any(slip.last - slip.first > 0.9 * len(trace) for slip in found)
    current = _whole(trace, _of_current(trace, zero_A, 0.001 if milli else 1.0, rated_Ah))
    return found + (current or _of_digits(trace))


def _whole(trace: Trace, slips: list[UnitSlip]) -> list[UnitSlip]:
    """One slip over the whole log, where its currents are printed that coarsely: then its rests are in that unit too."""
    if not slips or not all(slip.alone for slip in slips) or not _coarse(trace):
        return slips
    return [UnitSlip("current", 0, len(trace) - 1, slips[0].factor, max(slip.level for slip in slips), True)]


def _coarse(trace: Trace) -> bool:
    """Whether the currents are printed in whole amperes: a log in mA, as it seems, whatever its heading says."""
    return trace.digit_A > 0.5


def _of_digits(trace: Trace) -> list[UnitSlip]:
    """From somewhere on, a flicker over whole numbers where the flicker before was over thousandths: a meter's zero in mA."""
    if trace.digit_A > FINE:
        return []
    if len(_odd(trace.current[-LEAST_FLICKER:])):
        return []  # nor is the whole of a long log looked through for it
    amps = np.abs(trace.current)
    odd = _odd(amps)
    after = int(odd[-1]) + 1 if len(odd) else 0
    behind = amps[after:]
    if min(after, len(behind)) < LEAST_FLICKER or len(odd) < 0.5 * after or float(np.max(behind)) >= LEAST_SHOWN:
        return []
    if len(np.unique(behind)) < LEAST_READINGS or float(np.mean(np.diff(behind) != 0.0)) < 0.2:
        return []
    return [UnitSlip("current", after, len(trace) - 1, 1000.0, float(np.max(behind)))]


def _odd(amps: Column) -> Any:
    """Where a current is no whole number."""
    return np.flatnonzero(np.abs(amps - np.round(amps)) > 1e-9)


def _largest(values: Column) -> float:
    """The largest amount in a column, missing readings passed over, nothing copied; read once, a block at a time."""
    found = 0.0
    for start in range(0, len(values), BLOCK):
        part = values[start : start + BLOCK]
        found = max(found, float(np.fmax.reduce(part)), -float(np.fmin.reduce(part)))
    return found


def _of_voltage(trace: Trace) -> list[UnitSlip]:
    if _largest(trace.voltage_V) <= PLAIN_V:
        return []
    high = np.abs(trace.voltage_V) > PLAIN_V
    usual = trace.voltage_V[~high & (np.abs(trace.voltage_V) > 1.0)]
    level = float(np.median(usual)) if len(usual) else 12.0
    slips = []
    for first, last in _stretches(high):
        shown = float(np.median(np.abs(trace.voltage_V[first : last + 1])))
        if last - first + 1 >= LEAST_READINGS and 1.0 / NEAR <= shown / level / 1000.0 <= NEAR * 4.0:
            slips.append(UnitSlip("voltage", first, last, 1000.0, shown))
    return slips


def _of_current(trace: Trace, zero_A: float, volts: float, rated_Ah: float | None) -> list[UnitSlip]:
    if _largest(trace.current) < LEAST_SHOWN:
        return []
    amps = np.abs(trace.current)
    segments = _segments(amps, max(zero_A, 1e-9))
    levels = [float(np.median(amps[first : last + 1 : max(1, (last - first) // 20_000)])) for first, last in segments]
    slips = []
    for (first, last), level in zip(segments, levels, strict=True):
        if last - first + 1 < LEAST_READINGS or level < LEAST_SHOWN:
            continue
        hours = float(trace.time_s[last] - trace.time_s[first]) / 3600.0
        too_much = rated_Ah is not None and level > rated_Ah * min(MOST_C, MOST_OF_RATED / max(hours, 1e-9))
        absurd = True if too_much else _contradicted(trace, amps, first, last, volts)
        others = [other for other in levels if other < level / JUMP]
        factor = next((f for f in FACTORS if any(f / NEAR <= level / other <= f * NEAR for other in others)), 0.0)
        if factor and absurd:
            slips.append(UnitSlip("current", first, last, factor, level))
        elif not factor and (
            (level >= LIKELY_A and absurd and (not others or too_much or _coarse(trace)))
            or (level > SURELY_A and absurd is None and not others)
        ):
            # no load elsewhere to hold it against: what else flows may be the meter's zero, in the same unit
            slips.append(UnitSlip("current", first, last, 1000.0, level, True))
    return _joined(slips)


def _segments(amps: Column, zero_A: float) -> list[tuple[int, int]]:
    """Stretches of flowing current without a jump by more than a few times within, first and last reading."""
    live = amps > zero_A
    with np.errstate(divide="ignore", invalid="ignore"):
        apart = np.abs(np.log(amps[1:]) - np.log(amps[:-1])) > np.log(JUMP)
    cuts = np.flatnonzero((live[1:] != live[:-1]) | (live[1:] & live[:-1] & apart)) + 1
    if len(cuts) > MOST_SEGMENTS:
        return []  # a current that jumps all the time is a load that pulses
    edges = [0, *cuts.tolist(), len(amps)]
    return [(first, stop - 1) for first, stop in itertools.pairwise(edges) if live[first]]


def _contradicted(trace: Trace, amps: Column, first: int, last: int, volts: float) -> bool | None:
    """Whether the voltage stands still where the current steps by that much; None where no step is to be seen."""
    digit, noise = trace.digit_V, 4.0 * noise_of(trace.voltage_V)
    ohms = []
    for inside, way, outside in ((first, 1, first - 1), (last, -1, last + 1)):
        if 0 <= outside < len(amps):
            # volts and amperes of a row may be read one after the other: the next rows count too
            near = [min(max(inside + way * n, first), last) for n in range(LEAST_READINGS)]
            step_V = max(abs(float(trace.voltage_V[at] - trace.voltage_V[outside])) for at in near)
            ohms.append(volts * (max(0.0, step_V - noise) + digit) / max(1e-9, float(amps[inside] - amps[outside])))
    return min(ohms) < LEAST_OHM if ohms else None


def _stretches(mask: np.ndarray) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
    return [(int(first), int(stop) - 1) for first, stop in zip(edges[::2], edges[1::2], strict=True)]


def _joined(slips: list[UnitSlip]) -> list[UnitSlip]:
    """Stretches of one factor that touch, as one."""
    found: list[UnitSlip] = []
    for slip in slips:
        if found and found[-1].factor == slip.factor and slip.first <= found[-1].last + 1:
            before = found[-1]
            level, alone = max(slip.level, before.level), slip.alone and before.alone
            found[-1] = UnitSlip(slip.column, before.first, slip.last, slip.factor, level, alone)
        else:
            found.append(slip)
    return found
