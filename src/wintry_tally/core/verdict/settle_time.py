"""Claims that take time: reserve minutes, hours with a device, self-discharge."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, replace

from wintry_tally.core.analysis import Analysis, Count, count
from wintry_tally.core.analysis.capacity import usable_above
from wintry_tally.core.analysis.counting import Integral
from wintry_tally.core.analysis.derivation import charge_working
from wintry_tally.core.analysis.ending import DROPOUT, ENDING_WORDS, PROTECTION, SET_CUTOFF
from wintry_tally.core.analysis.reserve import CURRENT_A, PER_KELVIN, PER_KELVIN_DOUBT, Reserve, end_of, reserve_of
from wintry_tally.core.analysis.reserve import PEUKERT as RESERVE_PEUKERT
from wintry_tally.core.analysis.shelf import MONTH_S, ShelfLoss, loss_by_capacity, loss_by_recharge
from wintry_tally.core.analysis.stages import StageKind, span_of
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.quantity import Quantity, format_duration, format_quantity
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import as_bound, by_probability, decide, not_settled
from wintry_tally.core.verdict.effects import unread_condition, unseen_condition, warmth_condition, warmth_unknown
from wintry_tally.core.verdict.evidence import LogEvidence, begun_low, begun_note
from wintry_tally.core.verdict.leads import AT_TERMINALS, beyond_own_of
from wintry_tally.core.verdict.outcome import Condition, Verdict
from wintry_tally.core.verdict.settle_capacity import FROM_FULL
from wintry_tally.core.verdict.stood import on_the_shelf
from wintry_tally.core.verdict.twins import bounded, rates_condition, warmth_of_twins
from wintry_tally.core.working import Working

DAY_S = 86_400.0
GAINED = 3.0
"""So many of its standard uncertainties below nothing no loss is: no battery gains on a shelf."""


def settle_reserve(case: Case) -> Verdict | None:
    """Minutes to 10.50 V, or held above it at the rated minute: both pass rules are looked at."""
    claim = case.claim
    claimed_A = claim.conditions.get("current_A", CURRENT_A)
    for log in sorted(case.logs("reserve"), key=lambda log: _far_from(log, claimed_A)):
        analysis = log.analysis
        test = analysis.capacity
        if test is None:
            continue
        if not log.method and (analysis.reserve is None or abs(test.count.mean_current.value / claimed_A - 1) > 0.04):
            continue
        reserve = reserve_of(
            analysis.trace, analysis.scale, analysis.plain_stages, test, analysis.options.instrument,
            analysis.options.family, claim.figure / 60.0, analysis.options.ambient_C,
        )  # fmt: skip
        if reserve is None:
            continue
        end_V = end_of(case.family)
        minutes = reserve.minutes_at_25C or reserve.minutes
        measured = minutes.scaled(60.0, "s")
        conditions = [_at_current(claimed_A, test.count.mean_current.value, measured.value)]
        if (unseen := unseen_condition(test.before, measured.value, "s")) is not None:
            conditions.append(unseen)
        if reserve.minutes_at_25C is None:
            per_kelvin = (PER_KELVIN, PER_KELVIN_DOUBT)
            conditions.append(warmth_unknown(claim, 25.0, per_kelvin, measured.value))
        steps = [reserve.working]
        held = reserve.voltage_at_rated_minutes
        if held is not None:
            steps.append(
                Working(
                    "Second rule: held at the rated minute",
                    f"V at {claim.figure / 60.0:g} min ≥ {end_V:.2f} V",
                    {"V": f"{held:.2f} V"},
                    "holds" if held >= end_V else "does not hold",
                    "IEC 60095-1 (from memory)",
                )
            )
        if reserve.reached:
            verdict = decide(case, measured, steps, conditions, log.names, begun_note(analysis), log.waiting)
            return _bounded(case, log, reserve, verdict, end_V)
        if held is not None and held >= end_V:
            step = replace(reserve.working, result=f"at least {format_quantity(minutes)}", steps=tuple(steps[1:]))
            return by_probability(case, measured, 1.0, step, log.names, None, tuple(conditions), log.waiting)
        if log.method:
            why, settles = said("before-both", volts=end_V), said("on-to-volts", volts=end_V)
            return as_bound(case, not_settled(case, why, log.names, measured), "at-least", why, settles)
    return None


def _bounded(case: Case, log: LogEvidence, reserve: Reserve, verdict: Verdict, end_V: float) -> Verdict:
    """Minutes that are a bound: not from full, read at the load, or with a pause; else as they are."""
    analysis = log.analysis
    low = begun_low(analysis)
    if low:
        return as_bound(case, verdict, "at-least", low, FROM_FULL)
    paused = bool(reserve.paused_s) and reserve.unbroken_s < case.claim.figure
    leads = beyond_own_of(analysis, case.family, case.rated_Ah)
    if leads is not None:
        if paused:
            return not_settled(case, said("bounds-nothing", why=leads.words, seconds=reserve.paused_s), log.names)
        why = said("too-soon", why=leads.words, volts=end_V)
        return as_bound(case, verdict, "at-least", why, AT_TERMINALS)
    if paused:
        why = said("load-off-within", seconds=reserve.paused_s)
        return as_bound(case, verdict, "at-most", why, said("in-one-go"))
    return verdict


def _at_current(claimed_A: float, drawn_A: float, lasted_s: float) -> Condition:
    """The current it was drawn at beside the claimed one, with what that makes of the time where they are apart."""
    ratio, effect = drawn_A / claimed_A, None
    if abs(ratio - 1.0) > 0.02:
        change = lasted_s * (ratio**RESERVE_PEUKERT - 1.0)
        effect = Quantity(change, 0.2 * abs(change), "s")
    return Condition("current", claimed_A, round(drawn_A, 3), effect)


def settle_runtime(case: Case) -> Verdict | None:
    """Hours with a device: charge above its drop-out over its draw, or the time it truly ran.

    Of several runs the one under the claim's own conditions counts: whole before stopped, then the least effect.
    """
    claim = case.claim
    runs = [
        run
        for log in case.logs("runtime", "capacity")
        if log.method or "device_A" in claim.conditions
        if (run := _device_run(case, log)) is not None
    ]
    if not runs:
        return None
    wanted = claim.figure
    best = min(runs, key=lambda run: (not run.whole and run.measured.value < wanted, run.unlike, not run.whole))
    aside = {run.log.names[-1]: f"left aside: {run.words}" for run in runs if run is not best}
    return _runtime(case, best, aside)


def _far_from(log: LogEvidence, claimed_A: float) -> float:
    """How unlike the claim's a run's current was, as a logarithm in steps of a twentieth."""
    test = log.analysis.capacity
    mean = 0.0 if test is None else test.count.mean_current.value
    return math.inf if mean <= 0.0 else round(20.0 * abs(math.log(mean / claimed_A)))


@dataclass(frozen=True)
class _DeviceRun:
    """What a run says of a device's hours: the result with its conditions, and whether it ran to its end."""

    log: LogEvidence
    measured: Quantity
    conditions: tuple[Condition, ...]
    whole: bool
    stopped: Message
    formula: str
    inputs: dict[str, str]
    drop_V: float | None = None

    @property
    def unlike(self) -> float:
        """The share of the result that unlike conditions make."""
        shares = [abs(c.effect.value) + (c.effect.standard or 0.0) for c in self.conditions if c.effect is not None]
        return sum(shares) / max(abs(self.measured.value), 1e-9)

    @property
    def words(self) -> str:
        """Why it is not the one that counts."""
        unlike = ", ".join(f"{c.name} {c.actual}" for c in self.conditions if c.effect is not None)
        return unlike or self.stopped or "another run is as near, and later"


