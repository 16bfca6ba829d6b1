"""Verdicts on simulated batteries whose truth is known, through files as a stranger's would go: never wrong here.

The experiment is the one of benchmarks/verdicts.py, one seed a kind of those that are quick to simulate (test_strangers
holds all kinds, on batteries written apart); the battery model and the meter's drawn errors are the outside truth.
"""

from __future__ import annotations

from pathlib import Path
from random import Random

import pytest
from benchmarks.dirt import UNSEEN, VARIANTS
from benchmarks.verdicts import KINDS, judged

QUICK = ("capacity", "cold-charge-block", "continuous-discharge", "energy", "over-current-trip", "over-voltage-cut", "self-discharge", "surge")  # fmt: skip


@pytest.mark.parametrize("kind", QUICK)
def test_no_verdict_is_wrong(kind: str, tmp_path: Path) -> None:
    outcomes = []
    for seed in (101, 111):
        trial = KINDS[kind](Random(1000 * seed + len(kind)), seed)
        outcomes.append(outcome := judged(trial, tmp_path)["outcome"])
        assert outcome == "too-close" or (outcome == "met") == trial.holds, (seed, trial.claim)
    assert set(outcomes) & {"met", "missed"}, "too careful: nothing was decided"
    for flaw in sorted(set(VARIANTS) - UNSEEN)[:: 4 if kind in {"capacity", "energy"} else 1]:
        outcome = judged(trial, tmp_path, flaw, Random(seed))["outcome"]
        assert outcome not in {"met", "missed"} or (outcome == "met") == trial.holds, (seed, flaw, trial.claim)
