"""Kills and freezes of a program that drives instruments: how soon everything is off. `python -m benchmarks.kills [N]`

Half SIGKILL, half SIGSTOP; half while it draws, half while it charges; at random moments, over three families of
instruments. One stand-in battery each time; the guard and the program are real processes.
"""

from __future__ import annotations

import contextlib
import os
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from random import Random

from tests.bench.live import LiveBench, recipe

from wintry_tally.bench.connect import BenchChannel
from wintry_tally.bench.guard import ProcessGuard

LIMIT_S = 5.0
CHANNELS = {"discharge": ("one", "asked", "registers"), "charge": ("one", "registers")}


def trial(bench: LiveBench, number: int, random: Random) -> tuple[str, float]:
    """One kill or freeze; what it was, and how long until nothing flows, s."""
    kind = random.choice(("discharge", "charge"))
    channel = random.choice(CHANNELS[kind])
    how = random.choice((signal.SIGKILL, signal.SIGSTOP))
    made = recipe(bench.folder, 600.0, 5.0, kind=kind, proof=random.random() < 0.3, name=f"r{number}")
    program = bench.run(made, channel)
    bench.until(lambda: bench.flows, 30.0)
    time.sleep(random.uniform(0.0, 2.5))
    begun = time.monotonic()
    program.send(how)
    while bench.flows and time.monotonic() - begun < 30.0:
        time.sleep(0.01)
    took = time.monotonic() - begun
    if how is signal.SIGSTOP:
        with contextlib.suppress(OSError):
            program.send(signal.SIGCONT)
    with contextlib.suppress(subprocess.TimeoutExpired):
        program.wait(15.0)
    if program.process.poll() is None:
        program.send(signal.SIGKILL)
        program.wait(5.0)
    return f"{'killed' if how is signal.SIGKILL else 'frozen'}, {kind}, {channel}", took


def guard_ready_s(bench: LiveBench) -> float:
    """How long a guard takes to be there, s."""
    channel = BenchChannel(bench.equipment, bench.equipment.channel("one"))
    guard = ProcessGuard(channel.off_plans(), 1, str(bench.path), "x")
    begun = time.monotonic()
    guard.begin()
    took = time.monotonic() - begun
    guard.release()
    channel.close()
    return took


def main() -> None:
    """Run them, print how long each took at the most."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    random = Random(20261126)
    found: dict[str, list[float]] = {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["XDG_STATE_HOME"] = str(folder / "state")
        os.environ["WINTRY_TALLY_TAKEN"] = str(folder / "taken")
        bench = LiveBench(folder)
        ready = [guard_ready_s(bench) for _ in range(9)]
        print(f"a guard is ready after {statistics.median(ready):.2f} s, at most {max(ready):.2f} s (budget 0.3 s)")
        for number in range(count):
            kind, took = trial(bench, number, random)
            found.setdefault(kind, []).append(took)
        bench.stop()
    every = [took for values in found.values() for took in values]
    for kind, values in sorted(found.items()):
        print(f"{kind:32} {len(values):4} median {statistics.median(values):.2f} s, at most {max(values):.2f} s")
    late = sum(took > LIMIT_S for took in every)
    print(f"{len(every)} in all, at most {max(every):.2f} s; later than {LIMIT_S:g} s: {late}")


if __name__ == "__main__":
    main()
