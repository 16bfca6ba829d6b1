"""Claims typed one by one: the same reading, and an error in words where a line does not make one claim."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from wintry_tally.core.battery.claims import CLAIM_KINDS, NOTED, Claim, Direction
from wintry_tally.core.battery.printed.found import BESIDE, Left, Printed
from wintry_tally.core.battery.printed.reader import read_printed
from wintry_tally.core.battery.printed.sense import UNKNOWN, Sense
from wintry_tally.core.battery.printed.vocabulary import Vocabulary, shipped
from wintry_tally.core.errors import InputError

HOW = 'write what it is, with its value and unit: "40 Ah", "cuts at 10 V", "surge 200 A (5 s)"'


@dataclass(frozen=True)
class Mark:
    """From where to where of what was typed something was read, or not."""

    begin: int
    end: int
    read: bool


@dataclass(frozen=True)
class Typed:
    """The claims of what was typed, what of it was not read, and the pack's nominal voltage where it stands there.

    `marks`: what was read and what not, by its place in the text, the latter last. `noted`: what no test speaks to, to be kept
    as it is printed; it is not in `left`. `family`: the one that stands there, where one does.
    """

    claims: tuple[Claim, ...]
    left: tuple[Left, ...] = ()
    nominal_V: float | None = None
    marks: tuple[Mark, ...] = ()
    noted: tuple[Claim, ...] = ()
    family: str = ""


def typed_claims(
    text: str, source: str = "label", family: str = "", vocabulary: Vocabulary | None = None, known_of: Sense = UNKNOWN
) -> Typed:
    """Every claim of what was typed or pasted, in one line or several; `known_of` as in `read_printed`.

    Raises:
        InputError: none is there; the message says what was not understood and how to write it.
    """
    typed = "; ".join(" ".join(part.split()) for part in re.split(r"[\n\r\u2028\u2029]+", text) if part.strip())
    if not typed:
        raise InputError("nothing is typed", mend='type a claim as printed, like "40 Ah" or "cuts at 10 V"')
    found = read_printed(text, source, family, vocabulary, known_of)
    noted = tuple(claim for one in found.left if (claim := one.noted(source)) is not None)
    left = tuple(one for one in found.left if one.noted(source) is None)
    if found.claims or (noted and not left):
        only = len(found.claims) == 1 and not found.left
        return Typed(
            tuple(replace(read.claim, text=typed) if only else read.claim for read in found.claims),
            left,
            found.pack.nominal_V,
            _marks(text, found),
            noted,
            found.pack.printed,
        )
    if left:
        raise InputError(f"“{left[0].text}”: {left[0].reason}", mend=HOW)
    if found.pack.nominal_V is not None:
        return Typed((), (), found.pack.nominal_V)
    raise InputError(f"cannot tell what “{typed}” claims", mend=HOW)


def _marks(text: str, found: Printed) -> tuple[Mark, ...]:
    begins = [0]
    for line in text.splitlines(keepends=True):
        begins.append(begins[-1] + len(line))
    parts = [(one, True) for one in found.claims] + [(one, one.beside) for one in found.left]
    return tuple(
        Mark(begins[one.line - 1] + one.begin, begins[one.line - 1] + one.end, read)
        for one, read in parts
        if one.line < len(begins)
    )


def parse_claim(text: str, source: str = "label", family: str = "") -> Claim:
    """The one claim of a line as printed: "40 Ah", "cuts at 10 V", "trips at 300 ± 50 A".

    Raises:
        InputError: as `typed_claims`, or several stand there, or a part is not understood.
    """
    found = typed_claims(text, source, family)
    if len(found.claims) > 1:
        raise InputError(f"{len(found.claims)} claims stand there", mend="type them one at a time")
    if found.left:
        raise InputError(f"“{found.left[0].text}”: {found.left[0].reason}", mend=HOW)
    if found.noted:
        raise InputError(f"“{found.noted[0].text}”: {BESIDE}", mend=HOW)
    if not found.claims:
        raise InputError(f"{found.nominal_V:g} V is the pack's nominal voltage, and no claim of its own", mend=HOW)
    return found.claims[0]


def claim_of_kind(kind: str, text: str, source: str = "label", family: str = "", known_of: Sense = UNKNOWN) -> Claim:
    """A claim of a kind that a person chose, from its value and conditions as they are typed ("90 A for 5 s").

    Raises:
        InputError: no value of that kind stands there, or more than one claim.
    """
    definition, known_of = CLAIM_KINDS[kind], replace(known_of, chosen=True)
    typed = " ".join(text.split())
    if not typed:
        raise InputError("nothing is typed", mend=f"type what is printed of it, in {definition.shown_unit or 'words'}")
    if not definition.dimension:
        no = re.match(r"(?i)(no|not|without|none)\b", typed) is not None
        return Claim(kind, None, "", Direction.IS, 0.0, {}, source, text=typed, wanted=kind == NOTED or not no)
    phrase = next(phrase for phrase, named in shipped().phrases.items() if named == kind)
    found = read_printed(f"{phrase}: {typed}", source, family, known_of=known_of)
    fitting = [read.claim for read in found.claims if read.claim.kind == kind]
    if len(found.claims) == 1 and fitting and not found.left:
        return replace(
            fitting[0],
            text=typed if _says_kind(typed, kind, source, family, known_of) else f"{definition.label} {typed}",
        )
    if len(found.claims) > 1:
        raise InputError(f"{len(found.claims)} claims stand there", mend="type them one at a time")
    if found.left:
        raise InputError(
            f"“{typed}”: {found.left[0].reason}", mend=f"write its value in {definition.shown_unit or 'figures'}"
        )
    other = found.claims[0].claim.definition.label.lower() if found.claims else "nothing that is claimed"
    raise InputError(f"“{typed}” says {other}", mend=f"write its value in {definition.shown_unit or 'figures'}")


def _says_kind(typed: str, kind: str, source: str, family: str, known_of: Sense) -> bool:
    """Whether the words alone are read as of this kind."""
    return [read.claim.kind for read in read_printed(typed, source, family, known_of=known_of).claims] == [kind]
