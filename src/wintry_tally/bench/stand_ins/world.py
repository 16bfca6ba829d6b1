"""The one battery and the one clock that all stand-ins share, the ways it can be wired, and the faults they can have.

Every instrument has errors and noise of its own, at rest too: a zero error within its specification and a last digit
that flickers. A load and a supply give what was set but for an error of their own. Nothing here is cleaner than the world.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable
from dataclasses import replace
from random import Random

from wintry_tally.bench.simulated import MeterSpec, SimulatedCharger, SimulatedLoad, SimulatedMeter
from wintry_tally.bench.stand_ins.wiring import BACKGROUND_A, ELSEWHERE_A, LOOSE_OHM, SHUNT_SHARES, THIN_OHM, WIRINGS
from wintry_tally.core.cell import BatteryModel, Parameters
from wintry_tally.core.cell.cells import cell_shares, cell_voltages
from wintry_tally.core.cell.connected import Connected
from wintry_tally.core.engine import Observation
from wintry_tally.core.errors import InputError
from wintry_tally.core.room import ROOM_C

FAULTS = {
    "silence": "answers nothing any more",
    "garbage": "answers nonsense",
    "lag": "answers seconds late",
    "stuck": "shows the same for ever",
    "stuck-voltage": "shows the same voltage for ever beside a living current",
    "minus-zero": "shows -0.0000 A for ever",
    "wrong-sign": "shows the current the other way round",
    "disconnect": "drops the line",
    "no-number": "answers the word for no number",
    "out-of-range": "shows what cannot be",
    "error-text": "answers an error text to a measurement",
    "comma": "writes its numbers with a comma",
    "cut-short": "sends half of its answer and stops",
    "endless": "sends without end and without an end of line",
    "hang": "takes what is said and never answers, nor lets go of the line",
    "refuses": "refuses every setting",
    "ignores-off": "stays on when told to go off, and says so",
    "lies-off": "says that it is off while current flows",
    "too-much": "lets half as much again flow as was set",
    "other-hands": "is set to a fifth by another controller",
    "switched-off": "is switched off by another controller",
    "empty": "answers an empty line",
    "one-connection": "serves one program at a time",
}
"""Every fault a stand-in can have, in words."""
ROLES = ("load", "supply", "meter", "second", "thermometer", "line", "pack", "file")
LEAD_OHM, SUPPLY_A, SUPPLY_V = 0.011, 50.0, 20.0
SETS_TO, HOLDS_TO = 0.005, 0.003
"""A load and a supply give what is set to so much of it, a supply holds its limit to so much: common practice, no published source."""
OTHER_STATE, OTHER_STATE_LESS = 0.97, 0.85
OUTDOORS_K, OPEN_C = 22.0, 850.0
SHORT_S = 0.05


class StandInWorld:
    """A battery, a load, a charger and meters on it. Every method may be called from any thread.

    `speed` × real time once `run` was called; without it time passes only by `advance`. `wiring`: keys of WIRINGS.
    """

    def __init__(
        self, parameters: Parameters, spec: MeterSpec, seed: int = 1, ambient_C: float = ROOM_C,
        state_of_charge: float = 1.0, power_W: float = 180.0, current_A: float = 20.0, cells: int = 4,
        wiring: Iterable[str] = (), lead_ohm: float = LEAD_OHM, stranger: Parameters | None = None,
    ) -> None:  # fmt: skip
        self.spec = spec
        self._lock = threading.RLock()
        self.wiring = set(wiring)
        for name in self.wiring - set(WIRINGS):
            raise InputError(f'"{name}" is no wiring', mend=f"use {', '.join(WIRINGS)}")
        here = parameters
        if "other-battery" in self.wiring:
            here = replace(
                parameters, resistance_ohm=6.0 * parameters.resistance_ohm, slow_ohm=6.0 * parameters.slow_ohm
            )
        if "other-family" in self.wiring and stranger is not None:
            here = stranger
        self._connected = Connected(BatteryModel(here, state_of_charge, ambient_C))
        elsewhere = state_of_charge * (OTHER_STATE if state_of_charge > 0.5 else OTHER_STATE_LESS)
        self._other = Connected(BatteryModel(parameters, elsewhere, ambient_C))
        own, places = Random(seed + len(ROLES)), (self._connected, self._other)
        draws, gives = (1.0 + own.uniform(-SETS_TO, SETS_TO) for _ in range(2))
        holds = 1.0 + own.uniform(-HOLDS_TO, HOLDS_TO)
        self._loads = {place: SimulatedLoad(place, power_W, current_A, draws) for place in places}
        self._chargers = {
            place: SimulatedCharger(place, max(SUPPLY_A, current_A), SUPPLY_V * parameters.share, gives, holds)
            for place in places
        }
        self._meters = {
            name: SimulatedMeter(self._connected, spec, Random(seed + place)) for place, name in enumerate(ROLES)
        }
        self._lead_ohm = lead_ohm
        self._lead_ohm += LOOSE_OHM if "clamp-loose" in self.wiring else 0.0
        self._lead_ohm += THIN_OHM if "leads-thin" in self.wiring else 0.0
        self.counted_Ah = 0.0
        self._shares = cell_shares(cells, seed)
        self._faults: dict[str, set[str]] = {}
        self._stuck: dict[str, Observation] = {}
        self._halt = threading.Event()
        self.load_on = self.charger_on = False
        self._set_A = 0.0
        if "other-load" in self.wiring:
            self._background()

    # --- faults ---

    def fault(self, instrument: str, name: str, on: bool = True) -> None:
        """Give an instrument (of ROLES) a fault, or take it away.

        Raises:
            InputError: no such fault or instrument.
        """
        if name not in FAULTS:
            raise InputError(f'"{name}" is no fault', mend=f"use {', '.join(FAULTS)}")
        if instrument not in ROLES:
            raise InputError(f'"{instrument}" is no stand-in', mend=f"use {', '.join(ROLES)}")
        with self._lock:
            held = self._faults.setdefault(instrument, set())
            (held.add if on else held.discard)(name)
            self._stuck.pop(instrument, None)
            if on and name == "other-hands" and self.load_on:
                self._place("load").draw("current", 0.2 * self._set_A)
            elif on and name == "other-hands" and self.charger_on:
                self._place("supply").source(0.2 * self._set_A, self._place("supply").limit_V)
            elif on and name == "switched-off":
                self.off(instrument)

    def has(self, instrument: str, name: str) -> bool:
        """Whether an instrument has a fault now."""
        with self._lock:
            return name in self._faults.get(instrument, ())

    # --- time ---

    def advance(self, seconds: float) -> None:
        """Let time pass, in short strides."""
        with self._lock:
            left = seconds
            while left > 1e-9:
                stride = min(5.0, left)
                if self._attached:
                    self._connected.advance(stride)
                else:
                    self._connected.model.advance(0.0, stride)
                if self._other.mode:
                    self._other.advance(stride)
                self.counted_Ah += self.true_current_A * self._meters["line"].gain_A * stride / 3600.0
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

    # --- what instruments show ---

    def read(self, instrument: str) -> Observation:
        """What an instrument shows: its own voltage and current, positive while the battery gives."""
        with self._lock:
            meter = self._meters.get(instrument, self._meters["meter"])
            volts, amps = self._at(instrument)
            seen = meter.shown(volts, amps, self._celsius(instrument))
            held = self._faults.get(instrument, set())
            if "stuck" in held:
                return self._stuck.setdefault(instrument, seen)
            if "stuck-voltage" in held:
                return replace(seen, voltage_V=self._stuck.setdefault(instrument, seen).voltage_V)
            return replace(seen, current_A=-0.0) if "minus-zero" in held else seen

    def _at(self, instrument: str) -> tuple[float, float]:
        """The true voltage and current where an instrument is connected."""
        wired, attached = self.wiring, self._attached
        # on leads in the air a charger shows its limit, and a load nothing
        volts = (
            self._connected.voltage_V * (2.0 if "two-in-series" in wired else 1.0)
            if attached
            else self._connected.limit_V
        )
        amps = self.true_current_A
        if instrument in {"load", "supply"}:
            return self._at_own(instrument, volts)
        if instrument == "second":
            return (self._other.voltage_V + 0.25 if "second-elsewhere" in wired else volts), amps
        if instrument == "pack":
            own_V = volts if attached else self._connected.model.terminal_V(0.0)
            return (self._other.voltage_V + 0.5 if "pack-elsewhere" in wired else own_V), amps
        if instrument == "meter":
            shares = [share for name, share in SHUNT_SHARES.items() if name in wired]
            shown = amps * shares[0] if shares else ELSEWHERE_A if "shunt-elsewhere" in wired else amps
            return self._meter_V(volts, amps), shown
        return volts, amps

    def _meter_V(self, volts: float, amps: float) -> float:
        wired = self.wiring
        if "meter-turned" in wired:
            return -volts
        if "meter-elsewhere" in wired:
            return self._other.model.terminal_V(0.0)
        if "meter-open" in wired:
            return 0.0
        if "meter-half" in wired:
            return 0.5 * volts
        return volts - amps * self._lead_ohm if "meter-at-clamps" in wired else volts

    def _at_own(self, instrument: str, volts: float) -> tuple[float, float]:
        """At the terminals of the load or the supply, behind its leads."""
        name = "load" if instrument == "load" else "charger"
        place = self._place(instrument)
        if f"{name}-open" in self.wiring:
            return 0.0, 0.0
        here = volts if place is self._connected else place.voltage_V
        drawn = self.true_current_A if place is self._connected else place.current_A
        flows = drawn if (place.mode == "charge") == (instrument == "supply") and place.mode else 0.0
        if "other-load" in self.wiring and place is self._connected and not (self.load_on or self.charger_on):
            flows = 0.0
        shown = here - flows * self._lead_ohm
        return (-shown, 0.0) if f"{name}-turned" in self.wiring else (shown, flows)

    def _place(self, instrument: str) -> Connected:
        name = "load" if instrument == "load" else "charger"
        return self._other if f"{name}-elsewhere" in self.wiring else self._connected

    def _celsius(self, instrument: str) -> float:
        if instrument == "thermometer" and "thermometer-out" in self.wiring:
            return OPEN_C
        if instrument == "thermometer" and "thermometer-elsewhere" in self.wiring:
            return self._connected.model.temperature_C - OUTDOORS_K
        return self._connected.model.temperature_C

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
            return self._connected.current_A if self._attached else 0.0

    @property
    def _attached(self) -> bool:
        return "battery-off" not in self.wiring

    # --- what is done to it ---

    def draw(self, mode: str, setting: float) -> None:
        """Switch the load on. Raises InstrumentError above its ceiling."""
        with self._lock:
            self._set_A = setting
            if "load-open" not in self.wiring and "load-turned" not in self.wiring:
                place = self._place("load")
                self._loads[place].draw(mode, setting * (1.5 if self.has("load", "too-much") else 1.0))
                place.advance(SHORT_S)
            self.load_on = True

    def charge(self, setting_A: float, limit_V: float) -> None:
        """Switch the supply on. Raises InstrumentError above its ceiling."""
        with self._lock:
            self._set_A = setting_A
            if "charger-open" not in self.wiring and "charger-turned" not in self.wiring:
                place = self._place("supply")
                self._chargers[place].charge(setting_A, limit_V)
                place.advance(SHORT_S)
            self.charger_on = True

    def off(self, instrument: str) -> None:
        """Switch the load or the supply off."""
        with self._lock:
            if self.has(instrument, "ignores-off"):
                return
            if instrument == "load":
                self.load_on = False
            else:
                self.charger_on = False
            if self.has(instrument, "lies-off"):
                return
            place = self._place(instrument)
            if (place.mode == "charge") == (instrument == "supply"):
                place.off()
                place.advance(SHORT_S)
                if place is self._connected and "other-load" in self.wiring:
                    self._background()

    def _background(self) -> None:
        self._connected.draw("current", BACKGROUND_A)
        self._connected.advance(SHORT_S)
