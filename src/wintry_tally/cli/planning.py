"""`plan`, `programme`, `today`: from claims to tests, from tests to days, and what needs hands."""

from __future__ import annotations

import shutil
import subprocess
import time
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wintry_tally.cli.saying import say, units
from wintry_tally.core.errors import InputError
from wintry_tally.core.plan.planning import plan
from wintry_tally.core.quantity import format_hours
from wintry_tally.exchange.plan_file import read_source
from wintry_tally.exchange.plan_json import plan_dict

if TYPE_CHECKING:
    from wintry_tally.core.plan.campaign import Plan
    from wintry_tally.core.plan.programme import Programme
    from wintry_tally.core.plan.standing import Standing
    from wintry_tally.exchange.plan_file import ReadPlan

TODAY, PROGRAMME = "wintry-tally.today/1", "wintry-tally.programme/1"
NOTIFIER = "notify-send"
LOOK_ROUND = 0.25
"""The share of the time for a plan in which ways out are looked for."""


def plan_of(file: Path, seconds: float, ics: Path | None) -> dict[str, Any]:
    """See `wintry-tally plan`; the object it prints.

    Raises:
        InputError: the file cannot be used, or the calendar not be written.
    """
    read, made = _planned(file, seconds)
    if ics is not None:
        from wintry_tally.exchange.calendar_file import write_calendar

        write_calendar(made, file.stem, ics)
    return plan_dict(made, read.untestable, read.hours, read.assumed, read.standings)


def _planned(file: Path, seconds: float) -> tuple[ReadPlan, Plan]:
    """The file's plan; tests that are worked out from claims may be turned down for the night where it is better for it."""
    from wintry_tally.app.solver_apart import APART
    from wintry_tally.app.ways_out import Merit, better_ways, weighed

    begun, source = time.monotonic(), read_source(file)
    read = source.laid_out()

    def left() -> float:
        return max(0.1, seconds - (time.monotonic() - begun))

    def at_once(standings: Mapping[int, Standing]) -> tuple[Plan, int]:
        again = source.laid_out(standings)
        return plan(again.campaign, 0.0, thorough=False), len(again.untestable)

    turned = read.standings
    if turned:
        turned = better_ways(turned, at_once, {}, lambda: left() > (1.0 - LOOK_ROUND) * seconds)

    def thought(standings: Mapping[int, Standing], seconds: float) -> tuple[ReadPlan, Plan]:
        asked = source.laid_out(standings)
        return asked, plan(asked.campaign, seconds, solver=APART)

    def merit(made: tuple[ReadPlan, Plan]) -> Merit:
        return Merit.of(made[1], len(made[0].untestable), made[0].standings)

    as_it_is, otherwise = weighed(read.standings, turned, thought, merit, left)
    return as_it_is if otherwise is None else otherwise


def programme_for(path: Path, code: str | None, charged: float | None) -> dict[str, Any]:
    """See `wintry-tally programme`; the object it prints.

    Raises:
        InputError: neither a claims file nor a book with that sample; or its rating is not known.
    """
    if path.suffix == ".wintry" or code is not None:
        return _of_book(path, code)
    from wintry_tally.core.battery import family_named, pack_of
    from wintry_tally.core.plan.programme import Stand, programme
    from wintry_tally.core.protocol.setpoints import Facts
    from wintry_tally.exchange.claims_file import claim_of, read_claims
    from wintry_tally.exchange.recipe_file import shipped

    read = read_claims(path)
    claims = tuple(claim_of(part, number, str(path)) for number, part in enumerate(read.claim, 1))
    rated = read.battery.rated_Ah or next((one.value for one in claims if one.kind == "capacity"), None)
    if rated is None:
        raise InputError("nothing says the rating", str(path), "write rated_Ah under [battery], or claim a capacity")
    pack = pack_of(family_named(read.battery.family), read.battery.nominal_V)
    return _programme(programme(Facts(pack, rated, claims), shipped(), stand=Stand(charged=charged)), path.stem)


def _of_book(path: Path, code: str | None) -> dict[str, Any]:
    from wintry_tally.app.day_of import programme_in
    from wintry_tally.app.opening import opened
    from wintry_tally.cli.books import sample_of

    if code is None:
        raise InputError("a book holds several samples", str(path), "give the code of one")
    with opened(path, lambda words: say(words, err=True)) as book:
        sample = sample_of(book, code, path)
        made = programme_in(book, sample, datetime.now().astimezone())
    if made is None:
        raise InputError(f"nothing says what {code} is rated", str(path), "claim its capacity")
    return _programme(made, code)


def _programme(made: Programme, name: str) -> dict[str, Any]:
    return {
        "schema": PROGRAMME,
        "sample": name,
        "steps": [
            {
                "name": step.name, "recipe": step.recipe or None, "title": step.title,
                "hours": {"soonest": step.early_h, "likely": step.usual_h, "latest": step.late_h},
                "rest_h": [step.wait.least_h, step.wait.most_h], "attended": str(step.presence), "uses": list(step.uses),
                "settles": list(step.settles), "why": step.why or None, "may_damage": step.may_damage or None,
            }
            for step in made.steps
        ],
        "settled": list(made.settled),
        "untestable": [{"claim": one.claim.kind, "reason": one.reason} for one in made.untestable],
    }  # fmt: skip


