"""What a page shows as a table, to be taken elsewhere: a line a row, its cells apart by tabs, or as HTML."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape
from typing import TYPE_CHECKING

from wintry_tally.core.quantity import Quantity, format_quantity
from wintry_tally.core.quantity.display import MINUS
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS, Verdict
from wintry_tally.report.words import chance_words, claim_words, difference_words, handy

if TYPE_CHECKING:
    from wintry_tally.core.compare import Comparison

K = "k = 2"


@dataclass(frozen=True)
class Table:
    """Words under their heads; every row is as long as the head."""

    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]

    def text(self) -> str:
        """For a spreadsheet or a letter. What would break a line or a column is a space."""
        return "\n".join("\t".join(" ".join(cell.split()) for cell in line) for line in (self.head, *self.rows)) + "\n"

    def html(self) -> str:
        """For what takes tables as they are."""
        lines = [
            "<tr>" + "".join(f"<{tag}>{escape(cell)}</{tag}>" for cell in line) + "</tr>"
            for tag, line in (("th", self.head), *(("td", row) for row in self.rows))
        ]
        return f"<table>{''.join(lines)}</table>"


def verdict_table(verdicts: Sequence[Verdict]) -> Table:
    """The ledger: what is claimed and where, what was measured with its expanded uncertainty, how sure that is."""
    return Table(
        ("claim", "printed", "outcome", "measured", f"± ({K})", "unit", "probability", "from", "what would settle it"),
        tuple(_line(verdict) for verdict in verdicts),
    )


def comparison_table(found: Comparison) -> Table:
    """Batteries beside each other, and what is said of their differences."""
    rows = [
        (one.label, *("" if (value := one.values[code]) is None else format_quantity(handy(value)) for code in found.codes),
         difference_words(one, found.codes, True))
        for one in found.rows
    ]  # fmt: skip
    return Table(("", *found.codes, "difference"), tuple(rows))


def parts_of(shown: Quantity) -> tuple[str, str, str]:
    """Value, expanded uncertainty and unit, each rounded as it is shown; a minus sign that every spreadsheet knows."""
    words = format_quantity(Quantity(shown.value, shown.standard, "")).replace(MINUS, "-")
    value, _, doubt = words.partition(" ± ")
    return value, "" if doubt == "?" else doubt, shown.unit


def _line(verdict: Verdict) -> tuple[str, ...]:
    value, doubt, unit = ("", "", "") if verdict.shown is None else parts_of(verdict.shown)
    chance = "" if verdict.probability is None else chance_words(verdict.probability)
    return (
        claim_words(verdict.claim), verdict.claim.source, OUTCOME_WORDS[verdict.outcome].lower(), value, doubt, unit,
        chance, ", ".join(verdict.evidence), verdict.advice or "",
    )  # fmt: skip
