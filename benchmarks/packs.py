"""Is a log of a pack of more cells in series judged as that of one of 12 V? `python -m benchmarks.packs [KIND ...] [--count N] [--first S]`

Each trial of `strangers` is written twice: as it is, and with every voltage, and what is claimed in V, W, Wh or ohms, so
many times as high. Outcome and figure have to be the same. Exit 1 where they are not.
"""

from __future__ import annotations

import argparse
import json
import sys
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

from benchmarks import strangers
from benchmarks.apart import write
from wintry_tally.cli.judging import judge_file

BY_VOLTAGE = ("V", "W", "Wh", "kWh", "mOhm", "ohm")
NOMINAL_V = {"lfp": 12.8, "nmc": 14.8}


def _in_series(claim: dict[str, Any], times: float) -> dict[str, Any]:
    scaled = times if claim.get("unit") in BY_VOLTAGE else 1.0
    at = {
        name: value * times if name.endswith(("_V", "_W")) else value
        for name, value in claim.get("conditions", {}).items()
    }
    return claim | {name: claim[name] * scaled for name in ("value", "tolerance") if name in claim} | {"conditions": at}


def judged(kind: str, seed: int, times: float) -> tuple[str, float | None]:
    """Outcome and figure of a trial, of a pack of so many times as many cells as it has; the figure as of its own cells."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        trial = strangers.trial_of(kind, seed, folder)
        for number, log in enumerate(trial.logs):
            rows = [(at, volts * times, amps, around) for at, volts, amps, around in log.rows]
            write(replace(log, rows=rows), folder / f"{number}.csv", trial.meter, "bare", celsius=trial.warm)
        content = json.loads((folder / "claims.json").read_text(encoding="utf-8"))
        content["battery"]["nominal_V"] = NOMINAL_V.get(trial.battery.family, 12.0) * times
        content["claim"] = [_in_series(claim, times) for claim in content["claim"]]
        (folder / "claims.json").write_text(json.dumps(content), encoding="utf-8")
        told = judge_file(folder / "claims.json")["claims"][0]
    figure = told["measured"] and told["measured"]["value"]
    return told["outcome"], figure and figure / (times if trial.claim.get("unit") in BY_VOLTAGE else 1.0)


def alike(one: tuple[str, float | None], other: tuple[str, float | None]) -> bool:
    """The same outcome (but for one too close to call: two digits are less of more volts), and figures no further apart."""
    if one[1] is None or other[1] is None:
        return one == other
    return (one[0] == other[0] or "too-close" in (one[0], other[0])) and abs(one[1] - other[1]) <= 0.01 * abs(
        one[1]
    ) + 1e-3


def main() -> int:
    """Print where they differ."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("kinds", nargs="*", metavar="KIND", default=list(strangers.KINDS))
    parser.add_argument("--count", type=int, default=4)
    parser.add_argument("--first", type=int, default=1)
    asked = parser.parse_args()
    tried, apart = 0, 0
    for kind in asked.kinds:
        for seed in range(asked.first, asked.first + asked.count):
            usual = judged(kind, seed, 1.0)
            for times in (2.0, 4.0):
                found, tried = judged(kind, seed, times), tried + 1
                if not alike(usual, found):
                    apart += 1
                    print(f"{kind} {seed}, times {times:g}: {usual} is {found}", flush=True)
    print(f"{apart} of {tried} are judged otherwise")
    return 1 if apart else 0


if __name__ == "__main__":
    sys.exit(main())
