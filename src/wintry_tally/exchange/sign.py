"""Which sign a log gives to a discharge."""

from __future__ import annotations

import numpy as np

from wintry_tally.core.trace.repair import ABSURD
from wintry_tally.core.trace.trace import Column

BLOCK = 1 << 16
ZERO_SHARE = 0.02


def _onsets(current_A: Column, voltage_V: Column, reference: float) -> float:
    """Sum of how far the voltage moved, times the sign of the current, wherever one was switched on.

    Where a current began from nothing, only such places count: one that rises while another already flows may be
    cells that take over from a heater at the charger's limit, and pull the voltage down in charging.

    Readings that collapse or leap by volts (a protection at work) say nothing of the sign.
    """
    evidence = risen = 0.0
    for start in range(0, len(current_A) - 1, BLOCK):
        current = current_A[start : start + BLOCK + 1]
        steps = np.diff(current)
        idle = np.abs(current[:-1]) < 0.02 * reference
        large = np.flatnonzero(np.abs(steps) > np.where(idle, 0.1, 0.3) * reference)
        for index in large[np.abs(current[large + 1]) > np.abs(current[large]) + 0.08 * reference]:
            before, after = float(voltage_V[start + index]), float(voltage_V[start + index + 1])
            if (
                before > 3.0
                and abs(after - before) < 3.0
                and not _stood(current_A, voltage_V, start + int(index), reference)
            ):
                moved = float(np.sign(steps[index])) * (after - before)
                if idle[index]:
                    evidence += moved
                else:
                    risen += moved
    return evidence if abs(evidence) > 0.01 else risen


STOOD_LOOK_BACK = 100_000


def _stood(current_A: Column, voltage_V: Column, at: int, reference: float) -> bool:
    """Whether the idle voltage before an onset is a charger's, not the battery's: it leapt up with no current flowing."""
    begin = max(0, at - STOOD_LOOK_BACK)
    idle = np.abs(current_A[begin : at + 1]) < 0.02 * reference
    live = np.flatnonzero(~idle)
    begin += int(live[-1]) + 1 if len(live) else 0
    steps = np.diff(voltage_V[begin : at + 1])
    leaps = np.flatnonzero(steps > 0.4)
    return bool(len(leaps)) and float(voltage_V[at]) > float(voltage_V[begin + int(leaps[-1])]) + 0.4


def discharge_sign(current_A: Column, voltage_V: Column, header: str) -> str:
    """ "+" or "-": the sign of the current while the battery gives.

    Switching a current on pulls the voltage the way of its sign: down for a discharge. Where nothing is switched
    on within the log, the trend of the voltage under the current tells; at last, the header's words and the sign used.
    """
    size = len(current_A)
    sizes = np.abs(current_A)
    sizes = sizes[np.isfinite(sizes) & (sizes < ABSURD)]
    # what flows stands far above a meter's zero, however short it lasted; one or two odd readings are no current
    top = float(np.partition(sizes, -3)[-3]) if len(sizes) >= 3 else float(sizes.max(initial=0.0))
    live = sizes[sizes > ZERO_SHARE * top]
    reference = float(np.quantile(live[:: max(1, len(live) // 50_000)], 0.9)) if len(live) else top
    if reference == 0.0:
        return "+"
    evidence = _onsets(current_A, voltage_V, reference)
    if abs(evidence) > 0.01:
        return "+" if evidence < 0 else "-"
    thin = slice(None, None, max(1, size // 200_000))
    good = (np.abs(current_A[thin]) < ABSURD) & (np.abs(voltage_V[thin]) < ABSURD)
    current, voltage = current_A[thin][good], voltage_V[thin][good]
    if len(current) < 2:
        return "+"
    live = np.flatnonzero(np.abs(current) > 0.2 * reference)
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
