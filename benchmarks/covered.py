"""How often the interval of each kind of figure covers the truth, and how wide it is; see README.md beside this file.

    python -m benchmarks.covered [KIND …] [--count 200] [--batteries 6] [--settling]

Tests are simulated with a perfect meter, which tells the truth; then read again and again by meters whose gain, zero,
last digit and noise are drawn from their specification, the zero at rest too. `width` is the mean expanded uncertainty
over twice the standard deviation that the errors truly had: 1 is as narrow as it can honestly be.

With --settling: claims are drawn near the truth until one is too close to call; then the reading that the advice names is
taken (the meter's errors shrink as it says), and how often that settles the claim is counted.
"""

from __future__ import annotations

import argparse
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cache
from random import Random

import numpy as np

from benchmarks.verdicts import IDEAL
from wintry_tally.bench.simulation import SimulatedBattery, simulate
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse
from wintry_tally.core.analysis.cold import loss
from wintry_tally.core.analysis.rate import RatePoint, rate_law
from wintry_tally.core.battery import Claim, family_named
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.quantity import Quantity, parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict.settling import MET_Z, REMEDIES, SURE, settling
from wintry_tally.exchange.recipe_file import shipped_recipe

Figures = dict[str, Quantity]


@dataclass(frozen=True)
class Meter:
    """One meter's specification and its own errors, drawn once."""

    voltage: str
    current: str
    step_V: float
    step_A: float

    def read(self, trace: Trace, dice: np.random.Generator, errors: tuple[float, ...]) -> Trace:
        """What it shows of what truly was."""
        gain_V, zero_V, gain_A, zero_A = errors
        volts = trace.voltage_V * (1.0 + gain_V) + zero_V + 0.4 * self.step_V * dice.standard_normal(len(trace))
        amps = trace.current * (1.0 + gain_A) + zero_A + 0.4 * self.step_A * dice.standard_normal(len(trace))
        return replace(
            trace,
            voltage_V=np.round(volts / self.step_V) * self.step_V, current_A=np.round(amps / self.step_A) * self.step_A,
            resolution={"voltage_V": self.step_V, "current_A": self.step_A},
        )  # fmt: skip

    def drawn(self, dice: np.random.Generator) -> tuple[float, ...]:
        """Its gain and zero errors: uniform within the limits that its specification states."""
        errors: list[float] = []
        for words, step in ((self.voltage, self.step_V), (self.current, self.step_A)):
            accuracy = parse_accuracy(words)
            errors += [a * math.sqrt(3.0) * dice.uniform(-1.0, 1.0) for a in (accuracy.gain_standard(), accuracy.offset_standard(step))]  # fmt: skip
        return tuple(errors)

    @property
    def instrument(self) -> Instrument:
        """As the analysis knows it."""
        return Instrument(parse_accuracy(self.voltage), parse_accuracy(self.current))


METERS = {
    "bench": Meter("0.05%+2d", "0.1%+3d", 0.001, 0.001),
    "hand": Meter("0.5%+2d", "1%+3d", 0.01, 0.01),
    "zero": Meter("0.1%+5d", "0.3%+0.05", 0.001, 0.001),
    "clamp": Meter("0.5%+1d", "1%+0.1", 0.01, 0.01),
}


@cache
def true_log(recipe: str, family: str, rated: float, seed: int, ambient: float = 23.0, charged: float = 1.0, health: float = 1.0, claim: tuple[str, float, str] | None = None, interval: float = 5.0) -> Trace:  # fmt: skip
    """A test read by a perfect meter."""
    battery = SimulatedBattery(family_named(family), rated, health, state_of_charge=charged, ambient_C=ambient, start_C=ambient)  # fmt: skip
    claims = () if claim is None else (Claim(claim[0], claim[1], claim[2], "at-least"),)  # type: ignore[arg-type]
    filled = fill(shipped_recipe(recipe), Facts(battery.family, rated, claims))
    return simulate(filled, battery, seed, interval, IDEAL).trace


def found(trace: Trace, family: str, rated: float, instrument: Instrument, **more: object) -> Analysis:
    """Its analysis."""
    return analyse(trace, Options(family_named(family), rated, instrument, **more))  # type: ignore[arg-type]


Read = Callable[[Trace], Trace]
"""A meter at a log."""


