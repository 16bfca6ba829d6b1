"""Claims: the closed list of kinds, and a claim. What labels call them, and reading them, is in `printed`."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from wintry_tally.core.message import NOTHING, Message, said
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.quantity.units import CURRENCIES, KEPT, SIGNS_OF_MONEY, find_unit


class Direction(StrEnum):
    """How a value is claimed."""

    AT_LEAST = "at-least"
    AT_MOST = "at-most"
    WITHIN = "within"
    IS = "is"


@dataclass(frozen=True)
class ClaimKind:
    """One kind of claim.

    Parts:
        key, label: its name in files, and in words.
        dimension: of its value; empty for yes-no kinds.
        direction: what a bare printed value means.
        evidence: the method that settles it; empty where this bench cannot.
        beyond: why this bench cannot test it, where that is so.
        repeatable: whether a battery may truthfully carry several (surge at several durations).
        unit: the unit shown and written in files, where it is not the dimension's kept one.
        bare: whether it may be claimed without a value: that a pack has it, or has not.
    """

    key: str
    label: str
    dimension: str
    direction: Direction
    evidence: str
    beyond: Message = NOTHING
    repeatable: bool = False
    unit: str = ""
    bare: bool = False

    @property
    def shown_unit(self) -> str:
        """The unit its value is shown in."""
        return self.unit or (KEPT[self.dimension] if self.dimension else "")


_L, _M, _W, _I = Direction.AT_LEAST, Direction.AT_MOST, Direction.WITHIN, Direction.IS

NOTED = "noted"
"""What is printed of terminals, certificates, a cranking current: kept as it stands, and not judged."""

CLAIM_KINDS: dict[str, ClaimKind] = {
    kind.key: kind
    for kind in (
        ClaimKind("capacity", "Capacity", "charge", _L, "capacity"),
        ClaimKind("energy", "Energy", "energy", _L, "capacity"),
        ClaimKind("reserve", "Reserve capacity", "duration", _L, "reserve", unit="min"),
        ClaimKind("runtime", "Runtime with a device", "duration", _L, "runtime", unit="h"),
        ClaimKind("continuous-discharge", "Continuous discharge", "current", _L, "hold"),
        ClaimKind("surge", "Surge", "current", _L, "surge", repeatable=True),
        ClaimKind("over-current-trip", "Over-current trip", "current", _W, "overload", bare=True),
        ClaimKind("low-voltage-cut", "Low-voltage cut", "voltage", _W, "capacity", bare=True),
        ClaimKind("low-voltage-release", "Low-voltage release", "voltage", _W, "measured", bare=True),
        ClaimKind("over-voltage-cut", "Over-voltage cut", "voltage", _W, "charge", bare=True),
        ClaimKind("over-voltage-release", "Over-voltage release", "voltage", _W, "measured", bare=True),
        ClaimKind("charge-voltage", "Charge voltage", "voltage", _W, "charge"),
        ClaimKind("charge-current", "Charge current", "current", _L, "charge"),
        ClaimKind("charge-time", "Charge time", "duration", _M, "charge", unit="h"),
        ClaimKind("efficiency", "Round-trip efficiency", "share", _L, "cycle"),
        ClaimKind("cold-charge-block", "Low-temperature charge block", "temperature", _W, "charge-block", bare=True),
        ClaimKind("cold-charge-release", "Charge release after cold", "temperature", _W, "charge-block", bare=True),
        ClaimKind(
            "high-temperature-cut", "High-temperature cut", "temperature", _W, "", beyond=said("beyond-heat"), bare=True
        ),
        ClaimKind("heater-power", "Heater, least input", "power", _L, "heater"),
        ClaimKind("heater-time", "Time to warm", "duration", _M, "heater", unit="min"),
        ClaimKind("heater-stop", "Heater stops", "temperature", _W, "heater"),
        ClaimKind("cold-loss", "Loss in the cold", "share", _M, "cold-loss"),
        ClaimKind("self-discharge", "Self-discharge", "monthly share", _M, "self-discharge"),
        ClaimKind("shelf-life", "Shelf life", "duration", _L, "", beyond=said("beyond-shelf-life"), unit="months"),
        ClaimKind("cycles", "Cycle life", "count", _L, "", beyond=said("beyond-cycles")),
        ClaimKind("mass", "Mass", "mass", _W, "measured"),
        ClaimKind("length", "Length", "length", _W, "measured"),
        ClaimKind("width", "Width", "length", _W, "measured"),
        ClaimKind("height", "Height", "length", _W, "measured"),
        ClaimKind("price", "Price", "money", _I, "measured"),
        ClaimKind("ingress", "Ingress code", "", _I, "", beyond=said("beyond-ingress")),
        ClaimKind("warranty", "Warranty", "duration", _I, "", beyond=said("beyond-warranty"), unit="years"),
        ClaimKind("feature", "Feature", "", _I, "measured", repeatable=True),
        ClaimKind(NOTED, "Noted as printed", "", _I, "", beyond=said("beyond-other"), repeatable=True),
    )
}
"""Every claim kind of the trade, in the order of a data sheet."""


def currency_of(text: str) -> str:
    """The currency a price is printed in, by its sign or code; "money" where none is."""
    found = re.search(rf"[€$£]|\b(?:{'|'.join(CURRENCIES)})\b", text, re.IGNORECASE)
    return "money" if found is None else SIGNS_OF_MONEY.get(found[0], found[0].upper())


SIGNS_OF_TIME = {1.0: "s", 60.0: "min", 3600.0: "h", 86400.0: "d"}
"""Units of time by their seconds, however they are spelt."""


@dataclass(frozen=True)
class Claim:
    """One printed claim.

    Parts:
        kind: a key of CLAIM_KINDS.
        value: in the kind's kept unit (s, V, A, Ah, Wh, °C, kg, mm), or None for yes-no kinds.
        wanted: the yes or no of a yes-no claim.
        tolerance: half-width for "within".
        conditions: c_rate, cutoff_V, temperature_C, duration_s and kin.
        source: where it was printed; dated: when, as an ISO date.
        text: the words as typed.
    """

    kind: str
    value: float | None
    unit: str
    direction: Direction
    tolerance: float = 0.0
    conditions: Mapping[str, float] = field(default_factory=dict)
    source: str = "label"
    dated: str = ""
    text: str = ""
    wanted: bool | None = None
    id: int | None = None

    @property
    def definition(self) -> ClaimKind:
        """Its kind's row in the table."""
        return CLAIM_KINDS[self.kind]

    @property
    def figure(self) -> float:
        """Its value, where it has one; asked only of claims that were seen to.

        Raises:
            TypeError: a yes or no has none.
        """
        if self.value is None:
            raise TypeError(f"a claim of {self.kind} without a value")
        return self.value

    @property
    def currency(self) -> str:
        """Of a price: its code, or as it is written; empty where nothing says, and of all else."""
        if self.definition.dimension != "money":
            return ""
        known = self.unit if self.unit != "money" else currency_of(self.text)
        return "" if known == "money" else known

    @property
    def printed_unit(self) -> str:
        """The unit it is printed in; where that cannot be read out of its words, its kind's own."""
        dimension = self.definition.dimension
        for word in re.findall(r"(?<![A-Za-z%°])(?:%/month|[A-Za-z%°Ω]+)", self.text):
            found = find_unit(word, dimension)
            if found is not None and found.dimension == dimension and dimension == "duration":
                return SIGNS_OF_TIME.get(found.factor, str(word))
        return self.currency if dimension == "money" else self.definition.shown_unit or self.unit

    def shown(self, quantity: Quantity) -> Quantity:
        """A result in this claim's own unit: hours for hours, minutes for minutes."""
        unit = find_unit(self.printed_unit, self.definition.dimension)
        if unit is None or quantity.unit != self.unit or unit.shift or self.definition.dimension != "duration":
            return quantity
        return quantity.scaled(1.0 / unit.factor, self.printed_unit)


def judged(claims: Iterable[Claim]) -> list[Claim]:
    """Those that are held against evidence: all but what is only noted as it is printed."""
    return [claim for claim in claims if claim.kind != NOTED]


def in_sheet_order(claims: Iterable[Claim]) -> list[Claim]:
    """Claims as a data sheet has them: by their kinds; of one kind as they stand."""
    order = {kind: place for place, kind in enumerate(CLAIM_KINDS)}
    return sorted(claims, key=lambda claim: order[claim.kind])
