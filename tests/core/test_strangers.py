"""Verdicts on batteries, meters and loggers written apart from the application: never wrong, and not always open.

The experiment is the one of benchmarks/strangers.py with a few seeds a kind; its battery is no model of this house. Their
figures are as they were kept (tests/reference/figures.py says how to keep them anew where they were meant to change).
"""

from __future__ import annotations

import pytest
from benchmarks.strangers import KINDS, judged, wrong

from tests.amount import some
from tests.reference import figures
from wintry_tally.exchange.recipe_file import shipped


@pytest.fixture(scope="module")
def was() -> dict[str, figures.Figures]:
    """The figures as they were when they were last looked at."""
    return figures.kept()


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_no_verdict_on_a_stranger_s_battery_is_wrong_and_no_figure_moves(kind: str, was) -> None:
    decided = 0
    trials = figures.trials_of(kind)
    for seed, flaw in trials[:: some(2, 1)] + trials[1:2]:
        trial, verdict, now = figures.of_trial(kind, seed, flaw)
        assert not wrong(trial, verdict), (seed, flaw, trial.claim, trial.far, verdict)
        assert not figures.moved(was[f"{kind} {seed} {flaw}".strip()], now), (seed, flaw)
        decided += not flaw and verdict["outcome"] in {"met", "missed"}
    assert decided, "too careful: nothing was decided"


def test_no_figure_of_the_reference_curves_or_the_demo_moves(was) -> None:
    for name, now in ({name: figures.of_curve(name) for name in figures.curves()} | figures.of_demo()).items():
        assert not figures.moved(was[name], now), name


@pytest.mark.parametrize("tens", range(0, figures.SCRAPS, 10))
def test_no_figure_of_a_scrap_moves(tens: int, was) -> None:
    for seed in range(tens, tens + 10):
        assert not figures.moved(was[f"scrap {seed}"], figures.of_scrap(seed)), seed


@pytest.mark.parametrize("name", sorted(shipped()))
def test_no_step_limit_or_check_of_a_recipe_moves(name: str, was) -> None:
    assert not figures.moved(was[f"recipe {name}"], figures.of_recipe(name))


def test_nothing_that_pulses_show_and_no_planned_test_moves(was) -> None:
    assert not figures.moved(was["pulses"], figures.of_pulses())
    assert not figures.moved(was["plans"], figures.of_plans())


def test_a_figure_that_moves_is_told_and_one_of_a_last_digit_is_not() -> None:
    before = {"charge": {"value": 40.0, "shown": "40.00 0.23"}, "stages": [{"kind": "rest"}]}
    assert (
        figures.moved(before, {"charge": {"value": 40.0001, "shown": "40.01 0.23"}, "stages": [{"kind": "rest"}]}) == []
    )
    changed = {"charge": {"value": 40.001, "shown": "40.02 0.23"}, "stages": [{"kind": "charge"}, {"kind": "rest"}]}
    assert len(figures.moved(before, changed)) == 4


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
