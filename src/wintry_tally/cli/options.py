"""Options that several commands share."""

from __future__ import annotations

from typing import Any

import click

TIME_UNITS = ("ms", "s", "min", "h", "d")
VOLTS_AT = ("terminals", "load")
SAW_END = ("battery-protection", "set-cutoff", "operator")


def log_options(command: Any) -> Any:
    """Put every option of reading a log on a command."""
    options = [
        click.option("--family", help="lfp, agm, gel, flooded or nmc."),
        click.option("--rated-ah", type=float, help="The claimed capacity, Ah."),
        click.option("--nominal-v", type=float, help="The pack's nominal voltage as printed, V; its cells follow."),
        click.option(
            "--map", "mapping", multiple=True, metavar="FIELD=COLUMN", help="Which column is what; repeatable."
        ),
        click.option("--discharge-sign", type=click.Choice(["+", "-", "auto"]), default="auto", show_default=True),
        click.option("--voltage-accuracy", help='Like "0.5%+2d".'),
        click.option("--current-accuracy", help='Like "1%+0.01".'),
        click.option(
            "--instrument",
            multiple=True,
            help="The meter's name; logs of one name share its errors. One for all, or one each.",
        ),
        click.option("--cutoff", type=float, help="The set cut-off, V."),
        click.option("--device-dropout", type=float, multiple=True, help="A device's drop-out, V; repeatable."),
        click.option("--rated-minutes", type=float, help="Rated minutes of a reserve test."),
        click.option("--ambient", type=float, help="Ambient temperature, °C."),
        click.option("--timezone", default="", help="AREA/CITY of naive local times."),
        click.option("--interval", type=float, help="Seconds from frame to frame, where a log has no clock."),
        click.option("--time-unit", type=click.Choice(TIME_UNITS), help="Of times that name none."),
        click.option("--channel", default="", help="Of a log with several channels; the first where none is named."),
        click.option(
            "--volts-at",
            type=click.Choice(VOLTS_AT),
            help="Where the volts were read; what leads take is else told from the log where it can be.",
        ),
        click.option(
            "--saw-end",
            type=click.Choice(SAW_END),
            help="How the discharge ended, as somebody saw it, where no reading tells: a clamp that came off is operator.",
        ),
        click.option("--rest-minutes", type=float, help="Rest wanted before a discharge."),
        click.option("--repair", type=click.Choice(["none", "safe", "offered"]), default="safe", show_default=True),
    ]
    for option in reversed(options):
        command = option(command)
    return command
