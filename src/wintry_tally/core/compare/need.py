"""What a battery is for: a list of things that draw, judged by running it on batteries that fit this one's own evidence.

Members of the family that fit its logged discharges (`plan.so_far.fitted`) are emptied by the need at its coldest; the share
of them that holds is the probability. Source: common practice, no published source.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from wintry_tally.core.battery import Sample
from wintry_tally.core.battery.sample import first_value
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.cell.battery_model import HOLDS_BACK_C
from wintry_tally.core.compare.figures import first_step
from wintry_tally.core.compare.money import HALF, Bill, bill, lost_kWh
from wintry_tally.core.compare.tested import FULL_DOUBT, Tested, whole_discharges
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.plan.ensemble import Ensemble, Members
from wintry_tally.core.plan.so_far import fitted
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.room import ROOM_C
from wintry_tally.core.verdict.outcome import Outcome

DROPS_OUT = "limit-dropout"
STEPS = 300
MOST_PARALLEL = 12
SURE = 0.95
COLD_FACTOR = 0.35
"""How far the loss in the cold of this battery may be from its family's, as a share of it, one standard deviation."""
SLOW_COLD = (0.75, 0.2)
"""Of what the cold holds back at a quick draw, the share that a very slow one gets all the same, and its deviation."""
STEP_SHARE, LEAST_MEMBERS = 0.1, 15.0
"""How well a model's resistance is told by a measured step, as a share; and how many members must be left by it."""
REPEAT_SHARE = 0.006
"""One battery's capacity from run to run, as a share; common practice."""
REACH = 2.0
"""It is followed for so many times the hours asked for; what holds longer is told as at least that."""
CHARGED_BACK = {True: 0.99, False: 0.85}
TAIL_H = {True: 0.5, False: 4.0}
CHARGE_DOUBT = 0.12
"""Charge efficiency and the hours of the tail, lithium or lead-acid, and the doubt of the hours; common practice."""
USUAL_V = 12.8


@dataclass(frozen=True)
class Device:
    """One thing that draws: amperes or watts, the share of time it is on, the least voltage it works at, its start."""

    name: str
    A: float = 0.0
    W: float = 0.0
    duty: float = 1.0
    least_V: float = 0.0
    surge_A: float = 0.0
    surge_s: float = 0.0
    inverter: float = 0.0

    def drawn_at(self, volts: Members) -> Members:
        """What it draws from the battery while it is on, A."""
        share = self.inverter or 1.0
        if self.W:
            amps: Members = self.W / (share * np.maximum(1.0, volts))
            return amps
        return np.full(len(volts), self.A / share)


@dataclass(frozen=True)
class Need:
    """What is asked of a battery; None is not asked."""

    name: str
    hours: float
    devices: tuple[Device, ...]
    coldest_C: float | None = None
    charger_A: float | None = None
    full_again_h: float | None = None
    charger_price: float | None = None
    cycles_a_year: float | None = None
    years: float | None = None
    kWh_price: float | None = None

    @property
    def drawn_Wh(self) -> float:
        """What its devices draw within its hours, Wh, at a usual 12.8 V."""
        volts = np.array([USUAL_V])
        return USUAL_V * self.hours * sum(device.duty * float(device.drawn_at(volts)[0]) for device in self.devices)


@dataclass(frozen=True)
class NeedResult:
    """How a battery stands to a need.

    Parts:
        hours: how long it holds; bound "at-least" where it was not followed to the end; left_Ah: after the hours asked.
        limited_by: what ends it; in_parallel: so many would do, None where none of the numbers tried does.
        mass_kg, cost, currency: of so many (of one where none does), over the years asked for; bill: year by year, and
        with half of the claimed cycles.
        course: hours, and the voltage under load of one in forty, of half, and of all but one in forty of the batteries.
    """

    need: str
    code: str
    outcome: Outcome
    probability: float | None = None
    hours: Quantity | None = None
    bound: str | None = None
    left_Ah: Quantity | None = None
    limited_by: Message = NOTHING
    in_parallel: int | None = None
    mass_kg: float | None = None
    cost: float | None = None
    currency: str = ""
    advice: Message = NOTHING
    steps: tuple[str, ...] = field(default=())
    bill: Bill | None = None
    halved: Bill | None = None
    course: tuple[tuple[float, float, float, float], ...] = field(default=(), repr=False)


