"""The cells of a pack that tells them: how far apart they are at rest, under load, full and empty."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wintry_tally.core.analysis.stages import Stage, StageKind
from wintry_tally.core.message import said
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.beside import cell_number
from wintry_tally.core.trace.trace import Trace
from wintry_tally.core.working import Working

BALANCED_V = 0.010
"""Cells within so much of each other under load are well balanced (5 mV surely; common practice, no published source)."""
APART_V = 0.050
"""Cells so far apart in the middle of a discharge are worth a remark; common practice, no published source."""
SUM_SHARE = 0.01
"""The cells add up to the terminals' voltage within so much, leads and fuses between them included."""


@dataclass(frozen=True)
class Spread:
    """Highest less lowest cell at one moment, or as the median of a stretch; `lowest`, `highest` are cell numbers."""

    when: str
    spread_V: float
    lowest: int
    highest: int
    lowest_V: float
    highest_V: float


@dataclass(frozen=True)
class Cells:
    """What a log says of its cells."""

    numbers: tuple[int, ...]
    spreads: tuple[Spread, ...]
    working: Working

    def at(self, when: str) -> Spread | None:
        """The spread at "full", "under load" or "empty"."""
        return next((item for item in self.spreads if item.when == when), None)

    @property
    def words(self) -> str:
        """One sentence for a reader."""
        parts = [f"{1000 * item.spread_V:.0f} mV {item.when}" for item in self.spreads]
        loaded = self.at("under load")
        verdict = ", well balanced" if loaded is not None and loaded.spread_V <= BALANCED_V else ""
        return f"{len(self.numbers)} cells apart by {', '.join(parts)}{verdict}"


def cells_of(trace: Trace, stages: list[Stage]) -> Cells | None:
    """The spread of the cells where it shows; None where the log tells fewer than two.

    Under load is the median over the middle half of the longest discharge; empty its last reading; full the last
    reading of the charge before it, or else the first reading of that discharge.
    Source: common practice, no published source.
    """
    names = [name for name in trace.beside if cell_number(name) is not None]
    names.sort(key=lambda name: cell_number(name) or 0)
    if len(names) < 2:
        return None
    numbers = tuple(cell_number(name) or 0 for name in names)
    volts = np.stack([trace.beside[name] for name in names])
    known: NDArray[np.bool_] = np.asarray(np.isfinite(volts).all(axis=0))
    found: list[Spread] = []
    drawn = [stage for stage in stages if stage.kind is StageKind.DISCHARGE]
    longest = max(drawn, key=lambda stage: trace.time_s[stage.last] - trace.time_s[stage.first], default=None)
    charged = [stage for stage in stages if stage.kind is StageKind.CHARGE]
    if longest is not None:
        before = [stage for stage in charged if stage.last < longest.first]
        full_at = before[-1].last if before else longest.first
    elif charged:
        full_at = charged[-1].last
    else:
        full_at = None
    if full_at is not None:
        found += _at("full" if charged or longest is None else "at the start", volts, known, numbers, full_at)
    if longest is not None:
        quarter = (longest.last - longest.first) // 4
        middle = np.arange(longest.first + quarter, longest.last - quarter + 1)
        middle = middle[known[middle]]
        if len(middle):
            found.append(_spread("under load", np.median(volts[:, middle], axis=1), numbers))
        found += _at("empty", volts, known, numbers, longest.last)
    if not found and known.any():
        found += _at("at the end", volts, known, numbers, int(np.flatnonzero(known)[-1]))
    if not found:
        return None
    inputs = {
        item.when: f"cell {item.lowest} {item.lowest_V:.3f} V to cell {item.highest} {item.highest_V:.3f} V"
        for item in found
    }
    text = ", ".join(f"{1000 * item.spread_V:.0f} mV {item.when}" for item in found)
    working = Working(
        "Spread of the cells", "highest cell − lowest cell", inputs, text, "common practice, no published source"
    )
    return Cells(numbers, tuple(found), working)


def _at(
    when: str, volts: NDArray[np.float64], known: NDArray[np.bool_], numbers: tuple[int, ...], index: int
) -> list[Spread]:
    near = next((place for place in (index, index - 1, index + 1) if 0 <= place < len(known) and known[place]), None)
    return [] if near is None else [_spread(when, volts[:, near], numbers)]


def _spread(when: str, values: NDArray[np.float64], numbers: tuple[int, ...]) -> Spread:
    low, high = int(np.argmin(values)), int(np.argmax(values))
    return Spread(
        when, float(values[high] - values[low]), numbers[low], numbers[high], float(values[low]), float(values[high])
    )


def cell_remarks(trace: Trace, cells: Cells | None, stages: list[Stage]) -> list[Remark]:
    """Cells far apart in mid-discharge; cells that do not add up to the terminals' voltage."""
    if cells is None:
        return []
    remarks = []
    loaded = cells.at("under load")
    if loaded is not None and loaded.spread_V > APART_V:
        told = said(
            "cells-lie-apart", lowest=str(loaded.lowest), lowest_V=loaded.lowest_V, highest=str(loaded.highest),
            highest_V=loaded.highest_V, apart=1000 * loaded.spread_V,
        )  # fmt: skip
        remarks.append(Remark("cells-apart", told))
    rest = [stage for stage in stages if stage.kind is not StageKind.PAUSE]
    total = np.sum([trace.beside[f"cell_{number}_V"] for number in cells.numbers], axis=0)
    apart = total / np.where(np.abs(trace.voltage_V) > 1.0, trace.voltage_V, np.nan) - 1.0
    if rest and np.isfinite(apart).any():
        middle = float(np.nanmedian(apart))
        if abs(middle) > SUM_SHARE and cells.numbers == tuple(range(1, len(cells.numbers) + 1)):
            told = said("cells-sum-apart", count=len(cells.numbers), share=100 * (1 + middle))
            remarks.append(Remark("meters-disagree", told))
    return remarks
