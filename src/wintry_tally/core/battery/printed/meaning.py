"""What a quantity of a printed line is a claim of: by the names about it, by its unit, by the words between."""

from __future__ import annotations

import re

from wintry_tally.core.battery.printed.beside import (
    briefly,
    compared,
    degrees,
    drawn_at,
    drawn_beside,
    draws,
    filled_beside,
    given_at,
    gives,
    in_the_cold,
    kept_for_months,
    left_over,
    months_beside,
    of_capacity,
    of_charging,
    of_cranking,
    of_each,
    of_others,
    opened_at,
    tapers_to,
    warmed,
)
from wintry_tally.core.battery.printed.line import (
    CHARGING,
    DIMENSIONS,
    STOPPING,
    Line,
    Name,
    clause_of,
    name_before,
    name_behind,
    phrase_of,
    stands_as_condition,
    value_between,
)
from wintry_tally.core.battery.printed.quantities import Item

BY_UNIT = {"charge": "capacity", "energy": "energy", "mass": "mass", "money": "price", "count": "cycles", "monthly share": "self-discharge"}  # fmt: skip
RELEASES = {"over-voltage-cut": "over-voltage-release", "low-voltage-cut": "low-voltage-release", "cold-charge-block": "cold-charge-release"}  # fmt: skip
PAIRS = {
    "both-currents": ("charge-current", "continuous-discharge"),
    "continuous-and-surge": ("continuous-discharge", "surge"),
}
"""Names of two currents in one."""
MANY = frozenset({"cycles", "surge", *PAIRS, "beside", "capacity"})
"""Names that may stand before several values."""
NEAR, FEW = 24, 3
HOT = "high-temperature-cut"
COLD_STOP_C = 20.0
"""A charge that stops at a higher temperature is too warm, not too cold."""
SECONDS = frozenset({"s", "sec", "secs", "second", "seconds", "ms"})
LONG_UNITS = frozenset({"month", "months", "week", "weeks", "year", "years"})


def kind_for(line: Line, piece: Item, context: str) -> str:
    """What a quantity is a claim of; "condition" where it stands as one, empty where nothing says."""
    if of_cranking(line, piece) or (piece.dimension == "money" and of_each(line, piece)):
        return "beside"
    if compared(line, piece) or of_others(line, piece):
        return ""
    # cycles, energies and charges are claims wherever they stand
    condition = stands_as_condition(line, piece) and piece.dimension not in {"count", "energy", "charge"}
    before, after = name_before(line, piece), name_behind(line, piece)
    if opened_at(line, piece) and (before is None or before.kind in {"continuous-discharge", "charging"}):
        return "beside" if of_charging(line, piece) else "over-current-trip"
    if before is not None and before.kind == "charging" and _times_a_current(line, before, piece):
        return "condition"
    if condition and piece.kind == "rate" and before is not None and _share_between(line, before, piece):
        return "condition"
    if (
        (condition and before is None and drawn_at(line, after))
        or draws(line, piece, after)
        or gives(line, piece, before)
        or given_at(line, piece, before, condition)
    ):
        return "condition"
    if before is not None and before.kind not in MANY and value_between(line, before, piece):
        if condition or after is None:
            return "condition"
        before = None
    if condition and before is None and (after is None or DIMENSIONS.get(after.kind) != piece.dimension):
        return "condition"
    name = before or after
    if name is not None and tapers_to(line, piece, name):
        return "beside"
    if name is None and _more_cycles(line, piece):
        return "cycles"
    if (
        piece.dimension == "share"
        and (name is None or name.kind not in {"kept", "lost", "cold-loss"})
        and of_capacity(line, piece)
    ):
        return "cold-kept"
    if (
        piece.dimension == "duration"
        and (name is None or name.kind in {"charging", "charge-time"})
        and warmed(line, piece)
    ):
        return "heater-time"
    if piece.dimension == "share" and (name is None or name.kind == "beside") and kept_for_months(line, piece):
        return "months-kept"
    if name is None:
        return "condition" if piece.kind == "rate" else _by_unit(line, piece)
    if (
        name.kind == "beside"
        and piece.dimension == "energy"
        and line.text[name.begin : name.end].lower().endswith("power")
    ):
        return "energy"
    return _named(line, piece, name, context)


def _times_a_current(line: Line, name: Name, piece: Item) -> bool:
    """Whether a time is of a current that has a name of its own, and not of the charging spoken of before it."""
    own = (one for one in line.names if name.end <= one.begin and one.end <= piece.begin)
    return piece.dimension == "duration" and any(DIMENSIONS.get(one.kind) == "current" for one in own)


def _share_between(line: Line, name: Name, piece: Item) -> bool:
    """Whether a share stands between a name and a rate: "efficiency of discharge 96 % @ 1C"."""
    return any(one.dimension == "share" and name.end <= one.begin < piece.begin for one in line.pieces)


