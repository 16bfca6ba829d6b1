"""Sentences of books that kept words, back to the messages they were made of: where a template made them, and no other way."""

from __future__ import annotations

import re
import string
from collections.abc import Iterable
from functools import lru_cache

from wintry_tally.core.message.english import RUNNING
from wintry_tally.core.message.message import OWN, Message, Part, as_message, said

NUMBER = r"-?(?:\d+(?:\.\d+)?(?:e[+-]?\d+)?|inf|nan)"
MOST_LETTERS, MOST_DEPTH = 2000, 5
"""No sentence of this program was longer, or had messages within messages deeper: what is, is somebody else's."""
LEAST_LETTERS = 5
"""A template with fewer letters of its own says too little to be known by, unless all its parts are numbers: it is tried last,
and taken only where something within it is known."""


def read_back(words: str, codes: Iterable[str] = ()) -> Message:
    """The message whose words these are, letter for letter; else they are kept as own words.

    `codes`: tried first, whatever their templates say; for sentences of a known kind.
    """
    return _read(words, tuple(codes), MOST_DEPTH)


def _read(words: str, codes: tuple[str, ...], depth: int) -> Message:
    if depth == 0 or len(words) > MOST_LETTERS:
        return as_message(words)
    known, rest = _known()
    for code in (*codes, *known, *rest):
        found = _pattern(code).fullmatch(words)
        if found is None:
            continue
        parts = {name: _part(code, name, text, depth - 1) for name, text in found.groupdict().items()}
        if code in rest and code not in codes and not any(isinstance(part, Message) for part in parts.values()):
            continue
        made = Message(code, parts)
        if made == words:
            return made
    told = words.split("; ")
    if len(told) > 1:
        messages = tuple(_read(one, (), depth - 1) for one in told)
        if all(one.code != OWN for one in messages):
            return said("several", messages=messages)
    return as_message(words)


@lru_cache
def _known() -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Templates that can be known by their words, those that say most first; and those that say little."""
    never = {
        "nothing",
        OWN,
        "several",
        *(code for code in RUNNING if ":%" in RUNNING[code]),
    }  # words name no whole moment
    codes = sorted(set(RUNNING) - never, key=lambda code: (-_letters(RUNNING[code]), -RUNNING[code].count("{"), code))
    known = tuple(code for code in codes if _letters(RUNNING[code]) >= LEAST_LETTERS or _all_numbers(code))
    return known, tuple(code for code in codes if code not in known)


def _all_numbers(code: str) -> bool:
    specs = [spec for _, name, spec, _ in string.Formatter().parse(RUNNING[code]) if name]
    return bool(specs) and all(_is_number(spec) for spec in specs)


def _letters(template: str) -> int:
    return sum(len(re.findall(r"\w", literal)) for literal, *_ in string.Formatter().parse(template))


@lru_cache
def _pattern(code: str) -> re.Pattern[str]:
    parts = []
    for literal, name, spec, _ in string.Formatter().parse(RUNNING[code]):
        parts.append(re.escape(literal))
        if name:
            parts.append(f"(?P<{name}>{NUMBER if _is_number(spec) else '.+?'})")
    return re.compile("".join(parts), re.DOTALL)


def _is_number(spec: str | None) -> bool:
    return bool(spec) and str(spec)[-1] in "fg" and not str(spec).startswith("%")


def _part(code: str, name: str, text: str, depth: int) -> Part:
    spec = next(found[2] for found in string.Formatter().parse(RUNNING[code]) if found[1] == name)
    if _is_number(spec):
        return float(text)
    if spec:
        return tuple(text.split(spec))
    within = _read(text, (), depth)
    return text if within.code == OWN else within
