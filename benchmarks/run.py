"""Measure the budgets of the design as ratios in one run; see README.md beside this file."""

from __future__ import annotations

import argparse
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent))


def best(work: Callable[[], Any], times: int = 5) -> float:
    """The shortest of several goes, s."""
    spans = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        spans.append(time.perf_counter() - begun)
    return min(spans)


def line(name: str, value: str, budget: str, kept: bool) -> None:
    """One result."""
    print(f"{'ok  ' if kept else 'OVER'}  {name:58} {value:>22}   budget {budget}", flush=True)


def big_trace(rows: int) -> Any:
    """A discharge of so many rows."""
    from wintry_tally.core.trace import Trace

    random = np.random.default_rng(1)
    time_s = np.linspace(0.0, 6 * 3600.0, rows)
    current = np.where((time_s > 1800) & (time_s < 19800), 8.0, 0.0) + 0.002 * random.standard_normal(rows)
    share = np.clip((time_s - 1800) / 18000, 0, 1)
    voltage = 13.3 - 0.4 * share - 2.5 * np.exp((share - 1) / 0.02) - 0.1 * (current > 4)
    voltage += 0.003 * random.standard_normal(rows)
    voltage[time_s >= 19800] = 3.0
    return Trace(time_s, voltage, current, resolution={"voltage_V": 0.001, "current_A": 0.001})


