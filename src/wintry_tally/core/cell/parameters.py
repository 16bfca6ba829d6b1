"""Parameters of a battery model, and usual ones for each family."""

from __future__ import annotations

from dataclasses import dataclass, replace
from random import Random

from wintry_tally.core.battery.families import FAMILIES, Family


@dataclass(frozen=True)
class Protection:
    """When a pack opens its own circuit, and when it closes again (V of the pack, A, s, °C).

    Parts:
        low_cut_V, low_release_V: on discharge, after `delay_s`; released once charged above the second.
        high_cut_V, high_release_V: on charge.
        over_current_A, over_delay_s: on discharge.
        cold_block_C, cold_release_C: charge refused below the first until the second; hot_cut_C opens both ways.
        sleep_V: what the terminals show while open. wakes: whether a charger's voltage wakes it.
    """

    low_cut_V: float = 10.0
    low_release_V: float = 12.0
    high_cut_V: float = 14.8
    high_release_V: float = 14.0
    over_current_A: float = 120.0
    delay_s: float = 2.0
    cold_block_C: float = 0.0
    cold_release_C: float = 4.0
    hot_cut_C: float = 65.0
    over_delay_s: float = 2.0
    sleep_V: float = 0.35


@dataclass(frozen=True)
class Heater:
    """A heater fed by the charger: below `on_below_C` it takes `power_W` and the cells nothing, until `off_above_C`."""

    power_W: float = 60.0
    on_below_C: float = 2.0
    off_above_C: float = 6.0


@dataclass(frozen=True)
class Parameters:
    """One battery.

    Parts:
        capacity_Ah: drawn from full to empty, at 25 °C and a rate near nothing.
        ocv: (state of charge 0 to 1, rested V of the pack), rising.
        resistance_ohm: of the whole pack at 25 °C; resistance_per_K: its relative rise per kelvin of cold.
        slow_ohm, slow_s: a slower part of the sag, and its time constant.
        available: share of the charge in the available well (1 for lithium); exchange_per_h: rate between the wells.
        concentration_V: extra sag of lead-acid as the available well empties.
        capacity_per_K: relative loss of capacity per kelvin below 25 °C.
        mass_kg, heat_J_kgK, loss_W_K: the lumped thermal body.
        protection: None for packs without their own.
        hysteresis_V: how much higher the rested voltage stands after charging than after discharging.
        charge_rise_V: how far lead-acid rises on charge as it fills, before it gasses; 0 for lithium.
        gassing: share of the charge lost to gas when full.
        self_discharge_month: share of the capacity lost in 30.44 days at 25 °C; twice that every 10 K warmer.
        charge_ohm: what charging meets beyond the resistance. surface_V: how far a full one's voltage stands above its
        settled one just after a charge. leak_C: current that gas takes on float at full, per Ah of capacity.
        sulphation: 0 to 1; a flat-left lead-acid battery takes and gives less.
        heater: None for packs without one.
        share: cells in series over those of a battery of 12 V; voltages that stand in the model go by it.
    """

    capacity_Ah: float
    ocv: tuple[tuple[float, float], ...]
    resistance_ohm: float
    resistance_per_K: float
    slow_ohm: float
    slow_s: float
    available: float
    exchange_per_h: float
    concentration_V: float
    capacity_per_K: float
    mass_kg: float
    heat_J_kgK: float
    loss_W_K: float
    protection: Protection | None
    hysteresis_V: float = 0.0
    charge_rise_V: float = 0.0
    gassing: float = 0.0
    self_discharge_month: float = 0.0
    sulphation: float = 0.0
    charge_ohm: float = 0.0
    surface_V: float = 0.0
    leak_C: float = 0.0
    heater: Heater | None = None
    share: float = 1.0


def _lead(full_V: float, empty_V: float) -> tuple[tuple[float, float], ...]:
    return ((0.0, empty_V), (1.0, full_V))


