"""The named tokens of both themes."""

from __future__ import annotations

from dataclasses import dataclass

SPACE = 4
"""Spacing goes in steps of this many pixels."""

FAMILY = "Wintry B612"
MONO = "Wintry B612 Mono"


@dataclass(frozen=True)
class Tokens:
    """Colours by meaning. Every text pair holds a contrast of at least 4.5 to 1; a test computes it."""

    name: str
    card: str
    paper: str
    ink: str
    quiet: str
    rule: str
    accent: str
    met: str
    missed: str
    close: str
    wash: str
    """A tint of the accent behind what is chosen."""
    edge: str
    """Around what is typed or chosen in: at least 3 to 1 against all it may stand on."""


DAY = Tokens(
    "day",
    "#FFFFFF",
    "#F1F5F8",
    "#16222E",
    "#4A5B6A",
    "#C9D3DB",
    "#1F6A8C",
    "#1F6F5C",
    "#A8381F",
    "#8A5A00",
    "#E3EFF5",
    "#778794",
)
NIGHT = Tokens(
    "night",
    "#18232C",
    "#10181F",
    "#DCE6ED",
    "#9FB0BD",
    "#2C3A45",
    "#79BFDD",
    "#79CDB4",
    "#FF9A7F",
    "#E8BC62",
    "#1E3140",
    "#667C8D",
)

_current = [DAY]


def current() -> Tokens:
    """The tokens in force; widgets that paint themselves read them at each paint."""
    return _current[0]


def set_current(tokens: Tokens) -> None:
    """Put other tokens in force (only `style.apply` calls this)."""
    _current[0] = tokens
