"""Verdicts on batteries, meters and loggers that this application knows nothing of: `apart.py`, no model of its own.

Tests of many kinds as people do them: with a rest before or none, ended by the protection, by a load's cut-off between two
readings, or with the log; headed and signed as loggers do; the meter's accuracy given or not. Claims are drawn round the
truth. A verdict is wrong when it says met of a claim that does not hold, or missed of one that does.

.venv/bin/python -m benchmarks.strangers [--count 40] [--first 1] [--dirty] [--rows] [--sparse] [KIND ...]
"""

from __future__ import annotations

import argparse
import copy
import json
import re
import tempfile
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

from benchmarks.apart import Battery, Log, Meter, Part, goes_on, run, write
from benchmarks.strangers_charging import CHARGING
from benchmarks.trials import LIMIT, LOW, Trial, battery_of, meter_for, said, usual_A
from wintry_tally.cli.judging import judge_file
from wintry_tally.core.errors import WintryError


def drawn(dice: Random, battery: Battery, amps: float, meter: Meter, every_s: float, low_V: float | None) -> Log:
    """A discharge to its end, with what people log before and after it."""
    ripple, ramp_s = dice.choice([0.0, 0.002, 0.01]), dice.choice([0.0, 2.0, 5.0])
    before, after = dice.choice([0.0, 10.0, 60.0, 600.0]), dice.choice([0.0, 30.0, 300.0])
    parts = [Part(seconds=before), Part(amps, volts=low_V, ripple=ripple, ramp_s=ramp_s), Part(seconds=after)]
    return run(battery, parts, meter, every_s, min(every_s, 10.0 if amps < 0.3 * battery.rated_Ah else 1.0))


def counted(key: str) -> Callable[[Random], Trial]:
    def trial(dice: Random) -> Trial:
        battery = battery_of(dice)
        amps = usual_A(battery) * dice.choice([1.0, 1.0, 0.8, 1.3])
        meter, every_s = meter_for(dice, amps), dice.choice([1.0, 5.0, 10.0, 30.0, 60.0])
        low_V = LOW.get(battery.family, dice.choice([10.5, 10.8]))
        ends = None if battery.cut_V is not None and dice.random() < 0.5 else low_V
        log = drawn(dice, battery, amps, meter, every_s, ends)
        truth = log.drawn_Ah if key == "capacity" else log.drawn_Wh
        claim = {
            "kind": key,
            "value": said(dice, truth),
            "unit": "Ah" if key == "capacity" else "Wh",
            "direction": "at-least",
        }
        conditions = {"c_rate": round(amps / battery.rated_Ah, 4)} if dice.random() < 0.4 else {}
        if ends is not None and dice.random() < 0.4:
            conditions["cutoff_V"] = low_V
        claim["conditions"] = conditions
        return Trial(battery, meter, claim, "capacity", (log,), truth >= claim["value"], truth / claim["value"] - 1.0)

    return trial


def cut_above(dice: Random) -> Trial:
    """A claim whose cut-off lies above where the test ended."""
    battery = battery_of(dice)
    amps, low_V = usual_A(battery), LOW.get(battery.family, 10.5) - (0.5 if battery.family == "lfp" else 0.0)
    high_V = low_V + (dice.choice([0.5, 0.8, 1.0]) if battery.lithium else dice.choice([0.3, 0.5, 0.7]))
    meter, every_s, twin = meter_for(dice, amps), dice.choice([5.0, 10.0, 30.0]), copy.deepcopy(battery)
    parts = [Part(seconds=60.0), Part(amps, volts=low_V), Part(seconds=300.0)]
    log = run(battery, parts, meter, every_s, 5.0)
    truth = run(twin, [Part(seconds=60.0), Part(amps, volts=high_V)], meter, 60.0, 5.0).drawn_Ah
    claim = {"kind": "capacity", "value": said(dice, truth, 0.05), "unit": "Ah", "direction": "at-least"}
    claim["conditions"] = {"cutoff_V": high_V}
    return Trial(battery, meter, claim, "capacity", (log,), truth >= claim["value"], truth / claim["value"] - 1.0)


