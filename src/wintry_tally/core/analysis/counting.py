"""Charge and energy by the trapezoid over the real time stamps, with their doubt.

Q = ∫ I dt, E = ∫ V I dt, mean V = E / Q. Source: common practice; propagation by JCGM 100:2008, 5.1 and 5.2.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from wintry_tally.core.quantity import Accuracy, Quantity, Term
from wintry_tally.core.trace.repair import GAP_FACTOR
from wintry_tally.core.trace.trace import Column, Trace, noise_of

EVERY = 1 << 12
"""Readings between the sums that are kept: what lies beside one is added up anew each time it is asked for."""
LOGGER_OFF = 30.0
"""Usual intervals without a reading before a current: the logger was off."""
HOUR = 3600.0


def running_sum(time_s: Column, rate: Column) -> Column:
    """What a rate has come to at each reading, by the trapezoid rule: 0 at the first, then in the rate's unit times s."""
    return np.concatenate([[0.0], np.cumsum(0.5 * np.diff(time_s) * (rate[1:] + rate[:-1]))])


@dataclass(frozen=True)
class Instrument:
    """The accuracies a log was taken with; None where nothing is known.

    `name` tells instruments apart: two logs of the same one share its gain and offset errors.
    `assumed`: nobody named it; logs of equal accuracies are taken as one instrument's.
    `clock_s` is the standard uncertainty of each of a duration's ends (hand readings), `timebase_ppm` of the clock.
    """

    voltage: Accuracy | None = None
    current: Accuracy | None = None
    name: str = ""
    clock_s: float = 0.0
    timebase_ppm: float = 50.0
    assumed: bool = False


def meters_words(instruments: Sequence[Instrument]) -> str:
    """Whether logs were taken with one meter, as it stands in a working."""
    names = list(dict.fromkeys(item.name for item in instruments))
    if len(names) > 1:
        return "different meters: their errors do not cancel"
    if any(item.assumed for item in instruments):
        return "taken as one meter: equal accuracies, none named (options.instrument tells them apart)"
    return "one meter: its own errors are shared"


class Integral:
    """Running integrals of I and V·I over a trace, at any reading, in one pass and little memory.

    Holds sums at block starts only; a range costs at most two partial blocks. Signed: a discharge is positive.
    """

    def __init__(self, trace: Trace) -> None:
        self.trace = trace
        size = len(trace)
        starts = range(0, max(0, size - 1), EVERY)
        charge, energy, time_V = [0.0], [0.0], [0.0]
        for start in starts:
            q, e, v = self._block(start, min(size - 1, start + EVERY))
            charge.append(charge[-1] + q)
            energy.append(energy[-1] + e)
            time_V.append(time_V[-1] + v)
        self._charge, self._energy, self._time_V = charge, energy, time_V

    def _block(self, first: int, last: int) -> tuple[float, float, float]:
        """∫I dt, ∫VI dt, ∫V dt between two readings, in As, Ws, Vs."""
        if last <= first:
            return 0.0, 0.0, 0.0
        step = np.diff(self.trace.time_s[first : last + 1])
        current = self.trace.current[first : last + 1]
        voltage = self.trace.voltage_V[first : last + 1]
        power = voltage * current
        charge = 0.5 * (np.dot(step, current[1:]) + np.dot(step, current[:-1]))
        energy = 0.5 * (np.dot(step, power[1:]) + np.dot(step, power[:-1]))
        time_V = 0.5 * (np.dot(step, voltage[1:]) + np.dot(step, voltage[:-1]))
        return float(charge), float(energy), float(time_V)

    def to(self, index: int) -> tuple[float, float, float]:
        """The integrals from the first reading to this one, in As, Ws, Vs."""
        block = index // EVERY
        q, e, v = self._block(block * EVERY, index)
        return self._charge[block] + q, self._energy[block] + e, self._time_V[block] + v

    def between(self, first: int, last: int) -> tuple[float, float, float]:
        """The integrals between two readings, in As, Ws, Vs."""
        a, b = self.to(first), self.to(last)
        return b[0] - a[0], b[1] - a[1], b[2] - a[2]


