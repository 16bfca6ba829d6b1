"""Stand-in benches for tests: a clock that only the test moves, and the equipment that speaks to them."""

from __future__ import annotations

from pathlib import Path

from wintry_tally.bench.connect import BenchChannel
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.bench.stand_ins.servers import StandIns
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits

RATED = 2.0
STOPS = StopLimits(8.0, 15.0, 12.0, 200.0, -20.0, 60.0, charge_high_A=12.0)
SPEC = {"voltage_accuracy": STAND_IN_METER.voltage_accuracy, "current_accuracy": STAND_IN_METER.current_accuracy}


class Kept:
    """In the place of the journal."""

    def __init__(self) -> None:
        self.rows: list[tuple] = []
        self.told: list = []
        self.problem, self.unsaved_s = "", 0.0

    def reading(self, elapsed_s, seen) -> None:
        self.rows.append((elapsed_s, seen))

    def events(self, events) -> None:
        self.told.extend(events)

    def due(self) -> bool:
        return False

    def write(self, state, bench) -> None: ...

    @property
    def kinds(self) -> list[str]:
        return [event.kind for event in self.told]


class Bench:
    """Every stand-in on one battery."""

    def __init__(self, folder: Path, wiring: tuple[str, ...] = (), state_of_charge: float = 1.0) -> None:
        parameters = parameters_for(family_named("lfp"), RATED)
        self.world = StandInWorld(
            parameters,
            STAND_IN_METER,
            seed=5,
            power_W=300.0,
            current_A=30.0,
            wiring=wiring,
            state_of_charge=state_of_charge,
        )
        self.stand_ins = StandIns(self.world, folder / "grows.csv")
        at = self.stand_ins.addresses()
        limits = {"power_W": 300.0, "current_A": 30.0}
        self.equipment = Equipment(
            (
                Instrument("load", "load", address=at["load"], **limits, **SPEC),
                Instrument("supply", "charger", address=at["supply"], current_A=50.0, voltage_V=16.0, **SPEC),
                Instrument("meter", address=at["meter"], **SPEC),
                Instrument("second", address=at["second"], **SPEC),
                Instrument("thermometer", "thermometer", address=at["thermometer"]),
                Instrument("line", way="line", dialect="spaced-line", address=at["line"]),
                Instrument("pack", "telemetry", "line", "telling-pack", at["pack"]),
                Instrument("file", way="file", dialect="growing-csv", address=at["file"]),
                Instrument("asked load", "load", "asked", "line-load", at["asked-load"], **limits, **SPEC),
                Instrument("asked supply", "charger", "asked", "line-supply", at["asked-supply"], current_A=50.0, voltage_V=16.0, **SPEC),
                Instrument("register load", "load", "modbus", "register-bench", at["register-load"], **limits, **SPEC),
                Instrument("register supply", "charger", "modbus", "register-bench", at["register-supply"], current_A=50.0, voltage_V=16.0, **SPEC),
                Instrument("register meter", "meter", "modbus", "register-bench", at["register-meter"], **SPEC),
            ),
            (
                ChannelSpec("one", "load", "supply", "meter", "meter", "thermometer"),
                ChannelSpec("own", "load", "supply", "load"),
                ChannelSpec("two", "load", "", "meter", "meter", "", "second"),
                ChannelSpec("told", "load", "supply", "meter", "line", "", "second", telemetry="pack"),
                ChannelSpec("asked", "asked load", "asked supply", "meter", "meter"),
                ChannelSpec("registers", "register load", "register supply", "register meter", "register meter"),
            ),
        )  # fmt: skip
        self.now = 0.0

    def channel(self, name: str = "one") -> BenchChannel:
        return BenchChannel(self.equipment, self.equipment.channel(name), clock=lambda: self.now)

    def loop(
        self, recipe: Recipe, channel: str = "one", interval: float = 1.0, **more: object
    ) -> tuple[RunLoop, Kept, BenchChannel]:
        made, kept = self.channel(channel), Kept()
        return RunLoop(recipe, made, kept, interval, **more), kept, made  # type: ignore[arg-type]

    def pass_time(self, seconds: float) -> None:
        self.world.advance(seconds)
        self.now += seconds

    def tick(self, loop: RunLoop, times: int = 1, seconds: float = 1.0):
        """Let time pass and look, so many times or until it is over and settled; the last snapshot."""
        seen = loop.snapshot()
        for _ in range(times):
            self.pass_time(seconds)
            seen = loop.tick()
            if seen.ended and seen.settled:
                break
        return seen


def hold(amps: float = 2.0, seconds: float = 1e6, *more: EndRule) -> Recipe:
    rules = (*more, EndRule("time", seconds, EndCause.TIME))
    return Recipe("hold", "Hold", 1, (Step("discharge", "Hold", "current", amps, rules),), STOPS)
