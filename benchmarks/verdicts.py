"""How often verdicts are right on simulated batteries whose truth is known; see README.md beside this file.

Each test is simulated with a meter whose errors are drawn from its specification, written as a log, and judged from a
claims file as `wintry-tally judge` does. What a claim says is drawn around the truth, so that about half of the claims
hold. A verdict is wrong when it says met of a claim that does not hold, or missed of one that does.

With --dirty, each log is judged again with each of the flaws of `dirt.py` in it: a gap, a zero error, a stop by hand...

.venv/bin/python -m benchmarks.verdicts [--count 40] [--first 1] [--dirty] [KIND ...]
"""

from __future__ import annotations

import argparse
import json
import tempfile
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from random import Random
from typing import Any

from benchmarks.dirt import OF_THE_BENCH, OF_THE_METER, UNSEEN, VARIANTS
from wintry_tally.bench.simulated import MeterSpec
from wintry_tally.bench.simulation import Simulated, SimulatedBattery, simulate
from wintry_tally.cli.judging import judge_file
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.battery import Claim, family_named
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.exchange.recipe_file import shipped_recipe
from wintry_tally.exchange.writer import HEADERS, write_log

METER = MeterSpec("0.2%+2d", "0.6%+3d")
IDEAL = MeterSpec("0%", "0%", 1e-6, 1e-6, 0.0, 0.0)


@dataclass(frozen=True)
class Trial:
    """One claim with its log: what is claimed, whether it truly holds, and how it is judged."""

    claim: dict[str, Any]
    holds: bool
    method: str
    log: Simulated
    battery: SimulatedBattery
    options: dict[str, Any]
    others: tuple[Simulated, ...] = ()


def _run(
    recipe: str, battery: SimulatedBattery, seed: int, claims: tuple[Claim, ...] = (), meter: MeterSpec = METER,
    interval: float = 10.0,
) -> Simulated:  # fmt: skip
    facts = Facts(battery.family, battery.rated_Ah, claims)
    return simulate(fill(shipped_recipe(recipe), facts), battery, seed, interval, meter)


def _said(random: Random, truth: float, spread: float = 0.05) -> float:
    """A claim drawn around the truth."""
    return float(f"{truth * (1.0 + random.uniform(-spread, spread)):.4g}")


def _counted(key: str) -> Callable[[Random, int], Trial]:
    def trial(random: Random, seed: int) -> Trial:
        family = random.choice(["lfp", "nmc", "agm"])
        battery = SimulatedBattery(family_named(family), random.choice([20.0, 40.0]), health=random.uniform(0.85, 1.05))
        truth = _run("capacity-reference", battery, seed, meter=IDEAL)
        analysed = analyse(truth.trace, Options(family=battery.family, rated_Ah=battery.rated_Ah)).capacity
        assert analysed is not None
        true = analysed.count.charge.value if key == "capacity" else analysed.count.energy.value
        value = _said(random, true)
        claim = {"kind": key, "value": value, "unit": "Ah" if key == "capacity" else "Wh", "direction": "at-least"}
        return Trial(claim, true >= value, "capacity", _run("capacity-reference", battery, seed), battery, {})

    return trial


def _efficiency(random: Random, seed: int) -> Trial:
    battery = SimulatedBattery(
        family_named(random.choice(["lfp", "nmc", "agm"])), 20.0, health=random.uniform(0.85, 1.05)
    )
    battery = replace(battery, state_of_charge=0.0) if random.random() < 0.3 else battery
    options = Options(family=battery.family, rated_Ah=battery.rated_Ah)
    analysed = analyse(_run("reference-cycle", battery, seed, meter=IDEAL).trace, options).efficiency
    assert analysed is not None
    true = analysed.energy.value
    value = round(true + random.uniform(-3.0, 3.0), 1)
    claim = {"kind": "efficiency", "value": value, "unit": "%", "direction": "at-least"}
    return Trial(claim, true >= value, "capacity", _run("reference-cycle", battery, seed), battery, {})


