"""Several files that are one log: put in order, joined on one clock, what is repeated left out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from wintry_tally.core.errors import LogError
from wintry_tally.core.message import Message, said
from wintry_tally.core.trace import Remark
from wintry_tally.core.trace.beside import in_order
from wintry_tally.core.trace.trace import Column, Trace
from wintry_tally.exchange.reader import LogFile

_COLUMNS = ("temperature_C", "counter_Ah", "counter_Wh", "power_W", "charge_state")
CLOCK_ROUNDING_S = 1e-5
"""Dates kept as seconds since 1970 are good to this."""
ALIKE = 0.9
"""So large a share of the readings two parts have in common must agree for one clock to run through both."""


def join_logs(parts: Sequence[tuple[str, LogFile]]) -> LogFile:
    """One log from its parts, given with their names.

    With dates the parts are put in order by them. Without, they stand as given: a clock that goes on where the part
    before ended goes on, one that begins anew is put one usual interval behind it. A later part's readings of a time
    that an earlier part already covers are left out. Rows are numbered through all parts; a remark says which part
    begins where. Nothing else is changed.

    Raises:
        LogError: no parts, or parts with and without a current.
    """
    if not parts:
        raise LogError("no files to join")
    if len(parts) == 1:
        return parts[0][1]
    if len({log.trace.current_A is None for _, log in parts}) > 1:
        odd = next(name for name, log in parts if log.trace.current_A is None)
        raise LogError("this part has no current and the others do", odd, "choose its current column, or leave it out")
    dated = all(log.started is not None for _, log in parts)
    ordered = sorted(parts, key=lambda part: part[1].started.timestamp()) if dated else list(parts)  # type: ignore[union-attr]
    pieces: list[Trace] = []
    told: list[Message] = []
    rows = 0
    end = -np.inf
    for number, (name, log) in enumerate(ordered):
        trace = log.trace
        first_row, rows = rows + 1, rows + log.rows
        numbered = np.arange(first_row, first_row + len(trace), dtype=np.int64)
        time_s, behind_s = _placed(ordered, number, pieces, dated)
        part = said("part-joined", name=name, row=first_row)
        if behind_s is not None:
            part = said("part-put-behind", name=name, row=first_row, seconds=behind_s)
        trace = replace(trace, time_s=time_s, row=numbered)
        if number:
            keep = ~(time_s <= end + CLOCK_ROUNDING_S)
            left = int(np.count_nonzero(~keep))
            if left:
                part = said("part-overlaps", part=part, count=left)
                trace = trace.taking(keep)
        told.append(part)
        if len(trace):
            pieces.append(trace)
            finite = trace.time_s[np.isfinite(trace.time_s)]
            end = max(end, float(np.max(finite))) if len(finite) else end
    joined = _stacked(pieces)
    remarks = [Remark("parts-joined", said("files-joined", count=len(ordered), parts=tuple(told)))]
    live = [(name, log) for name, log in ordered if _flows(log.trace)]
    if len({log.discharge_sign for _, log in live}) > 1:
        minus = tuple(name for name, log in live if log.discharge_sign == "-")
        remarks.append(Remark("sign-flipped", said("files-signs", names=minus)))
    head = ordered[0][1]
    sign = live[0][1].discharge_sign if live else head.discharge_sign
    own = [replace(remark, rows=None) for _, log in ordered for remark in log.remarks]
    return LogFile(joined, head.layout, rows, head.columns, sign, head.started, (*remarks, *own))


def _flows(trace: Trace) -> bool:
    """Whether any current flows: a part that only rests says nothing of its sign."""
    if trace.current_A is None:
        return False
    amps = np.abs(trace.current_A[np.isfinite(trace.current_A)])
    return bool(len(amps)) and float(np.max(amps)) > 0.05


def _placed(
    ordered: Sequence[tuple[str, LogFile]], number: int, pieces: list[Trace], dated: bool
) -> tuple[Column, float | None]:
    """A part's times on the common clock, and by how much it was put behind the part before where its own clock began anew."""
    log = ordered[number][1]
    time_s = log.trace.time_s
    if dated:
        begin, own = ordered[0][1].started, log.started
        assert begin is not None and own is not None
        return time_s - time_s[0] + (own - begin).total_seconds(), None
    if not pieces:
        return time_s, None
    before = _stacked(pieces) if len(pieces) > 1 else pieces[0]
    last = float(before.time_s[-1])
    if float(time_s[0]) >= last or _goes_on(before, log.trace):
        return time_s, None
    usual = before.usual_s
    usual = usual if np.isfinite(usual) and usual > 0 else 1.0
    return time_s - time_s[0] + last + usual, usual


def _goes_on(before: Trace, after: Trace) -> bool:
    """Whether a part begins within what came before it and reads the same there."""
    if after.time_s[0] <= before.time_s[0]:
        return False
    shared = (after.time_s >= before.time_s[0]) & (after.time_s <= before.time_s[-1])
    volts = np.interp(after.time_s[shared], before.time_s, before.voltage_V)
    near = np.abs(after.voltage_V[shared] - volts) <= 0.02
    return float(np.mean(near)) >= ALIKE


def _stacked(pieces: list[Trace]) -> Trace:
    def stack(name: str) -> Column | None:
        columns = [getattr(piece, name) for piece in pieces]
        if all(column is None for column in columns):
            return None
        filled = [
            np.full(len(piece), np.nan) if column is None else column
            for piece, column in zip(pieces, columns, strict=True)
        ]
        return np.concatenate(filled)

    resolution: dict[str, float] = {}
    for piece in pieces:
        for name, step in piece.resolution.items():
            resolution[name] = max(step, resolution.get(name, 0.0))
    rest: dict[str, Any] = {name: stack(name) for name in _COLUMNS}
    time_s, voltage = stack("time_s"), stack("voltage_V")
    assert time_s is not None and voltage is not None
    rows = np.concatenate([piece.row for piece in pieces if piece.row is not None])
    beside = {
        name: np.concatenate([piece.beside.get(name, np.full(len(piece), np.nan)) for piece in pieces])
        for name in in_order({name for piece in pieces for name in piece.beside})
    }
    unnamed = frozenset[str]().union(*(piece.unnamed for piece in pieces))
    return Trace(
        time_s, voltage, stack("current_A"), row=rows, resolution=resolution, beside=beside, unnamed=unnamed, **rest
    )
