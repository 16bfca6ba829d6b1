"""What a charge shows: current taken, time to full, the limit held, the over-voltage protection."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.beginning import not_from_empty
from wintry_tally.core.analysis.charging import ChargeResult
from wintry_tally.core.analysis.counting import running_sum
from wintry_tally.core.analysis.ending import AT_MARK, PROTECTION, SET_CUTOFF
from wintry_tally.core.analysis.holding import FLOWED_S, ChargeTaken, charges_taken
from wintry_tally.core.analysis.readings import voltage_quantity
from wintry_tally.core.analysis.stages import StageKind
from wintry_tally.core.analysis.trips import LOW_TEMPERATURE, OVER_VOLTAGE, Trip
from wintry_tally.core.battery import Direction
from wintry_tally.core.battery.families import Family, charge_state_band
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.quantity import Quantity, Term, format_duration, format_quantity
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import (
    as_bound,
    by_probability,
    decide,
    first_settled,
    implied_tolerance,
    not_settled,
)
from wintry_tally.core.verdict.evidence import LogEvidence
from wintry_tally.core.verdict.leads import AT_TERMINALS
from wintry_tally.core.verdict.openings import next_reading, trip_voltage, unread
from wintry_tally.core.verdict.outcome import Condition, Outcome, Verdict
from wintry_tally.core.verdict.settle_load import SETTING
from wintry_tally.core.working import Working


def settle_charge_time(case: Case) -> Verdict | None:
    """From the first current to the full criterion; the charging current stands beside it."""
    claimed_A = case.claim.conditions.get("current_A")
    nearest = sorted(case.logs("charge"), key=lambda log: _far_from(log, claimed_A))
    return first_settled(verdict for log in nearest if (verdict := _charge_time(case, log)) is not None)


def _charge_time(case: Case, log: LogEvidence) -> Verdict | None:
    """What one log says of it; None where it holds no charge, or nobody says that it was meant as one and it never was full."""
    claim, charge = case.claim, log.analysis.charge
    if charge is None or charge.count.duration_s <= 0:
        return None
    steady = most_taken(log.analysis)
    inputs = {"ended by": charge.ended_by, "charge": format_quantity(charge.count.charge)}
    how = "from the first current to the full criterion (taper at the limit, or the protection opening)"
    took = "never full" if charge.time_to_full_s is None else f"{charge.time_to_full_s:.0f} s"
    step = Working("Time to full", how, inputs, took, "common practice")
    doubt = _instants(log.analysis, charge)
    share = claim.conditions.get("end_share", 1.0)
    if charge.time_to_full_s is None:
        lasted = _not_full_for(case, log.analysis, charge)
        if lasted > claim.figure and claim.direction is Direction.AT_MOST and share == 1.0:
            missed = by_probability(
                case, Quantity(lasted, doubt, "s"), 0.0, step, log.names,
                said("not-full-yet", seconds=lasted), (), log.waiting,
            )  # fmt: skip
            return replace(missed, bound="at-least")
        if not log.method:
            return None
        never = said("never-full-share", share=100.0 * share) if share < 1.0 else said("never-full")
        return not_settled(case, charge.undecided or never, log.names)
    measured = Quantity(
        charge.time_to_full_s, math.hypot(doubt, log.analysis.options.instrument.clock_s, charge.full_doubt_s), "s"
    )
    if share < 1.0:
        measured = _time_to(share, log.analysis, charge, doubt)
        step = Working(
            f"Time to {100.0 * share:.0f} % of full", f"from the first current until {100.0 * share:.0f} % of all that went in until full was in",
            {**inputs, "full after": f"{charge.time_to_full_s:.0f} s"}, f"{measured.value:.0f} s", "common practice",
        )  # fmt: skip
    conditions = []
    claimed_A = claim.conditions.get("current_A")
    if claimed_A is not None and steady is not None:
        conditions.append(_at_current(claimed_A, steady.current.value, measured.value, charge))
    else:
        inputs["mean current"] = f"{charge.count.mean_current.value:.3g} A"
    verdict = decide(case, measured, [step], conditions, log.names, [], log.waiting)
    verdict = _without_pauses(case, log, charge, verdict)
    if verdict.outcome is Outcome.NOT_TESTED:
        return verdict
    begun = _begun_charged(case, log, charge, measured.value)
    if begun:
        return as_bound(case, verdict, "at-least", begun, said("charge-from-empty"))
    if verdict.bound:
        return verdict
    for bound, gap_s in (("at-least", charge.full_late_s), ("at-most", charge.full_early_s)):
        if gap_s:
            why = said("gap-hides-full", seconds=gap_s)
            return as_bound(case, verdict, bound, why, said("charge-without-gap"))
    return verdict


def _instants(analysis: Analysis, charge: ChargeResult) -> float:
    """How uncertain the two instants are between which a charge is timed, s: each anywhere between two readings."""
    spans = charge.count.spans
    return max(analysis.scale.usual_s / math.sqrt(6.0), math.hypot(spans[0].lead_doubt_s, spans[-1].tail_doubt_s))


BULK_SHARE = 0.5
"""Of the largest current: while so much flows a charge is not at its end, whatever the battery holds."""


def _not_full_for(case: Case, analysis: Analysis, charge: ChargeResult) -> float:
    """How long a charge had gone on at its last reading that shows that it was not full yet, s.

    Nothing is known of what came after that reading: where they are far apart, it may have been full at the next.
    """
    trace, spans = analysis.trace, charge.count.spans
    rows = slice(spans[0].first, spans[-1].last + 1)
    amps = np.abs(trace.current[rows])
    mark_A = case.family.full_taper_C * (case.rated_Ah or 0.0)
    least = max(AT_MARK * mark_A if mark_A else BULK_SHARE * float(amps.max()), analysis.scale.zero_A)
    still = np.flatnonzero(amps > least)
    if not len(still):
        return 0.0
    return float(trace.time_s[rows][still[-1]] - trace.time_s[spans[0].first])


def _at_current(claimed_A: float, flowed_A: float, lasted_s: float, charge: ChargeResult) -> Condition:
    """The current it was charged with beside the claimed one, with what that makes of the time where they are apart."""
    effect = None
    if abs(flowed_A / claimed_A - 1.0) > 0.05:
        change = lasted_s * charge.share_constant_current * (flowed_A / claimed_A - 1.0)
        effect = Quantity(change, 0.2 * abs(change), "s")
    return Condition("charge current", claimed_A, round(flowed_A, 3), effect)


EMPTY_SHARE, KNOWN_SHARE = 0.85, 0.95
"""A charge that puts in less than this of the rating, or of what the battery is known to give, did not begin empty."""
LOW_PERCENT = 15.0
"""A rested voltage that allows no more than this says that it did all the same."""


def _begun_charged(case: Case, log: LogEvidence, charge: ChargeResult, took_s: float) -> Message:
    """Why a charge says too little of the time from empty: it began with something in the battery. Empty where it did not.

    Source: common practice, no published source.
    """
    known = [
        run.charge.value for run in case.capacity_runs if run.ended_by in {SET_CUTOFF, PROTECTION} and not run.undecided
    ]
    trace, family = log.analysis.trace, log.analysis.options.family or case.family
    first = charge.count.spans[0].first
    under_way = not_from_empty(trace, first, charge.count.duration_s, family)
    if under_way:
        return said("its-log", why=under_way)
    whole = max(known) if known else case.rated_Ah
    went_in, claim = charge.count.charge.value, case.claim
    if not whole or went_in >= (KNOWN_SHARE if known else 1.0) * whole or empty_before(log, first, family):
        return NOTHING
    if went_in >= EMPTY_SHARE * whole and charge.count.mean_current.value > 0.0:
        # a weak battery takes as little: it tells only where what may have been in it could not change the verdict
        more_s = 3600.0 * (whole - went_in) / charge.count.mean_current.value
        if took_s + more_s <= claim.figure:
            return NOTHING
    return said("little-went-in", charge_Ah=went_in, whole_Ah=whole)


def empty_before(log: LogEvidence, first: int, family: Family) -> bool:
    """Whether a battery is seen to be empty before a charge: emptied in the same log, or rested, or begun, that low."""
    trace, test = log.analysis.trace, log.analysis.capacity
    if test is not None and test.ended_by in {SET_CUTOFF, PROTECTION} and test.count.spans[-1].last < first:
        return True
    before = [s.stage for s in log.analysis.stages if s.stage.last < first]
    if before and before[-1].kind != StageKind.REST:
        return False
    seen_V = float(trace.voltage_V[before[-1].last if before else first])  # a charge lifts it: empty all the more
    return charge_state_band(family, seen_V)[1] <= LOW_PERCENT


PAUSED = 0.01
"""A charge switched off for less than this share of its time was not: the taper's own doubt is larger."""


