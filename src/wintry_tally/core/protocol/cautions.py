"""Cautions, shown where the hazard arises and in the report. Each set ends by deferring to those who rule."""

from __future__ import annotations

from wintry_tally.core.battery import Family

DEFER = "The battery's manual, local codes and licensed practice rule over anything said here."

CURRENT = (
    "Even 12 V can weld and burn: fuse within reach of the battery's terminal, insulated tools, no rings or watches, "
    "covers on. Check red on plus with a meter before the second clamp."
)
LEAD = (
    "Lead-acid gives off hydrogen: ventilate, no sparks. Acid: eye protection, water and bicarbonate at hand. "
    "Heavy: lift with two."
)
LITHIUM = (
    "Lithium: no puncture, no opening, never charge below 0 °C. Swelling, heat or smell: stop, get it outdoors, away "
    "from anything that burns, and call the fire service if it vents."
)
LEADS = "Three to five minutes after the start, touch leads and clamps: warm means too thin or loose."
AFTER = "Recharge within hours; a battery, above all lead-acid, is not left empty."


CHARGER = (
    "Connect the charger to the battery before switching it on, and the right way round; check its family setting. "
    "Mains chargers: earth-leakage protection, dry hands."
)
COLD = (
    "Never charge lithium below 0 °C at its core: if current still flows after 10 s, the run stops itself. Freezer: not "
    "one with food. Dry case and terminals before connecting; ice water away from terminals and mains."
)
OVERLOAD = (
    "Heavy currents heat clamps, cables and the pack: attended throughout, fused above the trip, cables for the current. "
    "Short, with time and stop limits armed. There is no short-circuit test: it proves a fuse and can start a fire."
)
REVIVAL = (
    "Attended throughout. Polarity checked twice. One pack alone, never a series string. Feel the case: 40 °C is warm, "
    "50 °C stops. Cells under 2.0 V: do not revive. No bare-wire touching."
)
STORE = (
    "Everything disconnected, terminals covered, dry and out of reach; recycle at a collecting point, never in the bin."
)
INVERTER = "An inverter's output is mains: earth-leakage protection, dry hands, covers on."

CAUTIONS = {
    "charger": CHARGER,
    "cold": COLD,
    "overload": OVERLOAD,
    "revival": REVIVAL,
    "store": STORE,
    "inverter": INVERTER,
    "leads": LEADS,
    "after": AFTER,
}
"""What a recipe may ask for by name, beside what every run shows."""


def cautions_for(family: Family, names: tuple[str, ...]) -> tuple[str, ...]:
    """What to heed for this family, with a recipe's own; the last defers to those who rule.

    Raises:
        KeyError: a name that is not in CAUTIONS.
    """
    return (CURRENT, LITHIUM if family.lithium else LEAD, *(CAUTIONS[name] for name in names), DEFER)


def discharge_cautions(family: Family) -> tuple[str, ...]:
    """What to heed before a discharge of this family."""
    return cautions_for(family, ("leads", "after"))


WORST_COMMON = ("Off does not cool it: keep away, keep others away, keep looking at it for hours.",)
WORST_LITHIUM = (
    "Swelling, heat or smell: get it outdoors, away from anything that burns.",
    "Smoke, hiss or vent: leave, shut the door, call the fire service. Do not breathe it.",
    "Do not open, press or puncture it. Do not charge it again.",
)
WORST_LEAD = (
    "Hot or hissing: ventilate, no sparks, no flame: the gas explodes. Mains plug or fuse first, no clamp under current.",
    "Acid on skin or eyes: water for a quarter of an hour, then a doctor. On the floor: bicarbonate.",
    "Swollen or cracked: eye protection, upright, outdoors.",
)


def worst_minute(family: Family) -> tuple[str, ...]:
    """What to do when something smells, in words readable at two metres; the last defers to those who rule."""
    return (*(WORST_LITHIUM if family.lithium else WORST_LEAD), *WORST_COMMON, DEFER)