def runtime(dice: Random) -> Trial:
    battery = battery_of(dice, "lfp", "agm")
    amps = round(battery.rated_Ah * dice.choice([0.02, 0.05, 0.1]), 2)
    meter, every_s = meter_for(dice, amps), dice.choice([5.0, 10.0, 60.0])
    drop_V = dice.choice([11.4, 11.0, 10.8] if battery.family == "agm" else [11.5, 11.0, 12.0])
    log = drawn(dice, battery, amps, meter, every_s, drop_V)
    truth = log.drawn_s / 3600.0
    claim = {"kind": "runtime", "value": said(dice, truth), "unit": "h", "direction": "at-least"}
    claim["conditions"] = {"device_A": amps, "dropout_V": drop_V}
    return Trial(battery, meter, claim, "runtime", (log,), truth >= claim["value"], truth / claim["value"] - 1.0)


def low_cut(dice: Random) -> Trial:
    battery = battery_of(dice, "lfp", "nmc")
    amps, every_s = usual_A(battery), dice.choice([0.5, 1.0, 2.0, 5.0])
    meter, tolerance = meter_for(dice, amps), dice.choice([0.2, 0.3, 0.5])
    log = run(battery, [Part(seconds=60.0), Part(amps), Part(seconds=30.0)], meter, every_s, min(1.0, every_s))
    assert battery.cut_V is not None
    value = round(battery.cut_V + dice.uniform(-2.0, 2.0) * tolerance, 1)
    claim = {"kind": "low-voltage-cut", "value": value, "unit": "V", "direction": "within", "tolerance": tolerance}
    inside = tolerance - abs(battery.cut_V - value)
    return Trial(battery, meter, claim, "capacity", (log,), inside >= 0, inside / value)


def charge_time(dice: Random) -> Trial:
    battery = battery_of(dice)
    battery.charged = 0.0
    amps = battery.rated_Ah * dice.choice([0.2, 0.3, 0.5] if battery.lithium else [0.1, 0.15, 0.2])
    meter, every_s = meter_for(dice, amps), dice.choice([5.0, 10.0, 30.0, 60.0])
    taper_A = battery.rated_Ah * (0.05 if battery.lithium else 0.02)
    part = Part(-amps, 40 * 3600.0, LIMIT.get(battery.family, 14.6), taper_A * dice.choice([1.0, 0.5, 0.4]))
    log = run(
        battery,
        [Part(seconds=dice.choice([60.0, 300.0])), part, Part(seconds=600.0)],
        meter,
        every_s,
        min(10.0, every_s),
    )
    taken = [(at, -shown) for at, _, shown, _ in log.rows]
    begun = next(at for at, shown in taken if shown > 0.5 * amps)
    truth = (next((at for at, shown in taken if at > begun + 60 and shown <= taper_A), taken[-1][0]) - begun) / 3600.0
    claim = {"kind": "charge-time", "value": said(dice, truth, 0.1), "unit": "h", "direction": "at-most"}
    return Trial(battery, meter, claim, "charge", (log,), truth <= claim["value"], claim["value"] / truth - 1.0)


