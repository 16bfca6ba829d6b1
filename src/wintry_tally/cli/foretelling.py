"""`forecast`: a recipe on the battery model, with the pre-flight checks of a bench, before anything is connected."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from wintry_tally.cli.logs import Given, analyse_log, options_from
from wintry_tally.cli.simulating import template_named
from wintry_tally.core.analysis import Options
from wintry_tally.core.battery import family_named, pack_of, parse_claim
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.compare import Tested, whole_discharges, whole_test
from wintry_tally.core.errors import InputError, LogError
from wintry_tally.core.plan import Forecast, forecast, outlook, under_way
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.protocol.attended import Attendance, parse_attended
from wintry_tally.core.protocol.preflight import Bench, Check, bars, preflight_recipe
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill, in_words
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.quantity.moments import clock_words, later
from wintry_tally.core.verdict.evidence import capacity_evidence
from wintry_tally.exchange import Choices

SCHEMA = "wintry-tally.forecast/1"
"""Ambient of a forecast where nothing says another."""


def foretell(
    recipe: str, family: str, rated_Ah: float, claims: tuple[str, ...], full_percent: float, ambient_C: float,
    bench: Bench, begins: str, attended: str, nominal_V: float | None = None,
) -> dict[str, Any]:  # fmt: skip
    """See `wintry-tally forecast`; the object it prints.

    Raises:
        InputError: a recipe, a family, a claim, a moment or hours that cannot be.
    """
    if not 0 < rated_Ah < 1e6:
        raise InputError(f"a rating of {rated_Ah:g} Ah cannot be", mend="give --rated-ah as printed")
    if not 0 <= full_percent <= 100:
        raise InputError(f"{full_percent:g} % of charge cannot be", mend="give --full from 0 to 100")
    template, known = template_named(recipe), pack_of(family_named(family), nominal_V)
    facts = Facts(known, rated_Ah, tuple(parse_claim(text) for text in claims), bench.limits)
    try:
        start = datetime.fromisoformat(begins).astimezone() if begins else datetime.now().astimezone()
    except ValueError:
        raise InputError(f'"{begins}" is no moment', mend='write it like "2026-11-25 21:00"') from None
    attendance = Attendance(start, parse_attended(attended), bench.own_cutoff) if attended else None
    made = fill(template, facts)
    found = forecast(made, parameters_for(known, rated_Ah), ambient_C, full=full_percent / 100.0)
    ends_s = found.end_s if made.live else None
    checks = preflight_recipe(template, made, facts, bench, None, ends_s, attendance)
    return {
        "schema": SCHEMA,
        "recipe": template.name,
        "family": known.key,
        "rated_Ah": rated_Ah,
        "begins": start.isoformat(timespec="seconds"),
        "end_s": found.end_s,
        "charge_Ah": found.charge_Ah,
        "energy_Wh": found.energy_Wh,
        "put_in_Ah": found.put_in_Ah,
        "ended_by": found.cause.value if found.cause else None,
        "steps": _steps(made, found),
        "may_start": not bars(checks),
        "checks": [_check(check) for check in checks],
    }


RECIPE_FIELDS = ("recipe", "begins", "end_s", "charge_Ah", "energy_Wh", "put_in_Ah", "ended_by", "steps", "may_start", "checks")  # fmt: skip
PROBABILITY = 0.95


def foretell_onward(
    log: Path, given: Given, full_percent: float | None, limit_V: float | None, earlier: tuple[Path, ...] = ()
) -> dict[str, Any]:  # fmt: skip
    """See `wintry-tally forecast --so-far`; the object it prints: the rest of the test in which a log ends.
    `earlier`: logs of whole discharges of the same battery.

    Raises:
        InputError: a log, a rating or a charge that cannot be.
    """
    if given.family is None or given.rated_ah is None or not 0 < given.rated_ah < 1e6:
        raise InputError("the rest of a test needs its family and rating", mend="give --family and --rated-ah")
    if full_percent is not None and not 0 <= full_percent <= 100:
        raise InputError(f"{full_percent:g} % of charge cannot be", mend="give --full from 0 to 100")
    if limit_V is not None and not 1.0 < limit_V < 100.0:
        raise InputError(f"a charger's limit of {limit_V:g} V cannot be", mend="give --limit as set, in V")
    family = pack_of(family_named(given.family), given.nominal_v)
    choices, options = options_from(given)
    read, analysis = analyse_log(log, choices, options)
    result: dict[str, Any] = {
        "schema": SCHEMA, **dict.fromkeys(RECIPE_FIELDS), "family": family.key, "rated_Ah": given.rated_ah,
    }  # fmt: skip
    full = None if full_percent is None else full_percent / 100.0
    try:
        stage, begun_s = under_way(analysis, family, given.rated_ah, full, limit_V)
    except LogError as error:
        return {**result, "onward": None, "reason": error.what}
    before = [_whole(path, choices, options) for path in earlier]
    found = outlook(stage, family, given.rated_ah, earlier=whole_discharges(before))
    ends = replace(found.ends_s, **{name: begun_s + getattr(found.ends_s, name) for name in ("value", "low", "high")})
    result["begins"] = read.started.isoformat(timespec="seconds") if read.started else None
    result["onward"] = {
        "doing": stage.doing, "begun_s": begun_s, "so_far_s": float(analysis.trace.time_s[-1]),
        "ends_s": ends.as_dict(), "charge_Ah": found.charge_Ah.as_dict(), "energy_Wh": found.energy_Wh.as_dict(),
        "probability": PROBABILITY, "remembered": found.remembered,
    }  # fmt: skip
    return result


def _whole(path: Path, choices: Choices, options: Options) -> Tested:
    _, analysis = analyse_log(path, choices, options)
    found = Tested(path.name, "", None, analysis, capacity_evidence(path.name, analysis, options.ambient_C))
    if whole_test(found) is None:
        raise InputError(
            f"{path.name} holds no whole discharge, from full to its end",
            mend="give such a one with --earlier, or none",
        )
    return found


def onward_text(result: dict[str, Any]) -> str:
    """The same for people."""
    onward = result["onward"]
    if onward is None:
        return f"Nothing is to come: {result['reason']}"
    ends, charge = onward["ends_s"], onward["charge_Ah"]
    moment = ""
    if result["begins"] is not None:
        now = datetime.fromisoformat(result["begins"]).astimezone()
        clocks = [
            clock_words(later(now, ends[name]), later(now, onward["so_far_s"])) for name in ("value", "low", "high")
        ]
        moment = f", about {clocks[0]} ({clocks[1]} to {clocks[2]})"
    to_come = [format_duration(ends[name] - onward["so_far_s"]) for name in ("value", "low", "high")]
    return (
        f"The {onward['doing']} ends in about {to_come[0]} ({to_come[1]} to {to_come[2]}){moment}\n"
        f"  with {charge['value']:.4g} Ah ({charge['low']:.4g} to {charge['high']:.4g}), "
        f"{onward['energy_Wh']['value']:.4g} Wh; bands hold {100 * PROBABILITY:.0f} %"
        + (f"\n  remembering {onward['remembered']} earlier" if onward["remembered"] else "")
    )


def _steps(recipe: Recipe, found: Forecast) -> list[dict[str, Any]]:
    ends = {index: (at, moved) for index, at, moved in found.step_ends}
    return [
        {
            "title": step.title,
            "words": in_words(step),
            "ends_s": ends[number][0] if number in ends else None,
            "moved_Ah": ends[number][1] if number in ends else None,
        }
        for number, step in enumerate(recipe.steps)
    ]


def _check(check: Check) -> dict[str, Any]:
    return {
        "name": check.name,
        "state": check.state,
        "message": check.message,
        "offers": [{"kind": offer.kind, "value": offer.value, "words": offer.words} for offer in check.offers],
    }


def forecast_text(result: dict[str, Any]) -> str:
    """The same for people."""
    lines = []
    for number, step in enumerate(result["steps"], 1):
        until = f"  (to {format_duration(step['ends_s'])}, {step['moved_Ah']:.3g} Ah)" if step["ends_s"] else ""
        lines.append(f"{number}  {step['words']}{until}")
    moved = [
        f"{result[key]:.3g} Ah {words}"
        for key, words in (("charge_Ah", "drawn"), ("put_in_Ah", "put in"))
        if result[key] > 0.005
    ]
    lines.append(f"Forecast: {', '.join(moved) or 'little moved'} in {format_duration(result['end_s'])}")
    marks = {"good": "ok  ", "heed": "heed", "bar": "BAR "}
    for check in result["checks"]:
        offers = "; ".join(offer["words"] for offer in check["offers"])
        lines.append(
            f"{marks[check['state']]}  {check['name']}: {check['message']}" + (f" [{offers}]" if offers else "")
        )
    return "\n".join(lines)
