"""Which sign a log gives to a discharge."""

from __future__ import annotations

import numpy as np

from wintry_tally.core.trace.trace import Column


def discharge_sign(current_A: Column, voltage_V: Column, header: str) -> str:
    """ "+" or "-": the sign of the current while the battery gives.

    Switching a current on pulls the voltage the way of its sign: down for a discharge. Where nothing is switched
    on within the log, the trend of the voltage under the current tells; at last, the header's words and the sign used.
    """
    good = np.isfinite(current_A) & np.isfinite(voltage_V)
    current, voltage = current_A[good], voltage_V[good]
    if len(current) < 2:
        return "+"
    reference = float(np.quantile(np.abs(current[:: max(1, len(current) // 50_000)]), 0.9))
    if reference == 0.0:
        reference = float(np.max(np.abs(current)))
    if reference == 0.0:
        return "+"
    steps = np.diff(current)
    onsets = np.flatnonzero(
        (np.abs(steps) > 0.3 * reference) & (np.abs(current[1:]) > np.abs(current[:-1]) + 0.25 * reference)
    )
    if len(onsets):
        moved = voltage[onsets + 1] - voltage[onsets]
        plain = (np.abs(moved) < 3.0) & (voltage[onsets] > 3.0)
        evidence = float(np.sum(np.sign(steps[onsets][plain]) * moved[plain]))
        if abs(evidence) > 0.01:
            return "+" if evidence < 0 else "-"
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
    return "+" if float(np.mean(current)) >= 0 else "-"
