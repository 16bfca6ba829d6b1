"""The pre-flight list: each item checked or explained before anything is energised."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal

from wintry_tally.core.battery import Family
from wintry_tally.core.battery.families import charge_state_band
from wintry_tally.core.protocol.attended import Attendance, Offer, offers_for
from wintry_tally.core.protocol.capacity import IN_HAND, CapacityPlan, LoadLimits
from wintry_tally.core.protocol.leads import Leads, ampacity_A
from wintry_tally.core.protocol.recipe import most_amps
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.working import Working

if TYPE_CHECKING:
    from wintry_tally.core.protocol.recipe import Recipe, Step
    from wintry_tally.core.protocol.setpoints import Facts
    from wintry_tally.core.protocol.template import Template

State = Literal["good", "heed", "bar"]


@dataclass(frozen=True)
class Check:
    """One item: good, to be heeded, or barring the start."""

    name: str
    state: State
    message: str
    working: Working | None = None
    offers: tuple[Offer, ...] = ()


def preflight(
    family: Family,
    rated_Ah: float | None,
    plan: CapacityPlan,
    limits: LoadLimits | None,
    rested_V: float | None,
    forecast_s: float | None = None,
    hand: bool = False,
    attendance: Attendance | None = None,
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
        amps = plan.setting if plan.mode == "current" else 0.0
        by = f"the cut-off of {plan.cutoff_V:g} V is watched here, and the pack's own protection stands behind it"
        checks.append(_end(family, forecast_s, attendance, forecast_s - plan.rest_s, amps, by))
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


def _end(
    family: Family, forecast_s: float, attendance: Attendance | None = None, load_s: float = 0.0, amps: float = 0.0,
    by: str = "",
) -> Check:  # fmt: skip
    words, there = f"Ends after about {format_duration(forecast_s)}", True
    offers: tuple[Offer, ...] = ()
    working: Working | None = None
    if attendance is not None:
        working = _end_working(attendance, forecast_s, load_s, amps)
        there = attendance.there_at(forecast_s)
        words += f", at {attendance.clock(forecast_s)}" + ("" if there else ", when nobody is there")
        offers = tuple(offers_for(attendance, forecast_s, load_s, amps))
    words += "."
    if family.own_protection:
        alone = f" It may end alone: {by}."
        return Check("End", "good", words + alone, working, offers)
    if there:
        alone = " Be there, or use a load whose cut-off is proven: without one a lead-acid battery is driven flat."
        return Check("End", "heed", words + alone, working)
    if attendance is not None and attendance.own_cutoff:
        alone = " The load's own cut-off ends it (set it there too); recharge as soon as somebody is there."
        return Check("End", "heed", words + alone, working, offers)
    barred = (
        " Without a proven cut-off of the load itself a lead-acid battery is driven flat: begin later, draw less, or "
        "say on the Bench page that the load stops by itself."
    )
    return Check("End", "bar", words + barred, working, offers)


def _end_working(attendance: Attendance, forecast_s: float, load_s: float, amps: float) -> Working:
    """How the end and what mends it follow from the forecast and the attended hours."""
    inputs = {
        "begins": f"{attendance.begins:%a %H:%M}",
        "until its last current": f"{format_duration(forecast_s)}, of it {format_duration(load_s)} under load",
    }
    wait = attendance.hours.wait_for_end(attendance.begins, forecast_s)
    if wait:
        inputs["somebody is there again after"] = f"{format_duration(wait)} more"
    if wait and amps > 0:
        inputs["planned current"] = f"{amps:g} A"
    return Working(
        "End of the run",
        "end = begin + forecast; a later begin: + wait; a lower current: I × load / (load + wait + 15 min)",
        inputs,
        attendance.clock(forecast_s),
        "the recipe on the battery model; attended hours from the Bench page",
    )


@dataclass(frozen=True)
class Bench:
    """What a run would be connected to: ceilings of the load and the charger (0 where there is none), and leads.

    `own_cutoff`: the load stops by itself at its cut-off, without this program; proven. `by_hand`: nothing is
    connected, a person switches and reads. `counted_apart`: the current is read by another instrument than the one that
    is switched; `digit_V`: the last digit of the voltage, the only witness where it is not.
    """

    load_W: float = 0.0
    load_A: float = 0.0
    charger_A: float = 0.0
    charger_V: float = 0.0
    leads: Leads | None = None
    measures_temperature: bool = True
    own_cutoff: bool = False
    by_hand: bool = False
    counted_apart: bool = True
    digit_V: float = 0.001

    @property
    def limits(self) -> LoadLimits | None:
        """The load's, where there is one."""
        return LoadLimits(self.load_W, self.load_A) if self.load_W > 0 else None


TESTS_FROM_FULL = frozenset({"capacity", "reserve", "runtime"})


