"""From options given on a command line, or in a claims file, to an analysis."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import Any
from zoneinfo import available_timezones

from wintry_tally.cli.options import SAW_END, TIME_UNITS, VOLTS_AT
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse
from wintry_tally.core.analysis.analyse import DEFAULT_REST_S
from wintry_tally.core.battery import FAMILIES, Family, family_named, pack_of, packs_of
from wintry_tally.core.errors import InputError, LogError
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import REPAIRS
from wintry_tally.exchange import Choices, LogFile, read_log
from wintry_tally.exchange.columns import FIELDS
from wintry_tally.exchange.parts import join_logs


@dataclass(frozen=True)
class Given:
    """The options of `analyse`, by their own names with _ for -."""

    family: str | None = None
    rated_ah: float | None = None
    mapping: tuple[str, ...] = ()
    discharge_sign: str = "auto"
    voltage_accuracy: str | None = None
    current_accuracy: str | None = None
    cutoff: float | None = None
    device_dropout: tuple[float, ...] = ()
    rated_minutes: float | None = None
    ambient: float | None = None
    timezone: str = ""
    interval: float | None = None
    time_unit: str | None = None
    channel: str = ""
    volts_at: str | None = None
    saw_end: str | None = None
    rest_minutes: float | None = None
    repair: str = "safe"
    instrument: tuple[str, ...] = ()
    nominal_v: float | None = None


CLOSED = {
    "discharge_sign": ("+", "-", "auto"), "time_unit": TIME_UNITS, "repair": REPAIRS, "volts_at": VOLTS_AT,
    "saw_end": SAW_END,
}  # fmt: skip
"""Options that are one of a few words."""


def parse_given(data: dict[str, Any], place: str = "") -> Given:
    """Check options that come as plain data.

    Raises:
        InputError: an unknown option, or a value of the wrong kind.
    """
    known = {item.name for item in fields(Given)}
    renamed = {("mapping" if key == "map" else key.replace("-", "_")): value for key, value in data.items()}
    for key in renamed:
        if key not in known:
            raise InputError(f'{place}option "{key}" is not known', mend=f"the options are {', '.join(sorted(known))}")
    for key in ("rated_ah", "cutoff", "rated_minutes", "ambient", "rest_minutes", "interval", "nominal_v"):
        value = renamed.get(key)
        if value is not None and (
            isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value)
        ):
            raise InputError(f"{place}{key.replace('_', '-')}: {value!r} is not a number")
    for key in ("rated_ah", "cutoff", "rated_minutes", "interval", "nominal_v"):
        if renamed.get(key) is not None and renamed[key] <= 0:
            raise InputError(
                f"{place}{key.replace('_', '-')} of {renamed[key]:g} cannot be", mend="give a number above 0"
            )
    for key in (
        "family",
        "voltage_accuracy",
        "current_accuracy",
        "timezone",
        "discharge_sign",
        "repair",
        "time_unit",
        "channel",
        "volts_at",
        "saw_end",
    ):
        if renamed.get(key) is not None and not isinstance(renamed[key], str):
            raise InputError(f"{place}{key.replace('_', '-')}: {renamed[key]!r} is not a text")
    dropouts = renamed.get("device_dropout", ())
    listed = dropouts if isinstance(dropouts, (list, tuple)) else (dropouts,)
    if any(isinstance(value, bool) or not isinstance(value, (int, float)) for value in listed):
        raise InputError(f"{place}device-dropout: {dropouts!r} is not a number")
    renamed["device_dropout"] = tuple(float(value) for value in listed)
    named = renamed.get("instrument", ())
    renamed["instrument"] = (named,) if isinstance(named, str) else tuple(named)
    if any(not isinstance(name, str) for name in renamed["instrument"]):
        raise InputError(f"{place}instrument: {named!r} is not a name")
    mapping = renamed.get("mapping", ())
    if isinstance(mapping, dict):
        mapping = [f"{key}={value}" for key, value in mapping.items()]
    renamed["mapping"] = (mapping,) if isinstance(mapping, str) else tuple(mapping)
    given = Given(**{key: value for key, value in renamed.items() if value is not None})
    for key, among in CLOSED.items():
        word = getattr(given, key)
        if word is not None and word not in among:
            raise InputError(f'{place}{key.replace("_", "-")}: "{word}" is not known', mend=f"use {', '.join(among)}")
    return given


def _family_of(given: Given) -> Family | None:
    """The family named, as the pack of the nominal voltage given.

    Raises:
        InputError: no such family, no such pack, or a nominal voltage without a family.
    """
    if not given.family:
        if given.nominal_v is not None:
            raise InputError("a nominal voltage alone says no cells", mend="give --family too")
        return None
    return pack_of(family_named(given.family), given.nominal_v)


def for_log(given: Given, number: int, of: int) -> Given:
    """The options of one of several logs: an instrument's name for all of them, or one for each in their order.

    Raises:
        InputError: neither one name nor as many as logs.
    """
    if len(given.instrument) > 1 and len(given.instrument) != of:
        raise InputError(
            f"{len(given.instrument)} instruments for {of} log{'s' if of > 1 else ''}",
            mend="name one for all of them, or one for each",
        )
    return replace(given, instrument=given.instrument[number : number + 1] or given.instrument[:1]) if of > 1 else given


def options_from(given: Given) -> tuple[Choices, Options]:
    """Choices for the reader, options for the analysis.

    Raises:
        InputError: an accuracy, a family or a mapping that cannot be read.
    """
    columns: dict[str, str] = {}
    for item in given.mapping:
        field, equals, column = item.partition("=")
        if not equals or field.strip() not in FIELDS:
            raise InputError(
                f'map "{item}" cannot be read', mend=f"write FIELD=COLUMN, FIELD one of {', '.join(FIELDS)}"
            )
        columns[field.strip()] = column.strip()
    if given.timezone and given.timezone not in available_timezones():
        raise InputError(f'time zone "{given.timezone}" is not known', mend='write it like "Europe/Oslo"')
    choices = Choices(
        columns=columns, discharge_sign=given.discharge_sign, timezone=given.timezone, interval_s=given.interval,
        time_unit=given.time_unit, channel=given.channel.strip(),
    )  # fmt: skip
    family = _family_of(given)
    most_V = _most_V(family, given.nominal_v is not None)
    if given.cutoff is not None and given.cutoff > most_V:
        raise InputError(
            f"no battery is cut off at {given.cutoff:g} V: it shows {most_V:g} V at the most",
            mend="give the volts of the whole battery, like 10",
        )
    options = Options(
        family=family,
        cells_known=given.nominal_v is not None,
        rated_Ah=given.rated_ah,
        instrument=Instrument(
            parse_accuracy(given.voltage_accuracy) if given.voltage_accuracy else None,
            parse_accuracy(given.current_accuracy) if given.current_accuracy else None,
            given.instrument[0] if given.instrument else f"{given.voltage_accuracy}/{given.current_accuracy}",
            assumed=not given.instrument,
        ),
        cutoff_V=given.cutoff,
        dropouts_V=given.device_dropout,
        rated_minutes=given.rated_minutes,
        ambient_C=given.ambient,
        rest_s=DEFAULT_REST_S if given.rest_minutes is None else 60.0 * given.rest_minutes,
        repair=given.repair,  # type: ignore[arg-type]
        volts_at=given.volts_at or "",  # type: ignore[arg-type]
        ended_by=given.saw_end or "",
    )
    return choices, options


def _most_V(family: Family | None, cells_known: bool) -> float:
    """No terminal reading lies above: of such a battery, or of the largest pack where its cells are not known."""
    if family is not None and cells_known:
        return family.plausible_V[1]
    return max(pack.plausible_V[1] for one in ([family] if family else FAMILIES.values()) for pack in packs_of(one))


def analyse_log(path: Path, choices: Choices, options: Options) -> tuple[LogFile, Analysis]:
    """Read and analyse one log; every error carries the file's name."""
    return _analysed(read_log(path, choices), options, str(path))


def analyse_joined(paths: Sequence[Path], choices: Choices, options: Options) -> tuple[LogFile, Analysis]:
    """Read several files as one log and analyse it; see `exchange.parts`."""
    log = join_logs([(path.name, read_log(path, choices)) for path in paths])
    return _analysed(log, options, " + ".join(path.name for path in paths))


def _analysed(log: LogFile, options: Options, name: str) -> tuple[LogFile, Analysis]:
    try:
        return log, analyse(log.trace, options)
    except LogError as error:
        raise LogError(error.what, error.where or name, error.mend) from None