def _without_pauses(case: Case, log: LogEvidence, charge: ChargeResult, verdict: Verdict) -> Verdict:
    """A charge that was switched off for a while would have been full sooner: a miss stands where the current's own time misses."""
    full_s, claim = charge.time_to_full_s, case.claim
    paused_s = 0.0 if full_s is None else full_s - charge.count.duration_s
    if full_s is None or paused_s <= PAUSED * full_s or claim.conditions.get("end_share", 1.0) < 1.0:
        return verdict
    if verdict.outcome is Outcome.MISSED and full_s - paused_s > claim.figure:
        return verdict
    why = said("charge-was-off", seconds=paused_s)
    return as_bound(case, verdict, "at-most", why, said("charge-in-one-go"))


def _time_to(share: float, analysis: Analysis, charge: ChargeResult, doubt_s: float) -> Quantity:
    """From the first current until a share of all that went in until full was in, s."""
    trace, wanted, so_far = analysis.trace, share * 3600.0 * charge.count.charge.value, 0.0
    begun = float(trace.time_s[charge.count.spans[0].first]) - charge.count.spans[0].lead_s
    at = begun + (charge.time_to_full_s or 0.0)
    for span in charge.count.spans:
        time_s, current = trace.time_s[span.first : span.last + 1], -trace.current[span.first : span.last + 1]
        moved = so_far + running_sum(time_s, current)
        if moved[-1] >= wanted:
            at = float(np.interp(wanted, moved, time_s))
            break
        so_far = float(moved[-1])
    mean_A = charge.count.mean_current.value
    # its gain is in both and cancels; what is left of the count's own doubt cannot be more than all of it
    by_count = share * 3600.0 * (charge.count.charge.standard or 0.0) / mean_A if mean_A > 0 else 0.0
    return Quantity(at - begun, math.hypot(doubt_s, analysis.options.instrument.clock_s, by_count), "s")


