"""What is logged beside the counted voltage and current: a second meter, the pack's own cells and thermometer."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class BesideColumn:
    """One such column: its name, the heading in files, its unit, and how it is said."""

    name: str
    heading: str
    unit: str
    words: str


SECOND_V = BesideColumn("second_V", "Second Meter Voltage / V", "V", "the second meter's voltage")
SECOND_A = BesideColumn("second_A", "Second Meter Current / A", "A", "the second meter's current")
PACK_C = BesideColumn("pack_C", "Pack Temperature / degC", "°C", "the temperature the pack itself tells")
AMBIENT_C = BesideColumn("ambient_C", "Ambient Temperature / degC", "°C", "the temperature of the surroundings")
_FIXED = {column.name: column for column in (SECOND_V, SECOND_A, PACK_C, AMBIENT_C)}
_AMBIENT = re.compile(
    r"^(?:ambient|room|air|chamber|freezer|umgebung\w*|raum\w*)[\s_-]*(?:temp(?:eratur\w*)?)?[\s_]*(?:[/(\[,]?\s*(?:deg|°|º)?\s*c\s*[)\]]?)?$",
    re.IGNORECASE,
)
INTO_TRACE = ("counter_Ah", "counter_Wh", "charge_state")
"""Quantities told beside a reading that have a column of their own in a trace."""
MOST_CELLS = 32
_CELL = re.compile(r"^cell_(\d+)_V$")
_CELL_HEADING = re.compile(
    r"^(?:[uv][\s_-]?)?(?:cell|zelle|cellule|celda)[\s_-]*(?:voltage|spannung|volt|v)?[\s_-]*0*(\d+)[\s_-]*(?:voltage|spannung)?"
    r"\s*(?:[/_\s]\s*(m?v)|[\(\[]\s*(m?v)\s*[\)\]])?$",
    re.IGNORECASE,
)


def cell_name(number: int) -> str:
    """The column of a cell, 1 at the negative end."""
    return f"cell_{number}_V"


def cell_number(name: str) -> int | None:
    """Which cell a column is of; None for another column."""
    match = _CELL.match(name)
    return int(match[1]) if match else None


def beside_column(name: str) -> BesideColumn:
    """The column of a name; KeyError for one that is none."""
    number = cell_number(name)
    if number is not None:
        return BesideColumn(name, f"Cell {number} Voltage / V", "V", f"cell {number}")
    return _FIXED[name]


def named_by(heading: str) -> tuple[str, float] | None:
    """Which column a file's heading means, and the factor to its unit; None for none of these."""
    text = heading.strip().strip('"').strip()
    fixed = next((column.name for column in _FIXED.values() if column.heading.lower() == text.lower()), None)
    if fixed is not None:
        return fixed, 1.0
    if _AMBIENT.match(text):
        return AMBIENT_C.name, 1.0
    match = _CELL_HEADING.match(text)
    if match is None or not 1 <= int(match[1]) <= MOST_CELLS:
        return None
    unit = (match[2] or match[3] or "V").lower()
    return cell_name(int(match[1])), 1e-3 if unit == "mv" else 1.0


def cells_told(beside: Mapping[str, float]) -> dict[int, float]:
    """The cells among what was told beside a reading, by number."""
    found = {cell_number(name): value for name, value in beside.items()}
    return {number: value for number, value in sorted(found.items(), key=lambda item: item[0] or 0) if number}


def in_order(names: Iterable[str]) -> list[str]:
    """Names in the order in which they stand in a file: second meter, pack, cells by number."""
    fixed = list(_FIXED)
    return sorted(names, key=lambda name: (cell_number(name) or 0, fixed.index(name) if name in fixed else 0))
