"""Reading what makers print: tokens, then quantities, then claims with their conditions; nothing dropped in silence."""

from wintry_tally.core.battery.printed.found import Left, Pack, Printed, Read
from wintry_tally.core.battery.printed.one import Typed, parse_claim, typed_claims
from wintry_tally.core.battery.printed.reader import read_printed
from wintry_tally.core.battery.printed.sense import Sense, sense_of

__all__ = [
    "Left",
    "Pack",
    "Printed",
    "Read",
    "Sense",
    "Typed",
    "parse_claim",
    "read_printed",
    "sense_of",
    "typed_claims",
]
