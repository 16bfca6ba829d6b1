"""`wintry-tally`: opens the window, or does one thing and prints it."""

from __future__ import annotations

import logging
import sys
import warnings
from pathlib import Path
from typing import Any

import click

from wintry_tally import __version__
from wintry_tally.cli.banks import bank_command
from wintry_tally.cli.following import follow_command
from wintry_tally.cli.options import log_options
from wintry_tally.cli.pictures import attach_command
from wintry_tally.cli.place_commands import PLACES
from wintry_tally.cli.plan_commands import PLANNING
from wintry_tally.cli.record import record_command
from wintry_tally.cli.saying import answer, forget_units, say, with_units
from wintry_tally.core.errors import LogError, WintryError

ERROR_SCHEMA = "wintry-tally.error/1"


def _refused(words: str, code: int = 2) -> int:
    say(" ".join(f"wintry-tally: {words}".split()), err=True)
    return code


class Books(click.Group):
    """A book's file stands where a command may: it is opened, as the desktop does it."""

    def parse_args(self, context: click.Context, args: list[str]) -> list[str]:
        """See click."""
        if args and args[0] not in self.commands and args[0].endswith(".wintry"):
            args = ["--shown", *args]
        return super().parse_args(context, args)


@click.group(cls=Books, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.option("--demo", is_flag=True, help="Open a scratch copy of the shipped demo book.")
@click.option("--book", type=click.Path(path_type=Path), help="Open this test book.")
@click.option("--shown", type=click.Path(path_type=Path), hidden=True)
@click.option("--theme", type=click.Choice(["day", "night"]), help="Start in this theme.")
@click.option("--log", is_flag=True, help="Print what went wrong inside the program lately, and where that is kept.")
@click.version_option(__version__, prog_name="wintry-tally")
@click.pass_context
def cli(
    context: click.Context, demo: bool, book: Path | None, shown: Path | None, theme: str | None, log: bool
) -> None:
    """Plan, watch, count, remember and judge battery tests. Without a command, opens the window.

    A book's file alone opens it; where a window shows it already, that comes forward.
    """
    if log:
        from wintry_tally.app.logbook import last_lines, log_path

        click.echo(f"{log_path()}\n{last_lines() or 'nothing was noted'}")
        context.exit(0)
    if context.invoked_subcommand is None:
        from wintry_tally.desk.starting import hold_collector

        hold_collector()
        from wintry_tally.desk.app import run

        context.exit(run(demo=demo, book=book or shown, theme=theme, again=shown is None))


@cli.command()
@click.argument("logs", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="LOG...")
@log_options
@click.option("--join", is_flag=True, help="The files are parts of one log.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def analyse(logs: tuple[Path, ...], join: bool, as_json: bool, **given: Any) -> None:
    """Say what one or more logs hold: stages, charge and energy with their uncertainty, and every slip."""
    from wintry_tally.cli.logs import analyse_joined, analyse_log, for_log, options_from, parse_given
    from wintry_tally.exchange.analysis_json import analysis_dict

    chosen = parse_given(given)
    for_log(chosen, 0, len(logs))
    failed = False
    for number, path in enumerate(logs[:1] if join else logs):
        choices, options = options_from(for_log(chosen, number, len(logs)))
        try:
            log, analysis = analyse_joined(logs, choices, options) if join else analyse_log(path, choices, options)
        except WintryError as error:
            if len(logs) == 1 or join:
                raise
            failed = True
            message = {"schema": ERROR_SCHEMA, "path": str(path), "message": str(error)}
            if as_json:
                answer(message)
            else:
                say(f"{path}: {error}", err=True)
            continue
        if as_json:
            answer(analysis_dict(log, analysis))
        else:
            from wintry_tally.cli.text import analysis_text

            say(analysis_text(path, log, analysis))
    if failed:
        raise (LogError("some logs could not be read", mend="see their lines") if not as_json else SystemExit(2))


@cli.command()
@click.argument("file", metavar="FILE|-")
@click.option("--source", default="label", show_default=True, help="Where it is printed: label, manual, web page …")
@click.option("--family", help="lfp, agm, gel, flooded or nmc, where it is known.")
@click.option("--nominal-v", type=float, help="The pack's nominal voltage, where the text does not say it.")
@click.option("--rated-ah", type=float, help="Its rated capacity, where the text does not say it.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def claims(
    file: str, source: str, family: str | None, nominal_v: float | None, rated_ah: float | None, as_json: bool
) -> None:
    """Read claims as they are printed: a label's line, a manual's table, a web page's text."""
    from wintry_tally.cli.claiming import claims_dict, claims_of, claims_text

    found = claims_of(file, source, family, nominal_v, rated_ah)
    answer(claims_dict(found), None if as_json else claims_text(found))


@cli.command()
@click.argument("logs", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="LOG...")
@log_options
@click.option("--at", "at_A", type=float, multiple=True, help="Foretell the charge at this current, A; repeatable.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def rate(logs: tuple[Path, ...], at_A: tuple[float, ...], as_json: bool, **given: Any) -> None:
    """Fit the effect of the rate to logs of full discharges at different currents."""
    from wintry_tally.cli.logs import parse_given
    from wintry_tally.cli.relations import rate_of, rate_text

    result = rate_of(logs, parse_given(given), at_A)
    answer(result, None if as_json else rate_text(result))


@cli.command()
@click.argument("logs", nargs=-1, required=True, metavar="LOG...|CODE...")
@log_options
@click.option("--book", type=click.Path(path_type=Path), help="Compare samples of this book, by their codes.")
@click.option(
    "--need", type=click.Path(path_type=Path), help="With --book: hold them against the needs of this file too."
)
@click.option("--out", type=click.Path(path_type=Path), help="With --book: write the comparison as a page, too.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def compare(
    logs: tuple[str, ...], book: Path | None, need: Path | None, out: Path | None, as_json: bool, **given: Any
) -> None:  # fmt: skip
    """Hold discharges of several units or runs against each other, or samples of a book; what one meter gets wrong cancels."""
    if book is not None:
        from wintry_tally.cli.books import compare_book

        found, text = compare_book(book, logs, need, out)
        answer(found, None if as_json else text)
        return
    if need is not None:
        raise click.UsageError("a need is held against samples of a book: give --book")
    if out is not None:
        raise click.UsageError("a page is written of samples of a book: give --book")
    from wintry_tally.cli.logs import parse_given
    from wintry_tally.cli.relations import comparison_of, comparison_text

    result = comparison_of(tuple(Path(log) for log in logs), parse_given(given))
    answer(result, None if as_json else comparison_text(result))


@cli.command()
@click.argument("claims", type=click.Path(path_type=Path), metavar="CLAIMS|BOOK")
@click.argument("code", required=False)
@click.option("--school", type=click.Choice(["strict", "plain", "lenient"]), help="How numbers become outcomes.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def judge(claims: Path, code: str | None, school: str | None, as_json: bool) -> None:
    """Hold the claims of a file against its evidence, or those of a sample of a book (by its code) against its runs."""
    from wintry_tally.cli.books import judge_book
    from wintry_tally.cli.judging import judge_file

    result = judge_file(claims, school) if code is None else judge_book(claims, code, school)
    if as_json:
        answer(result)
    else:
        from wintry_tally.cli.text import verdict_text

        say(verdict_text(result))


@cli.command()
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("sample")
@click.option("--out", type=click.Path(path_type=Path), required=True, help="The web page to write.")
@click.option("--school", type=click.Choice(["strict", "plain", "lenient"]), help="The book's own where none is given.")
def report(book: Path, sample: str, out: Path, school: str | None) -> None:
    """Write the report of a sample (by its code) as one self-contained web page."""
    from wintry_tally.cli.books import write_report

    write_report(book, sample, out, school)
    click.echo(str(out))


@cli.command("import")
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("sample")
@click.argument("logs", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="LOG...")
@click.option("--test", default="", help="The kind of test it is; guessed where it is not given.")
@log_options
def import_into(book: Path, sample: str, logs: tuple[Path, ...], test: str, **given: Any) -> None:
    """Keep a log (several files are one log) as a run of a sample, by its code."""
    from wintry_tally.cli.books import import_logs
    from wintry_tally.cli.logs import options_from, parse_given

    say(import_logs(book, sample, logs, test, *options_from(parse_given(given))))


@cli.command()
@click.option("--recipe", default="capacity-reference", show_default=True, help="A recipe's name, or a recipe file.")
@click.option("--family", required=True, help="lfp, agm, gel, flooded or nmc.")
@click.option("--rated-ah", type=float, required=True, help="The claimed capacity, Ah.")
@click.option("--nominal-v", type=float, help="The pack's nominal voltage as printed, V; its cells follow.")
@click.option("--claim", "claims", multiple=True, help='A claim as printed, like "40 A continuous"; repeatable.')
@click.option("--full", type=float, help="Charge at the start, %: 100 for a recipe; inferred with --so-far.")
@click.option("--ambient", type=float, help="Ambient temperature, °C; 23 where neither it nor a log says.")
@click.option("--load-w", type=float, default=180.0, show_default=True, help="The load's power ceiling, W.")
@click.option("--load-a", type=float, default=20.0, show_default=True, help="The load's current ceiling, A.")
@click.option("--charger-a", type=float, default=50.0, show_default=True, help="The charger's ceiling, A.")
@click.option("--charger-v", type=float, default=16.0, show_default=True, help="The charger's ceiling, V.")
@click.option("--own-cutoff", is_flag=True, help="The load stops by itself at its cut-off; proven.")
@click.option("--begins", default="", help='When it would begin, like "2026-11-25 21:00"; now where not given.')
@click.option("--attended", default="", help='When somebody is there, like "7:00-22:00" or "Mon-Fri 8-17".')
@click.option(
    "--so-far", type=click.Path(path_type=Path), metavar="LOG", help="The rest of the test in which this log ends."
)
@click.option(
    "--earlier", type=click.Path(path_type=Path), multiple=True, metavar="LOG",
    help="With --so-far: a whole discharge of the same battery from before; repeatable.",
)  # fmt: skip
@click.option("--cutoff", type=float, help="With --so-far: where the discharge ends, V.")
@click.option("--limit", "limit_V", type=float, help="With --so-far: the charger's limit, V.")
@click.option("--voltage-accuracy", help='With --so-far: like "0.5%+2d".')
@click.option("--current-accuracy", help='With --so-far: like "1%+0.01".')
@click.option("--map", "mapping", multiple=True, metavar="FIELD=COLUMN", help="With --so-far: which column is what.")
@click.option("--discharge-sign", type=click.Choice(["+", "-", "auto"]), default="auto", show_default=True)
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def forecast(
    recipe: str, family: str, rated_ah: float, nominal_v: float | None, claims: tuple[str, ...], full: float | None,
    ambient: float | None, load_w: float,
    load_a: float, charger_a: float, charger_v: float, own_cutoff: bool, begins: str, attended: str, so_far: Path | None, earlier: tuple[Path, ...], limit_V: float | None,
    as_json: bool, **given: Any,
) -> None:  # fmt: skip
    """Foretell a recipe on the battery model, with the checks before its start; or the rest of a test under way."""
    from wintry_tally.cli.foretelling import forecast_text, foretell
    from wintry_tally.core.protocol.preflight import Bench
    from wintry_tally.core.room import ROOM_C

    if so_far is not None:
        from wintry_tally.cli.foretelling import foretell_onward, onward_text
        from wintry_tally.cli.logs import parse_given

        chosen = parse_given(
            {**given, "family": family, "rated_ah": rated_ah, "ambient": ambient, "nominal_v": nominal_v}
        )
        onward = foretell_onward(so_far, chosen, full, limit_V, earlier)
        answer(onward, None if as_json else onward_text(onward))
        return
    bench = Bench(load_w, load_a, charger_a, charger_v, own_cutoff=own_cutoff)
    result = foretell(
        recipe, family, rated_ah, claims, 100.0 if full is None else full, ROOM_C if ambient is None else ambient, bench,
        begins, attended, nominal_v,
    )  # fmt: skip
    answer(result, None if as_json else forecast_text(result))


@cli.command()
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("run", type=int)
@click.option("--out", type=click.Path(path_type=Path), required=True, help="The CSV file to write.")
@click.option("--original", is_flag=True, help="Write the imported file as it came instead.")
def export(book: Path, run: int, out: Path, original: bool) -> None:
    """Write the readings of a run of a book as CSV with battery-data style headers."""
    from wintry_tally.cli.books import export_run

    export_run(book, run, out, original)
    click.echo(str(out))


@cli.command()
@click.option(
    "--battery", type=click.Path(path_type=Path), required=True, help="A TOML or JSON file; see docs/formats.md."
)
@click.option("--protocol", required=True, help="A recipe's name (see `recipes`), or a recipe file.")
@click.option("--seed", type=int, default=1, show_default=True)
@click.option("--out", type=click.Path(path_type=Path), required=True, help="The log to write (CSV, Parquet).")
@click.option("--truth", type=click.Path(path_type=Path), help="Write what was true, as JSON.")
@click.option("--interval", type=float, default=1.0, show_default=True, help="Seconds from reading to reading.")
def simulate(battery: Path, protocol: str, seed: int, out: Path, truth: Path | None, interval: float) -> None:
    """Write the log of a test on a simulated battery, with its known truth."""
    from wintry_tally.cli.simulating import simulate_file

    say(simulate_file(battery, protocol, seed, out, truth, interval))


@cli.command()
@click.argument("name", required=False)
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def recipes(name: str | None, as_json: bool) -> None:
    """List the recipes that ship, or print one."""
    from wintry_tally.cli.simulating import recipe_lines

    # one is for a program, or a file
    (click.echo if as_json or name else say)(recipe_lines(name, as_json))


@cli.command("stand-ins")
@click.option(
    "--battery", type=click.Path(path_type=Path), help="A TOML or JSON file as for `simulate`; else LFP, 40 Ah."
)
@click.option("--speed", type=float, default=1.0, show_default=True, help="× real time.")
@click.option("--seed", type=int, default=1, show_default=True)
@click.option("--port", type=int, default=0, help="First of ten TCP ports; 0 lets the system choose.")
@click.option("--file", type=click.Path(path_type=Path), help="Also lengthen this CSV file.")
@click.option(
    "--fault", multiple=True, metavar="INSTRUMENT=FAULT[@S]", help="A fault, at once or after S s; repeatable."
)
@click.option("--wiring", multiple=True, metavar="NAME", help="Wire the bench wrong in this way; repeatable.")
@click.option("--faults", "listed", is_flag=True, help="List every fault and wiring instead.")
def stand_ins(
    battery: Path | None, speed: float, seed: int, port: int, file: Path | None, fault: tuple[str, ...],
    wiring: tuple[str, ...], listed: bool,
) -> None:  # fmt: skip
    """Start simulated instruments on loopback (by SCPI, by lines, by registers) until interrupted."""
    from wintry_tally.cli.simulating import read_battery
    from wintry_tally.cli.standing_in import listing, serve

    if listed:
        say(listing())
        return
    serve(read_battery(battery), speed, seed, port, file, fault, click.echo, wiring=wiring)


@cli.command("list")
@click.argument("book", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def list_book(book: Path, as_json: bool) -> None:
    """List the samples and runs of a book."""
    from wintry_tally.cli.books import list_data, list_lines

    if as_json:
        answer(list_data(book))
    elif lines := list_lines(book):
        say("\n".join(lines))


@cli.command()
@click.argument("source", metavar="FROM", type=click.Path(path_type=Path))
@click.argument("target", metavar="TO", type=click.Path(path_type=Path))
def copy(source: Path, target: Path) -> None:
    """Copy a book into a new file, readings bit for bit, while others may be writing into it."""
    from wintry_tally.book.copying import copy_book

    copy_book(source, target)
    click.echo(target)


@cli.command()
@click.argument("book", type=click.Path(path_type=Path))
def new(book: Path) -> None:
    """Make a new, empty book."""
    from wintry_tally.cli.running import new_book

    click.echo(new_book(book))


@cli.command()
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("code")
@click.option("--claims", type=click.Path(path_type=Path), help="A claims file, or printed text with a claim a line.")
@click.option("--family", default="", help="lfp, agm, gel, flooded or nmc; else the claims file's, else lfp.")
@click.option(
    "--nominal-v", type=click.FloatRange(0.1, 1000.0), help="The pack's nominal voltage; else as printed, else 12 V."
)
@click.option("--maker", default="")
@click.option("--model", default="")
@click.option(
    "--set", "settings", multiple=True, metavar="FIELD=VALUE", help="A field of the arrival page; repeatable."
)
def add(
    book: Path, code: str, claims: Path | None, family: str, nominal_v: float | None, maker: str, model: str,
    settings: tuple[str, ...],
) -> None:  # fmt: skip
    """Hang a tag: add a sample to a book."""
    from wintry_tally.cli.running import add_sample

    say(add_sample(book, code, claims, family, maker, model, settings, nominal_v))


@cli.command()
@click.argument("book", type=click.Path(path_type=Path))
@click.option("--set", "setting", type=click.Path(path_type=Path), help="Put the bench of this file in its place.")
@click.option("--ask", is_flag=True, help="Ask every instrument once; exit 3 when one does not answer.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def bench(book: Path, setting: Path | None, ask: bool, as_json: bool) -> None:
    """Show the bench of a book, set it from a file, or ask it once."""
    from wintry_tally.cli.running import show_bench

    text, code = show_bench(book, setting, ask, as_json)
    (click.echo if as_json else say)(text)
    raise SystemExit(code)


@cli.command("run")
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("code", required=False)
@click.option("--recipe", help="A recipe's name, or a recipe file.")
@click.option("--channel", help="A channel of the book's bench.")
@click.option("--given", multiple=True, metavar="NAME=VALUE", help="A value that the recipe asks for; repeatable.")
@click.option("--every", type=float, help="Seconds from reading to reading where a step has none of its own.")
@click.option("--full", type=float, default=100.0, show_default=True, help="Charge at the start, %.")
@click.option("--ambient", type=float, help="Temperature of the battery, °C.")
@click.option("--override", default="", help="Why to go on though the connection is not proved; kept with the run.")
@click.option("--heed-cautions", "heed", is_flag=True, help="The cautions were read and are heeded.")
@click.option("--resume", type=int, metavar="RUN", help="Take up a parked run.")
@click.option("--json", "as_json", is_flag=True, help="Print an object a line.")
def run_command(
    book: Path, code: str | None, recipe: str | None, channel: str | None, given: tuple[str, ...], every: float | None,
    full: float, ambient: float | None, override: str, heed: bool, resume: int | None, as_json: bool,
) -> None:  # fmt: skip
    """Run a test without a window, for a bench computer without a monitor.

    Type "off" and Enter when something smells: everything is switched off at once.
    """
    from wintry_tally.cli.running import leave, run_test

    leave(run_test(book, code, recipe, channel, given, every, heed, as_json, resume, full, ambient, override))


for _command in (*PLANNING, *PLACES, follow_command, attach_command, bank_command, record_command):
    cli.add_command(_command)
with_units(cli)


def main(arguments: list[str] | None = None) -> None:
    """Entry point: exit 0 on success, 2 on unusable arguments or input (one line on standard error), 1 on ours."""
    with warnings.catch_warnings():
        # whatever a library has to say of odd numbers is not for standard error: there stands one line or none
        warnings.simplefilter("ignore")
        code = invoke(sys.argv[1:] if arguments is None else arguments)
    sys.exit(code)


def invoke(arguments: list[str]) -> int:
    """Run one command line and return its exit code."""
    forget_units()
    try:
        result = cli.main(args=arguments, prog_name="wintry-tally", standalone_mode=False)
        return result if isinstance(result, int) else 0
    except click.exceptions.Exit as stop:
        return stop.exit_code
    except click.exceptions.Abort:
        return 1
    except SystemExit as stop:
        return stop.code if isinstance(stop.code, int) else 1
    except click.ClickException as error:
        return _refused(f"{error.format_message().rstrip('.')}; see --help")
    except WintryError as error:
        return _refused(str(error))
    except BrokenPipeError:
        sys.stderr.close()
        return 0
    except MemoryError:
        return _refused("not enough memory for this input; give a smaller log")
    except Exception as error:
        from wintry_tally.app.logbook import keep_log

        keep_log()
        logging.getLogger("wintry_tally.cli").error("an internal failure", exc_info=True)
        return _refused(f"internal failure ({type(error).__name__}: {error})", 1)


if __name__ == "__main__":
    main()
