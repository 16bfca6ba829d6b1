"""The commands of a campaign: `plan`, `programme`, `today`. What they do is imported when they are called."""

from __future__ import annotations

from pathlib import Path

import click

from wintry_tally.cli.saying import answer, say


@click.command("plan")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--seconds", type=click.FloatRange(0.5, 3600.0), default=4.0, show_default=True, help="How long to think."
)
@click.option("--ics", type=click.Path(path_type=Path), help="Write what needs hands as an iCalendar file.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def plan_command(file: Path, seconds: float, ics: Path | None, as_json: bool) -> None:
    """Lay the tests of several samples over the days: who is there, what is free, what rests."""
    from wintry_tally.cli.planning import plan_of
    from wintry_tally.exchange.plan_json import plan_text

    found = plan_of(file, seconds, ics)
    answer(found, None if as_json else plan_text(found))


@click.command()
@click.argument("file", type=click.Path(path_type=Path), metavar="CLAIMS|BOOK")
@click.argument("code", required=False)
@click.option("--charged", type=click.FloatRange(0.0, 1.0), help="Share of charge now; else as received.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def programme(file: Path, code: str | None, charged: float | None, as_json: bool) -> None:
    """Say which tests settle a sample's claims, in which order, and how long each takes."""
    from wintry_tally.cli.planning import programme_for, programme_text

    found = programme_for(file, code, charged)
    answer(found, None if as_json else programme_text(found))


@click.command("today")
@click.argument("book", type=click.Path(path_type=Path))
@click.option("--notify", is_flag=True, help="Call somebody by the desktop's notifications, as a timer would.")
@click.option("--ics", type=click.Path(path_type=Path), help="Write what needs hands as an iCalendar file.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def today_command(book: Path, notify: bool, ics: Path | None, as_json: bool) -> None:
    """Say what of a book needs hands now and next, what runs, what is late, what is due."""
    from wintry_tally.cli.planning import today_of, today_text

    found = today_of(book, notify, ics)
    answer(found, None if as_json else today_text(found))


@click.command("sheet")
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("code")
@click.option("--recipe", required=True, help="A recipe's name, or a recipe file.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Where the page goes.")
def sheet_command(book: Path, code: str, recipe: str, out: Path) -> None:
    """Write the bench sheet of a test: leads, settings, limits, cautions, boxes for readings, a code that finds it."""
    from wintry_tally.cli.planning import write_sheet_of

    write_sheet_of(book, code, recipe, out)
    say(f"wrote {out}")


PLANNING = (plan_command, programme, today_command, sheet_command)
"""All of them, for `wintry-tally`."""
