"""A sample on the bench: one battery, its model's claims, and how it arrived."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from wintry_tally.core.battery.claims import Claim
from wintry_tally.core.battery.families import Family, family_named, pack_of


@dataclass(frozen=True)
class Arrival:
    """What was found when the box was opened; None where it was not measured.

    Parts:
        rested_V: as-received voltage before anything else; rested: whether it had truly rested.
        mass_kg, mass_limit_kg: the weighing and the scale's limit of error.
        obtained: "bought", "supplied by the maker", "lent", or empty while unknown.
        tight, polarity: terminals checked tight, polarity marks checked against a meter.
        notes: what came in the box, and damage; serial, date_code: of this one, as printed on it.
    """

    rested_V: float | None = None
    rested: bool = True
    mass_kg: float | None = None
    mass_limit_kg: float | None = None
    obtained: str = ""
    received: str = ""
    tight: bool | None = None
    polarity: bool | None = None
    notes: str = ""
    serial: str = ""
    date_code: str = ""


@dataclass(frozen=True)
class Sample:
    """One battery with a hang-tag. `nominal_V`: what is printed on the pack; None for its family's usual 12 V one."""

    id: int
    code: str
    maker: str
    model: str
    family_key: str
    claims: tuple[Claim, ...] = ()
    arrival: Arrival = Arrival()
    nominal_V: float | None = None

    @property
    def family(self) -> Family:
        """Its family's profile, as a pack of its nominal voltage."""
        return pack_of(family_named(self.family_key), self.nominal_V)

    @property
    def rated_Ah(self) -> float | None:
        """The claimed capacity: the label's, or else the first printed; None without a capacity claim."""
        return first_value(self.claims, "capacity")

    @property
    def cutoff_V(self) -> float:
        """The end-of-discharge voltage: the claimed low-voltage cut, or else the family's usual one."""
        claimed = first_value(self.claims, "low-voltage-cut")
        return self.family.cutoff_V if claimed is None else claimed

    @property
    def title(self) -> str:
        """Maker and model, or words for their absence."""
        return " ".join(part for part in (self.maker, self.model) if part) or "maker and model not noted"


def first_value(claims: tuple[Claim, ...], kind: str) -> float | None:
    """The value claimed for a kind: from the label if printed there, or else the first one kept."""
    found = [claim for claim in claims if claim.kind == kind and claim.value is not None]
    found.sort(key=lambda claim: claim.source != "label")
    return found[0].value if found else None


@dataclass(frozen=True)
class CyclesHad:
    """Whole cycles that a battery has had: those noted, and what was drawn in runs here; before each run, and by now."""

    before: Mapping[str, float] = field(default_factory=dict)
    now: float = 0.0
