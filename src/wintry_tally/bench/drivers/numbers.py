"""Numbers as instruments write them: whole or nothing."""

from __future__ import annotations

import math
import re

from wintry_tally.core.errors import InstrumentError

_POINT = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d{1,3})?")
_COMMA = re.compile(r"[-+]?(?:\d+,?\d*|,\d+)(?:[eE][-+]?\d{1,3})?")
NO_NUMBER = 9.9e36
"""SCPI-1999, 7.2.1: 9.91E37 is "not a number", 9.9E37 infinity."""


def number_in(answer: str, what: str, decimal: str = ".") -> float:
    """The number an instrument answered.

    Args:
        decimal: "." or ",": the mark that its dialect declares; the other one is no part of a number.

    Raises:
        InstrumentError: it is no number from end to end, or SCPI's word for "not a number" or "overload".
    """
    text = answer.strip()
    if (_COMMA if decimal == "," else _POINT).fullmatch(text) is None:
        raise InstrumentError(f'{what}: "{answer.strip()[:40]}" is no number')
    value = float(text.replace(",", "."))
    if not math.isfinite(value) or abs(value) >= NO_NUMBER:
        raise InstrumentError(f"{what}: the instrument shows no number (out of its range)")
    return value


def is_on_in(answer: str, what: str) -> bool:
    """Whether an answer says that an output is on: 0, +0, -0, 0.0, OFF; 1, ON.

    Raises:
        InstrumentError: it says neither.
    """
    word = answer.strip().upper()
    if word in {"OFF", "ON"}:
        return word == "ON"
    return number_in(word, what) != 0.0


def no_error_in(answer: str) -> bool:
    """Whether an answer to "what was wrong?" says nothing was: a number 0, alone or before a comma or a space."""
    head = re.split(r"[,\s]", answer.strip(), maxsplit=1)[0]
    return bool(re.fullmatch(r"[-+]?0+", head))