def judge_need(
    need: Need, sample: Sample, runs: Sequence[Tested], cold_loss: tuple[float, float] | None = None,
    cycles: float | None = None, units: int = 1,
) -> NeedResult:  # fmt: skip
    """Hold a battery against a need.

    Args:
        cold_loss: its measured loss, as a share, and at which °C, where there is one.
        cycles: how many it lasts by its own tests, where they say it; else as claimed.
        units: so many of them side by side share what is drawn.
    """
    rated = sample.rated_Ah
    stages = whole_discharges(runs)
    if not rated or not stages:
        return NeedResult(need.name, sample.code, Outcome.NOT_TESTED, advice=said("capacity-first"))
    raw = _by_its_steps(fitted(stages, sample.family, rated), sample, runs, rated)
    one = _run(need, sample, raw, rated, cold_loss, units)
    probability = _probability(need, sample, one)
    number: int | None = units if probability >= SURE else None
    if number is None:
        for count in range(units + 1, max(MOST_PARALLEL, 2 * units) + 1):
            if _probability(need, sample, _run(need, sample, raw, rated, cold_loss, count)) >= SURE:
                number = count
                break
    outcome = Outcome.MET if probability >= SURE else Outcome.MISSED if probability <= 1.0 - SURE else Outcome.TOO_CLOSE
    reach = REACH * need.hours
    bound = "at-least" if float(np.median(one.hours)) >= reach * 0.999 else None
    price = next((claim for claim in sample.claims if claim.kind == "price" and claim.value), None)
    mass = sample.arrival.mass_kg or first_value(sample.claims, "mass")
    bought = number or units
    own = _bill(need, sample, runs, price.value if price is not None else None, bought, cycles)
    return NeedResult(
        need.name, sample.code, outcome, probability, _quantity(one.hours, "h"), bound, _quantity(one.left_Ah, "Ah"),
        _limit(need, sample, one), number, None if mass is None else bought * mass,
        None if own is None else own[0].total,
        price.currency if price is not None else "", _advice(need, one, probability),
        (f"{len(stages)} logged discharges fitted", f"{len(raw)} batteries that fit them, followed at {_celsius(need):g} °C"),
        own[0] if own is not None else None, own[1] if own is not None else None, one.course,
    )  # fmt: skip


@dataclass(frozen=True)
class _Ran:
    hours: Members
    left_Ah: Members
    drawn_Ah: Members
    by: tuple[Message, ...]
    what: Members
    course: tuple[tuple[float, float, float, float], ...] = ()


def _celsius(need: Need) -> float:
    return ROOM_C if need.coldest_C is None else need.coldest_C


def _by_its_steps(raw: Members, sample: Sample, runs: Sequence[Tested], rated: float) -> Members:
    """Members drawn again by how well their resistance fits what a step of the current showed."""
    weights = np.ones(len(raw))
    for run in runs:
        test = run.analysis.capacity
        step = first_step(sample, run, test) if test is not None else None
        if step is None or step.ohm.value <= 0:
            continue
        known = run.evidence.temperature_C if run.evidence is not None else None
        usual = parameters_for(sample.family, rated)
        members = Ensemble.of(
            raw, sample.family, rated, usual, (1.0, 0.0), (0.0, 0.0), ROOM_C if known is None else known
        )
        shown = members.ohm + members.slow_ohm_at(step.after_s)
        doubt = math.hypot(step.ohm.standard or 0.0, STEP_SHARE * step.ohm.value)
        weights = weights * np.exp(-0.5 * ((shown - step.ohm.value) / doubt) ** 2)
    total = float(np.sum(weights))
    if not total > 1e-12 or float(np.sum((weights / total) ** 2)) > 1.0 / LEAST_MEMBERS:
        return raw  # none of them comes near: the fit of the whole discharge stands
    kept: Members = raw[np.random.default_rng(3).choice(len(raw), len(raw), p=weights / total)]
    return kept