def _far_from(log: LogEvidence, claimed_A: float | None) -> float:
    """How unlike the claim's a charge's current was, as a logarithm in steps of a twentieth; full before never full."""
    charge, taken = log.analysis.charge, most_taken(log.analysis)
    never = 1000.0 if charge is None or charge.time_to_full_s is None else 0.0
    if claimed_A is None or taken is None or taken.current.value <= 0.0:
        return never
    return never + round(20.0 * abs(math.log(taken.current.value / claimed_A)))


def settle_charge_current(case: Case) -> Verdict | None:
    """The current it took, over a minute. As a limit ("at most") it binds the user and is not tested."""
    claim = case.claim
    logs = case.logs("charge", "heater")
    if not logs:
        return None
    if claim.direction is Direction.AT_MOST:
        return not_settled(case, said("limit-for-charger"), logs[0].names)
    wanted_s = claim.conditions.get("duration_s", FLOWED_S)
    every = [(taken, log) for log in logs for taken in _taken(log.analysis, wanted_s)]
    if not every:
        return None
    refusals = [(taken, log) for taken, log in every if _refuses(case, taken, claim.figure, wanted_s)]
    flowed = [(taken, log) for taken, log in every if taken.lasted_s >= wanted_s - log.analysis.scale.usual_s]
    (taken, log), refused = (
        (refusals[0], True) if refusals else (max(flowed or every, key=lambda item: item[0].current.value), False)
    )
    step = Working(
        "Charge current taken",
        f"the highest mean over {format_duration(wanted_s)}; a setting within 3 % of the claim is a test of it",
        {
            "held by": "the charger's limit of current" if taken.by_charger else "the charger's limit of voltage",
            "flowed for": format_duration(taken.lasted_s),
        },
        format_quantity(taken.current),
        "common practice, no published source",
    )
    if refused:
        told = said("opened-early", seconds=taken.lasted_s, wanted=wanted_s)
        return by_probability(case, taken.current, 0.0, step, log.names, told, (), log.waiting)
    if not flowed:
        told = said("flowed-only", seconds=taken.lasted_s, wanted=wanted_s)
        if taken.refused:
            told = said("refused-more", seconds=taken.lasted_s, current=format_quantity(taken.current))
        return not_settled(case, told, log.names, taken.current)
    if taken.by_charger and taken.current.value < SETTING * claim.figure:
        told = said("charger-gave", current=format_quantity(taken.current))
        return not_settled(case, told, log.names, taken.current)
    if taken.by_charger and taken.current.standard is not None:
        # carried at the setting: the meter's doubt of the setting is no doubt of the battery
        sure = 1.0 if taken.current.value >= 0.99 * claim.figure else 0.95
        return by_probability(case, taken.current, sure, step, log.names, None, (), log.waiting)
    return decide(case, taken.current, [step], [], log.names, [], log.waiting)


