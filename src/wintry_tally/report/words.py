"""Claims in words, alike in the window and on the page."""

from __future__ import annotations

from wintry_tally.core.battery import Claim, Direction
from wintry_tally.core.quantity import format_plain
from wintry_tally.core.quantity.units import in_unit

_SIGNS = {Direction.AT_LEAST: "at least ", Direction.AT_MOST: "at most ", Direction.WITHIN: "", Direction.IS: ""}


def claim_words(claim: Claim) -> str:
    """ "Capacity at least 40 Ah at 0.2 C"."""
    kind = claim.definition
    if claim.value is None:
        return f"{kind.label}: {claim.text or ('yes' if claim.wanted else 'no')}"
    unit = kind.shown_unit
    value = in_unit(claim.value, unit)
    text = f"{kind.label} {_SIGNS[claim.direction]}{format_plain(value, '' if unit == 'money' else unit)}"
    if claim.tolerance:
        text += f" ± {format_plain(claim.tolerance, unit)}"
    conditions = {
        "c_rate": lambda v: f"at {v:g} C",
        "cutoff_V": lambda v: f"to {v:g} V",
        "temperature_C": lambda v: f"at {v:g} °C",
        "duration_s": lambda v: f"for {v:g} s",
        "current_A": lambda v: f"at {v:g} A",
    }
    extra = [conditions[name](value) for name, value in claim.conditions.items() if name in conditions]
    return " ".join([text, *extra])


def chance_words(probability: float) -> str:
    """A probability to three decimals; never a 0 or a 1 that it is not."""
    if probability > 0.9995:
        return "> 0.999"
    if probability < 0.0005:
        return "< 0.001"
    return f"{probability:.3f}"
