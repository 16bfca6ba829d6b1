"""What a sample's runs, claims and weighing say of it, figure by figure, each with the conditions it was found at."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from wintry_tally.core.analysis.capacity import CapacityTest, usable_above
from wintry_tally.core.analysis.counting import Integral
from wintry_tally.core.analysis.rate import RatePoint, rate_law
from wintry_tally.core.analysis.resistance import StepResistance
from wintry_tally.core.battery import Sample
from wintry_tally.core.battery.economy import price_per_kWh, usual_depth, years_of_cycles
from wintry_tally.core.battery.sample import first_value
from wintry_tally.core.compare.tested import Tested, whole_test
from wintry_tally.core.errors import WintryError
from wintry_tally.core.quantity import Quantity, Term, ratio
from wintry_tally.core.verdict import Verdict


@dataclass(frozen=True)
class Kind:
    """One quantity: its name in words, which way is better (1 more, -1 less, 0 neither), what settles it, and where."""

    label: str
    better: int
    way: str
    station: str = "capacity"


QUANTITIES = {
    "charge": Kind("Charge", 1, "run a capacity test"),
    "energy": Kind("Energy", 1, "run a capacity test"),
    "mean-voltage": Kind("Mean voltage", 1, "run a capacity test"),
    "usable": Kind("Usable charge above {:g} V", 1, "run a capacity test"),
    "resistance": Kind("Resistance", -1, "log a step of the current, at the start of a discharge"),
    "rate-exponent": Kind("Exponent of the rate", -1, "run capacity tests at two rates"),
    "sag": Kind("Sag at {:g} A", -1, "log a step of the current, at the start of a discharge"),
    "acceptance": Kind("Current still taken after 45 min", 1, "log a charge from empty", "charge"),
    "recharge-time": Kind("Time to full", -1, "log a charge from empty", "charge"),
    "cold-loss": Kind("Loss in the cold", -1, "run the cold capacity test and its warm twin", "cold"),
    "self-discharge": Kind("Self-discharge", -1, "run the shelf test", "shelf"),
    "mass": Kind("Mass", -1, "weigh it on arrival", "arrival"),
    "energy-mass": Kind("Energy by mass", 1, "weigh it, and run a capacity test"),
    "energy-volume": Kind("Energy by volume", 1, "claim or measure its sizes, and run a capacity test"),
    "price": Kind("Price", -1, "enter its price", "arrival"),
    "price-charge": Kind("Price per Ah", -1, "enter its price, and run a capacity test"),
    "price-energy": Kind("Price per Wh", -1, "enter its price, and run a capacity test"),
    "price-delivered": Kind("Price per delivered kWh", -1, "claim its cycles and price, and run a capacity test"),
    "cycle-years": Kind("Claimed cycles, one a day", 1, "claim its cycles", "arrival"),
}
"""Every quantity that is compared, in the order of a table. A new one is a line here and a figure below."""

LEAST_STEP_C = 0.1
"""A step of less current than this share of the rating says little of the resistance; common practice."""
SAG_RATE_SHARE = 0.1
"""How far a resistance may be off at e times the current it was found at, as a share of it; common practice."""
TAKEN_MIN, TAKEN_DOUBT = 45, 1.0
"""After so many minutes of a charge; percent that a share of its first current repeats to, common practice."""
CLOCK_SHARE = 1e-4
EMPTY_BEFORE = 0.8
"""A charge that put in less of the rating did not begin empty: its time is no recharge time."""


@dataclass(frozen=True)
class Conditions:
    """What a figure was found at; None where it is not known or says nothing."""

    c_rate: float | None = None
    temperature_C: float | None = None
    rest_s: float | None = None
    end: str = ""
    end_V: float | None = None
    duration_s: float = 0.0
    started: datetime | None = None
    step_s: float | None = None
    limit_V: float | None = None


@dataclass(frozen=True)
class Figure:
    """One figure of one sample: the quantity's key (with a drop-out: "usable 11.4"), its value, whose run, at what."""

    quantity: str
    value: Quantity
    of: str
    at: Conditions = Conditions()


