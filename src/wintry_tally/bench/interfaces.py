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


class Sources(ABC):
    """A charger or a supply.

    After `off` returns, nothing is given. As with Sinks, `off` may be called at any time, any number of times; if it
    cannot be sure, it raises InstrumentError naming what to unplug. Nothing flows before `charge`.
    """

    @abstractmethod
    def charge(self, setting_A: float, limit_V: float) -> None:
        """Give this current until the voltage limit, then hold the limit, from now on."""

    @abstractmethod
    def off(self) -> None:
        """Stop giving, surely."""


class Measures(ABC):
    """A meter of voltage, current and perhaps temperature.

    `read` returns within its time limit; NaN stands for a quantity that could not be read. A lost instrument
    raises InstrumentError.
    """

    @abstractmethod
    def read(self) -> Observation:
        """One reading, now."""


class Reads(ABC):
    """An instrument that can be asked what it measures.

    `quantities` returns within its time limit; what it does not measure is left out. A lost or unintelligible
    instrument raises InstrumentError, in words a person understands.
    """

    @abstractmethod
    def quantities(self) -> dict[str, float]:
        """Some of "voltage" V, "current" A (its own sign), "temperature" °C, "charge" Ah, "energy" Wh."""

    @abstractmethod
    def close(self) -> None:
        """Let go of the line; may be called twice."""


class Channel(ABC):
    """What one run is connected to: something that sinks, something that measures, and the passing of time."""

    @abstractmethod
    def carry_out(self, command: Command) -> None:
        """Do what the engine says, at once."""

    @abstractmethod
    def wait(self, interval_s: float) -> float:
        """Let this much of the bench's time pass, and say how much did, s.

        A simulated bench advances and gives back just that; on a real one whoever calls keeps the pace, and what
        passed is told by a clock that goes on while the computer sleeps.
        """

    @abstractmethod
    def read(self) -> Observation:
        """One reading, now; see Measures."""

    goes_on_alone = False
    """Whether what it switched on stays on when this program is gone: real instruments do, stand-ins do not."""

    def noticed(self) -> str:
        """Something about the last reading that belongs in the record, in words; empty for nothing."""
        return ""

    def close(self) -> None:
        """Let go of every line to an instrument; a stand-in has none."""
        return

    def snapshot(self) -> dict[str, Any]:
        """State to keep beside the run so that a stand-in can be taken up again; real benches have none."""
        return {}


class InstrumentChannel(Channel):
    """A channel made of a load, a meter and perhaps a charger that are apart.

    The load is off before the charger goes on, and the other way round. OFF reaches both, whatever either says.
    """

    def __init__(self, load: Sinks | None, meter: Measures, charger: Sources | None = None) -> None:
        self.load, self.meter, self.charger = load, meter, charger

    def carry_out(self, command: Command) -> None:
        """Draw, charge or switch off.

        Raises:
            InstrumentError: an instrument refuses, or cannot be reached; the message says what to unplug.
        """
        if command.kind == "off":
            self._off(self.load, self.charger)
        elif command.kind == "draw" and command.mode == "hand" and self.load is None:
            self._off(self.charger)  # people switch the loads themselves; here is only watched and counted
        elif command.kind == "draw":
            if self.load is None:
                raise InstrumentError("there is no load on this channel", mend="put one on it, on the Bench page")
            self._off(self.charger)
            self.load.draw(command.mode, command.setting)
        elif command.kind == "charge":
            if self.charger is None:
                raise InstrumentError("there is no charger on this channel", mend="put one on it, on the Bench page")
            self._off(self.load)
            self.charger.charge(command.setting, command.limit_V)
        elif command.kind != "ask":
            raise InstrumentError(f'the bench does not know "{command.kind}"')

    @staticmethod
    def _off(*instruments: Sinks | Sources | None) -> None:
        failures = []
        for instrument in instruments:
            if instrument is None:
                continue
            try:
                instrument.off()
            except InstrumentError as error:
                failures.append(str(error))
        if failures:
            raise InstrumentError("; ".join(failures))

    def read(self) -> Observation:
        """From the meter."""
        return self.meter.read()
