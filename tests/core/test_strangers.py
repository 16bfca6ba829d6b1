"""Verdicts on batteries, meters and loggers written apart from the application: never wrong, and not always open.

The experiment is the one of benchmarks/strangers.py with a few seeds a kind; its battery is no model of this house.
"""

from __future__ import annotations

import pytest
from benchmarks.strangers import FLAWS, KINDS, judged, wrong


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_no_verdict_on_a_stranger_s_battery_is_wrong(kind: str) -> None:
    decided = 0
    for seed in range(7, 10):
        trial, verdict = judged(kind, seed)
        assert not wrong(trial, verdict), (seed, trial.claim, trial.far, verdict)
        decided += verdict["outcome"] in {"met", "missed"}
    assert decided, "too careful: nothing was decided"


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_no_verdict_on_a_stranger_s_flawed_log_is_wrong(kind: str) -> None:
    for number, flaw in enumerate(sorted(FLAWS)):
        if number % 3 == len(kind) % 3:
            trial, verdict = judged(kind, 11 + number, flaw)
            assert not wrong(trial, verdict), (flaw, trial.claim, trial.far, verdict)


@pytest.mark.parametrize(
    ("kind", "seed", "flaw"),
    [
        ("charge-time", 950, "no units"),  # minutes under “t”: an empty battery full after 0.2 Ah
        ("cold-block", 951, "end missing"),  # a clamp's 0 to 300 mA before and after a charge that is refused
    ],
)
def test_what_was_wrong_once(kind: str, seed: int, flaw: str) -> None:
    trial, verdict = judged(kind, seed, flaw)
    assert not wrong(trial, verdict), verdict
