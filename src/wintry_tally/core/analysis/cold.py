"""The cold: whether a charge was refused, when it was taken again, what a heater did, what was lost."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from wintry_tally.core.analysis.charging import ChargeResult
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind
from wintry_tally.core.analysis.trips import LOW_TEMPERATURE, Trip, temperature_near
from wintry_tally.core.quantity import Quantity, format_quantity, ratio
from wintry_tally.core.trace.trace import Trace
from wintry_tally.core.working import Working

FLOWS_S = 8.0
LEAST_C, LEAST_A = 0.001, 0.02
"""A smaller current, as a share of the capacity per hour or in A where no rating is known, charges nothing; common practice."""
"""A current still flowing into a cold pack after this is a charge, not a protection making up its mind."""


@dataclass(frozen=True)
class ChargeAttempt:
    """A charger put on the pack.

    Parts:
        at_s: when; temperature_C: then, or None where unknown.
        refused: whether the current was blocked within seconds; after_s: how long it flowed until then.
        current_A: what flowed.
    """

    at_s: float
    temperature_C: float | None
    refused: bool
    after_s: float
    current_A: float


def charge_attempts(
    trace: Trace,
    scale: Scale,
    stages: list[Stage],
    trips: tuple[Trip, ...],
    charge: ChargeResult | None,
    ambient_C: float | None,
    rated_Ah: float | None = None,
) -> list[ChargeAttempt]:
    """Every charge begun or refused in the log; a heater's phase counts as refused, its cells took nothing. A trickle that is
    no more than a meter's zero or a charger's own draw is no charge.

    Source: common practice, no published source.
    """
    found = [
        ChargeAttempt(
            trip.at_s,
            temperature_near(trace, trip.index, ambient_C),
            True,
            trip.latency_s if trip.current_A else 0.0,
            abs(trip.current_A),
        )
        for trip in trips
        if trip.kind == LOW_TEMPERATURE and trip.hidden_s <= FLOWS_S
    ]
    heated_until = -1.0
    if charge is not None and charge.heating is not None:
        heated_until = charge.heating.end_s
        begun = charge.heating.end_s - charge.heating.duration_s
        index = next((stage.first for stage in stages if float(trace.time_s[stage.first]) >= begun - scale.usual_s), 0)
        found.append(ChargeAttempt(begun, temperature_near(trace, index, ambient_C), True, 0.0, 0.0))
    previous: Stage | None = None
    for stage in stages:
        if stage.kind == StageKind.CHARGE:
            begun, ended = float(trace.time_s[stage.first]), float(trace.time_s[stage.last])
            goes_on = (
                previous is not None and previous.kind == StageKind.CHARGE and begun > heated_until + scale.usual_s
            )
            mean = abs(float(trace.current[(stage.first + stage.last) // 2]))
            least = LEAST_A if rated_Ah is None else LEAST_C * rated_Ah
            if ended - begun > FLOWS_S and ended > heated_until and not goes_on and mean > least:
                found.append(
                    ChargeAttempt(begun, temperature_near(trace, stage.first, ambient_C), False, ended - begun, mean)
                )
        previous = stage
    return sorted(found, key=lambda attempt: attempt.at_s)


def loss(cold: Quantity, warm: Quantity, label: str = "Loss in the cold") -> tuple[Quantity, Working]:
    """Percent lost of what the warm twin gave; an error both share (one meter's gain) cancels.

    Source: common practice; propagation by JCGM 100:2008, 5.2.
    """
    kept = ratio(cold, warm, 100.0, "%")
    lost = Quantity(100.0 - kept.value, kept.standard, "%", tuple(replace(t, standard=-t.standard) for t in kept.terms))
    working = Working(
        label,
        "loss = 100 % × (1 − cold / warm); what both measure wrongly alike cancels",
        {"cold": format_quantity(cold), "warm": format_quantity(warm)},
        format_quantity(lost) if math.isfinite(lost.value) else "–",
        "common practice; propagation by JCGM 100:2008, 5.2",
    )
    return lost, working
