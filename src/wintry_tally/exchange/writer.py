"""Raw export: battery-data style columns as CSV. Charging is positive in the file, as is usual there."""

from __future__ import annotations

import math
from pathlib import Path

import polars as pl

from wintry_tally.core.errors import LogError
from wintry_tally.core.trace.trace import Trace

HEADERS = {
    "time_s": "Test Time / s",
    "voltage_V": "Voltage / V",
    "current_A": "Current / A",
    "temperature_C": "Temperature / degC",
    "counter_Ah": "Counter / Ah",
    "counter_Wh": "Counter / Wh",
}


def write_csv(trace: Trace, path: Path) -> None:
    """Write a trace; numbers at the resolution they were taken with, so that a re-import counts the same.

    Raises:
        LogError: the file cannot be written.
    """
    columns = []
    for name, header in HEADERS.items():
        values = getattr(trace, name)
        if values is None:
            continue
        values = -values if name == "current_A" else values
        series = pl.Series(header, values + 0.0)
        step = trace.resolution.get(name, 0.0)
        if step:
            series = series.round(max(0, round(-math.log10(step))))
        columns.append(series.fill_nan(None))
    try:
        pl.DataFrame(columns).write_csv(path)
    except OSError as error:
        raise LogError(f"cannot be written ({error.strerror or error})", str(path), "choose another folder") from None
