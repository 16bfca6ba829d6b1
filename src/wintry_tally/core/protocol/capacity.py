"""The capacity recipe: rest if wanted, discharge at a rate to its end rules, watch the rebound."""

from __future__ import annotations

from dataclasses import dataclass

from wintry_tally.core.battery import Family
from wintry_tally.core.protocol.cautions import discharge_cautions
from wintry_tally.core.protocol.recipe import EndCause, EndRule, Mode, Recipe, Step, StopLimits

SETTLE_S = 300.0
IN_HAND = 0.97
"""Share of a load's power ceiling that is used; 3 % stay in hand (common practice)."""


@dataclass(frozen=True)
class LoadLimits:
    """What a load can do: its power and current ceilings."""

    power_W: float
    current_A: float


@dataclass(frozen=True)
class CapacityPlan:
    """What is asked of a capacity test.

    Parts:
        mode, setting: "current" (A), "power" (W), "resistance" (Ω), or "hand".
        cutoff_V: the load's cut-off.
        rest_s: rest before the discharge, done within the run.
        limit_s: longest time under load; 0 for twice what the rating would take.
    """

    mode: Mode
    setting: float
    cutoff_V: float
    rest_s: float = 0.0
    limit_s: float = 0.0


def reference_current(family: Family, rated_Ah: float, limits: LoadLimits | None) -> tuple[float, str]:
    """The current for a capacity test and a word on it: the family's rate, or what the load's ceiling allows.

    P_max / V is taken at the start of the discharge, where V is highest. Source: common practice, no published
    source (a 180 W load draws at most about 13.9 A at 12.95 V).
    """
    wanted = family.reference_rate_C * rated_Ah
    if limits is None:
        return wanted, "the family's reference rate"
    start_V = family.charge_state[0][0]
    ceiling = min(limits.current_A, IN_HAND * limits.power_W / start_V)
    if wanted <= ceiling:
        return round(wanted, 2), "the family's reference rate"
    return (
        int(ceiling * 100) / 100,
        f"the load's ceiling of {limits.power_W:g} W; the reference rate would be {wanted:.1f} A",
    )


def capacity_recipe(family: Family, rated_Ah: float, plan: CapacityPlan, limits: LoadLimits | None = None) -> Recipe:
    """The recipe as data, with limits that follow from the family and the load."""
    steps = []
    if plan.rest_s > 0:
        steps.append(Step("rest", "Rest before the discharge", ends=(EndRule("time", plan.rest_s, EndCause.TIME),)))
    current = plan.setting if plan.mode == "current" else family.reference_rate_C * rated_Ah
    longest = plan.limit_s or 2.0 * 3600.0 * rated_Ah / max(current, 0.01) + 3600.0
    ends = [
        *([EndRule("protection", 0.5 * family.nominal_V, EndCause.PROTECTION, 2)] if family.own_protection else []),
        EndRule("voltage", plan.cutoff_V, EndCause.SET_CUTOFF, 2),
        EndRule("time", longest, EndCause.TIME),
    ]
    steps.append(Step("discharge", "Discharge to the end", plan.mode, plan.setting, tuple(ends)))
    steps.append(Step("rest", "Watch the rebound", ends=(EndRule("time", SETTLE_S, EndCause.TIME),)))
    power = limits.power_W if limits else 1.3 * current * family.plausible_V[1]
    stops = StopLimits(
        voltage_low_V=family.cutoff_floor_V - 1.5,
        voltage_high_V=family.plausible_V[1],
        current_high_A=min(limits.current_A, 3.0 * current) if limits else 3.0 * current,
        power_high_W=power,
        temperature_low_C=family.discharge_C[0],
        temperature_high_C=family.discharge_C[1] if family.lithium else 50.0,
    )
    return Recipe(
        name="capacity",
        title="Capacity test",
        version=1,
        steps=tuple(steps),
        stops=stops,
        cautions=discharge_cautions(family),
        settles=("capacity", "energy", "low-voltage-cut"),
    )
