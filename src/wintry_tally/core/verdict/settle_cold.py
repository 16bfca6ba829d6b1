"""What the cold shows: a charge refused and taken again, a heater's work, what was lost."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.charging import Heating
from wintry_tally.core.analysis.cold import FLOWS_S, ChargeAttempt, charge_attempts, loss
from wintry_tally.core.analysis.counting import meters_words
from wintry_tally.core.analysis.readings import temperature_quantity
from wintry_tally.core.analysis.trips import temperature_near
from wintry_tally.core.message import Message, said
from wintry_tally.core.quantity import Quantity, format_duration, format_quantity
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import as_bound, by_probability, decide, implied_tolerance, not_settled
from wintry_tally.core.verdict.effects import LIKE_KELVIN
from wintry_tally.core.verdict.evidence import LogEvidence
from wintry_tally.core.verdict.outcome import Condition, Outcome, Verdict
from wintry_tally.core.verdict.settle_charge import most_taken
from wintry_tally.core.verdict.stood import after_soak
from wintry_tally.core.verdict.twins import begun_at, bounded, rates_condition
from wintry_tally.core.working import Working


def _attempts(analysis: Analysis) -> list[ChargeAttempt]:
    return charge_attempts(
        analysis.trace,
        analysis.scale,
        analysis.plain_stages,
        analysis.trips,
        analysis.charge,
        analysis.options.ambient_C,
        analysis.options.rated_Ah,
    )


def _cold_logs(case: Case) -> list[LogEvidence]:
    return case.logs("charge-block", "heater")


def settle_block(case: Case) -> Verdict | None:
    """Charging refused in the cold: refused at or below the claimed temperature, and never taken below it."""
    claim = case.claim
    for log in _cold_logs(case):
        attempts = _attempts(log.analysis)
        known = [(one.temperature_C, one) for one in attempts if one.temperature_C is not None]
        if not known:
            if not log.method:
                continue
            why = said("no-temperature-known" if attempts else "no-charger-on")
            return not_settled(case, why, log.names)
        limit = 0.0 if claim.value is None else claim.value
        tolerance = max(implied_tolerance(claim), 0.0)
        flowed = [(celsius, one) for celsius, one in known if not one.refused and celsius < limit - tolerance]
        refused = [(celsius, one) for celsius, one in known if one.refused]
        if not log.method and not flowed and not refused:
            continue
        return after_soak(case, log, _block(case, log, limit, tolerance, flowed, refused))
    return None


def _block(
    case: Case,
    log: LogEvidence,
    limit: float,
    tolerance: float,
    flowed: list[tuple[float, ChargeAttempt]],
    refused: list[tuple[float, ChargeAttempt]],
) -> Verdict:
    wanted = case.claim.wanted is not False
    if flowed:
        celsius, worst = min(flowed, key=lambda one: one[0])
        measured = temperature_quantity(celsius)
        step = Working(
            "Charge taken in the cold",
            f"a current that flows for more than {FLOWS_S:g} s is a charge",
            {"flowed for": format_duration(worst.after_s), "current": f"{worst.current_A:.3g} A"},
            f"at {format_quantity(measured)}",
            "common practice, no published source",
        )
        chance = 1.0 - _below(measured, limit)
        return by_probability(
            case, measured, chance if wanted else 1.0 - chance, step, log.names,
            said("no-block-seen"), (), log.waiting,
        )  # fmt: skip
    if not refused:
        return not_settled(case, said("not-tried-cold"), log.names)
    celsius, coldest = min(refused, key=lambda one: one[0])
    measured = temperature_quantity(celsius)
    step = Working(
        "Charge refused in the cold",
        "current blocked within seconds while the charger's voltage stands",
        {
            "flowed for": f"{coldest.after_s:.3g} s",
            "claimed": f"refused below {limit:g} °C",
            "tries refused": f"{len(refused)}",
        },
        f"at {format_quantity(measured)}",
        "common practice, no published source",
    )
    chance = _below(measured, limit + tolerance)
    return by_probability(
        case, measured, chance if wanted else 1.0 - chance, step, log.names,
        None if chance > 0.95 else said("refused-warmer"), (), log.waiting,
    )  # fmt: skip


def _below(measured: Quantity, limit: float) -> float:
    return 0.5 * math.erfc((measured.value - limit) / ((measured.standard or 1e-9) * math.sqrt(2.0)))


def settle_release(case: Case) -> Verdict | None:
    """The temperature at which a refused charge was taken."""
    for log in _cold_logs(case):
        attempts = _attempts(log.analysis)
        refused = [attempt for attempt in attempts if attempt.refused]
        taken = [
            (one.temperature_C, one)
            for one in attempts
            if not one.refused and refused and one.at_s > refused[0].at_s and one.temperature_C is not None
        ]
        if not taken:
            if log.method == "charge-block":
                return not_settled(case, said("not-let-warm"), log.names)
            continue
        celsius, first = taken[0]
        measured = temperature_quantity(celsius)
        before_C = refused[0].temperature_C
        step = Working(
            "Temperature at which it charged again",
            "at the first lasting current after a refusal",
            {
                "refused at": "not known" if before_C is None else f"{before_C:g} °C",
                "flowed from": f"{first.at_s:.0f} s",
            },
            format_quantity(measured),
            "common practice, no published source",
        )
        return decide(case, measured, [step], [], log.names, [], log.waiting)
    return None


def _heating(case: Case) -> tuple[LogEvidence, Heating] | Verdict | None:
    for log in case.logs("heater", "charge-block", "charge"):
        charge = log.analysis.charge
        if charge is not None and charge.heating is not None:
            return log, charge.heating
        if log.method == "heater":
            return not_settled(case, said("no-heater-phase"), log.names)
    return None


def _handed_over(heating: Heating) -> Message:
    if not heating.late_s:
        return said("gap-hides-charger", seconds=heating.early_s)
    return said("gap-hides-cells", seconds=heating.late_s)


def _heater_step(heating: Heating, label: str, result: str) -> Working:
    return Working(
        label,
        "the charger's limit with a small steady current, until the voltage falls and the cells take over",
        {
            "lasted": format_duration(heating.duration_s),
            "energy": format_quantity(heating.energy),
            **({} if heating.power is None else {"power": format_quantity(heating.power)}),
        },
        result,
        "common practice, no published source",
    )


def settle_heater_power(case: Case) -> Verdict | None:
    """Mean power into the heater."""
    found = _heating(case)
    if not isinstance(found, tuple):
        return found
    log, heating = found
    if heating.power is None:
        return None
    step = _heater_step(heating, "Power into the heater", format_quantity(heating.power))
    charger = most_taken(log.analysis)
    fed_A = heating.energy.value / heating.duration_s * 3600.0 / heating.level_V if heating.level_V else 0.0
    at_ceiling = charger is not None and charger.by_charger and fed_A > 0.97 * charger.current.value
    if at_ceiling and heating.power.value < case.claim.figure:
        why = said("charger-gave-all", power=format_quantity(heating.power))
        return not_settled(case, why, log.names, heating.power)
    return decide(case, heating.power, [step], [], log.names, [], log.waiting)


def settle_heater_time(case: Case) -> Verdict | None:
    """From the charger put on to the cells taking over."""
    found = _heating(case)
    if not isinstance(found, tuple):
        return found
    log, heating = found
    doubt = log.analysis.scale.usual_s / math.sqrt(6.0)
    measured = Quantity(heating.duration_s, math.hypot(doubt, log.analysis.options.instrument.clock_s), "s")
    step = _heater_step(heating, "Time to warm", format_duration(heating.duration_s))
    conditions = []
    start = _temperature_at(log.analysis, heating.end_s - heating.duration_s)
    claimed = case.claim.conditions.get("temperature_C")
    if start is not None:
        conditions.append(Condition("temperature at the start", claimed, round(start, 1)))
    verdict = after_soak(case, log, decide(case, measured, [step], conditions, log.names, [], log.waiting))
    if not heating.late_s and not heating.early_s:
        return verdict
    return as_bound(case, verdict, "at-least", _handed_over(heating), said("warming-without-gap"))


def settle_heater_stop(case: Case) -> Verdict | None:
    """The temperature at which the cells took over."""
    found = _heating(case)
    if not isinstance(found, tuple):
        return found
    log, heating = found
    if heating.late_s:
        return not_settled(case, _handed_over(heating), log.names)
    at = _temperature_at(log.analysis, heating.end_s)
    if at is None:
        return not_settled(case, said("no-temperature-logged"), log.names)
    measured = temperature_quantity(at)
    step = _heater_step(heating, "Temperature at which the heater stopped", format_quantity(measured))
    return decide(case, measured, [step], [], log.names, [], log.waiting)


def _temperature_at(analysis: Analysis, at_s: float) -> float | None:
    if analysis.trace.temperature_C is None:
        return None
    return temperature_near(analysis.trace, int(np.searchsorted(analysis.trace.time_s, at_s)), None)


def settle_loss(case: Case) -> Verdict | None:
    """What the cold took, against a warm twin; what the meter gets wrong alike cancels."""
    for log in case.logs("cold-loss"):
        if len(log.analyses) != 2:
            if log.method:
                return not_settled(case, said("two-logs"), log.names)
            continue
        log, turned = _cold_first(log)
        cold, warm = (analysis.capacity for analysis in log.analyses)
        if cold is None or warm is None:
            return not_settled(case, said("one-without-discharge"), log.names)
        measured, step = loss(cold.count.charge, warm.count.charge)
        if turned and any("temperature" in analysis.trace.unnamed for analysis in log.analyses):
            # 32 may be a warm room's or freezing
            return not_settled(case, said("cold-unknown", told=turned[0]), log.names)
        begun = _both_begun_at(log)
        if begun is not None and begun[1] - begun[0] < TWINS_APART_K:
            return not_settled(case, said("neither-cold", first=begun[0], second=begun[1]), log.names, measured)
        if _gave_more(measured):
            return not_settled(case, said("cold-gave-more"), log.names, measured)
        step = step.with_input("meter", meters_words([analysis.options.instrument for analysis in log.analyses]))
        kept = Quantity(100.0 - measured.value, None, "%")
        conditions = [rates_condition(case, cold, warm, kept, "rate of the warm twin")]
        conditions.append(Condition("end of the warm twin", warm.ended_by, cold.ended_by))
        conditions += _as_cold_as_claimed(case, log, measured)
        verdict = after_soak(case, log, decide(case, measured, [step], conditions, log.names, turned, log.waiting))
        if verdict.outcome is Outcome.NOT_TESTED:
            return verdict
        frozen, twin = log.analyses
        return bounded(case, verdict, frozen, twin, (log.names[0], log.names[1]), log.names)
    return None


def _both_begun_at(log: LogEvidence) -> tuple[float, float] | None:
    """How warm the first and the second were; None where nothing says it of each by itself."""
    first, second = (begun_at(analysis) for analysis in log.analyses)
    logged = any(analysis.trace.temperature_C is not None for analysis in log.analyses)
    return None if first is None or second is None or (first == second and not logged) else (first, second)


def _cold_first(log: LogEvidence) -> tuple[LogEvidence, list[Message]]:
    """The pair with the colder one first, whichever was named so, and what is told of it."""
    begun = _both_begun_at(log)
    if begun is None or begun[0] < begun[1] + TWINS_APART_K:
        return log, []
    # what its place was like was asked of the other one
    turned = replace(log, names=log.names[::-1], analyses=log.analyses[::-1], stood=None)
    return turned, [said("taken-as-cold", log=turned.names[0], cold=begun[1], warm=begun[0])]


def _gave_more(lost: Quantity) -> bool:
    return lost.value < -MORE_SHARE and (lost.standard is None or lost.value < -3.0 * lost.standard)


def _as_cold_as_claimed(case: Case, log: LogEvidence, lost: Quantity) -> list[Condition]:
    """How cold it was beside the claim's temperature, and what the loss would be there, by the loss per kelvin found."""
    claimed, begun = case.claim.conditions.get("temperature_C"), _both_begun_at(log)
    if claimed is None or begun is None:
        return []
    apart, off = begun[1] - begun[0], begun[0] - claimed
    if abs(off) <= LIKE_KELVIN:
        return [Condition("temperature", claimed, round(begun[0], 1))]
    # the curve of the loss bends: what is carried over is known to about half of itself
    change = lost.value * off / apart
    return [Condition("temperature", claimed, round(begun[0], 1), Quantity(change, 0.5 * abs(change), "%"))]


TWINS_APART_K, MORE_SHARE = 5.0, 3.0
"""A warm twin is so many kelvin warmer at the least; no repeat gives so many percent more by itself. Common practice."""
