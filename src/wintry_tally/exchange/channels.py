"""A log with the rows of several channels, as loggers of many batteries write: one of them is read, and the rest is told."""

from __future__ import annotations

import numpy as np
import polars as pl

from wintry_tally.core.errors import LogError
from wintry_tally.core.message import said
from wintry_tally.core.trace import Remark
from wintry_tally.exchange.layout import Layout

MOST = 64
"""A column of more different values than that names no channels."""


def channels_in(column: pl.Series) -> tuple[str, ...]:
    """The channels that a column names, in the order of their first rows; none where it names one only, or no channels."""
    names = column.cast(pl.String).str.strip_chars().drop_nulls()
    found = names.filter(names != "").unique(maintain_order=True)
    return tuple(found.to_list()) if 1 < len(found) <= MOST else ()


def one_channel(
    frame: pl.DataFrame, layout: Layout, wanted: str, name: str, remarks: list[Remark]
) -> tuple[pl.DataFrame, np.ndarray | None, tuple[str, ...]]:
    """The rows of one channel, their numbers in the file (None where every row is read), and all channels there are.

    Args:
        frame: the columns of `layout.used`; wanted: a channel, or empty for the first; name: of the file, for what is told.

    Raises:
        LogError: no row is of that channel, or no column names any.
    """
    if "channel" not in layout.columns:
        if wanted:
            raise LogError("no column names the channels", name, "name it with --map channel=COLUMN")
        return frame, None, ()
    title = layout.label("channel")
    column = frame.to_series(layout.used.index(layout.columns["channel"])).cast(pl.String).str.strip_chars()
    found = channels_in(column)
    if not found and not wanted:
        return frame, None, ()
    chosen = wanted or found[0]
    mine = np.flatnonzero((column == chosen).fill_null(False).to_numpy())
    if len(mine) == 0:
        there = ", ".join(found[:12]) or ", ".join(column.drop_nulls().unique(maintain_order=True).head(12).to_list())
        raise LogError(f'no row is of channel "{chosen}"', name, f"the channels in column {title} are: {there}")
    if len(mine) < frame.height:
        others = tuple(one for one in found if one != chosen) or (said("no-channel"),)
        told = said("one-channel", column=str(title), count=len(mine), channel=chosen, others=others)
        remarks.append(Remark("several-channels", told))
    return frame[mine], mine + 1, found
