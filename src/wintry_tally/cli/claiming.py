"""`claims`: what is printed, read claim by claim, with what was not understood."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from wintry_tally.app import own_words
from wintry_tally.core.battery import family_named
from wintry_tally.core.battery.families import pack_of
from wintry_tally.core.battery.printed import Printed, Sense, read_printed
from wintry_tally.core.errors import InputError
from wintry_tally.files import MOST_TEXT_BYTES, text_of
from wintry_tally.report.words import claim_words

SCHEMA = "wintry-tally.claims/1"


def claims_of(path: str, source: str, family: str | None, nominal_V: float | None, rated_Ah: float | None) -> Printed:
    """See `wintry-tally claims`; the nominal voltage and the rating are of the battery, for a text that prints none.

    Raises:
        InputError: no such file or family, or it is no text.
    """
    key = family_named(family).key if family else ""
    if path == "-":
        text = sys.stdin.read(MOST_TEXT_BYTES + 1)
        if len(text) > MOST_TEXT_BYTES:
            raise InputError(f"it is larger than {MOST_TEXT_BYTES >> 20} MiB", "standard input", "give a label's text")
    else:
        text = text_of(Path(path), "a text as it is printed")
    if rated_Ah is not None and not 0.0 < rated_Ah < 1e6:
        raise InputError(f"a rating of {rated_Ah:g} Ah cannot be")
    cells = pack_of(family_named(key), nominal_V).cells if key and nominal_V is not None else None
    return read_printed(text, source, key, own_words.vocabulary(), Sense(nominal_V, rated_Ah, cells))


def claims_dict(found: Printed) -> dict[str, Any]:
    """The object that is printed."""
    return {
        "schema": SCHEMA,
        "claims": [
            {
                "kind": read.claim.kind, "value": read.claim.wanted if read.claim.value is None else read.claim.value,
                "unit": (read.claim.currency or "money") if read.claim.kind == "price" else read.claim.unit, "direction": read.claim.direction.value, "tolerance": read.claim.tolerance,
                "conditions": dict(read.claim.conditions), "source": read.claim.source, "text": read.claim.text,
                "line": read.line,
            }
            for read in found.claims
        ],
        "pack": {"nominal_V": found.pack.nominal_V, "family": found.pack.family or None, "cells": found.pack.cells},
        "left": [{"line": item.line, "text": item.text, "reason": item.reason} for item in found.left],
    }  # fmt: skip


def claims_text(found: Printed) -> str:
    """The same for a person: each claim beside its line, then what is left."""
    lines = [f"line {read.line}  {claim_words(read.claim)}  (“{read.claim.text}”)" for read in found.claims]
    if found.pack.nominal_V or found.pack.family or found.pack.cells:
        parts = [
            found.pack.family,
            f"{found.pack.nominal_V:g} V" if found.pack.nominal_V else "",
            f"{found.pack.cells} cells" if found.pack.cells else "",
        ]
        lines.append(f"pack    {', '.join(part for part in parts if part)}")
    lines += [f"line {item.line}  not read: “{item.text}”: {item.reason}" for item in found.left]
    return "\n".join(lines) or "nothing is claimed there"
