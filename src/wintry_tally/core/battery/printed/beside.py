"""What stands beside a quantity, where its own name does not say what it is: a time, a rate in brackets, a low temperature."""

from __future__ import annotations

import re
from dataclasses import replace

from wintry_tally.core.battery.printed.found import Read
from wintry_tally.core.battery.printed.line import BY_CELL, DIMENSIONS, STOPPING, Line, Name, clause_of, name_behind
from wintry_tally.core.battery.printed.quantities import Item, Number
from wintry_tally.core.quantity.units import find_unit

GO_ON = frozenset({"continuous-discharge", "surge", "over-current-trip"})
COLD_BELOW_C = 10.0
LISTED = re.compile(r"[,;/&+(]|\b(and|or|und|et)\b", re.IGNORECASE)
"""What stands between values of a list."""


def drawn_at(line: Line, name: Name | None) -> bool:
    """Whether a current before a name is what a capacity is drawn at: "capacity at 10 A discharge: 95 Ah"."""
    plain_word = name is not None and line.text[name.begin : name.end].lower() in {"discharge", "discharging", "load"}
    return plain_word and any(piece.dimension in {"charge", "energy"} for piece in line.pieces)


def draws(line: Line, piece: Item, behind: Name | None) -> bool:
    """Whether a current or a rate is what the charge behind it is drawn at: "1C discharge: 95 Ah"."""
    if behind is None or not line.text[behind.begin : behind.end].lower().startswith("discharg"):
        return False
    own = next((one for one in line.pieces if one.begin >= behind.end and one.kind in {"quantity", "rate"}), None)
    drawn = own is not None and own.dimension in {"charge", "energy"}
    drawn = drawn and own is not None and not {",", ";"} & set(line.text[behind.end : own.begin])
    return drawn and not line.text[piece.end : behind.begin].strip() and piece.dimension in {"", "current"}


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


def given_at(line: Line, piece: Item, name: Name | None, condition: bool) -> bool:
    """Whether a current behind a charge is what it is drawn at: "delivers 95 Ah at 5 A"."""
    between = (one for one in line.pieces if name is not None and name.end <= one.begin and one.end <= piece.begin)
    drawn = name is not None and name.kind == "continuous-discharge" and piece.dimension == "current"
    return condition and drawn and any(one.dimension in {"charge", "energy"} for one in between)


def in_the_cold(line: Line, piece: Item) -> bool:
    """Whether a share is of what the cold leaves: a low temperature in its clause, and no cycles spoken of."""
    begin, end = clause_of(line, piece)
    own = [item for item in line.pieces if begin <= item.begin < end and item.dimension == "temperature" and item.low]
    cold = any(degrees(item) < COLD_BELOW_C for item in own)
    return cold and not any(name.kind == "cycles" and begin <= name.begin < end for name in line.names)


def degrees(piece: Item) -> float:
    """A temperature in °C."""
    unit = find_unit(piece.unit, "temperature")
    assert piece.low is not None
    value = piece.low.values[-1] if piece.low.values else 25.0
    return value * unit.factor + unit.shift if unit is not None else value


def goes_on(line: Line, piece: Item, here: list[tuple[Item, Read]]) -> str:
    """The kind of the current before it, where a current has no name and a time of its own: "100 A, 5 min 150 A, 3 s 300 A"."""
    if _graded(line, piece, here):
        return here[-1][1].claim.kind
    kinds = [read.claim.kind for item, read in here if item.end <= piece.begin and read.claim.kind in GO_ON]
    if piece.kind != "quantity" or piece.dimension != "current" or not kinds or name_behind(line, piece) is not None:
        return ""
    place = line.pieces.index(piece)
    beside = [line.pieces[place - 1] if place else None, *line.pieces[place + 1 : place + 5]]
    timed = any(one is not None and one.dimension == "duration" and _adjoins(line, piece, one) for one in beside)
    last = next(item for item, read in reversed(here) if read.claim.kind in GO_ON)
    if any(last.end <= name.begin < piece.begin and name.owner is None for name in line.names):
        return ""  # "peak 280 A (5 s), trips 310 A (1 s)"
    return kinds[-1] if timed and LISTED.search(line.text[last.end : piece.begin]) else ""