def counted(seed: int, read: Read, instrument: Instrument) -> Figures:
    family, rated = [("lfp", 20.0), ("agm", 40.0), ("nmc", 20.0)][seed % 3]
    dropouts = {"lfp": (12.0, 12.9), "agm": (11.0, 11.9), "nmc": (9.8, 10.8)}[family]
    analysis = found(read(true_log("capacity-reference", family, rated, seed)), family, rated, instrument, dropouts_V=dropouts)  # fmt: skip
    assert analysis.capacity is not None
    knee, flat = (usable.charge for usable in analysis.usable)
    return {"capacity": analysis.capacity.count.charge, "energy": analysis.capacity.count.energy, "usable, knee": knee, "usable, flat": flat}  # fmt: skip


def reserve(seed: int, read: Read, instrument: Instrument) -> Figures:
    log = read(true_log("reserve", "flooded", 75.0, seed, 25.0, claim=("reserve", 6000.0, "s")))
    analysis = found(log, "flooded", 75.0, instrument, ambient_C=25.0)
    return {} if analysis.reserve is None else {"reserve": analysis.reserve.minutes}


def steps(seed: int, read: Read, instrument: Instrument) -> Figures:
    log = read(true_log("resistance-steps", "lfp", 20.0, seed, charged=0.6, interval=0.5))
    ohms = found(log, "lfp", 20.0, instrument).resistance
    return {"resistance": ohms[0].ohm} if ohms else {}


def charging(seed: int, read: Read, instrument: Instrument) -> Figures:
    charge = found(read(true_log("charge-lithium-usual", "lfp", 20.0, seed, charged=0.1)), "lfp", 20.0, instrument).charge  # fmt: skip
    assert charge is not None
    figures = {"charge": charge.count.charge}
    if charge.time_to_full_s is not None:
        figures["charge time"] = Quantity(charge.time_to_full_s, math.hypot(charge.full_doubt_s, 2.0), "s")
    return figures


def cycle(seed: int, read: Read, instrument: Instrument) -> Figures:
    efficiency = found(read(true_log("reference-cycle", "lfp", 20.0, seed, charged=0.3)), "lfp", 20.0, instrument).efficiency  # fmt: skip
    return {} if efficiency is None else {"coulombic efficiency": efficiency.coulombic}


def cold(seed: int, read: Read, instrument: Instrument) -> Figures:
    both = [found(read(true_log("capacity-reference", "lfp", 20.0, seed, ambient)), "lfp", 20.0, instrument).capacity for ambient in (-10.0, 23.0)]  # fmt: skip
    assert both[0] is not None and both[1] is not None
    return {"cold loss": loss(both[0].count.charge, both[1].count.charge)[0]}


def rates(seed: int, read: Read, instrument: Instrument) -> Figures:
    """The charge at a rate between those tested; the truth of it is a discharge at that rate."""
    points = []
    wanted = 4.0
    for amps in (2.0, 8.0):
        test = found(read(_at_rate(amps, seed)), "agm", 40.0, instrument).capacity
        assert test is not None
        points.append(RatePoint(f"{amps:g} A", test.count.mean_current.value, test.count.charge))
    if instrument.current is None:
        test = found(_at_rate(wanted, seed), "agm", 40.0, instrument).capacity
        assert test is not None
        return {"rate prediction": test.count.charge}
    return {"rate prediction": rate_law(points).charge_at(wanted)}


@cache
def _at_rate(amps: float, seed: int) -> Trace:
    battery = SimulatedBattery(family_named("agm"), 40.0)
    filled = fill(shipped_recipe("capacity-reference"), Facts(battery.family, 40.0, ()))
    stages = tuple(replace(step, setting=amps) if step.kind == "discharge" else step for step in filled.steps)
    stops = replace(filled.stops, current_high_A=100.0, power_high_W=1e4)
    return simulate(replace(filled, steps=stages, stops=stops), battery, seed, 10.0, IDEAL).trace


KINDS: dict[str, Callable[[int, Read, Instrument], Figures]] = {
    "counted": counted, "reserve": reserve, "resistance": steps, "charging": charging, "efficiency": cycle, "cold": cold,
    "rate": rates,
}  # fmt: skip