def held(kind: str) -> Callable[[Random], Trial]:
    """A current held, or a protection that opens under it."""

    def trial(dice: Random) -> Trial:
        surge, battery = kind == "surge", battery_of(dice, "lfp")
        battery.holds_Ah = battery.rated_Ah
        opens = battery.rated_Ah * (dice.uniform(1.5, 4.0) if surge else dice.uniform(0.8, 2.0))
        amps = battery.rated_Ah * (dice.choice([2.0, 2.5, 3.0]) if surge else dice.choice([1.0, 1.0, 0.8, 1.2]))
        lasts = dice.choice([3.0, 5.0, 10.0] if surge else [60.0, 300.0, 1200.0])
        meter, every_s = meter_for(dice, amps), dice.choice([0.1, 0.2, 0.5] if surge else [1.0, 2.0, 5.0])
        carries, delay = amps < opens, dice.uniform(0.3, 2.5) if surge else dice.uniform(3, 20)
        part = Part(amps, lasts + every_s if carries else delay, ramp_s=dice.choice([0.0, 0.3 if surge else 2.0]))
        log = run(battery, [Part(seconds=20.0), part], meter, every_s, 0.1 if surge else 1.0)
        goes_on(log, battery, meter, 30.0, every_s, None if carries else 0.1)
        value = float(f"{amps * dice.choice([1.0, 0.9, 0.95]):.3g}")
        claim = {
            "kind": kind,
            "value": value,
            "unit": "A",
            "direction": "at-least",
            "conditions": {"duration_s": lasts},
        }
        return Trial(battery, meter, claim, "surge" if surge else "hold", (log,), carries, 0.5)

    return trial


def trip(dice: Random) -> Trial:
    """Steps of current until the protection opens."""
    battery = battery_of(dice, "lfp")
    opens = battery.rated_Ah * dice.uniform(1.2, 3.0)
    meter, every_s = meter_for(dice, opens), dice.choice([0.2, 0.5, 1.0, 2.0])
    step_A, lasts, amps = battery.rated_Ah * dice.choice([0.1, 0.2, 0.3]), dice.choice([20.0, 30.0]), battery.rated_Ah
    parts = [Part(seconds=20.0)]
    while round(amps) < opens:
        parts.append(Part(round(amps), lasts, ramp_s=dice.choice([0.0, 1.0])))
        amps += step_A
    parts.append(Part(round(amps), dice.uniform(2, 12)))
    log = run(battery, parts, meter, every_s, min(0.5, every_s))
    goes_on(log, battery, meter, 60.0, every_s, 0.1)
    tolerance = battery.rated_Ah * dice.choice([0.2, 0.3])
    value = round(opens + dice.uniform(-2.5, 2.5) * tolerance)
    claim = {"kind": "over-current-trip", "value": value, "unit": "A", "direction": "within", "tolerance": tolerance}
    claim["conditions"] = {"duration_s": lasts}
    inside = tolerance - abs(opens - value)
    return Trial(battery, meter, claim, "overload", (log,), inside >= 0, inside / value)


def shelf(dice: Random) -> Trial:
    battery = battery_of(dice, "lfp", "agm")
    amps, months, lost = usual_A(battery), dice.choice([1.0, 2.0, 3.0]), dice.uniform(0.005, 0.06)
    meter, every_s, after = meter_for(dice, amps), dice.choice([10.0, 30.0, 60.0]), copy.deepcopy(battery)
    after.charged = 1.0 - lost * months
    logs = tuple(
        run(one, [Part(seconds=60.0), Part(amps, volts=10.5), Part(seconds=60.0)], meter, every_s, 10.0)
        for one in (battery, after)
    )
    truth = 100.0 * (1.0 - logs[1].drawn_Ah / logs[0].drawn_Ah) / months
    value = max(0.3, round(truth + dice.uniform(-2.0, 2.0), 1))
    claim = {"kind": "self-discharge", "value": value, "unit": "%/month", "direction": "at-most"}
    claim["conditions"] = {"months": months}
    return Trial(battery, meter, claim, "self-discharge", logs, truth <= value, (value - truth) / 100.0)


