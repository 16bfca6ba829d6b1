"""Which way a current flowed, where no sign says it: a column of words beside it, or one column for each way."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
import polars as pl

from wintry_tally.core.trace.trace import Column
from wintry_tally.exchange.columns import Header, field_scores

CHARGE, DISCHARGE = "charge", "discharge"
_DISCHARGE = re.compile(r"\b(?:dis|dch|dsg|dcg|entlad|decharg|descarg|scaric|ontlad)", re.IGNORECASE)
_CHARGE = re.compile(r"\b(?:charg|chg|laden|lade|ladung|carg|caric|opladen)", re.IGNORECASE)
_LIMIT = re.compile(r"\b(?:set|max|min|limit|setpoint|allowed)\b", re.IGNORECASE)
UNSIGNED = 0.02
"""No reading below zero by more than this share of the largest: the current is written without its sign."""


def way_of(words: str) -> str:
    """The way that some words name; empty where they name none."""
    plain = re.sub(r"[_\-]+", " ", words)
    return DISCHARGE if _DISCHARGE.search(plain) else CHARGE if _CHARGE.search(plain) else ""


def opposite(headers: Sequence[Header], current: int, taken: set[int]) -> int | None:
    """The column of the current the other way, where charge and discharge have one each; None where they have not."""
    own = way_of(headers[current].name)
    for index, header in enumerate(headers):
        ways = {own, way_of(header.name)} == {CHARGE, DISCHARGE} and not _LIMIT.search(header.name)
        if ways and index not in taken and "current" in field_scores(header):
            return index
    return None


def joined(current: Column, other: Column, name: str) -> Column:
    """Both as one current, drawn positive; `name` is the first one's. What one of them leaves empty is nothing."""
    drawn, put_in = (current, other) if way_of(name) == DISCHARGE else (other, current)
    missing = np.isnan(drawn) & np.isnan(put_in)
    return np.where(missing, np.nan, np.abs(np.nan_to_num(drawn)) - np.abs(np.nan_to_num(put_in)))


def by_words(current: Column, states: pl.Series) -> Column | None:
    """A current without signs with those that a column of words beside it says, drawn positive; None where it has signs, or
    nothing there says which way it flowed."""
    finite = current[np.isfinite(current)]
    if not len(finite) or float(finite.min()) < -UNSIGNED * float(np.abs(finite).max()):
        return None
    texts = states.cast(pl.String).fill_null("")
    ways = {text: way_of(text) for text in texts.unique().to_list()}
    if not any(ways.values()):
        return None
    charging = texts.is_in([text for text, way in ways.items() if way == CHARGE]).to_numpy()
    return np.where(charging, -np.abs(current), np.abs(current))
