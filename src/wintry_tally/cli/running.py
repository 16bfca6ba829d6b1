"""Commands over books that a bench computer without a monitor needs: new, add, bench, run."""

from __future__ import annotations

import json
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

from wintry_tally.app import own_words
from wintry_tally.app.bench_book import bench_data, equipment_of, keep_equipment, read_bench
from wintry_tally.app.headless import Headless, Terminal
from wintry_tally.app.live import LiveRuns
from wintry_tally.app.logbook import keep_log
from wintry_tally.app.opening import opened
from wintry_tally.app.run_settings import bench_settings
from wintry_tally.book import Book, RunStatus
from wintry_tally.cli.books import sample_of
from wintry_tally.cli.saying import say, units
from wintry_tally.core.battery import Arrival, Claim, Sample, family_named, pack_of, parse_claim
from wintry_tally.core.battery.printed import read_printed
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.protocol.preflight import bars, preflight_recipe
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.quantity.typed import parse_number, parse_typed
from wintry_tally.core.room import ROOM_C
from wintry_tally.files import text_of


def new_book(path: Path) -> str:
    """See `wintry-tally new`."""
    Book.create(path).close()
    return str(path)


def add_sample(
    path: Path, code: str, claims: Path | None, family: str, maker: str, model: str, settings: tuple[str, ...],
    nominal_V: float | None = None,
) -> str:  # fmt: skip
    """See `wintry-tally add`; returns the line printed.

    Raises:
        InputError: claims, a family or a field that cannot be.
    """
    told, kept = ({}, ()) if claims is None else read_any_claims(claims, family or "")
    key = family or told.get("family", "") or "lfp"
    nominal_V = nominal_V if nominal_V is not None else told.get("nominal_V")
    pack_of(family_named(key), nominal_V)
    arrival, more = _arrival(settings)
    with Book.open(path) as book:
        made = book.samples.add(
            code, maker or told.get("maker", "") or more.get("maker", ""), model or told.get("model", "") or more.get("model", ""), key, arrival, nominal_V
        )  # fmt: skip
        for claim in kept:
            book.samples.add_claim(made, claim)
    return f"{code}  {len(kept)} claims"


def read_any_claims(path: Path, family: str = "") -> tuple[dict[str, Any], tuple[Claim, ...]]:
    """Claims as a claims file, or as printed text, one to a line; with what the file says of the battery.

    Raises:
        InputError: a line that cannot be understood, with its place.
    """
    from wintry_tally.exchange.claims_file import claim_of, read_claims

    text = text_of(path, "a list of claims")
    if path.suffix.lower() in {".toml", ".json"}:
        parsed = read_claims(path)
        battery = parsed.battery
        found = tuple(claim_of(part, index, str(path)) for index, part in enumerate(parsed.claim, 1))
        if battery.rated_Ah and not any(claim.kind == "capacity" for claim in found):
            found = (*found, parse_claim(f"{battery.rated_Ah:g} Ah"))
        return {
            "family": battery.family, "maker": battery.maker, "model": battery.model, "nominal_V": battery.nominal_V,
        }, found  # fmt: skip
    claims: list[Claim] = []
    told: dict[str, Any] = {}
    found_in = read_printed(text, family=family, vocabulary=own_words.vocabulary())
    claims.extend(read.claim for read in found_in.claims)
    for item in found_in.left:
        noted = item.noted("label")
        if noted is not None:
            claims.append(noted)
        else:
            say(f"{path}, line {item.line}: not read: “{item.text}”: {item.reason}", err=True)
    if not claims and found_in.left:
        first = found_in.left[0]
        raise InputError(f"“{first.text}”: {first.reason}", f"{path}, line {first.line}")
    if found_in.pack.family:
        told["family"] = found_in.pack.family
    if found_in.pack.nominal_V is not None:
        told["nominal_V"] = found_in.pack.nominal_V
    return told, tuple(claims)


_YES = {"yes": True, "true": True, "1": True, "no": False, "false": False, "0": False}


def _arrival(settings: tuple[str, ...]) -> tuple[Arrival, dict[str, str]]:
    arrival, more = Arrival(), {}
    for text in settings:
        name, equals, value = text.partition("=")
        if not equals or (name not in Arrival.__dataclass_fields__ and name not in {"maker", "model"}):
            raise InputError(
                f'--set "{text}": not known', mend=f"write field=value, with {', '.join(Arrival.__dataclass_fields__)}"
            )
        if name in {"maker", "model"}:
            more[name] = value
            continue
        arrival = replace(arrival, **{name: _field(name, value)})
    return arrival, more


def _field(name: str, value: str) -> Any:
    if name in {"rested_V", "mass_kg", "mass_limit_kg"}:
        return parse_typed(value, "voltage" if name == "rested_V" else "mass").value
    if name in {"rested", "tight", "polarity"}:
        if value.lower() not in _YES:
            raise InputError(f'--set {name}: "{value}" is neither yes nor no', mend="write yes or no")
        return _YES[value.lower()]
    return value


