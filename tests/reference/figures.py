"""The figures of many logs as they were when they were last looked at: what changes one of them unawares is noticed.

    .venv/bin/python -m tests.reference.figures        writes figures.json anew; then look at what `git diff` says of it

The logs are those of benchmarks/strangers.py, which know nothing of this application, scraps that no tester would make, the
reference curves, and the runs of the demo; and what every recipe becomes for every family, with the checks before its start
on four benches; and what pulses of right and wrong benches show. Kept of each: every number and every word of a closed set in the analysis and the verdict, and the codes and numbers that
stand in their sentences. The values are this application's own: that they are right is held by other tests.
"""

from __future__ import annotations

import json
import math
import re
import tempfile
from collections.abc import Iterator
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import Any

from benchmarks.strangers import FLAWS, KINDS, Trial, flawed, trial_of

from tests.reference import pulses, scraps
from tests.reference.fans import fan_of, once
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.book import Book
from wintry_tally.cli.judging import judge_file
from wintry_tally.cli.logs import analyse_log, options_from, parse_given
from wintry_tally.core.battery import FAMILIES, parse_claim
from wintry_tally.core.errors import LogError, WintryError
from wintry_tally.core.message import Message
from wintry_tally.core.protocol.attended import Attendance, parse_attended
from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, capacity_recipe
from wintry_tally.core.protocol.leads import Leads
from wintry_tally.core.protocol.preflight import Bench, preflight, preflight_recipe
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.verdict import School
from wintry_tally.demo import scratch_copy
from wintry_tally.exchange.analysis_json import analysis_dict
from wintry_tally.exchange.recipe_file import shipped, shipped_recipe

HERE = Path(__file__).parent
KEPT = HERE / "figures.json"
NUMBER = re.compile(r"\d+(?:\.\d+)?")
TOLERANCE = 1e-5
SCRAPS, PULSES = 200, 400
LEFT_OUT = {"schema", "k", "source", "steps", "formula", "label"}
Figures = dict[str, Any]


def pruned(found: Any) -> Any:
    """The numbers, the words without a space, and of each sentence its numbers; None of what has none."""
    if isinstance(found, dict):
        parts = {name: pruned(part) for name, part in found.items() if name not in LEFT_OUT}
        return {name: part for name, part in parts.items() if part is not None} or None
    if isinstance(found, list | tuple):
        return [pruned(part) for part in found] or None
    if isinstance(found, Message):
        return (
            " ".join(NUMBER.findall(found))
            if found.code == "own"
            else f"{codes_of(found)} {' '.join(NUMBER.findall(found))}".strip()
        )
    if isinstance(found, str) and re.search(r"[ ·]", found):
        return " ".join(NUMBER.findall(found)) or None
    return float(f"{found:.8g}") if isinstance(found, float) else None if found in ("", False) else found


def codes_of(message: Message) -> str:
    """The codes of a message and of those within it."""
    within = (one for part in message.parts.values() for one in (part if isinstance(part, tuple) else (part,)))
    return "+".join([message.code, *(codes_of(one) for one in within if isinstance(one, Message))])


def flat(found: Any, path: str = "") -> Iterator[tuple[str, Any]]:
    """Every part by where it stands."""
    if isinstance(found, dict | list):
        for name, part in found.items() if isinstance(found, dict) else enumerate(found):
            yield from flat(part, f"{path}.{name}")
    elif found is not None:
        yield path, found


def of_trial(kind: str, seed: int, flaw: str = "") -> tuple[Trial, dict[str, Any], Figures]:
    """A stranger's trial, its verdict, and the figures of it, of the analyses that it stands on, and of a fan of claims."""
    with tempfile.TemporaryDirectory() as name, once() as analysed:
        trial = trial_of(kind, seed, Path(name))
        if flaw:
            flawed(Path(name), flaw, Random(f"{kind} {seed} {flaw}"))
        verdict = judge_file(Path(name) / "claims.json")["claims"][0]
        logs = [analysis_dict(*found) for found in analysed.values()]
        fan = fan_of(Path(name), f"{kind} {seed} {flaw}")
    return trial, verdict, pruned({"verdict": verdict, "logs": logs, "fan": fan})


