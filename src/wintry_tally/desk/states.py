"""What the trail shows of a sample at each station: done, running, next, open."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from wintry_tally.desk.views import BENCH_STATIONS
from wintry_tally.desk.widgets.trail import StationState

if TYPE_CHECKING:
    from wintry_tally.book import Run
    from wintry_tally.core.battery import Sample


def station_states(sample: Sample, runs: Sequence[Run], coming: str | None = None) -> dict[str, StationState]:
    """The mark of every station; `coming`: where the next test of its programme stands, None where nobody knows yet."""
    arrived = bool(sample.claims) and sample.arrival.rested_V is not None
    by_station = {key: [run for run in runs if run.station == key] for key in BENCH_STATIONS}
    states = {
        key: StationState.RUNNING
        if any(run.status == "running" for run in own)
        else StationState.DONE
        if any(run.status == "finished" for run in own)
        else StationState.OPEN
        for key, own in by_station.items()
    }
    running = any(run.status == "running" for run in runs)
    finished = any(run.status == "finished" for run in runs)
    if coming is None and arrived and states["capacity"] is StationState.OPEN:
        coming = "capacity"
    if coming in states and states[coming] is not StationState.RUNNING:
        states[coming] = StationState.NEXT
    return {
        **states,
        "arrival": StationState.DONE if arrived and coming != "arrival" else StationState.NEXT,
        "curves": StationState.DONE if finished else StationState.OPEN,
        "ledger": StationState.DONE if finished and not running else StationState.OPEN,
        "report": StationState.NEXT if finished and not running else StationState.OPEN,
    }