def _graded(line: Line, piece: Item, here: list[tuple[Item, Read]]) -> bool:
    """Whether it is another grade of what was read before it: "charge current: standard 20 A, maximum 50 A"."""
    if not here or here[-1][0].end > piece.begin or (here[-1][0].kind, here[-1][0].dimension) != (
        piece.kind, piece.dimension,
    ) or not (piece.dimension or piece.kind == "rate"):  # fmt: skip
        return False
    between = line.text[here[-1][0].end : piece.begin]
    bare = line.known.words["grade"].sub("", between)
    return bare != between and re.fullmatch(r"[\s,;/&().:]*(?:and|und|or)?[\s.:]*", bare) is not None


def _adjoins(line: Line, piece: Item, other: Item) -> bool:
    """Whether nothing but a sign or "for" stands between two pieces."""
    words = line.text[min(piece.end, other.end) : max(piece.begin, other.begin)].lower()
    return words.strip(" (@/≤<") in {"", "for", "at", "up to", "for up to"}


def current_beside(line: Line, piece: Item) -> Item | None:
    """The current that says a rate in amperes, or the other way round: one of them in brackets behind the other."""
    place = line.pieces.index(piece)
    before, behind = line.pieces[max(0, place - 2) : place], line.pieces[place + 1 : place + 3]
    for near in (behind, list(reversed(before))):
        if len(near) == 2 and near[0].text == "(" and near[1].dimension == "current":
            return near[1]
    return None


def of_capacity(line: Line, piece: Item) -> bool:
    """Whether a share is of the capacity, at a low temperature: "capacity at -20 °C: 70 %"."""
    alone = len(_own(line, piece, "temperature")) == 1 and not _own(line, piece, "share")
    return alone and in_the_cold(line, piece) and line.says("share-of")


def _own(line: Line, piece: Item, dimension: str) -> list[Item]:
    begin, end = clause_of(line, piece)
    return [
        item for item in line.pieces if begin <= item.begin < end and item.dimension == dimension and item is not piece
    ]


def names_beside(line: Line, piece: Item) -> list[Name]:
    """The names in the clause of a piece."""
    begin, end = clause_of(line, piece)
    return [name for name in line.names if begin <= name.begin < end]


def months_beside(line: Line, piece: Item) -> float:
    """Over how many months a share is kept or lost, by the one time in its clause; 0 where none stands there."""
    begin, end = clause_of(line, piece)
    for words, each in EACH.items():
        if line.says(words, begin, end):
            return each
    times = [item for item in _own(line, piece, "duration") if item.low is not None and item.low.values]
    unit = find_unit(times[0].unit, "duration") if len(times) == 1 else None
    months = times[0].low.values[-1] * unit.factor / (30.44 * 86400.0) if unit is not None and times[0].low else 0.0
    if months < LEAST_MONTHS:
        return 0.0
    line.used.add(id(times[0]))
    return months


EACH = {"each-month": 1.0, "each-year": 12.0}
"""Months of each."""
LEAST_MONTHS, BRIEF_S = 0.2, 120.0
CLOSE = 12


def opened_at(line: Line, piece: Item) -> bool:
    """Whether a current is one at which the pack lets go: "BMS opens at 150 A within 5 s".

    Between what lets go and the current stands no other value but a time or a temperature, and no other name.
    """
    found = [one.end() for one in line.known.words["opens"].finditer(line.text, clause_of(line, piece)[0], piece.begin)]
    if piece.dimension != "current" or not found:
        return False
    between = [item for item in line.pieces if found[-1] <= item.begin and item.end <= piece.begin]
    values = [item for item in between if item.kind in {"quantity", "rate"}]
    named = (name for name in line.names if found[-1] <= name.begin and name.end <= piece.begin)
    alone = all(item.dimension in {"duration", "temperature"} for item in values)
    return alone and all(name.kind in {"charging", "continuous-discharge"} for name in named)


def of_charging(line: Line, piece: Item) -> bool:
    """Whether the clause of a piece speaks of charging, and of no other value of its kind."""
    begin, end = clause_of(line, piece)
    comma = next((sign.begin for sign in line.pieces if sign.begin >= piece.end and sign.text == ","), end)
    found = line.known.words["charges"].finditer(line.text, begin, min(end, comma))
    spoken = any(line.known.hints.get(_word_before(line, one.start())) != "no" for one in found)
    return spoken and not _own(line, piece, piece.dimension)


def _word_before(line: Line, place: int) -> str:
    return next((item.text for item in reversed(line.pieces) if item.end <= place and item.kind == "word"), "")


