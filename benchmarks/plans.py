"""How good a plan of five seconds is, held against one that is thought about for long: `python -m benchmarks.plans [S] [N]`.

Twelve samples of ten tests on six instruments, nobody there at night: the budget of design is 5 % of what ten minutes find.
"""

from __future__ import annotations

import random
import sys
import time
from datetime import datetime
from zoneinfo import ZoneInfo

from wintry_tally.app.solver_apart import APART
from wintry_tally.core.plan.calendar import Calendar, slots_up
from wintry_tally.core.plan.campaign import After, Campaign, Task
from wintry_tally.core.plan.planning import plan
from wintry_tally.core.protocol.attended import parse_attended
from wintry_tally.core.protocol.in_programme import Presence

BUDGET_S = 4.0
"""As the window and the command ask it: a second more goes into loading the solver's library."""


def campaign(seed: int, hours: tuple[float, ...] = (2.0, 3.0, 4.0, 5.5, 6.0, 8.0, 9.0)) -> Campaign:
    """A campaign by chance: charges and discharges by turns, one night in the freezer, rests of which some have a most."""
    chance = random.Random(seed)
    calendar = Calendar(
        datetime(2027, 1, 11, 8, tzinfo=ZoneInfo("Europe/Oslo")), parse_attended("Mon-Fri 8-17:30; Sat 9-12")
    )
    tasks = []
    for sample in range(12):
        for number in range(10):
            pair = ("load", "second load") if number % 2 else ("charger", "second charger")
            frozen = number == 7
            after = (
                After(
                    f"{sample}-{number - 1}",
                    slots_up(chance.choice([0, 0, 1, 2])),
                    chance.choice([None, None, slots_up(48)]),
                ),
            )
            tasks.append(
                Task(
                    f"{sample}-{number}", f"S{sample}", slots_up(24 if frozen else chance.choice(hours)),
                    uses=("freezer",) if frozen else (chance.choice(pair), *(("meter",) if chance.random() < 0.2 else ())),
                    after=after if number else (),
                    presence=Presence(chance.choice(["none", "start", "ends", "ends"])),
                )
            )  # fmt: skip
    names = ("load", "second load", "charger", "second charger", "freezer", "meter")
    return Campaign(tuple(tasks), dict.fromkeys(names, 1), calendar)


def main() -> None:
    """Print each ratio."""
    long = float(sys.argv[1]) if len(sys.argv) > 1 else 600.0
    count = int(sys.argv[2]) if len(sys.argv) > 2 else 3
    for seed in range(1, count + 1):
        begun = time.perf_counter()
        quick = plan(campaign(seed), BUDGET_S, solver=APART)
        took = time.perf_counter() - begun
        best = plan(campaign(seed), long, solver=APART)
        ratio = quick.end / min(best.end, quick.end)
        print(
            f"seed {seed}: {quick.end / 288:.2f} days in {took:.1f} s, {best.end / 288:.2f} in {long:.0f} s: "
            f"{100 * (ratio - 1):.1f} % more; bound {best.bound_end / 288:.2f}; {len(quick.unplaced)} not placed",
            flush=True,
        )


if __name__ == "__main__":
    main()