def _taken(analysis: Analysis, window_s: float) -> list[ChargeTaken]:
    cold = {trip.index for trip in analysis.trips if trip.kind == LOW_TEMPERATURE}
    return charges_taken(
        analysis.trace, analysis.scale, analysis.plain_stages, analysis.endings, cold,
        analysis.options.instrument, window_s,
    )  # fmt: skip


def most_taken(analysis: Analysis) -> ChargeTaken | None:
    """The charge of a log that took the most current over a minute; None without a charge."""
    return max(_taken(analysis, FLOWED_S), key=lambda taken: taken.current.value, default=None)


FULL_PERCENT = 85.0


def _refuses(case: Case, taken: ChargeTaken, claimed: float, wanted_s: float) -> bool:
    """Whether the pack refused the claimed current, or less: opened sooner, not for cold, and not because it was full."""
    if not taken.refused or taken.lasted_s + taken.hidden_s >= wanted_s or taken.current.value > claimed / SETTING:
        return False
    return (
        not charge_state_band(case.family, taken.rested_V)[1] > FULL_PERCENT if math.isfinite(taken.rested_V) else False
    )


def settle_charge_voltage(case: Case) -> Verdict | None:
    """The limit at which it got full."""
    for log in case.logs("charge"):
        analysis = log.analysis
        charge = analysis.charge
        held = [r for r in analysis.stages if r.stage.kind == StageKind.CHARGE and r.stage.control == "voltage"]
        if charge is None or charge.time_to_full_s is None or not held:
            continue
        stage = held[-1].stage
        value = float(np.quantile(analysis.trace.voltage_V[stage.first : stage.last + 1], 0.8))
        measured = voltage_quantity(analysis.trace, analysis.options.instrument, value)
        step = Working(
            "Limit at which it got full",
            "voltage of the constant-voltage part",
            {"ended by": charge.ended_by},
            format_quantity(measured),
            "common practice",
        )
        return decide(case, measured, [step], [], log.names, [], log.waiting)
    return None


def settle_over_voltage_cut(case: Case) -> Verdict | None:
    """The voltage at which the protection opened on charge; missed when it never opened well above it."""
    tried = (_over_cut(case, log) for log in case.logs("charge"))
    return first_settled(verdict for verdict in tried if verdict is not None)


def _over_cut(case: Case, log: LogEvidence) -> Verdict | None:
    claim, analysis = case.claim, log.analysis
    trips = [trip for trip in analysis.trips if trip.kind == OVER_VOLTAGE]
    if trips:
        return _opened_on_charge(case, log, trips[-1])
    charging = [r for r in analysis.stages if r.stage.kind == StageKind.CHARGE]
    if not charging:
        return None
    highest = max(
        float(np.quantile(analysis.trace.voltage_V[r.stage.first : r.stage.last + 1], 0.98)) for r in charging
    )
    measured = voltage_quantity(analysis.trace, analysis.options.instrument, highest)
    most = claim.figure + implied_tolerance(claim)
    if highest > most and measured.standard is not None:
        step = Working(
            "Highest voltage on charge", "current still flowed", {}, format_quantity(measured), "common practice"
        )
        opens = 1.0 - _above(measured, most)
        verdict = by_probability(case, measured, opens, step, log.names, said("took-above-cut"), (), log.waiting)
        return _at_the_charger(case, log, verdict)
    if log.method:
        return not_settled(case, said("never-reached", volts=format_quantity(measured)), log.names)
    return None


