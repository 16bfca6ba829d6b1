"""Verdicts on simulated batteries whose truth is known, through files as a stranger's would go: never wrong here.

The experiment is the one of benchmarks/verdicts.py, with a few seeds a kind; the battery model and the meter's drawn
errors are the outside truth.
"""

from __future__ import annotations

from pathlib import Path
from random import Random

import pytest
from benchmarks.dirt import UNSEEN, VARIANTS
from benchmarks.verdicts import KINDS, judged

LONG = {"runtime", "heater-time", "heater-power", "low-voltage-cut", "cold-loss", "capacity", "energy", "efficiency"}
"""Kinds whose tests take long to simulate: one battery of each, and three of the others."""


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_no_verdict_is_wrong(kind: str, tmp_path: Path) -> None:
    decided = 0
    for seed in range(101, 102 if kind in LONG else 104):
        trial = KINDS[kind](Random(1000 * seed + len(kind)), seed)
        verdict = judged(trial, tmp_path)
        if verdict["outcome"] in {"met", "missed"}:
            decided += 1
            assert (verdict["outcome"] == "met") == trial.holds, (seed, trial.claim, verdict["measured"])
        else:
            # a charge begun with something in it is no more than a bound on its time
            bound = verdict["outcome"] == "not-tested" and "was not empty" in verdict["advice"]
            assert verdict["outcome"] == "too-close" or bound, (seed, verdict["advice"])
    assert decided, "too careful: nothing was decided"


@pytest.mark.parametrize("kind", sorted(set(KINDS) - LONG))
def test_no_verdict_on_a_flawed_log_is_wrong(kind: str, tmp_path: Path) -> None:
    for seed, every in ((111, slice(0, None, 2)), (126, slice(1, None, 2))):
        trial = KINDS[kind](Random(1000 * seed + len(kind)), seed)
        for flaw in sorted(set(VARIANTS) - UNSEEN)[every]:
            outcome = judged(trial, tmp_path, flaw, Random(seed))["outcome"]
            assert outcome not in {"met", "missed"} or (outcome == "met") == trial.holds, (seed, flaw, trial.claim)
