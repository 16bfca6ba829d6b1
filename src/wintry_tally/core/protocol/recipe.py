"""A test recipe: steps with set-points, end rules and stop limits. Data only; the engine runs it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, Literal

from wintry_tally.core.message import Message, said

if TYPE_CHECKING:
    from wintry_tally.core.battery import Family


class EndCause(StrEnum):
    """Why a run ended; every run has exactly one."""

    PROTECTION = "battery-protection"
    SET_CUTOFF = "set-cutoff"
    DROPOUT = "device-dropout"
    TAPER = "current-taper"
    CHARGE_PROTECTION = "charge-protection"
    REFUSED = "charge-refused"
    FLOWS = "charge-taken"
    CHARGE = "charge-moved"
    SETTLED = "settled"
    TEMPERATURE = "temperature-reached"
    TIME = "time-limit"
    CONFIRMED = "confirmed"
    OPERATOR = "operator"
    STOP_LIMIT = "stop-limit"
    INSTRUMENT = "instrument-lost"
    INTERRUPTED = "interrupted"
    DISTURBED = "disturbed"
    NOT_PROVEN = "connection-not-proven"
    MADE_SAFE = "made-safe"
    PROGRAM = "program-fault"


OWN_ENDS = frozenset(EndCause) - {
    EndCause.OPERATOR, EndCause.STOP_LIMIT, EndCause.INSTRUMENT, EndCause.INTERRUPTED, EndCause.DISTURBED,
    EndCause.NOT_PROVEN, EndCause.MADE_SAFE, EndCause.PROGRAM,
}  # fmt: skip
"""Causes by which a run ended as its recipe means it to."""

CAUSES = frozenset(str(cause) for cause in EndCause)
"""As a book keeps them; the cause of an import is none of them, but how its log looks."""
CAUSE_WORDS: dict[EndCause, Message] = {cause: said(f"cause-{cause}") for cause in EndCause}

Mode = Literal["current", "power", "resistance", "charge", "hand"]
StepKind = Literal["rest", "discharge", "charge", "prompt"]


@dataclass(frozen=True)
class EndRule:
    """One rule that ends a step in the ordinary way, once it holds for `readings` readings together.

    `kind`: a key of `END_RULES` (`end_rules.py`), which says what `value` is.
    `skip`: so many of the following steps are passed over (a pack that opened is not drawn from again).
    """

    kind: str
    value: float
    cause: EndCause
    readings: int = 2
    skip: int = 0


@dataclass(frozen=True)
class StopLimits:
    """Limits that stop a run at once, outputs off: whichever reading crosses one (V, A, W, °C, s).

    `cold_charge_C`: below it a charging current above `cold_charge_A` that still flows after `cold_charge_s` is
    stopped: an unprotected pack is being damaged. `cold_exempt_V`: a current within so much of the charger's limit
    is a heater's, not the cells'; 0 for packs without one. `cell_low_V`: a pack that tells a cell below it is not
    charged (common practice: a lithium iron phosphate cell under 2.0 V is not revived).
    """

    voltage_low_V: float
    voltage_high_V: float
    current_high_A: float
    power_high_W: float
    temperature_low_C: float
    temperature_high_C: float
    silence_s: float = 5.0
    charge_high_A: float = math.inf
    temperature_rate_K_min: float = math.inf
    charge_most_Ah: float = math.inf
    time_most_s: float = math.inf
    cold_charge_C: float = -math.inf
    cold_charge_A: float = 0.05
    cold_charge_s: float = 10.0
    cold_exempt_V: float = 0.0
    cell_low_V: float = -math.inf


@dataclass(frozen=True)
class Step:
    """One step.

    Parts:
        kind: "rest", "discharge", "charge" or "prompt" (something only hands can do).
        mode, setting: of a discharge, "current" A, "power" W, "resistance" Ω; of a charge, "charge" A up to `limit_V`.
        ends: the first rule that holds ends it.
        attended: somebody has to be there.
        words: what a person is asked to do, for a prompt.
        every_s: seconds from reading to reading in this step; 0 for the run's own.
    """

    kind: StepKind
    title: str
    mode: Mode = "hand"
    setting: float = 0.0
    ends: tuple[EndRule, ...] = ()
    limit_V: float = 0.0
    attended: bool = False
    words: str = ""
    every_s: float = 0.0

    @property
    def by_hand(self) -> bool:
        """Whether people switch its current. (A rest has no current to switch, whatever its mode.)"""
        return self.kind in {"discharge", "charge"} and self.mode == "hand"


@dataclass(frozen=True)
class Recipe:
    """A test, versioned; the same data for a real bench, a practice run and a forecast."""

    name: str
    title: str
    version: int
    steps: tuple[Step, ...]
    stops: StopLimits
    cautions: tuple[str, ...] = ()
    settles: tuple[str, ...] = ()
    method: str = "capacity"
    no_proof: str = ""
    """Why no pulse may prove the connection before it; empty where one may."""

    @property
    def cutoff_V(self) -> float | None:
        """The cut-off of its first discharge that has one."""
        drawn = (step for step in self.steps if step.kind == "discharge")
        return next((rule.value for step in drawn for rule in step.ends if rule.kind == "voltage"), None)

    @property
    def attended(self) -> bool:
        """Whether any step wants somebody there."""
        return any(step.attended for step in self.steps)

    @property
    def live(self) -> bool:
        """Whether it draws or charges at all."""
        return any(step.kind in {"discharge", "charge"} for step in self.steps)


def most_amps(step: Step, family: Family) -> float:
    """What a step makes flow at the most, A, for a pack of this family and voltage; 0 for one that drives nothing."""
    if step.kind not in {"discharge", "charge"}:
        return 0.0
    if step.mode == "power":
        return step.setting / family.cutoff_V
    if step.mode == "resistance":
        return family.plausible_V[1] / step.setting if step.setting else 0.0
    return step.setting
