"""How well the end of a test under way is foretold. `python -m benchmarks.outlook [N] [--reference] [--plain] [--ideal] [--earlier]`

N batteries that differ from the family's usual one by capacity, resistances, charge at the start, temperature and meter
are drawn from or charged; at 10, 30, 50, 80 and 95 % the outlook is asked for, and held against what then came. With
--earlier, each beside a whole discharge of the same battery from before; with --reference, the curves of another model (tests/reference) too, at the rating they have and at one that is off. With --plain, beside the
width of 20,000 batteries of the same priors, drawn once and weighed alike, where enough of them fit. With --ideal,
beside the band of somebody who knows what these batteries differ in, by how much, and that the model has no other fault.
"""

from __future__ import annotations

import math
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from random import Random

import numpy as np

from wintry_tally.core.battery import Family, family_named
from wintry_tally.core.cell import BatteryModel, Parameters, parameters_for
from wintry_tally.core.compare.tested import FULL_DOUBT, SINCE_SHARE
from wintry_tally.core.plan import SoFar, ensemble, outlook, so_far

SHARES = (0.1, 0.3, 0.5, 0.8, 0.95)
STEP_S, MOST_H = 30.0, 60.0
REFERENCE = Path(__file__).parent.parent / "tests" / "reference"
CURVES = (("lfp_0_2C.csv", "lfp", 4), ("lfp_1_0C.csv", "lfp", 4), ("lead_0_05C.csv", "agm", 1), ("lead_0_5C.csv", "agm", 1))  # fmt: skip


@dataclass(frozen=True)
class Test:
    """A whole test: its readings from the first under load, and what is known of it beforehand."""

    family: Family
    rated_Ah: float
    time_s: np.ndarray
    volts: np.ndarray
    amps: np.ndarray
    known: SoFar

    @property
    def moved_Ah(self) -> np.ndarray:
        """Charge moved until each reading."""
        steps = 0.5 * np.diff(self.time_s) * np.abs(self.amps[1:] + self.amps[:-1])
        return np.concatenate([[0.0], np.cumsum(steps)]) / 3600.0


def drawn(random: Random, *, charging: bool, families: tuple[str, ...], before: list[SoFar] | None = None) -> Test:
    """A test of a battery by chance; `before` gets a whole discharge of the same one, at another rate, read by another meter."""
    family = family_named(random.choice(families))
    rated = random.choice((12.0, 40.0, 100.0))
    usual = parameters_for(family, rated)
    capacity = float(np.clip(np.exp(random.gauss(0.0, 0.09 if family.lithium else 0.13)), 0.6, 1.25))
    here = replace(
        usual, capacity_Ah=usual.capacity_Ah * capacity, protection=None,
        resistance_ohm=usual.resistance_ohm * float(np.exp(random.gauss(0.0, 0.4))),
        slow_ohm=usual.slow_ohm * float(np.exp(random.gauss(0.0, 0.4))),
    )  # fmt: skip
    celsius = 23.0 + random.gauss(0.0, 3.0)
    start = random.uniform(0.1, 0.5) if charging else 1.0
    model = BatteryModel(here, start, celsius)
    rate = rated * random.choice((0.1, 0.2, 0.4) if charging else (0.05, 0.1, 0.2, 0.5))
    limit, mark, off = family.charge_V[1], family.full_taper_C * rated, random.gauss(0.0, 0.008)
    if before is not None:
        before[:] = [_earlier(random, family, rated, here)]
    rested, rows, now = model.terminal_V(0.0) + off, [], 0.0
    while now < MOST_H * 3600.0:
        seen = model.charge(rate, limit, STEP_S) if charging else model.advance(rate, STEP_S)
        rows.append((now, seen.voltage_V + off + random.gauss(0.0, 0.001), seen.current_A))
        now += STEP_S
        if (abs(seen.current_A) <= mark) if charging else (seen.voltage_V <= family.cutoff_V):
            break
    else:  # a charger that floats above the mark never ends it: no test
        return drawn(random, charging=charging, families=families, before=before)
    time_s, volts, amps = np.array(rows).T
    stated = start if random.random() < 0.5 or not charging else None
    known = SoFar(time_s, volts, amps, "charge" if charging else "discharge", "current", rate, rate, limit, 0.02,
                  family.cutoff_V, mark, stated, celsius, rested)  # fmt: skip
    return Test(family, rated, time_s, volts, amps, known)


