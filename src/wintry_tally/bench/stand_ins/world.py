"""The one battery and the one clock that all stand-ins share, and the faults they can be told to have."""

from __future__ import annotations

import threading
import time
from random import Random

from wintry_tally.bench.simulated import MeterSpec, SimulatedCharger, SimulatedLoad, SimulatedMeter
from wintry_tally.core.cell import BatteryModel, Parameters
from wintry_tally.core.cell.cells import cell_shares, cell_voltages
from wintry_tally.core.cell.connected import Connected
from wintry_tally.core.engine import Observation
from wintry_tally.core.errors import InputError

FAULTS = {
    "silence": "answers nothing any more",
    "garbage": "answers nonsense",
    "lag": "answers seconds late",
    "stuck": "shows the same for ever",
    "wrong-sign": "shows the current the other way round",
    "disconnect": "drops the line",
    "no-number": "answers the word for no number",
    "out-of-range": "shows what cannot be",
    "refuses": "refuses every setting",
    "ignores-off": "stays on when told to go off",
    "too-much": "lets half as much again flow as was set",
    "empty": "answers an empty line",
}
"""Every fault a stand-in can have, in words."""


class StandInWorld:
    """A battery, a load, a charger and a meter on it. Every method may be called from any thread.

    `speed` × real time once `run` was called; without it time passes only by `advance`.
    """

    def __init__(
        self, parameters: Parameters, spec: MeterSpec, seed: int = 1, ambient_C: float = 23.0,
        state_of_charge: float = 1.0, power_W: float = 180.0, current_A: float = 20.0, cells: int = 4,
    ) -> None:  # fmt: skip
        self.spec = spec
        self._lock = threading.RLock()
        self._connected = Connected(BatteryModel(parameters, state_of_charge, ambient_C))
        self._load = SimulatedLoad(self._connected, power_W, current_A)
        self._charger = SimulatedCharger(self._connected)
        self._meter = SimulatedMeter(self._connected, spec, Random(seed))
        # what reads by itself has errors and noise of its own, whenever its thread comes to it
        self._own = {
            name: SimulatedMeter(self._connected, spec, Random(seed + place))
            for place, name in enumerate(("second", "line", "pack", "file"), 1)
        }
        self.counted_Ah = 0.0
        self._shares = cell_shares(cells, seed)
        self._faults: dict[str, set[str]] = {}
        self._stuck: dict[str, Observation] = {}
        self._halt = threading.Event()
        self.load_on = self.charger_on = False
        self.errors: dict[str, str] = {}

    def fault(self, instrument: str, name: str, on: bool = True) -> None:
        """Give an instrument ("load", "supply", "meter", "thermometer") a fault, or take it away.

        Raises:
            InputError: no such fault.
        """
        if name not in FAULTS:
            raise InputError(f'"{name}" is no fault', mend=f"use {', '.join(FAULTS)}")
        with self._lock:
            held = self._faults.setdefault(instrument, set())
            (held.add if on else held.discard)(name)
            self._stuck.pop(instrument, None)

    def has(self, instrument: str, name: str) -> bool:
        """Whether an instrument has a fault now."""
        with self._lock:
            return name in self._faults.get(instrument, ())

    def advance(self, seconds: float) -> None:
        """Let time pass, in short strides."""
        with self._lock:
            left = seconds
            while left > 1e-9:
                stride = min(5.0, left)
                self._connected.advance(stride)
                self.counted_Ah += self._connected.current_A * self._own["line"].gain_A * stride / 3600.0
                left -= stride

    def run(self, speed: float = 1.0) -> None:
        """Let time pass by itself from now on."""

        def go() -> None:
            before = time.monotonic()
            while not self._halt.wait(0.05):
                now = time.monotonic()
                self.advance((now - before) * speed)
                before = now

        threading.Thread(target=go, name="stand-in clock", daemon=True).start()

    def stop(self) -> None:
        """End the clock."""
        self._halt.set()

    def read(self, instrument: str) -> Observation:
        """What an instrument shows: positive while the battery gives."""
        with self._lock:
            seen = self._own.get(instrument, self._meter).read()
            if "stuck" in self._faults.get(instrument, ()):
                return self._stuck.setdefault(instrument, seen)
            return seen

    def cells_V(self) -> tuple[float, ...]:
        """What the pack tells of its cells, V."""
        with self._lock:
            return cell_voltages(self._connected.model, self._connected.voltage_V, self._shares)

    def gauge_percent(self) -> float:
        """What the pack tells of its charge."""
        with self._lock:
            return min(100.0, max(0.0, 100.0 * self._connected.model.state_of_charge))

    @property
    def true_current_A(self) -> float:
        """What really flows, positive out of the battery."""
        with self._lock:
            return self._connected.current_A

    def draw(self, mode: str, setting: float) -> None:
        """Switch the load on. Raises InstrumentError above its ceiling."""
        with self._lock:
            self._load.draw(mode, setting * (1.5 if self.has("load", "too-much") else 1.0))
            self.load_on = True

    def charge(self, setting_A: float, limit_V: float) -> None:
        """Switch the supply on. Raises InstrumentError above its ceiling."""
        with self._lock:
            self._charger.charge(setting_A, limit_V)
            self.charger_on = True

    def off(self, instrument: str) -> None:
        """Switch the load or the supply off."""
        with self._lock:
            if self.has(instrument, "ignores-off"):
                return
            other_on = self.charger_on if instrument == "load" else self.load_on
            if instrument == "load":
                self.load_on = False
            else:
                self.charger_on = False
            if not other_on:
                self._connected.off()
