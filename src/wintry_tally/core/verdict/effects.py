"""What unlike conditions likely did to a capacity: an estimate with its doubt, shown beside the number."""

from __future__ import annotations

import math

from wintry_tally.core.battery import Claim, Family
from wintry_tally.core.battery.families import charge_state_at
from wintry_tally.core.quantity import Quantity, format_duration
from wintry_tally.core.verdict.evidence import CapacityEvidence
from wintry_tally.core.verdict.outcome import Condition, up_to

LONG_S = 3 * 3600.0
LONG_PER_KELVIN = (0.008, 0.0015)
"""For lead-acid discharges of 3 h and longer IEC 60896-11 has 0.006 where IEC 60095-1 has 0.01 (both from memory):
between the two, both within its doubt."""

ROOM_C = (22.0, 3.5)
"""A room where batteries are tested, and its standard uncertainty: 16 to 28 °C, rectangular. Common practice."""

LIKE_RATE = 0.1
LIKE_KELVIN = 3.0


def rate_condition(
    family: Family, claim: Claim, evidence: CapacityEvidence, rated_Ah: float, share: float
) -> Condition | None:
    """The rate of the test against the claim's (or the family's reference rate), and what that likely did.

    Effect on the amount at the claimed rate: × (I / I_claimed)^(k - 1) - 1. `share` scales Ah to the claim's unit.
    Source: W. Peukert, ETZ 18 (1897), common form t = H (C/(I H))^k (from memory).
    """
    claimed_C = claim.conditions.get("c_rate", family.reference_rate_C)
    claimed_A = claim.conditions.get("current_A", claimed_C * rated_Ah)
    actual_C = evidence.mean_current_A / rated_Ah
    ratio = evidence.mean_current_A / claimed_A if claimed_A > 0 else 1.0
    mixed = len(evidence.rates) > 1 and max(evidence.rates) > 1.1 * min(evidence.rates)
    if abs(ratio - 1.0) <= LIKE_RATE and not mixed:
        return Condition("rate", round(claimed_A / rated_Ah, 4), round(actual_C, 4))
    exponent, doubt = family.peukert
    if ratio <= 0:
        return None
    change = ratio ** (exponent - 1.0) - 1.0
    spread = abs(math.log(ratio)) * doubt * (1.0 + change)
    if mixed:
        spread = math.hypot(spread, abs(math.log(max(evidence.rates) / min(evidence.rates))) * (exponent - 1.0) / 2)
    return Condition(
        "mixed rates" if mixed else "rate",
        round(claimed_A / rated_Ah, 4),
        round(actual_C, 4),
        Quantity(share * change, abs(share) * spread, claim.unit),
    )


def temperature_condition(family: Family, claim: Claim, evidence: CapacityEvidence, share: float) -> Condition | None:
    """The temperature of the test against the claim's (or 25 °C), and what that likely did."""
    return warmth_condition(family, claim, evidence.temperature_C, evidence.duration_s, share)


def warmth_condition(
    family: Family, claim: Claim, actual: float | None, duration_s: float, share: float
) -> Condition | None:
    """The same for an amount in the claim's unit, `share`, that a discharge of `duration_s` gave.

    Where nobody knows how warm it was, a claim for a temperature of its own is held against a room's; None for others.
    """
    claimed = claim.conditions.get("temperature_C", 25.0)
    slope, doubt = family.per_kelvin
    if not family.lithium and duration_s >= LONG_S:
        slope, doubt = LONG_PER_KELVIN
    if actual is None:
        return warmth_unknown(claim, claimed, (slope, doubt), share) if "temperature_C" in claim.conditions else None
    if abs(actual - claimed) <= LIKE_KELVIN:
        return Condition("temperature", claimed, round(actual, 1))
    kelvin = claimed - actual
    return Condition(
        "temperature",
        claimed,
        round(actual, 1),
        Quantity(share * slope * kelvin, abs(share * doubt * kelvin), claim.unit),
    )


def warmth_unknown(claim: Claim, claimed_C: float, per_kelvin: tuple[float, float], share: float) -> Condition:
    """What a temperature that nobody wrote down may have done: a room's, as far as rooms differ."""
    slope, doubt = per_kelvin
    kelvin = claimed_C - ROOM_C[0]
    spread = math.hypot(slope * ROOM_C[1], doubt * kelvin)
    effect = Quantity(share * slope * kelvin, abs(share) * spread, claim.unit)
    return Condition("temperature", claimed_C, None, effect)


UNSEEN = "charge at the beginning"


def cutoff_condition(family: Family, claim: Claim, evidence: CapacityEvidence, share: float) -> Condition | None:
    """Where the discharge ended against the claim's cut-off; ended early, charge was left in."""
    claimed = claim.conditions.get("cutoff_V", family.cutoff_V)
    if evidence.end_V <= claimed + 0.1 or evidence.ended_by == "battery-protection":
        return Condition("end of discharge", claimed, round(evidence.end_V, 3))
    # between the end and the cut-off lies an unknown share: by the family's chart of charge against voltage
    left = min(0.5, _chart_share(family, evidence.end_V, claimed))
    return up_to(share * left, claim.unit, "end of discharge", claimed, round(evidence.end_V, 3))


def unseen_condition(before: float, amount: float, unit: str) -> Condition | None:
    """A log that begins under load, of a battery that may have been full and may not: what may have come before its first row.

    Args:
        before: the most of that, in what was counted; amount: what was measured, of which that is a share.
    """
    if before <= 0.0:
        return None
    least = 100.0 / (1.0 + before)
    return up_to(before * amount, unit, UNSEEN, "100 %", f"{least:.0f} to 100 % (its log begins under load)")


LAST_READING = "last reading"


def unread_condition(unread_s: float, most: float, unit: str) -> Condition | None:
    """A test whose end somebody saw and nobody read: what may have flowed after its last reading, at the most so much."""
    if most <= 0.0:
        return None
    return up_to(most, unit, LAST_READING, "at its end", f"up to {format_duration(unread_s)} before its end")


def _chart_share(family: Family, end_V: float, cutoff_V: float) -> float:
    """An upper estimate of the share of charge between two voltages under load: the chart, 0.3 V lower for the sag."""
    sag = 0.3
    chart = family.charge_state
    return max(0.01, (charge_state_at(chart, end_V + sag) - charge_state_at(chart, cutoff_V)) / 100.0)
