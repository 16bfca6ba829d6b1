"""Numbers in a log's cells: grouped, with units behind them, and by which step they go."""

from __future__ import annotations

import numpy as np
import polars as pl

from wintry_tally.core.trace.repair import ABSURD
from wintry_tally.core.trace.trace import Column, resolution_of

_GROUPS = r"^[+\-]?[1-9]\d{0,2}(\.\d{3})+(,\d*)?$"


def _marks(decimal: str) -> str:
    """What may stand between thousands beside a decimal mark."""
    return r"[.' ]" if decimal == "," else r"[,' ]"


def written_apart(values: pl.Series, written: pl.Series, decimal: str) -> pl.Series:
    """A column's numbers with those that have spaces round them, or are grouped beyond the rows that were looked at."""
    marks = _marks(decimal)
    text = written.str.strip_chars()
    grouped = text.str.contains(rf"^[+\-−]?\d{{1,3}}({marks}\d{{3}})+([{decimal}]\d*)?$").fill_null(False)
    bare = pl.select(pl.when(grouped).then(text.str.replace_all(marks, "")).otherwise(text)).to_series()
    return values.fill_null(bare.str.replace(decimal, ".", literal=True).cast(pl.Float64, strict=False))


def numbers_of(series: pl.Series, decimal: str = ".") -> Column:
    if series.dtype == pl.String:
        marks = _marks(decimal)
        text = series.str.strip_chars().str.replace(r"\s*[A-Za-zµ°Ω%]{1,4}$", "").str.replace_all("−", "-")
        grouped = text.str.replace_all(marks, "").str.replace(",", ".").cast(pl.Float64, strict=False)
        plain = (text.str.replace(",", ".") if decimal == "," else text).cast(pl.Float64, strict=False)
        pointed = text.filter(text.str.contains(".", literal=True)) if decimal == "," else text.clear()
        # "1.000" beside a decimal comma is a thousand where every point of its column groups
        series = grouped if len(pointed) and pointed.str.contains(_GROUPS).all() else plain.fill_null(grouped)
    values = series.cast(pl.Float64, strict=False)
    column = np.asarray(values.fill_null(float("nan")).to_numpy() if values.null_count() else values.to_numpy())
    with np.errstate(all="ignore"):
        whole = bool(np.isfinite(column.sum()))
    # "inf" and "1e999" are no readings, as little as an empty cell
    return column if whole or not np.isinf(column).any() else np.where(np.isinf(column), np.nan, column)


TOLD_APART, OFTEN, COARSEST, AT_ZERO, SURELY_ZERO = 12, 30, 3, 0.05, 0.002


def last_digit(column: Column, decimals: int) -> float:
    """One unit of the last decimal place printed in a column: as the head of the file shows it, or finer further on.

    Where a dozen different readings and more all end in naughts there, or a few that change and change again, no instrument
    moves that place: the last one that moves is its digit (10 mA of an ammeter whose logger writes mA). The same where one
    that never moves shows its zero: 40 mA beside 2,190.
    """
    shown, used = float(10.0**-decimals), resolution_of(column)
    step = min(shown, used) if used > 0.0 else shown
    sample = column[:: max(1, len(column) // 20_000)]
    counted = np.round(sample[np.abs(sample) < ABSURD] / step)
    units = np.unique(counted)
    moves = len(units) >= TOLD_APART or (len(units) > 2 and np.count_nonzero(np.diff(counted)) >= OFTEN)
    moves = moves or (len(counted) >= OFTEN and _zero_of_tens(units))
    for _ in range(COARSEST):
        if not moves or np.any(units % 10):
            break
        units, step = units / 10, 10.0 * step
    return step


def _zero_of_tens(units: Column) -> bool:
    """Whether a small reading beside large ones, as of a meter's zero, ends in a naught as they do; in more than one where it is
    so small beside them that it is no set value."""
    sizes = np.abs(units[units != 0.0])
    if len(sizes) < 2 or np.any(sizes % 10) or sizes.min() > AT_ZERO * sizes.max():
        return False
    return bool(sizes.min() % 100) or float(sizes.min()) <= SURELY_ZERO * float(sizes.max())
