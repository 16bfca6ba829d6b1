"""Many batteries of one family at once, as they differ in the world: what a run so far leaves of them, and how they go on.

Each member has a capacity, resistances, a curve, wells and a charge at the start drawn from the family; all are followed
with the run's own current as arrays. The same physics as `core.cell.BatteryModel` (two wells after Manwell & McGowan,
Solar Energy 50 (1993), from memory), without its protection.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wintry_tally.core.battery.families import Family
from wintry_tally.core.cell import Parameters
from wintry_tally.core.cell.battery_model import rested_curve

Members = NDArray[np.float64]

NAMES = ("capacity", "ohm", "slow", "slow_s", "offset", "stretch", "bend", "full", "wells", "exchange", "sag", "rise", "gas", "limit", "met", "leak", "since")  # fmt: skip
"""What members differ in, each a standard normal number: see `Ensemble.of`."""
PLACE = {name: place for place, name in enumerate(NAMES)}
OHM, SLOW, SLOW_S = 0.55, 0.6, 0.5
WELLS, EXCHANGE, SAG, RISE, GAS, LIMIT_V = 0.5, 0.5, 0.9, 0.15, 0.4, 0.08
OVERFULL, OVERFULL_V = 1.03, 60.0
FULL_ABOVE_V = 0.05
SURE, ODDLY = 1.5, 0.15
"""What is said of the charge at the start may be altogether wrong now and then."""
BROKE = 2.0
"""And a battery may have lost a cell since it was last tested."""
LEAK, LEAK_V = 0.6, 0.75
MIDDLE = 0.5
EMPTY_V = 40.0


@lru_cache(maxsize=64)
def _rested(points: tuple[tuple[float, float], ...]) -> tuple[Members, Members]:
    """An even grid of state of charge, and the rested voltage on it."""
    curve = np.array(rested_curve(points))
    return np.linspace(0.0, 1.0, len(curve)), curve


def _beyond(normal: Members) -> Members:
    """Nothing within what is usual; beyond, the square of how far."""
    found: Members = np.maximum(0.0, np.abs(normal) - SURE) ** 2 * np.sign(normal)
    return found


@dataclass
class Ensemble:
    """Members as arrays of one length; voltages of the whole pack. `raw`: the standard normal numbers they came from."""

    raw: Members
    usual: Parameters
    capacity_Ah: Members
    ohm: Members
    slow_ohm: Members
    slow_s: Members
    offset_V: Members
    stretch: Members
    bend: Members
    wells: Members
    exchange: Members
    sag_V: Members
    rise_V: Members
    gas: Members
    limit_V: Members
    free: Members
    bound: Members
    slow_V: Members
    celsius: float

    @classmethod
    def of(
        cls,
        raw: Members,
        family: Family,
        rated_Ah: float,
        usual: Parameters,
        start: tuple[float, float],
        limit_V: tuple[float, float],
        celsius: float,
        since: float = 0.0,
    ) -> Ensemble:
        """Members from standard normal numbers, one row each.

        `start`: mean and deviation of the charge at the start (above 1 is full); `limit_V`: of a charger's limit;
        `since`: what its capacity may have changed by since then, as a share, one standard deviation.
        """
        spread = family.spreads

        def drawn(name: str) -> Members:
            return raw[:, PLACE[name]]

        changed = since * (drawn("since") + BROKE * _beyond(drawn("since")))
        share = np.exp(spread.capacity * drawn("capacity") + changed)
        capacity = usual.capacity_Ah * share
        # what is colder than 25 °C holds less
        capacity = capacity * (1.0 - min(0.6, usual.capacity_per_K * max(0.0, 25.0 - celsius)))
        full = np.clip(start[0] + start[1] * drawn("full") + ODDLY * _beyond(drawn("full")), 0.01, 1.0)
        odds = usual.available / (1.0 - usual.available) if usual.available < 1.0 else math.inf
        wells = np.ones(len(raw)) if math.isinf(odds) else 1.0 / (1.0 + np.exp(-WELLS * drawn("wells")) / odds)
        cold = math.exp(usual.resistance_per_K * (25.0 - celsius))
        volts = family.plausible_V[1] / 14.6
        return cls(
            raw, usual, capacity, usual.resistance_ohm * cold * np.exp(OHM * drawn("ohm")),
            usual.slow_ohm * cold * np.exp(SLOW * drawn("slow")), usual.slow_s * np.exp(SLOW_S * drawn("slow_s")),
            volts * spread.offset * drawn("offset"), np.exp(spread.stretch * drawn("stretch")),
            np.exp(spread.bend * drawn("bend")), wells, usual.exchange_per_h * np.exp(EXCHANGE * drawn("exchange")),
            usual.concentration_V * np.exp(SAG * drawn("sag")), usual.charge_rise_V * np.exp(RISE * drawn("rise")),
            np.clip(usual.gassing * np.exp(GAS * drawn("gas")), 0.0, 0.95), limit_V[0] + limit_V[1] * drawn("limit"),
            capacity * full * wells, capacity * full * (1.0 - wells), np.zeros(len(raw)), celsius,
        )  # fmt: skip

    def picked(self, keep: NDArray[np.int64]) -> Ensemble:
        """Some of the members, one as often as its number stands there."""
        arrays: dict[str, Any] = {
            name: value[keep] for name, value in vars(self).items() if isinstance(value, np.ndarray)
        }
        return replace(self, **arrays)

    @property
    def state(self) -> Members:
        """Share of each one's charge that is left."""
        return (self.free + self.bound) / self.capacity_Ah

    def inner_V(self, charging: bool) -> Members:
        """Behind the ohmic resistance."""
        even, curve = _rested(self.usual.ocv)
        state = self.state
        place = np.clip(state, 0.0, 1.0) ** self.bend
        volts: Members = np.interp(place, even, curve)
        middle = curve[int(MIDDLE * (len(curve) - 1))]
        volts = middle + self.stretch * (volts - middle) + self.offset_V - self.slow_V
        volts = volts - EMPTY_V * self.usual.share * np.maximum(0.0, -state)
        if self.usual.concentration_V:
            share = np.maximum(1e-3, self.free / (self.capacity_Ah * self.wells))
            sag = np.maximum(0.0, np.maximum(1e-3, state) / share - 1.0)
            volts = volts - self.sag_V * sag - 0.25 * self.sag_V * np.maximum(0.0, 0.12 / share - 1.0)
        if charging:
            if self.usual.charge_rise_V:
                filled = np.clip(self.free / (self.capacity_Ah * self.wells), 0.0, 1.0)
                # whatever its rise, a full one takes next to nothing at the charger's limit
                top = middle + self.stretch * (curve[-1] - middle) + self.offset_V
                volts = (
                    volts + np.maximum(self.rise_V, self.limit_V + FULL_ABOVE_V * self.usual.share - top) * filled**8
                )
            else:
                volts = volts + OVERFULL_V * self.usual.share * np.maximum(0.0, self.free / self.capacity_Ah - 1.0)
        return volts

    def met_ohm(self, charging: bool) -> Members:
        """What a current meets in each, and a charge more."""
        if not charging or not self.usual.charge_ohm:
            return self.ohm
        return self.ohm + self.usual.charge_ohm * np.exp(OHM * self.raw[:, PLACE["met"]])

    def slow_ohm_at(self, after_s: float) -> Members:
        """What the slow part of each one's resistance has grown to so long after a step."""
        grown: Members = self.slow_ohm * (1.0 - np.exp(-after_s / self.slow_s))
        return grown

    def drawn_at(self, mode: str, setting: float) -> Members:
        """The current that a load draws of each: at constant "current", "power" or "resistance"."""
        if mode == "current":
            return np.full(len(self.ohm), setting)
        inner = np.maximum(0.1, self.inner_V(False))
        if mode == "resistance":
            return inner / (setting + self.ohm)
        square = np.maximum(0.0, inner**2 - 4.0 * self.ohm * setting)
        return (inner - np.sqrt(square)) / (2.0 * self.ohm)

    def charged_at(self, limit_A: float) -> Members:
        """The current that a charger puts into each, negative: its limit of current, or what each takes at the voltage."""
        return -np.clip((self.limit_V - self.inner_V(True)) / self.met_ohm(True), 0.0, limit_A)

    def leak_A(self) -> Members:
        """What gas takes at the charger's limit beside, A: tenfold every volt of 12 V."""
        if not self.usual.leak_C:
            return np.zeros(len(self.raw))
        above = (self.limit_V - self.usual.ocv[-1][1]) / self.usual.share
        taken = self.usual.leak_C * self.capacity_Ah * 10.0 ** (above - LEAK_V)
        leak: Members = taken * np.exp(LEAK * self.raw[:, PLACE["leak"]])
        return leak

    def go(self, amps: Members | float, seconds: float) -> None:
        """Let time pass at a current, positive while drawn."""
        hours = seconds / 3600.0
        taken = np.broadcast_to(np.asarray(amps, dtype=float), self.free.shape)
        flowing = taken
        if self.usual.gassing:
            filled = np.clip(self.free / (self.capacity_Ah * self.wells), 0.0, 1.0)
            taken = np.where(taken < 0.0, taken * (1.0 - self.gas * filled**8), taken)
        if self.usual.available >= 1.0:
            self.free = np.minimum(self.free - taken * hours, OVERFULL * self.capacity_Ah)
        else:
            total = self.free + self.bound
            decay = np.exp(-self.exchange * hours)
            free = self.free * decay + (total * self.exchange * self.wells - taken) * (1.0 - decay) / self.exchange
            free = free - taken * self.wells * (self.exchange * hours - 1.0 + decay) / self.exchange
            total = np.minimum(total - taken * hours, self.capacity_Ah)
            self.free = np.clip(free, 0.0, self.capacity_Ah * self.wells)
            self.bound = total - self.free
        target = flowing * self.slow_ohm
        self.slow_V = target + (self.slow_V - target) * np.exp(-seconds / self.slow_s)
