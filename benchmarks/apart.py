"""A battery, a meter and a logger written apart from the application's own: nothing here imports it.

The battery is an open-circuit curve over charge, an ohmic and two RC parts, a charge near the plates that lags behind
(what makes the voltage come back after a load), Peukert for lead-acid and a share lost in the cold. Numbers are from
memory and drawn within what batteries differ by; they are not the house's model, and are meant not to be.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from random import Random

CURVES = {
    "lfp": (
        [0, 0.01, 0.03, 0.06, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 0.95, 0.98, 1.0],
        [2.50, 2.75, 2.98, 3.12, 3.19, 3.235, 3.27, 3.288, 3.295, 3.302, 3.322, 3.332, 3.338, 3.345, 3.40, 3.68],
    ),
    "nmc": (
        [0, 0.02, 0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0],
        [3.0, 3.25, 3.42, 3.53, 3.60, 3.64, 3.68, 3.74, 3.84, 3.93, 4.02, 4.10, 4.19],
    ),
}
"""V a cell over the share of charge; packs of four."""


def _between(at: list[float], values: list[float], x: float) -> float:
    """A curve's value, straight between its points; of one number numpy.interp takes ten times as long."""
    above = bisect_right(at, x)
    if above in {0, len(at)}:
        return values[0] if above == 0 else values[-1]
    share = (values[above] - values[above - 1]) / (at[above] - at[above - 1])
    return values[above - 1] + share * (x - at[above - 1])


class Battery:
    """One battery; `cut_V`: where its protection opens on discharge, None for lead-acid."""

    def __init__(self, dice: Random, family: str, rated_Ah: float, health: float = 1.0, celsius: float = 23.0) -> None:
        self.family, self.rated_Ah, self.celsius = family, rated_Ah, celsius
        self.holds_Ah, self.charged = rated_Ah * health, 1.0
        self.lithium = family in CURVES
        self.ohm = dice.uniform(0.15, 0.35) / rated_Ah if self.lithium else dice.uniform(0.25, 0.45) / rated_Ah
        self.slow = [(self.ohm * dice.uniform(0.3, 0.9), dice.uniform(20, 90)), (self.ohm * dice.uniform(0.3, 1.1), dice.uniform(400, 2500))]  # fmt: skip
        self.over = [0.0, 0.0]
        self.lag, self.lags_by, self.lag_s = 0.0, dice.uniform(0.06, 0.14), dice.uniform(200, 700)
        self.peukert = dice.uniform(1.08, 1.22)
        low, high = {"lfp": (9.2, 10.8), "nmc": (11.2, 12.4)}.get(family, (0.0, 0.0))
        self.cut_V = dice.uniform(low, high) if self.lithium else None

    def gives_Ah(self, amps: float) -> float:
        """What a full one gives at a current, at its temperature."""
        kelvin = self.celsius - 25.0
        if self.lithium:
            warm = max(0.4, 1.0 + (0.004 if kelvin < 0 else 0.001) * kelvin)
            return (
                self.holds_Ah
                * warm
                * (1.0 - 0.012 * math.log2(max(amps, 0.02 * self.rated_Ah) / (0.2 * self.rated_Ah)))
            )
        usual = self.rated_Ah / 20.0
        return self.holds_Ah * (1.0 + 0.007 * kelvin) * (max(amps, 0.3 * usual) / usual) ** (1.0 - self.peukert)

    @property
    def open_V(self) -> float:
        """Without current."""
        near = self.charged - self.lag
        if self.lithium:
            return 4.0 * (_between(*CURVES[self.family], near) - 40.0 * max(0.0, -near))
        knee = 1.1 * math.exp(-max(0.0, near) / 0.03) + 40.0 * max(0.0, -near)
        gassing = 16.0 * max(0.0, min(1.05, self.charged) - 0.86) if self.lag < -1e-4 else 0.0
        return 11.85 + 0.98 * max(-0.2, near) - knee + 0.25 * math.exp(-(1.0 - min(1.0, near)) / 0.02) + gassing

    def volts(self, amps: float) -> float:
        """At its terminals, with what the last currents left behind."""
        cold = 1.0 + 0.02 * max(0.0, 25.0 - self.celsius)
        volts = self.open_V - cold * (amps * self.ohm + sum(self.over))
        if not self.lithium and amps > 0:
            volts -= cold * amps * self.ohm * 0.175 * (1.0 / max(0.02, self.charged + 0.02) - 1.0)
        return volts

    def step(self, amps: float, seconds: float) -> float:
        """Its voltage after some seconds of a current, drawn positive."""
        for part, (ohm, tau_s) in enumerate(self.slow):
            stays = math.exp(-seconds / tau_s)
            self.over[part] = self.over[part] * stays + amps * ohm * (1.0 - stays)
        if amps > 0:
            self.charged -= amps * seconds / 3600.0 / self.gives_Ah(amps)
        else:
            taken = 0.998 if self.lithium else 1.0 if self.charged < 0.85 else 0.8
            self.charged -= amps * taken * seconds / 3600.0 / self.holds_Ah
        stays = math.exp(-seconds / self.lag_s)
        self.lag = self.lag * stays + max(-0.02, amps / self.rated_Ah * self.lags_by) * (1.0 - stays)
        return self.volts(amps)


