"""What every trial on a stranger's battery is made of: a claim drawn round the truth, a battery, a meter, its logs."""

from __future__ import annotations

from dataclasses import dataclass
from random import Random
from typing import Any

from benchmarks.apart import Battery, Log, Meter

LOW = {"lfp": 10.5, "nmc": 12.0}
LIMIT = {"lfp": 14.4, "nmc": 16.8}


@dataclass(frozen=True)
class Trial:
    """A claim on a battery with the logs of its test; `far`: by what share of it the truth lies from the claim."""

    battery: Battery
    meter: Meter
    claim: dict[str, Any]
    method: str
    logs: tuple[Log, ...]
    holds: bool
    far: float
    warm: bool | None = None


def battery_of(dice: Random, *families: str) -> Battery:
    family = dice.choice(families or ("lfp", "lfp", "nmc", "agm", "gel", "flooded"))
    rated = dice.choice([45.0, 60.0, 75.0, 100.0] if family == "flooded" else [7.0, 12.0, 20.0, 50.0, 100.0])
    return Battery(dice, family, rated, dice.uniform(0.8, 1.06), dice.uniform(19, 27))


def meter_for(dice: Random, amps: float) -> Meter:
    digit_A = dice.choice([0.01, 0.01, 0.001] if amps < 20 else [0.01, 0.1])
    gains = dice.choice([0.001, 0.003, 0.005]), dice.choice([0.004, 0.008, 0.01])
    return Meter(dice, *gains, dice.choice([2, 3, 5]), dice.choice([0.01, 0.001]), digit_A)


def usual_A(battery: Battery) -> float:
    return battery.rated_Ah * (0.2 if battery.lithium else 0.05)


def said(dice: Random, truth: float, spread: float = 0.06) -> float:
    return float(f"{truth * (1.0 + dice.uniform(-spread, spread)):.3g}")
