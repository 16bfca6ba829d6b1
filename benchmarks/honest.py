"""Benches at which nothing is wrong: what stops there, or is told, that should not be? `python -m benchmarks.honest [--count N] [--first S]`

Families of 2 to 16 cells, meters good to 0.1 to 1 %, coarse and fine, a charger whose limit is a little off, readings every
second to every half a minute. Whatever ends by something else than the recipe's own ends is printed, and what is warned of
is counted. Exit 1 where a run was stopped.
"""

from __future__ import annotations

import argparse
import sys
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from random import Random

from wintry_tally.bench.connect import BenchChannel
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.interfaces import Channel
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.simulated import MeterSpec, SimulatedChannel
from wintry_tally.bench.simulation import Keeper, SimulatedBattery
from wintry_tally.bench.stand_ins.direct import direct_drivers
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.bench.vigil import Body, Vigil
from wintry_tally.core.battery import Family, family_named, pack_of
from wintry_tally.core.cell import Parameters
from wintry_tally.core.engine import Phase, Request
from wintry_tally.core.engine.kind_band import KindBand
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.room import ROOM_C
from wintry_tally.exchange.recipe_file import shipped_recipe

KINDS = {
    "lfp": (12.8, 25.6, 51.2), "nmc": (14.8, 29.6), "agm": (6.0, 12.0, 24.0, 48.0), "gel": (12.0,), "flooded": (12.0, 24.0),
}  # fmt: skip
LITHIUM = ("charge-lithium-full", "charge-lithium-usual", "capacity-reference", "reference-cycle", "two-rates")
LEAD = ("charge-lead-acid", "capacity-reference", "reference-cycle", "staged-discharge")


Made = tuple[Channel, Callable[[float], None], StandInWorld | None]


@dataclass(frozen=True)
class Prepared:
    """A run at a right bench, before it begins; `world`: its stand-ins, where it speaks to such."""

    what: str
    family: Family
    parameters: Parameters
    spec: MeterSpec
    loop: RunLoop
    keeper: Keeper
    pass_time: Callable[[float], None]
    world: StandInWorld | None

    def tick(self) -> None:
        """One look, after its time; whoever is asked answers."""
        if self.loop.state.phase is Phase.PROMPTING:
            self.loop.ask(Request("answer", words="as it should be"))
            return
        self.pass_time(self.loop.interval_s)
        self.loop.tick()


def _simulated(parameters: Parameters, spec: MeterSpec, seed: int, full: float) -> Made:
    """The bench in fast time, which lets its own time pass."""
    return (
        SimulatedChannel(parameters, spec, seed, power_W=1e9, current_A=1e9, charger=(1e9, 1e9), state_of_charge=full),
        lambda _: None,
        None,
    )


def _bench(parameters: Parameters, spec: MeterSpec, seed: int, full: float, family: Family) -> Made:
    """Load, supply, meter and thermometer as instruments, each with errors of its own, spoken to without lines."""
    world = StandInWorld(parameters, spec, seed, ROOM_C, full, 1e9, 1e9, family.cells, lead_ohm=0.004)
    said = {
        "voltage_accuracy": spec.voltage_accuracy, "current_accuracy": spec.current_accuracy,
        "voltage_resolution": spec.voltage_resolution, "current_resolution": spec.current_resolution,
    }  # fmt: skip
    equipment = Equipment(
        (
            Instrument("load", "load", address="x:1", **said), Instrument("supply", "charger", address="x:2", **said),
            Instrument("meter", address="x:3", **said), Instrument("thermometer", "thermometer", address="x:4"),
        ),
        (ChannelSpec("one", "load", "supply", "meter", "meter", "thermometer"),),
    )  # fmt: skip
    at = [0.0]

    def pass_time(seconds: float) -> None:
        world.advance(seconds)
        at[0] += seconds

    return BenchChannel(equipment, equipment.channel("one"), lambda: at[0], direct_drivers(world)), pass_time, world


def prepared(seed: int, over_instruments: bool) -> Prepared:
    """One of them, over its own instruments or in fast time."""
    dice = Random(seed)
    kind = dice.choice(list(KINDS))
    nominal_V, rated = dice.choice(KINDS[kind]), dice.choice((12.0, 40.0, 100.0, 280.0))
    family = pack_of(family_named(kind), nominal_V)
    name = dice.choice(LITHIUM if family.lithium else LEAD)
    spec = MeterSpec(
        dice.choice(("0.1%+2d", "0.5%+2d", "1%+2d")), dice.choice(("0.5%+2d", "1%+3d", "2%+5d")),
        dice.choice((0.001, 0.01)), dice.choice([digit for digit in (0.001, 0.01, 0.1) if digit <= 0.002 * rated]),
    )  # fmt: skip
    spec = MeterSpec(
        spec.voltage_accuracy, spec.current_accuracy, spec.voltage_resolution, spec.current_resolution,
        dice.uniform(0.1, 1.2) * spec.voltage_resolution, dice.uniform(0.1, 1.2) * spec.current_resolution,
    )  # fmt: skip
    parameters = SimulatedBattery(family, rated, cycles=dice.choice((0, 0, 300))).parameters(dice)
    interval_s, full = dice.choice((2.0, 5.0, 10.0, 30.0)), dice.uniform(0.3, 0.6) if name.startswith("charge") else 1.0
    channel, pass_time, world = (
        _bench(parameters, spec, seed, full, family) if over_instruments else _simulated(parameters, spec, seed, full)
    )
    usual = SimulatedBattery(family, rated).parameters(Random(0))
    vigil = Vigil(
        Body(usual.mass_kg * usual.heat_J_kgK, usual.capacity_Ah),
        channel.zero_A() or 0.1,
        KindBand(family, rated, usual),
    )
    keeper = Keeper()
    recipe = fill(shipped_recipe(name), Facts(family, rated, ()))
    loop = RunLoop(recipe, channel, keeper, interval_s, vigil=vigil)  # type: ignore[arg-type]
    what = f"{seed}: {name} of {family.key} {nominal_V:g} V {rated:g} Ah, V {spec.voltage_accuracy} {spec.voltage_resolution:g}, A {spec.current_accuracy} {spec.current_resolution:g}, every {interval_s:g} s"
    return Prepared(what, family, parameters, spec, loop, keeper, pass_time, world)


def run(seed: int) -> tuple[str, str, Counter[str]]:
    """One of them: what it was, how it ended, how often what was told."""
    made = prepared(seed, bool(seed % 2))
    loop, keeper = made.loop, made.keeper
    loop.start()
    while loop.state.phase is not Phase.ENDED and len(keeper.rows) < 400_000:
        made.tick()
    told = Counter(
        f"{event.kind}: {getattr(event.message, 'code', event.message)}"
        for event in keeper.kept
        if event.kind in {"warning", "stop", "refused", "alarm"}
    )
    last = next((str(event.message) for event in reversed(keeper.kept) if event.kind in {"stop", "refused"}), "")
    return made.what, f"{loop.state.cause}: {last}" if last else "", told


def main() -> int:
    """Try so many."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--first", type=int, default=1)
    asked = parser.parse_args()
    told, stopped = Counter[str](), 0
    for seed in range(asked.first, asked.first + asked.count):
        what, wrong, seen = run(seed)
        told += seen
        if wrong:
            stopped += 1
            print(what, "\n      ", wrong, flush=True)
    print(f"{stopped} of {asked.count} stopped; told: {dict(told)}")
    return 1 if stopped else 0


if __name__ == "__main__":
    sys.exit(main())
