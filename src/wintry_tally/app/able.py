"""What a bench can run of the tests that ship, and what stands in the way of the rest."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.in_programme import Charged
from wintry_tally.core.protocol.preflight import Bench, ceilings
from wintry_tally.core.protocol.recipe import most_amps
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.quantity import format_duration
from wintry_tally.exchange.recipe_file import shipped

if TYPE_CHECKING:
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.core.protocol.recipe import Recipe
    from wintry_tally.core.protocol.setpoints import Facts
    from wintry_tally.core.protocol.template import Template

ANY = 1e9
"""Of what is worked by hand no ceiling is known."""
WAYS_OUT = {
    "discharge": "loads on an inverter, switched and read by hand, would do it",
    "charge": "a stronger charger, read by hand, would do it",
}


def benches(equipment: Equipment) -> list[Bench]:
    """The channels of a bench; what no channel has at all is worked by hand."""
    channels = [equipment.limits(channel) for channel in equipment.channels]
    if not any(one.load_W for one in channels):
        channels = [replace(one, load_W=ANY, load_A=ANY) for one in channels]
    if not any(one.charger_A for one in channels):
        channels = [replace(one, charger_A=ANY, charger_V=ANY) for one in channels]
    return channels


def able_facts(equipment: Equipment, facts: Facts) -> tuple[Facts, dict[str, str]]:
    """A sample's facts with the ceilings of the strongest load, and the recipes that no channel can run, each with why."""
    channels = benches(equipment)
    strongest = max(channels, key=lambda one: min(one.load_W, one.load_A * facts.family.nominal_V), default=None)
    if strongest is not None and 0 < strongest.load_W < ANY:
        facts = replace(facts, limits=strongest.limits)
    barred = {}
    for name, template in shipped().items():
        if template.programme is None or not template.fits(facts.family) or not channels:
            continue
        try:
            recipe = fill(template, facts)
        except InputError:
            continue  # a set-point that nothing is known for: its page says so
        reasons = [_reason(recipe, facts, channel) or _endless(template, recipe, facts) for channel in channels]
        if all(reasons):
            barred[name] = min(reasons, key=len)
    return facts, barred


def _reason(recipe: Recipe, facts: Facts, bench: Bench) -> str:
    """Why a channel cannot run a recipe, with the way out; nothing where it can."""
    for number, step in enumerate(recipe.steps):
        own = ceilings(replace(recipe, steps=recipe.steps[: number + 1]), facts.family, bench, number)
        if own:
            return f"{own[0].message.rstrip('.')}; {WAYS_OUT.get(step.kind, 'leave it out')}"
    return ""


def _endless(template: Template, recipe: Recipe, facts: Facts) -> str:
    """A discharge to empty that its own time limit would end long before the battery does."""
    if template.programme is None or template.programme.leaves is not Charged.EMPTY:
        return ""
    for step in recipe.steps:
        amps = most_amps(step, facts.family)
        if step.kind != "discharge" or amps <= 0 or not any(rule.kind == "voltage" for rule in step.ends):
            continue
        limits = [rule.value for rule in step.ends if rule.kind == "time"]
        wanted = 3600.0 * facts.rated_Ah / amps
        if limits and wanted > 1.1 * min(limits):
            return f"at {amps:.3g} A it would take {format_duration(wanted)}, and it is ended after {format_duration(min(limits))}; give it longer in its steps"
    return ""