def _named(line: Line, piece: Item, name: Name, context: str) -> str:
    """What a quantity is a claim of by its name, and by what the name may mean with it."""
    if name.kind == "low-voltage-cut" and not _says_low(line, name) and of_charging(line, piece):
        return "over-voltage-cut"  # "shuts down at 15.2 V while charging"
    if name.kind == "charge-current" and line.says("heats", piece.end, clause_of(line, piece)[1]):
        return "beside"  # "needs at least 10 A charge current to heat"
    if name.kind == "runtime" and piece.unit in SECONDS:
        return "condition"  # "surge 200 A lasts 5 s"
    if name.kind == "runtime" and piece.unit in LONG_UNITS:
        return "beside"  # "lasts 10 years"
    if name.kind in {"charging", "charge-time"} and piece.unit in LONG_UNITS:
        # nothing charges for months: what was kept is spoken of, or how long it may be
        return "shelf-life" if any(one.kind == "shelf-life" for one in line.names) else ""
    if name.kind == "charging":
        return (
            "charge-current"
            if piece.kind == "rate"
            else CHARGING.get(piece.dimension, "" if line.says("heats") else "charging-range")
        )
    if name.kind in STOPPING:
        made = STOPPING[name.kind][piece.dimension]
        return "beside" if made == "cold-charge-block" and degrees(piece) > COLD_STOP_C else made
    if name.kind == "release":
        if context == HOT and piece.dimension == "temperature":
            return "beside"
        return (
            "cold-charge-release" if piece.dimension == "temperature" else RELEASES.get(context, "low-voltage-release")
        )
    if name.kind in {"cycles", "price"} and piece.dimension == "" and not _next_to(line, name, piece):
        return ""
    if name.kind == "cold-charge-block" and _of_discharge(line, piece):
        return "beside"
    if name.kind == "self-discharge" and piece.dimension != "monthly share":
        over = "months-kept" if left_over(line, piece) else "months-lost"
        return over if months_beside(line, piece) else ""
    if name.kind == "kept":
        return "cold-kept" if in_the_cold(line, piece) else "months-kept" if months_beside(line, piece) else ""
    if name.kind == "lost":
        return "cold-loss" if in_the_cold(line, piece) else "months-lost" if months_beside(line, piece) else ""
    return name.kind


def _says_low(line: Line, name: Name) -> bool:
    """Whether a name says itself that it is of discharging."""
    return line.says("draws", name.begin, name.end)


def _next_to(line: Line, name: Name, piece: Item) -> bool:
    """Whether a bare number stands by its name: near it, and no other bare number between."""
    begin, end = min(name.end, piece.end), max(name.begin, piece.begin)
    apart = len(re.sub(r"\([^)]*\)", "", line.text[begin:end]))
    bare = (other for other in line.pieces if other.kind == "quantity" and not other.dimension and other is not piece)
    return apart <= NEAR and not any(begin <= other.begin < end for other in bare)


def _more_cycles(line: Line, piece: Item) -> bool:
    """Whether a bare number goes on a list of cycles: "4000 cycles @ 80 %, 2000 @ 100 %"."""
    place = line.pieces.index(piece)
    behind = [one for one in line.pieces[place + 1 : place + 4] if one.text != "+"][:2]
    listed = len(behind) == 2 and behind[0].text in {"@", "at", "("} and behind[1].dimension == "share"
    spoken = any(name.kind == "cycles" for name in line.names) or any(item.dimension == "count" for item in line.pieces)
    return piece.kind == "quantity" and not piece.dimension and listed and spoken


def _of_discharge(line: Line, piece: Item) -> bool:
    """Whether a clause speaks of discharging alone: its cold limit blocks no charge."""
    words = phrase_of(line, piece).lower()
    return "discharg" in words and "charg" not in words.replace("discharg", "")


def _by_unit(line: Line, piece: Item) -> str:
    """The kind that a unit alone settles."""
    if piece.dimension == "current" and "bms" in phrase_of(line, piece).lower():
        return "continuous-discharge"
    if piece.dimension == "current" and briefly(line, piece):
        return "surge"
    if piece.dimension == "duration" and piece.unit not in LONG_UNITS:
        return "runtime" if drawn_beside(line, piece) else "charge-time" if filled_beside(line, piece) else ""
    if piece.dimension == "power" and line.says("heats"):
        return "heater-power"
    if piece.dimension == "voltage" and piece.high is None:
        return "nominal-voltage"
    begin, end = clause_of(line, piece)
    words = [item for item in line.pieces if item.kind == "word" and begin <= item.begin < end]
    if piece.dimension == "mass" and len(words) > FEW:
        return ""  # in a sentence a mass may be anything's
    return BY_UNIT.get(piece.dimension, "")
