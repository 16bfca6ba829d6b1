"""Set-points as functions of a sample's rating and claims: "0.2 C", "claim:surge", "cutoff", "1.1 x rated".

A set-point is one or more alternatives with "|" between them: the first that can be known is taken.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from wintry_tally.core.battery import CLAIM_KINDS, Claim, Family
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.capacity import IN_HAND, LoadLimits
from wintry_tally.core.quantity.units import find_unit


@dataclass(frozen=True)
class Facts:
    """What a recipe's set-points may lean on. `given` are values a person set for this run, by name.

    `held`: what its tests say that it holds, as a share of what a usual battery of its rating does; for forecasts alone.
    """

    family: Family
    rated_Ah: float
    claims: tuple[Claim, ...] = ()
    limits: LoadLimits | None = None
    given: Mapping[str, float] = field(default_factory=dict)
    held: float = 1.0

    def claimed(self, kind: str) -> Claim | None:
        """The claim of a kind: the label's, or else the first with a value."""
        found = sorted(
            (claim for claim in self.claims if claim.kind == kind and claim.value is not None),
            key=lambda claim: claim.source != "label",
        )
        return found[0] if found else None


NAMES: dict[str, Callable[[Facts], float]] = {
    "rated": lambda facts: facts.rated_Ah,
    "reference": lambda facts: facts.family.reference_rate_C * facts.rated_Ah,
    "taper": lambda facts: facts.family.full_taper_C * facts.rated_Ah,
    "rest": lambda facts: facts.family.rest_s,
    "cutoff": lambda facts: facts.family.cutoff_V,
    "floor": lambda facts: facts.family.cutoff_floor_V,
    "open": lambda facts: 0.5 * facts.family.nominal_V,
    "nominal": lambda facts: facts.family.nominal_V,
    "charge.gentle": lambda facts: facts.family.charge_V[0],
    "charge.usual": lambda facts: facts.family.charge_V[1],
    "charge.upper": lambda facts: facts.family.charge_V[2],
    "float": lambda facts: facts.family.float_V[1] if facts.family.float_V else math.nan,
    "charge.coldest": lambda facts: facts.family.charge_C[0],
    "load": lambda facts: (
        min(facts.limits.current_A, IN_HAND * facts.limits.power_W / facts.family.charge_state[0][0])
        if facts.limits
        else math.nan
    ),
    "half-time": lambda facts: 1800.0 / facts.family.reference_rate_C,
}
"""What a set-point may name, beside claims: each from the family's profile, the rating or the load."""

_TERM = re.compile(
    r"^(?:(?P<factor>\d+(?:\.\d+)?)\s*x\s+)?(?:(?P<name>[a-z][A-Za-z0-9.:_-]*[+-]?)|(?P<number>-?\d+(?:\.\d+)?)\s*(?P<unit>[A-Za-z°/%Ω]+)?)$"
)


def resolve(text: str | float, facts: Facts, place: str = "") -> float:
    """The value of a set-point, in the kept unit.

    Raises:
        InputError: a word that is not known, or nothing among the alternatives that can be known; with its place.
    """
    if isinstance(text, (int, float)):
        return float(text)
    for alternative in text.split("|"):
        value = _term(alternative.strip(), facts, place)
        if value is not None and math.isfinite(value):
            return value
    missing = ", ".join(part.strip() for part in text.split("|"))
    raise InputError(f"{place}: nothing is known for “{missing}”", mend="claim it, or set a number in the recipe")


def _term(text: str, facts: Facts, place: str) -> float | None:
    match = _TERM.match(text)
    if match is None:
        raise InputError(f'{place}: "{text}" is no set-point', mend='write it like "0.2 C", "cutoff" or "claim:surge"')
    factor = float(match["factor"] or 1.0)
    if match["name"]:
        value = _named(match["name"], facts, place)
        return None if value is None else factor * value
    number, unit = float(match["number"]), match["unit"]
    if unit is None:
        return factor * number
    if unit == "C":
        return factor * number * facts.rated_Ah
    if unit == "V/h":
        return factor * number
    found = find_unit(unit)
    if found is None:
        raise InputError(f'{place}: "{unit}" is no unit', mend='write it like "10.5 V", "30 min" or "0.2 C"')
    return factor * number * found.factor + found.shift


def _named(name: str, facts: Facts, place: str) -> float | None:
    if name.startswith("given:"):
        return facts.given.get(name[6:])
    if not name.startswith("claim:"):
        known = NAMES.get(name)
        if known is None:
            raise InputError(f'{place}: "{name}" is not known', mend=f"use one of {', '.join(NAMES)} or claim:KIND")
        return known(facts)
    kind, side = name[6:], 0.0
    if kind.endswith(("+", "-")):
        kind, side = kind[:-1], 1.0 if kind.endswith("+") else -1.0
    kind, _, condition = kind.partition(".")
    if kind not in CLAIM_KINDS:
        raise InputError(f'{place}: "{kind}" is no kind of claim', mend=f"use one of {', '.join(CLAIM_KINDS)}")
    claim = facts.claimed(kind)
    if claim is None or claim.value is None:
        return None
    if condition:
        return claim.conditions.get(condition)
    return claim.value + side * claim.tolerance
