"""What instruments show: each quantity's units, and a number read whole in one of them."""

from __future__ import annotations

from wintry_tally.bench.drivers.numbers import number_in
from wintry_tally.core.trace.beside import cell_number

UNITS: dict[str, dict[str, tuple[float, float]]] = {
    "voltage": {"V": (1.0, 0.0), "mV": (1e-3, 0.0)},
    "current": {"A": (1.0, 0.0), "mA": (1e-3, 0.0)},
    "temperature": {"°C": (1.0, 0.0), "C": (1.0, 0.0), "°F": (5 / 9, -160 / 9), "F": (5 / 9, -160 / 9), "K": (1.0, -273.15)},
    "charge": {"Ah": (1.0, 0.0), "mAh": (1e-3, 0.0)},
    "energy": {"Wh": (1.0, 0.0), "kWh": (1e3, 0.0)},
    "charge_state": {"%": (1.0, 0.0)},
}  # fmt: skip
"""Each quantity's units: value in the kept unit = factor × shown + offset."""


def units_of(quantity: str) -> dict[str, tuple[float, float]]:
    """The units a quantity may be shown in; empty for what is no quantity."""
    return UNITS["voltage"] if cell_number(quantity) is not None else UNITS.get(quantity, {})


def value_in(shown: str, quantity: str, what: str, decimal: str = ".", unit: str = "") -> float:
    """What is shown, in the quantity's kept unit: a whole number, in the declared unit or followed by its own.

    Raises:
        InstrumentError: it is no number from end to end.
    """
    text, known = shown.strip(), units_of(quantity)
    own = next((name for name in sorted(known, key=len, reverse=True) if text.endswith(name)), "")
    number = number_in(text.removesuffix(own), what, decimal)
    factor, offset = known.get(own or unit, (1.0, 0.0))
    return factor * number + offset


def quantities_checked(units: dict[str, str]) -> None:
    for name, unit in units.items():
        known = units_of(name)
        if not known:
            raise ValueError(f'"{name}" is no quantity; use {", ".join(UNITS)} or cell_1_V, cell_2_V …')
        if unit and unit not in known:
            raise ValueError(f'{name} is not shown in "{unit}"; use {", ".join(known)}')
