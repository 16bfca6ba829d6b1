"""The bench of a book: kept as data, read from a file, asked once."""

from __future__ import annotations

import json
from dataclasses import fields, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wintry_tally.book import Book
from wintry_tally.book.records import plain_of, read_as
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.leads import Leads

if TYPE_CHECKING:
    from wintry_tally.bench.connect import Tried
    from wintry_tally.bench.equipment import Equipment, Instrument


def equipment_of(book: Book) -> Equipment:
    """The bench as the book has it: its instruments and channels."""
    from wintry_tally.bench.equipment import Equipment, equipment_from

    kept = book.meta("bench")
    with read_as("the bench kept in the book"):
        return equipment_from(plain_of(kept)) if kept else Equipment()


def keep_equipment(book: Book, equipment: Equipment) -> None:
    """Put a bench in the place of the one the book has."""
    from wintry_tally.bench.equipment import equipment_data

    book.set_meta("bench", json.dumps(equipment_data(equipment)))


def look_at(instrument: Instrument, by: str) -> Tried:
    """Read an instrument once, alone with it; a run that wants it meanwhile waits for the second or two.

    Raises:
        InputError: a run has it.
    """
    from wintry_tally.bench.connect import thing_of, tried
    from wintry_tally.bench.taken import take

    held = take([thing_of(instrument)], by, patience_s=0.0, brief=True)
    try:
        return tried(instrument)
    finally:
        held.release()


def read_bench(path: Path) -> Equipment:
    """A bench from a TOML or JSON file; dialects are checked whole, paths are relative to the file.

    Raises:
        InputError: what cannot be, with its place.
    """
    from wintry_tally.files import table_of

    data = table_of(path, "a bench: TOML or JSON")
    unknown = sorted(set(data) - {"instrument", "channel"})
    if unknown:
        raise InputError(f'"{unknown[0]}" is no part of a bench', str(path), "write [[instrument]] and [[channel]]")
    return bench_from(data, str(path), path.parent)


def bench_from(data: dict[str, Any], name: str, folder: Path) -> Equipment:
    """A bench from the tables of such a file.

    Raises:
        InputError: what cannot be, with its place.
    """
    from wintry_tally.bench.equipment import Equipment

    equipment = Equipment()
    for number, part in enumerate(_tables(data.get("instrument", []), "instrument", name), 1):
        made = _instrument(part, f"instrument[{number}]", name, folder)
        if any(item.name == made.name for item in equipment.instruments):
            raise InputError(
                f'instrument[{number}].name: "{made.name}" stands there already', name, "give each a name of its own"
            )
        equipment = equipment.with_instrument(made)
    for number, part in enumerate(_tables(data.get("channel", []), "channel", name), 1):
        spec = _channel(part, f"channel[{number}]", name, equipment)
        if any(item.name == spec.name for item in equipment.channels):
            raise InputError(
                f'channel[{number}].name: "{spec.name}" stands there already', name, "give each a name of its own"
            )
        equipment = equipment.with_channel(spec)
    return equipment


def _tables(found: object, kind: str, name: str) -> list[dict[str, Any]]:
    if not isinstance(found, list) or not all(isinstance(item, dict) for item in found):
        raise InputError(f"{kind} is a list of tables", name, f"write [[{kind}]]")
    return found


def _known(part: dict[str, Any], of: type, place: str, name: str) -> None:
    known = {item.name for item in fields(of)}
    unknown = sorted(set(part) - known)
    if unknown:
        raise InputError(f"{place}.{unknown[0]}: not known", name, f"use {', '.join(sorted(known))}")


def _instrument(part: dict[str, Any], place: str, name: str, folder: Path) -> Any:
    from pydantic import TypeAdapter, ValidationError

    from wintry_tally.bench.connect import dialect_for
    from wintry_tally.bench.equipment import Instrument, checked

    _known(part, Instrument, place, name)
    try:
        made = TypeAdapter(Instrument).validate_python({"name": "", **part}, strict=False)
    except ValidationError as error:
        first = error.errors()[0]
        raise InputError(f"{place}.{'.'.join(map(str, first['loc']))}: {first['msg'].lower()}", name) from None
    made = _with_usual_dialect(made, given="dialect" in part)
    if made.dialect.endswith(".toml"):
        made = replace(made, dialect=str((folder / made.dialect).resolve()))
    if made.way == "file":
        made = replace(made, address=str((folder / made.address).resolve()))
    try:
        dialect_for(checked(made))
    except InputError as error:
        raise InputError(f"{place}: {error}", name) from None
    return made


def _with_usual_dialect(made: Any, *, given: bool) -> Any:
    usual = {"line": "spaced-line", "file": "growing-csv", "asked": "line-load", "modbus": "register-bench"}
    return made if given or made.way not in usual else replace(made, dialect=usual[made.way])


def _channel(part: dict[str, Any], place: str, name: str, equipment: Equipment) -> Any:
    from wintry_tally.bench.equipment import ChannelSpec

    _known(part, ChannelSpec, place, name)
    told = dict(part)
    leads = told.pop("leads", None)
    if not all(isinstance(value, str) for value in told.values()):
        raise InputError(f"{place}: each part names an instrument, in quotes", name)
    if not str(told.get("name", "")).strip():
        raise InputError(f"{place}.name is missing", name, "any name you would call it by")
    spec = ChannelSpec(**told, leads=None if leads is None else _leads(leads, place, name))
    for role, who in told.items():
        if role != "name" and who and all(item.name != who for item in equipment.instruments):
            raise InputError(f'{place}.{role}: there is no instrument "{who}"', name, "add it as [[instrument]]")
    for role, kind in (("load", "load"), ("charger", "charger")):
        who = getattr(spec, role)
        if who and equipment.instrument(who).kind != kind:
            raise InputError(f"{place}.{role}: {who} is no {kind}", name, f'give it kind = "{kind}"')
    try:
        equipment.meter_of(spec)
    except InputError as error:
        raise InputError(f"{place}: {error}", name) from None
    return spec


def _leads(part: object, place: str, name: str) -> Leads:
    if not isinstance(part, dict) or not set(part) <= {"mm2", "length_m", "sensed"} or "mm2" not in part:
        raise InputError(f"{place}.leads: write {{mm2 = 6.0, length_m = 1.5}}", name)
    try:
        return Leads(float(part["mm2"]), float(part.get("length_m", 1.0)), bool(part.get("sensed", True)))
    except (TypeError, ValueError):
        raise InputError(f"{place}.leads: numbers are wanted", name) from None
    except InputError as error:
        raise InputError(f"{place}.leads: {error}", name) from None


def bench_data(equipment: Equipment) -> dict[str, Any]:
    """A bench in the shape of such a file."""
    from dataclasses import asdict

    from wintry_tally.bench.equipment import ChannelSpec, Instrument

    usual: dict[type, Any] = {Instrument: Instrument(""), ChannelSpec: ChannelSpec("")}

    def told(item: Any) -> dict[str, Any]:
        plain = usual[type(item)]
        keep = {
            key: value
            for key, value in asdict(item).items()
            if value != getattr(plain, key) or key in {"name", "kind", "way", "dialect"}
        }
        if keep.get("leads"):
            keep["leads"] = {"mm2": item.leads.area_mm2, "length_m": item.leads.length_m, "sensed": item.leads.sensed}
        return keep

    return {
        "instrument": [told(item) for item in equipment.instruments],
        "channel": [told(item) for item in equipment.channels],
    }
