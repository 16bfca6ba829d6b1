"""What instruments can do, as small interfaces with their behaviour written down."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import Any

from wintry_tally.bench.offplan import OffPlan
from wintry_tally.bench.taken import Thing
from wintry_tally.core.engine import Command, Observation
from wintry_tally.core.errors import InstrumentError


class Drives(ABC):
    """Whatever makes current flow.

    After `off` returns nothing flows. `off` may be called at any time, any number of times, also after a failure; if
    it cannot be sure, it raises InstrumentError naming what to unplug.
    """

    @abstractmethod
    def off(self) -> None:
        """Let nothing flow, surely."""

    @abstractmethod
    def is_on(self) -> bool | None:
        """Its own answer to whether its output is on; None where it cannot be asked."""

    @abstractmethod
    def off_plan(self) -> OffPlan | None:
        """How the guard outside the program switches it off; None where nothing real is switched.

        Raises:
            InstrumentError: the guard could not reach it: it may not drive.
        """

    def arm(self) -> None:
        """Arm its own watchdog, where it has one."""
        return

    def feed(self) -> None:
        """Tell its own watchdog that the program lives."""
        return

    def disarm(self) -> None:
        """Its own watchdog is not needed any more."""
        return


class Sinks(Drives):
    """A load.

    After `off` returns, no current is drawn. `off` may be called at any time, any number of times, also after
    a failure; if it cannot be sure, it raises InstrumentError naming what to unplug. Nothing flows before `draw`.
    """

    @abstractmethod
    def draw(self, mode: str, setting: float) -> None:
        """Draw at "current" (A), "power" (W) or "resistance" (Ω) from now on."""


class Sources(Drives):
    """A charger or a supply.

    After `off` returns, nothing is given. As with Sinks, `off` may be called at any time, any number of times; if it
    cannot be sure, it raises InstrumentError naming what to unplug. Nothing flows before `charge`.
    """

    @abstractmethod
    def charge(self, setting_A: float, limit_V: float) -> None:
        """Give this current until the voltage limit, then hold the limit, from now on."""


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

    @property
    def sees_apart(self) -> bool:
        """Whether the current is read by something else than what is switched."""
        return True

    def outputs(self) -> dict[str, bool | None]:
        """Whether each thing it switches said, at the last reading, that it is on; None where it cannot say."""
        return {}

    def zero_A(self) -> float | None:
        """How far from zero a current may read with nothing flowing; None where nothing is known of its meter."""
        return None

    def commanded(self, doing: str) -> str:
        """Which of its instruments draws ("draw") or charges ("charge"); empty for none."""
        return ""

    def own_current(self, doing: str) -> float | None:
        """What the load ("draw") or the charger ("charge") itself said of its current, drawn positive."""
        return None

    def own_voltage(self, doing: str) -> float | None:
        """What the load or the charger itself reads at its own terminals, where another meter counts."""
        return None

    def pack_voltage(self) -> float | None:
        """What the pack itself told of its voltage at the last reading, where it tells."""
        return None

    def plugs(self) -> dict[str, str]:
        """What to unplug, in words, for each thing it switches."""
        return {}

    def off_plans(self) -> list[OffPlan]:
        """How the guard outside the program switches everything off; empty where nothing real is switched."""
        return []

    def things(self) -> list[Thing]:
        """What a run on it takes, for itself alone."""
        return []

    def watch_with(self, waiting: Callable[[], None]) -> None:
        """Called while an instrument is waited for."""
        return

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
        load, charger = self.load, self.charger
        if command.kind == "off":
            self.off(load, charger)
        elif command.kind == "draw" and command.mode == "hand" and load is None:
            self.off(charger)  # people switch the loads themselves; here is only watched and counted
        elif command.kind == "draw":
            if load is None:
                raise InstrumentError("there is no load on this channel", mend="put one on it, on the Bench page")
            self.off(charger)
            self.do(load, lambda: load.draw(command.mode, command.setting))
        elif command.kind == "charge":
            if charger is None:
                raise InstrumentError("there is no charger on this channel", mend="put one on it, on the Bench page")
            self.off(load)
            self.do(charger, lambda: charger.charge(command.setting, command.limit_V))
        elif command.kind != "ask":
            raise InstrumentError(f'the bench does not know "{command.kind}"')

    def do(self, driver: Drives, act: Callable[[], None]) -> None:
        """Switch something on."""
        act()

    def off(self, *instruments: Drives | None) -> None:
        """Switch these off, each whatever the others say.

        Raises:
            InstrumentError: of those that could not be.
        """
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
