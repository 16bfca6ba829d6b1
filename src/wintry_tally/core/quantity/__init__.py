"""Uncertain numbers, units and their display, instrument accuracy, and reading what people type."""

from wintry_tally.core.quantity.accuracy import Accuracy, parse_accuracy
from wintry_tally.core.quantity.display import (
    amps_words,
    format_duration,
    format_hours,
    format_number,
    format_plain,
    format_quantity,
    format_set_time,
)
from wintry_tally.core.quantity.typed import Typed, parse_duration, parse_typed
from wintry_tally.core.quantity.uncertain import COVERAGE, Quantity, Term, combine_linear, ratio

__all__ = [
    "COVERAGE",
    "Accuracy",
    "Quantity",
    "Term",
    "Typed",
    "combine_linear",
    "format_duration",
    "format_hours",
    "amps_words",
    "format_number",
    "format_plain",
    "format_quantity",
    "format_set_time",
    "parse_accuracy",
    "parse_duration",
    "parse_typed",
    "ratio",
]
