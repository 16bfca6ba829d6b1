"""What came back of what was put in: coulombic and energy efficiency of a charge and the discharge paired with it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wintry_tally.core.analysis.charging import ChargeResult
from wintry_tally.core.analysis.counting import Count
from wintry_tally.core.message import said
from wintry_tally.core.quantity import Quantity, format_duration, format_quantity, ratio
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.trace import Trace
from wintry_tally.core.working import Working

ACCEPTANCE_MINUTES = (15.0, 45.0, 90.0, 150.0)


@dataclass(frozen=True)
class Efficiency:
    """Charge out over charge in, and energy out over energy in, both in percent; one meter's gain cancels."""

    coulombic: Quantity
    energy: Quantity
    working: Working


def efficiency_of(put_in: Count, drawn: Count, begun_s: tuple[float, float] | None = None) -> Efficiency:
    """The efficiency of a charge and a discharge between the same two ends.

    `begun_s`: when each began in the log, s: a log may hold more than one. η = 100 % × out / in. Source: common practice; JCGM 100:2008, 5.2.
    """
    coulombic, energy = ratio(drawn.charge, put_in.charge, 100.0, "%"), ratio(drawn.energy, put_in.energy, 100.0, "%")
    since = ["", ""] if begun_s is None else [f"; from {format_duration(at)} of the log on" for at in begun_s]
    working = Working(
        "Charge and energy efficiency",
        "η = out / in; the gain of one meter cancels",
        {
            "in": f"{format_quantity(put_in.charge)}, {format_quantity(put_in.energy)}{since[0]}",
            "out": f"{format_quantity(drawn.charge)}, {format_quantity(drawn.energy)}{since[1]}",
        },
        f"{format_quantity(coulombic)} of the charge, {format_quantity(energy)} of the energy",
        "common practice; JCGM 100:2008, 5.2",
    )
    return Efficiency(coulombic, energy, working)


def acceptance(trace: Trace, first: int, last: int) -> list[tuple[float, float]]:
    """(minutes, share of the first current) at 15, 45, 90 and 150 min of a charge, as far as it went.

    The first current is the largest mean of the first five minutes' readings. Source: common practice.
    """
    time = trace.time_s[first : last + 1] - trace.time_s[first]
    current = np.abs(trace.current[first : last + 1])
    opening = current[time <= 300.0]
    start = float(np.median(opening)) if len(opening) else 0.0
    if start <= 0.0 or len(time) < 3:
        return []
    found = []
    for minutes in ACCEPTANCE_MINUTES:
        if time[-1] >= 60.0 * minutes:
            near = np.abs(time - 60.0 * minutes) <= max(30.0, float(np.median(np.diff(time))))
            if np.any(near):  # a gap may lie just there
                found.append((minutes, float(np.median(current[near])) / start))
    # a current raised on the way (a gentle start) is no acceptance of the battery's
    return found if all(share <= 1.1 for _, share in found) else []


def charge_remarks(charge: ChargeResult | None, efficiency: Efficiency | None) -> list[Remark]:
    """A full mark that the meter cannot see, and more out than went in."""
    found = []
    if charge is not None and charge.undecided:
        found.append(Remark("full-undecided", said("full-untold", why=charge.undecided)))
    if efficiency is None or efficiency.coulombic.expanded is None:
        return found
    over = efficiency.coulombic.value - 100.0
    if over > efficiency.coulombic.expanded:
        found.append(Remark("efficiency-above", said("more-came-back", share=format_quantity(efficiency.coulombic))))
    return found
