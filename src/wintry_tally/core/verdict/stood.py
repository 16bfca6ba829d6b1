"""Where a battery stood before its test: what its place's readings say of a soak or of months on a shelf."""

from __future__ import annotations

import math
from dataclasses import replace

from wintry_tally.core.message import said
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.verdict.case import Case
from wintry_tally.core.verdict.deciding import not_settled
from wintry_tally.core.verdict.evidence import LogEvidence
from wintry_tally.core.verdict.outcome import Condition, Verdict

THAWED_K = 3.0
"""A core this much warmer than its test says is no longer as cold as it says; common practice, no published source."""
PER_TEN_K, PER_TEN_DOUBT = 2.0, 0.5
"""Self-discharge about doubles with 10 K; between 1.5 and 2.5 times. Common practice, no published source."""
USUAL_SHELF_C = 20.0
LIKE_K = 2.0
SOAK = "soak"
"""Name of the condition that says what a place's log knows of a soak."""
WELL_COVERED = 0.8


def after_soak(case: Case, log: LogEvidence, verdict: Verdict) -> Verdict:
    """A cold verdict with what its place says of the soak; not tested where the core was no longer that cold.

    A pack whose own temperature was logged needs no place to say it.
    """
    stood, cold = log.stood, log.analyses[0]
    if stood is None or cold.trace.temperature_C is not None:
        return verdict
    wanted = case.claim.conditions.get("temperature_C", cold.options.ambient_C)
    if stood.core_C is None:
        told = (
            f"the {stood.place} was not logged before it"
            if not stood.readings
            else f"the {stood.place} was logged too seldom"
        )
        return _with(verdict, Condition(SOAK, wanted, told))
    if wanted is not None and stood.core_C > wanted + THAWED_K:
        assert stood.high_C is not None
        why = said("no-longer-cold", place=stood.place, high=stood.high_C, core=stood.core_C, wanted=wanted)
        return not_settled(case, why, log.names, verdict.measured)
    return _with(verdict, Condition(SOAK, wanted, f"core near {stood.core_C:.0f} °C by the log of the {stood.place}"))


def on_the_shelf(case: Case, log: LogEvidence, rate: Quantity) -> list[Condition]:
    """The temperature that months on a shelf really had, and what that likely did to the loss."""
    stood = log.stood
    if stood is None:
        return []
    claimed = case.claim.conditions.get("temperature_C", USUAL_SHELF_C)
    if stood.mean_C is None:
        return [Condition("temperature", claimed, f"the {stood.place} was not logged")]
    seen = f"{stood.mean_C:.1f} °C by the log of the {stood.place} ({stood.low_C:.0f} to {stood.high_C:.0f} °C)"
    if stood.covered < WELL_COVERED:
        return [Condition("temperature", claimed, f"{seen}, logged for {100.0 * stood.covered:.0f} % of the time")]
    kelvin = claimed - stood.mean_C
    if abs(kelvin) <= LIKE_K:
        return [Condition("temperature", claimed, seen)]
    at_claimed = rate.value * PER_TEN_K ** (kelvin / 10.0)
    spread = abs(at_claimed * kelvin / 10.0) * PER_TEN_DOUBT / PER_TEN_K / math.sqrt(3.0)
    return [Condition("temperature", claimed, seen, Quantity(at_claimed - rate.value, spread, rate.unit))]


def _with(verdict: Verdict, condition: Condition) -> Verdict:
    working = verdict.working
    told = working if working is None else working.with_input(condition.name, str(condition.actual))
    return replace(verdict, conditions=(*verdict.conditions, condition), working=told)
