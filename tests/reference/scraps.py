"""Scraps of tests: parts in any order, columns and options by chance, several flaws in one log.

No tester would do most of this; it brings a reading just beyond each rule that no orderly test comes near. The batteries and
meters are those of benchmarks/apart.py.
"""

from __future__ import annotations

import csv
from dataclasses import replace
from pathlib import Path
from random import Random
from typing import Any

import numpy as np
from benchmarks.apart import Battery, Log, Meter, Part, goes_on, run
from benchmarks.trials import LIMIT, LOW, battery_of, meter_for

from wintry_tally.core.trace.trace import Column

MOST_ROWS = 500
Row = dict[str, Any]


def _parts(dice: Random, battery: Battery) -> list[Part]:
    """Some of what a bench can do to a battery, in any order."""
    rated, high_V = battery.rated_Ah, LIMIT.get(battery.family, 14.6)
    made: list[Part] = []
    for _ in range(dice.randint(1, 6)):
        what, ramp_s = dice.randrange(8), dice.choice([0.0, 0.0, 2.0])
        low_V = dice.choice([9.0, LOW.get(battery.family, 10.5), 11.5])
        if what == 0:
            made.append(Part(seconds=dice.choice([5.0, 60.0, 600.0, 4000.0, 20000.0])))
        elif what <= 2:
            amps = rated * dice.choice([0.05, 0.1, 0.2, 0.5, 1.0])
            made.append(
                Part(amps, dice.choice([600.0, 8000.0, 1e6]), low_V, ripple=dice.choice([0.0, 0.01]), ramp_s=ramp_s)
            )
        elif what == 3:
            made.append(Part(rated * dice.uniform(0.8, 4.0), dice.choice([2.0, 10.0, 300.0]), ramp_s=ramp_s))
        elif what <= 5:
            amps = -rated * dice.choice([0.05, 0.1, 0.3, 0.5])
            taper_A = rated * dice.choice([0.01, 0.05, 0.1])
            opens_V = dice.choice([float("inf"), float("inf"), high_V - 0.2])
            made.append(
                Part(amps, dice.choice([900.0, 30000.0, 1e6]), high_V - dice.choice([0.0, 0.3]), taper_A, opens_V)
            )
        elif what == 6:
            made += [
                Part(rated * share, dice.choice([5.0, 30.0]))
                for share in sorted(dice.sample([0.1, 0.2, 0.4, 0.8, 1.2], 3))
            ]
        else:
            made.append(Part(dice.choice([-1.0, 1.0]) * dice.choice([0.02, 0.1, 0.005 * rated]), 900.0, high_V))
    return [replace(part, seconds=min(part.seconds, 200_000.0)) for part in made]


def _rows(dice: Random, battery: Battery, meter: Meter) -> list[Row]:
    """The log of such a test: at most so many rows, with the columns that some loggers have."""
    parts = _parts(dice, battery)
    lasts = sum(
        min(part.seconds, 1.3 * 3600.0 * battery.rated_Ah / abs(part.amps or 1e9) if part.amps else part.seconds)
        for part in parts
    )
    every_s = next(
        step
        for step in (0.2, 1.0, 2.0, 5.0, 10.0, 30.0, 60.0, 120.0, 300.0)
        if lasts / step < MOST_ROWS or step == 300.0
    )
    log: Log = run(battery, parts, meter, every_s, every_s)
    if dice.random() < 0.3:
        goes_on(log, battery, meter, 20 * every_s, every_s, dice.choice([None, 0.1]))
    more = {name for name in ("T", "Ah", "second V", "second A", "cells", "pack T") if dice.random() < 0.25}
    rows, counted = [], dice.choice([0.0, 0.0, 1.5])
    for (at, volts, amps, around), (after, *_) in zip(log.rows, [*log.rows[1:], log.rows[-1]], strict=True):
        row: Row = {"Time / s": at, "Voltage / V": volts, "Current / A": amps}
        counted += abs(amps) * (after - at) / 3600.0
        other = {"Temperature / degC": around + dice.gauss(0.0, 0.1)} if "T" in more else {}
        other |= {"Counter / Ah": counted} if "Ah" in more else {}
        other |= {"Second Meter Voltage / V": volts * 1.001 + dice.gauss(0.02, 0.005)} if "second V" in more else {}
        other |= {"Second Meter Current / A": amps * 1.004 + dice.gauss(0.0, 0.02)} if "second A" in more else {}
        other |= {f"Cell {n} Voltage / V": volts / 4.0 + 0.004 * n for n in range(1, 5)} if "cells" in more else {}
        other |= (
            {"Pack Temperature / degC": around + 0.05 * abs(amps) + dice.gauss(0.0, 0.1)} if "pack T" in more else {}
        )
        rows.append(row | {name: round(value, 3) for name, value in other.items()})
    return rows


