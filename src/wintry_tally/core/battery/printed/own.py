"""A person's own words for claims: from a reading that they corrected to a line that reads it so from then on."""

from __future__ import annotations

import re

from wintry_tally.core.battery.claims import CLAIM_KINDS, Claim
from wintry_tally.core.battery.printed.quantities import Item, items
from wintry_tally.core.battery.printed.reader import read_printed
from wintry_tally.core.battery.printed.vocabulary import Vocabulary, shipped, squeezed, with_own

MOST_WORDS = 6


def line_for(text: str, claim: Claim, family: str = "", own: tuple[str, ...] = ()) -> str:
    """The line "their words = kind" by which a text is read as the claim that a person made of it; empty where none does.

    Args:
        text: as printed; claim: as they have it. own: their lines so far.

    Of the words beside the number the fewest that suffice, those nearest to it first. A line is given only where, read
    with it, the text is that claim and leaves nothing over; and none where it is read so already.
    """
    if claim.kind not in set(shipped().phrases.values()):
        return ""
    if _reads_as(text, claim, family, with_own(own)):
        return ""
    for phrase in _phrases(text, shipped()):
        line = f"{phrase} = {claim.kind}"
        if _reads_as(text, claim, family, with_own((*own, line))):
            return line
    return ""


def said_line(line: str) -> str:
    """A line as a person reads it."""
    phrase, _, kind = line.partition("=")
    definition = CLAIM_KINDS.get(kind.strip())
    return f"“{phrase.strip()}” is {definition.label.lower() if definition else kind.strip()}"


def _reads_as(text: str, claim: Claim, family: str, known: Vocabulary) -> bool:
    found = read_printed(text, claim.source, family, known)
    if found.left or len(found.claims) != 1:
        return False
    read = found.claims[0].claim
    same = (read.kind, read.unit, read.direction, dict(read.conditions), read.wanted)
    if same != (claim.kind, claim.unit, claim.direction, dict(claim.conditions), claim.wanted):
        return False
    if read.value is None or claim.value is None:
        return read.value is claim.value
    return abs(read.value - claim.value) <= 1e-9 * abs(claim.value)


def _phrases(text: str, known: Vocabulary) -> list[str]:
    """Runs of words in it, all of a run first, then its parts from the longest: what hints at a limit is none of them."""
    runs: list[list[Item]] = [[]]
    for piece in items(text):
        if piece.kind == "word" and piece.text.lower() not in known.hints:
            runs[-1].append(piece)
        elif runs[-1] and not (piece.kind == "sign" and piece.text in {"-", "/", "&"}):
            runs.append([])
    found: list[str] = []
    for run in runs:
        for length in range(min(MOST_WORDS, len(run)), 0, -1):
            for first in range(len(run) - length, -1, -1):
                phrase = " ".join(piece.text for piece in run[first : first + length])
                if len(squeezed(re.sub(r"[^\w\s]", "", phrase))) > 2:
                    found.append(phrase)
    return list(dict.fromkeys(found))
