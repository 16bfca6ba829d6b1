"""Holds and surges at their edges: opened too soon, stopped, too little asked, a current that varies, no accuracy.

Invented data; what each is worth is the command-line contract's (common practice, no published source).
"""

from __future__ import annotations

import numpy as np
import pytest

from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import FAMILIES, parse_claim
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import School, Verdict, judge
from wintry_tally.core.verdict.evidence import LogEvidence
from wintry_tally.core.verdict.outcome import Outcome


def held(*parts: tuple[float, float, float], step_s: float = 1.0) -> Trace:
    """(seconds, volts, amperes) one after another."""
    volts = np.concatenate([np.full(int(s / step_s), v) for s, v, _ in parts])
    amps = np.concatenate([np.full(int(s / step_s), a) for s, _, a in parts])
    noise = np.random.default_rng(3).normal(0.0, 0.002, len(volts))
    return Trace(
        np.arange(len(volts)) * step_s, (volts + noise).round(3), amps.round(3),
        resolution={"voltage_V": 0.001, "current_A": 0.001},
    )  # fmt: skip


def judged(claim: str, trace: Trace, method: str, accuracy: str | None = "0.5%+0.02") -> Verdict:
    meter = Instrument(parse_accuracy("0.1%+2d"), parse_accuracy(accuracy)) if accuracy else Instrument()
    analysis = analyse(trace, Options(FAMILIES["lfp"], 100.0, meter))
    evidence = [LogEvidence(method, ("hold.csv",), (analysis,))]
    return judge(FAMILIES["lfp"], 100.0, [parse_claim(claim)], evidence, School.STRICT)[0]


REST, AFTER, ASLEEP = (120.0, 13.3, 0.0), (120.0, 13.1, 0.0), (120.0, 0.4, 0.0)
HOLD = "100 A continuous for 15 min"


def hold(amps: float, seconds: float, end: tuple[float, float, float] = AFTER) -> Trace:
    return held(REST, (seconds, 12.7, amps), end)


@pytest.mark.parametrize(
    ("trace", "outcome", "words"),
    [
        (hold(100.0, 900.0), Outcome.MET, ""),
        (hold(98.0, 900.0), Outcome.MET, ""),  # a setting within 3 % is a test of it
        (hold(96.0, 900.0), Outcome.NOT_TESTED, "only"),
        (hold(100.0, 500.0), Outcome.NOT_TESTED, "the load was on for"),
        (hold(100.0, 500.0, ASLEEP), Outcome.MISSED, "it opened after"),
        (hold(100.3, 500.0, ASLEEP), Outcome.MISSED, "it opened after"),  # within the meter's doubt of the claim
        (hold(110.0, 500.0, ASLEEP), Outcome.NOT_TESTED, "above the claim"),
        (hold(110.0, 900.0), Outcome.MET, ""),
    ],
    ids=["held", "2 % less asked", "4 % less asked", "stopped", "opened", "opened, a little above", "opened above", "more"],
)  # fmt: skip
def test_a_hold(trace: Trace, outcome: Outcome, words: str) -> None:
    found = judged(HOLD, trace, "hold")
    assert found.outcome is outcome, (found.outcome, found.advice)
    assert words in (found.advice or "")


def test_one_that_opened_at_the_claim_counts_before_one_that_held_less() -> None:
    both = held(REST, (900.0, 12.8, 97.5), AFTER, (500.0, 12.7, 100.0), ASLEEP)
    assert judged(HOLD, both, "hold").outcome is Outcome.MISSED
    above = held(REST, (900.0, 12.8, 100.0), AFTER, (60.0, 12.4, 150.0), ASLEEP)
    assert judged(HOLD, above, "hold").outcome is Outcome.MET, "what opened above the claim says nothing against it"


def test_a_current_that_varies_settles_nothing() -> None:
    steps = [(30.0, 12.7, 100.0 + (40.0 if n % 2 else -10.0)) for n in range(30)]
    found = judged(HOLD, held(REST, *steps, AFTER), "hold")
    assert found.outcome not in {Outcome.MET, Outcome.MISSED} and found.probability is None


@pytest.mark.parametrize(("amps", "outcome"), [(100.0, Outcome.MET), (101.0, Outcome.MET), (98.5, Outcome.NOT_TESTED)])
def test_without_an_accuracy_only_what_reached_the_claim_is_met(amps: float, outcome: Outcome) -> None:
    found = judged(HOLD, hold(amps, 900.0), "hold", None)
    assert (found.outcome is Outcome.MET) == (outcome is Outcome.MET), found
    assert "accuracy" in (found.advice or "")


