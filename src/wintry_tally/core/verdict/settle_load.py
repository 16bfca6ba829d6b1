"""What a battery carries and where its protection opens on discharge."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.holding import Held, stretches_held
from wintry_tally.core.analysis.readings import current_quantity, voltage_quantity
from wintry_tally.core.analysis.stages import StageKind
from wintry_tally.core.analysis.trips import LOW_VOLTAGE, OVER_CURRENT, Trip
from wintry_tally.core.battery import Direction
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.quantity import Quantity, format_duration, format_quantity
from wintry_tally.core.trace.trace import usual_interval
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
from wintry_tally.core.verdict.leads import LEADS_OF_A_CUT, beyond_own_of, leads_condition
from wintry_tally.core.verdict.openings import next_reading, run_begins, trip_voltage, unread
from wintry_tally.core.verdict.outcome import Condition, Verdict
from wintry_tally.core.verdict.probability import MET_AT, MISSED_AT, conformity
from wintry_tally.core.working import Working

HOLD_S = 300.0
SURGE_S = 3.0
"""Times asked for where none is printed; common practice, no published source."""
SETTING = 0.97
"""A load set to the claimed current draws it to within this share: a test of that claim; common practice."""


def settle_hold(case: Case) -> Verdict | None:
    """Continuous discharge: the claimed current, carried for its time (5 min where none is printed)."""
    return _settle_held(case, HOLD_S, ("hold", "surge", "overload", "capacity"))


def settle_surge(case: Case) -> Verdict | None:
    """Surge: the claimed current for its seconds (3 s where none are printed)."""
    return _settle_held(case, SURGE_S, ("surge", "hold", "overload"))


def _settle_held(case: Case, usual_s: float, methods: tuple[str, ...]) -> Verdict | None:
    claim = case.claim
    wanted_s = claim.conditions.get("duration_s", usual_s)
    found: list[tuple[int, Held, str, Message]] = []
    for log in case.logs(*methods):
        found += [
            (_weight(held, claim.figure), held, log.names[-1], log.waiting) for held in _held_in(log.analysis, wanted_s)
        ]
    best = max(found, key=lambda item: (item[0], item[1].current.value), default=None)
    if best is None:
        return None
    _, held, name, waiting = best
    step = _held_step(held, wanted_s)
    lasted = Condition("duration", wanted_s, round(held.lasted_s, 3))
    if held.opened and held.lasted_s < wanted_s <= held.lasted_s + held.hidden_s:
        return not_settled(case, said("gap-may-have-lasted", seconds=held.hidden_s), (name,), held.current)
    if held.opened and abs(held.lasted_s - wanted_s) < held.usual_s:
        return not_settled(case, said("opened-within-reading", wanted=wanted_s), (name,), held.current)
    if held.opened and held.lasted_s < wanted_s and not _beyond(held.current, claim.figure):
        advice = said("opened-after", seconds=held.lasted_s, wanted=wanted_s)
        return by_probability(case, held.current, 0.0, step, (name,), advice, (lasted,), waiting)
    other = _of_another_test(held, claim.figure, wanted_s)
    if other:
        return not_settled(case, other, (name,), held.current)
    if not held.steady:
        note = said("current-varied", amps=held.lowest_A)
        return by_probability(case, held.current, None, step, (name,), note, (lasted,), waiting)
    if held.current.standard is None:
        advice = said("give-accuracy")
        known = None if held.current.value < claim.figure else 1.0
        return by_probability(case, held.current, known, step, (name,), advice, (lasted,), waiting)
    # a setting within 3 % of the claim is a test of it
    probability = conformity(held.current.value, held.current.standard, SETTING * claim.figure, Direction.AT_LEAST)
    return by_probability(case, held.current, probability, step, (name,), None, (lasted,), waiting)


def _held_step(held: Held, wanted_s: float) -> Working:
    return Working(
        "Current held",
        "the highest mean current over the wanted time; a setting within 3 % of the claim is a test of it",
        {
            "wanted": format_duration(wanted_s),
            "lasted": format_duration(held.lasted_s),
            "lowest": f"{held.lowest_A:.4g} A",
            "voltage": f"{held.start_V:.2f} V at the start, {held.end_V:.2f} V at the end",
            **({} if held.sag_V is None else {"sag": f"{held.sag_V:.2f} V"}),
            "ended by the protection": "yes" if held.opened else "no",
        },
        format_quantity(held.current),
        "common practice, no published source",
    )


def _of_another_test(held: Held, claimed: float, wanted_s: float) -> Message:
    """Why what was held tests no such claim: too much, too short or too little was asked; nothing where it does."""
    if held.opened and held.lasted_s < wanted_s:
        return said("opened-above", seconds=held.lasted_s, current=format_quantity(held.current))
    if not held.complete and held.lasted_s < 0.97 * wanted_s:
        return said("load-on-for", seconds=held.lasted_s, wanted=wanted_s)
    if held.current.value < SETTING * claimed:
        return said("asked-less", current=format_quantity(held.current), claimed=claimed)
    return NOTHING


def _hidden(gap_s: float) -> Message:
    return said("gap-hides-end", seconds=gap_s)


def _beyond(asked: Quantity, claimed: float) -> bool:
    """Whether more than the claim was asked beyond doubt; without an accuracy, by more than a load's setting is off."""
    return asked.value > claimed / SETTING if asked.expanded is None else asked.value - asked.expanded > claimed


