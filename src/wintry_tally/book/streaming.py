"""A run's journalled rows in pieces, of which memory holds the columns and never the rows."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import numpy as np
from sqlalchemy import Connection, func, select

from wintry_tally.book import tables
from wintry_tally.book.sqlite import rows_of
from wintry_tally.core.trace.beside import INTO_TRACE
from wintry_tally.core.trace.trace import Trace

ROWS = 20_000
COLUMNS = ("seq", "elapsed_s", "voltage_V", "current_A", "temperature_C", "counter_Ah")


def pieces(connection: Connection, run_id: int) -> Iterator[Any]:
    """Rows in their order, as arrays (n × 6, NaN for what a row lacks)."""
    for rows in rows_of(connection, tables.reading, COLUMNS, "run_id", run_id, "seq", ROWS):
        yield np.array(rows, dtype=np.float64)


def journalled_trace(connection: Connection, run_id: int, turned: bool, resolution: dict[str, float]) -> Trace | None:
    """The trace of the rows so far; None where there are none. `turned`: a charge's current, written as the charger shows it."""
    reading = tables.reading.c
    rows = int(
        connection.execute(select(func.count()).select_from(tables.reading).where(reading.run_id == run_id)).scalar()
        or 0
    )
    if not rows:
        return None
    columns = {name: np.empty(rows) for name in COLUMNS}
    place = 0
    for piece in pieces(connection, run_id):
        values = piece[: rows - place]  # a run that goes on may have gained some since they were counted
        for index, column in enumerate(columns.values()):
            column[place : place + len(values)] = values[:, index]
        place += len(values)
    beside = _beside(connection, run_id, columns.pop("seq")[:place])
    some = {name: None if np.all(np.isnan(column[:place])) else column[:place] for name, column in columns.items()}
    current = some["current_A"]
    if turned and current is not None:
        np.negative(current, out=current)
    counter = beside.pop("counter_Ah", some["counter_Ah"])
    own = {name: beside.pop(name) for name in INTO_TRACE if name in beside}
    return Trace(
        columns["elapsed_s"][:place], columns["voltage_V"][:place], current, some["temperature_C"], counter,
        resolution=resolution, beside=beside, **own,
    )  # fmt: skip


def _beside(connection: Connection, run_id: int, seq: Any) -> dict[str, Any]:
    """What was told beside the rows of these numbers, as columns."""
    columns = tables.reading.c
    query = select(columns.seq, columns.beside).where(columns.run_id == run_id, columns.beside.is_not(None))
    found: dict[str, Any] = {}
    for number, text in connection.execution_options(yield_per=ROWS).execute(query):
        place = int(np.searchsorted(seq, number))
        if place < len(seq) and seq[place] == number:
            for name, value in json.loads(text).items():
                found.setdefault(name, np.full(len(seq), np.nan))[place] = value
    return found


def thinned(connection: Connection, run_id: int, every: int) -> list[tuple[float, float, float, float]]:
    """Every so-many-th row: elapsed s, V, A, and the Ah drawn by then (trapezoids over all rows)."""
    points: list[tuple[float, float, float, float]] = []
    charge, last_s, last_A, place = 0.0, None, 0.0, 0
    for values in pieces(connection, run_id):
        seconds, volts, amps = values[:, 1], np.nan_to_num(values[:, 2]), np.nan_to_num(values[:, 3])
        first_s, first_A = (seconds[0], amps[0]) if last_s is None else (last_s, last_A)
        steps = np.diff(np.concatenate([[first_s], seconds]))
        mean = 0.5 * (amps + np.concatenate([[first_A], amps[:-1]]))
        drawn = charge + np.cumsum(mean * steps) / 3600.0
        picked = slice((-place) % every, None, every)
        points += list(
            zip(seconds[picked].tolist(), volts[picked].tolist(), amps[picked].tolist(), drawn[picked].tolist(), strict=True)
        )  # fmt: skip
        charge, last_s, last_A, place = float(drawn[-1]), seconds[-1], amps[-1], place + len(values)
    return points
