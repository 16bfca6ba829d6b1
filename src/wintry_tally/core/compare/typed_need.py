"""A need as people write it: "mast: logger 0.85 A down to 11.4 V; radio 12 W 5 %; 120 h at -10 °C"."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from wintry_tally.core.compare.need import Device, Need
from wintry_tally.core.errors import InputError

HOW = "write it like “mast: logger 0.85 A down to 11.4 V; radio 12 W 5 %; 120 h at -10 °C”"
MORE = (
    "beside it: “pump 5 A down to 11 V starting with 20 A for 1 s”, “kettle 900 W by an inverter of 88 %”, "
    "“full again in 8 h by 10 A”, “250 cycles a year for 10 years”, “charger costs 120”, “0.3 a kWh”"
)
INVERTER = 0.88
"""The efficiency of an inverter of which nobody says it; common practice."""
_N = r"(\d+(?:[.,]\d+)?)"
_AMPS, _WATTS, _SECONDS = r"(?:A|amps?)\b", r"(k?W|watts?)\b", r"(?:s|sec|seconds?)\b"
_BEFORE, _BEHIND = r"(?:(\d+)\s*[x×*]\s*)?", r"(?:\s*[x×*]\s*(\d+)\b)?"
"""How many of them: "2 x 5 W", "5 W x 2"."""
_DEVICE = {
    "surge": rf"start(?:s|ing)?(?:\s+(?:with|at|by))?\s+{_N}\s*{_AMPS}(?:\s+for\s+{_N}\s*{_SECONDS})?",
    "inverter": rf"(?:by|through|on)\s+an?\s+inverter(?:\s+(?:of\s+)?{_N}\s*%)?",
    "least_V": rf"(?:down to|drops out at|not below|above|least)\s*{_N}\s*V\b",
    "A": rf"{_BEFORE}{_N}\s*{_AMPS}{_BEHIND}",
    "W": rf"{_BEFORE}{_N}\s*{_WATTS}{_BEHIND}",
    "daily": rf"{_N}\s*(h|hours?|min|minutes?)\s*(?:(?:an?|per|each|every|/)\s*(day|h|hour)\b|daily)",
    "duty": rf"{_N}\s*%",
}
_ASKED = {
    "full": rf"full again (?:in|within)\s+{_N}\s*(h|hours?)(?:\s+(?:by|at|with)\s+{_N}\s*{_AMPS})",
    "cycles": rf"{_N}\s*cycles a year",
    "years": rf"(?:for|over)?\s*{_N}\s*years\b",
    "charger": rf"charger (?:costs|for)\s+{_N}",
    "kWh": rf"{_N}\s*(?:a|per)\s*kWh\b",
    "cold": r"([-−]?\d+(?:[.,]\d+)?)\s*°?\s*([CF])\b",
    "hours": rf"{_N}\s*(h|hours?|d|days?)\b",
}


_MAINS_OR_PACK = r"\b(?:6|12|24|36|48|110|115|120|220|230|240)\s*V\b"
"""What something is made for, in volts: a word of its name."""
_LOST = rf"{_N}\s*(?:[kmMµ]?[AW]h?|amps?|watts?|min|minutes?|h|hours?|days?|%|V|[x×*])(?!\w)"
"""A figure with a unit that nothing took out of a part."""
_COUNTED = r"\b\d+\s+[^\W\d_]{2,}s\b"
"""A number of things of which one figure is told: "2 lamps 5 W"."""


def _parts(text: str) -> list[str]:
    """The parts of a line: between semicolons, and between commas where on both sides something draws."""
    found: list[str] = []
    draws = re.compile(rf"{_N}\s*(?:{_AMPS}|{_WATTS})", re.IGNORECASE)
    goes_on = re.compile(rf"\s*(?:{_DEVICE['surge']}|{_ASKED['full']})", re.IGNORECASE)
    for piece in text.split(";"):
        own: list[str] = []
        for clause in re.split(r",\s+", piece):
            if own and (not draws.search(clause) or goes_on.match(clause) or not draws.search(own[-1])):
                own[-1] += f", {clause}"
            else:
                own.append(clause)
        found += [part.strip() for part in own if part.strip()]
    return found


def _taken(pattern: str, text: str) -> tuple[list[str | None] | None, str]:
    """What a pattern finds, and the text without it."""
    match = re.search(pattern, text, re.IGNORECASE)
    if match is None:
        return None, text
    return list(match.groups()), f"{text[: match.start()]} {text[match.end() :]}"


def _number(text: str | None) -> float:
    return float((text or "0").replace(",", ".").replace("−", "-"))


def parse_need(text: str) -> Need:
    """A need typed in one line: its name before a colon, a device or something asked for in each part between semicolons.

    Raises:
        InputError: no hours, no device, or a part that says neither; the message shows how it is written.
    """
    name, colon, rest = text.strip().partition(":")
    if not colon:
        name, rest = "need", text
    devices: list[Device] = []
    asked: dict[str, float] = {}
    for part in _parts(rest):
        left, before = part, len(asked)
        for kind in ("full", "cycles", "years", "charger", "kWh"):
            left = _asked(kind, left, asked)
        device, left = _device(left, len(devices) + 1)
        if device is not None:
            devices.append(device)
            left = ""
            whole = _taken(_DEVICE["daily"], part)[1]
            for kind in ("cold", "hours"):
                _asked(kind, whole, asked)  # "lamp 5 W for 24 h"
            continue
        for kind in ("cold", "hours"):
            left = _asked(kind, left, asked)
        if len(asked) == before and not any(re.search(pattern, part, re.IGNORECASE) for pattern in _ASKED.values()):
            raise InputError(f"“{part}” says neither what draws nor for how long", mend=HOW)
        if re.search(r"\d", left):
            raise InputError(f"“{' '.join(left.split())}” of “{part}” is not understood", mend=HOW)
    return _checked(Need(name.strip() or "need", asked.get("hours", 0.0), tuple(devices)), asked)


def _asked(kind: str, text: str, asked: dict[str, float]) -> str:
    """Take one of the things asked for out of a part."""
    found, left = _taken(_ASKED[kind], text)
    if found is None:
        return text
    if kind == "full":
        asked["full_again_h"], asked["charger_A"] = _number(found[0]), _number(found[2])
    elif kind == "hours":
        asked["hours"] = _number(found[0]) * (24.0 if str(found[1]).lower().startswith("d") else 1.0)
    elif kind == "cold" and str(found[1]).upper() == "F":
        asked["cold"] = round((_number(found[0]) - 32.0) / 1.8, 2)
    else:
        asked[kind] = _number(found[0])
    return left


def _device(part: str, number: int) -> tuple[Device | None, str]:
    """A thing that draws; None where the part names no amperes and no watts."""
    found: dict[str, list[str | None] | None] = {}
    left = part
    for kind in _DEVICE:
        if kind != "W" or found["A"] is None:
            found[kind], left = _taken(_DEVICE[kind], left)
    amps, watts = found["A"], found.get("W")
    if amps is None and watts is None:
        return None, part
    for pattern in (_ASKED["cold"], _ASKED["hours"]):
        _, left = _taken(pattern, left)
    lost = re.search(_LOST, re.sub(_MAINS_OR_PACK, " ", left), re.IGNORECASE)
    if lost is not None:
        raise InputError(f"“{lost[0]}” of “{part}” is not understood", mend=f"part things by semicolons; {HOW}")
    many = re.search(_COUNTED, left, re.IGNORECASE)
    if many is not None:
        raise InputError(f"“{many[0]}” of “{part}”: is the figure of one, or of all?", mend="write “lamps 2 x 5 W”")
    words = re.sub(r"\b(at|for|and|of|the|in|down to)\b", " ", left)
    words = " ".join(re.sub(r"[^\w -]", " ", words).split()) or f"device {number}"
    duty = (1.0 if found["duty"] is None else _number(found["duty"][0]) / 100.0) * _share(found["daily"])
    drawn = _amount(amps or watts or [], part)
    if not 0 < duty <= 1 or not 0 < drawn < 1e6:
        raise InputError(f"“{part}”: so much cannot be drawn", mend=HOW)
    least, surge, inverter = found["least_V"], found["surge"], found["inverter"]
    share = 0.0 if inverter is None else INVERTER if inverter[0] is None else _number(inverter[0]) / 100.0
    if inverter is not None and not 0.1 <= share <= 1.0:
        raise InputError(f"“{part}”: no inverter is so", mend="write “by an inverter of 88 %”")
    if surge is not None and least is None:
        raise InputError(
            f"“{part}”: a start needs the least voltage that it works at",
            mend="write “starting with 20 A down to 11 V”",
        )
    return Device(
        words, 0.0 if amps is None else drawn, drawn if amps is None else 0.0, duty, 0.0 if least is None else _number(least[0]),
        0.0 if surge is None else _number(surge[0]), 0.0 if surge is None else _number(surge[1]) or 1.0, share,
    ), left  # fmt: skip


def _amount(found: list[str | None], part: str) -> float:
    """Amperes or watts, of all of them: how many before, the number, for watts its unit, how many behind."""
    before, shown, *unit, behind = found
    watts = (unit[0] or "") if unit else ""
    if watts and re.fullmatch(r"[1-9]\d{0,2}[.,]\d{3}", shown or ""):
        raise InputError(
            f"“{shown}” of “{part}” could be {float((shown or '').replace(',', '').replace('.', '')):g} or {_number(shown):g}",
            mend="write it without the mark of thousands",
        )
    return _number(shown) * int(before or 1) * int(behind or 1) * (1000.0 if watts.lower() == "kw" else 1.0)


def _share(daily: list[str | None] | None) -> float:
    """The share of the time that so long a day, or an hour, is."""
    if daily is None:
        return 1.0
    minutes = _number(daily[0]) * (1.0 if str(daily[1]).lower().startswith("m") else 60.0)
    return round(minutes / (60.0 if str(daily[2] or "day").lower().startswith("h") else 24.0 * 60.0), 6)


def _checked(need: Need, asked: dict[str, float]) -> Need:
    if not need.devices:
        raise InputError("nothing is said of what draws", mend=HOW)
    if not 0 < need.hours < 1e5:
        raise InputError("nothing is said of how long", mend=HOW)
    cold = asked.get("cold")
    if cold is not None and not -60 <= cold <= 60:
        raise InputError(f"{cold:g} °C cannot be", mend=HOW)
    if any(asked.get(kind, 1.0) <= 0 for kind in ("full_again_h", "charger_A", "cycles", "years")):
        raise InputError("nothing is full again, or used, in no time", mend=MORE)
    if asked.get("years", 1.0) > 200 or asked.get("cycles", 1.0) >= 1e5:
        raise InputError("so many years, or cycles a year, cannot be", mend=MORE)
    return replace(
        need, coldest_C=cold, charger_A=asked.get("charger_A"), full_again_h=asked.get("full_again_h"),
        charger_price=asked.get("charger"), cycles_a_year=asked.get("cycles"), years=asked.get("years"),
        kWh_price=asked.get("kWh"),
    )  # fmt: skip


def kept_needs(texts: Sequence[str]) -> tuple[list[tuple[str, Need]], dict[str, str]]:
    """Needs kept in a book, each in words and as data; and why those that cannot be read any more cannot, by their words."""
    read, unread = [], {}
    for text in texts:
        try:
            read.append((text, parse_need(text)))
        except InputError as error:
            unread[text] = str(error)
    return read, unread


def device_words(device: Device) -> str:
    """A thing that draws, as `parse_need` reads it."""
    words = f"{device.name} {device.A:g} A" if device.A else f"{device.name} {device.W:g} W"
    words += f" down to {device.least_V:g} V" if device.least_V else ""
    words += f" {100 * device.duty:g} %" if device.duty < 1 else ""
    words += f" starting with {device.surge_A:g} A for {device.surge_s:g} s" if device.surge_A else ""
    return words + (f" by an inverter of {100 * device.inverter:g} %" if device.inverter else "")


def need_words(need: Need) -> str:
    """A need in one line, as `parse_need` reads it."""
    cold = f" at {need.coldest_C:g} °C" if need.coldest_C is not None else ""
    parts = [*(device_words(device) for device in need.devices), f"{need.hours:g} h{cold}"]
    if need.full_again_h is not None and need.charger_A is not None:
        parts.append(f"full again in {need.full_again_h:g} h by {need.charger_A:g} A")
    if need.cycles_a_year is not None:
        parts.append(f"{need.cycles_a_year:g} cycles a year")
    if need.years is not None:
        parts.append(f"{need.years:g} years")
    if need.charger_price is not None:
        parts.append(f"charger costs {need.charger_price:g}")
    if need.kWh_price is not None:
        parts.append(f"{need.kWh_price:g} a kWh")
    return f"{need.name}: {'; '.join(parts)}"


def with_device(text: str, device: str) -> str:
    """A line with one more thing that draws: before what is asked for, where that is typed already."""
    name, colon, rest = text.partition(":")
    if not colon:
        name, rest = ("need", text) if text.strip() else ("need", "")
    parts = [part.strip() for part in rest.split(";") if part.strip()]
    place = next((n for n, part in enumerate(parts) if _device(part, 1)[0] is None), len(parts))
    return f"{name.strip()}: {'; '.join([*parts[:place], device, *parts[place:]])}"


def devices_of(needs: Sequence[str]) -> list[str]:
    """The things that draw of needs kept, each once."""
    return list(dict.fromkeys(device_words(device) for _, need in kept_needs(needs)[0] for device in need.devices))
