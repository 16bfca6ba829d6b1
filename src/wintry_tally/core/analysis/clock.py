"""A clock in another unit: minutes taken for seconds, seconds for minutes. Seen where charge and rating are worlds apart.

A heading that names no unit is taken for seconds, "5:10" for hours and minutes. Neither can be known: what the log then
says of charge is held against the rating, and a wrong clock is offered to be mended, never mended unasked.
Common practice, no published source.
"""

from __future__ import annotations

import numpy as np

from wintry_tally.core.analysis.beginning import MOST_SAG
from wintry_tally.core.analysis.capacity import CapacityTest
from wintry_tally.core.analysis.charging import ChargeResult
from wintry_tally.core.analysis.counting import Count
from wintry_tally.core.analysis.ending import PROTECTION, SET_CUTOFF
from wintry_tally.core.battery.families import Family, charge_state_band
from wintry_tally.core.message import Message, said
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.trace import Trace
from wintry_tally.core.trace.unit_slips import MOST_OF_RATED

TOO_LONG = (1.0 / 60.0, 1.0 / 1000.0, 1.0 / 3600.0)
TOO_SHORT = (60.0, 3600.0, 86400.0)
"""What a clock's times may have to be multiplied by."""
UNITS = {60.0: "minutes", 3600.0: "hours", 86400.0: "days"}
PLAUSIBLE = (0.25, 1.4)
"""Shares of its rating that a battery emptied in one go may well give."""
HELD_LITTLE = 30.0
"""Percent of charge at the most, by a family's charts, of a battery that cannot have given its rating."""
MOST_C = 1.2
"""A discharge above this rate that ends soon has told of its protection, not of its capacity."""
USUAL_S = {
    60.0: (1.0, 2.0, 5.0, 10.0, 20.0),
    3600.0: (1.0, 2.0, 5.0, 10.0, 15.0, 20.0, 30.0),
    86400.0: (1.0, 2.0, 5.0, 10.0, 15.0, 20.0, 30.0, 60.0),
}
"""Intervals that loggers are set to which no logger has as a decimal of the unit that a clock may be in. A minute of hours
looks like a second of minutes: the shorter is taken."""
NEAR = 0.002
LEAST_ROWS, ODD_SHARE, LEAST_S = 10, 0.2, 0.9
"""So many readings at the least, so many of them off the grid of a twentieth of a second, and in the unit so far apart,
before digits tell it."""
MOST = 10_000


def clock_remark(
    trace: Trace,
    test: CapacityTest | None,
    charge: ChargeResult | None,
    rated_Ah: float | None,
    family: Family | None,
    before: list[Remark],
) -> tuple[Remark | None, float]:
    """What makes the clock look like another unit, and what its times would be multiplied by (0 where nothing would do).

    `before`: what was remarked already; a current in another unit explains as much, and comes first.
    """
    if any(remark.code == "unit-suspect" for remark in before):
        return None, 0.0
    moved = max(0.0 if test is None else test.count.charge.value, 0.0 if charge is None else charge.count.charge.value)
    if rated_Ah and moved > MOST_OF_RATED * rated_Ah:
        return _too_long(moved, rated_Ah)
    if "time" not in trace.unnamed:
        return None, 0.0
    whole = test is not None and _emptied(trace, test, family) and not _begun_empty(trace, test.count, family)
    whole = whole or (
        charge is not None and charge.time_to_full_s is not None and _begun_empty(trace, charge.count, family)
    )
    if rated_Ah and whole and moved < PLAUSIBLE[0] * rated_Ah:
        factor = next((f for f in TOO_SHORT if _plausible(moved * f / rated_Ah)), 0.0)
        if factor:
            return _unnamed(said("far-from-rating", charge_Ah=moved, unit=UNITS[factor]), factor), factor
    # only a battery that was emptied bears a clock out: into one that stood on a shelf anything may go
    if "clock" in trace.unnamed and not (rated_Ah and whole and _plausible(moved / rated_Ah)):
        return _unnamed(said("perhaps-minutes"), 1.0 / 60.0), 1.0 / 60.0
    interval = _interval(trace)
    factor = next((f for f in USUAL_S if any(abs(f * interval - s) <= NEAR * s for s in USUAL_S[f])), 0.0)
    if factor and not (rated_Ah and moved * factor > PLAUSIBLE[1] * rated_Ah):
        why = said("interval-in-unit", interval=interval, seconds=factor * interval, unit=UNITS[factor])
        return _unnamed(why, factor), factor
    if (factor := _by_digits(trace)) and not (rated_Ah and moved * factor > PLAUSIBLE[1] * rated_Ah):
        return _unnamed(said("odd-parts", unit=UNITS[factor]), factor), factor
    return None, 0.0


