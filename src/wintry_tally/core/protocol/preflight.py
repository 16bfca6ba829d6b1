"""The pre-flight list: each item checked or explained before anything is energised."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal

from wintry_tally.core.battery import Family
from wintry_tally.core.battery.families import charge_state_band
from wintry_tally.core.message import NOTHING, Message, said
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

    name: Message
    state: State
    message: Message
    working: Working | None = None
    offers: tuple[Offer, ...] = ()


def check(
    name: str, state: State, message: Message, working: Working | None = None, offers: tuple[Offer, ...] = ()
) -> Check:
    """A check by the key of its name."""
    return Check(said(f"check-{name}"), state, message, working, offers)


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
        check("counter", "good", said("counted-from-zero"))
        if not hand
        else check("counter", "heed", said("zero-by-hand")),
        _cutoff(family, plan),
    ]
    checks.append(_rating(rated_Ah, plan))
    if limits is not None and rated_Ah:
        checks.append(_power(family, plan, limits, rated_Ah))
    checks.append(_charged(family, rested_V))
    if plan.rest_s >= family.rest_s:
        checks.append(check("rest", "good", said("rests-enough", rest=plan.rest_s)))
    else:
        told = said("rests-less", family=family.words, wanted=family.rest_s, rest=plan.rest_s)
        checks.append(check("rest", "heed", told))
    if forecast_s is not None:
        amps = plan.setting if plan.mode == "current" else 0.0
        by = said("cutoff-watched", volts=plan.cutoff_V)
        checks.append(_end(family, forecast_s, attendance, forecast_s - plan.rest_s, amps, by))
    checks.append(check("leads", "heed", said("leads-tight")))
    return checks


def bars(checks: list[Check]) -> list[Check]:
    """The checks that bar a start."""
    return [one for one in checks if one.state == "bar"]


def _cutoff(family: Family, plan: CapacityPlan) -> Check:
    if plan.cutoff_V < family.cutoff_floor_V:
        told = said(
            "cutoff-too-low",
            volts=plan.cutoff_V,
            floor=family.cutoff_floor_V,
            family=family.words,
            usual=family.cutoff_V,
        )
        return check("cutoff", "bar", told)
    if plan.cutoff_V >= family.charge_state[0][0] - 0.5:
        return check("cutoff", "bar", said("cutoff-at-once", volts=plan.cutoff_V))
    if plan.cutoff_V > family.cutoff_V + 0.3:
        return check("cutoff", "heed", said("cutoff-high", volts=plan.cutoff_V, usual=family.cutoff_V))
    return check("cutoff", "good", said("cutoff-fits", volts=plan.cutoff_V))


def _rating(rated_Ah: float | None, plan: CapacityPlan) -> Check:
    if not rated_Ah:
        return check("rating", "bar", said("rating-unknown"))
    if plan.mode == "current" and plan.setting > 0:
        rate = plan.setting / rated_Ah
        return check("rate", "good", said("rate-of", amps=plan.setting, rate=rate, rated_Ah=rated_Ah))
    told = said("rate-in-mode", mode=plan.mode, setting=plan.setting)
    return check("rate", "good" if plan.setting > 0 or plan.mode == "hand" else "bar", told)


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
        told = said(
            "load-too-small", watts=wanted, most_W=limits.power_W, amps=current, most_A=limits.current_A, can=most
        )
        return check("load", "bar", told, working)
    if wanted > IN_HAND * limits.power_W:
        return check("load", "heed", said("load-near-limit", watts=wanted, most_W=limits.power_W), working)
    return check("load", "good", said("load-enough", watts=wanted, most_W=limits.power_W), working)


def _charged(family: Family, rested_V: float | None) -> Check:
    if rested_V is None:
        return check("charged", "heed", said("charge-first"))
    low, high = charge_state_band(family, rested_V)
    if high < 75:
        return check("charged", "heed", said("not-full-enough", volts=rested_V, low=low, high=high))
    return check("charged", "good", said("full-enough", volts=rested_V, low=low, high=high))


def _end(
    family: Family, forecast_s: float, attendance: Attendance | None = None, load_s: float = 0.0, amps: float = 0.0,
    by: Message = NOTHING,
) -> Check:  # fmt: skip
    ends, there = said("ends-after", seconds=forecast_s), True
    offers: tuple[Offer, ...] = ()
    working: Working | None = None
    if attendance is not None:
        working = _end_working(attendance, forecast_s, load_s, amps)
        there = attendance.there_at(forecast_s)
        code = "ends-at" if there else "ends-alone-at"
        ends = said(code, seconds=forecast_s, clock=attendance.clock(forecast_s))
        offers = tuple(offers_for(attendance, forecast_s, load_s, amps))
    if family.own_protection:
        return check("end", "good", said("end-may-be-alone", ends=ends, by=by), working, offers)
    if there:
        return check("end", "heed", said("end-be-there", ends=ends), working)
    if attendance is not None and attendance.own_cutoff:
        return check("end", "heed", said("end-own-cutoff", ends=ends), working, offers)
    return check("end", "bar", said("end-barred", ends=ends), working, offers)


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
        checks.append(check("temperature", "heed", said("core-warm")))
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


WAYS = ("voltage", "above", "taper", "moved", "time", "protection", "refused")
"""What ends a run by itself, in the order it is told."""


def _ended_by(recipe: Recipe, bench: Bench) -> Message:
    """What ends this very run when nobody is there."""
    kinds = {rule.kind for step in recipe.steps if step.kind in {"discharge", "charge"} for rule in step.ends}
    told = [said(f"way-{kind}") for kind in WAYS if kind in kinds]
    if not told:
        return said("nothing-flows")
    ways = said("either", first=tuple(told[:-1]), last=told[-1]) if len(told) > 1 else told[0]
    own = bench.own_cutoff and recipe.cutoff_V is not None
    watched = said("watched-load-too" if own else "watched", ways=ways)
    draws = any(step.kind == "discharge" for step in recipe.steps)
    return said("protection-behind", watched=watched) if draws else watched


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
    return [check("off", "heed", said("off-unseen", amps=least, moves=1000 * moves))]


def _attended(recipe: Recipe, forecast_s: float | None, attendance: Attendance | None) -> Check:
    """Somebody has to be there; where that cannot be at its end, it is not started now."""
    stay = said("stay-about", seconds=forecast_s) if forecast_s else said("stay")
    # a run that waits for a person ends when the person says so
    waits = any(rule.kind == "confirm" for step in recipe.steps for rule in step.ends)
    throughout = all(step.attended for step in recipe.steps if step.kind in {"discharge", "charge"})
    if not forecast_s or attendance is None or waits or not throughout or attendance.there_at(forecast_s):
        return check("attended", "heed", stay)
    offers = tuple(offers_for(attendance, forecast_s, 0.0, 0.0))
    late = said("stay-late", stay=stay, clock=attendance.clock(forecast_s))
    return check("attended", "bar", late, offers=offers)


def _switched_by_hand(recipe: Recipe) -> Check:
    """What only hands can set before a run by hand."""
    low = recipe.cutoff_V
    told = said("by-hand") if low is None else said("by-hand-cutoff", volts=low)
    return check("by-hand", "heed", told)


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
        checks.append(check("rating", "bar", said("rating-unknown")))
    from wintry_tally.core.battery import CLAIM_KINDS

    missing = tuple(CLAIM_KINDS[kind].label for kind in template.needs if facts.claimed(kind) is None)
    if missing:
        checks.append(check("claims", "bar", said("claims-needed", claims=missing)))
    protects = facts.claimed("over-current-trip") or facts.claimed("continuous-discharge") or facts.claimed("surge")
    if template.withheld and protects is None:
        checks.append(check("withheld", "bar", said("currents-withheld")))
    return checks


def _step_checks(number: int, step: Step, family: Family, bench: Bench) -> list[Check]:
    name = said("step-numbered", number=number)
    if step.kind in {"discharge", "charge"} and not any(rule.kind in {"time", "moved"} for rule in step.ends):
        return [Check(name, "bar", said("step-unending", step=step.title))]
    if step.kind == "discharge":
        return _draw_checks(name, step, family, bench)
    if step.kind == "charge":
        if not bench.charger_A:
            return [Check(name, "bar", said("step-no-charger", step=step.title))]
        if step.setting > bench.charger_A * 1.0001 or step.limit_V > bench.charger_V:
            told = said(
                "step-charger-small", amps=step.setting, volts=step.limit_V, most_A=bench.charger_A,
                most_V=bench.charger_V,
            )  # fmt: skip
            return [Check(name, "bar", told)]
    return []


def _draw_checks(name: Message, step: Step, family: Family, bench: Bench) -> list[Check]:
    start_V = family.charge_state[0][0]
    if step.mode == "hand":
        return [Check(name, "heed", said("step-by-hand", step=step.title))]
    if not bench.load_W:
        return [Check(name, "bar", said("step-no-load", step=step.title))]
    amps = {"power": step.setting / start_V, "resistance": start_V / step.setting if step.setting else 0.0}.get(
        step.mode, step.setting
    )
    if amps > bench.load_A or amps * start_V > bench.load_W:
        told = said("step-load-small", amps=amps, watts=amps * start_V, most_A=bench.load_A, most_W=bench.load_W)
        return [Check(name, "bar", told)]
    low = next(
        (rule.value for rule in step.ends if rule.kind == "voltage" and rule.value < family.cutoff_floor_V), None
    )
    if low is not None:
        return [Check(name, "bar", said("step-cutoff-low", volts=low, floor=family.cutoff_floor_V))]
    return []


def _thin(recipe: Recipe, family: Family, bench: Bench) -> Check:
    most = max((most_amps(step, family) for step in recipe.steps), default=0.0)
    if bench.leads is None:
        return check("leads", "heed", said("leads-unknown"))
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
        told = said("leads-too-thin", area=leads.area_mm2, carries=carries, amps=most)
        return check("leads", "bar", told, working)
    lose = said("leads-lose", amps=most, area=leads.area_mm2, drop=1000 * drop, rise=rise)
    if most > carries or rise > 25.0 or (drop > 0.1 and not leads.sensed):
        return check("leads", "heed", lose if leads.sensed else said("leads-read-there", lose=lose), working)
    return check("leads", "good", said("leads-good", lose=lose, tight=said("clamps-tight")), working)