def cold(dice: Random) -> Trial:
    warm = battery_of(dice, "lfp", "nmc", "agm")
    warm.cut_V = None
    amps, low_V, celsius = usual_A(warm), LOW.get(warm.family, 10.5), dice.choice([0.0, -5.0, -10.0])
    meter, every_s, frozen = meter_for(dice, amps), dice.choice([10.0, 30.0, 60.0]), copy.deepcopy(warm)
    frozen.celsius = celsius + dice.uniform(-0.4, 0.4)
    logs = tuple(
        run(one, [Part(seconds=60.0), Part(amps, volts=low_V), Part(seconds=60.0)], meter, every_s, 10.0)
        for one in (frozen, warm)
    )
    truth = 100.0 * (1.0 - logs[0].drawn_Ah / logs[1].drawn_Ah)
    value = max(1.0, round(truth + dice.uniform(-6.0, 6.0)))
    claim = {
        "kind": "cold-loss",
        "value": value,
        "unit": "%",
        "direction": "at-most",
        "conditions": {"temperature_C": celsius},
    }
    return Trial(warm, meter, claim, "cold-loss", logs, truth <= value, (value - truth) / 100.0, True)


def cold_block(dice: Random) -> Trial:
    battery = battery_of(dice, "lfp")
    battery.charged, battery.celsius = 0.1, dice.uniform(-12.0, -2.0)
    amps, every_s = battery.rated_Ah * dice.choice([0.1, 0.2, 0.3]), dice.choice([0.5, 1.0, 2.0])
    meter, blocks = meter_for(dice, amps), dice.random() < 0.5
    flows_s = dice.choice([0.0, 1.5]) if blocks else dice.choice([180.0, 600.0])
    log = run(battery, [Part(seconds=60.0), Part(-amps, flows_s, 14.4)], meter, every_s, min(0.5, every_s))
    goes_on(log, battery, meter, 180.0 if blocks else 0.0, every_s, 14.4)
    goes_on(log, battery, meter, 30.0, every_s)
    claim = {"kind": "cold-charge-block", "value": True, "direction": "is"}
    if dice.random() < 0.5:
        claim = {"kind": "cold-charge-block", "value": 0.0, "unit": "°C", "direction": "at-most"}
    return Trial(battery, meter, claim, "charge-block", (log,), blocks, 0.5, True)


def reserve(dice: Random) -> Trial:
    battery = battery_of(dice, "flooded")
    battery.celsius, meter, every_s = 25.0, meter_for(dice, 25.0), dice.choice([1.0, 5.0, 10.0, 30.0])
    log = drawn(dice, battery, 25.0, meter, every_s, 10.5)
    truth = log.drawn_s / 60.0
    claim = {"kind": "reserve", "value": said(dice, truth), "unit": "min", "direction": "at-least"}
    return Trial(battery, meter, claim, "reserve", (log,), truth >= claim["value"], truth / claim["value"] - 1.0, True)


KINDS: dict[str, Callable[[Random], Trial]] = {
    "capacity": counted("capacity"), "energy": counted("energy"), "cut-above": cut_above, "runtime": runtime,
    "low-cut": low_cut, "charge-time": charge_time, "hold": held("continuous-discharge"), "surge": held("surge"), "trip": trip,
    "shelf": shelf, "cold": cold, "cold-block": cold_block, "reserve": reserve, **CHARGING,
}  # fmt: skip


def trial_of(kind: str, seed: int, folder: Path) -> Trial:
    """A trial, written into a folder as its logs and a claims file."""
    dice = Random(f"{kind} {seed}")
    trial = KINDS[kind](dice)
    names = [f"{number}.csv" for number in range(len(trial.logs))]
    for log, name in zip(trial.logs, names, strict=True):
        write(log, folder / name, trial.meter, celsius=trial.warm)
    options: dict[str, Any] = dict(trial.meter.said) if dice.random() < 0.8 else {}
    if trial.method != "cold-loss" and dice.random() < 0.6:
        options["ambient"] = round(trial.battery.celsius + dice.uniform(-0.5, 0.5), 1)
    evidence = {"method": trial.method, "options": options} | (
        {"log": names[0]} if len(names) == 1 else {"logs": names}
    )
    battery = {"family": trial.battery.family, "rated_Ah": trial.battery.rated_Ah}
    if dice.random() < 0.7:
        battery["nominal_V"] = {"lfp": 12.8, "nmc": 14.8}.get(trial.battery.family, 12.0)
    content = {"battery": battery, "claim": [trial.claim], "evidence": [evidence]}
    (folder / "claims.json").write_text(json.dumps(content), encoding="utf-8")
    return trial


