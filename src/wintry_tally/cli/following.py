"""`follow`: what a sample lost from test to test, and the cycles it had elsewhere."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from wintry_tally.cli.saying import answer, say

SCHEMA = "wintry-tally.follow/1"


@click.command("follow")
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("code")
@click.option("--cycles", type=float, help="Note so many cycles that it had elsewhere since they were noted last.")
@click.option("--at", "moment", help="Until when it had them, as 2027-01-11T08:00; else now.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def follow_command(book: Path, code: str, cycles: float | None, moment: str | None, as_json: bool) -> None:
    """Say what a sample lost from test to test, by year and by hundred cycles, and when it would reach its claimed end."""
    found, lines = followed(book, code, cycles, moment)
    answer(found, None if as_json else "\n".join(lines))


def followed(path: Path, code: str, cycles: float | None, moment: str | None) -> tuple[dict[str, Any], list[str]]:
    """See `wintry-tally follow`; the object it prints, and the same for people.

    Raises:
        WintryError: no book, no sample of that code, a count or a moment that cannot be.
    """
    from wintry_tally.app.dossiers import dossier_of
    from wintry_tally.app.edits import Edits
    from wintry_tally.app.following import noted_of
    from wintry_tally.app.opening import opened, school_of
    from wintry_tally.cli.books import sample_of
    from wintry_tally.cli.place_commands import moment_of
    from wintry_tally.report.words import trend_words

    with opened(path, lambda words: say(words, err=True)) as book:
        sample = sample_of(book, code, path)
        if cycles is not None:
            Edits(book).note_cycles(sample, moment_of(moment), cycles).do()
        noted, trends = noted_of(book, sample.id), dossier_of(book, sample, school_of(book)).trends
    lines = [trend_words(one) for one in trends] or [
        "Two like tests, some time or some cycles apart, show what it loses."
    ]
    lines += [f"noted {one.at.astimezone():%Y-%m-%d}: {one.cycles:g} cycles" for one in noted]
    return {
        "schema": SCHEMA,
        "sample": code,
        "noted": [{"at": one.at.isoformat(), "cycles": one.cycles} for one in noted],
        "trends": [_trend(one) for one in trends],
    }, lines


def _trend(one: Any) -> dict[str, Any]:
    return {
        "quantity": one.quantity,
        "points": [
            {"run": point.run, "at": point.when.isoformat(), "cycles": point.cycles, "value": point.value.as_dict()}
            for point in one.points
        ],
        "aside": list(one.aside),
        "per_year": None if one.per_year is None else one.per_year.as_dict(),
        "per_hundred_cycles": None if one.per_hundred is None else one.per_hundred.as_dict(),
        "end": None if one.end is None else {"value": one.end.value, "at": one.end.at, "low": one.end.low, "high": one.end.high},
    }  # fmt: skip