def analysis(rows: int, count: int) -> None:
    """Full analysis against one NumPy pass."""
    from wintry_tally.core.analysis import Instrument, Options, analyse
    from wintry_tally.core.battery import FAMILIES
    from wintry_tally.core.quantity import parse_accuracy

    options = Options(
        FAMILIES["lfp"], 40.0, Instrument(parse_accuracy("0.5%+2d"), parse_accuracy("1%+0.01")), dropouts_V=(12.5, 11.4)
    )
    small, trace = big_trace(rows // 10), big_trace(rows)
    pass_s = best(lambda: np.trapezoid(trace.voltage_V * trace.current, trace.time_s))
    whole = best(lambda: analyse(trace, options))
    tenth = best(lambda: analyse(small, options))
    ratio = whole / pass_s
    line(f"analysis of {rows:.0e} rows / one trapezoid pass", f"{ratio:.2f} ({1e3 * whole:.0f} ms)", "4", ratio <= 4)
    line("ten times the rows / time for them", f"{whole / tenth:.1f}", "about 10", whole / tenth < 14)
    program = (
        "import sys; sys.path.insert(0, sys.argv[1]); import resource\n"
        "from benchmarks.run import big_trace, memory_options\n"
        "from wintry_tally.core.analysis import analyse\n"
        "t = big_trace(int(sys.argv[2])); o = memory_options(); a = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss\n"
        "import numpy as np; base = 3 * t.time_s.nbytes\n"
        "import tracemalloc; tracemalloc.start(); analyse(t, o); print((base + tracemalloc.get_traced_memory()[1]) / base)\n"
    )
    done = subprocess.run([sys.executable, "-c", program, str(HERE.parent), str(rows)], capture_output=True, text=True)
    share = float(done.stdout)
    line("memory with the arrays / the arrays", f"{share:.2f}", "3", share <= 3)


def memory_options() -> Any:
    """Options for the memory measurement."""
    from wintry_tally.core.analysis import Options
    from wintry_tally.core.battery import FAMILIES

    return Options(FAMILIES["lfp"], 40.0)


def csv(rows: int, count: int) -> None:
    """Reading a large CSV against polars alone."""
    import polars as pl

    from wintry_tally.exchange import read_log

    trace = big_trace(rows)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "big.csv"
        columns = {
            "Time / s": trace.time_s.round(3),
            "Voltage / V": trace.voltage_V.round(4),
            "Current / A": trace.current.round(4),
        }
        pl.DataFrame(columns).write_csv(path)
        del trace, columns
        alone = best(lambda: pl.read_csv(path), 4)
        ours = best(lambda: read_log(path), 4)
    line(f"reading {rows:.0e} rows / polars", f"{ours / alone:.2f} ({ours:.2f} s)", "1.5", ours / alone <= 1.5)


BARE = """
import time; begun = time.perf_counter()
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([]); window = QMainWindow(); window.resize(1280, 800)
import pyqtgraph as pg
window.setCentralWidget(pg.PlotWidget()); window.show()
while not window.isActiveWindow() and time.perf_counter() - begun < 0.2: app.processEvents()
app.processEvents(); print(time.perf_counter() - begun)
"""

OURS = """
import time; begun = time.perf_counter()
import sys
from PySide6.QtCore import QSettings, QTimer
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[1])
from wintry_tally.desk.starting import hold_collector, release_collector
hold_collector()  # as the command does
from wintry_tally.desk.app import make_application
from wintry_tally.desk.session import Session
from wintry_tally.desk.window import Window
app = make_application("day"); window = Window(Session()); window.show(); app.processEvents()
first = time.perf_counter() - begun
assert "pyqtgraph" not in sys.modules
window.open_demo()
while not window.session.has_book: app.processEvents()
app.processEvents(); release_collector()
usable = time.perf_counter() - begun
assert window.session.samples() and window.page("today").isVisible()
print(first, usable)
window.close()
"""


def start(rows: int, count: int) -> None:
    """The window against a bare one with an empty plot, each in a process of its own, by turns."""
    env = {**os.environ, "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
    bare, first, usable = [], [], []
    with tempfile.TemporaryDirectory() as folder:
        for _ in range(6):
            done = subprocess.run([sys.executable, "-c", BARE], capture_output=True, text=True, env=env, check=True)
            bare.append(float(done.stdout))
            done = subprocess.run(
                [sys.executable, "-c", OURS, folder], capture_output=True, text=True, env=env, check=True
            )
            a, b = done.stdout.split()
            first.append(float(a))
            usable.append(float(b))
    base = statistics.median(bare[1:])
    ratio = statistics.median(usable[1:]) / base
    line(
        "window usable on the demo book / bare window with a plot",
        f"{ratio:.2f} ({1e3 * ratio * base:.0f} ms)",
        "1.5",
        ratio <= 1.5,
    )
    line("first paint, no plot library loaded / the same", f"{statistics.median(first[1:]) / base:.2f}", "-", True)


def curve(rows: int, count: int) -> None:
    """Panning a large curve."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from wintry_tally.desk.app import make_application
    from wintry_tally.desk.widgets.curve import Curve

    application = make_application("day")
    trace = big_trace(rows)
    widget = Curve("V", "time / h", "voltage / V")
    widget.resize(900, 400)
    widget.show_curves([("", trace.time_s / 3600, trace.voltage_V)])
    widget.show()
    application.processEvents()
    plot = widget._plot.getPlotItem()
    spans = []
    for step in range(30):
        begun = time.perf_counter()
        plot.setXRange(0.1 * step / 10, 5.0 - 0.05 * step, padding=0)
        widget.grab()
        spans.append(time.perf_counter() - begun)
    frame = 1e3 * statistics.median(spans)
    line(f"a frame while zooming {rows:.0e} points", f"{frame:.1f} ms", "33 ms", frame <= 33)


def forecast(rows: int, count: int) -> None:
    """A forecast, and the simulated bench's speed."""
    from wintry_tally.bench.journal import Journal
    from wintry_tally.bench.loop import RunLoop
    from wintry_tally.bench.simulated import MeterSpec, SimulatedChannel
    from wintry_tally.core.battery import FAMILIES
    from wintry_tally.core.cell import parameters_for
    from wintry_tally.core.plan import forecast as make
    from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, capacity_recipe

    family = FAMILIES["agm"]
    recipe = capacity_recipe(family, 100.0, CapacityPlan("current", 5.0, 10.5), LoadLimits(180.0, 20.0))
    span = 1e3 * best(lambda: make(recipe, parameters_for(family, 100.0)), 10)
    line("forecast of a 20-hour test", f"{span:.0f} ms", "50 ms", span <= 50)

    class Nowhere:
        def append(self, *_: Any) -> None:
            pass

    def drive() -> float:
        channel = SimulatedChannel(parameters_for(family, 100.0), MeterSpec(), 1)
        run = RunLoop(recipe, channel, Journal(Nowhere(), 1), 10.0)
        run.start()
        begun = time.perf_counter()
        while not run.tick().ended:
            pass
        return run.elapsed_s / (time.perf_counter() - begun)

    speed = max(drive() for _ in range(3))
    line("simulated bench, a reading every 10 s", f"{speed:,.0f} × real time", "100 000 ×", speed >= 1e5)


def coverage(rows: int, count: int) -> None:
    """Simulated tests on mixed meters, errors drawn from each specification: does k = 2 cover the truth?

    Where a single uniform error (a gain) rules, k = 2 is 1.15 of its limit and covers all; where two or three weigh
    alike, about 96 %. The meters here run from one to the other.
    """
    from random import Random

    random = Random(1)
    covered, ratio = 0, []
    for _ in range(count):
        off, standard = _one_counted(random)
        covered += abs(off) <= 2 * standard
        ratio.append(off / standard)
    share = 100 * covered / count
    ideal = float(np.quantile(np.abs(ratio), 0.95)) / 2.0
    line(f"k = 2 covers the truth on {count} tests, mixed meters", f"{share:.1f} %", "94 to 98 %", 94 <= share <= 98)
    line("width / the narrowest that covers 95 %", f"{1 / ideal:.2f}", "not much above 1", 1 / ideal < 1.25)


def _one_counted(random: Any) -> tuple[float, float]:
    """Error and stated standard uncertainty of one count."""
    from wintry_tally.core.analysis import Instrument, Options, analyse
    from wintry_tally.core.battery import FAMILIES
    from wintry_tally.core.quantity import parse_accuracy
    from wintry_tally.core.trace import Trace

    amps, hours = random.uniform(2.0, 12.0), random.uniform(2.0, 9.0)
    step = random.choice([5.0, 10.0, 20.0])
    percent = random.uniform(0.1, 1.0)
    # the offset over the whole test weighs from a third to three times the gain
    limit = amps * percent / 100.0 * 3.0 ** random.uniform(-1.0, 1.0)
    time_s = np.arange(0.0, 3600.0 * hours + 1200.0, step) + random.uniform(0.0, 0.5 * step)
    live = (time_s >= 600.0) & (time_s < 3600.0 * hours + 600.0)
    true_A = np.where(live, amps, 0.0)
    share = np.clip((time_s - 600.0) / (3600.0 * hours), 0.0, 1.0)
    volts = 13.3 - 0.5 * share - 0.1 * live
    gain, offset = 1.0 + random.uniform(-percent, percent) / 100.0, random.uniform(-limit, limit)
    noise = 0.002 * np.random.default_rng(random.randrange(1 << 30)).standard_normal(len(time_s))
    seen = np.where(live, true_A * gain + offset + noise, 0.0)
    trace = Trace(time_s, volts, np.round(seen, 3), resolution={"voltage_V": 0.001, "current_A": 0.001})
    instrument = Instrument(parse_accuracy("0.5%+2d"), parse_accuracy(f"{percent:.4f}%+{limit:.6f}"), "meter")
    test = analyse(trace, Options(FAMILIES["lfp"], None, instrument)).capacity
    assert test is not None and test.count.charge.standard
    return test.count.charge.value - amps * hours, test.count.charge.standard


def logging(rows: int, count: int) -> None:
    """Sixteen channels at ten readings a second into one book: share of a core, readings lost."""
    from datetime import UTC, datetime

    from wintry_tally.bench.journal import Journal
    from wintry_tally.bench.loop import RunLoop
    from wintry_tally.bench.simulated import STAND_IN_METER, SimulatedChannel
    from wintry_tally.bench.worker import RunWorker
    from wintry_tally.book import Book, RunSettings
    from wintry_tally.core.battery import FAMILIES
    from wintry_tally.core.cell import parameters_for
    from wintry_tally.core.engine import Phase
    from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, capacity_recipe

    lasts = 10.0 * count
    recipe = capacity_recipe(FAMILIES["lfp"], 40.0, CapacityPlan("current", 8.0, 10.0), LoadLimits(180.0, 20.0))
    with tempfile.TemporaryDirectory() as folder, Book.create(Path(folder) / "b.wintry") as book:
        sample = book.samples.add("B1", "", "", "lfp")
        runs, workers = [], []
        for number in range(16):
            run_id = book.runs.begin(sample, f"Capacity {number}", "simulated", datetime.now(UTC), RunSettings())
            channel = SimulatedChannel(parameters_for(FAMILIES["lfp"], 40.0), STAND_IN_METER, number)
            loop = RunLoop(recipe, channel, Journal(book.runs, run_id), 0.1)
            workers.append(RunWorker(loop))
            runs.append(run_id)
        for worker in workers:
            worker.start()
        time.sleep(1.0)
        wall, cpu = time.perf_counter(), time.process_time()
        time.sleep(lasts)
        share = (time.process_time() - cpu) / (time.perf_counter() - wall)
        for worker in workers:
            worker.stop_thread()
        kept = [len(book.runs.readings(run_id)) for run_id in runs]
        taken = [round(worker.latest.elapsed_s / 0.1) for worker in workers]
        live = all(worker.latest.state.phase is Phase.DISCHARGING for worker in workers)
    line("16 channels × 10 Hz, share of a core", f"{100 * share:.1f} %", "15 %", share <= 0.15)
    slow = min(taken) / (10.0 * (lasts + 1.0))
    line("readings lost of those taken", f"{sum(taken) - sum(kept)} of {sum(taken)}", "0", kept == taken and live)
    line("readings taken of those due", f"{100 * slow:.0f} %", "100 %", slow > 0.97)


def kills(rows: int, count: int) -> None:
    """kill -9 at random moments; what the book holds afterwards against what had been read."""
    from random import Random
    from signal import SIGKILL

    from tests.book.test_book import WRITER

    from wintry_tally.book import Book

    random, worst = Random(3), 0.0
    for _ in range(count):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "b.wintry"
            with Book.create(path) as book:
                book.samples.add("B1", "", "", "lfp")
            process = subprocess.Popen([sys.executable, "-c", WRITER, str(path)], stdout=subprocess.PIPE, text=True)
            assert process.stdout is not None
            printed = [process.stdout.readline() for _ in range(random.randrange(5, 900))]
            os.kill(process.pid, SIGKILL)
            printed += process.stdout.read().splitlines()
            process.wait()
            moments = [tuple(map(float, text.split())) for text in printed if len(text.split()) == 2]
            with Book.open(path) as book:
                kept = book.runs.readings(book.runs.all()[0].id)
            last = kept[-1][0] if kept else 0.0
            lost = [moment for moment, elapsed in moments if elapsed > last]
            worst = max(worst, moments[-1][0] - lost[0] if lost else 0.0)
    line(f"most lost in {count} kills", f"{worst:.2f} s", "2 s", worst <= 2.0)


ALL = {
    "start": start,
    "analysis": analysis,
    "csv": csv,
    "curve": curve,
    "forecast": forecast,
    "coverage": coverage,
    "logging": logging,
    "kills": kills,
}


def main() -> None:
    """Run those asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("names", nargs="*", choices=[*ALL, []])
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--count", type=int, default=0)
    asked = parser.parse_args()
    for name in asked.names or ALL:
        ALL[name](asked.rows, asked.count or {"coverage": 10_000, "kills": 20}.get(name, 1))
    print(f"peak memory of this process {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB")


if __name__ == "__main__":
    main()
