"""Random use of eight channels with random faults, twenty seconds of it; ten minutes in `benchmarks/hours.py`."""

from __future__ import annotations

import time
from pathlib import Path

from tests.amount import some
from tests.bench.eight import STOPS, Eight
from wintry_tally.app.run_settings import bench_settings
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step


def test_nothing_is_left_on_unsaid(tmp_path: Path, own_places: Path) -> None:
    eight = Eight(tmp_path, 42)
    least = some(3, 6)
    until = time.monotonic() + 90.0  # on a busy machine as much takes longer
    while min(eight.done.get(kind, 0) for kind in ("started", "spoilt")) < least and time.monotonic() < until:
        eight.use(5.0)
    left = eight.close()
    assert not eight.unsaid and not left, (eight.unsaid, left)
    assert min(eight.done["started"], eight.done["spoilt"]) >= least, eight.done


def test_eight_channels_are_off_at_once_and_a_silent_one_is_named(tmp_path: Path, own_places: Path) -> None:
    eight = Eight(tmp_path, 1)
    ends = (EndRule("time", 600.0, EndCause.TIME),)
    made = Recipe("eight", "Eight", 1, (Step("discharge", "Draw", "current", 5.0, ends),), STOPS, no_proof="short")
    for n, sample in enumerate(eight.samples):
        settings = bench_settings(sample, made, eight.equipment, f"c{n}", every_s=1.0)
        eight.runs.start(sample, made, settings, (), "load", f"c{n}")
    until = time.monotonic() + 20.0
    while not all(world.true_current_A > 4.0 for world in eight.worlds) and time.monotonic() < until:
        time.sleep(0.05)
    eight.worlds[3].fault("load", "ignores-off")
    begun = time.monotonic()
    allof = eight.runs.make_safe()
    while any(world.true_current_A > 0.1 for n, world in enumerate(eight.worlds) if n != 3):
        assert time.monotonic() - begun < 8.0, "the figure is benchmarks/faults.py's"
        time.sleep(0.01)
    assert allof.wait(6.0)
    assert [item.name for item in allof.left] == ["load 3"] and "Pull the lead of load 3" in str(allof.left[0])
    assert allof.samples == {sample.id for sample in eight.samples}
    eight.worlds[3].fault("load", "ignores-off", on=False)
    assert not eight.close()
