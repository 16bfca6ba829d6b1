"""How often the proof of connection names a wrong wiring, and bars a right one. `python -m benchmarks.proof [N]`

Over families, sizes, temperatures, charges, meters, leads and recipes; stand-ins without lines (bench/stand_ins/direct).
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from random import Random

from wintry_tally.app.launch import expected_of
from wintry_tally.bench.connect import BenchChannel
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.proving import EVERY_S, ProofPlan, Proving, plan_proof
from wintry_tally.bench.simulated import MeterSpec
from wintry_tally.bench.stand_ins.direct import direct_drivers
from wintry_tally.bench.stand_ins.wiring import WIRINGS
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.book import Run, RunSettings, RunStatus
from wintry_tally.core.battery import Family, family_named, pack_of
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.engine.proof import Ohms, Proof
from wintry_tally.core.protocol.leads import Leads
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.exchange.recipe_file import shipped_recipe

METERS = (
    MeterSpec("0.05%+2d", "0.2%+2d", 0.001, 0.001, 0.0005, 0.0005),
    MeterSpec("0.1%+2d", "0.5%+2d", 0.001, 0.001, 0.0008, 0.0008),
    MeterSpec("0.5%+2d", "1%+3d", 0.001, 0.01, 0.001, 0.005),
    MeterSpec("0.5%+2d", "1.5%+0.1", 0.01, 0.01, 0.004, 0.01),
)
SIZES = (5.0, 12.0, 40.0, 100.0, 200.0)
FAMILIES = ("lfp", "agm", "gel", "flooded", "nmc")
PACKS = {"lfp": (25.6, 51.2), "agm": (24.0, 48.0), "flooded": (24.0,), "nmc": (29.6,)}
OF_12_V = ("other-family", "two-in-series")
"""Wirings that show by what a pack of 12 V is not."""
DISCHARGES = ("capacity-reference", "reference-cycle")
CHARGES = {True: "charge-lithium-usual", False: "charge-lead-acid"}
KNOWN_WITH = frozenset({"other-battery"})
RESOLVED = frozenset({"meter-at-clamps", "other-battery"})
"""Wirings that show only by a resistance: benches on which no meter resolves it (the leads' drop, the pack's sag) are left
out, for nothing could tell it there, and figures that coarse lose nothing by it."""
SAG_DIGITS = 10.0


@dataclass(frozen=True)
class Trial:
    """One bench: what is on it, and how it is wired."""

    family: str
    rated_Ah: float
    meter: MeterSpec
    celsius: float
    state: float
    recipe: str
    leads: Leads
    seed: int
    wiring: tuple[str, ...] = ()
    older: float = 1.0
    nominal_V: float | None = None

    @property
    def pack(self) -> Family:
        """Its family, with its cells in series."""
        return pack_of(family_named(self.family), self.nominal_V)


def drawn(random: Random, wiring: str = "") -> Trial:
    """A bench by chance; one that a wrong wiring can show on."""
    families = ("lfp",) if wiring == "other-family" else FAMILIES
    key = random.choice(families)
    lithium = family_named(key).lithium
    charge = wiring.startswith("charger") or random.random() < 0.3
    recipe = CHARGES[lithium] if charge else random.choice(DISCHARGES)
    return Trial(
        key, random.choice(SIZES), random.choice(METERS), random.uniform(8.0, 38.0) if charge else random.uniform(-8.0, 38.0),
        random.uniform(0.45, 0.75) if charge else random.uniform(0.55, 1.0), recipe, Leads(random.choice((2.5, 6.0, 16.0)), random.uniform(0.5, 2.0)),
        random.randrange(1 << 30), (wiring,) if wiring else (), random.uniform(0.8, 2.2),
        None if wiring in OF_12_V else random.choice((None, None, *PACKS.get(key, ()))),
    )  # fmt: skip


def bench_of(trial: Trial, before: Mapping[str, Ohms] | None = None) -> tuple[StandInWorld, Equipment, ProofPlan]:
    """A bench wired as the trial has it, and what the proof of connection would try on it."""
    family = trial.pack
    usual = parameters_for(family, trial.rated_Ah)
    here = replace(usual, resistance_ohm=usual.resistance_ohm * trial.older, slow_ohm=usual.slow_ohm * trial.older)
    world = StandInWorld(
        here, trial.meter, trial.seed, trial.celsius, trial.state, 3000.0, 200.0, family.cells, trial.wiring,
        trial.leads.ohm + 0.001, parameters_for(family_named("nmc"), trial.rated_Ah),
    )  # fmt: skip
    spec = {
        "voltage_accuracy": trial.meter.voltage_accuracy, "current_accuracy": trial.meter.current_accuracy,
        "voltage_resolution": trial.meter.voltage_resolution, "current_resolution": trial.meter.current_resolution,
    }  # fmt: skip
    equipment = Equipment(
        (
            Instrument("load", "load", address="x:1", power_W=3000.0, current_A=200.0, **spec),
            Instrument("supply", "charger", address="x:2", current_A=100.0, voltage_V=20.0 * family.share, **spec),
            Instrument("meter", address="x:3", **spec), Instrument("second", address="x:4", **spec),
            Instrument("thermometer", "thermometer", address="x:5"), Instrument("pack", "telemetry", "line", "telling-pack", "/x"),
        ),
        (ChannelSpec("one", "load", "supply", "meter", "meter", "thermometer", "second", trial.leads, "pack"),),
    )  # fmt: skip
    recipe = fill(
        shipped_recipe(trial.recipe),
        Facts(family, trial.rated_Ah, limits=equipment.limits(equipment.channel("one")).limits),
    )
    settings = RunSettings(
        family=trial.family,
        nominal_V=trial.nominal_V,
        rated_Ah=trial.rated_Ah,
        ambient_C=round(trial.celsius),
        ambient_stated=True,
        state_of_charge=trial.state,
    )
    run = Run(
        1, 1, "load", "x", "bench", RunStatus.RUNNING, None, None, settings, {}, {}, {}, "", "", "", False, "safe", ""
    )  # type: ignore[arg-type]
    expected = expected_of(run, equipment, equipment.channel("one"), before or {}, recipe)
    plan = plan_proof(recipe, equipment.limits(equipment.channel("one")), trial.rated_Ah, expected)
    return world, equipment, plan


def proved(trial: Trial, before: Mapping[str, Ohms] | None = None) -> Proof:
    """What the proof of connection says on this bench."""
    now = 0.0
    world, equipment, plan = bench_of(trial, before)
    channel = BenchChannel(equipment, equipment.channel("one"), lambda: now, direct_drivers(world))
    proving = Proving(plan, channel)
    channel.carry_out(proving.command)
    for _ in range(80):
        world.advance(EVERY_S)
        now += EVERY_S
        command = proving.see(channel.read(), now)
        if command is not None:
            channel.carry_out(command)
        if proving.done:
            break
    channel.close()
    return proving.proof


def _resolved(trial: Trial, name: str) -> bool:
    """Whether what this wiring changes is more than the meters may err by at all."""
    plan = bench_of(trial)[2]
    usual = parameters_for(trial.pack, trial.rated_Ah)
    if name == "other-battery":
        most = max(plan.draw_A, plan.charge_A)
        return most * trial.older * usual.resistance_ohm >= SAG_DIGITS * trial.meter.voltage_resolution
    amps = plan.draw_A
    sag = amps * trial.older * (usual.resistance_ohm + usual.slow_ohm) * (2.0 if trial.celsius < 10.0 else 1.0)
    share = parse_accuracy(trial.meter.voltage_accuracy).percent / 100.0
    return trial.leads.ohm * amps >= 2.5 * (3.0 * trial.meter.voltage_resolution + 2.0 * share * sag)


def score(count: int, seed: int = 11) -> tuple[Counter[str], dict[str, Counter[str]]]:
    """False bars over so many right benches, and findings over a share of that for each wrong one."""
    random = Random(seed)
    false: Counter[str] = Counter()
    for _ in range(count):
        trial = drawn(random)
        first = proved(trial)
        again = proved(replace(trial, seed=trial.seed + 1), first.ohms)
        for proof in (first, again):
            for finding in proof.findings:
                false[finding.code if finding.bars else f"({finding.code})"] += 1
    wrong = {}
    for name in WIRINGS:
        found: Counter[str] = Counter()
        for _ in range(max(1, count // 20)):
            trial = drawn(random, name)
            while name in RESOLVED and not _resolved(trial, name):
                trial = drawn(random, name)
            proof = proved(trial, proved(replace(trial, wiring=())).ohms if name in KNOWN_WITH else None)
            found[", ".join(item.code for item in proof.findings) or "NOT NAMED"] += 1
        wrong[name] = found
    return false, wrong


def main() -> None:
    """Print both."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    false, wrong = score(count)
    print(f"findings in {2 * count} right benches, (those that do not bar): {dict(false) or 0}")
    missed = total = 0
    for name, found in wrong.items():
        total += sum(found.values())
        missed += found["NOT NAMED"]
        print(f"{name:24} {dict(found.most_common(4))}")
    print(f"named: {100.0 * (total - missed) / total:.2f} % of {total}")


if __name__ == "__main__":
    main()
