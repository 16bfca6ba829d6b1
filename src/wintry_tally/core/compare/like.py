"""Like with like: what differs between two figures' conditions, and what that likely did to the second."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wintry_tally.core.battery import Family
from wintry_tally.core.battery.families import charge_state_at
from wintry_tally.core.compare.figures import Figure
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.verdict.effects import LIKE_KELVIN, LIKE_RATE, LONG_PER_KELVIN, LONG_S

RESTED_ALIKE = 2.0
REST_SHARE = 0.005
"""Runs that rested more than twice as long as each other may differ by so much; common practice, no published source."""
END_ALIKE_V, SAG_V = 0.15, 0.3
AGE_ALIKE_DAYS = 90.0
AMOUNTS = ("charge", "energy", "usable", "energy-mass", "energy-volume")
PRICES = ("price-charge", "price-energy", "price-delivered")
BY_RESISTANCE = ("resistance", "sag")
RESISTANCE_PER_K = (0.015, 0.008)
"""Relative resistance per kelvin of cold, any family; common practice, no published source."""
STEP_ALIKE = 2.0
SAG_V_PER_C, SAG_DOUBT = 0.5, 0.5
"""How much lower the mean voltage of a 12 V pack lies for each C of rate, and the doubt of it as a share of it."""
RATE_OHM_SHARE = 0.05
UNKNOWN_K = 5.0
"""A room that nobody measured is so far from the other's, one standard deviation. All of these: common practice."""


@dataclass(frozen=True)
class Apart:
    """One condition that differs: its name, both values, and what to add to the second so that it is like the first.

    `effect`: in the figure's unit; None where nothing can be estimated of it.
    """

    condition: str
    first: str
    second: str
    effect: Quantity | None


def apart(family: Family, first: Figure, second: Figure) -> list[Apart]:
    """What differs between two figures of one quantity; nothing for those that no condition touches."""
    kind = second.quantity.split()[0]
    one, other, value = first.at, second.at, second.value
    found: list[Apart] = []
    # a price per Ah falls where the charge rises
    way = 1.0 if kind in AMOUNTS else -1.0 if kind in PRICES else 0.0

    def put(name: str, a: str, b: str, share: float, spread: float, known: bool = True) -> None:
        effect = Quantity(value.value * share, abs(value.value) * spread, value.unit) if known else None
        found.append(Apart(name, a, b, effect))

    if one.c_rate and other.c_rate and abs(other.c_rate / one.c_rate - 1.0) > LIKE_RATE:
        exponent, doubt = family.peukert
        change = (other.c_rate / one.c_rate) ** (exponent - 1.0) - 1.0
        spread = abs(math.log(other.c_rate / one.c_rate)) * doubt
        told = (f"{one.c_rate:.3g} C", f"{other.c_rate:.3g} C")
        if kind == "mean-voltage":
            sag = SAG_V_PER_C * family.nominal_V / 12.8 * (other.c_rate - one.c_rate)
            put("rate", *told, sag / value.value, SAG_DOUBT * abs(sag) / abs(value.value))
        elif kind in BY_RESISTANCE:
            put("rate", *told, 0.0, RATE_OHM_SHARE)
        else:
            put("rate", *told, way * change, spread, bool(way))
    if one.temperature_C is not None and other.temperature_C is not None:
        kelvin = one.temperature_C - other.temperature_C
        if abs(kelvin) > LIKE_KELVIN:
            slope, doubt = family.per_kelvin
            if not family.lithium and other.duration_s >= LONG_S:
                slope, doubt = LONG_PER_KELVIN
            if kind in BY_RESISTANCE:
                slope, doubt = -RESISTANCE_PER_K[0], RESISTANCE_PER_K[1]
            sign = way or (1.0 if kind in BY_RESISTANCE else 0.0)
            put("temperature", f"{one.temperature_C:.0f} °C", f"{other.temperature_C:.0f} °C", sign * slope * kelvin, doubt * abs(kelvin), bool(sign))  # fmt: skip
    elif (one.temperature_C is None) != (other.temperature_C is None):
        slope = RESISTANCE_PER_K[0] if kind in BY_RESISTANCE else family.per_kelvin[0]
        told = (_celsius(one.temperature_C), _celsius(other.temperature_C))
        put("temperature", *told, 0.0, slope * UNKNOWN_K, bool(way) or kind in BY_RESISTANCE)
    if one.rest_s is not None and other.rest_s is not None and way:
        longer = max(one.rest_s, other.rest_s) / max(60.0, min(one.rest_s, other.rest_s))
        if longer > RESTED_ALIKE:
            put("rest", f"{one.rest_s / 3600:.3g} h", f"{other.rest_s / 3600:.3g} h", 0.0, REST_SHARE)
    own = (one.end, other.end) == ("protection", "protection")
    if (
        way
        and not own
        and one.end_V is not None
        and other.end_V is not None
        and abs(one.end_V - other.end_V) > END_ALIKE_V * family.share
    ):
        _ends(family, first, second, way, put)
    if one.step_s is not None and other.step_s is not None:
        longer = max(one.step_s, other.step_s) / max(0.05, min(one.step_s, other.step_s))
        if longer > STEP_ALIKE:
            put("time after the step", f"{one.step_s:.2g} s", f"{other.step_s:.2g} s", 0.0, 0.15)
    if one.started is not None and other.started is not None:
        days = abs((one.started - other.started).total_seconds()) / 86400.0
        if days > AGE_ALIKE_DAYS:
            put("age", f"{one.started:%d %b %Y}", f"{other.started:%d %b %Y}", 0.0, 0.0, known=False)
    return found


def _celsius(value: float | None) -> str:
    return "not known" if value is None else f"{value:.0f} °C"


def _ends(family: Family, first: Figure, second: Figure, way: float, put: object) -> None:
    """One ended above the other: what lies between is by the family's chart, half of it with a uniform doubt."""
    one, other = first.at, second.at
    assert one.end_V is not None and other.end_V is not None
    high, low = max(one.end_V, other.end_V), min(one.end_V, other.end_V)
    chart, sag_V = family.charge_state, SAG_V * family.share
    left = max(0.002, (charge_state_at(chart, high + sag_V) - charge_state_at(chart, low + sag_V)) / 100.0)
    left = min(0.5, left + 0.004)
    sign = way if other.end_V > one.end_V else -way
    put("end of discharge", _end(first), _end(second), sign * left / 2.0, left / math.sqrt(12.0))  # type: ignore[operator]


def _end(figure: Figure) -> str:
    volts = f"{figure.at.end_V:.2f} V"
    return f"the protection, {volts}" if figure.at.end == "protection" else volts


def cost(found: list[Apart], value: float) -> float:
    """How unlike two figures are: the size of all effects, as a share, and a little for each that is not known."""
    total = 0.0
    for one in found:
        if one.effect is None or value == 0.0:
            total += 0.002
        else:
            total += abs(one.effect.value / value) + (one.effect.standard or 0.0) / abs(value) + 1e-4
    return total