@dataclass(frozen=True)
class Span:
    """Part of a trace that is counted: readings first to last, and the half intervals before and after.

    `lead_s` and `tail_s` are counted at the end readings' own values: the switch on or off lies somewhere in
    that interval. `lead_doubt_s` and `tail_doubt_s` are the standard uncertainties of those two instants;
    `mark_doubt_s` that of an end where the voltage goes through a mark, by the voltmeter's error there.
    """

    first: int
    last: int
    lead_s: float = 0.0
    tail_s: float = 0.0
    lead_doubt_s: float = 0.0
    tail_doubt_s: float = 0.0
    tail_current_A: float | None = None
    tail_voltage_V: float | None = None
    mark_doubt_s: float = 0.0


@dataclass(frozen=True)
class Count:
    """What was counted over some spans; amounts positive, in Ah, Wh, V, A, s.

    Parts:
        recorded_Ah: what of the charge's standard uncertainty comes from how it was recorded, which needs no meter's accuracy.
    """

    charge: Quantity
    energy: Quantity
    mean_voltage: Quantity
    mean_current: Quantity
    duration_s: float
    spans: tuple[Span, ...] = field(default_factory=tuple)
    recorded_Ah: float = 0.0


def _sums(trace: Trace, integral: Integral, spans: Sequence[Span]) -> tuple[float, float, float, float]:
    """Over the spans, with what lies before their first reading and behind their last: As, Ws, Vs, s."""
    charge_As = energy_Ws = time_V = duration = 0.0
    for span in spans:
        q, e, v = integral.between(span.first, span.last)
        current_0, current_1 = float(trace.current[span.first]), float(trace.current[span.last])
        voltage_0, voltage_1 = float(trace.voltage_V[span.first]), float(trace.voltage_V[span.last])
        tail_A = current_1 if span.tail_current_A is None else 0.5 * (current_1 + span.tail_current_A)
        tail_V = voltage_1 if span.tail_voltage_V is None else 0.5 * (voltage_1 + span.tail_voltage_V)
        charge_As += q + current_0 * span.lead_s + tail_A * span.tail_s
        energy_Ws += e + voltage_0 * current_0 * span.lead_s + tail_V * tail_A * span.tail_s
        time_V += v + voltage_0 * span.lead_s + tail_V * span.tail_s
        duration += float(trace.time_s[span.last] - trace.time_s[span.first]) + span.lead_s + span.tail_s
    return charge_As, energy_Ws, time_V, duration


