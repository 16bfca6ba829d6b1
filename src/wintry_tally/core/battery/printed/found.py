"""What is read out of printed text: claims, the pack, and what is left."""

from __future__ import annotations

from dataclasses import dataclass

from wintry_tally.core.battery.claims import NOTED, Claim, Direction

BESIDE = "no test of this bench speaks to it; note it where it belongs"


@dataclass(frozen=True)
class Read:
    """A claim with the line (from 1) it was read from, and from where to where its clause stands in it."""

    claim: Claim
    line: int
    begin: int = 0
    end: int = 0


@dataclass(frozen=True)
class Left:
    """What was not understood, or no test speaks to: its line, its words, why, and where in the line it stands."""

    line: int
    text: str
    reason: str
    begin: int = 0
    end: int = 0
    beside: bool = False
    """It was understood, and no test speaks to it."""

    def noted(self, source: str) -> Claim | None:
        """What no test speaks to, to be kept as it is printed; None for what was not understood."""
        return (
            Claim(NOTED, None, "", Direction.IS, 0.0, {}, source, text=self.text, wanted=True) if self.beside else None
        )


@dataclass(frozen=True)
class Pack:
    """What the text says of the pack itself."""

    nominal_V: float | None = None
    family: str = ""
    cells: int | None = None
    printed: str = ""
    """The family that stands there itself, whatever it was taken for."""


@dataclass(frozen=True)
class Printed:
    """Everything read out of a text."""

    claims: tuple[Read, ...]
    pack: Pack
    left: tuple[Left, ...]