def _reserve(random: Random, seed: int) -> Trial:
    battery = SimulatedBattery(family_named("flooded"), random.choice([60.0, 75.0]), ambient_C=25.0)
    claims = (Claim("reserve", 100.0, "min", "at-least"),)
    truth = analyse(_run("reserve", battery, seed, claims, IDEAL).trace, Options(family=battery.family)).reserve
    assert truth is not None
    value = _said(random, truth.minutes.value)
    claim = {"kind": "reserve", "value": value, "unit": "min", "direction": "at-least"}
    log = _run("reserve", battery, seed, claims)
    return Trial(claim, truth.minutes.value >= value, "reserve", log, battery, {"ambient": 25.0})


def _trip(random: Random, seed: int) -> Trial:
    opens = random.uniform(70.0, 130.0)
    battery = SimulatedBattery(family_named("lfp"), 40.0, protection={"over_current_A": opens})
    centre = float(f"{opens + random.uniform(-25.0, 25.0):.3g}")
    claim = {
        "kind": "over-current-trip", "value": centre, "unit": "A", "direction": "within", "tolerance": 15.0,
        "conditions": {"duration_s": 10.0},
    }  # fmt: skip
    claims = (Claim("over-current-trip", centre, "A", "within", 15.0, {"duration_s": 10.0}),)
    log = _run("overload-trip", battery, seed, claims, interval=0.2)
    return Trial(claim, abs(opens - centre) <= 15.0, "overload", log, battery, {})


def _hold(random: Random, seed: int) -> Trial:
    opens = random.uniform(30.0, 80.0)
    battery = SimulatedBattery(family_named("lfp"), 40.0, protection={"over_current_A": opens})
    value = float(f"{opens * random.uniform(0.7, 1.3):.3g}")
    claim = {
        "kind": "continuous-discharge", "value": value, "unit": "A", "direction": "at-least",
        "conditions": {"duration_s": 120.0},
    }  # fmt: skip
    claims = (Claim("continuous-discharge", value, "A", "at-least", 0.0, {"duration_s": 120.0}),)
    return Trial(claim, opens > value, "hold", _run("hold", battery, seed, claims, interval=0.5), battery, {})


def _low_cut(random: Random, seed: int) -> Trial:
    cuts = random.uniform(9.0, 11.0)
    battery = SimulatedBattery(family_named("lfp"), 20.0, protection={"low_cut_V": cuts})
    value = round(cuts + random.uniform(-0.8, 0.8), 2)
    claim = {"kind": "low-voltage-cut", "value": value, "unit": "V", "direction": "within", "tolerance": 0.3}
    log = _run("low-voltage-cut", battery, seed, interval=2.0)
    return Trial(claim, abs(cuts - value) <= 0.3, "capacity", log, battery, {})


def _block(random: Random, seed: int) -> Trial:
    protects = random.random() < 0.5
    cold = random.uniform(-15.0, -4.0)
    block = 0.0 if protects else -60.0
    battery = SimulatedBattery(
        family_named("lfp"), 20.0, state_of_charge=0.5, ambient_C=20.0, start_C=cold,
        protection={"cold_block_C": block, "cold_release_C": block + 4.0},
    )  # fmt: skip
    claim = {"kind": "cold-charge-block", "value": True, "conditions": {"temperature_C": 0.0}}
    log = _run("charge-block", battery, seed, interval=0.5)
    return Trial(claim, protects, "charge-block", log, battery, {})


def _charge_time(random: Random, seed: int) -> Trial:
    battery = SimulatedBattery(family_named("lfp"), 20.0, state_of_charge=0.02, health=random.uniform(0.9, 1.05))
    ideal = _run("charge-lithium-usual", battery, seed, meter=IDEAL)
    truth = analyse(ideal.trace, Options(family=battery.family, rated_Ah=20.0)).charge
    assert truth is not None and truth.time_to_full_s is not None
    hours = truth.time_to_full_s / 3600.0
    value = _said(random, hours, 0.15)
    claim = {"kind": "charge-time", "value": value, "unit": "h", "direction": "at-most"}
    # people charge what they have, not what is empty: a third of the logs begin with something in it
    begun = battery if random.random() < 0.67 else replace(battery, state_of_charge=random.uniform(0.05, 0.7))
    return Trial(claim, hours <= value, "charge", _run("charge-lithium-usual", begun, seed), battery, {})


