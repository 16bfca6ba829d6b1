"""Each fault of the stand-ins while current flows: how long until everything is off, and what a person is told.

`python -m benchmarks.faults`, on the wall's clock, readings once a second, through the application's own entry points.
"""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

from tests.bench.eight import STOPS, Shown
from tests.bench.live import LiveBench
from tests.bench.test_faults import AT_ITS_END, UNDER_WAY

from wintry_tally.app.bench_book import equipment_of
from wintry_tally.app.live import LiveRuns
from wintry_tally.app.run_settings import bench_settings
from wintry_tally.book import Book
from wintry_tally.core.engine import Request
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step

LIVELY_S = 13.0
"""A meter has to be seen to flicker before it can be seen to stand still."""


def trial(bench: LiveBench, runs: LiveRuns, book: Book, instrument: str, fault: str, at_end: bool) -> tuple[float, str]:
    """Seconds from the fault (or from OFF) to everything off or said, and the words."""
    sample = book.samples.all()[0]
    ends = (EndRule("time", 600.0, EndCause.TIME),)
    made = Recipe("f", f"{fault}", 1, (Step("discharge", "Draw", "current", 5.0, ends),), STOPS, no_proof="short")
    number = runs.start(
        sample, made, bench_settings(sample, made, bench.equipment, "one", every_s=1.0), (), "load", "one"
    )
    item = runs.live[number]
    early = fault in {"refuses", "too-much"}
    if early:
        bench.world.fault(instrument, fault)
    else:
        bench.until(lambda: bench.flows, 20.0)
        time.sleep(LIVELY_S if "stuck" in fault else 2.0)
        bench.world.fault(instrument, fault)
    begun = time.monotonic()
    if at_end:
        item.worker.ask(Request("stop"))
        bench.until(lambda: bool(item.latest.trouble), 20.0)
    else:
        bench.until(lambda: item.latest.ended and not bench.flows, 40.0)
    took = time.monotonic() - begun
    words = item.latest.trouble if at_end else f"{item.latest.state.cause}: {item.latest.state.detail}"
    bench.world.fault(instrument, fault, on=False)
    while number in runs.live:
        runs.follow()
        time.sleep(0.05)
    return took, " ".join(words.split())[:110]


def main() -> None:
    """Print the table."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["XDG_STATE_HOME"] = str(folder / "state")
        os.environ["WINTRY_TALLY_TAKEN"] = str(folder / "taken")
        bench = LiveBench(folder)
        with Book.open(bench.path) as book:
            runs = LiveRuns(book, lambda: equipment_of(book), Shown())
            rows = [(i, f, False) for i, f, *_ in UNDER_WAY] + [(i, f, True) for i, f, _ in AT_ITS_END]
            for instrument, fault, at_end in rows:
                took, words = trial(bench, runs, book, instrument, fault, at_end)
                print(
                    f"{instrument:6} {fault:14} {'said after' if at_end else 'off after '} {took:5.1f} s  {words}",
                    flush=True,
                )
        bench.stop()


if __name__ == "__main__":
    main()
