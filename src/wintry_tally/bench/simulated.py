"""The stand-in bench: a battery model, a load and a meter with errors inside their specification.

Nothing here touches anything real. The load and meter speak the same interfaces as real drivers.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from random import Random
from typing import Any

from wintry_tally.bench.interfaces import InstrumentChannel, Measures, Sinks, Sources
from wintry_tally.bench.offplan import OffPlan
from wintry_tally.core.cell import BatteryModel, Parameters
from wintry_tally.core.cell.connected import Connected
from wintry_tally.core.engine import Observation
from wintry_tally.core.errors import InstrumentError
from wintry_tally.core.quantity import Accuracy, parse_accuracy
from wintry_tally.core.room import ROOM_C


@dataclass(frozen=True)
class MeterSpec:
    """A meter as its manual states it."""

    voltage_accuracy: str = "0.1%+2d"
    current_accuracy: str = "0.5%+2d"
    voltage_resolution: float = 0.001
    current_resolution: float = 0.001
    noise_V: float = 0.0008
    noise_A: float = 0.0008

    @property
    def voltage(self) -> Accuracy:
        """Of the voltage."""
        return parse_accuracy(self.voltage_accuracy)

    @property
    def current(self) -> Accuracy:
        """Of the current."""
        return parse_accuracy(self.current_accuracy)


HAND_C = 0.2
STAND_IN_METER = MeterSpec()
"""The meter of the stand-in bench."""


class SimulatedLoad(Sinks):
    """A load with ceilings; `sets`: what it draws of what is set."""

    def __init__(self, world: Connected, power_W: float = 180.0, current_A: float = 20.0, sets: float = 1.0) -> None:
        self.world, self.sets = world, sets
        self.power_W, self.current_A = power_W, current_A

    def draw(self, mode: str, setting: float) -> None:
        """See Sinks; refuses what is above its ceilings. Loads switched by hand come to a fifth of the capacity an hour."""
        if mode == "hand":
            mode, setting = "current", setting or HAND_C * self.world.model.parameters.capacity_Ah
        current = self.world.model.current_for(mode, setting)
        if current > self.current_A * 1.0001 or current * self.world.model.terminal_V(current) > self.power_W * 1.02:
            self.off()
            raise InstrumentError(
                f"the load cannot draw {current:.2f} A: its ceiling is {self.power_W:g} W and {self.current_A:g} A",
                mend="choose a lower rate",
            )
        self.world.draw(mode, self.sets * setting)

    def off(self) -> None:
        """See Sinks."""
        self.world.off()

    def is_on(self) -> bool | None:
        """See Drives: nothing real is switched."""
        return None

    def off_plan(self) -> OffPlan | None:
        """See Drives: nothing real is switched."""
        return None


class SimulatedCharger(Sources):
    """A charger with ceilings; `sets`, `holds`: what it gives of the current that is set, and of the limit."""

    def __init__(
        self, world: Connected, current_A: float = 50.0, voltage_V: float = 16.0, sets: float = 1.0, holds: float = 1.0
    ) -> None:
        self.world, self.sets, self.holds = world, sets, holds
        self.current_A, self.voltage_V = current_A, voltage_V

    def charge(self, setting_A: float, limit_V: float) -> None:
        """See Sources; refuses what is above its ceilings."""
        if setting_A > self.current_A * 1.0001 or limit_V > self.voltage_V:
            self.off()
            raise InstrumentError(
                f"the charger cannot give {setting_A:.2f} A at {limit_V:.2f} V: its ceiling is {self.current_A:g} A and "
                f"{self.voltage_V:g} V",
                mend="choose a lower setting",
            )
        self.world.source(self.sets * setting_A, self.holds * limit_V)

    def off(self) -> None:
        """See Sources."""
        self.world.off()

    def is_on(self) -> bool | None:
        """See Drives: nothing real is switched."""
        return None

    def off_plan(self) -> OffPlan | None:
        """See Drives: nothing real is switched."""
        return None


class SimulatedMeter(Measures):
    """A meter whose gain and offset errors are drawn once from its specification, with noise and resolution.

    Its zero error and the flicker of its last digit show with nothing flowing, too, as a real one's do.
    """

    def __init__(self, world: Connected, spec: MeterSpec, random: Random) -> None:
        self.world, self.spec, self.random = world, spec, random
        gain_V, gain_A = spec.voltage.percent / 100.0, spec.current.percent / 100.0
        self.gain_V = 1.0 + random.uniform(-gain_V, gain_V)
        self.gain_A = 1.0 + random.uniform(-gain_A, gain_A)
        limit_V = spec.voltage.offset_limit(spec.voltage_resolution)
        limit_A = spec.current.offset_limit(spec.current_resolution)
        self.offset_V = random.uniform(-limit_V, limit_V)
        self.offset_A = random.uniform(-limit_A, limit_A)

    def read(self) -> Observation:
        """See Measures."""
        return self.shown(self.world.voltage_V, self.world.current_A, self.world.model.temperature_C)

    def shown(self, volts: float, amps: float, celsius: float) -> Observation:
        """What it shows of these true values."""
        spec, gauss = self.spec, self.random.gauss
        shown_V = volts * self.gain_V + self.offset_V + gauss(0.0, spec.noise_V)
        shown_A = amps * self.gain_A + self.offset_A + gauss(0.0, spec.noise_A)
        return Observation(
            _rounded(shown_V, spec.voltage_resolution), _rounded(shown_A, spec.current_resolution), round(celsius, 1)
        )


def _rounded(value: float, step: float) -> float:
    if step <= 0:
        return value
    return round(round(value / step) * step, max(0, -math.floor(math.log10(step))))


class SimulatedChannel(InstrumentChannel):
    """The stand-in bench as a channel. The same seed gives the same errors and the same noise."""

    def __init__(
        self,
        parameters: Parameters,
        spec: MeterSpec,
        seed: int,
        *,
        power_W: float = 180.0,
        current_A: float = 20.0,
        charger: tuple[float, float] = (50.0, 16.0),
        ambient_C: float = ROOM_C,
        state_of_charge: float = 1.0,
    ) -> None:
        self.world = Connected(BatteryModel(parameters, state_of_charge, ambient_C))
        super().__init__(
            SimulatedLoad(self.world, power_W, current_A),
            SimulatedMeter(self.world, spec, Random(seed)),
            SimulatedCharger(self.world, *charger),
        )

    @property
    def true_errors(self) -> tuple[float, float, float, float]:
        """Gain and offset of the voltage, gain and offset of the current, as drawn: a simulation's truth."""
        meter = self.meter
        assert isinstance(meter, SimulatedMeter)
        return meter.gain_V, meter.offset_V, meter.gain_A, meter.offset_A

    def zero_A(self) -> float | None:
        """See Channel: by the meter's specification."""
        meter = self.meter
        assert isinstance(meter, SimulatedMeter)
        return meter.spec.current.offset_limit(meter.spec.current_resolution) + meter.spec.current_resolution

    def wait(self, interval_s: float) -> float:
        """Advance the battery; in short strides, so that a protection's delay is not overstepped by much."""
        strides = max(1, math.ceil(interval_s / 10.0))
        for _ in range(strides):
            self.world.advance(interval_s / strides)
        return interval_s

    def snapshot(self) -> dict[str, Any]:
        """The battery's state: a real battery would keep it by itself."""
        return self.world.model.snapshot()

    def restore(self, state: dict[str, Any]) -> None:
        """Take up a battery's state."""
        self.world.model.restore(state)
        self.world.voltage_V = self.world.model.terminal_V(0.0)
