"""A log as columns of equal length."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

Column = NDArray[np.float64]
BLOCK = 1 << 16
"""Readings of a long log that are looked through at a time: few enough to stay near the processor."""


@dataclass(frozen=True)
class Trace:
    """Readings in the order taken; current is positive while the battery gives.

    Parts (arrays of shape (n,), float64):
        time_s: elapsed seconds.
        voltage_V, current_A: NaN where a reading is missing.
        temperature_C, counter_Ah, counter_Wh, power_W: or None where the log has no such column.
        charge_state: what a gauge says of the state of charge, percent, or None.
        row: 1-based data row of each reading in its file, or None when reading n is row n + 1.
        beside: further columns by name (see core.trace.beside): a second meter, the pack's own cells.
        resolution: last decimal place printed, by column field name ("voltage_V": 0.001).
        unnamed: fields ("time", "temperature") of which nothing said what unit they are in, and "clock" where its
            times may be hours and minutes or minutes and seconds alike.
        begins_s: what the log's clock of elapsed seconds showed at its first reading, once that counts as zero.
    """

    time_s: Column
    voltage_V: Column
    current_A: Column | None
    temperature_C: Column | None = None
    counter_Ah: Column | None = None
    counter_Wh: Column | None = None
    power_W: Column | None = None
    charge_state: Column | None = None
    row: NDArray[np.int64] | None = None
    resolution: Mapping[str, float] = field(default_factory=dict)
    beside: Mapping[str, Column] = field(default_factory=dict)
    begins_s: float = 0.0
    unnamed: frozenset[str] = frozenset()

    def __len__(self) -> int:
        return len(self.time_s)

    @property
    def current(self) -> Column:
        """The current; only for traces that have one (every mended trace does)."""
        assert self.current_A is not None
        return self.current_A

    def digit(self, column: str) -> float:
        """The last decimal place printed of a column, in its unit; 0.0 where it is not known."""
        return self.resolution.get(column, 0.0)

    @property
    def digit_V(self) -> float:
        """That of the voltage, V."""
        return self.digit("voltage_V")

    @property
    def digit_A(self) -> float:
        """That of the current, A."""
        return self.digit("current_A")

    @cached_property
    def usual_s(self) -> float:
        """The usual interval between its readings, s; see `usual_interval`."""
        return usual_interval(self.time_s)

    def row_at(self, index: int | np.signedinteger[Any]) -> int:
        """The 1-based data row of a reading."""
        return int(index) + 1 if self.row is None else int(self.row[index])

    def taking(self, keep: NDArray[np.bool_] | NDArray[np.int64]) -> Trace:
        """Only the readings kept, by mask or index; row numbers stay those of the file."""
        rows = np.arange(1, len(self) + 1, dtype=np.int64) if self.row is None else self.row

        def pick(column: Column | None) -> Column | None:
            return None if column is None else column[keep]

        return replace(
            self,
            time_s=self.time_s[keep],
            voltage_V=self.voltage_V[keep],
            current_A=pick(self.current_A),
            temperature_C=pick(self.temperature_C),
            counter_Ah=pick(self.counter_Ah),
            counter_Wh=pick(self.counter_Wh),
            power_W=pick(self.power_W),
            charge_state=pick(self.charge_state),
            row=rows[keep],
            beside={name: column[keep] for name, column in self.beside.items()},
        )


def resolution_of(values: Column, sample: int = 2000) -> float:
    """The last decimal place that is used in a column, as a step (0.01), or 0.0 when it has none to speak of.

    Found as the smallest power of ten that divides every sampled value, down to 1e-6.
    """
    if len(values) > 20 * sample:
        values = values[:: len(values) // (20 * sample)]
    finite = values[np.isfinite(values)]
    if len(finite) == 0:
        return 0.0
    if len(finite) > sample:
        finite = finite[np.linspace(0, len(finite) - 1, sample).astype(np.int64)]
    for decimals in range(7):
        scaled = finite * 10.0**decimals
        if np.all(np.abs(scaled - np.round(scaled)) <= 1e-6 * np.maximum(1.0, np.abs(scaled) * 1e-3)):
            return float(10.0**-decimals)
    return 0.0


def usual_interval(time_s: Column, sample: int = 200_000) -> float:
    """The median interval in s; of evenly spread stretches where the log is longer than `sample`; NaN if none."""
    if len(time_s) < 2:
        return math.nan
    if len(time_s) <= sample:
        return float(np.median(np.diff(time_s)))
    starts = np.linspace(0, len(time_s) - 1 - sample // 50, 50).astype(np.int64)
    parts = [np.diff(time_s[start : start + sample // 50]) for start in starts]
    return float(np.median(np.concatenate(parts)))


def noise_of(values: Column, sample: int = 100_000) -> float:
    """Standard deviation of reading-to-reading noise, from second differences; robust to steps and slopes."""
    if len(values) > sample:
        starts = np.linspace(0, len(values) - sample // 20, 20).astype(np.int64)
        pieces = [np.diff(values[start : start + sample // 20], 2) for start in starts]
        second = np.concatenate(pieces)
    else:
        second = np.diff(values, 2)
    second = np.abs(second[np.isfinite(second)])
    if len(second) == 0:
        return 0.0
    # median |x| of a normal variable is 0.6745 sigma; a second difference has variance 6 sigma²
    return float(np.median(second)) / 0.6745 / math.sqrt(6.0)
