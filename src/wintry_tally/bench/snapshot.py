"""What a run is doing at a moment, as whoever looks on sees it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from wintry_tally.core.engine import Phase, RunState

NOT_SAVED = "not-saved"


@dataclass(frozen=True)
class Trouble:
    """Something that needs hands: a code (not-off, flows-though-off, not-saved) and words."""

    code: str
    words: str


@dataclass(frozen=True)
class Snapshot:
    """What a run is doing, for whoever looks on.

    `asks`: what a person has to do now, on a bench with nothing connected; `fresh`: a reading was just taken.
    `settled`: it has ended and everything is seen to be off, or nothing real is switched; `outputs`: "off" or "unknown".
    `fault`: why the last reading is not usable; `proving`: what the proof of connection is doing.
    """

    state: RunState
    elapsed_s: float
    voltage_V: float
    current_A: float
    temperature_C: float | None
    trouble: str = ""
    beside: Mapping[str, float] = field(default_factory=dict)
    asks: str = ""
    fresh: bool = True
    troubles: tuple[Trouble, ...] = ()
    settled: bool = True
    outputs: str = "off"
    fault: str = ""
    proving: str = ""
    warnings: tuple[str, ...] = ()

    @property
    def ended(self) -> bool:
        """Whether it is over."""
        return self.state.phase is Phase.ENDED
