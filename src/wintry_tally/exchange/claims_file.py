"""The CLAIMS file of `judge`: TOML or JSON, checked part by part; every error with its place."""

from __future__ import annotations

import difflib
from pathlib import Path
from typing import Any, Literal

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    ModelWrapValidatorHandler,
    PrivateAttr,
    ValidationError,
    model_validator,
)

from wintry_tally.core.battery import CLAIM_KINDS, FAMILIES, Claim, Direction
from wintry_tally.core.battery.claims import currency_of
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity.units import KEPT, find_unit
from wintry_tally.files import last_digit, table_of

MOST_CLAIMS = 1000
METHODS = (
    *("capacity", "reserve", "charge", "hold", "surge", "overload", "charge-block", "heater"),
    *("cold-loss", "self-discharge", "runtime", "cycle", "measured"),
)


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class BatteryPart(_Strict):
    """[battery]"""

    maker: str = ""
    model: str = ""
    family: str
    nominal_V: float | None = Field(default=None, gt=0)
    rated_Ah: float | None = Field(default=None, gt=0)


class ClaimPart(_Strict):
    """[[claim]]"""

    kind: str
    value: float | bool | None = None
    unit: str = ""
    direction: str | None = None
    tolerance: float = Field(default=0.0, ge=0)
    conditions: dict[str, float] = Field(default_factory=dict)
    source: str = "label"
    dated: str = ""


class MeasuredPart(_Strict):
    """measured = {…}"""

    value: float | bool
    expanded: float | None = Field(default=None, ge=0)
    k: float = Field(default=2.0, gt=0)
    unit: str = ""
    _digit: float | None = PrivateAttr(default=None)

    @model_validator(mode="wrap")
    @classmethod
    def _as_written(cls, data: Any, handler: ModelWrapValidatorHandler[MeasuredPart]) -> MeasuredPart:
        made = handler(data)
        made._digit = last_digit(data.get("value")) if isinstance(data, dict) else None
        return made

    @property
    def digit(self) -> float | None:
        """One of its last digit as it is written, in its own unit; None for a yes or a no."""
        return self._digit


class EvidencePart(_Strict):
    """[[evidence]]"""

    method: str
    log: str | None = None
    logs: list[str] = Field(default_factory=list)
    options: dict[str, Any] = Field(default_factory=dict)
    claim: str = ""
    measured: MeasuredPart | None = None


class ClaimsFile(_Strict):
    """The whole file."""

    battery: BatteryPart
    claim: list[ClaimPart] = Field(default_factory=list, max_length=MOST_CLAIMS)
    evidence: list[EvidencePart] = Field(default_factory=list, max_length=MOST_CLAIMS)
    school: Literal["strict", "plain", "lenient"] | None = None


def near(word: str, known: list[str] | tuple[str, ...]) -> str:
    """The mend for a word that is none of the known."""
    close = difflib.get_close_matches(word, known, 1)
    return f'perhaps "{close[0]}"' if close else f"use one of {', '.join(known)}"


def read_claims(path: Path) -> ClaimsFile:
    """Read and check a claims file.

    Raises:
        InputError: with the place in the file (battery.family, claim[2].unit, …) and the mend.
    """
    name = str(path)
    data = table_of(path, "a claims file: TOML or JSON, or a book with the code of a sample")
    try:
        parsed = ClaimsFile.model_validate(data)
    except ValidationError as error:
        problems = error.errors()
        first = problems[0]
        place = place_of(first["loc"])
        more = f" (and {len(problems) - 1} more)" if len(problems) > 1 else ""
        raise InputError(f"{place}: {first['msg'].lower()}{more}", name, "see docs/formats.md") from None
    if parsed.battery.family not in FAMILIES:
        raise InputError(
            f'battery.family: "{parsed.battery.family}" is not known', name, near(parsed.battery.family, list(FAMILIES))
        )
    for index, part in enumerate(parsed.evidence, 1):
        if part.method not in METHODS:
            raise InputError(
                f'evidence[{index}].method: "{part.method}" is not known', name, near(part.method, METHODS)
            )
        if part.method == "measured" and part.claim not in CLAIM_KINDS:
            raise InputError(
                f'evidence[{index}].claim: "{part.claim}" is not a kind of claim',
                name,
                near(part.claim, list(CLAIM_KINDS)),
            )
        if part.method == "measured" and part.measured is None:
            raise InputError(f"evidence[{index}].measured is missing", name, "give measured = {value = …, unit = …}")
        if part.method != "measured" and not (part.log or part.logs):
            raise InputError(f"evidence[{index}].log is missing", name, "name the log file")
    return parsed


def place_of(loc: tuple[int | str, ...]) -> str:
    """Where in a file something stands: claim[2].unit."""
    text = ""
    for part in loc:
        text += f"[{part + 1}]" if isinstance(part, int) else (f".{part}" if text else str(part))
    return text or "the file"


def to_kept(value: float, unit: str, dimension: str, place: str, name: str) -> tuple[float, str]:
    """A value in its dimension's kept unit.

    Raises:
        InputError: a unit that is unknown or of another dimension.
    """
    kept = KEPT[dimension]
    if not unit:
        return value, kept
    found = find_unit(unit, dimension)
    if dimension == "money" and (found is None or found.dimension == dimension):
        known = currency_of(unit)
        return value, unit if known == "money" else known
    if found is None:
        raise InputError(f'{place}.unit: "{unit}" is not known', name, f'write it in "{kept}"')
    if found.dimension != dimension:
        raise InputError(f'{place}.unit: "{unit}" is no unit of {dimension}', name, f'write it in "{kept}"')
    return value * found.factor + found.shift, kept


def claim_of(part: ClaimPart, index: int, name: str) -> Claim:
    """The core's claim for a part of the file.

    Raises:
        InputError: an unknown kind, unit or direction, or a missing value, with its place.
    """
    place = f"claim[{index}]"
    kind = CLAIM_KINDS.get(part.kind)
    if kind is None:
        raise InputError(f'{place}.kind: "{part.kind}" is not known', name, near(part.kind, list(CLAIM_KINDS)))
    directions = [direction.value for direction in Direction]
    if part.direction is not None and part.direction not in directions:
        raise InputError(f'{place}.direction: "{part.direction}" is not known', name, near(part.direction, directions))
    direction = Direction(part.direction) if part.direction else kind.direction
    number = f"give a number in {kind.shown_unit}" if kind.shown_unit else "give a number"
    if kind.dimension and part.value is None:
        raise InputError(f"{place}.value is missing", name, number)
    if kind.dimension and isinstance(part.value, bool) and not kind.bare:
        said = str(part.value).lower()
        raise InputError(f"{place}.value: {said} says no {kind.key}", name, number)
    if not kind.dimension or part.value is None or isinstance(part.value, bool):
        if part.unit and not kind.dimension and find_unit(part.unit) is None:
            raise InputError(f'{place}.unit: "{part.unit}" is not known', name, "leave it out")
        wanted = part.value if isinstance(part.value, bool) else True
        return Claim(kind.key, None, "", direction, 0.0, part.conditions, part.source, part.dated, wanted=wanted)
    value, unit = to_kept(float(part.value), part.unit, kind.dimension, place, name)
    zero = to_kept(0.0, part.unit, kind.dimension, place, name)[0]
    tolerance = to_kept(part.tolerance, part.unit, kind.dimension, place, name)[0] - zero
    return Claim(kind.key, value, unit, direction, tolerance, part.conditions, part.source, part.dated)
