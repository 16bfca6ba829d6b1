"""Volts that were read at the load instead of at the terminals: as somebody said, or seen where they fall by far more than a
battery's own."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.beginning import COLD_C
from wintry_tally.core.analysis.trips import temperature_near
from wintry_tally.core.battery import Claim, Family
from wintry_tally.core.message import Message, said
from wintry_tally.core.verdict.outcome import Condition, up_to

LEADS, LEADS_AT_END = "voltage under load", "voltage at the end"
LEADS_OF_A_CUT = 1.25
"""For the voltage of a cut less is enough: all that is beyond goes into its figure, and its window is a few tenths of a volt."""
LEADS_AT_LEAST, FRESH_V, FRESH_S = 2.0, 0.25, 5.0
"""A fall of so many times a battery's own, beyond what a fresh charge loses by then, is leads, clamps or wear; it loses so
many volts (of a battery of 12 V) within so many seconds. Common practice, no published source."""


AT_TERMINALS = said("at-terminals")
UNTOLD = 3.0
"""Where the volts were read at the load and nothing in the log shows their fall, leads may take so many times the battery's."""


@dataclass(frozen=True)
class Sag:
    """By how much the volts fell as a load came on, V (NaN where that is not in the log), and how many s after; `at_load`: they
    were read there, as somebody said."""

    fell_V: float
    after_s: float
    at_load: bool = False


@dataclass(frozen=True)
class Beyond:
    """How the volts fell by, V: by a battery's own resistance, as read, and the most that leads may have taken of it."""

    own_V: float
    fell_V: float
    most_V: float
    at_load: bool = False

    @property
    def words(self) -> Message:
        """Why they are no battery's terminals'."""
        if self.at_load:
            return said("read-at-load")
        return said("fell-by-more", fell=self.fell_V, own=self.own_V)


def sag_of(analysis: Analysis) -> Sag | None:
    """How the volts fell as the load of the capacity test came on.

    Where its log begins under load, what its largest other step of current says of it. None where it has none, or the
    volts were read at the terminals, as somebody said.
    """
    at_load = analysis.options.volts_at == "load"
    found = None if analysis.options.volts_at == "terminals" else _fall_of(analysis)
    if found is None:
        return Sag(math.nan, 0.0, at_load) if at_load and analysis.capacity is not None else None
    return Sag(*found, at_load)


def _fall_of(analysis: Analysis) -> tuple[float, float] | None:
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
    sag: Sag | None,
    amps: float,
    celsius: float | None,
    at_least: float = LEADS_AT_LEAST,
) -> Beyond | None:
    """What the volts fell by under a load beyond such a battery's own resistance.

    None where they fell as usual (of a battery in the cold nothing is usual), or it is not in the log. What is beyond may
    be leads, where the volts were read at the load, or wear; `at_least` so many times the battery's own counts as more.
    Said to be read at the load, all of the fall may be leads.
    Source: Ohm's law; what is usual is common practice.
    """
    if sag is None:
        return None
    own_V = family.build.ohm_Ah * family.share / rated_Ah * amps
    if sag.at_load:
        fell_V = sag.fell_V if math.isfinite(sag.fell_V) else (1.0 + UNTOLD) * own_V
        return Beyond(own_V, fell_V, max(fell_V, own_V), at_load=True)
    if celsius is not None and celsius < COLD_C:
        return None
    fresh_V = FRESH_V * family.share * min(1.0, sag.after_s / FRESH_S)
    return Beyond(own_V, sag.fell_V, sag.fell_V - own_V) if sag.fell_V - fresh_V > at_least * own_V else None


def beyond_own_of(
    analysis: Analysis, family: Family, rated_Ah: float | None, amps: float = 0.0, at_least: float = LEADS_AT_LEAST
) -> Beyond | None:
    """The same of a log's capacity test; `amps`: at another current than it was drawn at."""
    test, sag = analysis.capacity, sag_of(analysis)
    if test is None or sag is None or not rated_Ah or test.count.mean_current.value <= 0.0:
        return None
    celsius = temperature_near(analysis.trace, test.count.spans[0].first, analysis.options.ambient_C)
    drawn_A = test.count.mean_current.value
    sag = replace(sag, fell_V=sag.fell_V * (amps or drawn_A) / drawn_A)
    return beyond_own_V(family, rated_Ah, sag, amps or drawn_A, celsius, at_least)


def leads_condition(claim: Claim, found: Beyond | None, by: float) -> Condition | None:
    """What leads may have taken, from nothing to the most: `by` a volt, in the claim's unit."""
    if found is None:
        return None
    fell = f"it fell by {found.fell_V:.2f} V{', read at the load' if found.at_load else ''}"
    return up_to(by * found.most_V, claim.unit, LEADS, f"about {found.own_V:.2f} V", fell)
