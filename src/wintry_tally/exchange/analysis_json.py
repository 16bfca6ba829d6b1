"""An analysis as the JSON object of the command-line contract, a function a part."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.analyse import StageResult
from wintry_tally.core.analysis.ending import GONE, PROTECTION, STOPPED
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import Quantity
from wintry_tally.exchange.reader import LogFile

SCHEMA = "wintry-tally.analysis/1"


def write_analysis(analysis: Analysis | None, path: Path) -> None:
    """Write the analysis of a run of the book as the contract's object.

    Raises:
        InputError: there is none (yet), or the file cannot be written.
    """
    if analysis is None:
        raise InputError("this run has no analysis", mend="wait until it is worked out, or mend what its card says")
    try:
        path.write_text(json.dumps(analysis_dict(None, analysis), ensure_ascii=False, allow_nan=False) + "\n", "utf-8")
    except OSError as error:
        raise InputError(f"cannot be written ({error.strerror or error})", str(path)) from None


TRIP_PARTS = ("kind", "at_s", "current_A", "voltage_V", "latency_s")


def analysis_dict(log: LogFile | None, analysis: Analysis) -> dict[str, Any]:
    """The contract's object, with a few parts more: counters, efficiency, acceptance.

    Without a log file (a run measured here) its columns are null and its own remarks are none.
    """
    return {
        "schema": SCHEMA,
        "log": _log(log, analysis),
        "stages": [_stage(result) for result in analysis.stages],
        "capacity": _capacity(analysis),
        "usable": [
            {
                "dropout_V": usable.dropout_V,
                "charge": usable.charge.as_dict(),
                "energy": usable.energy.as_dict(),
                "duration_s": usable.duration_s,
            }
            for usable in analysis.usable
        ],
        "charge": _charge(analysis),
        "reserve": _reserve(analysis),
        "resistance": [
            {
                "at_s": step.at_s,
                "from_A": step.from_A,
                "to_A": step.to_A,
                "before_s": step.before_s,
                "after_s": step.after_s,
                "ohm": step.ohm.as_dict(),
            }
            for step in analysis.resistance
        ],
        "trips": [{name: getattr(trip, name) for name in TRIP_PARTS} for trip in analysis.trips],
        "efficiency": None
        if analysis.efficiency is None
        else {"coulombic": analysis.efficiency.coulombic.as_dict(), "energy": analysis.efficiency.energy.as_dict()},
        "cells": None
        if analysis.cells is None
        else [
            {"when": item.when, "spread_V": item.spread_V, "lowest": item.lowest, "highest": item.highest}
            for item in analysis.cells.spreads
        ],
        "second_meter": None
        if analysis.second is None
        else {
            "voltage_apart_V": analysis.second.voltage_V,
            "current_apart_A": analysis.second.current_A,
            "charge_Ah": analysis.second.charge_Ah,
            "agree": analysis.second.agree,
        },
        "remarks": [remark.as_dict() for remark in (*(log.remarks if log else ()), *analysis.remarks)],
    }


def _quantity(quantity: Quantity | None) -> dict[str, Any] | None:
    # a mean voltage without any charge is no number
    return None if quantity is None or quantity.value != quantity.value else quantity.as_dict()


def _log(log: LogFile | None, analysis: Analysis) -> dict[str, Any]:
    titles = log.columns if log is not None else {}
    columns: dict[str, str | None] = {name: titles.get(name) for name in ("time", "voltage", "current", "temperature")}
    more = ("counter_Ah", "counter_Wh", "power", "charge_state")
    columns.update({name: titles[name] for name in more if titles.get(name)})
    return {
        "rows": log.rows if log is not None else len(analysis.trace),
        "rows_used": len(analysis.trace),
        "span_s": float(analysis.trace.time_s[-1] - analysis.trace.time_s[0]),
        "median_interval_s": analysis.scale.usual_s,
        "columns": columns,
        "discharge_sign": log.discharge_sign if log is not None else "+",
        "repair": analysis.options.repair,
    }


def _stage(result: StageResult) -> dict[str, Any]:
    return {
        "kind": result.stage.kind.value,
        "control": result.stage.control,
        "start_s": result.start_s,
        "end_s": result.end_s,
        "charge": _quantity(result.count.charge),
        "energy": _quantity(result.count.energy),
        "mean_voltage": _quantity(result.count.mean_voltage),
        "mean_current": _quantity(result.count.mean_current),
        "voltage_start": result.voltage_start,
        "voltage_end": result.voltage_end,
        "temperature_mean": result.temperature_mean,
        "ended_by": _ended(result.ended_by),
    }


def _ended(ended_by: str | None) -> str | None:
    """As the command line's contract names it: what was gone from its leads reads as an opening."""
    return PROTECTION if ended_by == GONE else ended_by


def _capacity(analysis: Analysis) -> dict[str, Any] | None:
    test = analysis.capacity
    if test is None:
        return None
    counted = analysis.counted
    return {
        "charge": _quantity(test.count.charge),
        "energy": _quantity(test.count.energy),
        "mean_voltage": _quantity(test.count.mean_voltage),
        "duration_s": test.count.duration_s,
        "c_rate": test.c_rate,
        "percent_of_rated": _quantity(test.percent_of_rated),
        "ended_by": _ended(test.ended_by),
        "rates_A": list(test.rates),
        "bound": "at-least" if test.hidden_s or test.begun_low or test.ended_by in STOPPED else None,
        "counter": {
            "charge": _quantity(None if counted.charge is None else counted.charge.moved),
            "energy": _quantity(None if counted.energy is None else counted.energy.moved),
        },
    }


def _charge(analysis: Analysis) -> dict[str, Any] | None:
    charge = analysis.charge
    if charge is None:
        return None
    heating = charge.heating
    return {
        "charge": _quantity(charge.count.charge),
        "energy": _quantity(charge.count.energy),
        "time_to_full_s": charge.time_to_full_s,
        "share_constant_current": charge.share_constant_current,
        "after_full": None
        if charge.after_full is None
        else {
            "charge": _quantity(charge.after_full.charge),
            "energy": _quantity(charge.after_full.energy),
            "duration_s": charge.after_full.duration_s,
        },
        "undecided": charge.undecided or None,
        "ended_by": charge.ended_by,
        "heating": None
        if heating is None
        else {"duration_s": heating.duration_s, "energy": _quantity(heating.energy), "power": _quantity(heating.power)},
        "acceptance": [{"minutes": minutes, "share": share} for minutes, share in analysis.acceptance],
    }


def _reserve(analysis: Analysis) -> dict[str, Any] | None:
    reserve = analysis.reserve
    if reserve is None:
        return None
    return {
        "minutes": reserve.minutes.as_dict(),
        "minutes_at_25C": _quantity(reserve.minutes_at_25C),
        "voltage_at_rated_minutes": reserve.voltage_at_rated_minutes,
        "c20_Ah": reserve.c20_Ah,
    }
