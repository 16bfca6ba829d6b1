"""What the shell says to people, in the units asked for; JSON and files keep theirs."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import click

from wintry_tally.core.quantity.preferred import CHOICES, METRIC, SYSTEMS, Units, words_in

_chosen = [METRIC]


def _choose(_context: click.Context, _option: click.Parameter, value: str | None) -> None:
    if value is not None:
        _chosen[0] = replace(SYSTEMS[value], decimal=_chosen[0].decimal)


def _speak(_context: click.Context, _option: click.Parameter, value: str | None) -> None:
    if value is not None:
        _chosen[0] = replace(_chosen[0], decimal=decimal_of(value))


def decimal_of(language: str) -> str:
    """The decimal mark of a language, as de or pt-BR (Unicode CLDR, by Babel).

    Raises:
        BadParameter: no such language is known.
    """
    from babel import Locale, UnknownLocaleError
    from babel.numbers import get_decimal_symbol

    try:
        mark = get_decimal_symbol(Locale.parse(language.replace("-", "_").partition(".")[0]))
    except (UnknownLocaleError, ValueError, TypeError):
        raise click.BadParameter(f"{language!r} is no language known here; write it as en, de or pt-BR") from None
    return mark if mark in CHOICES["decimal"] else "."


def with_units(command: click.Command) -> None:
    """Give a command, and those under it, the options `--units` and `--lang`."""
    command.params.append(
        click.Option(
            ["--units"], type=click.Choice(list(SYSTEMS)), expose_value=False, callback=_choose,
            help="What is told in words, and a page, in °C, kg, mm (metric) or °F, lb, in, AWG (us); JSON is as it is.",
        )
    )  # fmt: skip
    command.params.append(
        click.Option(
            ["--lang"], metavar="TAG", expose_value=False, callback=_speak,
            help="Write numbers in words, and on a page, as this language does (de: 12,9 V); the words are English.",
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
