"""A finished run as it is compared, and which of them emptied a battery from full to its own end."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import lru_cache

import numpy as np

from wintry_tally.core.analysis import Analysis
from wintry_tally.core.analysis.capacity import CapacityTest
from wintry_tally.core.analysis.ending import DROPOUT, PROTECTION, SET_CUTOFF
from wintry_tally.core.battery.families import Family
from wintry_tally.core.cell import BatteryModel, aged, parameters_for
from wintry_tally.core.plan.so_far import SoFar
from wintry_tally.core.room import ROOM_C
from wintry_tally.core.verdict.evidence import CapacityEvidence, begun_low

WHOLE = {PROTECTION, SET_CUTOFF, DROPOUT}
"""Ends of a discharge that are the battery's own or a mark's: a test stopped otherwise is no figure."""
METHODS = {"", "capacity", "cold-loss", "runtime", "reserve"}
"""Tests that empty a battery at one draw."""
UNREAD_SHARE = 0.01
"""What may have flowed after the last reading of what is compared, at the most."""
MOST_STAGES, MOST_POINTS, LEAST_POINTS = 2, 900, 20
FULL_DOUBT = 0.01
SINCE_SHARE = 0.018
"""A capacity from one test to the next, weeks later, as a share, one standard deviation, beside what a meter is off by;
common practice."""
ROOM_K = 8.0
OPENED_SHARE = 0.6
LEAST_HELD, MOST_HELD = 0.1, 1.3
"""Whatever a test says: a battery that gives less is beyond forecasting, one that gives more is mislabelled."""
STEPS, ROUNDS = 80, 4
"""How finely a model is followed: a book of hundreds of batteries is gone through when it is opened."""


@dataclass(frozen=True)
class Tested:
    """A finished run as it is compared: its name, method, when, its analysis, its capacity evidence."""

    name: str
    method: str
    started: datetime | None
    analysis: Analysis
    evidence: CapacityEvidence | None

    __test__ = False  # not a test case, whatever its name


def emptied(run: Tested) -> bool:
    """Whether it took a battery to its end; asked without a look at its readings."""
    test = run.analysis.capacity
    return test is not None and test.ended_by in WHOLE and run.method in METHODS


def whole_test(run: Tested) -> CapacityTest | None:
    """Its discharge, where it went from full to the battery's end, all of it read; else None."""
    test = run.analysis.capacity
    if test is None or not emptied(run) or test.count.charge.value <= 0 or test.count.duration_s <= 0:
        return None
    if test.hidden_s > 0 or test.unread_Ah > UNREAD_SHARE * test.count.charge.value or begun_low(run.analysis):
        return None
    return test


def share_held(runs: Sequence[Tested], family: Family, rated_Ah: float | None) -> float:
    """What a battery holds by its newest whole discharge in a room, as a share of what a usual one of its rating holds; 1 where
    no test says it. The readings are not looked at.

    Source: common practice, no published source.
    """
    for run in reversed(runs):
        one = run.evidence
        if one is None or not emptied(run) or one.undecided or one.begun_low or one.hidden_s > 0.0:
            continue
        if one.unread_Ah > UNREAD_SHARE * one.charge.value or not (rated_Ah and one.mean_current_A > 0.0):
            continue
        celsius = ROOM_C if one.temperature_C is None else one.temperature_C
        if abs(celsius - ROOM_C) > ROOM_K:
            continue
        end_V = one.end_V if one.end_V > OPENED_SHARE * family.cutoff_V else family.cutoff_V
        drawn_Ah, amps = round(one.charge.value, 3), round(one.mean_current_A, 3)
        return _held(family, rated_Ah, drawn_Ah, amps, round(celsius), round(end_V, 1))
    return 1.0


@lru_cache(maxsize=512)
def _held(family: Family, rated_Ah: float, drawn_Ah: float, amps: float, celsius: float, end_V: float) -> float:
    """The share at which the battery model gives as much; one that holds less is drawn from harder by the same current."""
    usual, held = replace(parameters_for(family, rated_Ah), protection=None), 1.0
    step_s = 3600.0 * drawn_Ah / amps / STEPS
    for _ in range(ROUNDS):
        model, steps, before_V, now_V = BatteryModel(aged(usual, held), 1.0, celsius), 0, math.inf, math.inf
        while steps < STEPS / LEAST_HELD and now_V > end_V:
            steps, before_V, now_V = steps + 1, now_V, model.advance(amps, step_s).voltage_V
        # within its last step on a straight line
        over = (end_V - now_V) / (before_V - now_V) if now_V < end_V < before_V < math.inf else 0.0
        held = min(MOST_HELD, max(LEAST_HELD, held * STEPS / (steps - over)))
    return held


def whole_discharges(runs: Sequence[Tested]) -> list[SoFar]:
    """The newest whole discharges of a battery as readings that a model of it has to fit, oldest first."""
    found: list[SoFar] = []
    for run in reversed(runs):
        if len(found) < MOST_STAGES and (stage := _readings(run)) is not None:
            found.append(stage)
    return found[::-1]


def _readings(run: Tested) -> SoFar | None:
    test = whole_test(run)
    if test is None:
        return None
    analysis = run.analysis
    begins, ends = analysis.stages[test.first].start_s, analysis.stages[test.last].end_s
    trace = analysis.trace
    within = (trace.time_s >= begins) & (trace.time_s <= ends) & (np.abs(trace.current) > 0.0)
    # once it has opened, what a voltmeter shows is no battery's
    inside = np.flatnonzero(within & (trace.voltage_V > OPENED_SHARE * float(np.median(trace.voltage_V[within]))))
    if len(inside) < LEAST_POINTS:
        return None
    rows = np.unique(np.append(inside[:: max(1, len(inside) // MOST_POINTS)], inside[-1]))
    before = trace.voltage_V[trace.time_s < begins][-3:]
    celsius = run.evidence.temperature_C if run.evidence is not None else None
    amps, charge = np.abs(trace.current[rows]), test.count.charge
    return SoFar(
        trace.time_s[rows] - trace.time_s[rows[0]], trace.voltage_V[rows], amps, "discharge", "current",
        float(np.median(amps)), float(np.median(amps)), end_V=float(trace.voltage_V[rows[-1]]), full=1.0,
        celsius=ROOM_C if celsius is None else celsius,
        rested_V=float(np.median(before)) if len(before) else math.nan, full_doubt=FULL_DOUBT,
        since=math.hypot(SINCE_SHARE, (charge.standard or 0.0) / charge.value),
    )  # fmt: skip
