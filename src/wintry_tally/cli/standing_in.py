"""The `stand-ins` command: instruments on loopback for whoever has none at hand."""

from __future__ import annotations

import json
import signal
import threading
from collections.abc import Callable
from pathlib import Path
from random import Random

from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.bench.simulation import SimulatedBattery
from wintry_tally.bench.stand_ins.servers import StandIns
from wintry_tally.bench.stand_ins.wiring import WIRINGS
from wintry_tally.bench.stand_ins.world import FAULTS, ROLES, StandInWorld
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.errors import InputError


def listing() -> str:
    """Every fault and every wrong wiring, one to a line."""
    faults = [f"fault   {name:22} {words}" for name, words in FAULTS.items()]
    wirings = [f"wiring  {name:22} {words}" for name, words in WIRINGS.items()]
    return "\n".join(
        (*faults, *wirings, f"fault of {', '.join(ROLES)}, like --fault load=lies-off or --fault meter=silence@30")
    )


def serve(
    battery: SimulatedBattery, speed: float, seed: int, port: int, file: Path | None, faults: tuple[str, ...],
    tell: Callable[[str], None], until: threading.Event | None = None, wiring: tuple[str, ...] = (),
) -> None:  # fmt: skip
    """Start them, print where they are as JSON, and serve until interrupted (or `until` is set).

    Raises:
        InputError: a speed, a port or a fault that cannot be.
    """
    if not 0 < speed <= 3600:
        raise InputError(f"a speed of {speed:g} cannot be", mend="give 1 to 3600 × real time")
    random = Random(seed)
    world = StandInWorld(
        battery.parameters(random), STAND_IN_METER, seed, battery.ambient_C, battery.state_of_charge,
        power_W=300.0, current_A=30.0, cells=battery.family.cells, wiring=wiring,
        stranger=parameters_for(family_named("nmc"), battery.rated_Ah),
    )  # fmt: skip
    later = [_faulted(world, text) for text in faults]
    try:
        stand_ins = StandIns(world, file, port)
    except OSError as error:
        raise InputError(f"port {port} cannot be used ({error.strerror})", mend="leave --port out") from None
    world.run(speed)
    tell(json.dumps(stand_ins.addresses()))
    done = until or threading.Event()
    timers = [
        threading.Timer(after_s, world.fault, (instrument, name)) for after_s, instrument, name in later if after_s
    ]
    for timer in timers:
        timer.daemon = True
        timer.start()
    if until is None:
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, lambda *_: done.set())
    try:
        done.wait()
    finally:
        for timer in timers:
            timer.cancel()
        stand_ins.stop()


def _faulted(world: StandInWorld, text: str) -> tuple[float, str, str]:
    """A fault as given: at once, or so many seconds after the start."""
    given, _, after = text.partition("@")
    instrument, equals, name = given.partition("=")
    try:
        after_s = float(after or 0.0)
    except ValueError:
        after_s = -1.0
    if not equals or not 0.0 <= after_s < 1e6:
        raise InputError(
            f'fault "{text}" cannot be read', mend="write INSTRUMENT=FAULT, like meter=silence, or meter=silence@30"
        )
    world.fault(instrument, name)
    if after_s:
        world.fault(instrument, name, on=False)
    return after_s, instrument, name
