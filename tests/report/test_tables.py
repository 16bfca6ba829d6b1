"""Tables taken elsewhere: read back by the csv module, and by the HTML parser of the standard library."""

from __future__ import annotations

import csv
import io
from html.parser import HTMLParser
from pathlib import Path

import pytest

from wintry_tally.app.dossiers import dossier_of
from wintry_tally.book import Book
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.verdict import School
from wintry_tally.demo import scratch_copy
from wintry_tally.report.tables import Table, parts_of, verdict_table


class _Cells(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.rows: list[list[str]] = []

    def handle_starttag(self, tag: str, _attrs: object) -> None:
        if tag == "tr":
            self.rows.append([])
        elif tag in {"td", "th"}:
            self.rows[-1].append("")

    def handle_data(self, data: str) -> None:
        self.rows[-1][-1] += data


def test_whatever_stands_in_a_cell_a_row_stays_a_row() -> None:
    table = Table(("a", "b"), (("x\ty", "two\nlines"), ("<b> & c", "")))
    read = list(csv.reader(io.StringIO(table.text()), delimiter="\t", quoting=csv.QUOTE_NONE))
    assert read == [["a", "b"], ["x y", "two lines"], ["<b> & c", ""]]
    cells = _Cells()
    cells.feed(table.html())
    assert cells.rows == [["a", "b"], ["x\ty", "two\nlines"], ["<b> & c", ""]]


@pytest.mark.parametrize(
    ("quantity", "parts"),
    [
        (Quantity(41.2749, 0.21, "Ah"), ("41.27", "0.42", "Ah")),
        (Quantity(-15.36, 0.05, "°C"), ("-15.36", "0.10", "°C")),
        (Quantity(5.0, None, "V"), ("5.000", "", "V")),
        (Quantity(12.0, 0.0, ""), ("12.00", "", "")),
    ],
)
def test_a_figure_is_a_number_its_uncertainty_and_its_unit(quantity: Quantity, parts: tuple[str, str, str]) -> None:
    assert parts_of(quantity) == parts


def test_the_ledger_as_a_table_has_every_claim_once(tmp_path: Path) -> None:
    with Book.open(scratch_copy(tmp_path)) as book:
        sample = next(one for one in book.samples.all() if one.code == "M1")
        dossier = dossier_of(book, sample, School.STRICT)
    table = verdict_table(dossier.verdicts)
    assert len(table.rows) == len(sample.claims) and all(len(row) == len(table.head) for row in table.rows)
    capacity = next(row for row in table.rows if row[0].startswith("Capacity"))
    assert capacity[2] == "met" and float(capacity[3]) > 40.0 > float(capacity[4]) > 0.0 and capacity[5] == "Ah"
    assert "Capacity 1" in capacity[7] and capacity[6].startswith("> 0.99")
    waits = next(row for row in table.rows if row[2] == "not tested")
    assert waits[3:6] == ("", "", "")