def tapers_to(line: Line, piece: Item, name: Name) -> bool:
    """Whether a current is what a charge falls to: "14.6 V, charge current to 0.02C"."""
    before = [item.text for item in line.pieces if item.end <= piece.begin][-2:]
    current = piece.kind == "rate" or piece.dimension == "current"
    return (
        current
        and name.kind in {"charging", "charge-current"}
        and before[-1:] in (["to"], ["until"], ["below"])
        and "up" not in before
    )


def second_in_row(line: Line, piece: Item, alike: list[Item]) -> bool:
    """Whether a value stands bare in a table's cell, behind one of its kind in an earlier cell: "Capacity | 100 Ah | 50 Ah"."""
    begin, end = clause_of(line, piece)
    bare = not names_beside(line, piece) and [
        item for item in line.pieces if begin <= item.begin < end and item.kind in {"quantity", "rate"}
    ] == [piece]
    return (
        bare
        and line.text[:begin].rstrip(" ")[-1:] in {"|", "\t"}
        and any(
            item.end < begin and item.low is not None and piece.low is not None and item.low.values != piece.low.values
            for item in alike
        )
    )


def of_others(line: Line, piece: Item) -> bool:
    """Whether a charge or an energy is another battery's: "replaces a 200 Ah lead-acid battery"."""
    return piece.dimension in {"charge", "energy"} and line.says("others", clause_of(line, piece)[0], piece.begin)


def compared(line: Line, piece: Item) -> bool:
    """Whether a number says how many times more than something else: "10x more cycles"."""
    unit_read = piece.text.rstrip().lower().endswith("times")
    behind = ("times" if unit_read else "") + line.text[piece.end :].replace("×", "x")
    return line.known.words["compared"].match(behind.lstrip()) is not None


def briefly(line: Line, piece: Item) -> bool:
    """Whether nothing is said of a current but for how many seconds: "300 A (3 seconds)"."""
    if piece.high is not None or piece.within is not None or line.says("opens", *clause_of(line, piece)):
        return False  # a window, or something that lets go, is no current that is given
    times = [item for item in _own(line, piece, "duration") if item.low is not None and item.low.values]
    nearer = times and any(piece.end <= item.begin < times[0].begin for item in _own(line, piece, "current"))
    alone = len(times) == 1 and times[0].begin > piece.end and not nearer
    unit = find_unit(times[0].unit, "duration") if alone else None
    return unit is not None and times[0].low is not None and times[0].low.values[-1] * unit.factor <= BRIEF_S


def drawn_beside(line: Line, piece: Item) -> bool:
    """Whether nothing is said of a time but at which current: "18 hours at 5 A"."""
    behind = [item for item in _own(line, piece, "current") if item.begin > piece.end]
    return (
        not names_beside(line, piece)
        and len(behind) == 1
        and line.text[piece.end : behind[0].begin].strip(" (").lower() in {"at", "@", "with a", "with"}
    )


def filled_beside(line: Line, piece: Item) -> bool:
    """Whether a time is one to be filled in: "0-100 % in 2 h"."""
    shares = [item for item in _own(line, piece, "share") if item.high is not None and item.low is not None]
    return not names_beside(line, piece) and any(
        item.low.values[-1:] == (0.0,) and item.begin < piece.begin for item in shares if item.low
    )


def left_over(line: Line, piece: Item) -> bool:
    """Whether a share is of what is left, not of what is lost: "capacity after 3 months 91 %"."""
    return line.says("left-over", *clause_of(line, piece))


def minutes_of_reserve(line: Line) -> None:
    """A bare number right behind "RC" is of minutes: "RC 120"."""
    for place, piece in enumerate(line.pieces):
        own = [name for name in line.names if name.kind == "reserve" and name.end <= piece.begin]
        if (
            own
            and piece.kind == "quantity"
            and not piece.unit
            and line.text[own[-1].end : piece.begin].strip(" :=|\t") == ""
            and not line.text[piece.end :].lstrip()[:1].isalpha()
        ):
            line.pieces[place] = replace(piece, unit="min")


def units_of_two(line: Line) -> None:
    """Of two currents with one unit each has it: "charge/discharge 50/100 A"."""
    if not any(name.kind in {"both-currents", "continuous-and-surge"} for name in line.names):
        return
    for place, (first, sign, second) in enumerate(zip(line.pieces, line.pieces[1:], line.pieces[2:], strict=False)):
        if first.kind == second.kind == "quantity" and not first.unit and sign.text == "/":
            line.pieces[place] = replace(first, unit=second.unit)


