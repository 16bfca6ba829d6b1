"""A need as people write it: "mast: logger 0.85 A down to 11.4 V; radio 12 W 5 %; 120 h at -10 °C"."""

from __future__ import annotations

import re

from wintry_tally.core.compare.need import Device, Need
from wintry_tally.core.errors import InputError

HOW = "write it like “mast: logger 0.85 A down to 11.4 V; radio 12 W 5 %; 120 h at -10 °C”"
_NUMBER = r"(?P<n>[-−]?\d+(?:[.,]\d+)?)"
_PARTS = {
    "A": rf"{_NUMBER}\s*(?:A|amps?)\b",
    "W": rf"{_NUMBER}\s*(?:W|watts?)\b",
    "least_V": rf"(?:down to|drops out at|not below|above|least)\s*{_NUMBER}\s*V\b",
    "duty": rf"{_NUMBER}\s*%",
    "hours": rf"{_NUMBER}\s*(?P<u>h|hours?|d|days?)\b",
    "coldest_C": rf"{_NUMBER}\s*°?\s*C\b",
}


def _value(kind: str, text: str) -> tuple[float | None, str]:
    match = re.search(_PARTS[kind], text, re.IGNORECASE)
    if match is None:
        return None, text
    value = float(match["n"].replace(",", ".").replace("−", "-"))
    if kind == "hours" and match["u"].lower().startswith("d"):
        value *= 24.0
    return value, f"{text[: match.start()]} {text[match.end() :]}"


def parse_need(text: str) -> Need:
    """A need typed in one line: its name before a colon, a device or the hours in each part between semicolons.

    Raises:
        InputError: no hours, no device, or a part that says neither; the message shows how it is written.
    """
    name, colon, rest = text.strip().partition(":")
    if not colon:
        name, rest = "need", text
    devices: list[Device] = []
    hours, coldest = None, None
    for part in (piece.strip() for piece in rest.split(";")):
        if not part:
            continue
        left = part
        found: dict[str, float | None] = {}
        for kind in ("least_V", "A", "W", "duty", "coldest_C", "hours"):
            found[kind], left = _value(kind, left)
        hours = found["hours"] if found["hours"] is not None else hours
        coldest = found["coldest_C"] if found["coldest_C"] is not None else coldest
        if found["A"] is None and found["W"] is None:
            if found["hours"] is None and found["coldest_C"] is None:
                raise InputError(f"“{part}” says neither what draws nor for how long", mend=HOW)
            continue
        words = re.sub(r"\b(at|for|and|of|the|in)\b", " ", left)
        words = " ".join(re.sub(r"[^\w -]", " ", words).split()) or f"device {len(devices) + 1}"
        duty = 1.0 if found["duty"] is None else found["duty"] / 100.0
        drawn = found["A"] if found["A"] is not None else found["W"]
        if not 0 < duty <= 1 or not 0 < (drawn or 0.0) < 1e6:
            raise InputError(f"“{part}”: so much cannot be drawn", mend=HOW)
        devices.append(
            Device(
                words,
                found["A"] or 0.0,
                found["W"] or 0.0 if found["A"] is None else 0.0,
                duty,
                found["least_V"] or 0.0,
            )
        )
    if not devices:
        raise InputError("nothing is said of what draws", mend=HOW)
    if hours is None or not 0 < hours < 1e5:
        raise InputError("nothing is said of how long", mend=HOW)
    if coldest is not None and not -60 <= coldest <= 60:
        raise InputError(f"{coldest:g} °C cannot be", mend=HOW)
    return Need(name.strip() or "need", hours, tuple(devices), coldest)


def need_words(need: Need) -> str:
    """A need in one line, as `parse_need` reads it."""
    parts = []
    for device in need.devices:
        drawn = f"{device.A:g} A" if device.A else f"{device.W:g} W"
        least = f" down to {device.least_V:g} V" if device.least_V else ""
        duty = f" {100 * device.duty:g} %" if device.duty < 1 else ""
        parts.append(f"{device.name} {drawn}{least}{duty}")
    cold = f" at {need.coldest_C:g} °C" if need.coldest_C is not None else ""
    return f"{need.name}: {'; '.join(parts)}; {need.hours:g} h{cold}"