def _earlier(random: Random, family: Family, rated_Ah: float, here: Parameters) -> SoFar:
    """The same battery some time before: its capacity repeats to a hundredth."""
    then = replace(here, capacity_Ah=here.capacity_Ah * (1.0 + random.gauss(0.0, 0.01)))
    celsius, off, rate = 23.0 + random.gauss(0.0, 3.0), random.gauss(0.0, 0.008), rated_Ah * random.choice((0.1, 0.2))
    model, rows, now = BatteryModel(then, 1.0 - abs(random.gauss(0.0, 0.007)), celsius), [], 0.0
    while not rows or rows[-1][1] > family.cutoff_V:
        rows.append((now, model.advance(rate, STEP_S).voltage_V + off + random.gauss(0.0, 0.001), rate))
        now += STEP_S
    time_s, volts, amps = np.array(rows).T
    return SoFar(time_s, volts, amps, "discharge", "current", rate, rate, end_V=family.cutoff_V, full=1.0, celsius=celsius,
                 full_doubt=FULL_DOUBT, since=SINCE_SHARE)  # fmt: skip


def of_reference(name: str, family: str, cells: int, share: float) -> Test:
    """A curve of another model, with a rating that is off by a share."""
    rows = np.loadtxt(REFERENCE / name, delimiter=",", skiprows=1)
    live = rows[:, 2] > 0.01
    time_s, volts, amps = rows[live, 0] - rows[live, 0][0], cells * rows[live, 1], rows[live, 2]
    kind = family_named(family)
    whole = float(np.trapezoid(amps, time_s)) / 3600.0
    known = SoFar(time_s, volts, amps, "discharge", "current", float(np.median(amps)), end_V=float(volts[-1]), full=1.0, celsius=25.0)  # fmt: skip
    return Test(kind, whole * share, time_s, volts, amps, known)


VARIED = {"capacity": 0.0, "ohm": 0.4 / ensemble.OHM, "slow": 0.4 / ensemble.SLOW, "offset": 0.0, "full": 1.0}
IDEAL_V = 0.004
"""What the readings are off by for who knows the family as this benchmark draws it: noise, and the arrays' larger steps."""


@contextmanager
def knowing_how_they_are_drawn(test: Test) -> Iterator[None]:
    """The same search, by somebody who knows what differs between these batteries and by how much, and a model without fault."""
    volts = test.family.plausible_V[1] / 14.6
    spread, scale = test.family.spreads, np.zeros(len(ensemble.NAMES))
    own = VARIED | {
        "capacity": (0.09 if test.family.lithium else 0.13) / spread.capacity,
        "offset": 0.008 / (volts * spread.offset),
    }
    for name, by in own.items():
        scale[ensemble.PLACE[name]] = by
    begun = (0.3, 0.4 / math.sqrt(12.0)) if test.known.full is None else (test.known.full, 0.0)

    def members(raw: np.ndarray, known: SoFar, family: Family, rated_Ah: float) -> ensemble.Ensemble:
        usual = parameters_for(family, rated_Ah)
        return ensemble.Ensemble.of(raw * scale, family, rated_Ah, usual, begun, (known.limit_V, 0.0), known.celsius)

    known = {"_members": members, "APART_V": 0.0, "ALONG_V": 0.0, "OWN_V": IDEAL_V, "TAIL_S": 0.0, "FIRST_WIDER": {}}
    kept = {name: getattr(so_far, name) for name in known}
    for name, value in known.items():
        setattr(so_far, name, value)
    try:
        yield
    finally:
        for name, value in kept.items():
            setattr(so_far, name, value)


PLAIN, ENOUGH = 20_000, 20.0


