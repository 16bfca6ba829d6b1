"""Banks: units in series and side by side as one battery; its sums, its checks before joining, what its units say of it.

Strings of units in series stand side by side: series adds V, strings add Ah. Source of every relation here: common practice,
no published source.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date

from wintry_tally.core.battery.claims import Claim
from wintry_tally.core.battery.economy import bank as sums_of
from wintry_tally.core.battery.finding import Finding
from wintry_tally.core.battery.sample import Sample
from wintry_tally.core.errors import InputError
from wintry_tally.core.message import said
from wintry_tally.core.quantity import Quantity, combine_linear
from wintry_tally.core.quantity.display import format_plain, format_quantity
from wintry_tally.core.working import Working

MATCHED_V = 0.05
"""Units are joined within so many volts of each other."""
AGE_DAYS, CYCLES_APART = 180, 50.0
WEAK_SHARE = 0.03
"""A unit that gives so much less than the mean of the others limits its string: told, beyond what the meters explain."""
SOURCE = "its units"
BY_SERIES, BY_STRINGS = "series", "strings"
SUMMED: dict[str, str] = {
    "capacity": BY_STRINGS, "energy": "units", "continuous-discharge": BY_STRINGS, "surge": BY_STRINGS,
    "charge-current": BY_STRINGS, "charge-voltage": BY_SERIES, "low-voltage-cut": BY_SERIES, "over-voltage-cut": BY_SERIES,
    "mass": "units", "price": "units", "reserve": "", "cycles": "", "self-discharge": "",
}  # fmt: skip
"""Claims that a bank has of its units, and by what each is multiplied; nothing where it stays as it is."""
CONDITIONS = {"cutoff_V": BY_SERIES, "dropout_V": BY_SERIES, "current_A": BY_STRINGS, "device_A": BY_STRINGS}
MOST_UNITS = 64


@dataclass(frozen=True)
class Bank:
    """How many in series, how many strings of them, and the units, string by string."""

    series: int
    parallel: int
    units: tuple[Sample, ...]

    @property
    def nominal_V(self) -> float:
        """Of the whole."""
        return self.series * (self.units[0].nominal_V or self.units[0].family.nominal_V)

    @property
    def strings(self) -> tuple[tuple[Sample, ...], ...]:
        """The units of each string."""
        return tuple(self.units[n * self.series : (n + 1) * self.series] for n in range(self.parallel))

    @property
    def wiring(self) -> str:
        """ "2 in series", "3 side by side", "2 in series, 3 side by side"."""
        parts = [f"{self.series} in series"] if self.series > 1 else []
        return ", ".join([*parts, f"{self.parallel} side by side"] if self.parallel > 1 else parts)

    @property
    def words(self) -> str:
        """ "2 strings of 2: M1 + M2, M3 + M4"."""
        inside = ", ".join(" + ".join(unit.code for unit in string) for string in self.strings)
        if self.parallel == 1:
            return f"{self.series} in series: {inside}"
        if self.series == 1:
            return f"{self.parallel} side by side: {inside}"
        return f"{self.parallel} strings of {self.series}: {inside}"


def joined(units: tuple[Sample, ...], series: int, parallel: int) -> Bank:
    """A bank of these.

    Raises:
        InputError: too many or too few of them, one twice, of unlike families or voltages, or beyond what a maker allows.
    """
    if len(units) < 2:
        raise InputError("a bank has two units or more", mend="pick those that are joined")
    if series < 1 or parallel < 1 or series * parallel != len(units):
        raise InputError(
            f"{series} in series and {parallel} side by side are {series * parallel}, not {len(units)}",
            mend="each string has as many units in series as the others: pick more, or fewer in series",
        )
    if len(units) > MOST_UNITS:
        raise InputError(f"{len(units)} units are more than a bank here has", mend=f"join {MOST_UNITS} at the most")
    if len({unit.id for unit in units}) < len(units):
        raise InputError("one unit stands in it twice", mend="each has one place")
    for what, kinds in (
        ("family", {unit.family_key for unit in units}), ("voltage", {round(unit.family.nominal_V, 2) for unit in units}),
    ):  # fmt: skip
        if len(kinds) > 1:
            raise InputError(f"units of unlike {what} are not joined", mend="join units of one family and voltage")
    for unit in units:
        allowed = most_allowed(unit)
        sums_of(unit.family.nominal_V, unit.rated_Ah or 1.0, series, parallel, allowed[0], allowed[1])
    return Bank(series, parallel, units)


def most_allowed(unit: Sample) -> tuple[int, int]:
    """How many its maker allows in series and side by side, by its claims' words; 0 where nothing is said."""
    text = " ; ".join(claim.text for claim in unit.claims)
    found = [
        max(
            (
                int(n)
                for n in re.findall(rf"(\d+)\s*(?:units? )?in {word}|{word}\s*[:=]\s*(\d+)", text, re.IGNORECASE)
                for n in n
                if n
            ),
            default=0,
        )
        for word in ("series", "parallel")
    ]
    grids = re.findall(r"\b(\d+)S\s?(\d+)P\b", text) if "series" in text.lower() or "parallel" in text.lower() else []
    return max(found[0], *(int(n) for n, _ in grids), 0), max(found[1], *(int(n) for _, n in grids), 0)