def _run(
    need: Need, sample: Sample, raw: Members, rated: float, cold_loss: tuple[float, float] | None, units: int
) -> _Ran:
    """The need on every member, shared by so many units in parallel."""
    family, celsius = sample.family, _celsius(need)
    usual = parameters_for(family, rated)
    chance = np.random.default_rng(7)
    size = len(raw)
    # colder than it was tested: the family's loss, or its own where it was measured
    centre, doubt = 1.0, COLD_FACTOR
    if cold_loss is not None and cold_loss[1] < 20.0 and usual.capacity_per_K > 0:
        centre = max(0.1, cold_loss[0] / (usual.capacity_per_K * (25.0 - cold_loss[1])))
        doubt = 0.12
    factor = np.clip(centre * (1.0 + doubt * chance.standard_normal(size)), 0.05, 5.0)
    warm = Ensemble.of(raw, family, rated, usual, (1.0, 0.0), (family.charge_V[1], 0.0), 25.0)
    cold = Ensemble.of(raw, family, rated, usual, (1.0, 0.0), (family.charge_V[1], 0.0), celsius)
    # what the cold holds back of a slow draw is less, and how much less is hardly known
    slowly = 1.0 - min(1.0, need.drawn_Wh / (USUAL_V * need.hours * units * rated) / HOLDS_BACK_C)
    given = np.clip(SLOW_COLD[0] + SLOW_COLD[1] * chance.standard_normal(size), 0.0, 1.0)
    factor = factor * (1.0 - slowly * given)
    lost = np.clip((warm.capacity_Ah - cold.capacity_Ah) * factor, 0.0, 0.9 * warm.capacity_Ah)
    capacity = (warm.capacity_Ah - lost) * (1.0 + REPEAT_SHARE * chance.standard_normal(size))
    full = 1.0 - np.abs(FULL_DOUBT * chance.standard_normal(size))
    members = replace(
        cold, capacity_Ah=capacity, free=capacity * full * cold.wells, bound=capacity * full * (1.0 - cold.wells)
    )
    return _emptied(need, sample, members, units)


def _emptied(need: Need, sample: Sample, members: Ensemble, units: int) -> _Ran:
    size = len(members.ohm)
    cut = _cut_V(sample)
    volts = np.full(size, sample.family.nominal_V)
    hours, left = np.full(size, REACH * need.hours), np.full(size, np.nan)
    by = tuple(
        [said(DROPS_OUT, device=device.name, volts=device.least_V or 0.0) for device in need.devices]
        + [said("limit-protection" if sample.family.own_protection else "limit-empty", volts=cut)]
    )
    what = np.full(size, len(by) - 1)
    live, drawn = np.ones(size, dtype=bool), np.zeros(size)
    times: list[float] = []
    stood: list[Members] = []
    last = volts
    stride = REACH * need.hours / STEPS
    for step in range(STEPS + 1):
        now = step * stride
        on = [device.drawn_at(volts) / units for device in need.devices]
        peak = np.sum(on, axis=0)
        inner = members.inner_V(False)
        shown = inner - peak * members.ohm
        for number, device in enumerate(need.devices):
            start = np.where(device.surge_A > 0, np.maximum(0.0, device.surge_A / units - on[number]), 0.0)
            fails = (
                live & (inner - (peak + start) * members.ohm <= device.least_V)
                if device.least_V
                else np.zeros(size, bool)
            )
            hours[fails], what[fails] = now, number
            live &= ~fails
        last = np.where(live, shown, last)  # one that has ended stands where it did
        if np.mean(live) >= 0.5:
            times.append(now)
            stood.append(last)
        opens = live & (shown <= cut)
        hours[opens] = now
        live &= ~opens
        if now >= need.hours and np.isnan(left).all():
            left = np.maximum(0.0, members.free + members.bound) * units
        if not live.any():
            break
        average = np.sum([device.duty * amps for device, amps in zip(need.devices, on, strict=True)], axis=0)
        members.go(average, 3600.0 * stride)
        drawn = drawn + np.where(live, average, 0.0) * stride * units
        volts = np.maximum(0.5 * cut, shown)
    left = np.where(hours < need.hours, np.maximum(0.0, members.free + members.bound) * units, np.nan_to_num(left))
    within = np.minimum(drawn, drawn * need.hours / np.maximum(hours, 1e-9))
    bands = np.quantile(stood, [0.025, 0.5, 0.975], axis=1).T.tolist() if stood else []
    return _Ran(hours, left, within, by, what, tuple((now, *band) for now, band in zip(times, bands, strict=True)))


