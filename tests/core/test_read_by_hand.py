"""Tests read by hand: the end that somebody saw and nobody read.

Common practice, no published source: it ended between the last reading and the one that would have come next.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from tests.core.test_kinds import LFP, METER, claim, verdict
from tests.making import discharge
from wintry_tally.core.analysis import Analysis, Options, analyse
from wintry_tally.core.analysis.analyse import SEEN
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import Outcome, School, judge
from wintry_tally.core.verdict.evidence import capacity_evidence
from wintry_tally.core.verdict.twins import _cut_short


def by_hand(ended_by: str, last_min: float = 2.0, hours: float = 4.0) -> Analysis:
    """10 A of a 50 Ah pack from 13.5 V for so many hours, read every quarter of an hour, and once more `last_min` later."""
    time = np.concatenate([[0.0], np.arange(1.0, hours * 4 + 1) * 900.0, [hours * 3600.0 + 60.0 * last_min]])
    volts = np.concatenate([[13.4], np.linspace(13.2, 12.0, len(time) - 2), [11.2]])
    amps = np.concatenate([[0.0], np.full(len(time) - 1, 10.0)])
    return analyse(
        Trace(time, volts, amps),
        Options(family=LFP, rated_Ah=50.0, instrument=METER, ambient_C=25.0, ended_by=ended_by),
    )


@pytest.mark.parametrize(
    ("ended_by", "claimed_Ah", "outcome", "bound"),
    [
        ("", 60.0, Outcome.NOT_TESTED, "at-least"),  # the readings stop, and nobody says why
        ("operator", 60.0, Outcome.NOT_TESTED, "at-least"),
        ("battery-protection", 60.0, Outcome.MISSED, None),
        ("battery-protection", 30.0, Outcome.MET, None),
    ],
)
def test_how_it_ended_is_believed_of_who_saw_it(
    ended_by: str, claimed_Ah: float, outcome: Outcome, bound: str | None
) -> None:
    run = capacity_evidence("run", by_hand(ended_by), 25.0)
    assert run is not None
    told = judge(LFP, 50.0, [claim("capacity", claimed_Ah, "Ah", "at-least")], [run], School.STRICT)[0]
    assert (told.outcome, told.bound) == (outcome, bound), told.advice


def test_what_may_have_flowed_after_the_last_reading_is_one_more_interval() -> None:
    log = by_hand("battery-protection", last_min=30.0)
    test = log.capacity
    assert (
        test is not None and test.unread_s == pytest.approx(1800.0) and test.unread_Ah == pytest.approx(5.0, rel=0.01)
    )
    run = capacity_evidence("run", log, 25.0)
    assert run is not None
    told = judge(LFP, 50.0, [claim("capacity", test.count.charge.value + 2.0, "Ah", "at-least")], [run], School.STRICT)[
        0
    ]
    unread = next(one for one in told.conditions if one.name == "last reading")
    assert unread.most == pytest.approx(5.0, rel=0.01) and "30 min" in str(unread.actual)
    assert told.outcome is Outcome.TOO_CLOSE and "after the last reading" in str(told.advice)
    ran = verdict(claim("runtime", 4.6 * 3600.0, "s", "at-least", device_A=10.0), "runtime", log, rated=50.0)
    assert next(one for one in ran.conditions if one.name == "last reading").most == pytest.approx(1800.0, rel=0.01)
    # who switched it off read it as they did; held against a twin, half an hour unread is short of it
    assert by_hand("operator").capacity.unread_s == 0.0
    assert "older than its end" in _cut_short(test, test) and not _cut_short(replace(test, unread_s=0.0), test)


def test_an_end_that_the_readings_show_is_theirs() -> None:
    log = by_hand("operator")
    opened = analyse(
        Trace(
            np.append(log.trace.time_s, log.trace.time_s[-1] + 30.0),
            np.append(log.trace.voltage_V, 0.2),
            np.append(log.trace.current, 0.0),
        ),
        replace(log.options, ended_by="operator"),
    )
    assert opened.capacity is not None and (opened.capacity.ended_by, opened.capacity.unread_s) == (
        "battery-protection",
        0.0,
    )


@pytest.mark.parametrize("seen", ["battery-protection", "set-cutoff", "operator", "time-limit", ""])
def test_the_stage_that_the_readings_leave_under_load_ended_as_it_was_seen_to(seen: str) -> None:
    found = by_hand(seen)
    assert found.capacity is not None
    told = [found.seen_to_end(place) for place in range(len(found.stages))]
    assert told[found.capacity.last] == (seen if seen in SEEN else "log-end")
    shown = [result.ended_by or "" for result in found.stages]
    assert [one for place, one in enumerate(told) if place != found.capacity.last] == [
        one for place, one in enumerate(shown) if place != found.capacity.last
    ]
    # readings that show it are not overruled by what somebody said
    opened = analyse(discharge(opened=True), replace(found.options, ended_by="set-cutoff"))
    assert opened.capacity is not None and opened.seen_to_end(opened.capacity.last) == "battery-protection"