def figures_of(
    sample: Sample, runs: Sequence[Tested], verdicts: Sequence[Verdict], dropouts: Iterable[float] = (),
    currents: Iterable[float] = (),
) -> dict[str, list[Figure]]:  # fmt: skip
    """Every figure of a sample, by its key; of one quantity there may be several, each at its own conditions.

    Args:
        dropouts: voltages above which the usable charge is told; currents: A at which the sag is told.
    """
    found: list[Figure] = []
    # a drop-out above what the pack is charged to is another pack's
    marks, drawn = tuple(mark for mark in dropouts if mark < sample.family.charge_V[1]), tuple(currents)
    for run in runs:
        found += _discharge(sample, run, marks, drawn) + _charge(sample, run) + _taken(sample, run)
    found += _rate(runs) + _judged(verdicts) + _plain(sample, found)
    by_key: dict[str, list[Figure]] = {}
    for figure in found:
        by_key.setdefault(figure.quantity, []).append(figure)
    return by_key


def _at(run: Tested, rated: float | None) -> Conditions:
    test, evidence = run.analysis.capacity, run.evidence
    assert test is not None
    amps = test.count.charge.value / (test.count.duration_s / 3600.0)
    return Conditions(
        c_rate=amps / rated if rated else None,
        temperature_C=evidence.temperature_C if evidence is not None else None,
        rest_s=run.analysis.options.rest_s,
        end="protection" if test.ended_by == "battery-protection" else "mark",
        end_V=test.voltage_end,
        duration_s=test.count.duration_s,
        started=run.started,
    )


def _discharge(sample: Sample, run: Tested, dropouts: tuple[float, ...], currents: tuple[float, ...]) -> list[Figure]:
    test = whole_test(run)
    if test is None:
        return []
    at, count = _at(run, sample.rated_Ah), test.count
    found = [Figure("charge", count.charge, run.name, at), Figure("energy", count.energy, run.name, at)]
    found.append(Figure("mean-voltage", count.mean_voltage, run.name, at))
    analysis = run.analysis
    integral = Integral(analysis.trace)
    stages = [result.stage for result in analysis.stages]
    for mark in dropouts:
        usable = usable_above(analysis.trace, integral, analysis.scale, stages, test, mark, analysis.options.instrument)
        found.append(Figure(f"usable {mark:g}", usable.charge, run.name, replace(at, end="mark", end_V=mark)))
    step = first_step(sample, run, test)
    if step is not None:
        here = replace(at, step_s=step.after_s, end="", end_V=None)
        found.append(Figure("resistance", step.ohm, run.name, here))
        found += [Figure(f"sag {amps:g}", _sag(step, amps), run.name, here) for amps in currents]
    return found


def _sag(step: StepResistance, amps: float) -> Quantity:
    """What the voltage gives way at a current, V: by the resistance of a step, the less surely the less alike they are."""
    found = step.ohm.scaled(amps, "V")
    far = SAG_RATE_SHARE * abs(math.log(amps / abs(step.to_A - step.from_A))) * found.value
    if found.standard is None:
        return found
    terms = found.terms or (Term("the step", found.standard),)
    return Quantity.from_terms(found.value, "V", [*terms, Term("another current", far)])


def first_step(sample: Sample, run: Tested, test: CapacityTest) -> StepResistance | None:
    """The step at which a discharge from rest begins: both batteries are full there."""
    rated = sample.rated_Ah
    if not rated:
        return None
    begins = run.analysis.stages[test.first].start_s
    steps = [s for s in run.analysis.resistance if abs(s.from_A) < 0.02 * rated and abs(s.to_A) >= LEAST_STEP_C * rated]
    near = [s for s in steps if abs(s.at_s - begins) < 60.0]
    return min(near, key=lambda s: abs(s.at_s - begins), default=None)


def _charge(sample: Sample, run: Tested) -> list[Figure]:
    charge, rated = run.analysis.charge, sample.rated_Ah
    if (
        charge is None
        or run.method not in {"", "charge", "capacity"}
        or charge.time_to_full_s is None
        or charge.undecided
    ):
        return []
    if not rated or charge.count.charge.value < EMPTY_BEFORE * rated or charge.heating is not None:
        return []
    own = max(charge.full_doubt_s, charge.full_early_s, charge.full_late_s) / math.sqrt(3.0)
    standard = math.hypot(own, CLOCK_SHARE * charge.time_to_full_s)
    amps = charge.count.charge.value / (charge.count.duration_s / 3600.0) if charge.count.duration_s else None
    at = Conditions(
        c_rate=amps / rated if amps else None, started=run.started, temperature_C=run.analysis.options.ambient_C
    )
    return [Figure("recharge-time", Quantity(charge.time_to_full_s, standard, "s"), run.name, at)]