def _surge(random: Random, seed: int) -> Trial:
    opens = random.uniform(60.0, 140.0)
    battery = SimulatedBattery(family_named("lfp"), 40.0, protection={"over_current_A": opens, "over_delay_s": 1.0})
    value = float(f"{opens * random.uniform(0.75, 1.25):.3g}")
    conditions = {"duration_s": 5.0}
    claim = {"kind": "surge", "value": value, "unit": "A", "direction": "at-least", "conditions": conditions}
    claims = (Claim("surge", value, "A", "at-least", 0.0, conditions),)
    return Trial(claim, opens > value, "surge", _run("surge", battery, seed, claims, interval=0.2), battery, {})


def _heater_power(random: Random, seed: int) -> Trial:
    watts = random.uniform(40.0, 90.0)
    battery = SimulatedBattery(
        family_named("lfp"), 60.0, state_of_charge=0.2, ambient_C=-12.0, start_C=random.uniform(-20.0, -10.0),
        heater={"power_W": watts, "on_below_C": 2.0, "off_above_C": 6.0},
    )  # fmt: skip
    value = _said(random, watts, 0.15)
    claim = {"kind": "heater-power", "value": value, "unit": "W", "direction": "at-least"}
    return Trial(claim, watts >= value, "heater", _run("heater", battery, seed, interval=5.0), battery, {})


def _runtime(random: Random, seed: int) -> Trial:
    battery = SimulatedBattery(family_named("lfp"), 20.0, health=random.uniform(0.9, 1.05))
    conditions = {"device_A": 1.5, "dropout_V": 12.0}
    claims = (Claim("runtime", 10.0, "h", "at-least", 0.0, conditions),)
    ideal = _run("capacity-device", battery, seed, claims, IDEAL, 20.0)
    usable = analyse(ideal.trace, Options(family=battery.family, rated_Ah=20.0, dropouts_V=(12.0,))).usable[0]
    hours = usable.charge.value / 1.5
    value = _said(random, hours)
    claim = {"kind": "runtime", "value": value, "unit": "h", "direction": "at-least", "conditions": conditions}
    log = _run("capacity-device", battery, seed, claims, METER, 20.0)
    return Trial(claim, hours >= value, "runtime", log, battery, {"device_dropout": [12.0]})


def _over_voltage(random: Random, seed: int) -> Trial:
    cuts = random.uniform(14.55, 14.85)
    battery = SimulatedBattery(
        family_named("lfp"), 20.0, state_of_charge=0.9, protection={"high_cut_V": cuts, "high_release_V": 14.0}
    )
    value = round(cuts + random.uniform(-0.6, 0.6), 2)
    claim = {"kind": "over-voltage-cut", "value": value, "unit": "V", "direction": "within", "tolerance": 0.2}
    recipe = shipped_recipe("charge-lithium-usual")
    facts = Facts(battery.family, battery.rated_Ah, (Claim("charge-voltage", 14.95, "V", "within", 0.1),))
    filled = fill(recipe, facts)
    steps = tuple(replace(step, limit_V=14.95) if step.kind == "charge" else step for step in filled.steps)
    log = simulate(replace(filled, steps=steps), battery, seed, 2.0, METER)
    return Trial(claim, abs(cuts - value) <= 0.2, "charge", log, battery, {})


def _cold_loss(random: Random, seed: int) -> Trial:
    cold = random.uniform(-15.0, 5.0)
    battery = SimulatedBattery(family_named(random.choice(["lfp", "agm"])), 20.0, health=random.uniform(0.9, 1.0))
    frozen = replace(battery, ambient_C=cold, start_C=cold)

    def drawn(one: SimulatedBattery) -> float:
        ideal = _run("capacity-reference", one, seed, meter=IDEAL)
        test = analyse(ideal.trace, Options(family=battery.family, rated_Ah=20.0)).capacity
        assert test is not None
        return test.count.charge.value

    loss = 100.0 * (1.0 - drawn(frozen) / drawn(battery))
    value = float(f"{max(0.1, loss + random.uniform(-5.0, 5.0)):.3g}")
    claim = {"kind": "cold-loss", "value": value, "unit": "%", "direction": "at-most"}
    cold_log, warm_log = (_run("capacity-reference", one, seed) for one in (frozen, battery))
    return Trial(claim, loss <= value, "cold-loss", cold_log, battery, {}, (warm_log,))


