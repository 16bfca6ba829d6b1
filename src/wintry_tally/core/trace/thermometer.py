"""Temperatures of a log that cannot be: in another unit, or a sensor that was off. What is left out alters nothing else.

Common practice, no published source.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from wintry_tally.core.message import said
from wintry_tally.core.trace.remarks import Remark
from wintry_tally.core.trace.trace import Column, Trace

COLDEST_C, HOTTEST_C = -60.0, 150.0
"""Beyond these no battery is tested: a sensor that is off, or shorted, says so."""
KELVIN = (223.0, 343.0)
"""A median within is one of a bench in kelvin, whatever the heading says."""
FAHRENHEIT, LOWEST_F = (55.0, 115.0), 45.0
"""A median within, where no unit is named, is hotter in °C than a bench runs, and in °F an ordinary room's or a warm pack's;
a test that heats a battery begins below the second."""
JUMP_K, SAMPLE = 15.0, 50_000
TRUSTED = 0.5
"""A sensor that fails in a larger share of its readings is not believed in the rest."""


def with_temperatures(trace: Trace, offered: bool, remarks: list[Remark]) -> Trace:
    """The log with the temperatures that can be; those in another unit left out, or converted where that was asked for."""
    if trace.temperature_C is None:
        return trace
    celsius = trace.temperature_C
    lowest, highest = float(np.fmin.reduce(celsius)), float(np.fmax.reduce(celsius))
    if not np.isfinite(lowest):
        return trace
    median = float(np.nanmedian(celsius[:: max(1, len(celsius) // SAMPLE)]))
    if KELVIN[0] <= median <= KELVIN[1]:
        return _in_unit(trace, celsius - 273.15, "K", median, offered, remarks)
    hot = FAHRENHEIT[0] <= median <= FAHRENHEIT[1] and lowest >= LOWEST_F
    if hot and "temperature" in trace.unnamed:
        return _in_unit(trace, (celsius - 32.0) / 1.8, "°F", median, offered, remarks)
    if lowest >= COLDEST_C and highest <= HOTTEST_C and highest - lowest <= JUMP_K:
        return trace  # what long logs are spared
    wrong = _wrong(celsius)
    count = int(np.count_nonzero(wrong))
    if not count:
        return trace
    rows = np.flatnonzero(wrong)
    mistrusted = count > TRUSTED * int(np.count_nonzero(np.isfinite(celsius)))
    first = trace.row_at(rows[0])
    told = said(
        "thermometer-out" if mistrusted else "temperatures-out", count=count, row=first, celsius=float(celsius[rows[0]])
    )
    remarks.append(Remark("outlier-reading", told, (first, trace.row_at(rows[-1]))))
    return replace(trace, temperature_C=None if mistrusted else np.where(wrong, np.nan, celsius))


def _in_unit(trace: Trace, converted: Column, unit: str, median: float, offered: bool, remarks: list[Remark]) -> Trace:
    told = said("other-degrees-read" if offered else "other-degrees", level=median, unit=unit)
    remarks.append(Remark("temperature-suspect", told, None, said("offer-degrees", unit=unit)))
    return replace(trace, temperature_C=converted if offered else None)


def _wrong(celsius: Column) -> np.ndarray:
    """Readings beyond what is tested, and single ones that stand apart from both neighbours, which agree."""
    with np.errstate(invalid="ignore"):
        wrong: np.ndarray = (celsius < COLDEST_C) | (celsius > HOTTEST_C)
        if len(celsius) > 2:
            before, here, after = celsius[:-2], celsius[1:-1], celsius[2:]
            alone = (np.abs(here - before) > JUMP_K) & (np.abs(here - after) > JUMP_K)
            wrong[1:-1] |= alone & (np.abs(before - after) < JUMP_K / 3.0)
    return wrong