def _cut_V(sample: Sample) -> float:
    return sample.cutoff_V if sample.family.own_protection else sample.family.cutoff_floor_V


def _probability(need: Need, sample: Sample, ran: _Ran) -> float:
    holds = ran.hours >= need.hours * (1.0 - 1e-9)
    shares = np.where(holds, 1.0, 0.0)
    if need.charger_A and need.full_again_h:
        shares = shares * _full_again(need, sample, ran)
    size = len(shares)
    return float((np.sum(shares) + 0.5) / (size + 1.0))


def _full_again(need: Need, sample: Sample, ran: _Ran) -> Members:
    """Of each, how likely it is full again in time."""
    assert need.charger_A and need.full_again_h
    lithium = sample.family.lithium
    takes = ran.drawn_Ah / CHARGED_BACK[lithium] / need.charger_A + TAIL_H[lithium]
    from scipy.special import ndtr

    found: Members = ndtr((need.full_again_h - takes) / (CHARGE_DOUBT * np.maximum(takes, 0.1)))
    return found


def _limit(need: Need, sample: Sample, ran: _Ran) -> Message:
    if need.charger_A and need.full_again_h and float(np.median(_full_again(need, sample, ran))) < 0.5:
        return said("limit-charger")
    if float(np.median(ran.hours)) >= REACH * need.hours * 0.999:
        return said("limit-nothing")
    which = int(np.bincount(ran.what[ran.hours < REACH * need.hours * 0.999]).argmax())
    return ran.by[which]


def _advice(need: Need, ran: _Ran, probability: float) -> Message:
    if probability >= SURE:
        return NOTHING
    device = ran.by[int(np.bincount(ran.what).argmax())]
    if device.code == DROPS_OUT:
        return said("lower-dropout")
    if need.coldest_C is not None and need.coldest_C < 10.0:
        return said("insulate")
    return said("more-of-them")


def _bill(
    need: Need, sample: Sample, runs: Sequence[Tested], price: float | None, units: int, cycles: float | None
) -> tuple[Bill, Bill | None] | None:
    """What it costs over the years asked for; and with half of the cycles, where they are only claimed."""
    if price is None:
        return None
    claimed = first_value(sample.claims, "cycles")
    lasts = cycles or claimed
    life = lasts / need.cycles_a_year if lasts and need.cycles_a_year else None
    efficiencies = [run.analysis.efficiency.energy.value for run in runs if run.analysis.efficiency is not None]
    lost = 0.0
    if need.kWh_price and need.cycles_a_year:
        share = efficiencies[-1] / 100.0 if efficiencies and 40.0 < efficiencies[-1] <= 100.0 else None
        lost = need.kWh_price * lost_kWh(need.drawn_Wh, need.cycles_a_year, sample.family, share)

    def over(years_of_life: float | None) -> Bill:
        return bill(units * price, need.years or 0.0, years_of_life, need.charger_price or 0.0, lost)

    return over(life), over(HALF * life) if life is not None and cycles is None and need.years else None


def _quantity(values: Members, unit: str) -> Quantity:
    low, middle, high = (float(x) for x in np.quantile(values, [0.025, 0.5, 0.975]))
    width = (high - low) / 4.0
    return Quantity(middle, width if width > 1e-6 * abs(middle) else 0.0, unit)