def _device_run(case: Case, log: LogEvidence) -> _DeviceRun | None:
    claim, analysis = case.claim, log.analysis
    test = analysis.capacity
    if test is None:
        return None
    drop = claim.conditions.get("dropout_V")
    if drop is None and analysis.options.dropouts_V:
        drop = analysis.options.dropouts_V[0]
    charge, lasted = test.count.charge, test.count.duration_s
    whole, reached = test.ended_by in {DROPOUT, PROTECTION, SET_CUTOFF} and not test.hidden_s, False
    if drop is not None:
        usable = usable_above(
            analysis.trace,
            Integral(analysis.trace),
            analysis.scale,
            analysis.plain_stages,
            test,
            drop,
            analysis.options.instrument,
        )
        reached = usable.reached or (test.voltage_end <= drop + test.near_V and not test.hidden_s)
        charge, lasted, whole = usable.charge, usable.duration_s, reached or whole
    draw, mean = claim.conditions.get("device_A"), test.count.mean_current.value
    inputs = {"charge above the drop-out" if drop is not None else "charge drawn": format_quantity(charge)}
    if drop is not None:
        inputs["drop-out"] = f"{drop:g} V"
    effect = None
    if draw is not None:
        measured = charge.scaled(3600.0 / draw, "s")
        inputs["draw"] = f"{draw:g} A"
        ratio = mean / draw
        if abs(ratio - 1.0) > 0.1:
            exponent, doubt = case.family.peukert
            change = measured.value * (ratio ** (exponent - 1.0) - 1.0)
            effect = Quantity(change, measured.value * abs(math.log(ratio)) * doubt, "s")
    else:
        doubt_s = math.hypot(
            analysis.scale.usual_s / math.sqrt(6.0), math.sqrt(2.0) * analysis.options.instrument.clock_s
        )
        measured = Quantity(lasted, doubt_s, "s")
    known = [r.temperature_mean for r in analysis.stages[test.first : test.last + 1] if r.temperature_mean is not None]
    celsius = known[0] if known else analysis.options.ambient_C
    warmth = warmth_condition(case.family, claim, celsius, test.count.duration_s, measured.value)
    unseen = unseen_condition(test.before, measured.value, "s")
    unread = unread_condition(
        test.unread_s, 0.0 if reached else measured.value * test.unread_Ah / test.count.charge.value, "s"
    )
    return _DeviceRun(
        log,
        measured,
        (
            Condition("draw", draw, round(mean, 3), effect),
            *(one for one in (warmth, unseen, unread) if one is not None),
        ),
        whole,
        NOTHING if whole else said("gap-ended") if test.hidden_s else ENDING_WORDS[test.ended_by],
        "t = Q / I of the device" if draw is not None else "time under load until it dropped out",
        inputs,
        drop,
    )