def _weight(held: Held, claimed: float) -> int:
    """How much a stretch settles: one that failed above all, then one that held, then any other."""
    seen = held.lasted_s + held.hidden_s < held.wanted_s
    if held.opened and seen and not _beyond(held.current, claimed):
        return 2
    return 1 if held.complete and not held.opened and held.current.value >= SETTING * claimed else 0


def _held_in(analysis: Analysis, wanted_s: float) -> list[Held]:
    return stretches_held(
        analysis.trace, analysis.scale, analysis.plain_stages, analysis.endings, analysis.options.instrument, wanted_s
    )


def settle_over_current(case: Case) -> Verdict | None:
    """The over-current trip: the current at which it opened, and within which time."""
    claim = case.claim
    within_s = claim.conditions.get("duration_s", claim.conditions.get("delay_s"))
    seen: tuple[str, Analysis, Message] | None = None
    for log in case.logs("overload", "surge", "hold"):
        trip = _overload_trip(log.analysis, log.method == "overload")
        if trip is not None:
            return _tripped(case, log.names[-1], log.analysis, trip, within_s, log.waiting)
        seen = seen or (log.names[-1], log.analysis, log.waiting)
    if seen is None:
        return None
    name, analysis, waiting = seen
    return _never_tripped(case, name, analysis, within_s, waiting)


def _overload_trip(analysis: Analysis, meant: bool) -> Trip | None:
    """The over-current trip of a log; in a test made for it, an abrupt end of its heaviest stage counts as one."""
    trips = [trip for trip in analysis.trips if trip.kind == OVER_CURRENT]
    if trips or not meant:
        return trips[-1] if trips else None
    live = [result for result in analysis.stages if result.stage.kind == StageKind.DISCHARGE]
    if not live:
        return None
    heaviest = max(live, key=lambda result: result.count.mean_current.value)
    return next((trip for trip in analysis.trips if trip.index == heaviest.stage.last), None)


