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
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.core.errors import InputError


def serve(
    battery: SimulatedBattery, speed: float, seed: int, port: int, file: Path | None, faults: tuple[str, ...],
    tell: Callable[[str], None], until: threading.Event | None = None,
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
        power_W=300.0, current_A=30.0,
    )  # fmt: skip
    for text in faults:
        instrument, equals, name = text.partition("=")
        if not equals:
            raise InputError(f'fault "{text}" cannot be read', mend="write INSTRUMENT=FAULT, like meter=silence")
        world.fault(instrument, name)
    try:
        stand_ins = StandIns(world, file, port)
    except OSError as error:
        raise InputError(f"port {port} cannot be used ({error.strerror})", mend="leave --port out") from None
    world.run(speed)
    tell(json.dumps(stand_ins.addresses()))
    done = until or threading.Event()
    if until is None:
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, lambda *_: done.set())
    try:
        done.wait()
    finally:
        stand_ins.stop()