def _self_discharge(random: Random, seed: int) -> Trial:
    months = random.choice([3.0, 6.0, 12.0])
    monthly = random.uniform(0.5, 4.0)
    family = random.choice(["lfp", "agm"])
    before = SimulatedBattery(family_named(family), 40.0, state_of_charge=0.7)
    full = _run("shelf-end", before, seed, meter=IDEAL, interval=20.0).truth["state_of_charge"]
    battery = replace(before, state_of_charge=full - monthly * months / 100.0)
    log = _run("shelf-end", battery, seed, interval=20.0)
    monthly *= float(log.truth["battery"]["capacity_Ah"]) / 40.0
    value = _said(random, monthly, 0.25)
    claim = {
        "kind": "self-discharge", "value": value, "unit": "%/month", "direction": "at-most",
        "conditions": {"months": months},
    }  # fmt: skip
    return Trial(claim, monthly <= value, "self-discharge", log, battery, {})


def _heater_time(random: Random, seed: int) -> Trial:
    stops = random.uniform(3.0, 12.0)
    battery = SimulatedBattery(
        family_named("lfp"), 60.0, state_of_charge=0.2, ambient_C=-12.0, start_C=random.uniform(-18.0, -8.0),
        heater={"power_W": random.uniform(60.0, 120.0), "on_below_C": 2.0, "off_above_C": stops},
    )  # fmt: skip
    ideal = analyse(_run("heater", battery, seed, meter=IDEAL, interval=5.0).trace, Options(family=battery.family, rated_Ah=60.0)).charge  # fmt: skip
    assert ideal is not None and ideal.heating is not None
    minutes = ideal.heating.duration_s / 60.0
    value = _said(random, minutes, 0.2)
    claim = {"kind": "heater-time", "value": value, "unit": "min", "direction": "at-most"}
    return Trial(claim, minutes <= value, "heater", _run("heater", battery, seed, interval=5.0), battery, {})


KINDS: dict[str, Callable[[Random, int], Trial]] = {
    "capacity": _counted("capacity"),
    "energy": _counted("energy"),
    "reserve": _reserve,
    "over-current-trip": _trip,
    "continuous-discharge": _hold,
    "low-voltage-cut": _low_cut,
    "cold-charge-block": _block,
    "charge-time": _charge_time,
    "surge": _surge,
    "heater-power": _heater_power,
    "runtime": _runtime,
    "over-voltage-cut": _over_voltage,
    "cold-loss": _cold_loss,
    "self-discharge": _self_discharge,
    "heater-time": _heater_time,
    "efficiency": _efficiency,
}


def _by_the_clock(row: str) -> str:
    """A row whose time, in s, is written as hours and minutes."""
    seconds, _, rest = row.partition(",")
    minutes = round(float(seconds) / 60.0)
    return f"{minutes // 60}:{minutes % 60:02},{rest}"


UNNAMED = {HEADERS["time_s"]: "Time", HEADERS["temperature_C"]: "Temp"}


def judged(trial: Trial, folder: Path, flaw: str = "", dice: Random | None = None) -> dict[str, Any]:
    """The verdict on a trial's claim, through files as a stranger's would go; with a flaw in its log where one is named."""
    dice = dice or Random(1)
    trace, changed = trial.log.trace, dict[str, Any]()
    others = [other.trace for other in trial.others]
    for one in filter(None, flaw.split("+")):  # two at once: one after the other
        fixed = dice.getstate()
        trace, more = VARIANTS[one](trace, dice)
        for place, other in enumerate(others if one in OF_THE_METER else ()):
            dice.setstate(fixed)
            others[place] = VARIANTS[one](other, dice)[0]
        changed |= more
    names = ["run.csv", *(f"run{number}.csv" for number, _ in enumerate(others, 2))]
    for name, one in zip(names, [trace, *others], strict=True):
        write_log(one, folder / name)
        if one.unnamed:
            head, _, rows = (folder / name).read_text(encoding="utf-8").partition("\n")
            named = ",".join(UNNAMED.get(column, column) for column in head.split(","))
            if "clock" in one.unnamed:
                rows = "".join(_by_the_clock(row) for row in rows.splitlines(keepends=True))
            (folder / name).write_text(f"{named}\n{rows}", encoding="utf-8")
    options = {"voltage_accuracy": METER.voltage_accuracy, "current_accuracy": METER.current_accuracy}
    options |= trial.options | changed
    claims = {
        "battery": {
            "maker": "Invented", "model": "Simulated", "family": trial.battery.family.key,
            "nominal_V": trial.battery.family.nominal_V, "rated_Ah": trial.battery.rated_Ah,
        },
        "claim": [{"source": "label", **trial.claim}],
        "evidence": [{"method": trial.method, "options": options} | ({"log": names[0]} if len(names) == 1 else {"logs": names})],
    }  # fmt: skip
    path = folder / "claims.json"
    path.write_text(json.dumps(claims), encoding="utf-8")
    try:
        verdict: dict[str, Any] = judge_file(path, "strict")["claims"][0]
    except InputError:  # a flaw that leaves next to nothing: the log is refused
        return {"outcome": "refused", "measured": None, "required": {"value": False}}
    return verdict


