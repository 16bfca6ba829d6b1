"""One step of a recipe as data: its numbers are still set-points."""

from __future__ import annotations

from dataclasses import dataclass

Value = str | float


@dataclass(frozen=True)
class EndTemplate:
    """One end rule: its kind, its set-point, perhaps a cause of its own."""

    kind: str
    value: Value = 0.0
    cause: str = ""
    readings: int = 2
    skip: int = 0


@dataclass(frozen=True)
class StepTemplate:
    """One step, its numbers still set-points; `only` names the families it is for, empty for all."""

    kind: str
    title: str
    mode: str = ""
    setting: Value = 0.0
    limit: Value = 0.0
    ends: tuple[EndTemplate, ...] = ()
    attended: bool = False
    words: str = ""
    every: Value = 0.0
    only: tuple[str, ...] = ()
