"""Export: battery-data style columns as CSV or Parquet. Charging is positive in the file, as is usual there."""

from __future__ import annotations

import math
from pathlib import Path

import polars as pl

from wintry_tally.core.errors import LogError
from wintry_tally.core.trace.beside import beside_column, in_order
from wintry_tally.core.trace.trace import Trace

HEADERS = {
    "time_s": "Test Time / s",
    "voltage_V": "Voltage / V",
    "current_A": "Current / A",
    "temperature_C": "Temperature / degC",
    "counter_Ah": "Counter / Ah",
    "counter_Wh": "Counter / Wh",
    "power_W": "Power / W",
    "charge_state": "State of charge / %",
}


def frame_of(trace: Trace) -> pl.DataFrame:
    """A trace as a table, numbers at the resolution they were taken with, so that a re-import counts the same."""
    columns = []
    for name, header in HEADERS.items():
        values = getattr(trace, name)
        if values is None:
            continue
        values = -values if name == "current_A" else values
        series = pl.Series(header, values + 0.0)
        step = trace.digit(name)
        if step:
            series = series.round(max(0, round(-math.log10(step))))
        columns.append(series.fill_nan(None))
    for name in in_order(trace.beside):
        columns.append(pl.Series(beside_column(name).heading, trace.beside[name]).fill_nan(None))
    return pl.DataFrame(columns)


def write_log(trace: Trace, path: Path) -> None:
    """Write a trace as CSV, or as Parquet where the file's name ends so.

    Raises:
        LogError: the file cannot be written.
    """
    try:
        if path.suffix == ".parquet":
            frame_of(trace).write_parquet(path, compression="zstd")
        else:
            frame_of(trace).write_csv(path)
    except OSError as error:
        raise LogError(f"cannot be written ({error.strerror or error})", str(path), "choose another folder") from None
