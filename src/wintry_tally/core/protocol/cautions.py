"""Cautions, shown where the hazard arises and in the report. Each set ends by deferring to those who rule."""

from __future__ import annotations

from wintry_tally.core.battery import Family

DEFER = "The battery's manual, local codes and licensed practice rule over anything said here."

CURRENT = (
    "12 V can weld and burn: fuse within reach of the battery's terminal, insulated tools, no rings or watches, "
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


def discharge_cautions(family: Family) -> tuple[str, ...]:
    """What to heed before a discharge of this family."""
    return (CURRENT, LITHIUM if family.lithium else LEAD, LEADS, AFTER, DEFER)