def programme_text(found: dict[str, Any]) -> str:
    """The same for people."""
    lines = []
    for number, step in enumerate(found["steps"], 1):
        speaks = ", ".join(kind.replace("-", " ") for kind in step["settles"]) or step["why"] or ""
        took = format_hours(step["hours"]["likely"])
        lines.append(f"{number:2}  {step['title']}: about {took}; {speaks}".rstrip("; "))
    total = sum(step["hours"]["likely"] for step in found["steps"])
    lines.append(f"All together about {format_hours(total)}" if found["steps"] else "Nothing is to be done")
    if found["settled"]:
        lines.append(f"settled: {', '.join(kind.replace('-', ' ') for kind in found['settled'])}")
    lines += [f"cannot be tested: {one['claim']}: {one['reason']}" for one in found["untestable"]]
    return "\n".join(lines)


def write_sheet_of(path: Path, code: str, recipe: str, out: Path) -> None:
    """See `wintry-tally sheet`.

    Raises:
        WintryError: no book, no such sample or recipe, a set-point that nothing is known for, or a file that cannot be written.
    """
    from wintry_tally.app.able import able
    from wintry_tally.app.bench_book import equipment_of
    from wintry_tally.app.opening import opened
    from wintry_tally.cli.books import sample_of
    from wintry_tally.core.protocol.setpoints import Facts
    from wintry_tally.core.protocol.template import fill
    from wintry_tally.exchange.recipe_file import read_recipe, shipped_recipe
    from wintry_tally.files import write_whole
    from wintry_tally.report.sheet import render_sheet

    template = read_recipe(Path(recipe)) if Path(recipe).suffix in {".toml", ".json"} else shipped_recipe(recipe)
    with opened(path, lambda words: say(words, err=True)) as book:
        sample = sample_of(book, code, path)
        if sample.rated_Ah is None:
            raise InputError(f"nothing says what {code} is rated", str(path), "claim its capacity")
        facts = able(equipment_of(book), Facts(sample.family, sample.rated_Ah, sample.claims)).facts
        name, demo = book.meta("name", path.stem), book.meta("demo") == "yes"
    write_whole(render_sheet(sample, template, fill(template, facts), name, demo=demo, units=units()), out)


def today_of(path: Path, tell: bool, ics: Path | None) -> dict[str, Any]:
    """See `wintry-tally today`; the object it prints.

    Raises:
        WintryError: no book, or something kept in it cannot be read; the calendar cannot be written.
    """
    from wintry_tally.app.day_of import day_of
    from wintry_tally.app.opening import opened

    now = datetime.now().astimezone()
    with opened(path, lambda words: say(words, err=True)) as book:
        drawn, items = day_of(book, now)
        name = book.meta("name", path.stem)
    if ics is not None:
        from wintry_tally.exchange.calendar_file import write_calendar

        write_calendar(drawn.plan, name, ics)
    found = {
        "schema": TODAY,
        "at": now.isoformat(timespec="minutes"),
        "items": [
            {
                "group": item.group, "sample": item.code, "what": item.words, "beside": item.beside or None,
                "at": item.at.isoformat(timespec="minutes") if item.at is not None else None, "recipe": item.recipe or None,
            }
            for item in items
        ],
        "ends": drawn.moment(drawn.plan.end).isoformat(timespec="minutes"),
    }  # fmt: skip
    if tell:
        _notify([f"{item.code}: {item.words}" for item in items if item.group in {"now", "late"}], name)
    return found


def _notify(lines: list[str], name: str) -> None:
    """Call somebody by the desktop's own notifications, where it has the usual program for them."""
    program = shutil.which(NOTIFIER)
    if not lines or program is None:
        if lines:
            say(f"{NOTIFIER} is not installed: nobody is called", err=True)
        return
    text = "\n".join(lines[:6])
    subprocess.run([program, "--app-name=Wintry Tally", f"{name}: {len(lines)} things need you", text], check=False)


def today_text(found: dict[str, Any]) -> str:
    """The same for people."""
    words = {"now": "Now", "running": "Running", "late": "Late", "next": "Next", "due": "Later"}
    lines, group = [], ""
    for item in found["items"]:
        if item["group"] != group:
            group = item["group"]
            lines.append(words[group])
        clock = f"{datetime.fromisoformat(item['at']):%a %d %b %H:%M}  " if item["at"] else ""
        beside = f" ({item['beside']})" if item["beside"] else ""
        lines.append(f"  {item['sample']}  {clock}{item['what']}{beside}")
    return "\n".join(lines) or "Nothing needs hands, and nothing is planned."
