"""A comparison as one self-contained web page: figures with their differences, curves, the model, what they are good for."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from wintry_tally import __version__
from wintry_tally.core.quantity import Quantity, format_quantity
from wintry_tally.core.quantity.preferred import METRIC, Units
from wintry_tally.core.trace.trace import Column
from wintry_tally.report.curve import curve_svg
from wintry_tally.report.page import filled
from wintry_tally.report.words import bill_lines, difference_words, handy, need_line, unlike_of

if TYPE_CHECKING:
    from wintry_tally.core.compare import Comparison, NeedResult
    from wintry_tally.report.dossier import Dossier


def render_comparison(
    dossiers: Sequence[Dossier], found: Comparison, needs: Sequence[tuple[str, Sequence[NeedResult]]], model: Sequence[str],
    made: datetime | None = None, units: Units = METRIC,
) -> str:  # fmt: skip
    """The page as text, in a reader's units.

    Args:
        needs: each in words, with how every sample stands to it; model: lines on the model, where all are of one.
    """
    rows = []
    told: tuple[object, ...] = ()
    for one in found.rows:
        anew = one.unlike == () or unlike_of(one) != told
        told = unlike_of(one) or told
        shown = [_shown(one.values[code]) for code in found.codes]
        rows.append((one.label, shown, difference_words(one, found.codes, anew).split("\n")))
    runs = next((one.runs for one in found.rows if one.quantity == "charge"), {})
    curves = [curve for dossier in dossiers for curve in _curve(dossier, runs.get(dossier.sample.code, ""))]
    return filled(
        "comparison.html.j2",
        {
            "samples": [dossier.sample for dossier in dossiers], "rows": rows, "codes": found.codes, "model": model,
            "needs": [(words, [*(need_line(one) for one in judged), *bill_lines(judged)]) for words, judged in needs],
            "curve": curve_svg(curves, None, None), "curves": [f"{chr(97 + n)}: {curve[0]}" for n, curve in enumerate(curves)],
            "demo": any(dossier.demo for dossier in dossiers), "version": __version__,
            "made": (made or datetime.now(UTC)).strftime("%Y-%m-%d %H:%M UTC"),
        },
        units,
    )  # fmt: skip


def _shown(value: Quantity | None) -> str:
    if value is None:
        return "–"
    return format_quantity(handy(value))


def _curve(dossier: Dossier, title: str) -> list[tuple[str, Column, Column]]:
    run = next((one for one in dossier.runs if one.facts.title == title and one.analysis is not None), None)
    found = run.curve if run is not None else None
    return [] if found is None else [(f"{dossier.sample.code}, {title}", *found)]
