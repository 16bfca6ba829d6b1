"""What instruments show: each quantity's units, and a number read whole in one of them."""

from __future__ import annotations

from wintry_tally.bench.drivers.numbers import number_in
from wintry_tally.core.quantity.units import KEPT, Unit, find_unit
from wintry_tally.core.trace.beside import cell_number

_SHOWN = {
    "voltage": ("voltage", "V mV"), "current": ("current", "A mA"), "temperature": ("temperature", "°C C °F F K"),
    "charge": ("charge", "Ah mAh"), "energy": ("energy", "Wh kWh"), "charge_state": ("share", "%"),
}  # fmt: skip
"""What each quantity measures, and the units that instruments show it in."""
AS_SHOWN = Unit("", 1.0)
"""No unit is named: it is the kept one."""
UNITS: dict[str, dict[str, Unit]] = {
    quantity: {name: unit for name in names.split() if (unit := find_unit(name, dimension)) is not None}
    for quantity, (dimension, names) in _SHOWN.items()
}


def units_of(quantity: str) -> dict[str, Unit]:
    """The units a quantity may be shown in; empty for what is no quantity."""
    return UNITS["voltage"] if cell_number(quantity) is not None else UNITS.get(quantity, {})


def kept_unit(quantity: str) -> str:
    """The unit a quantity is kept in; "" for what is no quantity."""
    units = units_of(quantity)
    return KEPT[next(iter(units.values())).dimension] if units else ""


def value_in(shown: str, quantity: str, what: str, decimal: str = ".", unit: str = "") -> float:
    """What is shown, in the quantity's kept unit: a whole number, in the declared unit or followed by its own.

    Raises:
        InstrumentError: it is no number from end to end.
    """
    text, known = shown.strip(), units_of(quantity)
    own = next((name for name in sorted(known, key=len, reverse=True) if text.endswith(name)), "")
    number = number_in(text.removesuffix(own), what, decimal)
    found = known.get(own or unit, AS_SHOWN)
    return found.factor * number + found.shift


def quantities_checked(units: dict[str, str]) -> None:
    for name, unit in units.items():
        known = units_of(name)
        if not known:
            raise ValueError(f'"{name}" is no quantity; use {", ".join(UNITS)} or cell_1_V, cell_2_V …')
        if unit and unit not in known:
            raise ValueError(f'{name} is not shown in "{unit}"; use {", ".join(known)}')
