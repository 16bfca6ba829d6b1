"""`simulate` and `recipes`: tests on simulated batteries, with their truth."""

from __future__ import annotations

import json
import math
from pathlib import Path

from wintry_tally.bench.simulation import SimulatedBattery, battery_from, simulate
from wintry_tally.core.battery import Claim, family_named
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import Template, fill, template_data
from wintry_tally.exchange.claims_file import ClaimPart, claim_of
from wintry_tally.exchange.recipe_file import read_recipe, shipped, shipped_recipe
from wintry_tally.exchange.writer import write_log
from wintry_tally.files import table_of

MOST_INTERVAL_S = 86_400.0


def simulate_file(
    battery_path: Path, protocol: str, seed: int, out: Path, truth: Path | None, interval_s: float
) -> str:
    """See `wintry-tally simulate`; returns the line printed.

    Raises:
        InputError: the battery's file or the recipe cannot be used.
    """
    name = str(battery_path)
    data = table_of(battery_path, "a battery: TOML or JSON")
    if not 0.0 < interval_s <= MOST_INTERVAL_S:
        raise InputError(f"an interval of {interval_s:g} s cannot be", mend="give seconds above 0, a day at the most")
    claims = _claims(data.pop("claim", []), name)
    given = data.pop("given", {})
    if not isinstance(given, dict) or not all(
        isinstance(value, (int, float)) and math.isfinite(value) for value in given.values()
    ):
        raise InputError("given is a table of numbers", name)
    battery = battery_from(data.pop("battery", data), name)
    facts = Facts(battery.family, battery.rated_Ah, claims, given=given)
    found = simulate(fill(template_named(protocol), facts), battery, seed, interval_s)
    write_log(found.trace, out)
    if truth is not None:
        try:
            truth.write_text(json.dumps(found.truth, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
        except OSError as error:
            raise InputError(f"cannot be written ({error.strerror or error})", str(truth)) from None
    return f"{out}: {len(found.trace)} readings, ended: {found.truth['ended_by']}"


def read_battery(path: Path | None) -> SimulatedBattery:
    """The battery of a file as `simulate` reads it; without one, LFP of 40 Ah.

    Raises:
        InputError: the file cannot be used.
    """
    if path is None:
        return SimulatedBattery(family_named("lfp"), 40.0)
    data = table_of(path, "a TOML or JSON file")
    for part in ("claim", "given"):
        data.pop(part, None)
    return battery_from(data.pop("battery", data), str(path))


def _claims(parts: object, name: str) -> tuple[Claim, ...]:
    from pydantic import ValidationError

    if not isinstance(parts, list):
        raise InputError("claim is a list of tables", name, "write [[claim]]")
    made = []
    for index, part in enumerate(parts, 1):
        try:
            made.append(claim_of(ClaimPart.model_validate(part), index, name))
        except ValidationError as error:
            raise InputError(f"claim[{index}]: {error.errors()[0]['msg'].lower()}", name) from None
    return tuple(made)


def template_named(protocol: str) -> Template:
    """A shipped recipe by name, or one from a file."""
    path = Path(protocol)
    return read_recipe(path) if path.suffix in {".toml", ".json"} else shipped_recipe(protocol)


def recipe_lines(name: str | None, as_json: bool) -> str:
    """See `wintry-tally recipes`."""
    if name is not None:
        return json.dumps(template_data(template_named(name)), indent=None if as_json else 1, ensure_ascii=False)
    if as_json:
        return json.dumps([template_data(template) for template in shipped().values()], ensure_ascii=False)
    return "\n".join(f"{template.name:28} {template.title}" for template in shipped().values())