@dataclass
class Meter:
    """Gains and zeros drawn from what its manual says, its noise and its digits."""

    dice: Random
    gain_V: float = 0.003
    gain_A: float = 0.008
    digits_A: int = 3
    digit_V: float = 0.01
    digit_A: float = 0.01

    def __post_init__(self) -> None:
        def within(limit: float) -> float:
            return limit * self.dice.uniform(-1.0, 1.0)

        self.times_V, self.off_V = 1.0 + within(self.gain_V), within(1.8 * self.digit_V)
        self.times_A, self.off_A = 1.0 + within(self.gain_A), within(0.9 * self.digits_A * self.digit_A)
        self.noise_V, self.noise_A = 0.6 * self.digit_V * self.dice.random(), self.digit_A * self.dice.random()

    @property
    def said(self) -> dict[str, str]:
        """Its accuracy, as options of an evidence."""
        return {
            "voltage_accuracy": f"{100 * self.gain_V:g}%+2d",
            "current_accuracy": f"{100 * self.gain_A:g}%+{self.digits_A}d",
        }

    def read(self, volts: float, amps: float) -> tuple[float, float]:
        """What it shows."""
        shown_V = volts * self.times_V + self.off_V + self.dice.gauss(0.0, self.noise_V)
        shown_A = amps * self.times_A + self.off_A + self.dice.gauss(0.0, self.noise_A)
        return round(shown_V / self.digit_V) * self.digit_V, round(shown_A / self.digit_A) * self.digit_A


@dataclass
class Log:
    """What was read, and what truly flowed."""

    rows: list[tuple[float, float, float, float]] = field(default_factory=list)
    drawn_Ah: float = 0.0
    drawn_Wh: float = 0.0
    drawn_s: float = 0.0
    put_Wh: float = 0.0

    @property
    def ends_s(self) -> float:
        return self.rows[-1][0] if self.rows else 0.0


@dataclass(frozen=True)
class Part:
    """A stretch of a test: at most so many seconds, a current drawn (or, negative, put in), a voltage that ends or limits it.

    Parts:
        taper_A: a charge ends where its current has fallen to this; opens_V: or where the pack's protection opens; ripple: of the load, as a share; ramp_s: until it is on.
    """

    amps: float = 0.0
    seconds: float = 1e9
    volts: float | None = None
    taper_A: float = 0.0
    opens_V: float = float("inf")
    ripple: float = 0.0
    ramp_s: float = 0.0


