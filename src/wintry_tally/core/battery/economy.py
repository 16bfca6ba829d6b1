"""What a battery costs and weighs for what it gives: sums from its claims, each with its working; and banks.

Source of every relation here: common practice, no published source.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from wintry_tally.core.battery.families import Family
from wintry_tally.core.battery.sample import Sample, first_value
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity.display import format_plain
from wintry_tally.core.working import Working

DAYS_A_YEAR = 365.25
USUAL_END = 0.8
"""A cycle life is usually counted to so much of the rating; the manual wins."""


@dataclass(frozen=True)
class Sum:
    """One derived figure: what it is, its value and unit, and its working."""

    key: str
    label: str
    value: float
    unit: str
    working: Working


def years_of_cycles(cycles: float, per_day: float = 1.0) -> float:
    """N / 365.25 per day: 3500 cycles, one a day, last 9.6 years."""
    return cycles / (DAYS_A_YEAR * per_day)


def price_per_kWh(price: float, cycles: float, usable_Wh: float, end_share: float = 1.0) -> float:
    """Price over what is delivered in a life that fades evenly to a share: 2000 × price / (N × Wh × (1 + s))."""
    return price / (cycles * usable_Wh * (1.0 + end_share) / 2.0 / 1000.0)


def usual_depth(family: Family) -> float:
    """Depth of discharge by habit: half for lead-acid, 80 % for lithium; the manual wins."""
    return 0.8 if family.lithium else 0.5


def replacements(years: float, life_years: float) -> int:
    """How many times one is replaced within some years."""
    return max(0, math.ceil(years / life_years - 1e-9) - 1)


@dataclass(frozen=True)
class Bank:
    """Units in series and parallel: series adds V, parallel adds Ah."""

    nominal_V: float
    capacity_Ah: float
    energy_Wh: float
    units: int


def bank(
    unit_V: float, unit_Ah: float, series: int, parallel: int, most_series: int = 0, most_parallel: int = 0
) -> Bank:
    """A bank of like units: 4 in series, 4 strings of 12.8 V 100 Ah are 51.2 V, 400 Ah.

    Raises:
        InputError: counts below one, or beyond what the maker allows.
    """
    for name, count, most in (("series", series, most_series), ("parallel", parallel, most_parallel)):
        if count < 1:
            raise InputError(f"{count} in {name} cannot be", mend="give one or more")
        if most and count > most:
            raise InputError(f"{count} in {name} is more than the {most} the maker allows", mend=f"use {most} or fewer")
    volts, amp_hours = unit_V * series, unit_Ah * parallel
    return Bank(volts, amp_hours, volts * amp_hours, series * parallel)


def derived_sums(sample: Sample) -> list[Sum]:
    """Every sum the printed claims and the weighing allow, in the order of a data sheet."""
    claims, family = sample.claims, sample.family
    capacity, energy = first_value(claims, "capacity"), first_value(claims, "energy")
    price, cycles = first_value(claims, "price"), first_value(claims, "cycles")
    money = next((claim.currency for claim in claims if claim.kind == "price" and claim.value), "")
    if energy is None and capacity is not None:
        energy = capacity * family.nominal_V
    mass = sample.arrival.mass_kg or first_value(claims, "mass")
    sizes = [first_value(claims, kind) for kind in ("length", "width", "height")]
    litres = math.prod(size for size in sizes if size) / 1e6 if all(sizes) else None
    sums: list[Sum] = []

    def put(key: str, label: str, value: float, unit: str, formula: str, **inputs: str) -> None:
        working = Working(label, formula, inputs, f"{format_plain(value)} {unit}".strip(), "common practice")
        sums.append(Sum(key, label, value, unit, working))

    if price and capacity:
        amounts = {"price": f"{price:g} {money}", "C": f"{capacity:g} Ah"}
        put("price-Ah", "Price per Ah", price / capacity, f"{money}/Ah", "price / C", **amounts)
    if price and energy:
        amounts = {"price": f"{price:g} {money}", "E": f"{energy:g} Wh"}
        put("price-Wh", "Price per Wh", price / energy, f"{money}/Wh", "price / E", **amounts)
    if cycles:
        put("years", "Claimed cycles, one a day", years_of_cycles(cycles), "years", "N / 365.25", N=f"{cycles:g}")
    if price and cycles and energy:
        printed = next(claim.conditions for claim in claims if claim.kind == "cycles" and claim.value)
        depth, end = printed.get("depth", usual_depth(family)), printed.get("end_share", USUAL_END)
        put(
            "price-kWh",
            f"Price per kWh delivered at {100 * depth:.0f} % depth",
            price_per_kWh(price, cycles, depth * energy, end),
            f"{money}/kWh",
            "2000 × price / (N × depth × E × (1 + s)), s what is left at the end",
            s=f"{end:g}" + ("" if "end_share" in printed else " (none printed: the habit)"),
            price=f"{price:g} {money}",
            N=f"{cycles:g}",
            depth=f"{depth:g}" + ("" if "depth" in printed else " (none printed: the habit)"),
            E=f"{energy:g} Wh",
        )
    if mass and energy:
        put("Wh-kg", "Energy per mass", energy / mass, "Wh/kg", "E / m", E=f"{energy:g} Wh", m=f"{mass:g} kg")
    if litres and energy:
        amounts = {"E": f"{energy:g} Wh", "volume": f"{litres:.3g} L"}
        put("Wh-L", "Energy per volume", energy / litres, "Wh/L", "E / (l × w × h)", **amounts)
    return sums