STOPPED = re.compile(r"\.\s|[;|\t]")
PARTED = re.compile(r"[,.]\s|[;|\t(]")
"""What keeps a current from being that of what stands before it, and where its own words end."""
TESTED_AT = {
    "continuous-discharge": frozenset({"charge", "energy", "duration", "share"}),
    "charging": frozenset({"duration", "share"}),
    "charge-current": frozenset({"duration", "share"}),
}
"""Names of currents, and the dimensions of what is measured at one: it stands before it."""


def of_the_test(line: Line) -> None:
    """A current at which something was measured has no name of its own: "100 Ah, discharged at 20 A", "5 h, charging at 20 A"."""
    for match in line.known.words["tested"].finditer(line.text):
        before = [one for one in line.pieces if one.end <= match.start() and one.kind == "quantity"]
        behind = PARTED.search(line.text, match.end())
        end = len(line.text) if behind is None else behind.start()
        apart = not before or STOPPED.search(line.text[before[-1].end : match.start()])
        if not apart and not line.says("most", match.start(), end):
            tested = before[-1].dimension
            line.names = [
                name
                for name in line.names
                if not match.start() <= name.begin < end or tested not in TESTED_AT.get(name.kind, ())
            ]


MOST_CELL_V = 4.5


def volts_of_a_cell(line: Line) -> None:
    """So few volts, in a line that speaks of a cell and of what a pack stops at, are of each cell: "cell over-voltage 3.65 V"."""
    if not line.says("cell") or not any(name.kind in {*BY_CELL, *STOPPING} for name in line.names):
        return
    for place, piece in enumerate(line.pieces):
        top = piece.high or piece.low
        if (
            piece.dimension == "voltage"
            and piece.unit == "v"
            and top is not None
            and max(top.values, default=9.0) <= MOST_CELL_V
        ):
            line.pieces[place] = replace(piece, unit="V/cell")


def kept_for_months(line: Line, piece: Item) -> bool:
    """Whether a share is of the capacity that so many months leave: "capacity 91 % after 3 months, 82 % after 6 months"."""
    spoken = any(name.kind in {"cycles", "beside", "warranty"} for name in line.names)
    aged = any(item.dimension == "count" for item in line.pieces) or spoken
    return not aged and line.says("share-of") and months_beside(line, piece) > 0.0


def warmed(line: Line, piece: Item) -> bool:
    """Whether a time is one of warming up: heat and degrees are spoken of, and nothing of when a charge is full."""
    begin, end = clause_of(line, piece)
    degrees_there = any(begin <= item.begin < end and item.dimension == "temperature" for item in line.pieces)
    return degrees_there and line.says("heats", begin, end) and not line.says("full", begin, end)


def of_each(line: Line, piece: Item) -> bool:
    """Whether a price is of each Wh or Ah, not of the battery: "$0.25/Wh"."""
    return line.known.words["each-of"].match(line.text[piece.end :].lstrip()) is not None


def of_cranking(line: Line, piece: Item) -> bool:
    """Whether a current is of a start in the cold by one of its standards: "760 A (EN)"."""
    behind = line.text[piece.end :].lstrip(" (,[")
    return piece.dimension == "current" and line.known.words["cranking"].match(behind) is not None


OF_DEGREES = frozenset(
    {key for key, dimension in DIMENSIONS.items() if dimension == "temperature"} | {"release", *STOPPING}
)


def degrees_for_rates(line: Line) -> None:
    """A whole number with a C or an F right behind a name that measures degrees is of degrees: "resumes at 5 C"."""
    for place, piece in enumerate(line.pieces):
        own = [name for name in line.names if name.end <= piece.begin]
        if piece.kind == "quantity" and piece.unit == "f" and own and own[-1].kind in OF_DEGREES:
            line.pieces[place] = replace(piece, unit="°F")
            continue
        number = re.fullmatch(r"(\d+) ?C", piece.text.strip()) if piece.kind == "rate" else None
        if number is not None and own and own[-1].kind in OF_DEGREES and piece.begin - own[-1].end <= CLOSE:
            value = Number((float(number[1]),), number[1])
            line.pieces[place] = replace(piece, kind="quantity", low=value, unit="°C", value=0.0)