def _opened_on_charge(case: Case, log: LogEvidence, trip: Trip) -> Verdict:
    cut = trip_voltage(log.analysis, trip, case.rated_Ah)
    step = Working(
        "Voltage at which the protection opened",
        "the last reading on charge",
        {
            "current": f"{abs(trip.current_A):.2f} A",
            "opened at": f"{trip.at_s:.0f} s",
            **next_reading(log.analysis, trip),
        },
        format_quantity(cut),
        "common practice",
    )
    verdict = decide(case, cut, [step], [], log.names, [], log.waiting)
    if trip.hidden_s:
        why = said("gap-hides-opening", seconds=trip.hidden_s)
        return as_bound(case, verdict, "at-least", why, said("charge-without-gap"))
    if _risen_after(log.analysis, trip):
        return as_bound(case, verdict, "at-least", said("rose-after"), said("logged-oftener"))
    why, there = unread(log.analysis, trip, case.rated_Ah), _at_the_charger(case, log, verdict)
    return as_bound(case, there, "at-least", why, said("end-read-often")) if why else there


def _risen_after(analysis: Analysis, trip: Trip) -> bool:
    """Whether the battery shows more once the charge is off than at its last reading on it: it falls then, by Ohm's law.

    A charger's limit, which terminals show that are open behind them, stands; a battery's own volts go on falling.
    """
    last, *after = (float(volts) for volts in analysis.trace.voltage_V[trip.index : trip.index + 3])
    seen = max(0.005, 4.0 * analysis.scale.noise_V)
    return len(after) == 2 and min(after[0] - last, after[0] - after[1]) > seen


def _at_the_charger(case: Case, log: LogEvidence, verdict: Verdict) -> Verdict:
    """Volts that were read there, as somebody said, were lower at the terminals by what the leads took."""
    if log.analysis.options.volts_at != "load":
        return verdict
    return as_bound(case, verdict, "at-most", said("read-at-charger"), AT_TERMINALS)


def _above(measured: Quantity, limit: float) -> float:
    return 0.5 * math.erfc(-(measured.value - limit) / ((measured.standard or 1e-9) * math.sqrt(2.0)))


def settle_over_voltage_release(case: Case) -> Verdict | None:
    """The voltage at which a pack that had opened on charge took current again."""
    for log in case.logs("charge"):
        analysis = log.analysis
        for trip in reversed([trip for trip in analysis.trips if trip.kind == OVER_VOLTAGE]):
            again = next(
                (r for r in analysis.stages if r.stage.first > trip.index and r.stage.kind == StageKind.CHARGE), None
            )
            if again is None:
                continue
            first = again.stage.first
            # its own voltage shows after the charger let go of it: the lowest reading in between, where there is one
            low = float(np.min(analysis.trace.voltage_V[trip.index + 1 : max(first, trip.index + 2)]))
            plain = voltage_quantity(analysis.trace, analysis.options.instrument, low, analysis.scale.noise_V)
            measured = plain
            if plain.standard is not None:
                fall = abs(float(analysis.trace.voltage_V[max(trip.index + 1, first - 1)]) - low)
                measured = Quantity.from_terms(
                    low, "V", [*plain.terms, Term("between readings", fall / math.sqrt(3.0))]
                )
            step = Working(
                "Voltage at which it took current again",
                "the lowest reading before the current flowed again",
                {"opened at": f"{trip.at_s:.0f} s", "flowed again at": f"{again.start_s:.0f} s"},
                format_quantity(measured),
                "common practice",
            )
            return decide(case, measured, [step], [], log.names, [], log.waiting)
    return None
