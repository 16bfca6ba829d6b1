"""A clamp comes off in the midst of a right run: is it off within a minute, and is nothing judged by it?

    python -m benchmarks.lost [--count N] [--first S]

The benches of `honest`, over their own instruments. Printed: a load or a charger that stays on for more than two minutes,
and a claim that is true and missed, or met by a charge that was never full. Exit 1 where there is one.
"""

from __future__ import annotations

import argparse
import sys
from collections import Counter
from random import Random

from benchmarks.honest import Prepared, prepared
from wintry_tally.bench.simulation import trace_of
from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import Claim, Direction
from wintry_tally.core.engine import LIVE, Phase
from wintry_tally.core.verdict import School, judge
from wintry_tally.core.verdict.evidence import evidence_from_log
from wintry_tally.core.verdict.outcome import Outcome

LATEST_S = 120.0


def lost(seed: int) -> tuple[str, str, str]:
    """What it was, what was wrong (empty for nothing), and how it was judged."""
    dice, made = Random(seed), prepared(seed, over_instruments=True)
    loop, world = made.loop, made.world
    assert world is not None
    moved_Ah = dice.uniform(0.03, 0.75) * made.parameters.capacity_Ah
    loop.start()
    while loop.state.step_Ah < moved_Ah or loop.state.phase not in LIVE:
        if loop.state.phase is Phase.ENDED:
            return made.what, "", "over before"
        made.tick()
    charging, begun = loop.state.phase is Phase.CHARGING, loop.elapsed_s
    world.wiring.add("battery-off")
    while world.load_on or world.charger_on:
        if loop.elapsed_s - begun > LATEST_S + 3.0 * loop.interval_s:
            return made.what, f"still on after {loop.elapsed_s - begun:.0f} s", ""
        made.tick()
    for _ in range(20):  # what a log goes on with
        if loop.state.phase is not Phase.ENDED:
            made.tick()
    return made.what, *_judged(made, charging)


def _judged(made: Prepared, charging: bool) -> tuple[str, str]:
    spec = made.spec
    capacity = made.parameters.capacity_Ah
    meter = Instrument(spec.voltage, spec.current)
    log = analyse(trace_of(made.keeper, spec), Options(made.family, capacity, meter, ambient_C=23.0))
    claim = (
        Claim("charge-time", 100.0 * 3600.0, "s", Direction.AT_MOST)
        if charging
        else Claim("capacity", 0.9 * capacity, "Ah", Direction.AT_LEAST)
    )
    found = evidence_from_log("charge" if charging else "capacity", "log.csv", log, 23.0)
    (verdict,) = judge(made.family, capacity, [claim], found, School.STRICT)
    wrong = Outcome.MET if charging else Outcome.MISSED
    if (
        charging
        and verdict.outcome is wrong
        and made.world is not None
        and made.world._connected.model.state_of_charge > 0.9
    ):
        return "", "full before"
    said = f"{claim.kind}: {verdict.outcome.value}"
    return (f"{said}: {verdict.advice}" if verdict.outcome is wrong else ""), said


def main() -> int:
    """Try so many."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--first", type=int, default=1)
    asked = parser.parse_args()
    told, bad = Counter[str](), 0
    for seed in range(asked.first, asked.first + asked.count):
        what, wrong, said = lost(seed)
        told[said] += 1
        if wrong:
            bad += 1
            print(what, "\n      ", wrong, flush=True)
    print(f"{bad} of {asked.count} wrong; {dict(told)}")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