def of_scrap(seed: int) -> Figures:
    """The figures of a scrap; of one that is refused, that it is."""
    with tempfile.TemporaryDirectory() as name:
        path, options = scraps.written(seed, Path(name))
        try:
            made: Figures = pruned(analysis_dict(*analyse_log(path, *options_from(parse_given(options)))))
        except LogError:
            return {"refused": True}
    return made


def of_curve(name: str) -> Figures:
    """The figures of a reference curve."""
    family, rated = ("lfp", 40.0) if name.startswith("lfp") else ("agm", 17.0)
    choices, options = options_from(parse_given({"family": family, "rated_ah": rated, "current_accuracy": "0.5%+0.01"}))
    log, analysis = analyse_log(HERE / name, choices, options)
    made: Figures = pruned(analysis_dict(log, analysis))
    return made


def of_demo() -> dict[str, Figures]:
    """The figures of each sample of the demo."""
    with tempfile.TemporaryDirectory() as name, Book.open(scratch_copy(Path(name))) as book:
        made = {}
        for sample in book.samples.all():
            dossier = dossier_of(book, sample, School.STRICT)
            runs = [analysis_dict(None, run.analysis) for run in dossier.runs if run.analysis is not None]
            verdicts = [verdict.as_dict() for verdict in dossier.verdicts]
            made[f"demo {sample.code}"] = pruned({"runs": runs, "verdicts": verdicts})
        return made


BENCHES = (
    Bench(1800.0, 150.0, 50.0, 16.0, Leads(16.0, 1.0)),
    Bench(180.0, 20.0, 10.0, 14.6, Leads(1.5, 2.0), measures_temperature=False, own_cutoff=True),
    Bench(600.0, 60.0, 0.0, 0.0, None, counted_apart=False, digit_V=0.1),
    Bench(by_hand=True),
)
CLAIMS = tuple(parse_claim(text) for text in ("40 Ah", "80 A continuous", "surge 200 A (5 s)", "charge current 20 A", "reserve 90 min @ 25 A", "over-current protection 250-350 A"))  # fmt: skip
AT = datetime(2026, 1, 22, 9, 40, tzinfo=UTC)  # a Thursday
RUNS = (
    (None, None, None), (1.0, 3e4, Attendance(AT, parse_attended("7-22"))),
    (1.045, 4e4, Attendance(AT, parse_attended("Mon-Fri 8-17"), by_hand=True)), (1.02, 2e4, None),
)  # fmt: skip
"""On each bench: what it rested at, of its nominal voltage; how long it takes, s; who is there."""


def of_recipe(name: str) -> Figures:
    """The steps and limits of a recipe, and the checks before its start, over families and benches."""
    template = shipped_recipe(name)
    made: Figures = {}
    for key, family in FAMILIES.items():
        if not template.fits(family):
            continue
        facts = Facts(family, 40.0, CLAIMS)
        try:
            recipe = fill(template, facts)
        except WintryError as error:
            made[key] = {"refused": type(error).__name__}
            continue
        parts = asdict(recipe)
        made[key] = {"recipe": pruned({"parts": parts.pop("steps"), **parts})}
        for number, (bench, (rested, lasts_s, there)) in enumerate(zip(BENCHES, RUNS, strict=True)):
            rested_V = None if rested is None else rested * family.nominal_V
            checks = preflight_recipe(template, recipe, facts, bench, rested_V, lasts_s, there)
            made[key][f"bench {number}"] = [
                " ".join(
                    [
                        f"{one.state},",
                        str(pruned(one.message)),
                        *(f"{mend.kind} {mend.value:.6g}" for mend in one.offers),
                    ]
                )
                for one in checks
            ]
    return made


