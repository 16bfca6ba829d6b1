"""What the shell says to people, in the units asked for; JSON and files keep theirs."""

from __future__ import annotations

import json
from typing import Any

import click

from wintry_tally.core.quantity.preferred import METRIC, SYSTEMS, Units, words_in

_chosen = [METRIC]


def _choose(_context: click.Context, _option: click.Parameter, value: str | None) -> None:
    if value is not None:
        _chosen[0] = SYSTEMS[value]


def with_units(command: click.Command) -> None:
    """Give a command, and those under it, the option `--units`."""
    command.params.append(
        click.Option(
            ["--units"], type=click.Choice(list(SYSTEMS)), expose_value=False, callback=_choose,
            help="What is told in words, and a page, in °C, kg, mm (metric) or °F, lb, in, AWG (us); JSON is as it is.",
        )
    )  # fmt: skip
    if isinstance(command, click.Group):
        for one in command.commands.values():
            with_units(one)


def forget_units() -> None:
    """A new command line begins."""
    _chosen[0] = METRIC


def units() -> Units:
    """Those asked for."""
    return _chosen[0]


def say(words: str, err: bool = False) -> None:
    """Print words for a person."""
    click.echo(words_in(words, units()), err=err)


def answer(found: Any, words: str | None = None) -> None:
    """Print JSON, or where there are words those."""
    if words is None:
        click.echo(json.dumps(found, ensure_ascii=False, allow_nan=False))
    else:
        say(words)