def _tripped(
    case: Case, name: str, analysis: Analysis, trip: Trip, within_s: float | None, waiting: Message
) -> Verdict:
    claim = case.claim
    measured = current_quantity(analysis.trace, analysis.options.instrument, trip.current_A, analysis.scale.noise_A)
    step = Working(
        "Current at which the protection opened",
        "the last reading before it opened; latency from the last rise of the current",
        {
            "opened after": f"{trip.latency_s:.3g} s",
            "voltage before": f"{trip.voltage_V:.2f} V",
            **({} if within_s is None else {"claimed within": f"{within_s:g} s"}),
        },
        format_quantity(measured),
        "common practice, no published source",
    )
    conditions = [] if within_s is None else [Condition("time to open", within_s, round(trip.latency_s, 3))]
    if trip.hidden_s:
        unseen = decide(case, measured, [step], conditions, (name,), [], waiting)
        return as_bound(case, unseen, "at-least", _hidden(trip.hidden_s), said("short-interval"))
    unseen_s, a_step_s = _unseen(analysis, trip), USUAL_STEP_S if within_s is None else min(within_s, USUAL_STEP_S)
    over = unseen_s > BRIEF * a_step_s and trip.latency_s + 0.5 * unseen_s > 0.9 * a_step_s
    if over or unseen_s > UNSEEN * a_step_s:
        open_yet = decide(case, measured, [step], conditions, (name,), [], waiting)
        why = said("raised-unseen", seconds=unseen_s)
        return as_bound(case, open_yet, "at-least", why, said("short-interval"))
    if within_s is not None and trip.latency_least_s > within_s + analysis.scale.usual_s:
        late = said("opened-late", seconds=trip.latency_s, within=within_s)
        return by_probability(case, measured, 0.0, step, (name,), late, tuple(conditions), waiting)
    low, high = claim.figure - implied_tolerance(claim), claim.figure + implied_tolerance(claim)
    carried = _held_before(analysis, trip, within_s, share=0.5 if trip.current_A <= high else 0.9)
    tried = NEAR_BOTTOM * low < carried < trip.current_A
    if claim.direction is Direction.WITHIN and (tried or trip.current_A > high):
        inside = _inside(low, high, carried, trip.current_A, measured.standard or 0.0)
        step = replace(
            step,
            formula=f"{step.formula}; p = share of what lies between carried and opened that lies in the window",
            inputs={
                **step.inputs, "carried before": f"{carried:.4g} A", "window": f"{low:.4g} to {high:.4g} A",
                "each end of it": f"± {2.0 * (measured.standard or 0.0):.2g} A by the meter; what says less counts",
            },
        )  # fmt: skip
        ends = tuple(f"{end:.4g} A" for end in (low, high) if carried < end < trip.current_A)
        either_way = (
            said("smaller-steps", carried=carried, opened=trip.current_A, ends=ends)
            if ends
            else said("better-meter", carried=carried, opened=trip.current_A)
        )
        # a step over most of the window says nothing of it, however far the step went on
        untried = max(0.0, min(trip.current_A, high) - max(carried, low)) > WINDOW_LEFT * (high - low)
        advice = either_way if MISSED_AT < inside < MET_AT or (untried and inside <= MISSED_AT) else NOTHING
        return by_probability(
            case, measured, inside, step, (name,), advice, tuple(conditions), waiting, refutable=not untried
        )
    return decide(case, measured, [step], conditions, (name,), [], waiting)


WINDOW_LEFT = 0.1
"""So much of a window may be left untried below the step that opened it, and it still did not open within it."""
NEAR_BOTTOM = 0.75
"""So much of the window's lower end was a test of it: where it opens lies anywhere above. A step from far below is one of its
own, into the window. Common practice, no published source."""


USUAL_STEP_S, UNSEEN, BRIEF = 10.0, 0.5, 0.15
"""How long a step of an overload test usually lasts; the share of it in which another may have gone unseen, and where the
one before it was over."""


def _unseen(analysis: Analysis, trip: Trip) -> float:
    """The time from the last reading before an opening to the next where the current was being raised, s; else 0."""
    trace, first = analysis.trace, run_begins(analysis, trip)
    drawn = trace.current[first : trip.index + 1]
    steady = len(drawn) >= 3 and float(drawn.max() - drawn.min()) <= (1.0 - SETTING) * float(drawn.max())
    if steady or trip.index + 1 >= len(trace):
        return 0.0
    return float(trace.time_s[trip.index + 1] - trace.time_s[trip.index])


def _inside(low: float, high: float, held_A: float, opened_A: float, standard_A: float) -> float:
    """The chance that it opens within a window: anywhere between what it carried and what opened it, alike.

    The window's ends are as uncertain as the meter there: of what two of its standard uncertainties either way make of
    the chance, that which says less counts.
    """

    def share(wider_A: float) -> float:
        overlap = min(opened_A, high + wider_A) - max(held_A, low - wider_A)
        return min(1.0, max(0.0, overlap) / (opened_A - held_A))

    return min((share(wider) for wider in (-2.0 * standard_A, 0.0, 2.0 * standard_A)), key=lambda p: abs(p - 0.5))


def _held_before(analysis: Analysis, trip: Trip, within_s: float | None, share: float) -> float:
    """The heaviest current carried for a share of its time without a break before the one that opened it, A.

    `within_s`: that time; a second where none is claimed. 0 where nothing was carried for so long.
    """
    from scipy.ndimage import minimum_filter1d

    trace, first = analysis.trace, run_begins(analysis, trip)
    usual_s = usual_interval(trace.time_s[first : trip.index + 2])
    rose = int(np.searchsorted(trace.time_s, trip.at_s - trip.latency_s))
    size = max(1, round(share * (within_s if within_s is not None else 1.0) / usual_s))
    drawn = trace.current[first : min(rose, trip.index + 1)]
    if len(drawn) < size:
        return 0.0
    least = minimum_filter1d(drawn, size, mode="constant", cval=0.0, origin=0)
    return max(0.0, float(least.max()))