PLANS = (
    CapacityPlan("current", 8.0, 10.0), CapacityPlan("current", 20.0, 10.0, 3600.0, 7200.0), CapacityPlan("power", 100.0, 9.0, 600.0),
    CapacityPlan("power", 400.0, 10.5), CapacityPlan("resistance", 1.5, 10.0), CapacityPlan("resistance", 0.0, 13.4), CapacityPlan("hand", 0.0, 11.0),
)  # fmt: skip


def of_plans() -> Figures:
    """The recipe and the checks of capacity tests planned by hand, over families and loads."""
    made: Figures = {}
    for key, family in FAMILIES.items():
        for number, plan in enumerate(PLANS):
            for limits in (None, LoadLimits(180.0, 20.0)):
                recipe = asdict(capacity_recipe(family, 40.0, plan, limits))
                checks = [
                    [
                        f"{one.state}, {pruned(one.message)}"
                        for one in preflight(family, rated, plan, limits, rested, lasts)
                    ]
                    for rated, rested, lasts in (
                        (40.0, 1.04 * family.nominal_V, 18000.0),
                        (None, family.nominal_V, None),
                    )
                ]
                parts = pruned({"parts": recipe.pop("steps"), **recipe})
                made[f"{key} {number} {'free' if limits is None else 'load'}"] = {"recipe": parts, "checks": checks}
    return made


def of_pulses() -> Figures:
    """What is found in pulses of right and wrong benches."""
    return {str(seed): pruned(pulses.judged(seed)) for seed in range(PULSES)}


def trials_of(kind: str) -> list[tuple[int, str]]:
    """Seeds and flaws of a kind that are kept."""
    flaws = [(11 + number, flaw) for number, flaw in enumerate(sorted(FLAWS)) if number % 3 == len(kind) % 3]
    return [(seed, "") for seed in range(7, 10)] + flaws


def curves() -> list[str]:
    """Names of the reference curves."""
    return sorted(path.name for path in HERE.glob("*.csv"))


def kept() -> dict[str, Figures]:
    """What was kept."""
    found: dict[str, Figures] = json.loads(KEPT.read_text(encoding="utf-8"))
    return found


def moved(was: Figures, now: Figures) -> list[str]:
    """What is no longer as it was: numbers by more than TOLERANCE, in a sentence by more than one of the last digit."""
    before, after = dict(flat(was)), dict(flat(now))
    return [
        f"{path}: {before.get(path, 'nothing')} is now {after.get(path, 'nothing')}"
        for path in {**before, **after}
        if not _alike(before.get(path), after.get(path))
    ]


def _alike(was: Any, now: Any) -> bool:
    if isinstance(was, float | int) and isinstance(now, float | int):
        return math.isclose(was, now, rel_tol=TOLERANCE, abs_tol=1e-9)
    if isinstance(was, str) and isinstance(now, str) and NUMBER.match(was) and NUMBER.match(now):
        before, after = was.split(), now.split()
        return len(before) == len(after) and all(
            one == other or abs(float(one) - float(other)) <= 1.01 * 10.0 ** -len(one.partition(".")[2])
            for one, other in zip(before, after, strict=True)
            if NUMBER.fullmatch(one) and NUMBER.fullmatch(other)
        )
    return bool(was == now)


def main() -> None:
    """Keep them as they are now."""
    made = {name: of_curve(name) for name in curves()} | of_demo()
    for kind in sorted(KINDS):
        for seed, flaw in trials_of(kind):
            made[f"{kind} {seed} {flaw}".strip()] = of_trial(kind, seed, flaw)[2]
    made |= {f"scrap {seed}": of_scrap(seed) for seed in range(SCRAPS)}
    made |= {f"recipe {name}": of_recipe(name) for name in shipped()}
    made |= {"pulses": of_pulses(), "plans": of_plans()}
    lines = (
        f"{json.dumps(name)}: {json.dumps(figures, ensure_ascii=False, separators=(',', ':'))}"
        for name, figures in made.items()
    )
    KEPT.write_text("{\n" + ",\n".join(lines) + "\n}\n", encoding="utf-8")


if __name__ == "__main__":
    main()
