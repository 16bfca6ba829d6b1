"""Runs a recipe without input or output: an observation and the time go in, commands and events come out."""

from wintry_tally.core.engine.engine import (
    TRANSITIONS,
    Command,
    Event,
    Observation,
    Phase,
    Request,
    RunState,
    Trigger,
    begin,
    step,
)

__all__ = ["TRANSITIONS", "Command", "Event", "Observation", "Phase", "Request", "RunState", "Trigger", "begin", "step"]
