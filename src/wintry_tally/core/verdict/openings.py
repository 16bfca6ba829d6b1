"""A protection that opened, as its last readings tell it: at which voltage, and what may have flowed unread before."""

from __future__ import annotations

import math

import numpy as np

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.readings import voltage_quantity
from wintry_tally.core.analysis.trips import Trip, first_of_run
from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.quantity import Quantity, Term, format_duration

UNREAD_SHARE, STEADY_SHARE, STEEPER, EVENLY = 0.01, 0.003, 1.3, 1.2
RISE_SHARE = 0.3
"""What may flow between the last reading before an opening and the next, of a battery's charge: up to a hundredth its voltage
falls no more in it than in as long before, or from three thousandths on a little more. Held against tests/reference, for
lithium: 1.0 falls at three thousandths, 1.3 at a hundredth, 1.7 at two, 3.2 at a tenth. On charge the end is steeper: a
share of that."""


def trip_voltage(analysis: Analysis, trip: Trip, rated_Ah: float | None) -> Quantity:
    """The last reading before an opening; the true cut lies up to one more fall beyond it, or rise."""
    trace, before = analysis.trace, max(0, trip.index - 1)
    fall = abs(float(trace.voltage_V[before]) - trip.voltage_V)
    unread_s, share = _unread(analysis, trip, rated_Ah)
    read_s = float(trace.time_s[trip.index] - trace.time_s[before])
    if read_s > 0.0 and unread_s > EVENLY * read_s:
        fall *= unread_s / read_s
    if share > STEADY_SHARE:
        fall *= STEEPER
    plain = voltage_quantity(trace, analysis.options.instrument, trip.voltage_V, analysis.scale.noise_V)
    if plain.standard is None:
        return plain
    return Quantity.from_terms(plain.value, "V", [*plain.terms, Term("one more fall", fall / math.sqrt(3.0))])


def unread(analysis: Analysis, trip: Trip, rated_Ah: float | None) -> Message:
    """Said where so much flowed unread before an opening that its voltage may have gone anywhere since; else nothing."""
    seconds, share = _unread(analysis, trip, rated_Ah)
    return said("cut-unread", seconds=seconds) if share > UNREAD_SHARE else NOTHING


def next_reading(analysis: Analysis, trip: Trip) -> dict[str, str]:
    """For a working: how long after the last reading before an opening the next one came."""
    seconds, _ = _unread(analysis, trip, None)
    return (
        {"next reading": f"{format_duration(seconds)} later" if seconds >= 60.0 else f"{seconds:.3g} s later"}
        if seconds
        else {}
    )


def _unread(analysis: Analysis, trip: Trip, rated_Ah: float | None) -> tuple[float, float]:
    """From the last reading before an opening to the next: s, and the share of the battery's charge that may have flowed, on
    charge the greater by how much steeper its end is."""
    trace, first = analysis.trace, run_begins(analysis, trip)
    if trip.index + 1 >= len(trace):
        return 0.0, 0.0
    seconds = float(trace.time_s[trip.index + 1] - trace.time_s[trip.index])
    run = slice(first, trip.index + 1)
    moved_Ah = abs(float(np.trapezoid(trace.current[run], trace.time_s[run]))) / 3600.0
    whole_Ah = max(moved_Ah, rated_Ah or 0.0)
    if not whole_Ah:
        return seconds, 0.0
    share = abs(trip.current_A) * seconds / 3600.0 / whole_Ah
    return seconds, share if trip.current_A > 0.0 else share / RISE_SHARE


def run_begins(analysis: Analysis, trip: Trip) -> int:
    """The first reading of the unbroken discharge that an opening ended."""
    stages = analysis.plain_stages
    return first_of_run(stages, next(n for n, stage in enumerate(stages) if stage.last >= trip.index))
