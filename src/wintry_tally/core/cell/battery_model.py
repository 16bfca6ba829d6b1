"""A battery that can be drawn from and charged, a step at a time; plain numbers, quick enough for forecasts."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from wintry_tally.core.battery.two_wells import two_wells
from wintry_tally.core.cell.parameters import Parameters, Protection
from wintry_tally.core.room import ROOM_C

_GRID = 400
OVERFULL = 1.03
OVERFULL_V, EMPTY_V = 60.0, 40.0
"""A full lithium pack takes a little more, its voltage rising steeply on charge (V of 12 V, per unit of state of charge)."""
MONTH_H = 30.44 * 24.0
BRANCH_SHARE = 0.05
HOLDS_BACK_C = 0.05
"""Drawn at this rate or above for a while, a cold battery keeps back what the cold takes."""
LEAST_SHARE = 0.15
HOT_RELEASE_K, IDLE_RELEASE_S = 10.0, 20.0
SURFACE_S, SURFACE_SHARE = 3 * 3600.0, 0.003
"""A surface charge is down to a third after so many seconds of rest, or when this share of the capacity has been drawn."""
"""So much of the capacity has to be moved before the rested voltage is on the other branch of the hysteresis."""
_OCV: dict[tuple[tuple[float, float], ...], list[float]] = {}


def rested_curve(points: tuple[tuple[float, float], ...]) -> list[float]:
    """The rested voltage on an even grid of state of charge, its corners rounded."""
    known = _OCV.get(points)
    if known is None:
        x, y = np.array(points).T
        grid = np.linspace(0.0, 1.0, _GRID + 1)
        values = np.interp(grid, x, y)
        padded = np.concatenate([2 * values[0] - values[6:0:-1], values, 2 * values[-1] - values[-2:-8:-1]])
        window = np.hanning(15)[1:-1]
        known = np.convolve(padded, window / window.sum(), mode="valid").tolist()
        _OCV[points] = known
    return known


@dataclass(frozen=True)
class Terminal:
    """What the terminals show: V, A (positive while giving), the case in °C, and whether the protection is open."""

    voltage_V: float
    current_A: float
    temperature_C: float
    open: bool


class BatteryModel:
    """One battery with its state. Currents are positive while it gives.

    `advance` uses the exact two-well solution for a constant current (Manwell & McGowan 1993), so steps may be
    long; with a protection, the cut is looked for at the end of each step, so its delay is as coarse as the step.
    """

    __slots__ = (
        "_curve",
        "_decays",
        "_stride_s",
        "ambient_C",
        "bound_Ah",
        "branch",
        "cold",
        "free_Ah",
        "heating",
        "hot",
        "idle_for_s",
        "low_for_s",
        "open_charge",
        "open_discharge",
        "over_for_s",
        "parameters",
        "slow_V",
        "surface_V",
        "temperature_C",
        "tripped",
    )  # fmt: skip

    def __init__(self, parameters: Parameters, state_of_charge: float = 1.0, ambient_C: float = ROOM_C) -> None:
        self.parameters = parameters
        self._curve = rested_curve(parameters.ocv)
        self.ambient_C = ambient_C
        self.temperature_C = ambient_C
        self.free_Ah = parameters.capacity_Ah * state_of_charge * parameters.available
        self.bound_Ah = parameters.capacity_Ah * state_of_charge * (1.0 - parameters.available)
        self.slow_V = 0.0
        self.open_discharge = False
        self.open_charge = False
        self.low_for_s = 0.0
        self.over_for_s = 0.0
        self.branch = 0.0 if state_of_charge < 0.995 else 1.0
        self.heating = False
        self.cold = self.hot = self.tripped = False
        self.surface_V = self.idle_for_s = 0.0
        self._stride_s, self._decays = math.nan, (0.0, 0.0)

    # --- state as plain data, for the journal of a simulated bench ---

    def snapshot(self) -> dict[str, Any]:
        """The state as plain data."""
        names = ("ambient_C", "temperature_C", "free_Ah", "bound_Ah", "slow_V", "branch", "surface_V")
        flags = (
            "open_discharge",
            "open_charge",
            "low_for_s",
            "over_for_s",
            "heating",
            "cold",
            "hot",
            "tripped",
            "idle_for_s",
        )
        return {name: getattr(self, name) for name in (*names, *flags)}

    def restore(self, state: dict[str, Any]) -> None:
        """Take up a state written by `snapshot`; unknown names are ignored."""
        for name in self.snapshot():
            if name in state:
                setattr(self, name, state[name])

    # --- reading ---

    @property
    def state_of_charge(self) -> float:
        """Share of the capacity at 25 °C that is left."""
        return (self.free_Ah + self.bound_Ah) / self.parameters.capacity_Ah

    def rested_V(self) -> float:
        """Open-circuit voltage once settled."""
        return self._ocv(self.state_of_charge) + self.branch * self.parameters.hysteresis_V

    def rested_V_at(self, state: float) -> float:
        """Open-circuit voltage of the pack at another state of charge (0 to 1), at today's temperature."""
        return self._ocv(state) + self.branch * self.parameters.hysteresis_V

    def _ocv(self, state: float) -> float:
        lost = self._held_back() if self.parameters.available >= 1.0 else 0.0
        x = (state - lost) / (1.0 - lost) if lost else state
        curve = self._curve
        if x >= 1.0:
            return curve[_GRID]
        place = x * _GRID if x > 0.0 else 0.0
        index = int(place)
        below = curve[index]
        value = below + (curve[index + 1] - below) * (place - index)
        return value + EMPTY_V * self.parameters.share * x if x < 0.0 else value

    def _lost_to_cold(self) -> float:
        return min(0.8, self.parameters.capacity_per_K * max(0.0, 25.0 - self.temperature_C))

    def _held_back(self) -> float:
        """What the cold holds back of the charge, as far as current has been drawn for a while: rest gives it back."""
        if self.slow_V <= 0.0 or self.temperature_C >= 25.0:
            return 0.0
        parameters = self.parameters
        drawn = self.slow_V / (parameters.slow_ohm * parameters.capacity_Ah * HOLDS_BACK_C)
        return self._lost_to_cold() * (drawn if drawn < 1.0 else 1.0)

    def _resistance(self) -> float:
        parameters = self.parameters
        return parameters.resistance_ohm * math.exp(parameters.resistance_per_K * (25.0 - self.temperature_C))

    def inner_V(self) -> float:
        """Voltage behind the ohmic resistance, now."""
        parameters = self.parameters
        state = (self.free_Ah + self.bound_Ah) / parameters.capacity_Ah
        value = self._ocv(state) - self.slow_V + self.branch * parameters.hysteresis_V + self.surface_V
        if parameters.concentration_V:
            well = parameters.capacity_Ah * parameters.available
            # what the cold holds back is missing from the available well
            lost = self._held_back()
            share = max(1e-3, (self.free_Ah / well - lost) / (1.0 - lost))
            total = max(1e-3, state)
            # depleted against the bound well, and near empty: acid in the pores gives out
            value -= parameters.concentration_V * max(0.0, total / share - 1.0)
            value -= parameters.concentration_V * 0.25 * max(0.0, 0.12 / share - 1.0)
        return max(value, LEAST_SHARE * self._curve[0]) if parameters.concentration_V else value

    def _on_charge_V(self) -> float:
        """Voltage behind the ohmic resistance while charging: lead-acid rises as it fills."""
        parameters = self.parameters
        value = self.inner_V() - self.surface_V
        if parameters.charge_rise_V:
            filled = min(1.0, self.free_Ah / (parameters.capacity_Ah * parameters.available))
            value += parameters.charge_rise_V * filled**8
        else:
            value += OVERFULL_V * parameters.share * max(0.0, self.free_Ah / parameters.capacity_Ah - 1.0)
        return value

    def terminal_V(self, current_A: float) -> float:
        """Terminal voltage at a current, now; with the protection open, what a sleeping pack shows."""
        if self.open_discharge and current_A >= 0.0:
            protection = self.parameters.protection
            return 0.0 if current_A > 0.0 or protection is None else protection.sleep_V
        if current_A < 0.0:
            return self._on_charge_V() - current_A * self._resistance()
        return self.inner_V() - current_A * self._resistance()

    def current_for(self, mode: str, setting: float) -> float:
        """The current a load in "current" (A), "power" (W) or "resistance" (Ω) mode draws now, A."""
        if mode == "current":
            return setting
        inner, resistance = max(0.0, self.inner_V()), self._resistance()
        if mode == "resistance":
            return inner / (setting + resistance)
        if mode == "power":
            square = inner * inner - 4.0 * resistance * setting
            return (inner - math.sqrt(square)) / (2.0 * resistance) if square > 0.0 else inner / (2.0 * resistance)
        raise ValueError(mode)

    # --- going on ---

    def advance(self, current_A: float, dt_s: float) -> Terminal:
        """Draw (or give, negative) a constant current for dt_s, and say what the terminals show at its end."""
        parameters = self.parameters
        wanted = current_A
        if self.open_discharge and current_A > 0.0:
            current_A = 0.0
        self._let_go(wanted, dt_s)
        if self.open_charge and current_A < 0.0:
            current_A = 0.0
        self._go(current_A, dt_s, 0.0)
        voltage = (self.inner_V() if current_A >= 0.0 else self._on_charge_V()) - current_A * self._resistance()
        if parameters.protection is not None:
            self._protect(voltage, current_A, dt_s)
        flowing = current_A
        if self.open_discharge and current_A >= 0.0:
            flowing = 0.0
            voltage = 0.0 if wanted > 0.0 or parameters.protection is None else parameters.protection.sleep_V
        elif parameters.protection is None and voltage < 0.0:
            voltage = 0.0
        return Terminal(voltage, flowing, self.temperature_C, self.open_discharge)

    def _let_go(self, wanted_A: float, dt_s: float) -> None:
        """An opening for current closes once the load has been off for a while, one for heat once it is cooler."""
        self.idle_for_s = self.idle_for_s + dt_s if wanted_A <= 0.0 else 0.0
        protection = self.parameters.protection
        if not self.tripped or protection is None:
            return
        cool = self.temperature_C < protection.hot_cut_C - HOT_RELEASE_K
        if cool and self.idle_for_s >= IDLE_RELEASE_S:
            self.tripped = self.open_discharge = False

    def charge(self, limit_A: float, limit_V: float, dt_s: float) -> Terminal:
        """A charger of constant current, then constant voltage, for dt_s; a heater is fed first, a block obeyed.

        Steps of more than a minute are cut into minutes: the taper is followed.
        """
        left = dt_s
        seen = Terminal(limit_V, 0.0, self.temperature_C, False)
        while left > 1e-9:
            part = min(left, 60.0)
            seen = self._charge_part(limit_A, limit_V, part)
            left -= part
        return seen

    def _charge_part(self, limit_A: float, limit_V: float, dt_s: float) -> Terminal:
        parameters, protection = self.parameters, self.parameters.protection
        heater = parameters.heater
        if protection is not None:
            self._block(protection)
        if heater is not None:
            if self.temperature_C < heater.on_below_C:
                self.heating = True
            elif self.temperature_C >= heater.off_above_C and not self.cold:
                self.heating = False
            if self.heating:
                fed = min(limit_A, heater.power_W / limit_V)
                self._go(0.0, dt_s, fed * limit_V)
                return Terminal(limit_V, -fed, self.temperature_C, False)
        if protection is not None and self.open_charge:
            self._go(0.0, dt_s, 0.0)
            if self._on_charge_V() <= protection.high_release_V and not self.cold:
                self.open_charge = False
            return Terminal(limit_V, 0.0, self.temperature_C, False)
        resistance = self._resistance() + parameters.charge_ohm
        flowing = min(limit_A, max(0.0, (limit_V - self._on_charge_V()) / resistance))
        leak = min(limit_A - flowing, self._leak_A(limit_V)) if flowing < limit_A else 0.0
        self._go(-flowing, dt_s, 0.0)
        voltage = min(limit_V, self._on_charge_V() + flowing * resistance)
        if flowing <= 0.0 < leak:
            voltage = limit_V
        if protection is not None:
            if self.open_discharge and voltage > protection.low_release_V:
                self.open_discharge = False
            if voltage >= protection.high_cut_V:
                self.open_charge = True
        return Terminal(voltage, -flowing - leak, self.temperature_C, False)

    def _leak_A(self, volts: float) -> float:
        """What gas takes at a voltage, A: tenfold every volt of 12 V (Tafel, in shape; from memory)."""
        parameters = self.parameters
        above = (volts - parameters.ocv[-1][1]) / parameters.share
        return parameters.leak_C * parameters.capacity_Ah * 10.0 ** (above - 0.75) if parameters.leak_C else 0.0

    def _block(self, protection: Protection) -> None:
        if self.temperature_C < protection.cold_block_C:
            self.cold = self.open_charge = True
        elif self.cold and self.temperature_C >= protection.cold_release_C:
            self.cold = self.open_charge = False
        if self.temperature_C >= protection.hot_cut_C:
            self.hot = self.open_charge = True
        elif self.hot and self.temperature_C < protection.hot_cut_C - HOT_RELEASE_K:
            self.hot = self.open_charge = False

    def _go(self, current_A: float, dt_s: float, heat_W: float) -> None:
        """Let time pass at a current: wells, branch, self-discharge, slow sag, warmth."""
        parameters = self.parameters
        taken = current_A
        if current_A < 0.0 and parameters.gassing:
            filled = min(1.0, self.free_Ah / (parameters.capacity_Ah * parameters.available))
            taken = current_A * (1.0 - parameters.gassing * filled**8)
        if parameters.self_discharge_month and self.free_Ah + self.bound_Ah > 0.0:
            warm = 2.0 ** (0.1 * (self.temperature_C - 25.0))
            taken += parameters.capacity_Ah * parameters.self_discharge_month * warm / MONTH_H
        self._wells(taken, dt_s / 3600.0)
        if current_A != 0.0 and parameters.hysteresis_V:
            moved = current_A * dt_s / (3600.0 * BRANCH_SHARE * parameters.capacity_Ah)
            self.branch = min(1.0, max(0.0, self.branch - moved))
        if dt_s != self._stride_s:
            tau = parameters.mass_kg * parameters.heat_J_kgK / parameters.loss_W_K
            self._stride_s, self._decays = dt_s, (math.exp(-dt_s / parameters.slow_s), math.exp(-dt_s / tau))
        target = current_A * parameters.slow_ohm
        self.slow_V = target + (self.slow_V - target) * self._decays[0]
        self._surface(current_A, dt_s)
        self._heat(current_A, heat_W)

    def _surface(self, current_A: float, dt_s: float) -> None:
        """A charge leaves the plates' faces fuller than their inside: it levels out in hours, or goes with the first draw."""
        parameters = self.parameters
        if not parameters.surface_V:
            return
        if current_A < 0.0:
            filled = min(1.0, max(0.0, self.free_Ah / (parameters.capacity_Ah * parameters.available)))
            self.surface_V = parameters.surface_V * filled**8
        elif self.surface_V:
            moved = current_A * dt_s / (3600.0 * SURFACE_SHARE * parameters.capacity_Ah)
            self.surface_V *= math.exp(-dt_s / SURFACE_S - moved)

    def _wells(self, current_A: float, hours: float) -> None:
        parameters = self.parameters
        share = parameters.available
        if share >= 1.0:
            free, most = self.free_Ah - current_A * hours, OVERFULL * parameters.capacity_Ah
            self.free_Ah = free if free < most else most
            return
        total = self.free_Ah + self.bound_Ah
        free, _bound = two_wells(self.free_Ah, self.bound_Ah, current_A, hours, share, parameters.exchange_per_h)
        total = max(0.0, min(total - current_A * hours, parameters.capacity_Ah))
        self.free_Ah = max(0.0, min(free, parameters.capacity_Ah * share))
        self.free_Ah = min(self.free_Ah, total)
        self.bound_Ah = total - self.free_Ah

    def _heat(self, current_A: float, heat_W: float) -> None:
        parameters = self.parameters
        heat = heat_W + current_A * current_A * (self._resistance() + parameters.slow_ohm)
        settled = self.ambient_C + heat / parameters.loss_W_K
        self.temperature_C = settled + (self.temperature_C - settled) * self._decays[1]

    def _protect(self, voltage: float, current_A: float, dt_s: float) -> None:
        protection = self.parameters.protection
        assert protection is not None
        self.low_for_s = self.low_for_s + dt_s if voltage <= protection.low_cut_V else 0.0
        self.over_for_s = self.over_for_s + dt_s if current_A >= protection.over_current_A else 0.0
        over = bool(self.over_for_s) and self.over_for_s >= protection.over_delay_s
        hot = self.temperature_C >= protection.hot_cut_C
        if self.low_for_s >= protection.delay_s or over or hot:
            self.tripped = (over or hot) and not self.low_for_s >= protection.delay_s
            self.open_discharge = True
        elif self.open_discharge and current_A < 0.0 and voltage > protection.low_release_V:
            self.open_discharge = False
        self._block(protection)
        if voltage >= protection.high_cut_V:
            self.open_charge = True
        elif self.open_charge and not self.cold and self._on_charge_V() <= protection.high_release_V:
            self.open_charge = False