@pytest.mark.parametrize(
    ("seconds", "end", "outcome"),
    [
        (5.0, AFTER, Outcome.MET),
        (3.0, ASLEEP, Outcome.MISSED),
        (3.0, AFTER, Outcome.NOT_TESTED),
        (8.0, ASLEEP, Outcome.MET),
    ],
    ids=["held", "opened", "stopped", "opened after its time"],
)
def test_a_surge_of_five_seconds(seconds: float, end, outcome: Outcome) -> None:
    trace = held(REST, (seconds, 12.2, 200.0), end, step_s=0.2)
    assert judged("surge 200 A for 5 s", trace, "surge").outcome is outcome


def without(trace: Trace, first_s: float, last_s: float) -> Trace:
    """The same log, nothing read between two moments."""
    return trace.taking((trace.time_s <= first_s) | (trace.time_s >= last_s))


@pytest.mark.parametrize(
    ("unread_s", "outcome", "words"),
    [
        (50.0, Outcome.MISSED, "it opened after"),  # at most 550 s of the 900 claimed
        (350.0, Outcome.MISSED, "it opened after"),
        (420.0, Outcome.NOT_TESTED, "a gap of 7 min"),  # it may have held its time
    ],
)
def test_an_opening_in_a_gap_is_a_miss_only_where_the_gap_ends_too_soon(
    unread_s: float, outcome: Outcome, words: str
) -> None:
    trace = held(REST, (500.0, 12.7, 100.0), (900.0, 0.4, 0.0))
    found = judged(HOLD, without(trace, 619.0, 620.0 + unread_s), "hold")
    assert (found.outcome, words in str(found.advice)) == (outcome, True), found.advice


def test_a_trip_in_a_gap_is_at_least_the_last_current_seen() -> None:
    steps = held(REST, (20.0, 12.9, 150.0), (20.0, 12.7, 250.0), ASLEEP)
    claim = "over-current trip 250 ± 20 A within 30 s"
    assert judged(claim, steps, "overload").outcome is Outcome.MET
    hidden = judged(claim, without(steps, 135.0, 175.0), "overload")
    assert (hidden.outcome, hidden.bound) == (Outcome.NOT_TESTED, "at-least"), hidden.advice
    assert hidden.measured is not None and hidden.measured.value == pytest.approx(150.0)


def test_a_rise_in_a_gap_leaves_open_how_long_it_took_to_open() -> None:
    steps = held(REST, (30.0, 12.9, 150.0), (30.0, 12.7, 250.0), ASLEEP)
    claim = "over-current trip 250 ± 20 A within 10 s"
    assert judged(claim, steps, "overload").outcome is Outcome.MISSED, "30 s is late"
    # the rise lies between 140 and 172 s; it may have opened within 8 s of it
    assert judged(claim, without(steps, 140.0, 172.0), "overload").outcome is Outcome.MET


@pytest.mark.parametrize(
    ("held_A", "opened_A", "outcome"),
    [
        (170.0, 250.0, Outcome.MET),  # far below the window: a step of its own, into it
        (200.0, 250.0, Outcome.TOO_CLOSE),  # it may open between the two, most of which is not the window
        (229.0, 260.0, Outcome.TOO_CLOSE),  # next to its lower end: it may open just below it
        (231.0, 260.0, Outcome.MET),
        (268.0, 300.0, Outcome.TOO_CLOSE),  # next to its upper end: within what the meter may be off
        (275.0, 300.0, Outcome.MISSED),
        (255.0, 290.0, Outcome.TOO_CLOSE),
    ],
)
def test_next_to_an_end_of_the_window_the_meter_s_uncertainty_is_the_window_s(
    held_A: float, opened_A: float, outcome: Outcome
) -> None:
    steps = held(REST, (40.0, 12.9, held_A), (5.0, 12.6, opened_A), ASLEEP)
    assert judged("over-current trip 250 ± 20 A within 30 s", steps, "overload").outcome is outcome


@pytest.mark.parametrize(
    ("shown_s", "outcome"),
    [(1.0, Outcome.MISSED), (2.0, Outcome.MISSED), (2.5, Outcome.NOT_TESTED), (3.5, Outcome.MET)],
)
def test_what_opened_within_a_reading_of_its_time_is_left_open(shown_s: float, outcome: Outcome) -> None:
    # read twice a second: it opened up to half a second after the last reading, and came on up to as much before the first
    steps = held((20.0, 13.3, 0.0), (shown_s + 0.5, 12.7, 100.0), ASLEEP, step_s=0.5)
    found = judged("surge 100 A for 3 s", steps, "surge")
    assert found.outcome is outcome, found.advice
    assert outcome is not Outcome.NOT_TESTED or "within a reading" in str(found.advice)
