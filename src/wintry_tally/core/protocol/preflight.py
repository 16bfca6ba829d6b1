"""The pre-flight list: each item checked or explained before anything is energised."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from wintry_tally.core.battery import Family
from wintry_tally.core.battery.families import charge_state_band
from wintry_tally.core.protocol.capacity import IN_HAND, CapacityPlan, LoadLimits
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.working import Working

State = Literal["good", "heed", "bar"]


@dataclass(frozen=True)
class Check:
    """One item: good, to be heeded, or barring the start."""

    name: str
    state: State
    message: str
    working: Working | None = None


def preflight(
    family: Family,
    rated_Ah: float | None,
    plan: CapacityPlan,
    limits: LoadLimits | None,
    rested_V: float | None,
    forecast_s: float | None = None,
    hand: bool = False,
) -> list[Check]:
    """The checks of a capacity test, in the order a person would make them."""
    checks = [
        Check("Counter", "good", "Counted from zero by this run itself; set the load's own counter to zero too.")
        if not hand
        else Check(
            "Counter", "heed", "Set the counter of the load to zero, or note what it shows as the first reading."
        ),
        _cutoff(family, plan),
    ]
    checks.append(_rating(rated_Ah, plan))
    if limits is not None and rated_Ah:
        checks.append(_power(family, plan, limits, rated_Ah))
    checks.append(_charged(family, rested_V))
    checks.append(
        Check(
            "Rest",
            "good" if plan.rest_s >= family.rest_s else "heed",
            f"Rest of {format_duration(plan.rest_s)} within the run."
            if plan.rest_s >= family.rest_s
            else f"A {family.words} battery wants {format_duration(family.rest_s)} after its charge; this run rests "
            f"{format_duration(plan.rest_s)}. Runs compare only when they rested alike.",
        )
    )
    if forecast_s is not None:
        checks.append(_end(family, forecast_s))
    checks.append(
        Check("Leads", "heed", "Clamps tight on clean terminals, sense leads on the battery itself, fuse fitted.")
    )
    return checks


def bars(checks: list[Check]) -> list[Check]:
    """The checks that bar a start."""
    return [check for check in checks if check.state == "bar"]


def _cutoff(family: Family, plan: CapacityPlan) -> Check:
    if plan.cutoff_V < family.cutoff_floor_V:
        return Check(
            "Cut-off",
            "bar",
            f"A cut-off of {plan.cutoff_V:g} V is below the floor of {family.cutoff_floor_V:g} V for a {family.words} "
            f"battery; set {family.cutoff_V:g} V.",
        )
    if plan.cutoff_V >= family.charge_state[0][0] - 0.5:
        return Check("Cut-off", "bar", f"A cut-off of {plan.cutoff_V:g} V would end the test at once.")
    if plan.cutoff_V > family.cutoff_V + 0.3:
        return Check(
            "Cut-off",
            "heed",
            f"{plan.cutoff_V:g} V lies above the usual {family.cutoff_V:g} V: charge will be left in.",
        )
    return Check("Cut-off", "good", f"{plan.cutoff_V:g} V.")


def _rating(rated_Ah: float | None, plan: CapacityPlan) -> Check:
    if not rated_Ah:
        return Check("Rating", "bar", "No capacity is claimed: type one as printed on the label, like “40 Ah”.")
    if plan.mode == "current" and plan.setting > 0:
        rate = plan.setting / rated_Ah
        return Check("Rate", "good", f"{plan.setting:g} A is {rate:.3g} C of {rated_Ah:g} Ah.")
    return Check(
        "Rate", "good" if plan.setting > 0 or plan.mode == "hand" else "bar", f"{plan.mode} of {plan.setting:g}."
    )


def _power(family: Family, plan: CapacityPlan, limits: LoadLimits, rated_Ah: float) -> Check:
    start_V = family.charge_state[0][0]
    if plan.mode == "power":
        wanted = plan.setting
    elif plan.mode == "resistance":
        wanted = start_V**2 / plan.setting if plan.setting > 0 else 0.0
    else:
        wanted = plan.setting * start_V
    working = Working(
        "Power at the start",
        "P = V_full × I; 3 % of the ceiling stay in hand",
        {"V_full": f"{start_V:g} V", "ceiling": f"{limits.power_W:g} W, {limits.current_A:g} A"},
        f"{wanted:.0f} W",
        "common practice",
    )
    current = wanted / start_V
    if wanted > limits.power_W or current > limits.current_A:
        most = min(limits.current_A, IN_HAND * limits.power_W / start_V)
        return Check(
            "Load",
            "bar",
            f"{wanted:.0f} W at the start is above the load's {limits.power_W:g} W (or {current:.1f} A above its "
            f"{limits.current_A:g} A); it can draw at most {most:.1f} A.",
            working,
        )
    if wanted > IN_HAND * limits.power_W:
        return Check(
            "Load", "heed", f"{wanted:.0f} W leaves under 3 % of the load's {limits.power_W:g} W in hand.", working
        )
    return Check("Load", "good", f"{wanted:.0f} W at the start, of {limits.power_W:g} W.", working)


def _charged(family: Family, rested_V: float | None) -> Check:
    if rested_V is None:
        return Check("Charged", "heed", "Charge fully before the test; the rested voltage was not read.")
    low, high = charge_state_band(family, rested_V)
    if high < 75:
        return Check(
            "Charged",
            "heed",
            f"{rested_V:.2f} V rested is about {low:.0f} to {high:.0f} %: a capacity test begins full. Charge first.",
        )
    return Check("Charged", "good", f"{rested_V:.2f} V rested: about {low:.0f} to {high:.0f} %.")


def _end(family: Family, forecast_s: float) -> Check:
    words = f"Ends after about {format_duration(forecast_s)}."
    if family.own_protection:
        return Check(
            "End", "good", words + " It may end alone: the load's cut-off and the pack's protection both end it."
        )
    return Check(
        "End",
        "heed",
        words + " Be there, or use a load whose cut-off is proven: without one a lead-acid battery is driven flat.",
    )
