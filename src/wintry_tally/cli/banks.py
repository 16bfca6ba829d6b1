"""`bank`: units joined to one battery; what is to be looked at before, and what their own tests say of it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from wintry_tally.cli.saying import answer, say
from wintry_tally.core.errors import InputError

SCHEMA = "wintry-tally.bank/1"


@click.command("bank")
@click.argument("book", type=click.Path(path_type=Path))
@click.argument("codes", nargs=-1, required=True)
@click.option("--series", type=int, default=1, show_default=True, help="So many in series in each string.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def bank_command(book: Path, codes: tuple[str, ...], series: int, as_json: bool) -> None:
    """Join the samples CODES, string by string, to a bank with a tag of its own; one code alone shows that bank."""
    found = banked(book, codes, series)
    if as_json:
        answer(found)
        return
    say(f"{found['code']}: {found['words']}; {found['nominal_V']:g} V")
    for line in (*(one["message"] for one in found["findings"]), *found["lines"]):
        say(f"  {line}")


def banked(path: Path, codes: tuple[str, ...], series: int) -> dict[str, Any]:
    """See `wintry-tally bank`; the object it prints.

    Raises:
        WintryError: no book, no such samples, units that are not joined, or a sample that is no bank.
    """
    from wintry_tally.app.banks import bank_lines, bank_of, expected_of, findings_of, judge_on_units, units_named
    from wintry_tally.app.comparison import need_dict
    from wintry_tally.app.dossiers import dossier_of
    from wintry_tally.app.edits import Edits
    from wintry_tally.app.opening import needs_of, opened, school_of
    from wintry_tally.core.battery.banks import joined
    from wintry_tally.core.compare.typed_need import kept_needs

    with opened(path, lambda words: say(words, err=True)) as book:
        units = units_named(book, codes)
        if len(units) == 1:
            number = units[0].id
        else:
            made: list[int] = []
            parallel = len(units) // max(1, series)
            Edits(book).add_bank(joined(units, series, parallel), made).do()
            number = made[0]
        bank = bank_of(book, number)
        if bank is None:
            raise InputError(f"{codes[0]} is no bank", str(path), "name two units or more to join them")
        dossiers = {unit.id: dossier_of(book, unit, school_of(book)) for unit in bank.units}
        code, needs = book.samples.get(number).code, needs_of(book)
    found = expected_of(bank, dossiers)
    judged = [judge_on_units(need, code, bank, dossiers) for _, need in kept_needs(needs)[0]]
    return {
        "schema": SCHEMA, "code": code, "series": bank.series, "parallel": bank.parallel,
        "units": [unit.code for unit in bank.units], "words": bank.words, "nominal_V": bank.nominal_V,
        "findings": [{"code": one.code, "weight": one.weight, "message": one.message} for one in findings_of(bank, dossiers)],
        "expected": None if found is None else {
            "charge": found.charge.as_dict(), "weak": found.weak or None,
            "costs": None if found.costs is None else found.costs.as_dict(),
        },
        "needs": [need_dict(one) for one in judged if one is not None],
        "lines": bank_lines(bank, dossiers),
    }  # fmt: skip
