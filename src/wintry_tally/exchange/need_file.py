"""A need in a file (TOML or JSON): what is to be run, for how long, how cold; every error with its place."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from wintry_tally.core.compare.need import Device, Need
from wintry_tally.core.errors import InputError
from wintry_tally.exchange.claims_file import place_of
from wintry_tally.files import table_of

MOST_DEVICES = 200


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class DevicePart(_Strict):
    """[[need.device]]"""

    name: str = Field(min_length=1)
    A: float | None = Field(default=None, gt=0, lt=1e5)
    W: float | None = Field(default=None, gt=0, lt=1e7)
    duty: float = Field(default=1.0, gt=0, le=1)
    least_V: float = Field(default=0.0, ge=0, lt=1000)
    surge_A: float = Field(default=0.0, ge=0, lt=1e5)
    surge_s: float = Field(default=0.0, ge=0, lt=3600)
    inverter: float | None = Field(default=None, gt=0, le=1)


class NeedPart(_Strict):
    """[need]"""

    name: str = Field(min_length=1)
    hours: float = Field(gt=0, lt=1e5)
    coldest_C: float | None = Field(default=None, ge=-60, le=60)
    charger_A: float | None = Field(default=None, gt=0, lt=1e5)
    full_again_h: float | None = Field(default=None, gt=0, lt=1e5)
    charger_price: float | None = Field(default=None, ge=0)
    cycles_a_year: float | None = Field(default=None, gt=0, lt=1e5)
    years: float | None = Field(default=None, gt=0, le=200)
    kWh_price: float | None = Field(default=None, ge=0)
    device: list[DevicePart] = Field(min_length=1, max_length=MOST_DEVICES)


class NeedFile(_Strict):
    """The whole file."""

    need: NeedPart | list[NeedPart]


def read_needs(path: Path) -> list[Need]:
    """The needs of a file: one [need], or several [[need]].

    Raises:
        InputError: with the place in the file and the mend.
    """
    name = str(path)
    data: Any = table_of(path, "a need: TOML or JSON")
    try:
        part = data.get("need")
        # a wrong part is told as what it was meant to be, and not as both
        parsed = [NeedPart.model_validate(one) for one in part] if isinstance(part, list) else [NeedFile.model_validate(data).need if not isinstance(part, dict) else NeedPart.model_validate(part)]  # fmt: skip
        if set(data) - {"need"}:
            raise InputError(
                f'"{sorted(set(data) - {"need"})[0]}" is no part of it', name, "write [need] and [[need.device]]"
            )
    except ValidationError as error:
        first = error.errors()[0]
        more = f" (and {len(error.errors()) - 1} more)" if len(error.errors()) > 1 else ""
        place = f"need.{place_of(first['loc'])}"
        raise InputError(f"{place}: {first['msg'].lower()}{more}", name, "see docs/formats.md") from None
    return [_need(one, name) for one in parsed if isinstance(one, NeedPart)]


def _need(part: NeedPart, name: str) -> Need:
    devices = []
    for number, one in enumerate(part.device, 1):
        if (one.A is None) == (one.W is None):
            raise InputError(
                f"need.device[{number}]: it draws A or W, one of the two", name, "write A = 0.85, or W = 60"
            )
        if one.surge_A and not one.least_V:
            raise InputError(f"need.device[{number}].surge_A: a start needs the least voltage it works at", name, "write least_V = 11.4")  # fmt: skip
        devices.append(
            Device(
                one.name,
                one.A or 0.0,
                one.W or 0.0,
                one.duty,
                one.least_V,
                one.surge_A,
                one.surge_s,
                one.inverter or 0.0,
            )
        )
    if (part.full_again_h is None) != (part.charger_A is None):
        raise InputError("need: a charger's current and the hours to be full again belong together", name, "give charger_A and full_again_h")  # fmt: skip
    return Need(
        part.name, part.hours, tuple(devices), part.coldest_C, part.charger_A, part.full_again_h, part.charger_price,
        part.cycles_a_year, part.years, part.kWh_price,
    )  # fmt: skip
