"""Volts that were read at the load instead of at the terminals: seen where they fall by far more than a battery's own."""

from __future__ import annotations

import math

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.beginning import COLD_C
from wintry_tally.core.analysis.trips import temperature_near
from wintry_tally.core.battery import Claim, Family
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.verdict.outcome import Condition

LEADS = "voltage under load"
LEADS_OF_A_CUT = 1.25
"""For the voltage of a cut less is enough: all that is beyond goes into its figure, and its window is a few tenths of a volt."""
LEADS_AT_LEAST, FRESH_V, FRESH_S = 2.0, 0.25, 5.0
"""A fall of so many times a battery's own, beyond what a fresh charge loses by then, is leads, clamps or wear; it loses so
many volts (of a battery of 12 V) within so many seconds. Common practice, no published source."""


def sag_of(analysis: Analysis) -> tuple[float, float] | None:
    """By how much the volts fell as the load of the capacity test came on, V, and how many s after.

    Where its log begins under load, what its largest other step of current says of it; None where it has none.
    """
    test = analysis.capacity
    if test is None or not analysis.resistance:
        return None
    begun, drawn_A = analysis.stages[test.first].start_s, test.count.mean_current.value
    for step in analysis.resistance:
        if abs(step.at_s - begun) <= 2.0 * analysis.scale.usual_s:
            return step.ohm.value * (step.to_A - step.from_A), step.after_s
    if analysis.stages[test.first].stage.first > 0:
        return None
    other = max(analysis.resistance, key=lambda step: abs(step.to_A - step.from_A))
    return other.ohm.value * drawn_A, other.after_s


def beyond_own_V(
    family: Family,
    rated_Ah: float,
    sag: tuple[float, float] | None,
    amps: float,
    celsius: float | None,
    at_least: float = LEADS_AT_LEAST,
) -> tuple[float, float] | None:
    """By how much the volts fall under a load by such a battery's own resistance, and by how much more these fell, V.

    None where they fell as usual (of a battery in the cold nothing is usual), or it is not in the log. What is beyond may
    be leads, where the volts were read at the load, or wear; `at_least` so many times the battery's own counts as more.
    Source: Ohm's law; what is usual is common practice.
    """
    if sag is None or (celsius is not None and celsius < COLD_C):
        return None
    own_V = family.build.ohm_Ah * family.share / rated_Ah * amps
    fell_V, fresh_V = sag[0], FRESH_V * family.share * min(1.0, sag[1] / FRESH_S)
    return (own_V, fell_V - own_V) if fell_V - fresh_V > at_least * own_V else None


def beyond_own_of(
    analysis: Analysis, family: Family, rated_Ah: float | None, amps: float = 0.0, at_least: float = LEADS_AT_LEAST
) -> tuple[float, float] | None:
    """The same of a log's capacity test; `amps`: at another current than it was drawn at."""
    test, sag = analysis.capacity, sag_of(analysis)
    if test is None or sag is None or not rated_Ah or test.count.mean_current.value <= 0.0:
        return None
    celsius = temperature_near(analysis.trace, test.count.spans[0].first, analysis.options.ambient_C)
    drawn_A = test.count.mean_current.value
    sag = (sag[0] * (amps or drawn_A) / drawn_A, sag[1])
    return beyond_own_V(family, rated_Ah, sag, amps or drawn_A, celsius, at_least)


def leads_condition(claim: Claim, found: tuple[float, float] | None, by: float) -> Condition | None:
    """What leads may have taken, from nothing to all that is beyond the battery's own: `by` a volt, in the claim's unit."""
    if found is None:
        return None
    own_V, more_V = found
    fell, most = f"it fell by {own_V + more_V:.2f} V", by * more_V
    effect = Quantity(most / 2.0, abs(most) / math.sqrt(12.0), claim.unit)
    return Condition(LEADS, f"about {own_V:.2f} V", fell, effect)
