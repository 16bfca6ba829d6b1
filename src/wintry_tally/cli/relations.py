"""Commands over several logs: the effect of the rate, and units or runs held against each other."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from wintry_tally.cli.logs import Given, analyse_log, for_log, options_from
from wintry_tally.core.analysis.consistency import compare, drift, repeatability
from wintry_tally.core.analysis.rate import RatePoint, fit_two_wells, rate_law
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import Quantity, format_quantity
from wintry_tally.core.working import Working

RATE_SCHEMA = "wintry-tally.rate/1"
COMPARISON_SCHEMA = "wintry-tally.comparison/1"


def _discharges(paths: tuple[Path, ...], given: Given) -> list[tuple[str, Quantity, Quantity, float]]:
    """Each log's name, charge, energy and mean current."""
    found = []
    for number, path in enumerate(paths):
        choices, options = options_from(for_log(given, number, len(paths)))
        _, analysis = analyse_log(path, choices, options)
        test = analysis.capacity
        if test is None or test.count.duration_s <= 0 or test.count.charge.value <= 0:
            raise InputError("this log holds no discharge", str(path), "give logs of full discharges")
        amps = test.count.charge.value / (test.count.duration_s / 3600.0)
        found.append((path.name, test.count.charge, test.count.energy, amps))
    return found


def rate_of(paths: tuple[Path, ...], given: Given, at_A: tuple[float, ...]) -> dict[str, Any]:
    """The rate law and the two-well model fitted to logs of full discharges, and what they foretell.

    Raises:
        InputError: a log without a discharge, rates too much alike, or a current that cannot be.
    """
    for amps in at_A:
        if not amps > 0:
            raise InputError(f"at {amps:g} A nothing is drawn", mend="give a current above 0")
    points = [RatePoint(name, amps, charge) for name, charge, _, amps in _discharges(paths, given)]
    law = rate_law(points)
    wells = fit_two_wells([[(point.current_A, point.hours)] for point in points])
    return {
        "schema": RATE_SCHEMA,
        "points": [
            {"path": point.name, "current_A": point.current_A, "charge": point.charge.as_dict()} for point in points
        ],
        "exponent": law.exponent.as_dict(),
        "from_A": law.lowest_A,
        "to_A": law.highest_A,
        "two_wells": {
            "capacity_Ah": wells.capacity_Ah,
            "available_share": wells.share,
            "rate_per_h": wells.rate_per_h,
            "misfit": wells.misfit,
        },
        "at": [
            {
                "current_A": amps,
                "charge": law.charge_at(amps).as_dict(),
                "two_wells_Ah": wells.charge_at(amps),
                "within_tested_rates": law.holds_at(amps),
            }
            for amps in at_A
        ],
        "working": _steps(law.working),
    }


def comparison_of(paths: tuple[Path, ...], given: Given) -> dict[str, Any]:
    """Every log against the first, their repeatability, and their drift from run to run.

    Raises:
        InputError: fewer than two logs, or one without a discharge.
    """
    if len(paths) < 2:
        raise InputError("one log has nothing to be compared with", mend="give two or more")
    found = _discharges(paths, given)
    names = [name for name, *_ in found]
    result: dict[str, Any] = {"schema": COMPARISON_SCHEMA, "logs": names}
    for key, place in (("charge", 1), ("energy", 2)):
        figures: list[Quantity] = [item[place] for item in found]  # type: ignore[misc]
        first = figures[0]
        differences = [compare(names[0], first, names[n], figures[n]) for n in range(1, len(figures))]
        spread = repeatability(names, figures)
        part: dict[str, Any] = {
            "values": [figure.as_dict() for figure in figures],
            "against_first": [
                {"path": item.second, "difference": item.relative.as_dict(), "alike": item.alike}
                for item in differences
            ],
            "mean": spread.mean.as_dict(),
            "scatter_percent": spread.relative_percent,
            "drift": None,
            "working": [step for item in differences for step in _steps(item.working)] + _steps(spread.working),
        }
        if len(figures) > 2:
            slope, working = drift([float(n) for n in range(len(figures))], figures)
            part["drift"] = slope.as_dict()
            part["working"] += _steps(working)
        result[key] = part
    return result


def _steps(working: Working) -> list[dict[str, Any]]:
    return [step.as_dict() for _, step in working.walk()]


def _quantity(data: dict[str, Any]) -> str:
    standard = None if data["expanded"] is None else data["expanded"] / data["k"]
    return format_quantity(Quantity(data["value"], standard, data["unit"]))


def rate_text(result: dict[str, Any]) -> str:
    """For a terminal."""
    lines = [
        f"{point['path']}: {_quantity(point['charge'])} at {point['current_A']:.3g} A" for point in result["points"]
    ]
    lines.append(
        f"Peukert exponent {_quantity(result['exponent'])}, from {result['from_A']:.3g} to {result['to_A']:.3g} A"
    )
    for at in result["at"]:
        beyond = "" if at["within_tested_rates"] else " (beyond the rates tested: a guess)"
        lines.append(
            f"  at {at['current_A']:.3g} A: {_quantity(at['charge'])}; two wells: {at['two_wells_Ah']:.3g} Ah{beyond}"
        )
    return "\n".join(lines)


def comparison_text(result: dict[str, Any]) -> str:
    """For a terminal."""
    words = {True: "alike", False: "apart", None: "of unknown uncertainty"}
    lines = []
    for key in ("charge", "energy"):
        part = result[key]
        lines.append(f"{key.capitalize()}: mean {_quantity(part['mean'])}, scatter {part['scatter_percent']:.2g} %")
        lines += [
            f"  {item['path']} against {result['logs'][0]}: {_quantity(item['difference'])}, {words[item['alike']]}"
            for item in part["against_first"]
        ]
        if part["drift"] is not None:
            lines.append(f"  drift {_quantity(part['drift'])}")
    return "\n".join(lines)
