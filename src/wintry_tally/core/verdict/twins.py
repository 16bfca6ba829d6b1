"""Two discharges held against each other, one that lost (in the cold, over a shelf) and its twin: how unlike they were."""

from __future__ import annotations

import math

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.capacity import CapacityTest
from wintry_tally.core.analysis.ending import ENDING_WORDS, GONE, LOG_END, OPERATOR, PROTECTION
from wintry_tally.core.analysis.trips import temperature_near
from wintry_tally.core.message import NOTHING, Message, said, several
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import as_bound, not_settled
from wintry_tally.core.verdict.effects import LIKE_KELVIN
from wintry_tally.core.verdict.evidence import begun_low, begun_unseen
from wintry_tally.core.verdict.outcome import Condition, Verdict
from wintry_tally.core.verdict.settle_capacity import CUTOFF_ABOVE_V, HIDDEN_SHARE

LIKE_RATE = 0.05
"""Rates as near as this share are one rate; common practice, no published source."""


def rates_condition(case: Case, lost: CapacityTest, twin: CapacityTest, kept: Quantity, name: str) -> Condition:
    """The rate of a discharge beside its twin's, with what that makes of the loss where they are apart.

    Args:
        kept: what it gave of what its twin did, in the loss's unit.
    Source: Peukert (1897).
    """
    ratio, effect = lost.count.mean_current.value / twin.count.mean_current.value, None
    if abs(ratio - 1.0) > LIKE_RATE:
        exponent, doubt = case.family.peukert
        change = kept.value * (ratio ** (exponent - 1.0) - 1.0)
        effect = Quantity(-change, kept.value * abs(math.log(ratio)) * doubt, kept.unit)
    before, after = (round(test.count.mean_current.value, 3) for test in (twin, lost))
    return Condition(name, before, after, effect)


def begun_at(analysis: Analysis) -> float | None:
    """How warm a battery was when its discharge began, °C: as its log or somebody says; None where neither does."""
    test = analysis.capacity
    index = 0 if test is None else test.count.spans[0].first
    return temperature_near(analysis.trace, index, analysis.options.ambient_C)


def warmth_of_twins(case: Case, lost: Analysis, twin: Analysis, kept: Quantity) -> Condition | None:
    """How much warmer or colder than its twin a discharge was that lost by standing, with what that makes of the loss."""
    at, before = begun_at(lost), begun_at(twin)
    if at is None or before is None:
        return None
    name, kelvin = "temperature of the first", before - at
    if abs(kelvin) <= LIKE_KELVIN:
        return Condition(name, round(before, 1), round(at, 1))
    slope, doubt = case.family.per_kelvin
    effect = Quantity(-kept.value * slope * kelvin, abs(kept.value * doubt * kelvin), kept.unit)
    return Condition(name, round(before, 1), round(at, 1), effect)


def bounded(
    case: Case, verdict: Verdict, lost: Analysis, twin: Analysis, names: tuple[str, str], named: tuple[str, ...]
) -> Verdict:
    """The loss between two discharges as the bound it is, where one of them did not begin full or was cut short.

    Args:
        names: of the log that lost and of its twin's; named: all of the evidence.
    """
    assert lost.capacity is not None and twin.capacity is not None
    # less from the one is a loss too large, less from its twin one too small
    why = {
        "at-most": begun_low(lost) or begun_unseen(lost) or _cut_short(lost.capacity, twin.capacity),
        "at-least": begun_low(twin) or begun_unseen(twin) or _cut_short(twin.capacity, lost.capacity),
    }
    if not any(why.values()):
        return verdict
    of = dict(zip(why, names, strict=True))
    told = several([said("of-run", run=of[bound], why=words) for bound, words in why.items() if words])
    settles = said("both-on")
    if all(why.values()):
        return not_settled(case, said("neither-says", told=told, settles=settles), named)
    return as_bound(case, verdict, next(bound for bound, words in why.items() if words), told, settles)


def _cut_short(test: CapacityTest, twin: CapacityTest) -> Message:
    """Why one of two discharges did not go as far down as its twin; empty where it did."""
    if test.hidden_Ah > HIDDEN_SHARE * test.count.charge.value:
        return said("gap-hides-end", seconds=test.hidden_s)
    if test.unread_Ah > HIDDEN_SHARE * test.count.charge.value:
        return said("unread-end", seconds=test.unread_s)
    alike = abs(test.voltage_end - twin.voltage_end) <= max(test.near_V, twin.near_V)
    if test.ended_by == OPERATOR and test.at_knee and alike and twin.at_knee:
        return NOTHING  # whatever ended them on their falling ends: it was one voltage
    if test.ended_by in {OPERATOR, LOG_END, GONE}:
        return said("ended-at", ending=ENDING_WORDS[test.ended_by], volts=test.voltage_end)
    if test.ended_by != PROTECTION and test.voltage_end > twin.voltage_end + max(CUTOFF_ABOVE_V, test.near_V):
        return said("ended-apart", volts=test.voltage_end, twin=twin.voltage_end)
    return NOTHING
