"""Runs a recipe without input or output: an observation and the time go in, commands and events come out."""

from wintry_tally.core.engine.engine import begin, command_for, step
from wintry_tally.core.engine.state import (
    LIVE,
    OFF,
    TRANSITIONS,
    Command,
    Event,
    Observation,
    Phase,
    Request,
    Result,
    RunState,
    Trigger,
)

__all__ = [
    "LIVE",
    "OFF",
    "TRANSITIONS",
    "Command",
    "Event",
    "Observation",
    "Phase",
    "Request",
    "Result",
    "RunState",
    "Trigger",
    "begin",
    "command_for",
    "step",
]
