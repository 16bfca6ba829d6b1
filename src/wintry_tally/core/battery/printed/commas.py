"""Where a comma parts two claims that no sign of theirs tells apart: what stands on either side is read by itself."""

from __future__ import annotations

import re
from collections.abc import Callable

COMMA = re.compile(r",(?=\s)")
MOST = 12
"""A line with more commas is read as it stands."""


def parted(text: str, whole: Callable[[str], bool]) -> str:
    """A line with a stop for every comma that stands between two parts, each of which is claims and nothing else by itself.

    A condition behind a comma is no claim by itself: "surge 200 A, 5 s". A comma within brackets parts nothing.
    """
    commas = [
        match.start()
        for match in COMMA.finditer(text)
        if text.count("(", 0, match.start()) == text.count(")", 0, match.start())
    ]
    if not 0 < len(commas) <= MOST:
        return text
    begin, signs = 0, list(text)
    for comma, end in zip(commas, [*commas[1:], len(text)], strict=True):
        if whole(text[comma + 1 : end]) and whole(text[begin:comma]):
            signs[comma] = ";"
            begin = comma + 1
    return "".join(signs)
