"""A clock in another unit: minutes taken for seconds, seconds for minutes. Seen where charge and rating are worlds apart.

A heading that names no unit is taken for seconds, "5:10" for hours and minutes. Neither can be known: what the log then
says of charge is held against the rating, and a wrong clock is offered to be mended, never mended unasked.
Common practice, no published source.
"""

from __future__ import annotations

import numpy as np

from wintry_tally.core.analysis.capacity import CapacityTest
from wintry_tally.core.analysis.charging import ChargeResult
from wintry_tally.core.analysis.ending import PROTECTION, SET_CUTOFF
from wintry_tally.core.battery.families import Family, charge_state_band
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.trace import Trace
from wintry_tally.core.trace.unit_slips import MOST_OF_RATED

TOO_LONG = {1.0 / 60.0: "a sixtieth of", 1.0 / 1000.0: "a thousandth of", 1.0 / 3600.0: "1/3600 of"}
TOO_SHORT = {60.0: "60 times", 3600.0: "3600 times"}
"""What a clock's times may have to be multiplied by, with the words for it."""
UNITS = {60.0: "minutes", 3600.0: "hours"}
PLAUSIBLE = (0.25, 1.4)
"""Shares of its rating that a battery emptied in one go may well give."""
HELD_LITTLE = 30.0
"""Percent of charge at the most, by a family's charts, of a battery that cannot have given its rating."""
MOST_C = 1.2
"""A discharge above this rate that ends soon has told of its protection, not of its capacity."""
USUAL_S = {60.0: (1.0, 2.0, 5.0, 10.0, 20.0), 3600.0: (1.0, 2.0, 5.0, 10.0, 15.0, 20.0, 30.0)}
"""Intervals that loggers are set to which no logger has as a decimal of the unit that a clock may be in. A minute of hours
looks like a second of minutes: the shorter is taken."""
NEAR = 0.002
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
    whole = test is not None and _emptied(test) and not _begun_empty(trace, test, family)
    if rated_Ah and whole and moved < PLAUSIBLE[0] * rated_Ah:
        factor = next((f for f in TOO_SHORT if _plausible(moved * f / rated_Ah)), 0.0)
        if factor:
            why = f"{moved:.3g} Ah is far from the rating, and in {UNITS[factor]} it would be an ordinary test"
            return _suspect(f"Nothing says what unit the times are in: {why}", TOO_SHORT[factor]), factor
    if "clock" in trace.unnamed and not (rated_Ah and moved >= PLAUSIBLE[0] * rated_Ah):
        why = "they are read as hours and minutes, and may be minutes and seconds"
        return _suspect(f"Nothing says what unit the times are in: {why}", TOO_LONG[1.0 / 60.0]), 1.0 / 60.0
    interval = _interval(trace)
    factor = next((f for f in USUAL_S if any(abs(f * interval - s) <= NEAR * s for s in USUAL_S[f])), 0.0)
    if factor and not (rated_Ah and moved * factor > PLAUSIBLE[1] * rated_Ah):
        why = f"readings {interval:.4g} apart are {factor * interval:.0f} s apart if it is {UNITS[factor]}"
        return _suspect(f"Nothing says what unit the times are in: {why}", TOO_SHORT[factor]), factor
    return None, 0.0


def _too_long(moved: float, rated_Ah: float) -> tuple[Remark, float]:
    told = f"{moved:.4g} Ah in one go is {moved / rated_Ah:.3g} times the rating"
    factor = next((f for f in TOO_LONG if _plausible(moved * f / rated_Ah)), 0.0)
    if factor:
        return _suspect(f"{told}: the times look {1 / factor:.0f} times too long", TOO_LONG[factor]), factor
    return Remark("more-than-possible", f"{told}: the rating, or a unit in the log, is wrong."), 0.0


def _emptied(test: CapacityTest) -> bool:
    return test.ended_by in {PROTECTION, SET_CUTOFF} and (test.c_rate or 0.0) <= MOST_C


def _begun_empty(trace: Trace, test: CapacityTest, family: Family | None) -> bool:
    """Whether the battery rested before it at a voltage where it cannot have held much: then little is what it gave."""
    first = test.count.spans[0].first
    volts = float(trace.voltage_V[first - 1]) if first else float("nan")
    if family is None or not volts > family.cutoff_floor_V:
        return False
    return charge_state_band(family, volts)[1] <= HELD_LITTLE


def _plausible(share: float) -> bool:
    return PLAUSIBLE[0] <= share <= PLAUSIBLE[1]


def _suspect(told: str, by: str) -> Remark:
    return Remark("unit-suspect", f"{told}.", None, f"make every time {by} what it is, or name the unit of the times")


def _interval(trace: Trace) -> float:
    """The mean of the usual intervals: finer than the last digit that the times are printed to."""
    steps = np.diff(trace.time_s[:MOST])
    usual = float(np.median(steps))
    return float(np.mean(steps[np.abs(steps - usual) <= 0.5 * usual]))