def _too_long(moved: float, rated_Ah: float) -> tuple[Remark, float]:
    told = said("moved-beyond-rating", charge_Ah=moved, times=moved / rated_Ah)
    factor = next((f for f in TOO_LONG if _plausible(moved * f / rated_Ah)), 0.0)
    if factor:
        return _suspect(said("times-too-long", moved=told, times=1 / factor), factor), factor
    return Remark("more-than-possible", said("rating-or-unit", moved=told)), 0.0


def _emptied(trace: Trace, test: CapacityTest, family: Family | None) -> bool:
    """Whether it ended for want of charge: by its cause, or at volts where hardly any can have been left in it."""
    if (test.c_rate or 0.0) > MOST_C:
        return False
    if test.ended_by in {PROTECTION, SET_CUTOFF}:
        return True
    if family is None or test.c_rate is None:
        return False
    last = float(trace.voltage_V[test.count.spans[-1].last])
    rested = last + MOST_SAG * family.build.ohm_Ah * test.c_rate * family.share
    return last > family.cutoff_floor_V and charge_state_band(family, rested)[1] <= HELD_LITTLE


def _begun_empty(trace: Trace, counted: Count, family: Family | None) -> bool:
    """Whether the battery rested before it at a voltage where it cannot have held much: then little is what it gives, and
    much goes into it until it is full."""
    first = counted.spans[0].first if counted.spans else 0
    volts = float(trace.voltage_V[first - 1]) if first else float("nan")
    if family is None or not volts > family.cutoff_floor_V:
        return False
    return charge_state_band(family, volts)[1] <= HELD_LITTLE


def _plausible(share: float) -> bool:
    return PLAUSIBLE[0] <= share <= PLAUSIBLE[1]


def _unnamed(why: Message, factor: float) -> Remark:
    return _suspect(said("times-unnamed", why=why), factor)


def _suspect(told: Message, factor: float) -> Remark:
    by = said("offer-times", times=factor) if factor >= 1.0 else said("offer-times-part", part=round(1.0 / factor))
    return Remark("unit-suspect", told, None, by)


def _by_digits(trace: Trace) -> float:
    """What makes every time a whole quarter of a second, where as seconds many lie on no such grid; 0 where nothing does.

    Seconds written in minutes have thirds and sixths in them (0.06667, 116.16667), which no clock that counts seconds has.
    """
    times = trace.time_s[:MOST] + trace.begins_s
    decimals = next((d for d in range(7) if np.all(np.abs(times - np.round(times, d)) < 1e-9)), 7)
    if len(times) < LEAST_ROWS or decimals > 6:
        return 0.0
    last = 0.5 * 10.0**-decimals
    if np.mean(np.abs(20.0 * times - np.round(20.0 * times)) > 20.0 * 2.0 * last) < ODD_SHARE:
        return 0.0
    for factor in UNITS:
        fine = 4.0 * factor
        even = np.abs(fine * times - np.round(fine * times)) <= fine * last + 1e-6
        if fine * last < 0.2 and bool(np.all(even)) and factor * _interval(trace) >= LEAST_S:
            return factor
    return 0.0


def _interval(trace: Trace) -> float:
    """The mean of the usual intervals: finer than the last digit that the times are printed to."""
    steps = np.diff(trace.time_s[:MOST])
    usual = float(np.median(steps))
    return float(np.mean(steps[np.abs(steps - usual) <= 0.5 * usual]))
