"""What is known of a run before it starts, for window and shell alike."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wintry_tally.book import RunSettings
from wintry_tally.core.battery import Sample
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.room import ROOM_C

if TYPE_CHECKING:
    from wintry_tally.bench.equipment import Equipment

WATCHED_EVERY_S = 1.0
"""A bench is watched so often, whatever is kept."""


def bench_settings(
    sample: Sample,
    recipe: Recipe,
    equipment: Equipment,
    channel: str,
    *,
    ambient_C: float | None = None,
    full: float = 1.0,
    every_s: float | None = None,
    override: str = "",
    keep_seldom: bool = True,
) -> RunSettings:
    """Settings of a run on a channel: its meters' accuracies, what was stated, how often it is read and kept.

    `override`: a person's written reason to go on in spite of what the proof of connection finds.
    `keep_seldom`: with `every_s` above a second it is still read every second, and kept as seldom as that.

    Raises:
        InputError: there is no such channel, or nothing on it measures.
    """
    spec = equipment.channel(channel)
    volts, amps = equipment.meter_of(spec)
    interval = every_s or WATCHED_EVERY_S
    seldom = keep_seldom and interval > WATCHED_EVERY_S
    second = equipment.instrument(spec.second) if spec.second else None
    return RunSettings.of(
        sample,
        cutoff_V=recipe.cutoff_V,
        ambient_C=ROOM_C if ambient_C is None else ambient_C,
        mode="recipe",
        channel=channel,
        state_of_charge=full,
        ambient_stated=ambient_C is not None,
        override=override.strip(),
        interval_s=WATCHED_EVERY_S if seldom else interval,
        keep_every_s=interval if seldom else 0.0,
        second_voltage_accuracy=second.voltage_accuracy if second is not None else "",
        second_current_accuracy=second.current_accuracy if second is not None else "",
        voltage_accuracy=volts.voltage_accuracy,
        current_accuracy=amps.current_accuracy,
        voltage_resolution=volts.voltage_resolution,
        current_resolution=amps.current_resolution,
        instrument=volts.name if volts is amps else f"{volts.name}, {amps.name}",
    )
