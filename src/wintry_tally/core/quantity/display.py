"""How values are written out: two significant digits of doubt, and as many of the value as the doubt allows."""

from __future__ import annotations

import math

from wintry_tally.core.quantity.uncertain import Quantity

MINUS = "−"


def decimals_for(doubt: float, significant: int = 2) -> int:
    """Decimals that show `doubt` to `significant` digits (JCGM 100:2008, 7.2.6); never more than nine."""
    if not math.isfinite(doubt) or doubt <= 0.0:
        return 3
    exponent = math.floor(math.log10(doubt))
    if round(doubt / 10.0 ** (exponent - significant + 1)) >= 10**significant:
        exponent += 1
    return min(9, significant - 1 - exponent)


def format_number(value: float, decimals: int) -> str:
    """Fixed decimals with a true minus sign; negative decimals round to tens, hundreds."""
    if not math.isfinite(value):
        return "–"
    rounded = round(value, decimals)
    text = f"{abs(rounded):.{max(0, decimals)}f}"
    return f"{MINUS}{text}" if rounded < 0 else text


def amps_words(current_A: float, decimals: int = 1) -> str:
    """A current as every page writes it: drawn as it is, flowing in with a minus sign; nothing where it is not known."""
    return f"{format_number(current_A, decimals)} A" if math.isfinite(current_A) else ""


def degrees_words(celsius: float, decimals: int = 1) -> str:
    """A temperature with a true minus sign."""
    return f"{format_number(celsius, decimals)} °C"


def format_quantity(quantity: Quantity, with_doubt: bool = True) -> str:
    """ "41.27 ± 0.42 Ah": expanded uncertainty (k = 2) to two significant digits; no doubt known, "± ?"."""
    expanded = quantity.expanded
    unit = f" {quantity.unit}" if quantity.unit not in {"", "money"} else ""
    if expanded is None or expanded == 0.0:
        text = format_number(quantity.value, decimals_without_doubt(quantity.value))
        unknown = " ± ?" if expanded is None and with_doubt else ""
        return f"{text}{unknown}{unit}"
    decimals = decimals_for(expanded)
    if not with_doubt:
        return f"{format_number(quantity.value, decimals)}{unit}"
    return f"{format_number(quantity.value, decimals)} ± {format_number(expanded, decimals)}{unit}"


def decimals_without_doubt(value: float) -> int:
    """Decimals for a value of unknown doubt: four significant digits."""
    if value == 0.0 or not math.isfinite(value):
        return 2
    return max(0, min(6, 3 - math.floor(math.log10(abs(value)))))


def format_plain(value: float, unit: str = "") -> str:
    """A number without a doubt of its own, as it would be printed: four significant digits, no needless zeros."""
    text = format_number(value, decimals_without_doubt(value))
    text = text.rstrip("0").rstrip(".") if "." in text else text
    return f"{text} {unit}".strip() if unit != "money" else text


def format_hours(hours: float) -> str:
    """A length of time that is foretold, to the minute: "32 min", "5 h 02 min", "30 d 11 h"."""
    minutes = round(60.0 * hours) if math.isfinite(hours) else 0
    return f"{minutes} min" if 0 < minutes < 60 else format_duration(60.0 * minutes if minutes else 3600.0 * hours)


def format_duration(seconds: float) -> str:
    """ "5 h 02 min", "12 min 30 s", "42 s"; days from 48 h on."""
    if not math.isfinite(seconds):
        return "–"
    sign = MINUS if seconds < 0 else ""
    total = round(abs(seconds))
    if total < 60:
        return f"{sign}{total} s"
    if total < 3600:
        return f"{sign}{total // 60} min {total % 60:02d} s"
    minutes = round(abs(seconds) / 60)
    hours, rest = divmod(minutes, 60)
    if hours < 48:
        return f"{sign}{hours} h {rest:02d} min"
    hours = round(minutes / 60)
    return f"{sign}{hours // 24} d {hours % 24} h"


def format_set_time(seconds: float) -> str:
    """A time that somebody set, which has no more digits than were set: "5 min", "1 h", else as `format_duration`."""
    for unit, length, most in (("h", 3600.0, 48 * 3600.0), ("min", 60.0, 3600.0)):
        if 0 < seconds < most and seconds % length == 0:
            return f"{seconds / length:.0f} {unit}"
    return format_duration(seconds)
