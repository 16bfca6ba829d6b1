"""Battery families, claims, models and samples, and the checks made on arrival."""

from wintry_tally.core.battery.arrival import arrival_findings
from wintry_tally.core.battery.claims import CLAIM_KINDS, Claim, ClaimKind, Direction
from wintry_tally.core.battery.families import (
    FAMILIES,
    Family,
    family_named,
    of_cells,
    pack_of,
    packs_of,
    packs_that_fit,
)
from wintry_tally.core.battery.finding import Finding
from wintry_tally.core.battery.label import label_findings
from wintry_tally.core.battery.sample import Arrival, Sample

__all__ = [
    "CLAIM_KINDS",
    "FAMILIES",
    "of_cells",
    "pack_of",
    "packs_of",
    "packs_that_fit",
    "Arrival",
    "Claim",
    "ClaimKind",
    "Direction",
    "Family",
    "Finding",
    "Sample",
    "arrival_findings",
    "family_named",
    "label_findings",
    "parse_claim",
]


def parse_claim(text: str, source: str = "label", family: str = "") -> Claim:
    """See `printed.parse_claim`; what reads printed text is loaded when something is read."""
    from wintry_tally.core.battery.printed import parse_claim as parse

    return parse(text, source, family)
