"""A test recipe: steps with set-points, end rules and stop limits. Data only; the engine runs it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Literal


class EndCause(StrEnum):
    """Why a run ended; every run has exactly one."""

    PROTECTION = "battery-protection"
    SET_CUTOFF = "set-cutoff"
    TIME = "time-limit"
    OPERATOR = "operator"
    STOP_LIMIT = "stop-limit"
    INSTRUMENT = "instrument-lost"
    INTERRUPTED = "interrupted"


CAUSE_WORDS = {
    EndCause.PROTECTION: "the battery's own protection opened",
    EndCause.SET_CUTOFF: "the set cut-off was reached",
    EndCause.TIME: "the time limit was reached",
    EndCause.OPERATOR: "it was stopped by hand",
    EndCause.STOP_LIMIT: "a stop limit was crossed",
    EndCause.INSTRUMENT: "an instrument was lost",
    EndCause.INTERRUPTED: "it was interrupted",
}

Mode = Literal["current", "power", "resistance", "hand"]


@dataclass(frozen=True)
class EndRule:
    """One rule that ends a step in the ordinary way.

    kind "voltage": the voltage under load at or below `value` (V) for `readings` readings together.
    kind "protection": the load asks for current and none flows, the voltage collapsed.
    kind "time": `value` seconds in this step.
    """

    kind: Literal["voltage", "protection", "time"]
    value: float
    cause: EndCause
    readings: int = 2


@dataclass(frozen=True)
class StopLimits:
    """Limits that stop a run at once, outputs off: whichever reading crosses one (V, A, W, °C, s)."""

    voltage_low_V: float
    voltage_high_V: float
    current_high_A: float
    power_high_W: float
    temperature_low_C: float
    temperature_high_C: float
    silence_s: float = 5.0


@dataclass(frozen=True)
class Step:
    """One step: "rest" or "discharge", its set-point, its end rules."""

    kind: Literal["rest", "discharge"]
    title: str
    mode: Mode = "hand"
    setting: float = 0.0
    ends: tuple[EndRule, ...] = ()


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