def _runtime(case: Case, run: _DeviceRun, aside: dict[str, str]) -> Verdict:
    analysis = run.log.analysis
    test = analysis.capacity
    assert test is not None
    step = Working(
        "Runtime",
        run.formula,
        {**run.inputs, **aside},
        format_duration(run.measured.value),
        "common practice",
        (charge_working(test.count, analysis.options.instrument, analysis.readings_counted),),
    )
    verdict = decide(case, run.measured, [step], list(run.conditions), run.log.names, [], run.log.waiting)
    low = begun_low(analysis)
    if low:
        return as_bound(case, verdict, "at-least", low, FROM_FULL)
    leads = beyond_own_of(analysis, case.family, case.rated_Ah) if run.drop_V is not None else None
    if leads is not None and run.drop_V is not None:
        why = said("too-soon", why=leads.words, volts=run.drop_V)
        return as_bound(case, verdict, "at-least", why, AT_TERMINALS)
    if run.whole:
        return verdict
    why = said("ended-after", ending=run.stopped, seconds=run.measured.value)
    return as_bound(case, verdict, "at-least", why, said("on-to-dropout"))


def settle_self_discharge(case: Case) -> Verdict | None:
    """Percent a month, by recharge to the same full or by a second discharge."""
    for log in case.logs("self-discharge"):
        if not log.method and len(log.analyses) < 2:
            found = _between_charges(log.analysis)
            if found is None:
                continue
        lost = _shelf_loss(case, log)
        if isinstance(lost, Message):
            return not_settled(case, lost, log.names)
        if lost.rate.standard is not None and lost.rate.value < -GAINED * lost.rate.standard:
            return not_settled(case, said("gave-more-after"), log.names, lost.rate)
        conditions = on_the_shelf(case, log, lost.rate)
        drawn = _two_discharges(log)
        if drawn is not None:
            before, after = drawn
            kept = Quantity(100.0 / lost.months - lost.rate.value, None, lost.rate.unit)
            assert before.capacity is not None and after.capacity is not None
            conditions.append(rates_condition(case, after.capacity, before.capacity, kept, "rate before"))
            warmth = warmth_of_twins(case, after, before, kept)
            conditions += [] if warmth is None else [warmth]
        verdict = decide(case, lost.rate, [lost.working], conditions, log.names, [], log.waiting)
        if drawn is not None:
            bound = bounded(case, verdict, after, before, (log.names[1], log.names[0]), log.names)
            if bound is not verdict:
                return bound
        elif _begun_unseen(log):
            return as_bound(case, verdict, "at-least", said("recharge-under-way"), said("recharge-from-before"))
        if not lost.shown and lost.at_most is not None and verdict.advice is None:
            told = said("loss-at-most", rate=lost.at_most)
            return Verdict(
                verdict.claim, verdict.outcome, verdict.measured, verdict.probability,
                verdict.conditions, verdict.evidence, told, verdict.working,
            )  # fmt: skip
        return verdict
    return None


