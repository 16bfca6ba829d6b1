"""Claims that take time: reserve minutes, hours with a device, self-discharge."""

from __future__ import annotations

import math

from wintry_tally.core.analysis import Analysis, Count, Instrument, count
from wintry_tally.core.analysis.capacity import usable_above
from wintry_tally.core.analysis.counting import Integral
from wintry_tally.core.analysis.derivation import charge_working
from wintry_tally.core.analysis.ending import DROPOUT, PROTECTION, SET_CUTOFF
from wintry_tally.core.analysis.groups import groups_of
from wintry_tally.core.analysis.reserve import CURRENT_A, END_V, reserve_of
from wintry_tally.core.analysis.reserve import PEUKERT as RESERVE_PEUKERT
from wintry_tally.core.analysis.shelf import MONTH_S, ShelfLoss, loss_by_capacity, loss_by_recharge
from wintry_tally.core.analysis.stages import StageKind, span_of
from wintry_tally.core.quantity import Quantity, format_duration, format_quantity
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import by_probability, decide, not_settled
from wintry_tally.core.verdict.effects import PEUKERT
from wintry_tally.core.verdict.evidence import LogEvidence
from wintry_tally.core.verdict.outcome import Condition, Verdict
from wintry_tally.core.working import Working


def settle_reserve(case: Case) -> Verdict | None:
    """Minutes to 10.50 V, or held above it at the rated minute: both pass rules are looked at."""
    claim = case.claim
    if claim.value is None:
        return None
    claimed_A = claim.conditions.get("current_A", CURRENT_A)
    for log in case.logs("reserve"):
        analysis = log.analysis
        test = analysis.capacity
        if test is None:
            continue
        if not log.method and (analysis.reserve is None or abs(test.count.mean_current.value / claimed_A - 1) > 0.04):
            continue
        reserve = reserve_of(
            analysis.trace,
            analysis.scale,
            analysis.plain_stages,
            test,
            analysis.options.instrument,
            analysis.options.family,
            claim.value / 60.0,
            analysis.options.ambient_C,
        )
        if reserve is None:
            continue
        ratio = test.count.mean_current.value / claimed_A
        minutes = reserve.minutes_at_25C or reserve.minutes
        measured = minutes.scaled(60.0, "s")
        effect = None
        if abs(ratio - 1.0) > 0.02:
            change = measured.value * (ratio**RESERVE_PEUKERT - 1.0)
            effect = Quantity(change, 0.2 * abs(change), "s")
        conditions = [Condition("current", claimed_A, round(test.count.mean_current.value, 3), effect)]
        steps = [reserve.working]
        held = reserve.voltage_at_rated_minutes
        if held is not None:
            steps.append(
                Working(
                    "Second rule: held at the rated minute",
                    f"V at {claim.value / 60.0:g} min ≥ {END_V:.2f} V",
                    {"V": f"{held:.2f} V"},
                    "holds" if held >= END_V else "does not hold",
                    "IEC 60095-1 (from memory)",
                )
            )
        if reserve.reached:
            return decide(case, measured, steps, conditions, log.names, [], log.waiting)
        if held is not None and held >= END_V:
            step = Working(
                reserve.working.label,
                reserve.working.formula,
                reserve.working.inputs,
                f"at least {format_quantity(minutes)}",
                reserve.working.source,
                tuple(steps[1:]),
            )
            return by_probability(case, measured, 1.0, step, log.names, None, tuple(conditions), log.waiting)
        if log.method:
            return not_settled(case, f"it ended before both the rated minute and {END_V:.2f} V", log.names, measured)
    return None


def settle_runtime(case: Case) -> Verdict | None:
    """Hours with a device: charge above its drop-out over its draw, or the time it truly ran."""
    claim = case.claim
    if claim.value is None:
        return None
    for log in case.logs("runtime", "capacity"):
        analysis = log.analysis
        test = analysis.capacity
        if test is None or (not log.method and "device_A" not in claim.conditions):
            continue
        drop = claim.conditions.get("dropout_V")
        if drop is None and analysis.options.dropouts_V:
            drop = analysis.options.dropouts_V[0]
        charge, lasted, whole = (
            test.count.charge,
            test.count.duration_s,
            test.ended_by in {DROPOUT, PROTECTION, SET_CUTOFF},
        )
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
            charge, lasted, whole = usable.charge, usable.duration_s, usable.reached or whole
        return _runtime(case, log, analysis, charge, lasted, whole, drop)
    return None


