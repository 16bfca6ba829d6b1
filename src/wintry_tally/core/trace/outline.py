"""A long curve from afar: its lows and highs over stretches, and how far it reaches. NumPy only; made once, on any thread."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from wintry_tally.core.trace.trace import Column

MANY = 200_000
"""More points than this are drawn from their lows and highs."""
Ends = tuple[float, float]


@dataclass(frozen=True, eq=False)
class Outline:
    """One curve.

    Parts:
        x, y: all of it, x ascending; coarse_x, coarse_y: lows and highs over stretches, about `MANY` points.
        across, up: the least and the greatest of x and of y, those that are no numbers left out; None where none is.
    """

    x: Column
    y: Column
    coarse_x: Column
    coarse_y: Column
    across: Ends | None
    up: Ends | None


def outline(x: Column, y: Column) -> Outline:
    """Of a curve of any length; a short one is its own outline."""
    x, y = np.asarray(x, float), np.asarray(y, float)
    across, up = ends(x), ends(y)
    if len(x) <= MANY:
        return Outline(x, y, x, y, across, up)
    stretch = len(x) // (MANY // 2)
    size = len(x) // stretch * stretch
    blocks = y[:size].reshape(-1, stretch)
    coarse_y = np.column_stack([blocks.min(axis=1), blocks.max(axis=1)]).ravel()
    coarse_x = np.repeat(x[:size:stretch], 2)
    if size < len(x):  # what is left over at the end is a stretch as well
        coarse_x = np.append(coarse_x, [x[size], x[-1]])
        coarse_y = np.append(coarse_y, [y[size:].min(), y[size:].max()])
    return Outline(x, y, coarse_x, coarse_y, across, up)


def ends(values: Column) -> Ends | None:
    """The least and the greatest, those that are no numbers left out; None where there is none."""
    low, high = (float(np.min(values)), float(np.max(values))) if len(values) else (np.nan, np.nan)
    if not (np.isfinite(low) and np.isfinite(high)):
        finite = values[np.isfinite(values)]
        return (float(finite.min()), float(finite.max())) if len(finite) else None
    return low, high