FAR = 3.0
TWO = "two"
"""The beginning of the name of a place for two flaws drawn at random."""


def far_off(trial: Trial, verdict: dict[str, Any]) -> bool:
    """Whether what was measured lies more than three of its own standard uncertainties from the claim's limits."""
    found, value = verdict["measured"], verdict["required"]["value"]  # in the kept unit, as what was measured is
    if found is None or found["expanded"] is None or isinstance(value, bool):
        return True
    wide = trial.claim.get("tolerance", 0.0)
    return min(abs(found["value"] - value - wide), abs(found["value"] - value + wide)) > FAR * found["expanded"] / found["k"]  # fmt: skip


def score(kind: str, count: int, first: int = 1, flaws: tuple[str, ...] = ("",)) -> dict[str, Counter[str]]:
    """Right, wrong and open verdicts of a kind by flaw, on batteries drawn from seed `first` on."""
    tallies: dict[str, Counter[str]] = {flaw: Counter() for flaw in flaws}
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(first, first + count):
            trial = KINDS[kind](Random(1000 * seed + len(kind)), seed)
            pairs = Random(seed)
            for name in flaws:
                tally, flaw = tallies[name], name
                if name.startswith(TWO):
                    # what a bench and a meter do to every reading comes before what becomes of its log
                    drawn = pairs.sample(sorted(set(VARIANTS) - UNSEEN), 2)
                    flaw = "+".join(sorted(drawn, key=lambda one: one not in OF_THE_BENCH))
                verdict = judged(trial, Path(folder), flaw, Random(seed))
                outcome = verdict["outcome"]
                if outcome in {"met", "missed"}:
                    right = (outcome == "met") == trial.holds
                    tally["right" if right else "wrong"] += 1
                    if not right:
                        holds = "holds" if trial.holds else "does not hold"
                        print(f"      seed {seed} {flaw or 'clean'}: {outcome}, and it {holds}: {trial.claim}")
                else:
                    tally[outcome] += 1
                    tally["open though far off"] += far_off(trial, verdict)
    return tallies


def main() -> None:
    """Score the kinds asked for, or all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("kinds", nargs="*", default=[], metavar="KIND")
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--first", type=int, default=1, help="the first seed; others are other batteries")
    parser.add_argument("--dirty", action="store_true", help="each log again with each flaw in it")
    parser.add_argument("--flaw", action="append", choices=list(VARIANTS), help="with these flaws only")
    parser.add_argument("--pairs", type=int, metavar="N", help="each log with two flaws at once, so many times")
    asked = parser.parse_args()
    flaws = tuple(asked.flaw or (("", *VARIANTS) if asked.dirty else ("",)))
    flaws = tuple(f"{TWO} {number}" for number in range(1, asked.pairs + 1)) if asked.pairs else flaws
    for kind in asked.kinds or KINDS:
        for flaw, tally in score(kind, asked.count, asked.first, flaws).items():
            decided = tally["right"] + tally["wrong"]
            share = f"{100 * tally['wrong'] / decided:4.1f} % wrong" if decided else "none decided"
            rest = ", ".join(f"{n} {outcome}" for outcome, n in tally.items() if outcome not in {"right", "wrong"})
            print(
                f"{kind:22} {flaw or 'clean':11} {decided:4} decided, {share}{'; ' + rest if rest else ''}", flush=True
            )


if __name__ == "__main__":
    main()
