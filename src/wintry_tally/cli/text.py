"""Plain text for people who read a terminal."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.ending import ENDING_WORDS
from wintry_tally.core.quantity import format_duration, format_quantity
from wintry_tally.core.quantity.uncertain import Quantity
from wintry_tally.core.verdict.outcome import OUTCOME_WORDS, Outcome
from wintry_tally.exchange import LogFile


def analysis_text(path: Path, log: LogFile, analysis: Analysis) -> str:
    """A page on one log."""
    lines = [f"{path}: {log.rows} rows, discharge is {log.discharge_sign}"]
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
    for usable in analysis.usable:
        lines.append(
            f"  Above {usable.dropout_V:g} V: {format_quantity(usable.charge)}, {format_duration(usable.duration_s)}"
        )
    lines += [f"  Remark ({remark.code}): {remark.message}" for remark in (*log.remarks, *analysis.remarks)]
    return "\n".join(lines)


def verdict_text(result: dict[str, Any]) -> str:
    """A page on a claims file."""
    lines = [f"School: {result['school']}"]
    for claim in result["claims"]:
        required = claim["required"]
        measured = claim["measured"]
        shown = ""
        if measured is not None:
            standard = None if measured["expanded"] is None else measured["expanded"] / measured["k"]
            shown = f", measured {format_quantity(Quantity(measured['value'], standard, measured['unit']))}"
        chance = "" if claim["probability"] is None else f", p = {claim['probability']:.3f}"
        words = OUTCOME_WORDS[Outcome(claim["outcome"])]
        lines.append(
            f"  {words}: {claim['kind']} {required['direction']} {required['value']} {required['unit']} "
            f"({claim['source']}){shown}{chance}"
        )
        if claim["advice"]:
            lines.append(f"    {claim['advice']}")
    lines += [f"  Finding: {finding}" for finding in result["findings"]]
    return "\n".join(lines)
