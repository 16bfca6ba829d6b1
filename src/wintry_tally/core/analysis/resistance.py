"""Internal resistance from steps of the current: R = (V1 - V2) / (I2 - I1), the two times stated."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.analysis.counting import Instrument
from wintry_tally.core.analysis.ending import CHARGE_PROTECTION, OPENED
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind
from wintry_tally.core.quantity import Quantity, Term
from wintry_tally.core.trace.trace import Trace

WITHIN_S = 12.0
"""A reading later than this after the step says more of the cells than of the resistance."""


CHARGER_V = 13.8
"""A flat charge at or above this is a charger's limit with a heater behind it; cells would rise."""


@dataclass(frozen=True)
class StepResistance:
    """One step: when, from and to which current (A, discharge positive), and the resistance in Ω."""

    at_s: float
    from_A: float
    to_A: float
    before_s: float
    after_s: float
    ohm: Quantity


def step_resistances(
    trace: Trace, scale: Scale, stages: list[Stage], endings: list[str | None], instrument: Instrument
) -> list[StepResistance]:
    """Every step between stages that is large enough and not a protection at work.

    Before: the nearest reading. After: the first one whose current has settled, within 12 s of the step.
    Source: common practice; the published two-step method differs in its times (IEC 61960-3, from memory).
    """
    found = []
    least = max(0.1 * scale.reference_A, 10.0 * scale.noise_A, 3.0 * trace.digit_A)
    for position in range(1, len(stages)):
        if endings[position - 1] in {*OPENED, CHARGE_PROTECTION}:
            continue
        if _by_charger(trace, scale, stages[position - 1]) or _by_charger(trace, scale, stages[position]):
            continue
        before, after = stages[position].first - 1, stages[position].first
        at = 0.5 * float(trace.time_s[before] + trace.time_s[after])
        level = float(trace.current[min(stages[position].last, after + 3)])
        while after < stages[position].last and abs(float(trace.current[after]) - level) > 0.03 * max(
            abs(level), scale.reference_A
        ):
            after += 1
        if float(trace.time_s[after]) - at > WITHIN_S or at - float(trace.time_s[before]) > WITHIN_S:
            continue
        found += _step(trace, scale, instrument, at, before, after, least)
    for stage in stages:
        for before in _jumps(trace, scale, stage, least):
            at = 0.5 * float(trace.time_s[before] + trace.time_s[before + 1])
            found += _step(trace, scale, instrument, at, before, before + 1, least)
    return sorted(found, key=lambda step: step.at_s)


def _step(
    trace: Trace, scale: Scale, instrument: Instrument, at_s: float, before: int, after: int, least_A: float
) -> list[StepResistance]:
    """The resistance from two readings, unless the step is too small, goes the wrong way, or the pack is open."""
    step_A = float(trace.current[after] - trace.current[before])
    step_V = float(trace.voltage_V[before] - trace.voltage_V[after])
    open_V = min(float(trace.voltage_V[before]), float(trace.voltage_V[after]))
    if abs(step_A) < least_A or open_V < 2.0 or step_V / step_A <= 0.0:
        return []
    return [
        StepResistance(
            at_s,
            float(trace.current[before]) + 0.0,
            float(trace.current[after]) + 0.0,
            at_s - float(trace.time_s[before]),
            float(trace.time_s[after]) - at_s,
            _ohm(trace, scale, instrument, step_V, step_A),
        )
    ]


SCANNED = 200_000
FEW = 12


def _jumps(trace: Trace, scale: Scale, stage: Stage, least_A: float) -> list[int]:
    """Readings within a discharge after which the current jumps, too shortly for a stage of its own.

    A few only: where it jumps all the time, a load wanders or pulses, and no two readings make a step.
    """
    if stage.kind != StageKind.DISCHARGE or not 3 <= stage.last - stage.first <= SCANNED:
        return []
    steps = np.abs(np.diff(trace.current[stage.first : stage.last + 1]))
    at = np.flatnonzero(steps > max(least_A, 0.3 * scale.reference_A))
    if not 0 < len(at) <= FEW:
        return []
    close = trace.time_s[stage.first + at + 1] - trace.time_s[stage.first + at] <= WITHIN_S
    # a jump that goes on over the next reading is a ramp caught half way
    calm = np.array([n + 1 >= len(steps) or steps[n + 1] <= 0.03 * scale.reference_A or n + 1 in at for n in at])
    return [stage.first + int(n) for n in at[close & calm]]


def _by_charger(trace: Trace, scale: Scale, stage: Stage) -> bool:
    """Whether the charger, not the battery, sets the voltage: constant voltage, a heater's plateau, a block.

    A step to or from such a voltage says nothing of the battery's resistance.
    """
    if stage.kind == StageKind.CHARGE:
        if stage.control == "voltage":
            return True
        part = trace.voltage_V[stage.first + 1 : stage.last + 1]
        return (
            len(part) >= 10
            and float(np.ptp(part)) <= max(0.02, 8 * scale.noise_V)
            and float(part[0]) >= CHARGER_V * scale.share
        )
    if stage.kind != StageKind.REST or stage.last - stage.first < 2:
        return False
    idle = trace.voltage_V[stage.first : stage.last + 1]
    leaps = np.flatnonzero(np.diff(idle) > 0.4)
    return bool(len(leaps)) and float(idle[-1]) > float(idle[int(leaps[-1])]) + 0.4


def _ohm(trace: Trace, scale: Scale, instrument: Instrument, step_V: float, step_A: float) -> Quantity:
    """The quotient with its doubt: offsets cancel in the differences, gains, noise and rounding stay."""
    value = step_V / step_A
    if instrument.voltage is None or instrument.current is None:
        return Quantity(value, None, "Ω")
    blur_V = math.sqrt(2.0) * math.hypot(scale.noise_V, trace.digit_V / math.sqrt(12.0))
    blur_A = math.sqrt(2.0) * math.hypot(scale.noise_A, trace.digit_A / math.sqrt(12.0))
    return Quantity.from_terms(
        value,
        "Ω",
        [
            Term("voltage gain", value * instrument.voltage.gain_standard(), f"{instrument.name}:voltage-gain"),
            Term("current gain", -value * instrument.current.gain_standard(), f"{instrument.name}:current-gain"),
            Term("noise and rounding of the voltage", blur_V / abs(step_A)),
            Term("noise and rounding of the current", value * blur_A / abs(step_A)),
        ],
    )
