"""Where a comma parts two claims that no sign of theirs tells apart: what stands on either side is read by itself."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from wintry_tally.core.battery.claims import Claim

COMMA = re.compile(r",(?=\s)")
MOST = 12
"""A line with more commas is read as it stands."""
NEVER = frozenset({"cold-loss", "self-discharge", "warranty", "mass", "price"})
"""Kinds whose figure says nothing of how another claim is tested."""


@dataclass(frozen=True)
class Alone:
    """What a part of a line says by itself: its claims with a value, whether claims are all it says, and whether more than one
    figure stands there with a name that is not also said of a condition ("charging at 20 A")."""

    claims: tuple[Claim, ...]
    whole: bool
    own: bool


def parted(text: str, read: Callable[[str], Alone]) -> str:
    """A line with a stop for every comma that stands between two parts, each of which is whole by itself.

    The comma stays where what stands behind it may be a condition of what stands before. One within brackets parts nothing.
    """
    commas = [
        match.start()
        for match in COMMA.finditer(text)
        if text.count("(", 0, match.start()) == text.count(")", 0, match.start())
    ]
    if not 0 < len(commas) <= MOST:
        return text
    begin, signs = 0, list(text)
    for place, comma in enumerate(commas):
        end = commas[place + 1] if place + 1 < len(commas) else len(text)
        second = read(text[comma + 1 : end])
        if not second.whole:
            continue
        first = read(text[begin:comma])
        if first.whole and (second.own or not _may_be_one(first, second, read(text[begin:end]))):
            signs[comma] = ";"
            begin = comma + 1
    return "".join(signs)


def _may_be_one(first: Alone, second: Alone, both: Alone) -> bool:
    """Whether two parts, read together, may be one claim and its condition: nothing is left or becomes another claim, and
    what the second says of itself it keeps."""
    apart = {(claim.kind, claim.value): claim.conditions for claim in (*first.claims, *second.claims)}
    together = {(claim.kind, claim.value): claim.conditions for claim in both.claims}
    if not both.whole or together == apart or (len(together) >= len(apart) and set(together) != set(apart)):
        return False
    if any(kind in NEVER and (kind, value) not in together for kind, value in apart):
        return False
    for claim in second.claims:
        kept = together.get((claim.kind, claim.value))
        if kept is not None and not claim.conditions.items() <= kept.items():
            return False
    return True