def run(battery: Battery, parts: list[Part], meter: Meter, every_s: float, step_s: float) -> Log:
    """A test, part after part, read by a meter; where the protection opens the terminals are dead for half a minute."""
    log, now, due = Log(), 0.0, 0.0

    def logged(volts: float, amps: float) -> None:
        nonlocal due
        while due <= now + 1e-9:
            log.rows.append((due, *meter.read(volts, amps), battery.celsius))
            due += every_s

    for part in parts:
        begun, opened = now, False
        while now - begun < part.seconds:
            amps = part.amps
            if amps > 0:
                amps *= min(1.0, (now - begun + step_s) / max(1e-3, part.ramp_s)) * (
                    1.0 + meter.dice.gauss(0.0, part.ripple)
                )
            elif amps < 0:
                cold = 1.0 + 0.02 * max(0.0, 25.0 - battery.celsius)
                most = ((part.volts or 0.0) - battery.open_V + cold * sum(battery.over)) / (cold * battery.ohm)
                full = battery.charged >= (1.0 if battery.lithium else 1.04)
                amps = 0.0 if full else -max(0.0, min(-amps, most))
            volts, ends = battery.step(amps, step_s), False
            if amps > 0:
                log.drawn_Ah += amps * step_s / 3600.0
                log.drawn_Wh += amps * volts * step_s / 3600.0
                log.drawn_s += step_s
                opened = battery.cut_V is not None and volts < battery.cut_V
                ends = opened or (part.volts is not None and volts < part.volts)
            elif part.amps < 0:
                log.put_Wh -= amps * volts * step_s / 3600.0
                ends = -amps <= part.taper_A or volts >= part.opens_V
            logged(0.0 if opened else volts, 0.0 if opened else amps)
            now += step_s
            if ends:
                break
        for _ in range(round(30.0 / step_s) if opened else 0):
            logged(0.3 * meter.dice.random(), 0.0)
            now += step_s
    return log


def goes_on(
    log: Log, battery: Battery, meter: Meter, seconds: float, every_s: float, volts: float | None = None
) -> None:
    """Readings without current behind a log: of the battery, or of a voltage that stands at its terminals."""
    for _ in range(round(seconds / every_s)):
        shown = meter.read(battery.step(0.0, every_s) if volts is None else volts, 0.0)
        log.rows.append((log.ends_s + every_s, *shown, battery.celsius))


STYLES = {
    "plain": ("Time (s)", "Voltage (V)", "Current (A)"),
    "iso": ("Timestamp", "Volts [V]", "Amps [A]"),
    "comma": ("Zeit (s)", "Spannung (V)", "Strom (A)"),
    "clock": ("Elapsed (h:mm:ss)", "U (V)", "I (A)"),
    "epoch": ("unix time (s)", "battery voltage (V)", "battery current (A)"),
    "milli": ("ms", "mV", "mA"),
    "minutes": ("t [min]", "Ubat [V]", "Ibat [A]"),
    "bare": ("sec", "volt", "ampere"),
}
"""How loggers head their columns."""


def write(log: Log, path: Path, meter: Meter, style: str = "", celsius: bool | None = None) -> None:
    """The log as one of the loggers writes it, discharges of either sign, with or without a thermometer."""
    dice = meter.dice
    style = style or dice.choice(list(STYLES))
    sign, warm = dice.choice([1, -1]), dice.random() < 0.4 if celsius is None else celsius
    begun = datetime(2027, 1, dice.randint(4, 20), dice.randint(6, 20), dice.randint(0, 59), dice.randint(0, 59))
    places_V, places_A = (max(0, -round(math.log10(digit))) for digit in (meter.digit_V, meter.digit_A))
    mark, lines = (";" if style == "comma" else ","), ["Bench logger, unit 3", ""] if style == "bare" else []
    lines.append(mark.join([*STYLES[style], *(["T (°C)"] if warm else [])]))
    for at, volts, amps, around in log.rows:
        if style == "iso":
            clock = (begun + timedelta(seconds=at)).isoformat(timespec="milliseconds")
        elif style == "clock":
            clock = f"{int(at // 3600)}:{int(at % 3600 // 60):02d}:{at % 60:06.3f}"
        else:
            clock = {"epoch": f"{1.8e9 + at:.1f}", "milli": f"{1000 * at:.0f}", "minutes": f"{at / 60:.5f}"}.get(
                style, f"{at:.2f}"
            )
        if style == "milli":
            cells = [clock, f"{1000 * volts:.0f}", f"{1000 * sign * amps:.0f}"]
        else:
            cells = [clock, f"{volts:.{places_V}f}", f"{sign * amps:.{places_A}f}"]
        cells += [f"{around + dice.gauss(0.0, 0.1):.1f}"] if warm else []
        lines.append(mark.join(cell.replace(".", ",") if style == "comma" else cell for cell in cells))
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
