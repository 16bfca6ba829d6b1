"""The pack that a printed text speaks of: what its claims are read by."""

from __future__ import annotations

from wintry_tally.core.battery.families import FAMILIES, pack_of
from wintry_tally.core.battery.printed.beside import of_others
from wintry_tally.core.battery.printed.found import Pack
from wintry_tally.core.battery.printed.line import (
    BY_CELL,
    STOPPING,
    Line,
    name_before,
    name_behind,
    stands_as_condition,
)
from wintry_tally.core.battery.printed.quantities import Item
from wintry_tally.core.battery.printed.vocabulary import Vocabulary, squeezed
from wintry_tally.core.errors import InputError

CLASSES_V = frozenset({6.0, 12.0, 24.0, 36.0, 48.0})


def cells_of(pack: Pack) -> int | None:
    """How many cells it has in series, as printed or by its nominal voltage; None where neither says so."""
    if pack.cells:
        return pack.cells
    if not pack.family:
        return None
    try:
        return pack_of(FAMILIES[pack.family], pack.nominal_V).cells
    except InputError:
        return None


def pack_in(lines: list[Line], family: str, known: Vocabulary) -> Pack:
    """The pack that a text speaks of: its nominal voltage, family and cells, as far as they stand there."""
    cells = next((int(piece.value) for line in lines for piece in line.pieces if piece.kind == "cells"), None)
    printed = ""
    for line in lines:
        words = [piece for piece in line.pieces if piece.kind == "word"]
        for length in (4, 3, 2, 1):
            for start in range(len(words) - length + 1):
                key = known.families.get(squeezed("".join(piece.text for piece in words[start : start + length])))
                if key and not printed:
                    printed = key
    family = family or printed
    nominal = None
    for line in lines:
        volts = [
            piece for piece in line.pieces if piece.kind == "quantity" and piece.dimension == "voltage" and piece.low
        ]
        for piece in volts:
            name = name_before(line, piece)
            named = name is not None and name.kind == "nominal-voltage"
            alone = name is None and name_behind(line, piece) is None and not stands_as_condition(line, piece)
            alone = (alone and not _behind_another(line, piece)) or (name is None and _energy_at(line, piece))
            if nominal is not None or piece.high is not None or not (named or alone) or not piece.low:
                continue
            value = piece.low.values[-1] if piece.low.values else 0.0
            if is_nominal(value):
                nominal = value
                line.used.add(id(piece))
    return Pack(nominal, family, cells, printed)


def _behind_another(line: Line, piece: Item) -> bool:
    """Whether volts stand behind a protection's or a charge's, and not beside what the pack holds: "lockout at 10.8 V, then 12 V"."""
    place = line.pieces.index(piece)
    beside = line.pieces[place + 1 : place + 3]
    pack = any(one.dimension in {"charge", "energy"} for one in beside)
    return not pack and any(name.kind in {*BY_CELL, *STOPPING} and name.end <= piece.begin for name in line.names)


def _energy_at(line: Line, piece: Item) -> bool:
    """Whether volts are those at which an energy is reckoned: "1280 Wh @ 12.8 V"."""
    place = line.pieces.index(piece)
    return place > 1 and line.pieces[place - 1].text in {"@", "at"} and line.pieces[place - 2].dimension == "energy"


def is_nominal(value_V: float) -> bool:
    """Whether packs are sold under that voltage."""
    by_cells = (count * family.cell_nominal_V for family in FAMILIES.values() for count in family.packs)
    return value_V in CLASSES_V or any(abs(value_V - pack_V) <= 0.006 * pack_V for pack_V in by_cells)


def capacity_in(lines: list[Line]) -> float | None:
    """The first charge printed, Ah, where it can mean one thing only."""
    for line in lines:
        for piece in line.pieces:
            if (
                piece.kind == "quantity"
                and piece.dimension == "charge"
                and piece.low is not None
                and len(piece.low.values) == 1
                and not of_others(line, piece)
            ):
                return piece.low.values[0] * (1e-3 if piece.unit == "mah" else 1.0)
    return None
