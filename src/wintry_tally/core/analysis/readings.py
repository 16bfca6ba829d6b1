"""One reading of a log as a quantity: the meter's gain and offset, the last digit, the noise."""

from __future__ import annotations

import math

from wintry_tally.core.analysis.counting import Instrument
from wintry_tally.core.quantity import Accuracy, Quantity, Term
from wintry_tally.core.trace.trace import Trace


def voltage_quantity(trace: Trace, instrument: Instrument, value: float, noise_V: float = 0.0) -> Quantity:
    """A voltage read from the log, V; its doubt is unknown without the meter's accuracy.

    Source: JCGM 100:2008, 4.3.7 and 5.1.
    """
    return _quantity(value, "V", instrument.voltage, trace.digit_V, f"{instrument.name}:voltage", noise_V)


def current_quantity(trace: Trace, instrument: Instrument, value: float, noise_A: float = 0.0) -> Quantity:
    """A current read from the log, A; its doubt is unknown without the meter's accuracy."""
    return _quantity(value, "A", instrument.current, trace.digit_A, f"{instrument.name}:current", noise_A)


def _quantity(value: float, unit: str, accuracy: Accuracy | None, step: float, key: str, noise: float) -> Quantity:
    if accuracy is None:
        return Quantity(value, None, unit)
    return Quantity.from_terms(
        value,
        unit,
        [
            Term("gain of the meter", value * accuracy.gain_standard(), f"{key}-gain"),
            Term("offset of the meter", accuracy.offset_standard(step), f"{key}-offset"),
            Term("last digit", step / math.sqrt(12.0)),
            Term("noise", noise),
        ],
    )


TEMPERATURE_LIMIT_K = 1.0
"""Limit of error taken for a thermometer of which nothing is known; common practice, no published source."""


def temperature_quantity(value: float, spread_K: float = 0.0) -> Quantity:
    """A temperature in °C; `spread_K` is a limit of what lies between the sensor and the cells."""
    return Quantity.from_terms(
        value,
        "°C",
        [
            Term("thermometer", TEMPERATURE_LIMIT_K / math.sqrt(3.0)),
            Term("between sensor and cells", spread_K / math.sqrt(3.0)),
        ],
    )