def preflight_recipe(
    template: Template,
    recipe: Recipe,
    facts: Facts,
    bench: Bench,
    rested_V: float | None,
    forecast_s: float | None,
    attendance: Attendance | None = None,
) -> list[Check]:
    """The checks of any recipe on a bench, in the order a person would make them."""
    family = facts.family
    checks = [*_wanted(template, facts)]
    if bench.by_hand and recipe.live:
        checks.append(_switched_by_hand(recipe))
    for number, step in enumerate(recipe.steps, 1):
        checks += _step_checks(number, step, family, bench)
    if recipe.live:
        checks.append(_thin(recipe, family, bench))
    if recipe.live and not bench.counted_apart:
        checks += _witness(recipe, facts, bench)
    if recipe.steps[0].kind != "charge" and template.method in TESTS_FROM_FULL:
        checks.append(_charged(family, rested_V))
    charges = any(step.kind == "charge" for step in recipe.steps)
    if charges and family.lithium and not bench.measures_temperature:
        checks.append(
            Check(
                "Temperature",
                "heed",
                "Nothing measures the pack's temperature: make sure that its core is above 0 °C before it is charged.",
            )
        )
    if recipe.attended:
        checks.append(_attended(recipe, forecast_s, attendance))
    elif forecast_s is not None:
        drawn = [step.setting for step in recipe.steps if step.kind == "discharge" and step.mode == "current"]
        amps = drawn[0] if len(drawn) == 1 and not charges else 0.0
        rest = sum(
            rule.value for step in recipe.steps if step.kind == "rest" for rule in step.ends if rule.kind == "time"
        )
        ends = _end(family, forecast_s, attendance, max(0.0, forecast_s - rest), amps, _ended_by(recipe, bench))
        if template.station != "capacity":  # the slow night is a capacity test's
            ends = replace(ends, offers=tuple(offer for offer in ends.offers if offer.kind != "night"))
        checks.append(ends)
    return checks


def _ended_by(recipe: Recipe, bench: Bench) -> str:
    """What ends this very run when nobody is there, in words."""
    kinds = {rule.kind for step in recipe.steps if step.kind in {"discharge", "charge"} for rule in step.ends}
    ways = {
        "voltage": "the cut-off", "above": "the voltage", "taper": "the taper", "moved": "the charge moved",
        "time": "the time limit", "protection": "the protection opening", "refused": "the charge being refused",
    }  # fmt: skip
    told = [words for kind, words in ways.items() if kind in kinds]
    if not told:
        return "nothing flows in it"
    watched = f"{', '.join(told[:-1])} or {told[-1]}" if len(told) > 1 else told[0]
    own = ", the load's own cut-off too" if bench.own_cutoff and recipe.cutoff_V is not None else ""
    draws = any(step.kind == "discharge" for step in recipe.steps)
    behind = "; the pack's own protection stands behind it" if draws else ""
    return f"{watched} is watched here{own}{behind}"


WITNESS_DIGITS = 8.0


def _witness(recipe: Recipe, facts: Facts, bench: Bench) -> list[Check]:
    """Where only the switched instrument counts its current, the voltage has to show that it is off."""
    from wintry_tally.core.cell import parameters_for

    if not facts.rated_Ah:
        return []
    least = min((amps for step in recipe.steps if (amps := most_amps(step, facts.family)) > 0), default=0.0)
    moves = least * parameters_for(facts.family, facts.rated_Ah).resistance_ohm
    if not least or moves >= WITNESS_DIGITS * bench.digit_V:
        return []
    words = (
        f"Only the instrument that is switched counts its current, and {least:.3g} A move the voltage by about "
        f"{1000 * moves:.1f} mV: if it stayed on, nothing here would see it. Put a meter of its own on the channel."
    )
    return [Check("Off", "heed", words)]


def _attended(recipe: Recipe, forecast_s: float | None, attendance: Attendance | None) -> Check:
    """Somebody has to be there; where that cannot be at its end, it is not started now."""
    lasts = f", about {format_duration(forecast_s)}" if forecast_s else ""
    words = f"Stay with it throughout{lasts}; it may not be started and left."
    # a run that waits for a person ends when the person says so
    waits = any(rule.kind == "confirm" for step in recipe.steps for rule in step.ends)
    throughout = all(step.attended for step in recipe.steps if step.kind in {"discharge", "charge"})
    if not forecast_s or attendance is None or waits or not throughout or attendance.there_at(forecast_s):
        return Check("Attended", "heed", words)
    offers = tuple(offers_for(attendance, forecast_s, 0.0, 0.0))
    late = f" It would end at {attendance.clock(forecast_s)}, when nobody is there: begin later."
    return Check("Attended", "bar", words + late, offers=offers)


def _switched_by_hand(recipe: Recipe) -> Check:
    """What only hands can set before a run by hand."""
    words = "Set the load's counter to zero, or note what it shows with the first reading."
    low = recipe.cutoff_V
    if low is not None:
        words += f" Set its cut-off to {low:g} V."
    return Check("By hand", "heed", words + " Nothing here can switch it off.")


def ceilings(recipe: Recipe, family: Family, bench: Bench, first: int = 0) -> list[Check]:
    """What bars the steps from `first` on (from 0) on a bench: ceilings, and what is not there."""
    found = []
    for number, step in enumerate(recipe.steps, 1):
        if number > first:
            found += bars(_step_checks(number, step, family, bench))
    return found


