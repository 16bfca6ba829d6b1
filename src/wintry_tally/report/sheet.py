"""A bench sheet: one test on paper, with leads, settings, limits, cautions, boxes for readings, and a code that finds it."""

from __future__ import annotations

import math
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from wintry_tally.core.protocol.leads import AWG_AMPACITY
from wintry_tally.core.protocol.recipe import most_amps
from wintry_tally.core.protocol.template import in_words
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.quantity.preferred import METRIC, Units
from wintry_tally.core.quantity.wires import awg_area_mm2
from wintry_tally.report.page import filled

if TYPE_CHECKING:
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.protocol.recipe import Recipe, StopLimits
    from wintry_tally.core.protocol.template import Template

MARK = "wintry-tally"
"""How the text of a sheet's code begins."""
FUSE_SHARE = 1.25
FUSES_A = (1, 2, 3, 5, 7.5, 10, 15, 20, 25, 30, 40, 50, 60, 80, 100, 125, 150, 200, 250, 300, 400, 500)
"""A fuse is the next size above the current and a quarter; common practice, no published source. Local codes rule."""
LINES = 16


def code_text(book: str, code: str, recipe: str) -> str:
    """What a sheet's code says: the book's name, the sample, the recipe."""
    return "/".join([MARK, *(part.replace("/", " ").strip() for part in (book, code, recipe))])


def code_read(text: str) -> tuple[str, str, str] | None:
    """Book, sample and recipe of a code that was read; None for any other text."""
    parts = text.strip().split("/")
    return (parts[1], parts[2], parts[3]) if len(parts) == 4 and parts[0] == MARK and parts[2] else None


def leads_words(amps: float) -> str:
    """The lead and the fuse for a current, in words; none where nothing is driven."""
    if amps <= 0:
        return "none"
    gauge = next((g for g, most in sorted(AWG_AMPACITY.items(), key=lambda item: item[1]) if most >= amps), None)
    fuse = next((size for size in FUSES_A if size >= FUSE_SHARE * amps), None)
    lead = (
        f"{awg_area_mm2(gauge):.2g} mm² (AWG {gauge}) or thicker"
        if gauge is not None
        else "parallel leads, by their maker's table"
    )
    return (
        f"{lead}; fuse {fuse:g} A within reach of the terminal"
        if fuse is not None
        else f"{lead}; a fuse above {FUSE_SHARE * amps:.0f} A"
    )


CHARGING = ("Charging current", "Charging below")


def limit_lines(stops: StopLimits, charges: bool) -> list[tuple[str, str]]:
    """The stop limits that can be reached, named; of charging only where it charges."""
    found = [
        ("Voltage", stops.voltage_high_V, f"{stops.voltage_low_V:g} to {stops.voltage_high_V:g} V"),
        ("Current drawn", stops.current_high_A, f"{stops.current_high_A:.3g} A"),
        ("Power", stops.power_high_W, f"{stops.power_high_W:.0f} W"),
        ("Temperature", stops.temperature_high_C, f"{stops.temperature_low_C:g} to {stops.temperature_high_C:g} °C"),
        ("Warming", stops.temperature_rate_K_min, f"{stops.temperature_rate_K_min:g} K/min"),
        ("Charging current", stops.charge_high_A, f"{stops.charge_high_A:.3g} A"),
        ("Charging below", stops.cold_charge_C, f"{stops.cold_charge_C:g} °C: at once"),
        ("Charge moved", stops.charge_most_Ah, f"{stops.charge_most_Ah:.3g} Ah"),
        ("Time", stops.time_most_s, format_duration(stops.time_most_s)),
    ]
    return [(name, words) for name, limit, words in found if math.isfinite(limit) and (charges or name not in CHARGING)]


def render_sheet(
    sample: Sample, template: Template, recipe: Recipe, book: str, planned: str = "", demo: bool = False,
    made: datetime | None = None, units: Units = METRIC,
) -> str:  # fmt: skip
    """The sheet as one self-contained page, in a reader's units.

    Args:
        planned: when it is to begin, in words; empty where nobody planned it. demo: its data is invented.
    """
    text = code_text(book, sample.code, template.name)
    most = max((most_amps(step, sample.family) for step in recipe.steps), default=0.0)
    view: dict[str, Any] = {
        "sample": sample, "title": template.title, "words": template.words, "planned": planned, "demo": demo, "code": text, "qr": _qr(text),
        "settles": ", ".join(kind.replace("-", " ") for kind in template.settles), "leads": leads_words(most),
        "cutoff": recipe.cutoff_V, "steps": [(step.title, in_words(step), step.attended) for step in recipe.steps],
        "limits": limit_lines(recipe.stops, any(step.kind == "charge" for step in recipe.steps)), "cautions": recipe.cautions, "lines": range(LINES),
        "made": (made or datetime.now(UTC)).astimezone().strftime("%Y-%m-%d %H:%M"),
    }  # fmt: skip
    return filled("sheet.html.j2", view, units)


def _qr(text: str) -> str:
    import segno

    return str(segno.make(text, error="m").svg_inline(scale=3, border=2, dark="#16222E", light="#fff"))