def show_bench(path: Path, setting: Path | None, ask: bool, as_json: bool) -> tuple[str, int]:
    """See `wintry-tally bench`; what it prints, and the exit code."""
    made = read_bench(setting) if setting is not None else None
    with Book.open(path) as book:
        if made is not None:
            keep_equipment(book, made)
        equipment = equipment_of(book)
    data = bench_data(equipment)
    code = 0
    if ask:
        from wintry_tally.bench.connect import tried

        answers = {item.name: tried(item) for item in equipment.instruments}
        for part in data["instrument"]:
            answer = answers[part["name"]]
            part["answers"] = {"values": answer.values, "problem": answer.problem or None}
        code = 3 if any(answer.problem for answer in answers.values()) else 0
    if as_json:
        return json.dumps({"schema": "wintry-tally.bench/1", **data}, ensure_ascii=False, allow_nan=False), code
    return "\n".join(_bench_lines(data)) or "nothing on the bench yet", code


def _bench_lines(data: dict[str, Any]) -> list[str]:
    lines = []
    for part in data["instrument"]:
        lines.append(f"{part['name']}  {part['kind']}  {part.get('way', 'scpi')}  {part.get('address', '')}")
        told = part.get("answers")
        if told is not None:
            values = ", ".join(f"{name} {value:g}" for name, value in told["values"].items())
            lines.append(f"    {told['problem'] or values or 'it answers, and measures nothing by itself'}")
    for part in data["channel"]:
        roles = [f"{key} {value}" for key, value in part.items() if key != "name" and isinstance(value, str) and value]
        lines.append(f"channel {part['name']}  {', '.join(roles)}")
    return lines


def run_test(
    path: Path, code: str | None, recipe: str | None, channel: str | None, given: tuple[str, ...], every_s: float | None,
    heed: bool, as_json: bool, resume: int | None, full_percent: float, ambient_C: float | None, override: str,
) -> int:  # fmt: skip
    """See `wintry-tally run`; the exit code.

    Raises:
        InputError: barred, cautions not heeded, something taken, or nothing of that name.
    """
    keep_log()
    terminal = Terminal(as_json, units=units())
    with opened(path, terminal.shout) as book:
        runs = LiveRuns(book, lambda: equipment_of(book), terminal)
        following = Headless(runs, terminal)
        for words in runs.hear_guards():
            terminal.shout(words)
        if resume is not None:
            number = _take_up(book, runs, resume, following)
        else:
            if not (code and recipe and channel):
                raise InputError("a run needs a sample, --recipe and --channel", mend="or --resume RUN")
            number = _start(
                book, runs, sample_of(book, code, path), recipe, channel, given, every_s, heed, terminal, following,
                full_percent, ambient_C, override,
            )  # fmt: skip
        return following.follow(number)


def _take_up(book: Book, runs: LiveRuns, number: int, following: Headless) -> int:
    run = book.runs.get(number)
    if run.method is not Method.BENCH or run.status is not RunStatus.RUNNING:
        raise InputError(
            f"run {number} is {run.status.value}, {run.method}: there is nothing to take up",
            mend="see wintry-tally list",
        )
    runs.take_up(run, observer=following)
    return number


def _start(
    book: Book, runs: LiveRuns, sample: Sample, recipe: str, channel: str, given: tuple[str, ...], every_s: float | None,
    heed: bool, terminal: Terminal, following: Headless, full_percent: float, ambient_C: float | None, override: str,
) -> int:  # fmt: skip
    from wintry_tally.cli.simulating import template_named
    from wintry_tally.core.cell import parameters_for
    from wintry_tally.core.plan import forecast

    if every_s is not None and not 0.1 <= every_s <= 14_400.0:
        raise InputError(f"--every {every_s:g} s cannot be", mend="give 0.1 to 14400 s")
    equipment = equipment_of(book)
    limits = equipment.limits(equipment.channel(channel))
    template = template_named(recipe)
    facts = Facts(sample.family, sample.rated_Ah or 0.0, sample.claims, limits.limits, _given(given))
    made = fill(template, facts)
    outlook = None
    if sample.rated_Ah and made.live:
        outlook = forecast(
            made,
            parameters_for(sample.family, sample.rated_Ah),
            ROOM_C if ambient_C is None else ambient_C,
            full=full_percent / 100.0,
        )
    checks = preflight_recipe(
        template, made, facts, limits, sample.arrival.rested_V, outlook.end_s if outlook else None
    )
    marks = {"good": "ok", "heed": "heed", "bar": "BAR"}
    for check in checks:
        terminal.shout(f"{marks[check.state]:5}{check.name}: {check.message}")
    for caution in made.cautions:
        terminal.shout(f"!    {caution}")
    if bars(checks):
        raise InputError(f"not started: {bars(checks)[0].name}, {bars(checks)[0].message}")
    if not heed:
        raise InputError("not started: the cautions above are to be heeded", mend="read them, then add --heed-cautions")
    settings = bench_settings(
        sample, made, equipment, channel, ambient_C=ambient_C, full=full_percent / 100.0, every_s=every_s,
        override=override, keep_seldom=False,
    )  # fmt: skip
    return runs.start(sample, made, settings, made.cautions, template.station, channel, observer=following)


def _given(texts: tuple[str, ...]) -> dict[str, float]:
    found = {}
    for text in texts:
        name, equals, value = text.partition("=")
        if not equals:
            raise InputError(f'--given "{text}" cannot be read', mend="write name=value")
        found[name.strip()] = parse_number(value)
    return found


def leave(code: int) -> None:
    """Out, with this exit code; whatever still waits for a line of standard input does not hold it up."""
    import os

    from wintry_tally.app.headless import hang_up_quietly

    hang_up_quietly()
    sys.stderr.flush()
    os._exit(code)