def count(trace: Trace, integral: Integral, spans: Sequence[Span], instrument: Instrument) -> Count:
    """Charge, energy and means over the spans, with every term of the doubt.

    Terms: gain and offset of each meter (common to all readings, so never averaged), resolution, sampling,
    the instants of switching, gaps, the clock. What is added to every reading takes from a charge: its offset has the
    other sign there. Where an accuracy is unknown the doubt of what needs it is None.
    """
    charge_As, energy_Ws, time_V, duration = _sums(trace, integral, spans)
    sign, way = (-1.0 if charge_As < 0 else 1.0), (-1.0 if energy_Ws < 0 else 1.0)
    charge, energy, volt_hours = sign * charge_As / HOUR, abs(energy_Ws) / HOUR, time_V / HOUR
    hours = duration / HOUR
    # with next to no charge (a rest) the quotient means nothing: the mean over time stands in
    resting = abs(charge) < 1e-9 + 1e-5 * hours
    mean_V = (volt_hours / hours if hours else float("nan")) if resting else energy / charge
    mean_A = charge / hours if hours else 0.0

    # every term as (name, shared key, dQ, dE): contributions to charge and energy of one error
    rows: list[tuple[str, str, float, float]] = []
    known_I, known_V = instrument.current is not None, instrument.voltage is not None
    if instrument.current is not None:
        gain = instrument.current.gain_standard()
        offset = instrument.current.offset_standard(trace.digit_A)
        rows.append(("current gain", f"{instrument.name}:current-gain", charge * gain, energy * gain))
        rows.append(
            (
                "current offset × time",
                f"{instrument.name}:current-offset",
                sign * offset * hours,
                way * offset * volt_hours,
            )
        )
    voltage_rows: list[tuple[str, str, float, float]] = []
    if instrument.voltage is not None:
        gain = instrument.voltage.gain_standard()
        offset = instrument.voltage.offset_standard(trace.digit_V)
        voltage_rows.append(("voltage gain", f"{instrument.name}:voltage-gain", 0.0, energy * gain))
        voltage_rows.append(("voltage offset", f"{instrument.name}:voltage-offset", 0.0, offset * charge))
    recorded = _record_terms(trace, spans, mean_V, hours)
    rows += [(name, "", dq, de) for name, dq, de in recorded]
    rows.append(("time base", f"{instrument.name}:time-base", charge * _ppm(instrument), energy * _ppm(instrument)))
    ends = math.sqrt(2.0) * instrument.clock_s / HOUR
    if ends:
        rows.append(("reading of the clock", "", mean_A * ends, mean_A * mean_V * ends))

    charge_terms = [Term(name, dq, key) for name, key, dq, _ in rows]
    energy_terms = [Term(name, de, key) for name, key, _, de in rows + voltage_rows]
    # mean V = E/Q: what E and Q share (all of the current's gain) cancels
    ratio_terms = [
        Term(name, (de - mean_V * dq) / charge if charge else 0.0, key) for name, key, dq, de in rows + voltage_rows
    ]
    mean_terms = [Term(name, dq / hours if hours else 0.0, key) for name, key, dq, _ in rows if name != "time base"]
    return Count(
        charge=_quantity(charge, "Ah", charge_terms, known_I),
        energy=_quantity(energy, "Wh", energy_terms, known_I and known_V),
        mean_voltage=_quantity(mean_V, "V", ratio_terms, known_V and known_I),
        mean_current=_quantity(mean_A, "A", mean_terms, known_I),
        duration_s=duration,
        spans=tuple(spans),
        recorded_Ah=math.hypot(*(dq for _, dq, _ in recorded)),
    )


def _ppm(instrument: Instrument) -> float:
    return instrument.timebase_ppm * 1e-6 / math.sqrt(3.0)


def _quantity(value: float, unit: str, terms: Sequence[Term], known: bool) -> Quantity:
    return Quantity.from_terms(value, unit, terms) if known else Quantity(value, None, unit)


def _record_terms(trace: Trace, spans: Sequence[Span], mean_V: float, hours: float) -> list[tuple[str, float, float]]:
    """Terms that come from how the record was made: resolution, sampling, switching instants, gaps."""
    edge = gap = sampling = readings = levels = mark = 0.0
    usual = trace.usual_s
    for span in spans:
        current_0, current_1 = abs(float(trace.current[span.first])), abs(float(trace.current[span.last]))
        edge += (current_0 * span.lead_doubt_s / HOUR) ** 2 + (current_1 * span.tail_doubt_s / HOUR) ** 2
        mark += (current_1 * span.mark_doubt_s / HOUR) ** 2
        bridged, stepped, sampled, seen, visited = _inside(trace, span, usual)
        gap += bridged
        edge += stepped
        sampling += sampled
        readings += seen
        levels += visited
    terms = [
        ("instants of switching", math.sqrt(edge), math.sqrt(edge) * mean_V),
        ("voltage at the mark", math.sqrt(mark), math.sqrt(mark) * mean_V),
        ("gaps bridged", math.sqrt(gap), math.sqrt(gap) * mean_V),
        ("sampling", sampling, sampling * mean_V),
    ]
    step_A, step_V = trace.digit_A, trace.digit_V
    # a reading that never leaves its last digit repeats one rounding error; every other digit it visits has another
    # one, and noise as wide as a digit averages it out over all readings
    independent = max(1.0, min(readings, levels))
    rounding = step_A / math.sqrt(12.0) * hours / math.sqrt(independent)
    terms.append(("resolution of the current", rounding, rounding * mean_V))
    charge = sum(abs(float(trace.current[span.first])) for span in spans) / max(1, len(spans)) * hours
    terms.append(("resolution of the voltage", 0.0, step_V / math.sqrt(12.0) * charge / math.sqrt(independent)))
    return terms


