"""Plain text for people who read a terminal."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.ending import ENDING_WORDS
from wintry_tally.core.quantity import format_duration, format_quantity
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS, RULE_NAMES, Outcome, School
from wintry_tally.exchange import LogFile


def analysis_text(path: Path, log: LogFile, analysis: Analysis) -> str:
    """A page on one log."""
    lines, taken = [f"{path}: {log.rows} rows, discharge is {log.discharge_sign}"], analysis.options.repair == "offered"
    for result in analysis.stages:
        cause = f", ended: {ENDING_WORDS[result.ended_by]}" if result.ended_by else ""
        lines.append(
            f"  {result.stage.kind.value:9} {format_duration(result.end_s - result.start_s):>12}  "
            f"{format_quantity(result.count.charge)}, {result.voltage_start:.2f} to {result.voltage_end:.2f} V{cause}"
        )
    test = analysis.capacity
    if test is not None:
        lines.append(f"  Capacity {format_quantity(test.count.charge)}, energy {format_quantity(test.count.energy)},")
        lines.append(
            f"    mean {format_quantity(test.count.mean_voltage)} over {format_duration(test.count.duration_s)}, "
            f"ended: {ENDING_WORDS[test.ended_by]}"
        )
    lines += [
        f"  Above {usable.dropout_V:g} V: {format_quantity(usable.charge)}, {format_duration(usable.duration_s)}"
        for usable in analysis.usable
    ]
    lines += _charge_lines(analysis)
    if analysis.reserve is not None:
        lines.append(f"  Reserve {format_quantity(analysis.reserve.minutes)}")
    lines += [
        f"  Resistance at {format_duration(step.at_s)}: {format_quantity(step.ohm.scaled(1000.0, 'mΩ'))} "
        f"({step.from_A:.3g} to {step.to_A:.3g} A)"
        for step in analysis.resistance
    ]
    lines += [
        f"  Trip ({trip.kind}) at {format_duration(trip.at_s)}: {abs(trip.current_A):.4g} A, {trip.voltage_V:.2f} V, "
        f"after {trip.latency_s:.3g} s"
        for trip in analysis.trips
    ]
    if analysis.second is not None:
        lines.append(f"  Second meter: {analysis.second.words}")
    if analysis.cells is not None:
        lines.append(f"  {analysis.cells.words[:1].upper()}{analysis.cells.words[1:]}")
    for remark in (*log.remarks, *analysis.remarks):
        offered = f" Offered (--repair offered): {remark.offer}." if remark.offer and not taken else ""
        lines.append(f"  Remark ({remark.code}): {remark.message}{offered}")
    return "\n".join(lines)


def _charge_lines(analysis: Analysis) -> list[str]:
    charge = analysis.charge
    if charge is None:
        return []
    full = "never full" if charge.time_to_full_s is None else f"full after {format_duration(charge.time_to_full_s)}"
    lines = [f"  Charge {format_quantity(charge.count.charge)}, {full}, ended: {ENDING_WORDS[charge.ended_by]}"]
    if charge.heating is not None:
        heating = charge.heating
        lines.append(f"    heater first: {format_duration(heating.duration_s)}, {format_quantity(heating.energy)}")
    if analysis.acceptance:
        shares = ", ".join(f"{100 * share:.0f} % at {minutes:g} min" for minutes, share in analysis.acceptance)
        lines.append(f"    acceptance: {shares} of the first current")
    if analysis.efficiency is not None:
        lines.append(
            f"  Out of what went in: {format_quantity(analysis.efficiency.coulombic)} of the charge, "
            f"{format_quantity(analysis.efficiency.energy)} of the energy"
        )
    return lines


def verdict_text(result: dict[str, Any]) -> str:
    """A page on a claims file."""
    lines = [f"Decision rule: {RULE_NAMES[School(result['school'])]}"]
    for claim in result["claims"]:
        required = claim["required"]
        shown = f", measured {claim['shown']}" if claim["shown"] else ""
        chance = "" if claim["probability"] is None else f", p = {claim['probability']:.3f}"
        words = OUTCOME_WORDS[Outcome(claim["outcome"])]
        lines.append(
            f"  {words}: {claim['kind']} {required['direction']} {required['shown']} ({claim['source']}){shown}{chance}"
        )
        if claim["advice"]:
            lines.append(f"    {claim['advice']}")
    lines += [f"  Finding: {finding}" for finding in result["findings"]]
    return "\n".join(lines)
