"""What a bench can run of the tests that ship, and what stands in the way of the rest."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from wintry_tally.core.errors import InputError
from wintry_tally.core.plan.programme import DRIVES
from wintry_tally.core.protocol.in_programme import Charged
from wintry_tally.core.protocol.preflight import Bench, ceilings
from wintry_tally.core.protocol.recipe import most_amps
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.quantity import format_duration, parse_accuracy
from wintry_tally.exchange.recipe_file import shipped

if TYPE_CHECKING:
    from wintry_tally.bench.equipment import ChannelSpec, Equipment
    from wintry_tally.core.plan.campaign import Task
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


@dataclass(frozen=True)
class Able:
    """What a bench can do for a sample.

    Parts:
        facts: the sample's, with the ceilings of the strongest load.
        barred: recipes that no channel can run, each with why.
        ways: by recipe, the places that a run of it takes, on each channel that can run it; the better meters first.
    """

    facts: Facts
    barred: Mapping[str, str] = field(default_factory=dict)
    ways: Mapping[str, tuple[tuple[str, ...], ...]] = field(default_factory=dict)


def able(equipment: Equipment, facts: Facts) -> Able:
    """What a bench can do for a sample."""
    channels = benches(equipment)
    strongest = max(channels, key=lambda one: min(one.load_W, one.load_A * facts.family.nominal_V), default=None)
    if strongest is not None and 0 < strongest.load_W < ANY:
        facts = replace(facts, limits=strongest.limits)
    barred, ways = {}, {}
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
        else:
            can = [spec for spec, reason in zip(equipment.channels, reasons, strict=True) if not reason]
            ways[name] = _ways(recipe, equipment, can, max(most_amps(step, facts.family) for step in recipe.steps))
    return Able(facts, barred, {name: found for name, found in ways.items() if found})


def channel_place(name: str) -> str:
    """What a plan calls a channel."""
    return f"channel {name}"


def channel_of(place: str) -> str:
    """The channel's name by what a plan calls it; empty where it is no channel."""
    return place.removeprefix("channel ") if place.startswith("channel ") else ""


def places_of(equipment: Equipment, freezers: int, shelves: int) -> dict[str, int]:
    """What there is to be taken, and how many of each: channels, what several of them share, what is worked by hand."""
    found = {channel_place(channel.name): 1 for channel in equipment.channels}
    found |= dict.fromkeys(_shared(equipment), 1)
    found |= {kind: 1 for kind in DRIVES.values() if not any(getattr(channel, kind) for channel in equipment.channels)}
    return {**found, "freezer": freezers, "shelf": shelves}


def taken_by(channel: ChannelSpec, equipment: Equipment) -> tuple[str, ...]:
    """What a run on a channel takes: itself, and of its instruments those that another channel has too."""
    shared = _shared(equipment)
    return channel_place(channel.name), *(name for name in channel.used if name in shared)


def better_words(equipment: Equipment, task: Task, taken: tuple[str, ...]) -> str:
    """What it costs that a task does not run where it would be measured best; nothing where it does."""
    named = {channel_place(channel.name): channel for channel in equipment.channels}
    here, best = (
        next((named[place] for place in places if place in named), None) for places in (taken, task.choices[0])
    )
    if here is None or best is None or here.name == best.name:
        return ""
    good = [equipment.meter_of(channel)[1].current_accuracy or "nobody knows what" for channel in (here, best)]
    cost = (
        "its current is known as well there"
        if good[0] == good[1]
        else f"its current is good to {good[0]} there, not to {good[1]}"
    )
    return f"on channel {here.name}, as channel {best.name} is taken: {cost}"


def _shared(equipment: Equipment) -> tuple[str, ...]:
    users = Counter(name for channel in equipment.channels for name in channel.used)
    return tuple(name for name, count in users.items() if count > 1)


def _ways(recipe: Recipe, equipment: Equipment, can: list[ChannelSpec], amps: float) -> tuple[tuple[str, ...], ...]:
    """The places that a run takes, for each channel that has what it drives; what no channel has is worked by hand."""
    driven = {DRIVES[step.kind] for step in recipe.steps if step.kind in DRIVES}
    by_hand = tuple(kind for kind in sorted(driven) if not any(getattr(one, kind) for one in equipment.channels))
    wanted = driven - set(by_hand)
    able_to = [channel for channel in can if wanted and all(getattr(channel, kind) for kind in wanted)]
    best_first = sorted(able_to, key=lambda channel: _limit_A(equipment, channel, amps))
    return tuple((*taken_by(channel, equipment), *by_hand) for channel in best_first)


def _limit_A(equipment: Equipment, channel: ChannelSpec, amps: float) -> float:
    """How far the current that a channel reads may be off; without end where nobody knows."""
    meter = equipment.meter_of(channel)[1]
    if not meter.current_accuracy:
        return math.inf
    good = parse_accuracy(meter.current_accuracy)
    return good.percent / 100.0 * amps + good.offset_limit(meter.current_resolution)


def _reason(recipe: Recipe, facts: Facts, bench: Bench) -> str:
    """Why a channel cannot run a recipe, with the way out; nothing where it can."""
    for number, step in enumerate(recipe.steps):
        own = ceilings(replace(recipe, steps=recipe.steps[: number + 1]), facts.family, bench, number)
        if own:
            return f"{own[0].message.rstrip('.')}; {WAYS_OUT.get(step.kind, 'leave it out')}"
    return ""


def _endless(template: Template, recipe: Recipe, facts: Facts) -> str:
    """A discharge to empty whose steps are all over, by their own time limits, long before the battery is."""
    if template.programme is None or template.programme.leaves is not Charged.EMPTY:
        return ""
    steps = [step for step in recipe.steps if step.kind == "discharge" and most_amps(step, facts.family) > 0]
    steps = [step for step in steps if any(rule.kind == "voltage" for rule in step.ends)]
    limits = [min((rule.value for rule in step.ends if rule.kind == "time"), default=math.inf) for step in steps]
    amps = [most_amps(step, facts.family) for step in steps]
    most_Ah = sum(current * limit / 3600.0 for current, limit in zip(amps, limits, strict=True))
    if not steps or facts.rated_Ah <= 1.1 * most_Ah:
        return ""
    wanted = 3600.0 * facts.rated_Ah / amps[-1]
    return (
        f"at {amps[-1]:.3g} A it would take {format_duration(wanted)}, and it is ended after "
        f"{format_duration(sum(limits))}; give it longer in its steps"
    )
