"""Conditions of printed claims: which quantity belongs to which claim, and as what."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace

from wintry_tally.core.battery.claims import CLAIM_KINDS, Claim
from wintry_tally.core.battery.printed.again import NEAR, says_again
from wintry_tally.core.battery.printed.found import Read
from wintry_tally.core.battery.printed.line import TAKES_RATE, Line, clause_of, phrase_of
from wintry_tally.core.battery.printed.quantities import Item
from wintry_tally.core.battery.printed.sense import Sense
from wintry_tally.core.quantity.units import find_unit

TIMELESS = frozenset({"mass", "length", "width", "height", "price"})
"""What is so at any time and in any weather."""
LEAST_LEFT = 0.3
"""Of a capacity: nobody counts cycles down to less; common practice, no published source."""
ALONE = "nothing here says what it is: give it its kind"


def give_conditions(
    line: Line, waiting: list[Item], here: list[tuple[Item, Read]], sense: Sense
) -> list[tuple[Item, str, str]]:
    """Give each quantity that waits to the claim it belongs to: the nearest before it in its clause, or behind.

    Returns what belongs to none, with its phrase and why.
    """
    left = []
    for piece in waiting:
        if id(piece) in line.used:
            continue
        begin, end = clause_of(line, piece)
        if any(
            0 <= piece.begin - item.end <= NEAR and says_again(piece, read.claim, item, sense) for item, read in here
        ):
            line.used.add(id(piece))  # "0 °C (32 °F)"
            continue
        near = [place for place, (item, _) in enumerate(here) if begin <= item.begin < end]
        before = [place for place in near if here[place][0].end <= piece.begin]
        own = [place for place in near if _its_time(line, piece, *here[place])]
        before = own or before
        behind = [place for place in near if place not in before]
        # a share is of cycles wherever it stands: nothing else on a label has one for a condition
        far = [n for n, (_, read) in enumerate(here) if n not in near and read.claim.kind == "cycles"]
        for place in [*reversed(before), *behind, *(far if piece.dimension == "share" else ())]:
            item, read = here[place]
            added = _condition(line, piece, read.claim, sense)
            if added is not None and "cutoff_V" in added and _another_s(item, piece, here):
                continue
            if added is not None and not set(added) & set(read.claim.conditions):
                here[place] = (
                    item,
                    replace(read, claim=replace(read.claim, conditions={**read.claim.conditions, **added})),
                )
                break
        else:
            if not any(says_again(piece, read.claim, item, sense) for item, read in here):
                words = f"“{line.words(piece)}” belongs to nothing read here" if here else ALONE
                left.append((piece, phrase_of(line, piece), words))
        line.used.add(id(piece))
    return left


def _its_time(line: Line, piece: Item, item: Item, read: Read) -> bool:
    """Whether a time stands right before a current that has none yet: "5 min 150 A"."""
    right = 0 <= item.begin - piece.end <= 2 and not line.text[piece.end : item.begin].strip()
    return right and piece.dimension == "duration" and CLAIM_KINDS[read.claim.kind].dimension == "current"


def _another_s(item: Item, piece: Item, here: list[tuple[Item, Read]]) -> bool:
    """Whether a claim in volts stands between a claim and a voltage: then that is no cut-off of the first."""
    return any(
        min(item.end, piece.end) <= other.begin < max(item.begin, piece.begin) and other is not item
        and CLAIM_KINDS[read.claim.kind].dimension == "voltage"
        for other, read in here
    )  # fmt: skip


def _condition(line: Line, piece: Item, claim: Claim, sense: Sense) -> Mapping[str, float] | None:
    """A quantity as a condition of a claim; None where it can be none."""
    if piece.kind == "rate":
        takes_none = "c_rate" in claim.conditions or claim.kind in TAKES_RATE or piece.value <= 0.0
        return None if takes_none else {"c_rate": round(piece.value, 6)}
    if piece.low is None or not piece.low.values:
        return None
    value = (piece.high or piece.low).values[-1]
    dimension = piece.dimension
    unit = find_unit(piece.unit, dimension)
    kept = value * unit.factor + unit.shift if unit is not None else value
    before = [item.text for item in line.pieces if item.end <= piece.begin][-3:]
    if dimension == "duration":
        return _of_time(phrase_of(line, piece), claim, round(kept, 3), before)
    if dimension == "temperature" and piece.high is not None:
        if claim.kind != "heater-time":
            return None
        ends = [
            (end.values[-1] * (unit.factor if unit else 1.0)) + (unit.shift if unit else 0.0)
            for end in (piece.low, piece.high)
        ]
        return {"from_C": round(ends[0], 3), "to_C": round(ends[1], 3)}
    if dimension == "temperature" and claim.kind == "heater-time":
        return {"to_C" if before[-1:] == ["to"] else "from_C": round(kept, 3)}
    if dimension == "temperature":
        speaks = CLAIM_KINDS[claim.kind].dimension != "temperature" and claim.kind not in TIMELESS
        return {"temperature_C": round(kept, 3)} if speaks else None
    if dimension == "voltage per cell" and sense.cells is not None:
        dimension, kept = "voltage", round(value * sense.cells, 4)
    if dimension == "power" and claim.kind == "runtime" and sense.nominal_V:
        return {"device_A": round(kept / sense.nominal_V, 4)}  # what it draws over a whole discharge, near enough
    if dimension == "voltage" and CLAIM_KINDS[claim.kind].dimension != "voltage":
        drawn = {"capacity", "energy", "reserve", "runtime", "continuous-discharge", "surge"}
        return {"cutoff_V": kept} if claim.kind in drawn else None
    if dimension == "current" and claim.kind in {"reserve", "runtime", "capacity", "energy", "charge-time"}:
        return {"device_A" if claim.kind == "runtime" else "current_A": kept}
    if dimension == "share" and claim.kind == "charge-time":
        return {"end_share": round(kept / 100.0, 4)} if 0.0 < kept <= 100.0 and "from" not in before else None
    if dimension == "share" and claim.kind == "cycles":
        return _of_cycles(line, piece, round(kept / 100.0, 4), before)
    return None


TO_THE_END = frozenset(
    {"retention", "remaining", "capacity", "eol", "end", "left", "after", "still", "nach", "restkapazität", "kapazität"}
)
"""Words behind a share of a capacity that is left."""


def _of_cycles(line: Line, piece: Item, share: float, before: list[str]) -> Mapping[str, float] | None:
    """A share as a condition of cycles: how deep each is, or what they leave of the capacity."""
    behind = (item.begin for item in line.pieces if item.begin >= piece.end and item.kind in {"quantity", "rate"})
    stop = min(clause_of(line, piece)[1], next(behind, len(line.text)))
    after = set(re.findall(r"[a-zäöüé]+", line.text.lower()[piece.end : stop])[:3])
    to = bool(TO_THE_END & after) or (bool({"to", "until"} & set(before)) and not {"dod", "depth", "discharge"} & after)
    return {"end_share" if to else "depth": share} if (LEAST_LEFT if to else 0.0) < share <= 1.0 else None


def _of_time(phrase: str, claim: Claim, kept_s: float, before: list[str]) -> Mapping[str, float] | None:
    """A time as a condition of a claim: how long, after which delay, at which rate."""
    if claim.kind in {"over-current-trip", "low-voltage-cut", "over-voltage-cut"}:
        return {"delay_s": kept_s}
    if claim.kind in {"surge", "continuous-discharge"}:
        delayed = any(word in {"delay", "after", "delayed"} for word in before) or "delay" in phrase.lower()
        return {"delay_s" if delayed else "duration_s": kept_s}
    if claim.kind in {"capacity", "energy"}:
        return {"c_rate": round(3600.0 / kept_s, 6)} if kept_s >= 600 else None
    return None if claim.kind in {*TIMELESS, "cycles", "heater-power"} else {"duration_s": kept_s}