def _runtime(
    case: Case, log: LogEvidence, analysis: Analysis, charge: Quantity, lasted_s: float, whole: bool, drop: float | None
) -> Verdict:
    claim, test = case.claim, analysis.capacity
    assert claim.value is not None and test is not None
    draw = claim.conditions.get("device_A")
    mean = test.count.mean_current.value
    conditions = []
    inputs = {"charge above the drop-out" if drop is not None else "charge drawn": format_quantity(charge)}
    if drop is not None:
        inputs["drop-out"] = f"{drop:g} V"
    if draw is not None:
        measured = charge.scaled(3600.0 / draw, "s")
        formula = "t = Q / I of the device"
        inputs["draw"] = f"{draw:g} A"
        effect = None
        ratio = mean / draw
        if abs(ratio - 1.0) > 0.1:
            exponent, doubt = PEUKERT[case.family.key]
            change = measured.value * (ratio ** (exponent - 1.0) - 1.0)
            effect = Quantity(change, measured.value * abs(math.log(ratio)) * doubt, "s")
        conditions.append(Condition("draw", draw, round(mean, 3), effect))
    else:
        doubt_s = math.hypot(
            analysis.scale.usual_s / math.sqrt(6.0), math.sqrt(2.0) * analysis.options.instrument.clock_s
        )
        measured = Quantity(lasted_s, doubt_s, "s")
        formula = "time under load until it dropped out"
        conditions.append(Condition("draw", None, round(mean, 3)))
    step = Working(
        "Runtime",
        formula,
        inputs,
        format_duration(measured.value),
        "common practice",
        (charge_working(test.count, analysis.options.instrument, analysis.readings_counted),),
    )
    if not whole:
        if measured.value >= claim.value:
            return by_probability(
                case,
                measured,
                1.0,
                step,
                log.names,
                "it ran longer than claimed and was not empty",
                tuple(conditions),
                log.waiting,
            )
        return not_settled(
            case, f"it was stopped after {format_duration(measured.value)}, before it dropped out", log.names, measured
        )
    return decide(case, measured, [step], conditions, log.names, [], log.waiting)


def settle_self_discharge(case: Case) -> Verdict | None:
    """Percent a month, by recharge to the same full or by a second discharge."""
    claim = case.claim
    if claim.value is None:
        return None
    for log in case.logs("self-discharge"):
        if not log.method and len(log.analyses) < 2:
            found = _between_charges(log.analysis)
            if found is None:
                continue
        lost = _shelf_loss(case, log)
        if isinstance(lost, str):
            return not_settled(case, lost, log.names)
        verdict = decide(case, lost.rate, [lost.working], [], log.names, [], log.waiting)
        if not lost.shown and lost.at_most is not None and verdict.advice is None:
            told = f"at most {lost.at_most:.2g} %/month: the loss does not stand out of what such a test can show"
            return Verdict(
                verdict.claim, verdict.outcome, verdict.measured, verdict.probability,
                verdict.conditions, verdict.evidence, told, verdict.working,
            )  # fmt: skip
        return verdict
    return None


def _shelf_loss(case: Case, log: LogEvidence) -> ShelfLoss | str:
    """The loss, or why there is none to be had."""
    conditions = case.claim.conditions
    months = conditions.get("months")
    if months is None and "duration_s" in conditions:
        months = conditions["duration_s"] / MONTH_S
    between = _between_charges(log.analysis)
    if between is not None:
        put_in, rested_s = between
        months = rested_s / MONTH_S if months is None else months
        return _by_recharge(case, put_in.charge, months)
    if not months or months <= 0:
        return "say how long it was stored: conditions = {months = …}"
    if len(log.analyses) == 2:
        before, after = log.analyses
        if after.charge is None and before.capacity is not None and after.capacity is not None:
            return loss_by_capacity(before.capacity.count.charge, after.capacity.count.charge, months)
    charge = log.analysis.charge
    if charge is None:
        return "no recharge is in it, nor a second discharge"
    if charge.time_to_full_s is None and charge.ended_by in {"log-end", "operator"}:
        return "the recharge did not reach the same full"
    return _by_recharge(case, charge.count.charge, months)


def _by_recharge(case: Case, put_in: Quantity, months: float) -> ShelfLoss | str:
    if not case.rated_Ah:
        return "the capacity is not known: give rated_Ah"
    return loss_by_recharge(put_in, case.rated_Ah, months, case.family)


def _between_charges(analysis: Analysis) -> tuple[Count, float] | None:
    """The last charge of a log that holds two with at least a day of rest between, and that rest in s."""
    stages = analysis.plain_stages
    groups = groups_of(stages, StageKind.CHARGE)
    if len(groups) < 2:
        return None
    (_, before), (first, last) = groups[-2], groups[-1]
    if any(stage.kind == StageKind.DISCHARGE for stage in stages[before:first]):
        return None
    trace, scale = analysis.trace, analysis.scale
    rested = float(trace.time_s[stages[first].first] - trace.time_s[stages[before].last])
    if rested < 86400.0:
        return None
    spans = [span_of(trace, scale, stage) for stage in stages[first : last + 1] if stage.kind == StageKind.CHARGE]
    instrument: Instrument = analysis.options.instrument
    return count(trace, Integral(trace), spans, instrument), rested
