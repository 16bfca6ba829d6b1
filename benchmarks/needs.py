"""How often what is said of a need comes true, on simulated batteries that are then run on it to the end.

`python -m benchmarks.needs [N]`: each battery is tested once (its capacity at its reference rate, noisy meters), judged for
a need at other rates and temperatures, and run on that need by the battery model, its devices switching on and off.
"""

from __future__ import annotations

import math
import random
import sys
from collections import defaultdict

from wintry_tally.bench.simulated import MeterSpec
from wintry_tally.bench.simulation import SimulatedBattery, simulate
from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import Sample, family_named, parse_claim
from wintry_tally.core.cell import BatteryModel
from wintry_tally.core.compare import Device, Need, Tested, judge_need
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.verdict.evidence import capacity_evidence
from wintry_tally.exchange.recipe_file import shipped_recipe

PERIOD_S = 600.0


def truth(need: Need, battery: SimulatedBattery, seed: int, cut_V: float) -> float:
    """How long it holds, h: the devices switch on together every ten minutes, each for its share."""
    model = BatteryModel(battery.parameters(random.Random(seed)), 1.0, need.coldest_C or 23.0)
    model.temperature_C = need.coldest_C or 23.0
    now, step = 0.0, 20.0
    while now < 3.0 * need.hours * 3600.0:
        place = (now % PERIOD_S) / PERIOD_S
        on = [device for device in need.devices if place < device.duty]
        amps = sum(device.W / max(1.0, model.terminal_V(0.0)) if device.W else device.A for device in on)
        volts = model.terminal_V(amps)
        if model.open_discharge or volts <= cut_V or any(volts <= device.least_V for device in on):
            return now / 3600.0
        model.advance(amps, step)
        now += step
    return now / 3600.0


def main() -> None:
    """Print the calibration: by stated probability, how often it held."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    dice, held, said = random.Random(5), defaultdict(list), 0
    spec = MeterSpec("0.1%+2d", "0.5%+2d")
    inside = []
    for number in range(count):
        key = dice.choice(["lfp", "lfp", "agm"])
        family, rated = family_named(key), dice.choice([20.0, 40.0, 75.0])
        battery = SimulatedBattery(family, rated, health=dice.gauss(1.0, 0.06))
        sample = Sample(1, "S", "", "", key, (parse_claim(f"{rated:g} Ah"),))
        recipe = fill(shipped_recipe("capacity-reference"), Facts(family, rated, sample.claims))
        found = simulate(recipe, battery, number, 30.0, spec)
        meter = Instrument(parse_accuracy(spec.voltage_accuracy), parse_accuracy(spec.current_accuracy), name="m")
        analysis = analyse(found.trace, Options(family=family, rated_Ah=rated, instrument=meter, ambient_C=23.0))
        run = Tested("Capacity", "capacity", None, analysis, capacity_evidence("Capacity", analysis, 23.0))
        amps = rated * dice.choice([0.01, 0.03, 0.1])
        hours = battery.health * rated / amps * dice.uniform(0.6, 1.05)
        devices = (
            Device("steady", A=0.7 * amps, least_V=dice.choice([0.0, 10.8, 11.6])),
            Device("now and then", W=12.0 * amps, duty=0.3, least_V=dice.choice([0.0, 11.0])),
        )
        need = Need("n", hours, devices, dice.choice([None, 10.0, -5.0]))
        result = judge_need(need, sample, [run])
        if result.probability is None or result.hours is None:
            continue
        cut = sample.cutoff_V if family.own_protection else family.cutoff_floor_V
        holds = truth(need, battery, number, cut)
        said += 1
        held[min(4, int(5 * result.probability))].append((result.probability, holds >= hours))
        if result.bound is None:
            inside.append(abs(holds - result.hours.value) <= (result.hours.expanded or math.inf))
    for place in sorted(held):
        own = held[place]
        mean = sum(p for p, _ in own) / len(own)
        print(f"said {mean:.2f} on average: held {sum(h for _, h in own) / len(own):.2f} of {len(own)}")
    wrong = [p for own in held.values() for p, h in own if (p >= 0.95 and not h) or (p <= 0.05 and h)]
    print(
        f"{said} judged; {len(wrong)} of those said surely came otherwise; hours covered {sum(inside)} of {len(inside)}"
    )


if __name__ == "__main__":
    main()