def _but(lines: list[str], first: int, keep: Callable[[int], bool]) -> list[str]:
    return [line for number, line in enumerate(lines) if number < first or keep(number)]


def _hole(lines: list[str], first: int, dice: Random) -> list[str]:
    size = len(lines) - first
    begin = first + int(size * dice.uniform(0.1, 0.8))
    end = begin + max(2, int(size * dice.uniform(0.01, 0.08)))
    return _but(lines, first, lambda number: not begin <= number < end)


def _without_units(lines: list[str], first: int, dice: Random) -> list[str]:
    return [*lines[: first - 1], re.sub(r"\s*[\[(][^\])]*[\])]", "", lines[first - 1]), *lines[first:]]


FLAWS: dict[str, Callable[[list[str], int, Random], list[str]]] = {
    "rows lost": lambda lines, first, dice: _but(lines, first, lambda _: dice.random() > 0.3),
    "rows blank": lambda lines, first, dice: [re.sub("[^,]", "", line) if n >= first and ";" not in line and dice.random() < 0.02 else line for n, line in enumerate(lines)],
    "rows twice": lambda lines, first, dice: [line for n, line in enumerate(lines) for _ in range(1 + (n >= first and dice.random() < 0.05))],
    "a hole": _hole,
    "end missing": lambda lines, first, dice: lines[: first + int((len(lines) - first) * dice.uniform(0.75, 0.99))],
    "start missing": lambda lines, first, dice: lines[:first] + lines[first + int((len(lines) - first) * dice.uniform(0.01, 0.3)) :],
    "a trailer": lambda lines, first, dice: [*lines, "", "Total,45.2,Ah", "End of log"],
    "header again": lambda lines, first, dice: [*lines[: len(lines) // 2], lines[first - 1], *lines[len(lines) // 2 :]],
    "no units": _without_units,
}  # fmt: skip
"""What befalls a file, by its lines, the place of its first row, and chance."""


def _one_row(lines: list[str], first: int, dice: Random, change: Callable[[str], str]) -> list[str]:
    at = dice.randrange(first + 1, len(lines) - 1)
    return [*lines[:at], *change(lines[at]).split("\n"), *lines[at + 1 :]]


def _together(lines: list[str], first: int, dice: Random) -> list[str]:
    at = dice.randrange(first + 1, len(lines) - 2)
    return [*lines[:at], lines[at][: dice.randrange(1, len(lines[at]))] + lines[at + 1], *lines[at + 2 :]]


def _swapped(lines: list[str], first: int, dice: Random) -> list[str]:
    at = dice.randrange(first + 1, len(lines) - 2)
    return [*lines[:at], lines[at + 1], lines[at], *lines[at + 2 :]]


def _garbled(line: str, dice: Random) -> str:
    at = dice.randrange(len(line))
    return line[:at] + dice.choice(["", "", *'0123456789.,-;"\0 x']) + line[at + 1 :]


ODD_ROWS: dict[str, Callable[[list[str], int, Random], list[str]]] = {
    "a row cut": lambda lines, first, dice: _one_row(lines, first, dice, lambda line: line[dice.randrange(1, len(line)) :]),
    "a row unfinished": lambda lines, first, dice: _one_row(lines, first, dice, lambda line: line[: dice.randrange(1, len(line))]),
    "a sign garbled": lambda lines, first, dice: _one_row(lines, first, dice, lambda line: _garbled(line, dice)),
    "two rows in one": _together,
    "rows swapped": _swapped,
    "an inch sign": lambda lines, first, dice: _one_row(lines, first, dice, lambda line: line + ',12" cable'),
    "power lost": lambda lines, first, dice: _one_row(lines, first, dice, lambda line: line[: dice.randrange(len(line))] + "\0" * 512 + "\n"),
}  # fmt: skip
"""What befalls a row or two of a file: nothing that these logs say may go by it."""


def _looked_at(lines: list[str], first: int, dice: Random, evenly: bool) -> list[str]:
    """Some 6 to 60 rows of a log, whenever somebody looked."""
    rows = lines[first:]
    wanted = min(len(rows), int(6 * 10 ** dice.random()))
    if evenly:
        step = max(1, len(rows) // wanted)
        return [*lines[:first], *rows[dice.randrange(step) :: step]]
    return [*lines[:first], *(rows[n] for n in sorted(dice.sample(range(len(rows)), wanted)))]


NOW_AND_THEN: dict[str, Callable[[list[str], int, Random], list[str]]] = {
    "read evenly": lambda lines, first, dice: _looked_at(lines, first, dice, True),
    "read now and then": lambda lines, first, dice: _looked_at(lines, first, dice, False),
}
"""How logs look that somebody wrote down beside a meter."""


def flawed(folder: Path, flaw: str, dice: Random) -> None:
    """One of a folder's logs with a flaw in it; all of them where it is the logger's."""
    logs = sorted(folder.glob("*.csv"))
    for path in logs if flaw in {"no units", "a trailer"} else [dice.choice(logs)]:
        lines = path.read_text(encoding="utf-8").splitlines()
        first = next(n for n, line in enumerate(lines) if re.match(r"-?\d[^,;]*[,;]-?\d", line))
        path.write_text("\n".join((FLAWS | ODD_ROWS | NOW_AND_THEN)[flaw](lines, first, dice)) + "\n", encoding="utf-8")


def judged(kind: str, seed: int, flaw: str = "") -> tuple[Trial, dict[str, Any]]:
    """A trial and its verdict, from the files alone."""
    with tempfile.TemporaryDirectory() as name:
        trial = trial_of(kind, seed, Path(name))
        if flaw:
            flawed(Path(name), flaw, Random(f"{kind} {seed} {flaw}"))
        return trial, judge_file(Path(name) / "claims.json")["claims"][0]


def wrong(trial: Trial, verdict: dict[str, Any]) -> bool:
    """Whether it says of a claim what is not so."""
    return verdict["outcome"] in {"met", "missed"} and (verdict["outcome"] == "met") is not trial.holds


def main() -> None:
    """Print what was decided of each kind, and each wrong one."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("kinds", nargs="*", metavar="KIND", default=list(KINDS))
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--dirty", action="store_true", help="each with each of the flaws in it")
    parser.add_argument("--rows", action="store_true", help="each with each of what befalls a row or two")
    parser.add_argument("--sparse", action="store_true", help="each read now and then only, as by hand")
    given = parser.parse_args()
    for kind in given.kinds:
        found: Counter[str] = Counter()
        for seed in range(given.first, given.first + given.count):
            for flaw in (
                *(FLAWS if given.dirty else ()),
                *(ODD_ROWS if given.rows else ()),
                *(NOW_AND_THEN if given.sparse else ()),
            ) or [""]:
                try:
                    trial, verdict = judged(kind, seed, flaw)
                except WintryError as error:
                    found["refused"] += 1
                    print(f"  {kind} {seed} {flaw}: refused: {error}", flush=True)
                    continue
                outcome = verdict["outcome"]
                found[outcome] += 1
                if outcome not in {"met", "missed"} and abs(trial.far) > 0.03:
                    found["open though far off"] += 1
                if wrong(trial, verdict):
                    found["WRONG"] += 1
                    print(
                        f"  {kind} {seed} {flaw}: {outcome}, off by {trial.far:+.3f}; {verdict['measured']}", flush=True
                    )
        print(f"{kind:<14}" + ", ".join(f"{count} {name}" for name, count in sorted(found.items())), flush=True)


if __name__ == "__main__":
    main()