def _never_tripped(case: Case, name: str, analysis: Analysis, within_s: float | None, waiting: Message) -> Verdict:
    claim = case.claim
    tolerance = implied_tolerance(claim)
    most = claim.figure + tolerance
    wanted = within_s if within_s is not None else 60.0
    held = max(_held_in(analysis, wanted), key=lambda held: (held.complete, held.current.value), default=None)
    if held is None:
        return not_settled(case, said("nothing-drawn"), (name,))
    step = Working(
        "No opening seen",
        "the highest current carried for the claimed time without opening",
        {"carried": format_duration(held.lasted_s), "claimed to open by": f"{most:g} A within {wanted:g} s"},
        format_quantity(held.current),
        "common practice, no published source",
    )
    if held.current.value > most and held.complete:
        standard = held.current.standard or 0.0
        opens = 1.0 - conformity(held.current.value, standard, most, Direction.AT_LEAST)
        return by_probability(case, held.current, opens, step, (name,), said("carried-more"), (), waiting)
    live = [result for result in analysis.stages if result.stage.kind == StageKind.DISCHARGE]
    heaviest = max(live, key=lambda result: result.count.mean_current.value)
    reached = heaviest.count.mean_current
    if reached.value >= claim.figure - tolerance:
        lasted_s = heaviest.end_s - heaviest.start_s
        why = said("carried-inside", current=format_quantity(reached), seconds=lasted_s, amps=most)
        return not_settled(case, why, (name,), reached)
    return not_settled(case, said("only-reached", current=format_quantity(reached)), (name,), reached)


def settle_low_voltage_cut(case: Case) -> Verdict | None:
    """The voltage at which the protection opened on discharge."""
    opened = (
        (log, trips[-1])
        for log in case.logs("capacity", "runtime", "reserve")
        if (trips := [trip for trip in log.analysis.trips if trip.kind == LOW_VOLTAGE])
    )
    verdict = first_settled(_low_cut(case, log, trip) for log, trip in opened)
    if verdict is not None:
        return verdict
    drawn = [log for log in case.logs("capacity") if log.method and log.analysis.capacity is not None]
    if not drawn:
        return None
    return not_settled(case, said("no-run-to-opening"), drawn[-1].names)


def _low_cut(case: Case, log: LogEvidence, trip: Trip) -> Verdict:
    cut = trip_voltage(log.analysis, trip, case.rated_Ah)
    step = Working(
        "Voltage at which the protection opened",
        "the last reading under load",
        {"run": log.names[-1], "current": f"{trip.current_A:.2f} A", **next_reading(log.analysis, trip)},
        format_quantity(cut),
        "common practice",
    )
    taken = beyond_own_of(log.analysis, case.family, case.rated_Ah, trip.current_A, LEADS_OF_A_CUT)
    leads = leads_condition(case.claim, taken, 1.0)
    verdict = decide(case, cut, [step], [leads] if leads else [], log.names, [], log.waiting)
    if trip.hidden_s:
        return as_bound(case, verdict, "at-most", _hidden(trip.hidden_s), said("run-without-gap"))
    why = unread(log.analysis, trip, case.rated_Ah)
    return as_bound(case, verdict, "at-most", why, said("end-read-often")) if why else verdict


def settle_low_voltage_release(case: Case) -> Verdict | None:
    """The voltage at which a pack that had opened at low voltage gave current again."""
    for log in case.logs("capacity", "runtime", "charge", "hold"):
        analysis = log.analysis
        for trip in reversed([trip for trip in analysis.trips if trip.kind == LOW_VOLTAGE]):
            again = next(
                (r for r in analysis.stages if r.stage.first > trip.index and r.stage.kind == StageKind.DISCHARGE), None
            )
            if again is None:
                continue
            value = float(analysis.trace.voltage_V[again.stage.first - 1])
            measured = voltage_quantity(analysis.trace, analysis.options.instrument, value, analysis.scale.noise_V)
            step = Working(
                "Voltage at which it gave again",
                "the last reading before the current flowed again",
                {"opened at": f"{trip.at_s:.0f} s", "flowed again at": f"{again.start_s:.0f} s"},
                format_quantity(measured),
                "common practice",
            )
            return decide(case, measured, [step], [], log.names, [], log.waiting)
    return None
