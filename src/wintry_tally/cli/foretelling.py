"""`forecast`: a recipe on the battery model, with the pre-flight checks of a bench, before anything is connected."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from wintry_tally.cli.simulating import template_named
from wintry_tally.core.battery import family_named, parse_claim
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.errors import InputError
from wintry_tally.core.plan import Forecast, forecast
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.protocol.attended import Attendance, parse_attended
from wintry_tally.core.protocol.preflight import Bench, Check, bars, preflight_recipe
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill, in_words
from wintry_tally.core.quantity import format_duration

SCHEMA = "wintry-tally.forecast/1"


def foretell(
    recipe: str, family: str, rated_Ah: float, claims: tuple[str, ...], full_percent: float, ambient_C: float,
    bench: Bench, begins: str, attended: str,
) -> dict[str, Any]:  # fmt: skip
    """See `wintry-tally forecast`; the object it prints.

    Raises:
        InputError: a recipe, a family, a claim, a moment or hours that cannot be.
    """
    if not 0 < rated_Ah < 1e6:
        raise InputError(f"a rating of {rated_Ah:g} Ah cannot be", mend="give --rated-ah as printed")
    if not 0 <= full_percent <= 100:
        raise InputError(f"{full_percent:g} % of charge cannot be", mend="give --full from 0 to 100")
    template, known = template_named(recipe), family_named(family)
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
