"""What stands beside a quantity, where its own name does not say what it is: a time, a rate in brackets, a low temperature."""

from __future__ import annotations

import re

from wintry_tally.core.battery.printed.found import Read
from wintry_tally.core.battery.printed.line import Line, Name, clause_of, name_behind
from wintry_tally.core.battery.printed.quantities import Item
from wintry_tally.core.quantity.units import find_unit

GO_ON = frozenset({"continuous-discharge", "surge", "over-current-trip"})
COLD_BELOW_C = 10.0
LISTED = re.compile(r"[,;/&+(]|\b(and|or|und|et)\b", re.IGNORECASE)
"""What stands between values of a list."""


def drawn_at(line: Line, name: Name | None) -> bool:
    """Whether a current before a name is what a capacity is drawn at: "capacity at 10 A discharge: 95 Ah"."""
    plain_word = name is not None and line.text[name.begin : name.end].lower() in {"discharge", "discharging", "load"}
    return plain_word and any(piece.dimension in {"charge", "energy"} for piece in line.pieces)


def gives(line: Line, piece: Item, name: Name | None) -> bool:
    """Whether a current before a charge is what it is drawn at: "discharged with 0.2C: 100 Ah", "discharge at 20 A gives 98 Ah"."""
    plain_word = name is not None and line.text[name.begin : name.end].lower().startswith("discharg")
    behind = next((one for one in line.pieces if one.begin >= piece.end and one.kind in {"quantity", "rate"}), None)
    if not plain_word or behind is None or behind.dimension not in {"charge", "energy"}:
        return False
    return (
        re.fullmatch(r"\s*(:|=|gives|yields|it gives|for|->|→)?\s*", line.text[piece.end : behind.begin].lower())
        is not None
    )


def in_the_cold(line: Line, piece: Item) -> bool:
    """Whether a share is of what the cold leaves: a low temperature in its clause, and no cycles spoken of."""
    begin, end = clause_of(line, piece)
    own = [item for item in line.pieces if begin <= item.begin < end and item.dimension == "temperature" and item.low]
    cold = any(_degrees(item) < COLD_BELOW_C for item in own)
    return cold and not any(name.kind == "cycles" and begin <= name.begin < end for name in line.names)


def _degrees(piece: Item) -> float:
    unit = find_unit(piece.unit, "temperature")
    assert piece.low is not None
    value = piece.low.values[-1] if piece.low.values else 25.0
    return value * unit.factor + unit.shift if unit is not None else value


def goes_on(line: Line, piece: Item, here: list[tuple[Item, Read]]) -> str:
    """The kind of the current before it, where a current has no name and a time of its own: "100 A, 5 min 150 A, 3 s 300 A"."""
    kinds = [read.claim.kind for item, read in here if item.end <= piece.begin and read.claim.kind in GO_ON]
    if piece.kind != "quantity" or piece.dimension != "current" or not kinds or name_behind(line, piece) is not None:
        return ""
    place = line.pieces.index(piece)
    beside = [line.pieces[place - 1] if place else None, *line.pieces[place + 1 : place + 3]]
    timed = any(one is not None and one.dimension == "duration" and _adjoins(line, piece, one) for one in beside)
    last = next((item for item, read in reversed(here) if read.claim.kind in GO_ON), None)
    between = line.text[last.end : piece.begin] if last is not None else ""
    return kinds[-1] if timed and LISTED.search(between) else ""


def _adjoins(line: Line, piece: Item, other: Item) -> bool:
    """Whether nothing but a sign or "for" stands between two pieces."""
    words = line.text[min(piece.end, other.end) : max(piece.begin, other.begin)].lower()
    return words.strip(" (@/≤<") in {"", "for", "at"}


def current_beside(line: Line, piece: Item) -> Item | None:
    """The current that says a rate in amperes, or the other way round: one of them in brackets behind the other."""
    place = line.pieces.index(piece)
    before, behind = line.pieces[max(0, place - 2) : place], line.pieces[place + 1 : place + 3]
    for near in (behind, list(reversed(before))):
        if len(near) == 2 and near[0].text == "(" and near[1].dimension == "current":
            return near[1]
    return None
