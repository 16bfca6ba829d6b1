"""A run on instruments that cannot be lost: killed in mid-run, taken up over the wire, disks and clocks against it."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from wintry_tally.bench.connect import BenchChannel
from wintry_tally.bench.equipment import Equipment
from wintry_tally.bench.journal import Journal
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.bench.stand_ins.servers import StandIns, stand_in_equipment
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.book import Book, RunSettings
from wintry_tally.book.recipes import recipe_data
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.engine import Phase, Request
from wintry_tally.core.errors import BookError
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits

RECIPE = Recipe(
    "hold", "Hold", 1, (Step("discharge", "Hold", "current", 5.0, (EndRule("time", 30.0, EndCause.TIME),)),),
    StopLimits(8.0, 15.0, 12.0, 200.0, -20.0, 60.0),
)  # fmt: skip


@pytest.fixture
def stand_ins() -> Iterator[StandIns]:
    world = StandInWorld(parameters_for(family_named("lfp"), 40.0), STAND_IN_METER, power_W=300.0, current_A=30.0)
    running = StandIns(world)
    world.run()
    yield running
    running.stop()


def book_with_run(folder: Path, stand_ins: StandIns) -> tuple[Path, Equipment, int]:
    import json

    from wintry_tally.bench.equipment import equipment_data

    path = folder / "b.wintry"
    equipment = stand_in_equipment(stand_ins, Equipment())
    with Book.create(path) as book:
        sample = book.samples.add("B1", "", "", "lfp")
        book.set_meta("bench", json.dumps(equipment_data(equipment)))
        settings = RunSettings(channel="stand-in")
        number = book.runs.begin(sample, "Hold 1", "bench", datetime.now(UTC), settings, recipe_data(RECIPE), "load")
    return path, equipment, number


def test_a_run_of_real_time_ends_by_its_clock(tmp_path: Path, stand_ins: StandIns) -> None:
    path, equipment, number = book_with_run(tmp_path, stand_ins)
    now = [100.0]
    with Book.open(path) as book:
        channel = BenchChannel(equipment, equipment.channel("stand-in"), clock=lambda: now[0])
        loop = RunLoop(RECIPE, channel, Journal(book.runs, number), 1.0)
        loop.start()
        while not loop.snapshot().ended:
            now[0] += 1.0
            loop.tick()
        channel.close()
        assert loop.state.cause is EndCause.TIME and loop.elapsed_s == pytest.approx(30.0, abs=1.0)
        assert not stand_ins.world.load_on
        rows = book.runs.readings(number)
        assert [row[0] for row in rows] == sorted(row[0] for row in rows)


def test_a_clock_that_is_set_back_changes_nothing(tmp_path: Path, stand_ins: StandIns, monkeypatch) -> None:
    """Elapsed time is the boot clock's: the wall clock may be set as anybody likes."""
    path, equipment, number = book_with_run(tmp_path, stand_ins)
    with Book.open(path) as book:
        channel = BenchChannel(equipment, equipment.channel("stand-in"))
        loop = RunLoop(RECIPE, channel, Journal(book.runs, number), 0.1)
        loop.start()
        for number_of_tick in range(6):
            if number_of_tick == 3:
                monkeypatch.setattr(time, "time", lambda: 0.0)
            time.sleep(0.1)
            loop.tick()
        elapsed = loop.elapsed_s
        loop.ask(Request("stop"))
        channel.close()
    assert 0.5 < elapsed < 3.0


def test_a_disk_that_fills_is_told_then_nothing_is_drawn_and_nothing_is_lost(
    tmp_path: Path, stand_ins: StandIns, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("wintry_tally.bench.loop.UNSAVED_MOST_S", 3.0)
    path, equipment, number = book_with_run(tmp_path, stand_ins)
    now = [0.0]
    with Book.open(path) as book:

        class Full:
            full = False

            def append(self, run_id, rows, events, state, bench):
                if self.full:
                    raise BookError("the book cannot be written (database or disk is full)", mend="free some space")
                book.runs.append(run_id, rows, events, state, bench)

        store = Full()
        channel = BenchChannel(equipment, equipment.channel("stand-in"), clock=lambda: now[0])
        loop = RunLoop(RECIPE, channel, Journal(store, number, clock=lambda: now[0]), 1.0)
        loop.start()
        for tick in range(12):
            store.full = 4 <= tick < 9
            now[0] += 1.0
            loop.tick()
            if tick == 5:
                assert "is full" in loop.snapshot().trouble and stand_ins.world.load_on, (
                    "told, and watched all the same"
                )
            if tick == 8:
                assert "is full" in loop.snapshot().trouble and not stand_ins.world.load_on
                assert loop.state.phase is Phase.PAUSED
        assert not loop.snapshot().trouble
        loop.ask(Request("resume"))
        assert stand_ins.world.load_on
        loop.ask(Request("stop"))
        channel.close()
        assert loop.journal.waiting == 0 and len(book.runs.readings(number)) >= 5


def test_a_read_only_folder_is_said_at_once(tmp_path: Path, stand_ins: StandIns, monkeypatch) -> None:
    path, _, _ = book_with_run(tmp_path, stand_ins)
    monkeypatch.setattr(os, "access", lambda *_: False)  # the tests may run as root, whom no mode stops
    with pytest.raises(BookError, match="read-only"):
        Book.open(path)