def _begun_unseen(log: LogEvidence) -> bool:
    """Whether the recharge that shows a loss was under way, or may have been, when its log began."""
    charge = log.analysis.charge
    return charge is not None and bool(charge.count.spans) and charge.count.spans[0].first == 0


def _shelf_loss(case: Case, log: LogEvidence) -> ShelfLoss | Message:
    """The loss, or why there is none to be had."""
    conditions = case.claim.conditions
    if log.apart_s is not None:
        return _recorded(case, log, log.apart_s / MONTH_S)
    months = conditions.get("months")
    if months is None and "duration_s" in conditions:
        months = conditions["duration_s"] / MONTH_S
    between = _between_charges(log.analysis)
    if between is not None:
        put_in, rested_s = between
        months = rested_s / MONTH_S if months is None else months
        return _by_recharge(case, put_in.charge, months)
    if not months or months <= 0:
        return said("storage-unknown")
    drawn = _two_discharges(log)
    if drawn is not None:
        given = [analysis.capacity.count.charge for analysis in drawn if analysis.capacity is not None]
        return loss_by_capacity(given[0], given[1], months)
    charge = log.analysis.charge
    if charge is None:
        return said("no-second")
    if charge.time_to_full_s is None and charge.ended_by in {"log-end", "operator", "charge-protection"}:
        return said("other-full")
    return _by_recharge(case, charge.count.charge, months)


def _two_discharges(log: LogEvidence) -> tuple[Analysis, Analysis] | None:
    """The discharges before and after the shelf, where it was told by two of them."""
    if log.apart_s is not None or len(log.analyses) != 2 or _between_charges(log.analysis) is not None:
        return None
    before, after = log.analyses
    drawn = after.charge is None and before.capacity is not None and after.capacity is not None
    return (before, after) if drawn else None


def _recorded(case: Case, log: LogEvidence, months: float) -> ShelfLoss | Message:
    """The loss over a time on the shelf whose start and end were both tested here."""
    if len(log.analyses) < 2:
        return said("on-shelf")
    before, after = log.analyses
    if before.charge is None or before.charge.time_to_full_s is None:
        return said("began-shelf-not-full", log=log.names[0])
    if after.charge is None:
        return said("no-recharge")
    if after.charge.time_to_full_s is None:
        return said("other-full")
    return _by_recharge(case, after.charge.count.charge, months)


def _by_recharge(case: Case, put_in: Quantity, months: float) -> ShelfLoss | Message:
    if not case.rated_Ah:
        return said("capacity-unknown")
    return loss_by_recharge(put_in, case.rated_Ah, months, case.family)


def _between_charges(analysis: Analysis) -> tuple[Count, float] | None:
    """The charges after the last rest of a day or more between charges, nothing drawn in it; and that rest in s."""
    stages, trace = analysis.plain_stages, analysis.trace
    charges = [place for place, stage in enumerate(stages) if stage.kind == StageKind.CHARGE]
    for before, first in reversed(list(itertools.pairwise(charges))):
        rested = float(trace.time_s[stages[first].first] - trace.time_s[stages[before].last])
        if rested < DAY_S or any(stage.kind == StageKind.DISCHARGE for stage in stages[before:first]):
            continue
        spans = [span_of(trace, analysis.scale, stages[place]) for place in charges if place >= first]
        return count(trace, Integral(trace), spans, analysis.options.instrument), rested
    return None
