"""Where the words beside a line of a plot stand, so that no curve runs through them, as far as that can be."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np

SKETCH = 500
"""Points of a curve that are enough to see where words have room."""
BESIDE, ENDS = 0.12, 0.3
"""How much of an axis words need beside a line, and along a level, as shares of it."""
LOW, HIGH = 0.2, 0.8
BOTTOM, MIDDLE, TOP = 0.06, 0.5, 0.94


def _sketch(series: Iterable[tuple[str, Any, Any]]) -> list[tuple[Any, Any]]:
    found = []
    for _, x, y in series:
        step = max(1, len(x) // SKETCH)
        x, y = np.asarray(x[::step], dtype=float), np.asarray(y[::step], dtype=float)
        good = np.isfinite(x) & np.isfinite(y)
        found.append((x[good], y[good]))
    return found


def free_height(series: Iterable[tuple[str, Any, Any]], view: Sequence[Sequence[float]], at: float) -> float:
    """At which height, as a share, the words beside an upright line at `at` stand free of the curves in view."""
    (left, right), (bottom, top) = view
    near = BESIDE * (right - left)
    low_x, high_x = (at, at + near) if at + near < right else (at - near, at)
    beside = [float(value) for x, y in _sketch(series) for value in y[(x >= low_x) & (x <= high_x)]]
    low = any(value < bottom + LOW * (top - bottom) for value in beside)
    high = any(value > bottom + HIGH * (top - bottom) for value in beside)
    return TOP if low and not high else MIDDLE if low else BOTTOM


def free_end(series: Iterable[tuple[str, Any, Any]], level: float, least_span: float) -> dict[str, Any]:
    """Where the words along a level stand: at its left end, or at its right one where a curve runs through them at the left alone.

    They stand above a level in the lower half, and below one in the upper half.
    """
    parts = _sketch(series)
    x, y = (np.concatenate([part[place] for part in parts] or [np.zeros(0)]) for place in (0, 1))
    left = True
    if len(x):
        span, room = float(np.ptp(x)), BESIDE * max(float(np.ptp(y)), least_span)
        above = level < 0.5 * (min(level, float(y.min())) + max(level, float(y.max())))
        near = (y > level - (0.1 if above else 1.0) * room) & (y < level + (1.0 if above else 0.1) * room)
        left = not np.any(near & (x < x.min() + ENDS * span)) or bool(np.any(near & (x > x.max() - ENDS * span)))
    side = 0 if left else 1
    return {"position": 0.01 if left else 0.99, "anchors": [(side, 0), (side, 1)]}
