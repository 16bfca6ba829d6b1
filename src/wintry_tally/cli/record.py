"""`record`: what happened in a run of a book."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from wintry_tally.cli.saying import answer, say

SCHEMA = "wintry-tally.record/1"


@click.command("record")
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("run", type=int)
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def record_command(book: Path, run: int, as_json: bool) -> None:
    """Say what happened in a run (its number is in `list`): steps, warnings, gaps, notes, and what hands did."""
    found, lines = recorded(book, run)
    answer(found, None if as_json else "\n".join(lines))


def recorded(path: Path, number: int) -> tuple[dict[str, Any], list[str]]:
    """See `wintry-tally record`; the object it prints, and the same for people.

    Raises:
        WintryError: no book, or no run of that number.
    """
    from wintry_tally.app.opening import opened
    from wintry_tally.app.run_record import record_of

    with opened(path, lambda words: say(words, err=True)) as book:
        lines, run = record_of(book, number), book.runs.get(number)
    head = f"run {run.id}  {run.title}, begun {run.started.astimezone():%Y-%m-%d %H:%M}"
    told = [f"{line.at:>10}  {line.word:<12}{line.sentence}" for line in lines] or ["nothing was kept but readings"]
    return {
        "schema": SCHEMA,
        "run": run.id,
        "title": run.title,
        "started": run.started.isoformat(),
        "events": [line.as_dict() for line in lines],
    }, [head, *told]