def bank_claims(bank: Bank) -> list[Claim]:
    """What is claimed of the whole, by what is claimed of every one of its units alike."""
    times = {BY_SERIES: bank.series, BY_STRINGS: bank.parallel, "units": len(bank.units), "": 1}
    made = []
    for claim in bank.units[0].claims:
        if claim.kind not in SUMMED or claim.value is None:
            continue
        alike = all(
            any(
                (other.kind, other.value, dict(other.conditions)) == (claim.kind, claim.value, dict(claim.conditions))
                for other in unit.claims
            )
            for unit in bank.units[1:]
        )
        if not alike or (claim.kind == "reserve" and bank.parallel > 1):
            continue  # a reserve is at one current, and twice the strings hold more than twice as long
        factor = times[SUMMED[claim.kind]]
        conditions = {
            key: value * times[CONDITIONS[key]] if key in CONDITIONS else value
            for key, value in claim.conditions.items()
        }
        words = f"{len(bank.units)} × {claim.text or format_plain(claim.value, claim.unit)}"
        made.append(
            replace(
                claim, value=claim.value * factor, tolerance=claim.tolerance * factor, conditions=conditions, source=SOURCE,
                text=words if factor != 1 else claim.text, id=None,
            )
        )  # fmt: skip
    return made


def join_findings(bank: Bank, cycles: Mapping[str, float] | None = None) -> list[Finding]:
    """What is to be looked at before they are joined; `cycles`: how many each has had, where that is known."""
    found: list[Finding] = []
    units = bank.units
    if len({(unit.maker.lower(), unit.model.lower()) for unit in units}) > 1:
        found.append(Finding("bank-models", said("models-unlike"), "warning"))
    if len({unit.rated_Ah for unit in units}) > 1:
        found.append(Finding("bank-ratings", said("ratings-unlike"), "warning"))
    unread = tuple(unit.code for unit in units if unit.arrival.rested_V is None)
    known = {unit.code: unit.arrival.rested_V for unit in units if unit.arrival.rested_V is not None}
    if unread:
        found.append(Finding("bank-unread", said("rested-unread", codes=unread, limit=MATCHED_V), "warning"))
    if len(known) > 1:
        low, high = min(known, key=lambda code: known[code]), max(known, key=lambda code: known[code])
        apart = known[high] - known[low]
        if apart > MATCHED_V + 1e-9:
            told = said(
                "stand-apart", highest=high, high=known[high], lowest=low, low=known[low], apart=apart, limit=MATCHED_V
            )
            found.append(Finding("bank-apart", told, "contradiction"))
        elif not unread:
            found.append(Finding("bank-matched", said("stand-together", apart=apart), "good"))
    days = [date.fromisoformat(unit.arrival.received) for unit in units if _is_day(unit.arrival.received)]
    if len(days) > 1 and (max(days) - min(days)).days > AGE_DAYS:
        found.append(Finding("bank-age", said("came-apart", days=(max(days) - min(days)).days), "warning"))
    if cycles and max(cycles.values()) - min(cycles.values()) > CYCLES_APART:
        most = max(cycles, key=lambda code: cycles[code])
        told = said("cycles-apart", unit=most, most=cycles[most], least=min(cycles.values()))
        found.append(Finding("bank-cycles", told, "warning"))
    if not any(word for unit in units for word in most_allowed(unit)) and len(units) > 1:
        found.append(Finding("bank-allowed", said("allowed-unknown"), "note"))
    return found


def _is_day(text: str) -> bool:
    try:
        date.fromisoformat(text)
        return True
    except ValueError:
        return False


@dataclass(frozen=True)
class Expected:
    """What a bank should give by the tests of its own units: Ah, the unit that limits it most, and what that costs, Ah."""

    charge: Quantity
    weak: str
    costs: Quantity | None
    working: Working


def expected(bank: Bank, charges: Mapping[str, Quantity]) -> Expected | None:
    """By every unit's own capacity at like conditions; None while one of them was not tested.

    A string gives what its weakest unit gives; strings side by side add up.
    """
    if any(unit.code not in charges for unit in bank.units):
        return None
    weakest = [min(string, key=lambda unit: charges[unit.code].value) for string in bank.strings]
    whole = combine_linear([(1.0, charges[unit.code]) for unit in weakest], "Ah")
    weak = ""
    low = min(bank.units, key=lambda unit: charges[unit.code].value)
    rest = [charges[unit.code] for unit in bank.units if unit.id != low.id]
    mean = combine_linear([(1.0 / len(rest), one) for one in rest], "Ah")
    less = combine_linear([(1.0, mean), (-1.0, charges[low.code])], "Ah")
    costs = None
    # of two nobody is accused, nor by a meter of which nothing is known
    surely = less.expanded is not None and less.value > less.expanded
    if len(bank.units) > 2 and surely and less.value > WEAK_SHARE * mean.value:
        own = next(string for string in bank.strings if low in string)
        beside = [charges[unit.code].value for unit in own if unit.id != low.id]
        without = min([mean.value, *beside])
        weak = low.code
        lost = without - charges[low.code].value
        costs = Quantity(lost, less.standard, "Ah") if math.isfinite(lost) and lost > 0 else None
    given = {unit.code: format_quantity(charges[unit.code]) for unit in bank.units}
    steps = []
    if costs is not None:
        inputs = {weak: given[weak], "mean of the others": format_quantity(mean)}
        steps.append(
            Working(
                f"What {weak} costs its string",
                "the next weakest of its string, or the others' mean, less it",
                inputs,
                format_quantity(costs),
                "common practice",
            )
        )
    working = Working(
        "Charge of the bank by its units' tests", "Σ over the strings of the least of each", given,
        f"{format_quantity(whole)}: {' + '.join(unit.code for unit in weakest)}", "common practice; JCGM 100:2008, 5.2", tuple(steps),
    )  # fmt: skip
    return Expected(whole, weak, costs, working)
