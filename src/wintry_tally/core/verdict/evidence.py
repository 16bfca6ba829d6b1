"""Evidence: what tests and measurements found, ready to be held against claims."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wintry_tally.core.analysis import Analysis, Instrument
from wintry_tally.core.analysis.derivation import charge_working, energy_working
from wintry_tally.core.analysis.ending import PROTECTION
from wintry_tally.core.quantity import Quantity, format_quantity
from wintry_tally.core.trace.repair import gaps_of
from wintry_tally.core.working import Working

ALTERS = frozenset({"sign-flipped", "unit-suspect"})
"""Remarks whose offered repair would change values: until it is taken or the run left out, nothing is settled."""


@dataclass(frozen=True)
class CapacityEvidence:
    """A capacity test: what was drawn, how fast, how it ended.

    Parts:
        name: the log's path or the run's title.
        charge, energy: with all their terms, so that several runs combine rightly.
        mean_current_A, end_V, ended_by, temperature_C: conditions of the test.
        cut: the voltage at which the protection opened, with its doubt, or None.
        undecided: why gaps could change a verdict, or an empty string.
        charge_step, energy_step: the working of each.
    """

    name: str
    charge: Quantity
    energy: Quantity
    mean_current_A: float
    duration_s: float
    end_V: float
    ended_by: str
    temperature_C: float | None
    rates: tuple[float, ...]
    cut: Quantity | None
    undecided: str
    charge_step: Working
    energy_step: Working


@dataclass(frozen=True)
class MeasuredEvidence:
    """Something measured directly (a mass, a size), or a single figure of a log (reserve minutes, a charge time)."""

    name: str
    kind: str
    quantity: Quantity
    step: Working | None = None


def capacity_evidence(name: str, analysis: Analysis, ambient_C: float | None = None) -> CapacityEvidence | None:
    """What a log says of capacity and energy; None when nothing was discharged in it."""
    test = analysis.capacity
    if test is None:
        return None
    instrument, trace = analysis.options.instrument, analysis.trace
    readings = analysis.readings_counted
    temperature = ambient_C
    temperatures = [
        result.temperature_mean
        for result in analysis.stages[test.first : test.last + 1]
        if result.temperature_mean is not None
    ]
    if temperatures:
        temperature = temperatures[0]
    cut = None
    if test.ended_by == PROTECTION:
        last = test.count.spans[-1].last
        cut = _cut_voltage(analysis, instrument, last)
    gap = next((term.standard for term in test.count.charge.terms if term.name == "gaps bridged"), 0.0)
    undecided = ""
    longest = max(
        (
            float(trace.time_s[i + 1] - trace.time_s[i])
            for span in test.count.spans
            for i in _gaps_inside(analysis, span.first, span.last)
        ),
        default=0.0,
    )
    charge = test.count.charge
    waiting = [remark for remark in analysis.remarks if remark.code in ALTERS and remark.offer]
    if waiting and analysis.options.repair != "offered":
        undecided = f"readings of the log wait for a decision ({waiting[0].message.rstrip('.')})"
    elif longest > 0.05 * test.count.duration_s or (charge.standard and gap > 0.7 * charge.standard):
        undecided = f"a gap of {longest:.0f} s in the test could change the verdict; repeat the run without it"
    return CapacityEvidence(
        name=name,
        charge=charge,
        energy=test.count.energy,
        mean_current_A=test.count.mean_current.value,
        duration_s=test.count.duration_s,
        end_V=test.voltage_end,
        ended_by=test.ended_by,
        temperature_C=temperature,
        rates=test.rates,
        cut=cut,
        undecided=undecided,
        charge_step=charge_working(test.count, instrument, readings),
        energy_step=energy_working(test.count, instrument, readings),
    )


def figures_of(name: str, analysis: Analysis) -> list[MeasuredEvidence]:
    """Single figures of a log that speak to a claim of their own: reserve minutes, the time of a charge (both in s).

    A reserve test that ended above 10.50 V settles nothing, and a charge that never got full neither.
    """
    found = []
    reserve, charge = analysis.reserve, analysis.charge
    if reserve is not None and reserve.reached:
        minutes = reserve.minutes_at_25C or reserve.minutes
        found.append(MeasuredEvidence(name, "reserve", minutes.scaled(60.0, "s"), reserve.working))
    if charge is not None and charge.time_to_full_s is not None:
        interval = analysis.scale.usual_s
        step = Working(
            "Time to full",
            "from the first current to the full criterion (taper at the limit, or the protection opening)",
            {"ended by": charge.ended_by, "charge": format_quantity(charge.count.charge)},
            f"{charge.time_to_full_s:.0f} s",
            "common practice",
        )
        doubt = interval / math.sqrt(6.0)
        found.append(MeasuredEvidence(name, "charge-time", Quantity(charge.time_to_full_s, doubt, "s"), step))
    return found


def _gaps_inside(analysis: Analysis, first: int, last: int) -> list[int]:
    found = gaps_of(analysis.trace.time_s[first : last + 1], analysis.scale.usual_s)
    return [first + int(index) for index in found]


def _cut_voltage(analysis: Analysis, instrument: Instrument, last: int) -> Quantity:
    """The last reading under load; the true cut lies up to one more fall below it."""
    trace = analysis.trace
    value = float(trace.voltage_V[last])
    if instrument.voltage is None:
        return Quantity(value, None, "V")
    fall = abs(float(trace.voltage_V[max(0, last - 1)]) - value)
    step = trace.resolution.get("voltage_V", 0.0)
    gain = instrument.voltage.gain_standard() * value
    offset = instrument.voltage.offset_standard(step)
    return Quantity(value, math.sqrt(gain**2 + offset**2 + (fall / math.sqrt(3.0)) ** 2), "V")