STEP_SHARE = 0.2
"""A current that changes by such a share of the largest from one reading to the next was switched somewhere between them."""


def _inside(trace: Trace, span: Span, usual: float) -> tuple[float, float, float, int, int]:
    """Squared doubt of gaps and of switching (Ah²), sampling doubt (Ah), readings, and independent rounding errors, within a
    span."""
    first, last = span.first, span.last
    readings = last - first + 1
    if readings < 2:
        return 0.0, 0.0, 0.0, readings, 0
    gap, stepped, sampled_full, sampled_half = 0.0, 0.0, 0.0, 0.0
    visited = np.zeros(0)
    step_A = trace.digit_A
    noisy = 0.0
    # a long log is looked at in evenly spread windows: its sampling doubt per window is then scaled up
    window = readings if readings <= 40_000 else 2_000
    starts = [first] if window == readings else list(np.linspace(first, last - window, 20).astype(np.int64))
    for start in starts:
        time = trace.time_s[start : start + window]
        current = trace.current[start : start + window]
        step = np.diff(time)
        if step_A and len(visited) < 5000:
            visited = np.unique(np.concatenate((visited, current[:20_000])))
        noisy = max(noisy, noise_of(current))
        long = step > GAP_FACTOR * usual
        if np.any(long):
            bridged = 0.5 * np.abs(np.diff(current)[long]) * step[long] / math.sqrt(3.0) / HOUR
            gap += float(np.sum(bridged**2))
        moved = np.abs(np.diff(current))
        leaps = np.flatnonzero((moved > STEP_SHARE * float(np.abs(current).max())) & ~long)
        stepped += float(np.sum((moved[leaps] * step[leaps] / HOUR) ** 2)) / 12.0
        full = float(np.dot(step, current[1:] + current[:-1])) / 2.0 / HOUR
        even = len(time) - (1 - len(time) % 2)
        coarse_t, coarse_i = time[:even:2], current[:even:2]
        half = float(np.dot(np.diff(coarse_t), coarse_i[1:] + coarse_i[:-1])) / 2.0 / HOUR
        if even < len(time):
            half += float(step[-1] * (current[-1] + current[-2])) / 2.0 / HOUR
        sampled_full += full
        sampled_half += half
    scale = math.sqrt(readings / (window * len(starts))) if window != readings else 1.0
    # halving the step of a trapezoid quarters its error: the error left is a third of the difference
    sampling = abs(sampled_full - sampled_half) / 3.0 * scale
    dithers = step_A > 0 and noisy > 0.4 * step_A
    return gap * scale**2, stepped * scale**2, sampling, readings, readings if dithers else max(1, len(visited))


def rest_of_interval(time_s: Column, index: int, forward: bool, usual: float) -> tuple[float, float]:
    """Half the interval beside a reading and the standard uncertainty of a switch somewhere within it, in s.

    A current's end within a gap is bridged no further than its last reading shows, and its start where the logger was
    off (thirty usual intervals): half a usual interval is taken, and that it flowed through the whole gap is its doubt.
    """
    neighbour = index + 1 if forward else index - 1
    if not 0 <= neighbour < len(time_s):
        return 0.0, 0.0
    interval = abs(float(time_s[neighbour] - time_s[index]))
    if usual > 0 and interval > (1.001 * GAP_FACTOR if forward else LOGGER_OFF) * usual:
        return usual / 2.0, interval / math.sqrt(3.0)
    return interval / 2.0, interval / math.sqrt(12.0)
