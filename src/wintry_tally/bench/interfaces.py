"""What instruments can do, as small interfaces with their behaviour written down."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any

from wintry_tally.core.engine import Command, Observation
from wintry_tally.core.errors import InstrumentError


class Sinks(ABC):
    """A load.

    After `off` returns, no current is drawn. `off` may be called at any time, any number of times, also after
    a failure; if it cannot be sure, it raises InstrumentError naming what to unplug. Nothing flows before `draw`.
    """

    @abstractmethod
    def draw(self, mode: str, setting: float) -> None:
        """Draw at "current" (A), "power" (W) or "resistance" (Ω) from now on."""

    @abstractmethod
    def off(self) -> None:
        """Stop drawing, surely."""


class Measures(ABC):
    """A meter of voltage, current and perhaps temperature.

    `read` returns within its time limit; NaN stands for a quantity that could not be read. A lost instrument
    raises InstrumentError.
    """

    @abstractmethod
    def read(self) -> Observation:
        """One reading, now."""


class Channel(ABC):
    """What one run is connected to: something that sinks, something that measures, and the passing of time."""

    @abstractmethod
    def carry_out(self, command: Command) -> None:
        """Do what the engine says, at once."""

    @abstractmethod
    def wait(self, interval_s: float) -> None:
        """Let this much of the bench's time pass (a simulated bench advances instead of waiting)."""

    @abstractmethod
    def read(self) -> Observation:
        """One reading, now; see Measures."""

    def snapshot(self) -> dict[str, Any]:
        """State to keep beside the run so that a stand-in can be taken up again; real benches have none."""
        return {}


class InstrumentChannel(Channel):
    """A channel made of a load and a meter that are apart."""

    def __init__(self, load: Sinks, meter: Measures) -> None:
        self.load = load
        self.meter = meter

    def carry_out(self, command: Command) -> None:
        """Draw or switch off."""
        if command.kind == "off":
            self.load.off()
        elif command.kind == "draw":
            self.load.draw(command.mode, command.setting)
        else:
            raise InstrumentError(f'the load does not know "{command.kind}"')

    def read(self) -> Observation:
        """From the meter."""
        return self.meter.read()