def _taken(sample: Sample, run: Tested) -> list[Figure]:
    """The share of its first current that a charge from empty still took after a while, %."""
    charge, rated = run.analysis.charge, sample.rated_Ah
    share = dict(run.analysis.acceptance).get(TAKEN_MIN)
    if charge is None or share is None or not rated or charge.heating is not None:
        return []
    if charge.count.charge.value < EMPTY_BEFORE * rated or not charge.count.duration_s:
        return []
    amps = charge.count.charge.value / (charge.count.duration_s / 3600.0)
    at = Conditions(c_rate=amps / rated, started=run.started, temperature_C=run.analysis.options.ambient_C)
    return [Figure("acceptance", Quantity(100.0 * share, TAKEN_DOUBT, "%"), run.name, at)]


def _rate(runs: Sequence[Tested]) -> list[Figure]:
    points = []
    for run in runs:
        test = whole_test(run)
        if test is not None and run.method != "cold-loss":
            amps = test.count.charge.value / (test.count.duration_s / 3600.0)
            points.append(RatePoint(run.name, amps, test.count.charge))
    if len(points) < 2:
        return []
    try:
        law = rate_law(points)
    except WintryError:
        return []  # rates too much alike
    return [Figure("rate-exponent", law.exponent, f"{len(points)} runs")]


def _judged(verdicts: Sequence[Verdict]) -> list[Figure]:
    wanted = ("cold-loss", "self-discharge")
    return [
        Figure(verdict.claim.kind, verdict.measured, ", ".join(verdict.evidence))
        for verdict in verdicts
        if verdict.claim.kind in wanted and verdict.measured is not None and verdict.bound is None
    ]


def _plain(sample: Sample, found: Sequence[Figure]) -> list[Figure]:
    """What follows from the weighing, the claims and every charge and energy found; each at the conditions of its run."""
    made: list[Figure] = []
    claims, arrival = sample.claims, sample.arrival
    energies = [one for one in found if one.quantity == "energy"]
    charges = [one for one in found if one.quantity == "charge"]
    if arrival.mass_kg is not None:
        limit = arrival.mass_limit_kg
        mass = Quantity(arrival.mass_kg, None if limit is None else limit / math.sqrt(3.0), "kg")
        made.append(Figure("mass", mass, "weighed on arrival"))
        made += [Figure("energy-mass", ratio(one.value, mass, 1.0, "Wh/kg"), one.of, one.at) for one in energies]
    sizes = [first_value(claims, kind) for kind in ("length", "width", "height")]
    if all(sizes):
        litres = math.prod(size for size in sizes if size) / 1e6
        made += [Figure("energy-volume", one.value.scaled(1.0 / litres, "Wh/L"), one.of, one.at) for one in energies]
    cycles = next((claim for claim in claims if claim.kind == "cycles" and claim.value), None)
    if cycles is not None and cycles.value:
        made.append(Figure("cycle-years", Quantity(years_of_cycles(cycles.value), 0.0, "years"), "as claimed"))
    price = next((claim for claim in claims if claim.kind == "price" and claim.value), None)
    if price is None or not price.value:
        return made
    money = price.currency
    paid = Quantity(price.value, 0.0, money)
    made.append(Figure("price", paid, "as claimed"))
    made += [Figure("price-charge", ratio(paid, one.value, 1.0, f"{money}/Ah"), one.of, one.at) for one in charges]
    made += [Figure("price-energy", ratio(paid, one.value, 1.0, f"{money}/Wh"), one.of, one.at) for one in energies]
    if cycles is not None and cycles.value:
        depth = cycles.conditions.get("depth", usual_depth(sample.family))
        end = cycles.conditions.get("end_share", 0.8)
        for one in energies:
            each = price_per_kWh(price.value, cycles.value, depth * one.value.value, end)
            moved = one.value.scaled(-each / one.value.value, f"{money}/kWh")
            delivered = Quantity(each, moved.standard, moved.unit, moved.terms)
            made.append(Figure("price-delivered", delivered, one.of, one.at))
    return made
