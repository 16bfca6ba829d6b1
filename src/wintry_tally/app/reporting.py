"""Writing the report of a sample, with what it is good for: one way for window and shell."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wintry_tally.core.quantity.preferred import METRIC, Units

if TYPE_CHECKING:
    from wintry_tally.book import Book
    from wintry_tally.core.compare import Need
    from wintry_tally.report.dossier import Dossier


def comparison_page(
    dossiers: Sequence[Dossier], needs: Sequence[tuple[str, Need]], path: Path, units: Units = METRIC
) -> None:
    """Write the comparison of samples as a page; `needs`: each in words and as data.

    Raises:
        InputError: the file cannot be written.
    """
    from wintry_tally.app.comparison import compare_dossiers, judge_needs, model_lines, model_of
    from wintry_tally.files import write_whole
    from wintry_tally.report.side_by_side import render_comparison

    found = compare_dossiers(dossiers, [need for _, need in needs])
    model = model_of(dossiers, found)
    judged = [(words, judge_needs(dossiers, [need])) for words, need in needs]
    write_whole(
        render_comparison(dossiers, found, judged, model_lines(model) if model is not None else (), units=units), path
    )


def write_report(dossier: Dossier, needs: Sequence[str], path: Path, book: Book, units: Units = METRIC) -> None:
    """Write the page; `needs`: what batteries of the book are needed for, each in its line.

    Its pictures, and what happened in its runs, are the book's.

    Raises:
        InputError: the file cannot be written.
    """
    from wintry_tally.app.pictures import shown_in
    from wintry_tally.app.run_record import records_of
    from wintry_tally.report.page import write_page

    pictures = shown_in(book, dossier.sample.id)
    records = records_of(book, [run.facts.id for run in dossier.runs])
    if not needs:
        write_page(dossier, path, pictures=pictures, units=units, records=records)
        return
    from wintry_tally.app.comparison import judge_needs
    from wintry_tally.core.compare.typed_need import kept_needs

    read = kept_needs(needs)[0]
    judged = judge_needs([dossier], [need for _, need in read])
    told = [(text, one) for (text, _), one in zip(read, judged, strict=True)]
    write_page(dossier, path, told, pictures, units, records)
