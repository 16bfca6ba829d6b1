"""Banks of a book: samples made of samples, what their units say of them, and needs held against them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from wintry_tally.core.battery.banks import Bank, Expected, expected, join_findings
from wintry_tally.core.errors import InputError
from wintry_tally.core.message import said
from wintry_tally.core.quantity import format_quantity

if TYPE_CHECKING:
    from wintry_tally.book import Book
    from wintry_tally.core.battery import Finding, Sample
    from wintry_tally.core.compare import Need, NeedResult
    from wintry_tally.core.quantity import Quantity
    from wintry_tally.report.dossier import Dossier


def bank_of(book: Book, sample_id: int) -> Bank | None:
    """The bank that a sample is; None where it is a single battery. Its units stay its own when their tags come off."""
    banks = book.banks.all()
    units = banks[sample_id][1] if sample_id in banks else ()
    return bank_among(banks, [book.samples.get(number, taken_off=True) for number in units], sample_id)


def bank_among(
    banks: Mapping[int, tuple[int, tuple[int, ...]]], samples: Iterable[Sample], sample_id: int
) -> Bank | None:
    """The same, among banks (series and units, by number) and samples that are known."""
    if sample_id not in banks:
        return None
    series, units = banks[sample_id]
    known = {sample.id: sample for sample in samples}
    return Bank(series, len(units) // series, tuple(known[number] for number in units))


def kin_of(book: Book, sample_id: int) -> set[int]:
    """Samples that cannot be tested beside one: a bank's units, and the banks that a unit is in."""
    banks = book.banks.all()
    own = set(banks[sample_id][1]) if sample_id in banks else set()
    return own | {bank for bank, (_, units) in banks.items() if sample_id in units or own & set(units)} - {sample_id}


def like_charges(bank: Bank, dossiers: Mapping[int, Dossier]) -> dict[str, Quantity] | None:
    """What each of its units gave in the discharges that are most alike, by its code; None while one was not tested."""
    from wintry_tally.app.comparison import compare_dossiers

    known = [dossiers[unit.id] for unit in bank.units if unit.id in dossiers]
    if len(known) < len(bank.units):
        return None
    row = next((one for one in compare_dossiers(known).rows if one.quantity == "charge"), None)
    found = {} if row is None else {code: value for code, value in row.values.items() if value is not None}
    return found if len(found) == len(bank.units) else None


def expected_of(bank: Bank, dossiers: Mapping[int, Dossier]) -> Expected | None:
    """What it should give by its units' own discharges; None while one was not tested."""
    charges = like_charges(bank, dossiers)
    return None if charges is None else expected(bank, charges)


def bank_lines(bank: Bank, dossiers: Mapping[int, Dossier]) -> list[str]:
    """What its units' own tests say of a bank, in lines."""
    found = expected_of(bank, dossiers)
    if found is None:
        untested = [unit.code for unit in bank.units if not _tested(dossiers.get(unit.id))]
        return [
            f"What it should give is not known before each unit's own capacity is: {', '.join(untested) or 'test them alike'}."
        ]
    lines = [
        f"By its units' own tests it gives {format_quantity(found.charge)}: each string what its weakest unit gives."
    ]
    if found.weak and found.costs is not None:
        lines.append(f"{found.weak} is the weak one: it costs its string {format_quantity(found.costs)}.")
    return lines


def _tested(dossier: Dossier | None) -> bool:
    return dossier is not None and any(run.evidence is not None for run in dossier.runs)


def findings_of(bank: Bank, dossiers: Mapping[int, Dossier]) -> list[Finding]:
    """The checks before joining."""
    cycles = {unit.code: dossiers[unit.id].had.now for unit in bank.units if unit.id in dossiers}
    return join_findings(bank, cycles)


def units_named(book: Book, codes: Sequence[str]) -> tuple[Sample, ...]:
    """Samples by their codes, in this order.

    Raises:
        InputError: there is none of that code.
    """
    by_code = {sample.code: sample for sample in book.samples.all()}
    for code in codes:
        if code not in by_code:
            raise InputError(f'there is no sample "{code}"', mend=f"there are {', '.join(by_code)}")
    return tuple(by_code[code] for code in codes)


def through_units(need: Need, bank: Bank) -> Need:
    """A need on a bank as it stands to one of its strings' units, the strings sharing it."""
    return replace(
        need,
        devices=tuple(replace(one, W=one.W / bank.series, least_V=one.least_V / bank.series) for one in need.devices),
    )


def _mass_kg(bank: Bank) -> float | None:
    """Of the whole; None while one of its units was not weighed."""
    masses = [unit.arrival.mass_kg for unit in bank.units]
    known = [mass for mass in masses if mass is not None]
    return sum(known) if len(known) == len(masses) else None


def judge_on_units(need: Need, code: str, bank: Bank, dossiers: Mapping[int, Dossier]) -> NeedResult | None:
    """A need on a bank that has no test of its own, by the weakest of its units; None while one is not known."""
    from wintry_tally.app.comparison import judge_one
    from wintry_tally.core.compare.need import DROPS_OUT

    charges = like_charges(bank, dossiers)
    if charges is None:
        return None
    weakest = min(bank.units, key=lambda unit: charges[unit.code].value)
    result = judge_one(through_units(need, bank), dossiers[weakest.id], bank.parallel)
    units, limit = len(bank.units), result.limited_by
    if limit.code == DROPS_OUT:  # its own volts, not those of a unit
        limit = said(DROPS_OUT, device=limit.parts["device"], volts=float(str(limit.parts["volts"])) * bank.series)
    return replace(
        result, code=code, limited_by=limit, in_parallel=None if result.in_parallel is None else max(1, -(-result.in_parallel // bank.parallel)),
        mass_kg=_mass_kg(bank), cost=None, bill=None, halved=None,
        steps=(*result.steps, f"by the weakest of its {units} units, {weakest.code}; {bank.parallel} strings share the current"),
    )  # fmt: skip