def _wanted(template: Template, facts: Facts) -> list[Check]:
    """What has to be claimed before this recipe makes sense, and why one is withheld."""
    checks = []
    if not facts.rated_Ah:
        checks.append(Check("Rating", "bar", "No capacity is claimed: type one as printed on the label, like “40 Ah”."))
    from wintry_tally.core.battery import CLAIM_KINDS

    missing = [CLAIM_KINDS[kind].label for kind in template.needs if facts.claimed(kind) is None]
    if missing:
        checks.append(Check("Claims", "bar", f"Needs a claim first: {', '.join(missing)}. Enter it at Arrival."))
    protects = facts.claimed("over-current-trip") or facts.claimed("continuous-discharge") or facts.claimed("surge")
    if template.withheld and protects is None:
        checks.append(
            Check(
                "Withheld",
                "bar",
                "No protection data is claimed: what the pack can stand is not known, so heavy currents are withheld. "
                "Enter the continuous current or the trip from the label or the manual.",
            )
        )
    return checks


def _step_checks(number: int, step: Step, family: Family, bench: Bench) -> list[Check]:
    name = f"Step {number}"
    if step.kind in {"discharge", "charge"} and not any(rule.kind in {"time", "moved"} for rule in step.ends):
        return [Check(name, "bar", f"“{step.title}” has no time limit: it might never end. Give it one.")]
    if step.kind == "discharge":
        return _draw_checks(name, step, family, bench)
    if step.kind == "charge":
        if not bench.charger_A:
            return [Check(name, "bar", f"“{step.title}” needs a charger, and there is none on this bench.")]
        if step.setting > bench.charger_A * 1.0001 or step.limit_V > bench.charger_V:
            return [
                Check(
                    name,
                    "bar",
                    f"{step.setting:g} A up to {step.limit_V:g} V is above the charger's {bench.charger_A:g} A and "
                    f"{bench.charger_V:g} V.",
                )
            ]
    return []


def _draw_checks(name: str, step: Step, family: Family, bench: Bench) -> list[Check]:
    start_V = family.charge_state[0][0]
    if step.mode == "hand":
        return [
            Check(
                name, "heed", f"“{step.title}”: switch the loads yourself, and off when it is over; here it is counted."
            )
        ]
    if not bench.load_W:
        return [Check(name, "bar", f"“{step.title}” needs a load, and there is none on this bench.")]
    amps = {"power": step.setting / start_V, "resistance": start_V / step.setting if step.setting else 0.0}.get(
        step.mode, step.setting
    )
    if amps > bench.load_A or amps * start_V > bench.load_W:
        return [
            Check(
                name,
                "bar",
                f"{amps:.1f} A and {amps * start_V:.0f} W at the start are above the load's {bench.load_A:g} A and "
                f"{bench.load_W:g} W.",
            )
        ]
    low = next(
        (rule.value for rule in step.ends if rule.kind == "voltage" and rule.value < family.cutoff_floor_V), None
    )
    if low is not None:
        return [
            Check(
                name,
                "bar",
                f"A cut-off of {low:g} V is below the floor of {family.cutoff_floor_V:g} V for this family.",
            )
        ]
    return []


def _thin(recipe: Recipe, family: Family, bench: Bench) -> Check:
    most = max((most_amps(step, family) for step in recipe.steps), default=0.0)
    tight = "Clamps tight on clean terminals, red on plus, fuse fitted."
    if bench.leads is None:
        return Check("Leads", "heed", tight + " Their gauge is not entered: feel them after three minutes.")
    leads = bench.leads
    carries, drop, rise = ampacity_A(leads.area_mm2), leads.drop_V(most), leads.rise_K(most)
    working = Working(
        "Leads",
        "drop = 2 l R' I; warmth = I² R' / (h π D)",
        {
            "cross-section": f"{leads.area_mm2:g} mm²",
            "length, one way": f"{leads.length_m:g} m",
            "current": f"{most:.3g} A",
            "may carry": f"{carries:g} A",
            "drop": f"{1000 * drop:.0f} mV",
        },
        f"{rise:.0f} K warmer than the air",
        "IEC 60228 class 5; NFPA 70 table 310.16 (from memory); local codes rule",
    )
    short = min(
        (
            rule.value
            for step in recipe.steps
            for rule in step.ends
            if rule.kind == "time" and most_amps(step, family) == most
        ),
        default=0.0,
    )
    if most > carries and short > 120.0:
        return Check(
            "Leads",
            "bar",
            f"{leads.area_mm2:g} mm² may carry {carries:g} A and {most:.3g} A are wanted: thicker leads.",
            working,
        )
    words = f"{most:.3g} A through {leads.area_mm2:g} mm²: {1000 * drop:.0f} mV lost, {rise:.0f} K warmer."
    if most > carries or rise > 25.0 or (drop > 0.1 and not leads.sensed):
        lost = "" if leads.sensed else " Read the voltage at the battery itself."
        return Check("Leads", "heed", words + lost, working)
    return Check("Leads", "good", f"{words} {tight}", working)
