"""The working of counted figures: formula, inputs, and every term of the doubt."""

from __future__ import annotations

import math

from wintry_tally.core.analysis.counting import Count, Instrument
from wintry_tally.core.quantity import Quantity, format_duration, format_quantity
from wintry_tally.core.quantity.display import decimals_for, format_number
from wintry_tally.core.working import Working


def doubt_working(quantity: Quantity) -> Working:
    """The terms of a quantity's doubt, largest first, each as a standard uncertainty."""
    if quantity.standard is None:
        return Working(
            "Uncertainty",
            "",
            {},
            "unknown: no accuracy was given for the instrument",
            "give the meter's accuracy to have one",
        )
    terms = sorted(quantity.terms, key=lambda term: -abs(term.standard))
    decimals = decimals_for(quantity.standard) + 1
    shown = {
        f"u({term.name})": f"{format_number(abs(term.standard), decimals)} {quantity.unit}".strip()
        for term in terms
        if abs(term.standard) > 0.01 * quantity.standard
    }
    return Working(
        "Uncertainty",
        "U = 2 √(Σ u²), limits of error a as uniform: u = a / √3",
        shown,
        f"± {format_number(2 * quantity.standard, decimals_for(2 * quantity.standard))} {quantity.unit} (k = 2)",
        "JCGM 100:2008 (GUM), 4.3.7, 5.1 and 6.2",
    )


def _instrument_inputs(instrument: Instrument) -> dict[str, str]:
    return {
        "voltage accuracy": str(instrument.voltage) if instrument.voltage else "not given",
        "current accuracy": str(instrument.current) if instrument.current else "not given",
    }


def charge_working(count: Count, instrument: Instrument, readings: int) -> Working:
    """How a charge was counted."""
    return Working(
        "Charge drawn",
        "Q = ∫ I dt, trapezoids over the real time stamps",
        {
            "time under load": format_duration(count.duration_s),
            "mean current": format_quantity(count.mean_current),
            "readings": f"{readings}",
            "stretches counted": f"{len(count.spans)}",
            **_instrument_inputs(instrument),
        },
        format_quantity(count.charge),
        "common practice",
        (doubt_working(count.charge),),
    )


def energy_working(count: Count, instrument: Instrument, readings: int) -> Working:
    """How an energy was counted."""
    return Working(
        "Energy drawn",
        "E = ∫ V I dt, trapezoids over the real time stamps",
        {
            "time under load": format_duration(count.duration_s),
            "mean voltage": format_quantity(count.mean_voltage),
            "readings": f"{readings}",
            **_instrument_inputs(instrument),
        },
        format_quantity(count.energy),
        "common practice",
        (doubt_working(count.energy),),
    )


def mean_voltage_working(count: Count, window: tuple[float, float] | None) -> Working:
    """How the mean voltage follows, and the window it is held against."""
    inputs = {"E": format_quantity(count.energy), "Q": format_quantity(count.charge)}
    if window is not None:
        inputs["usual for the family"] = f"{window[0]:g} to {window[1]:g} V"
    return Working(
        "Mean voltage",
        "V = E / Q; errors that E and Q share cancel",
        inputs,
        format_quantity(count.mean_voltage) if math.isfinite(count.mean_voltage.value) else "–",
        "common practice; propagation by JCGM 100:2008, 5.2",
        (doubt_working(count.mean_voltage),),
    )