def parameters_for(family: Family, rated_Ah: float, resistance_ohm: float | None = None) -> Parameters:
    """A usual, healthy battery of a family that gives its rating at the reference rate.

    Source of the shapes: handbook charts of rested voltage (common practice, no published source), the two-well
    kinetic model after Manwell & McGowan, Solar Energy 50 (1993), for lead-acid (from memory).
    """
    if family.share != 1.0:
        usual = parameters_for(
            FAMILIES[family.key], rated_Ah, None if resistance_ohm is None else resistance_ohm / family.share
        )
        return in_series(usual, family.share)
    build = family.build
    resistance = resistance_ohm if resistance_ohm is not None else build.ohm_Ah / rated_Ah
    mass = build.kg_Ah * rated_Ah
    common = {
        "mass_kg": mass, "heat_J_kgK": 1000.0, "loss_W_K": 0.5 * mass ** (2 / 3),
        "self_discharge_month": build.self_discharge_month,
    }  # fmt: skip
    if family.lithium:
        trips = max(build.least_trip_A, 3.0 * rated_Ah)
        return Parameters(
            capacity_Ah=1.01 * rated_Ah,
            ocv=build.ocv,
            resistance_ohm=resistance,
            resistance_per_K=0.022,
            slow_ohm=0.9 * resistance,
            slow_s=420.0,
            available=1.0,
            exchange_per_h=0.0,
            concentration_V=0.0,
            capacity_per_K=0.003,
            protection=None if build.protection_V is None else Protection(*build.protection_V, over_current_A=trips),
            hysteresis_V=build.hysteresis_V,
            surface_V=build.surface_V,
            **common,
        )
    chart = family.charge_state
    return Parameters(
        capacity_Ah=1.075 * rated_Ah,
        ocv=_lead(chart[0][0], chart[-1][0] - 0.06),
        resistance_ohm=resistance,
        resistance_per_K=0.012,
        slow_ohm=0.8 * resistance,
        slow_s=900.0,
        available=0.45,
        exchange_per_h=build.exchange_per_h,
        concentration_V=0.16,
        capacity_per_K=0.01,
        protection=None,
        charge_rise_V=14.8 - chart[0][0],
        gassing=0.3,
        charge_ohm=3.0 / rated_Ah,
        surface_V=0.7,
        leak_C=0.0004,
        **common,
    )


def of_pack(protection: Protection, share: float) -> Protection:
    """The protection of a pack of so many times as many cells in series."""
    cuts = ("low_cut_V", "low_release_V", "high_cut_V", "high_release_V", "sleep_V")
    return replace(protection, **{name: share * getattr(protection, name) for name in cuts})


def in_series(parameters: Parameters, share: float) -> Parameters:
    """The same cells in a pack of so many times as many in series."""
    by_voltage = (
        "resistance_ohm",
        "slow_ohm",
        "concentration_V",
        "hysteresis_V",
        "charge_rise_V",
        "charge_ohm",
        "surface_V",
        "mass_kg",
    )
    protection = None if parameters.protection is None else of_pack(parameters.protection, share)
    return replace(
        parameters,
        ocv=tuple((state, share * volts) for state, volts in parameters.ocv),
        loss_W_K=parameters.loss_W_K * share ** (2 / 3),
        protection=protection,
        share=parameters.share * share,
        **{name: share * getattr(parameters, name) for name in by_voltage},
    )


def sulphated(parameters: Parameters, share: float) -> Parameters:
    """A lead-acid battery left flat: `share` (0 to 1) of its plates no longer takes part.

    Source: common practice, no published source.
    """
    return replace(
        parameters,
        capacity_Ah=parameters.capacity_Ah * (1.0 - 0.8 * share),
        resistance_ohm=parameters.resistance_ohm * (1.0 + 40.0 * share**3),
        sulphation=share,
    )


def one_unit(parameters: Parameters, random: Random) -> Parameters:
    """One unit of a model: capacity ± 1 %, resistance ± 8 %, protection voltages ± 30 mV (limits; common practice)."""
    varied = replace(
        parameters,
        capacity_Ah=parameters.capacity_Ah * (1.0 + random.uniform(-0.01, 0.01)),
        resistance_ohm=parameters.resistance_ohm * (1.0 + random.uniform(-0.08, 0.08)),
    )
    if parameters.protection is None:
        return varied
    return replace(
        varied,
        protection=replace(
            parameters.protection, low_cut_V=parameters.protection.low_cut_V + random.uniform(-0.03, 0.03)
        ),
    )


def aged(parameters: Parameters, health: float) -> Parameters:
    """The same battery with a share of its capacity left, and its resistance risen to match."""
    return replace(
        parameters,
        capacity_Ah=parameters.capacity_Ah * health,
        resistance_ohm=parameters.resistance_ohm * (1.0 + 2.0 * (1.0 - health)),
        slow_ohm=parameters.slow_ohm * (1.0 + 2.0 * (1.0 - health)),
    )
