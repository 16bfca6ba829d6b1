"""Drivers that raise anything, return anything, or never return; plugs pulled, networks gone, a busy machine."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.bench.benches import Bench, Kept, hold
from tests.bench.live import LiveBench, recipe
from wintry_tally.bench.connect import BenchChannel
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.bench.stand_ins.direct import direct_drivers
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.bench.worker import RunWorker
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.engine import Phase
from wintry_tally.core.protocol import EndCause

SPEC = {"voltage_accuracy": "0.1%+2d", "current_accuracy": "0.5%+2d"}
EQUIPMENT = Equipment(
    (
        Instrument("load", "load", address="x:1", power_W=300.0, current_A=30.0, **SPEC),
        Instrument("supply", "charger", address="x:2", current_A=50.0, voltage_V=16.0, **SPEC),
        Instrument("meter", address="x:3", **SPEC),
    ),
    (ChannelSpec("one", "load", "supply", "meter", "meter"),),
)


def never(*_: object) -> None:
    threading.Event().wait(30.0)


def raising(error: BaseException) -> Callable[..., None]:
    def act(*_: object) -> None:
        raise error

    return act


ANYTHING: dict[str, Callable[..., object]] = {
    "ValueError": raising(ValueError("x")), "KeyError": raising(KeyError("off")), "SystemExit": raising(SystemExit(3)),
    "KeyboardInterrupt": raising(KeyboardInterrupt()), "MemoryError": raising(MemoryError()), "OSError": raising(OSError(5, "gone")),
    "None": lambda *_: None, "text": lambda *_: "13.2", "a list": lambda *_: [13.2, 5.0], "empty": lambda *_: {},
    "words": lambda *_: {"voltage": "13.2", "current": 5.0}, "nan": lambda *_: {"voltage": float("nan"), "current": 5.0},
    "never": never,
}  # fmt: skip


@pytest.mark.parametrize("wrong", ANYTHING)
@pytest.mark.parametrize(
    ("role", "method"),
    [("meter", "quantities"), ("load", "quantities"), ("load", "is_on"), ("load", "draw"), ("supply", "off")],
)
def test_whatever_a_driver_does_the_load_is_off_and_it_is_said(
    monkeypatch: pytest.MonkeyPatch, role: str, method: str, wrong: str
) -> None:
    world = StandInWorld(parameters_for(family_named("lfp"), 40.0), STAND_IN_METER, power_W=300.0, current_A=30.0)
    world.run()
    drivers = direct_drivers(world)
    channel = BenchChannel(EQUIPMENT, EQUIPMENT.channel("one"), drivers=drivers)
    loop = RunLoop(hold(2.0), channel, Kept(), 0.1)  # type: ignore[arg-type]
    worker = RunWorker(loop)
    if method == "draw":
        monkeypatch.setattr(drivers[role], method, ANYTHING[wrong])
    worker.start()
    until = time.monotonic() + 6.0
    if method != "draw":
        while not world.load_on and time.monotonic() < until:
            time.sleep(0.01)
        time.sleep(0.3)
        monkeypatch.setattr(drivers[role], method, ANYTHING[wrong])
    if method == "off":
        worker.halt()
    harmless = (
        method in {"is_on", "draw", "off"} and wrong in {"None", "text", "a list", "empty", "words", "nan"}
    ) or (role == "load" and method == "quantities" and wrong in {"empty", "nan"})
    while not harmless and (world.true_current_A or not worker.latest.ended) and time.monotonic() < until:
        if method == "off" and not world.true_current_A:
            break
        time.sleep(0.02)
    if not harmless:
        assert world.true_current_A == 0.0 and not world.load_on
    if method == "quantities" and not harmless:
        assert worker.latest.state.cause is EndCause.INSTRUMENT and worker.latest.state.detail
    monkeypatch.undo()
    worker.stop_thread(12.0)
    assert not worker.alive and world.true_current_A == 0.0
    world.stop()


def test_a_fault_of_our_own_ends_it_with_everything_off_and_goes_on_looking(monkeypatch: pytest.MonkeyPatch) -> None:
    world = StandInWorld(parameters_for(family_named("lfp"), 40.0), STAND_IN_METER, power_W=300.0, current_A=30.0)
    world.run()
    kept, closed = Kept(), []
    channel = BenchChannel(EQUIPMENT, EQUIPMENT.channel("one"), drivers=direct_drivers(world))
    loop = RunLoop(hold(2.0), channel, kept, 0.1)  # type: ignore[arg-type]
    worker = RunWorker(loop, closing=closed.append)
    worker.start()
    while worker.latest.state.phase is not Phase.DISCHARGING or not world.load_on:
        time.sleep(0.01)

    def broken(*_: object) -> None:
        raise ZeroDivisionError("a bug")

    monkeypatch.setattr(loop, "_go_on", broken)
    worker._thread.join(10.0)
    assert not worker.alive and not world.load_on and len(closed) == 1
    assert closed[0].state.cause is EndCause.PROGRAM and "ZeroDivisionError: a bug" in closed[0].state.detail
    assert closed[0].outputs == "off" and "everything is switched off" in worker.refusal
    world.stop()


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Bench]:
    made = Bench(tmp_path)
    yield made
    made.stand_ins.stop()


def test_a_plug_pulled_out_of_its_port(bench: Bench) -> None:
    loop, _, channel = bench.loop(hold(), "told")
    loop.start()
    time.sleep(0.5)
    bench.tick(loop, 4)
    assert bench.world.true_current_A > 1.0
    bench.stand_ins.line.stop()  # the current's meter
    begun = time.monotonic()
    while not loop.snapshot().ended and time.monotonic() - begun < 12.0:
        bench.tick(loop)
        time.sleep(0.3)
    assert loop.state.cause is EndCause.INSTRUMENT and bench.world.true_current_A == 0.0
    channel.close()


def test_a_network_that_is_gone_is_said_and_come_back_to(bench: Bench) -> None:
    loop, _, channel = bench.loop(hold())
    loop.start()
    bench.tick(loop, 4)
    address = bench.stand_ins.scpi["load"].server_address
    for role in ("load", "meter"):
        bench.world.fault(role, "hang")
    seen = bench.tick(loop, 6)
    assert (
        seen.ended
        and "unplug the load's lead" in seen.trouble
        and bench.stand_ins.scpi["load"].server_address == address
    )
    for role in ("load", "meter"):
        bench.world.fault(role, "hang", on=False)
    assert bench.tick(loop, 20).outputs == "off"
    channel.close()


BURN = "import time; until = time.monotonic() + 1.5\nwhile time.monotonic() < until: pass"


def test_a_busy_machine_is_no_dead_program(tmp_path: Path, own_places: Path) -> None:
    bench = LiveBench(tmp_path)
    program = bench.run(recipe(tmp_path, 6.0), "one")
    bench.until(lambda: bench.flows)
    burners = [subprocess.Popen([sys.executable, "-S", "-c", BURN]) for _ in range(2 * (os.cpu_count() or 2))]
    code, events, err = program.end(60.0)
    for burner in burners:
        burner.wait()
    assert code == 0 and events[-1]["cause"] == "time-limit" and "stood still" not in err
    bench.stop()
