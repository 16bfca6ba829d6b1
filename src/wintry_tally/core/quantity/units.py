"""Units people write, each with the dimension it measures and its factor to the unit kept."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Unit:
    """A written unit: kept value = written value × factor + shift."""

    dimension: str
    factor: float
    shift: float = 0.0


KEPT = {
    "voltage": "V",
    "current": "A",
    "power": "W",
    "charge": "Ah",
    "energy": "Wh",
    "duration": "s",
    "temperature": "°C",
    "mass": "kg",
    "length": "mm",
    "resistance": "Ω",
    "share": "%",
    "money": "money",
    "c-rate": "C",
    "count": "",
    "monthly share": "%/month",
}
"""The unit each dimension is kept in."""

_TABLE: dict[str, Unit] = {}


def _put(dimension: str, **factors: float) -> None:
    for name, factor in factors.items():
        _TABLE[name.lower()] = Unit(dimension, factor)


_put("voltage", V=1, mV=1e-3, kV=1e3, volt=1, volts=1, Vdc=1)
_put("current", A=1, mA=1e-3, kA=1e3, amp=1, amps=1, ampere=1, amperes=1)
_put("power", W=1, mW=1e-3, kW=1e3, watt=1, watts=1)
_put("charge", Ah=1, mAh=1e-3, amphours=1)
_put("energy", Wh=1, mWh=1e-3, kWh=1e3, J=1 / 3600, kJ=1 / 3.6, MJ=1e3 / 3.6)
_put("duration", s=1, sec=1, second=1, seconds=1, ms=1e-3, min=60, mins=60, minute=60, minutes=60)
_put("duration", h=3600, hr=3600, hrs=3600, hour=3600, hours=3600, d=86400, day=86400, days=86400)
_put("duration", week=604800, weeks=604800, month=30.44 * 86400, months=30.44 * 86400)
_put("duration", year=365.25 * 86400, years=365.25 * 86400)
_put("mass", kg=1, g=1e-3, lb=0.45359237, lbs=0.45359237, oz=0.028349523125, pounds=0.45359237)
_put("length", mm=1, cm=10, m=1000, inch=25.4, inches=25.4)
_put("resistance", ohm=1, ohms=1, mohm=1e-3)
_put("c-rate", C=1)
CURRENCIES = ("EUR", "USD", "GBP", "CHF", "NOK", "SEK", "DKK", "PLN", "CZK", "CAD", "AUD", "NZD", "JPY", "INR", "CNY")
"""Codes of ISO 4217 (from memory) that are known when they are met; others are kept as they are written."""
SIGNS_OF_MONEY = {"€": "EUR", "$": "USD", "£": "GBP"}
_put("money", money=1, **dict.fromkeys(CURRENCIES, 1))
_put("count", cycles=1, cycle=1, pcs=1)
for _sign in ("in", '"', "″"):
    _TABLE[_sign] = Unit("length", 25.4)
for _sign in ("°c", "degc", "℃"):
    _TABLE[_sign] = Unit("temperature", 1.0)
for _sign in ("°f", "degf", "℉"):
    _TABLE[_sign] = Unit("temperature", 5 / 9, -160 / 9)
_TABLE["°k"] = Unit("temperature", 1.0, -273.15)
for _sign in SIGNS_OF_MONEY:
    _TABLE[_sign] = Unit("money", 1.0)
_TABLE["%"] = Unit("share", 1.0)
_TABLE["%/month"] = Unit("monthly share", 1.0)
_TABLE["ω"] = Unit("resistance", 1.0)
_TABLE["mω"] = Unit("resistance", 1e-3)


def find_unit(text: str, dimension: str = "") -> Unit | None:
    """The unit written so, or None; `dimension` settles a sign with two meanings ("C") or none by itself ("K")."""
    name = " ".join(text.split()).lower().replace("µ", "u").rstrip(".")
    if name in {"c", "f", "k"} and dimension == "temperature":
        name = f"°{name}"
    return _TABLE.get(name) or _TABLE.get(name.replace(" ", "")) or _TABLE.get(name.replace("-", ""))


def in_unit(kept: float, unit: str) -> float:
    """A kept value in another unit of its dimension (5760 s in min: 96); as it stands where the unit is the kept one."""
    found = find_unit(unit) if unit in {"min", "h", "months", "years"} else None
    return kept if found is None else (kept - found.shift) / found.factor


def units_of(dimension: str) -> list[str]:
    """Every accepted spelling for a dimension, for an error's mend."""
    return [name for name, unit in _TABLE.items() if unit.dimension == dimension]