def _flawed(dice: Random, rows: list[Row]) -> list[Row]:
    """None, one or two of what happens to logs."""
    for _ in range(dice.choice([0, 0, 0, 1, 1, 2])):
        first = dice.randrange(len(rows))
        few, many = (
            rows[first : first + dice.randint(1, 3)],
            rows[first : first + max(3, len(rows) // dice.choice([4, 10, 30]))],
        )
        what = dice.randrange(10)
        if what == 0 and len(rows) > 20:
            rows = [row for row in rows if row not in many]
        for row in {1: few, 2: many, 3: few, 4: many, 5: many, 6: few, 7: rows, 8: rows[first:]}.get(what, []):
            if what in (1, 2):
                row["Current / A"] *= 1000.0 if what == 2 else 10.0
            elif what in (3, 6):
                row["Voltage / V"] = 0.0 if what == 3 else row["Voltage / V"] / 10.0
            elif what == 4:
                row["Current / A"] = -row["Current / A"]
            elif what == 5:
                row.update({"Voltage / V": many[0]["Voltage / V"], "Current / A": many[0]["Current / A"]})
            elif what == 7:
                row["Current / A"] += 0.05
            else:
                row["Time / s"] += 3600.0
    return rows


def _options(dice: Random, battery: Battery, meter: Meter) -> dict[str, Any]:
    """What a tester may have said of such a log."""
    said: dict[str, Any] = {} if dice.random() < 0.15 else {"family": battery.family}
    if dice.random() < 0.8:
        said["rated_ah"] = battery.rated_Ah
    for name, among in (
        ("current_accuracy", [meter.said["current_accuracy"]]), ("voltage_accuracy", [meter.said["voltage_accuracy"]]),
        ("cutoff", [10.5, 11.0, LOW.get(battery.family, 10.8)]), ("ambient", [-10.0, 5.0, 23.0, 40.0]),
        ("device_dropout", [[11.0], [11.5, 10.0]]), ("rated_minutes", [120.0]), ("rest_minutes", [1.0, 240.0]),
        ("repair", ["none", "offered"]), ("instrument", ["meter 7"]),
    ):  # fmt: skip
        if dice.random() < (0.6 if name.endswith("accuracy") else 0.2):
            said[name] = dice.choice(among)
    return said


def _begun(seed: int) -> tuple[Random, Battery, Meter, int, list[Row]]:
    dice = Random(f"scrap {seed}")
    battery = battery_of(dice)
    battery.charged = dice.choice([1.0, 1.0, 0.9, 0.4, 0.05])
    battery.celsius = dice.choice([23.0, 23.0, 30.0, 5.0, -12.0])
    meter, sign = meter_for(dice, 0.3 * battery.rated_Ah), dice.choice([1, -1])
    return dice, battery, meter, sign, _rows(dice, battery, meter)


def readings(seed: int) -> tuple[Column, Column]:
    """Current (A, drawn positive) and voltage (V) of a scrap without its flaws."""
    rows = _begun(seed)[-1]
    return np.array([row["Current / A"] for row in rows]), np.array([row["Voltage / V"] for row in rows])


def written(seed: int, folder: Path) -> tuple[Path, dict[str, Any]]:
    """A log, and the options that it is analysed with."""
    dice, battery, meter, sign, rows = _begun(seed)
    rows = _flawed(dice, rows)
    path = folder / "log.csv"
    with path.open("w", encoding="utf-8", newline="") as file:
        out = csv.DictWriter(file, list(rows[0]))
        out.writeheader()
        for row in rows:
            out.writerow({name: f"{sign * at if name.endswith('/ A') else at:.4f}" for name, at in row.items()})
    return path, _options(dice, battery, meter) | (
        {"discharge_sign": "+" if sign > 0 else "-"} if dice.random() < 0.3 else {}
    )
