"""What says a claim again, in another unit or beside its own: it is no claim of its own, and nothing that is left."""

from __future__ import annotations

from dataclasses import replace

from wintry_tally.core.battery.claims import CLAIM_KINDS, Claim
from wintry_tally.core.battery.printed.found import Read
from wintry_tally.core.battery.printed.line import TAKES_RATE, Line
from wintry_tally.core.battery.printed.quantities import Item, dimension_of
from wintry_tally.core.battery.printed.sense import Sense, claim_from

NEAR, AGREES = 4, 0.1
"""Signs between a claim and what says it again in brackets; how far a rate may be from its amperes, of them."""


def says_again(piece: Item, claim: Claim, item: Item, sense: Sense) -> bool:
    """Whether a quantity says a claim, read of an item, again in another unit: 20 lb (9.1 kg), 20 A (0.2C)."""
    if piece.kind == "quantity" and piece.unit == item.unit:
        return piece.low == item.low or (
            piece.low is not None and item.low is not None and piece.low.values == item.low.values
        )
    if piece.kind == "rate":
        if claim.kind not in TAKES_RATE or claim.value is None:
            return False
        of_Ah = sense.capacity_Ah  # where none is printed it may be, if it is the current's neighbour
        near = -2 <= piece.begin - item.end <= NEAR or -2 <= item.begin - piece.end <= NEAR
        return near if of_Ah is None else abs(piece.value * of_Ah - claim.value) <= AGREES * claim.value
    if piece.dimension == "voltage per cell" and claim.unit == "V" and claim.value and piece.low and piece.low.values:
        cells = claim.value / piece.low.values[-1] if piece.low.values[-1] else 0.0
        return 1.5 < cells < 16.5 and abs(cells - round(cells)) < 0.02 * cells
    if dimension_of(piece.unit) != CLAIM_KINDS[claim.kind].dimension or claim.value is None or piece.low is None:
        return False
    again = claim_from(replace(piece, within=None, high=None), claim.kind, "", Sense(), claim.source, claim.text)
    return (
        not isinstance(again, str)
        and again.value is not None
        and abs(again.value - claim.value) <= 0.03 * abs(claim.value) + (0.6 if claim.unit == "°C" else 0.0)
    )


def restated(claims: list[Read], lines: list[Line]) -> list[Read]:
    """Without those that say an earlier one of the same line again, in another unit."""
    units = {
        (line.number, dimension): {piece.unit for piece in line.pieces if piece.dimension == dimension}
        for line in lines
        for dimension in {piece.dimension for piece in line.pieces}
    }
    kept: list[Read] = []
    alike: dict[tuple[int, str], list[Read]] = {}
    for read in claims:
        claim = read.claim
        of_kind = alike.setdefault((read.line, claim.kind), [])
        again = any(
            claim.value is not None and other.claim.value is not None and other.claim.conditions == claim.conditions
            and abs(other.claim.value - claim.value) <= _rounding(claim, units.get((read.line, claim.definition.dimension), set()))
            for other in of_kind
        )  # fmt: skip
        if not again:
            kept.append(read)
            of_kind.append(read)
    return kept


def _rounding(claim: Claim, units: set[str]) -> float:
    """How far a claim said again in another unit may be off; one unit says it again only alike."""
    if len(units) < 2 or claim.value is None:
        return 0.0
    return 0.03 * abs(claim.value) + (0.6 if claim.unit == "°C" else 0.0)
