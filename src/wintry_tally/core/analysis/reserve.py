"""Reserve capacity of a lead-acid battery: minutes at about 25 A until 10.50 V, and at 25 °C.

Source: IEC 60095-1 / EN 50342-1 (from memory): 25 A to 10.50 V; C25 = C_T [1 - 0.01 (T - 25)].
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.analysis.capacity import CapacityTest
from wintry_tally.core.analysis.counting import Instrument
from wintry_tally.core.analysis.crossing import find_crossing
from wintry_tally.core.analysis.stages import Scale, Stage, StageKind, span_of
from wintry_tally.core.battery.families import Family
from wintry_tally.core.quantity import Quantity, Term, format_quantity
from wintry_tally.core.trace.trace import Trace
from wintry_tally.core.working import Working

END_V = 10.5
CURRENT_A = 25.0
PEUKERT = 1.2
"""How much the minutes lean on the current; common practice, no published source."""


MOST_MINUTES = 480.0
"""The relation between the two capacities holds up to here."""


def c20_from_reserve(minutes: float) -> float:
    """20-hour capacity from reserve minutes at 25 A: C20 = √(17778 + 208.3 RC) - 133.3, for RC ≤ 480.

    Source: IEC 60095-1 (from memory): RC = 96 → 61.1 Ah.
    """
    return math.sqrt(17778.0 + 208.3 * minutes) - 133.3


@dataclass(frozen=True)
class Reserve:
    """Minutes to 10.50 V; at 25 °C where the temperature is known; the voltage at the rated minute.

    `reached` is False when the test ended above 10.50 V: the minutes are then what it lasted, and no more is known.
    `paused_s`: how long the load was off within it, which is in no minute (the battery recovers then: in one go it lasts
    no longer); `unbroken_s`: how long it was on before the first pause.
    """

    minutes: Quantity
    minutes_at_25C: Quantity | None
    voltage_at_rated_minutes: float | None
    reached: bool
    working: Working
    paused_s: float = 0.0
    unbroken_s: float = math.inf

    @property
    def c20_Ah(self) -> float | None:
        """The 20-hour capacity that goes with the minutes at 25 °C (or as they were); None when not reached."""
        minutes = (self.minutes_at_25C or self.minutes).value
        return c20_from_reserve(minutes) if self.reached and 0 < minutes <= MOST_MINUTES else None


def end_of(family: Family | None) -> float:
    """Where the minutes end, V: 1.75 V a cell of a lead-acid battery."""
    return END_V * (family.share if family is not None else 1.0)


def reserve_of(
    trace: Trace,
    scale: Scale,
    stages: list[Stage],
    test: CapacityTest,
    instrument: Instrument,
    family: Family | None,
    rated_minutes: float | None,
    ambient_C: float | None,
) -> Reserve | None:
    """The reserve test in a log; None when nobody asked for one and it does not look like one."""
    mean_A = test.count.mean_current.value
    looks_like_one = family is not None and not family.lithium and abs(mean_A - CURRENT_A) < 1.0
    if rated_minutes is None and not looks_like_one:
        return None
    discharges = [stage for stage in stages[test.first : test.last + 1] if stage.kind == StageKind.DISCHARGE]
    first = span_of(trace, scale, discharges[0])
    begun = float(trace.time_s[first.first]) - first.lead_s
    end_V = end_of(family)
    ended, end_doubt, last_seen, reached = _ended(trace, scale, discharges, test, end_V, instrument)
    paused_s, unbroken_s = _pauses(trace, scale, discharges, begun, ended)
    lasted = (ended - begun - paused_s) / 60.0
    minutes = _with_doubt(lasted, first.lead_doubt_s, end_doubt, test, instrument)
    temperature = _temperature_at(trace, first.first, ambient_C)
    corrected = None
    inputs = {
        "load on at": f"{begun:.1f} s",
        f"{end_V:.2f} V at": f"{ended:.1f} s" if reached else "not reached",
        "mean current": format_quantity(test.count.mean_current),
    }
    if paused_s:
        inputs["switched off within it"] = f"{paused_s:.0f} s, not counted"
    if temperature is not None:
        corrected = _at_25C(minutes, temperature, trace.temperature_C is None)
        far = "; far from 25 °C, where the correction is meant" if abs(temperature - 25.0) > NEAR_K else ""
        inputs["temperature at the start"] = f"{temperature:.1f} °C{far}"
        inputs["minutes at 25 °C"] = format_quantity(corrected)
    working = Working(
        "Reserve capacity",
        f"minutes from load-on to {end_V:.2f} V; RC25 = RC_T [1 − 0.01 (T − 25)]",
        inputs,
        format_quantity(minutes),
        "IEC 60095-1 (from memory)",
    )
    at_rated = None
    shown_s = float(trace.time_s[last_seen] - trace.time_s[first.first])
    seen_s = shown_s + min(ended - begun - shown_s, SEEN_TO * 60.0 * (rated_minutes or 0.0))
    if rated_minutes is not None and 60.0 * rated_minutes <= min(seen_s, unbroken_s):
        # under load only: what it rebounds to afterwards settles nothing
        at_rated = float(np.interp(begun + 60.0 * rated_minutes, trace.time_s, trace.voltage_V))
    return Reserve(minutes, corrected, at_rated, reached, working, paused_s, unbroken_s)


def _ended(
    trace: Trace, scale: Scale, discharges: list[Stage], test: CapacityTest, end_V: float, instrument: Instrument
) -> tuple[float, float, int, bool]:
    """When the minutes end and how surely (s), the last reading before, and whether the voltage came to its mark."""
    crossing = find_crossing(trace, scale, discharges, end_V, instrument)
    if crossing is not None:
        where = crossing[1]
        return (
            float(trace.time_s[where.last]) + where.tail_s, math.hypot(where.doubt_s, where.mark_doubt_s), where.last, True,
        )  # fmt: skip
    last, reached = span_of(trace, scale, discharges[-1]), test.voltage_end <= end_V + test.near_V and not test.hidden_s
    doubt = last.tail_doubt_s
    if reached:  # another meter's mark, or one reading's fall: anywhere as near
        doubt = math.hypot(doubt, test.slack_V / math.sqrt(3.0) / test.fall_V_s)
    return float(trace.time_s[last.last]) + last.tail_s, doubt, last.last, reached


def _pauses(trace: Trace, scale: Scale, discharges: list[Stage], begun_s: float, ended_s: float) -> tuple[float, float]:
    """How long the load was off before the end, and how long it was on before the first pause; s."""
    paused, unbroken = 0.0, math.inf
    for stage, following in itertools.pairwise(discharges):
        if following.first <= stage.last + 1:
            continue
        off, on = span_of(trace, scale, stage), span_of(trace, scale, following)
        from_s = float(trace.time_s[off.last]) + off.tail_s
        if from_s < ended_s:
            paused += float(trace.time_s[on.first]) - on.lead_s - from_s
            unbroken = min(unbroken, from_s - begun_s)
    return paused, unbroken


SEEN_TO = 0.005
"""Readings under load may be so much of the rated time short of it: a load that a timer switched off there."""
PER_KELVIN, PER_KELVIN_DOUBT = 0.01, 0.002
NEAR_K = 10.0
"""The correction is meant near 25 °C; from so far away on its coefficient is twice as doubtful. Common practice."""
READ_K, STATED_K = 0.5, 1.0
"""A logged temperature is good to the first, a stated one to the second (limits); common practice."""


def _at_25C(minutes: Quantity, celsius: float, stated: bool) -> Quantity:
    """C25 = C_T [1 − 0.01 (T − 25)] with the doubt of the temperature and of the coefficient."""
    apart = celsius - 25.0
    corrected = minutes.scaled(1.0 - PER_KELVIN * apart)
    if corrected.standard is None:
        return corrected
    coefficient = PER_KELVIN_DOUBT * (2.0 if abs(apart) > NEAR_K else 1.0)
    read = (STATED_K if stated else READ_K) / math.sqrt(3.0)
    terms = [
        *corrected.terms,
        Term("temperature at the start", minutes.value * PER_KELVIN * read),
        Term("coefficient of the temperature", minutes.value * coefficient * apart),
    ]
    return Quantity.from_terms(corrected.value, corrected.unit, terms)


def _with_doubt(lasted: float, lead_s: float, end_s: float, test: CapacityTest, instrument: Instrument) -> Quantity:
    current = test.count.mean_current
    if instrument.voltage is None or current.standard is None or current.value == 0:
        return Quantity(lasted, None, "min")
    terms = [
        Term("load-on instant", lead_s / 60.0),
        Term("instant of 10.50 V", end_s / 60.0),
        Term("current while it ran", PEUKERT * lasted * current.standard / current.value),
        Term("time base", lasted * instrument.timebase_ppm * 1e-6 / math.sqrt(3.0)),
        Term("reading of the clock", math.sqrt(2.0) * instrument.clock_s / 60.0),
    ]
    return Quantity.from_terms(lasted, "min", terms)


def _temperature_at(trace: Trace, index: int, ambient_C: float | None) -> float | None:
    if trace.temperature_C is not None:
        around = trace.temperature_C[max(0, index - 2) : index + 3]
        around = around[np.isfinite(around)]
        if len(around):
            return float(np.mean(around))
    return ambient_C
