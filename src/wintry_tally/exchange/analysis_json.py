"""An analysis as the JSON object of the command-line contract."""

from __future__ import annotations

from typing import Any

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.quantity import Quantity
from wintry_tally.exchange.reader import LogFile

SCHEMA = "wintry-tally.analysis/1"


def _quantity(quantity: Quantity) -> dict[str, Any] | None:
    # a mean voltage without any charge is no number
    return quantity.as_dict() if quantity.value == quantity.value else None


def analysis_dict(log: LogFile, analysis: Analysis) -> dict[str, Any]:
    """The contract's object. Parts this version does not compute are null or empty, never invented."""
    test = analysis.capacity
    columns: dict[str, str | None] = {
        name: log.columns.get(name) for name in ("time", "voltage", "current", "temperature")
    }
    columns.update({name: log.columns[name] for name in ("counter_Ah", "counter_Wh", "power") if log.columns.get(name)})
    return {
        "schema": SCHEMA,
        "log": {
            "rows": log.rows,
            "rows_used": len(analysis.trace),
            "span_s": float(analysis.trace.time_s[-1] - analysis.trace.time_s[0]),
            "median_interval_s": analysis.scale.usual_s,
            "columns": columns,
            "discharge_sign": log.discharge_sign,
            "repair": analysis.options.repair,
        },
        "stages": [
            {
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
                "ended_by": result.ended_by,
            }
            for result in analysis.stages
        ],
        "capacity": None
        if test is None
        else {
            "charge": _quantity(test.count.charge),
            "energy": _quantity(test.count.energy),
            "mean_voltage": _quantity(test.count.mean_voltage),
            "duration_s": test.count.duration_s,
            "c_rate": test.c_rate,
            "percent_of_rated": None if test.percent_of_rated is None else test.percent_of_rated.as_dict(),
            "ended_by": test.ended_by,
        },
        "usable": [
            {
                "dropout_V": usable.dropout_V,
                "charge": usable.charge.as_dict(),
                "energy": usable.energy.as_dict(),
                "duration_s": usable.duration_s,
            }
            for usable in analysis.usable
        ],
        "charge": None
        if analysis.charge is None
        else {
            "charge": _quantity(analysis.charge.count.charge),
            "energy": _quantity(analysis.charge.count.energy),
            "time_to_full_s": analysis.charge.time_to_full_s,
            "share_constant_current": analysis.charge.share_constant_current,
            "ended_by": analysis.charge.ended_by,
            "heating": None
            if analysis.charge.heating is None
            else {
                "duration_s": analysis.charge.heating.duration_s,
                "energy": _quantity(analysis.charge.heating.energy),
            },
        },
        "reserve": None
        if analysis.reserve is None
        else {
            "minutes": analysis.reserve.minutes.as_dict(),
            "minutes_at_25C": None
            if analysis.reserve.minutes_at_25C is None
            else analysis.reserve.minutes_at_25C.as_dict(),
            "voltage_at_rated_minutes": analysis.reserve.voltage_at_rated_minutes,
        },
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
        "trips": [
            {
                "kind": trip.kind,
                "at_s": trip.at_s,
                "current_A": trip.current_A,
                "voltage_V": trip.voltage_V,
                "latency_s": trip.latency_s,
            }
            for trip in analysis.trips
        ],
        "remarks": [remark.as_dict() for remark in (*log.remarks, *analysis.remarks)],
    }
