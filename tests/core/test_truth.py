"""Verdicts on simulated batteries whose truth is known, through files as a stranger's would go: never wrong here.

The experiment is the one of benchmarks/verdicts.py, with a few seeds a kind; the battery model and the meter's drawn
errors are the outside truth.
"""

from __future__ import annotations

from pathlib import Path
from random import Random

import pytest
from benchmarks.verdicts import KINDS, judged


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_no_verdict_is_wrong(kind: str, tmp_path: Path) -> None:
    decided = 0
    for seed in range(101, 104 if kind == "runtime" else 107):
        trial = KINDS[kind](Random(1000 * seed + len(kind)), seed)
        verdict = judged(trial, tmp_path)
        if verdict["outcome"] in {"met", "missed"}:
            decided += 1
            assert (verdict["outcome"] == "met") == trial.holds, (seed, trial.claim, verdict["measured"])
        else:
            assert verdict["outcome"] == "too-close", (seed, verdict["advice"])
    assert decided, "too careful: nothing was decided"