def tried(kind: str, batteries: int, count: int) -> Iterator[tuple[int, str, str, float, Quantity]]:
    """Battery, meter, figure, truth and what was measured, so often for each battery."""
    for seed in range(1, batteries + 1):
        truth = KINDS[kind](seed, lambda trace: trace, Instrument())
        for name, meter in METERS.items():
            for turn in range(count // batteries):
                dice = np.random.default_rng(Random(f"{kind}{seed}{name}{turn}").getrandbits(32))
                errors = meter.drawn(dice)
                measured = KINDS[kind](seed, lambda trace, m=meter, d=dice, e=errors: m.read(trace, d, e), meter.instrument)  # type: ignore[misc]  # fmt: skip
                for figure, quantity in measured.items():
                    if figure in truth:
                        yield seed, name, figure, truth[figure].value, quantity


def settled(kind: str, batteries: int, count: int) -> dict[str, list[int]]:
    """By meter: claims too close, those for which a reading was named, those it settled, those it settled wrongly."""
    tally: dict[str, list[int]] = {}
    for seed in range(1, batteries + 1):
        truth = KINDS[kind](seed, lambda trace: trace, Instrument())
        for name, meter in METERS.items():
            seen = tally.setdefault(name, [0, 0, 0, 0])
            for turn in range(count // batteries):
                dice = np.random.default_rng(Random(f"{kind}{seed}{name}{turn}").getrandbits(32))
                errors = meter.drawn(dice)
                for figure, quantity in KINDS[kind](seed, lambda t, m=meter, d=dice, e=errors: m.read(t, d, e), meter.instrument).items():  # type: ignore[misc]  # fmt: skip
                    if figure not in truth or not quantity.standard:
                        continue
                    limit = truth[figure].value + dice.uniform(-2.0, 2.0) * quantity.standard
                    if abs(quantity.value - limit) > MET_Z * quantity.standard:
                        continue
                    done, likely = settling(quantity, (limit,))
                    seen[0] += 1
                    if likely < SURE:
                        continue
                    seen[1] += 1
                    again, less = _better(meter, errors, {mark for remedy in done for mark in remedy.marks})
                    better = KINDS[kind](seed, lambda t, m=again, d=dice, e=less: m.read(t, d, e), again.instrument)[figure]  # type: ignore[misc]  # fmt: skip
                    assert better.standard is not None
                    if abs(better.value - limit) > MET_Z * better.standard:
                        seen[2] += 1
                        seen[3] += (better.value > limit) != (truth[figure].value > limit)
    return tally


def _better(meter: Meter, errors: tuple[float, ...], marks: set[str]) -> tuple[Meter, tuple[float, ...]]:
    """The meter once its zero was read, or it was held against a better one."""
    marks = marks | ({"voltage offset"} if "voltage at the mark" in marks else set())
    left = [
        min((remedy.left for remedy in REMEDIES if mark in remedy.marks and mark in marks), default=1.0)
        for mark in ("voltage gain", "voltage offset", "current gain", "current offset")
    ]

    def words(text: str, gain: float, zero: float) -> str:
        accuracy = parse_accuracy(text)
        return f"{accuracy.percent * gain:g}%+{accuracy.absolute * zero:g}+{accuracy.digits * zero:g}d"

    better = replace(meter, voltage=words(meter.voltage, *left[:2]), current=words(meter.current, *left[2:]))
    return better, tuple(error * share for error, share in zip(errors, left, strict=True))


def main() -> None:
    """Try the kinds asked for, or all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("kinds", nargs="*", metavar="KIND")
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--batteries", type=int, default=6)
    parser.add_argument(
        "--settling", action="store_true", help="how often the reading that the advice names settles it"
    )
    asked = parser.parse_args()
    for kind in asked.kinds or KINDS:
        if asked.settling:
            for name, (close, named, done, wrong) in settled(kind, asked.batteries, asked.count).items():
                print(f"{kind:12} {name:6} {close:4} too close, {named:4} with a reading named, {100 * done / max(1, named):4.0f} % settled by it, {wrong} wrongly", flush=True)  # fmt: skip
            continue
        results: dict[tuple[str, str], dict[int, list[tuple[float, float]]]] = {}
        for seed, name, figure, truth, quantity in tried(kind, asked.batteries, asked.count):
            if quantity.expanded:
                pair = ((quantity.value - truth) / abs(truth), quantity.expanded / abs(truth))
                results.setdefault((figure, name), {}).setdefault(seed, []).append(pair)
        for (figure, name), by_seed in sorted(results.items()):
            error, wide = np.array([pair for pairs in by_seed.values() for pair in pairs]).T
            share = 100.0 * float(np.mean(np.abs(error) <= wide))
            widths = [_width(np.array(pairs)) for pairs in by_seed.values()]
            told = f"width {np.nanmean(widths):5.2f}, ± {100 * np.mean(wide):.3g} %, bias {100 * np.mean(error):+.3g} %"
            print(f"{figure:22} {name:6} {share:5.1f} % covered, {told}", flush=True)


def _width(pairs: np.ndarray) -> float:
    """Mean expanded uncertainty over twice what the errors of one battery's readings truly were."""
    error, wide = pairs.T
    true = 2.0 * float(np.sqrt(np.mean(error**2)))
    return float(np.mean(wide)) / true if true else math.nan


if __name__ == "__main__":
    main()
