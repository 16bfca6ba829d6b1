"""A fan of claims over one log: every kind that it speaks to, near what it shows, with conditions at hand or far off.

What one trial's own claim does not ask of the rules, others do: another direction, a tolerance, a rate or a temperature that
is not the test's, another kind by the same reading, another decision rule.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from random import Random
from typing import Any
from unittest.mock import patch

from wintry_tally.cli import judging
from wintry_tally.cli.logs import analyse_log
from wintry_tally.core.analysis import Analysis
from wintry_tally.core.battery import CLAIM_KINDS
from wintry_tally.exchange import LogFile

UNITS = {
    "charge": "Ah", "energy": "Wh", "duration": "h", "current": "A", "voltage": "V", "temperature": "°C", "power": "W",
    "share": "%", "monthly share": "%/month",
}  # fmt: skip
"""By a claim's dimension; kinds of other dimensions are not judged by logs."""
KINDS = [kind for kind in CLAIM_KINDS.values() if kind.dimension in UNITS and kind.evidence not in ("", "measured")]
METHODS = ("capacity", "charge", "hold", "surge", "overload", "runtime", "reserve", "charge-block", "heater", "cycle")
AROUND = (-1.4, -0.9, -0.3, 0.3, 0.9, 1.4)
"""Claims lie so many expanded uncertainties from what was measured: beyond and within each decision rule's band."""


@contextmanager
def once() -> Iterator[dict[str, tuple[LogFile, Analysis]]]:
    """Each log is analysed once with each options, however often it is judged; what was analysed."""
    found: dict[str, tuple[LogFile, Analysis]] = {}

    def analysed(path: Path, *given: Any) -> tuple[LogFile, Analysis]:
        key = f"{path} {given}"
        if key not in found:
            found[key] = analyse_log(path, *given)
        return found[key]

    with patch.object(judging, "analyse_log", analysed):
        yield found


def _conditions(dice: Random, kind: str, rated_Ah: float, own: dict[str, float]) -> dict[str, float]:
    drawn = {
        "c_rate": dice.choice([0.05, 0.2, 0.5, 1.0]), "cutoff_V": dice.choice([10.5, 10.8, 11.5, 12.0]),
        "temperature_C": float(dice.choice([-15, -5, 5, 20, 25, 40])), "duration_s": float(dice.choice([1, 3, 60, 600, 3600])),
        "current_A": round(rated_Ah * dice.choice([0.05, 0.2, 1.0]), 2), "delay_s": float(dice.choice([2, 30])),
        "end_share": dice.choice([0.8, 0.9, 1.0]), "months": float(dice.choice([1, 3, 6])),
        "device_A": round(rated_Ah * dice.choice([0.02, 0.05, 0.1]), 2), "dropout_V": dice.choice([10.8, 11.2, 11.8]),
    }  # fmt: skip
    chosen = {name: value for name, value in drawn.items() if dice.random() < 0.2}
    if kind == "runtime":
        chosen["device_A"] = own.get("device_A", drawn["device_A"])
    return (own if dice.random() < 0.6 else {}) | (chosen if dice.random() < 0.7 else {})


def fan_of(folder: Path, seed: str, count: int = 14) -> list[Any]:
    """The verdicts on so many claims over the logs of a claims file, each as short as can be; within `once`."""
    path, dice = folder / "claims.json", Random(f"fan {seed}")
    told = json.loads(path.read_text(encoding="utf-8"))
    own = told["claim"][0]
    rated = told["battery"].get("rated_Ah") or 50.0
    first = told["evidence"][0]
    if "log" in first:  # the same log, brought in as of another test too
        told["evidence"].append({**first, "method": dice.choice(METHODS)})

    def judged(claims: list[dict[str, Any]]) -> list[dict[str, Any]]:
        path.write_text(json.dumps(told | {"claim": claims}), encoding="utf-8")
        found: list[dict[str, Any]] = judging.judge_file(path, dice.choice(["strict", "plain", "lenient"]))["claims"]
        return found

    usual = {"device_A": round(0.05 * rated, 2), "duration_s": 60.0}
    asked = [own] + [
        {"kind": kind.key, "value": 10.0, "unit": UNITS[kind.dimension], "tolerance": 1.0, "conditions": usual}
        for kind in KINDS if kind.key != own["kind"]
    ]  # fmt: skip
    shown = [(claim, one["measured"]) for claim, one in zip(asked, judged(asked), strict=True) if one["measured"]]
    claims = []
    for number in range(count if shown else 0):
        claim, measured = shown[number % len(shown)]
        wide = measured["expanded"] or 0.01 * abs(measured["value"]) + 0.01
        conditions = _conditions(dice, claim["kind"], rated, claim.get("conditions", {}))
        unlike = {
            "value": round(measured["value"] + dice.choice(AROUND) * wide, 6), "unit": measured["unit"], "conditions": conditions,
            "tolerance": dice.choice([0.0, 0.5 * wide, 1.2 * wide]),
        }  # fmt: skip
        if dice.random() < 0.3:
            unlike["direction"] = dice.choice(["at-least", "at-most", "within"])
        claims.append(claim | unlike)
    return [_short(one) for one in judged(claims)] if claims else []


def _short(verdict: dict[str, Any]) -> Any:
    measured = verdict["measured"] or {"value": None, "expanded": None, "bound": None}
    effects = [
        [one["name"], one["actual"], one["effect"] and [one["effect"]["value"], one["effect"]["expanded"]]]
        for one in verdict["conditions"]
    ]
    return [
        verdict["kind"], verdict["outcome"], verdict["probability"], measured["value"], measured["expanded"], measured["bound"],
        effects, verdict["advice"], len(verdict["evidence"]), len(verdict["working"]),
    ]  # fmt: skip
