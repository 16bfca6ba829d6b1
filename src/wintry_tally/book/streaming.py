"""A run's journalled rows in pieces: what they need in memory is the columns, never the rows."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import numpy as np
from sqlalchemy import Connection, func, select

from wintry_tally.book import tables
from wintry_tally.core.trace.beside import INTO_TRACE
from wintry_tally.core.trace.trace import Trace

ROWS = 20_000
COLUMNS = ("elapsed_s", "voltage_V", "current_A", "temperature_C", "counter_Ah")


def pieces(connection: Connection, run_id: int) -> Iterator[tuple[Any, list[str | None]]]:
    """Rows in their order: an array of the five columns (n × 5, NaN for what a row lacks), and what is told beside."""
    columns = tables.reading.c
    query = (
        select(*(columns[name] for name in COLUMNS), columns.beside)
        .where(columns.run_id == run_id)
        .order_by(columns.seq)
    )
    for rows in connection.execution_options(yield_per=ROWS).execute(query).partitions():
        yield np.array([row[:5] for row in rows], dtype=np.float64), [row[5] for row in rows]


def journalled_trace(connection: Connection, run_id: int, turned: bool, resolution: dict[str, float]) -> Trace | None:
    """The trace of the rows so far; None where there are none. `turned`: a charge's current, written as the charger shows it."""
    reading = tables.reading.c
    rows = int(
        connection.execute(select(func.count()).select_from(tables.reading).where(reading.run_id == run_id)).scalar()
        or 0
    )
    if not rows:
        return None
    table = np.empty((5, rows))
    beside: dict[str, Any] = {}
    place = 0
    for piece, told in pieces(connection, run_id):
        values = piece[: rows - place]  # a run that goes on may have gained some since they were counted
        table[:, place : place + len(values)] = values.T
        for offset, text in enumerate(told[: len(values)]):
            if text:
                for name, value in json.loads(text).items():
                    beside.setdefault(name, np.full(rows, np.nan))[place + offset] = value
        place += len(values)
    table, beside = table[:, :place], {name: column[:place] for name, column in beside.items()}

    def some(column: Any) -> Any:
        return None if np.all(np.isnan(column)) else column

    current = some(-table[2] if turned else table[2])
    counter = beside.pop("counter_Ah", some(table[4]))
    own = {name: beside.pop(name) for name in INTO_TRACE if name in beside}
    return Trace(table[0], table[1], current, some(table[3]), counter, resolution=resolution, beside=beside, **own)


def thinned(connection: Connection, run_id: int, every: int) -> list[tuple[float, float, float, float]]:
    """Every so-many-th row: elapsed s, V, A, and the Ah drawn by then (trapezoids over all rows)."""
    points: list[tuple[float, float, float, float]] = []
    charge, last_s, last_A, place = 0.0, None, 0.0, 0
    for values, _ in pieces(connection, run_id):
        seconds, volts, amps = values[:, 0], np.nan_to_num(values[:, 1]), np.nan_to_num(values[:, 2])
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