def plain(known: SoFar, family: Family, rated_Ah: float, seed: int = 5) -> tuple[float, float]:
    """The width of 95 % of so many batteries of the same priors, drawn once and weighed by how they fit the readings as the
    outlook weighs them, s or Ah; and how many of them count."""
    raw = np.random.default_rng(seed).standard_normal((PLAIN, len(ensemble.NAMES)))
    members = so_far._members(raw, known, family, rated_Ah)
    weights = so_far._weights(so_far._fit(members, known, so_far._grid(known), family, rated_Ah))
    ends, charge, _ = so_far._to_the_end(members, known)
    values = ends if known.doing == "charge" else charge
    order = np.argsort(values)
    low, high = np.interp([so_far.LOW, so_far.HIGH], np.cumsum(weights[order]), values[order])
    return float(high - low), 1.0 / float(np.sum(weights**2))


def read_until(test: Test, share: float) -> SoFar:
    """What is known when so much of a test is over."""
    scale = test.time_s if test.known.doing == "charge" else test.moved_Ah
    stop = max(5, int(np.searchsorted(scale, share * scale[-1])))
    return replace(test.known, time_s=test.time_s[:stop], voltage_V=test.volts[:stop], current_A=test.amps[:stop])


def asked(test: Test, share: float, ideal: bool = False, before: Sequence[SoFar] = ()) -> tuple[bool, float, float]:
    """Whether the band held what came, its width and its middle's error, as shares of that."""
    charging, moved, known = test.known.doing == "charge", test.moved_Ah, read_until(test, share)
    found = outlook(known, test.family, test.rated_Ah, earlier=before)
    if ideal:
        with knowing_how_they_are_drawn(test):
            found = outlook(replace(known, meter_V=0.0), test.family, test.rated_Ah)
    band, true = (found.ends_s, float(test.time_s[-1])) if charging else (found.charge_Ah, float(moved[-1]))
    return band.low <= true <= band.high, (band.high - band.low) / true, (band.value - true) / true


def main() -> None:
    """Print them by kind and share."""
    numbers = [int(text) for text in sys.argv[1:] if text.isdigit()]
    count = numbers[0] if numbers else 200
    random = Random(17)
    for charging, families in ((False, ("lfp", "nmc")), (False, ("agm", "gel", "flooded")), (True, ("lfp", "nmc")), (True, ("agm", "flooded"))):  # fmt: skip
        before: list[list[SoFar]] = [[] for _ in range(count // 4)]
        tests = [drawn(random, charging=charging, families=families, before=of_it) for of_it in before]
        for share in SHARES:
            held, width, error = np.array(
                [
                    asked(test, share, before=of_it if "--earlier" in sys.argv else ())
                    for test, of_it in zip(tests, before, strict=True)
                ]
            ).T
            line = (
                f"{'charge' if charging else 'discharge':10} {'/'.join(families):16} at {100 * share:3.0f} %: covers "
                f"{100 * held.mean():5.1f} %, width {100 * np.median(width):5.1f} %, error {100 * np.sqrt((error**2).mean()):5.1f} %"
            )
            if "--plain" in sys.argv:
                true = [float(test.time_s[-1] if charging else test.moved_Ah[-1]) for test in tests]
                once = [plain(read_until(test, share), test.family, test.rated_Ah) for test in tests]
                times = [
                    wide / (least / end)
                    for wide, (least, count), end in zip(width, once, true, strict=True)
                    if count >= ENOUGH
                ]
                if times:
                    line += f"; {np.median(times):4.2f} x (at most {max(times):4.2f}) of {PLAIN} drawn once, where {len(times)} of {len(once)} tell"
            if "--ideal" in sys.argv:
                known, least, _ = np.array([asked(test, share, ideal=True) for test in tests]).T
                times = np.median(width / np.maximum(least, 1e-4))
                line += f"; who knows all: covers {100 * known.mean():5.1f} %, width {100 * np.median(least):5.1f} %, {times:4.1f} x"
            print(line, flush=True)
    if "--reference" in sys.argv:
        for name, family, cells in CURVES:
            for share in (0.85, 1.0, 1.2):
                test = of_reference(name, family, cells, share)
                told = [asked(test, at) for at in SHARES]
                print(f"{name:16} rated {share:4.2f}: " + "  ".join(f"{'in ' if held else 'OUT'} {100 * width:4.0f} % {100 * error:+5.1f} %" for held, width, error in told), flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
