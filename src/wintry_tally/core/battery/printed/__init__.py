"""Reading what makers print: tokens, then quantities, then claims with their conditions; nothing dropped in silence."""

from wintry_tally.core.battery.printed.one import parse_claim, parse_claims
from wintry_tally.core.battery.printed.reader import Left, Pack, Printed, Read, read_printed

__all__ = ["Left", "Pack", "Printed", "Read", "parse_claim", "parse_claims", "read_printed"]
