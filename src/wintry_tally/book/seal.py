"""A finished trace as Parquet bytes, with battery-data style column names, and back."""

from __future__ import annotations

import io
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from wintry_tally.book.records import FROM_BACKUP, read_as
from wintry_tally.core.errors import BookError
from wintry_tally.core.trace.beside import beside_column, in_order, named_by
from wintry_tally.core.trace.trace import Trace
from wintry_tally.files import MOST_ROWS, check_unpacked

if TYPE_CHECKING:  # brought in where it is used: a program begins a fifth sooner without
    import polars as pl

COLUMNS = {
    "time_s": "Test Time / s",
    "voltage_V": "Voltage / V",
    "current_A": "Discharge Current / A",
    "temperature_C": "Temperature / degC",
    "counter_Ah": "Counter / Ah",
    "counter_Wh": "Counter / Wh",
    "power_W": "Power / W",
    "charge_state": "State of charge / %",
}
ROW = "Row"


def seal(trace: Trace) -> bytes:
    """Parquet bytes, zstd-compressed; discharge current positive."""
    import polars as pl

    buffer = io.BytesIO()
    pl.DataFrame(_columns_of(trace)).write_parquet(buffer, compression="zstd", compression_level=9)
    return buffer.getvalue()


def _columns_of(trace: Trace) -> dict[str, Any]:
    """The columns as they are sealed, by heading."""
    data = {label: getattr(trace, name) for name, label in COLUMNS.items() if getattr(trace, name) is not None}
    data |= {beside_column(name).heading: trace.beside[name] for name in in_order(trace.beside)}
    return data if trace.row is None else data | {ROW: trace.row}


def reads_back(trace: Trace, content: bytes) -> bool:
    """Whether what was sealed holds the same readings, bit for bit; a column at a time, for their memory's sake."""
    import polars as pl

    wanted = _columns_of(trace)
    lazy = pl.scan_parquet(io.BytesIO(content))
    if list(lazy.collect_schema()) != list(wanted):
        return False
    return all(
        np.array_equal(lazy.select(label).collect()[label].to_numpy(), column, equal_nan=label != ROW)
        for label, column in wanted.items()
    )


def unseal(content: bytes, resolution: Mapping[str, float]) -> Trace:
    """The trace that `seal` wrote.

    Raises:
        BookError: it is none, or would take more memory than a run of this program does.
    """
    import polars as pl

    try:
        lazy = pl.scan_parquet(io.BytesIO(content))
        kinds = lazy.collect_schema()
        wanted = [label for label in kinds if label in {*COLUMNS.values(), ROW} or named_by(label) is not None]
        rows = int(lazy.select(pl.len()).collect().item())
        if rows > MOST_ROWS or not all(kinds[label].is_numeric() for label in wanted):
            raise BookError("a sealed run in the book is none that this program sealed", mend=FROM_BACKUP)
        check_unpacked(8.0 * rows * len(wanted), len(content), "a sealed run in the book", BookError)
        frame = lazy.select(wanted).collect()
    except (pl.exceptions.PolarsError, pl.exceptions.PanicException, TypeError, ValueError) as error:
        reason = (str(error).splitlines() or ["no reason given"])[0][:100]
        raise BookError(f"a sealed run in the book is damaged ({reason})", mend=FROM_BACKUP) from None
    with read_as("a sealed run in the book"):
        return _trace_of(frame, resolution)


def _trace_of(frame: pl.DataFrame, resolution: Mapping[str, float]) -> Trace:
    columns: dict[str, Any] = {
        name: frame[label].to_numpy().astype(np.float64) for name, label in COLUMNS.items() if label in frame.columns
    }
    current = columns.pop("current_A", None)
    beside = {
        known[0]: frame[label].to_numpy().astype(np.float64)
        for label in frame.columns
        if (known := named_by(label)) is not None
    }
    trace = Trace(current_A=current, resolution=dict(resolution), beside=beside, **columns)
    return replace(trace, row=frame[ROW].to_numpy().astype(np.int64)) if ROW in frame.columns else trace


def sealed_bytes(trace: Trace) -> bytes:
    """A trace as Parquet that reads back alike.

    Raises:
        BookError: it does not.
    """
    content = seal(trace)
    if not reads_back(trace, content):
        raise BookError("the sealed trace does not read back as written; its rows are kept as they are")
    return content
