"""Every claim kind settled from the log its test leaves; truths are known, invented logs."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from tests.making import discharge, piecewise
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse
from wintry_tally.core.battery import FAMILIES, Claim, Direction, Family, parse_claim
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import Outcome, School, Verdict, judge
from wintry_tally.core.verdict.evidence import LogEvidence
from wintry_tally.core.verdict.judging import SETTLERS

LFP, AGM = FAMILIES["lfp"], FAMILIES["agm"]
METER = Instrument(parse_accuracy("0.1%+2d"), parse_accuracy("0.5%+2d"), "meter")


def analysed(trace: Trace, family: Family = LFP, rated: float = 100.0, **more: object) -> Analysis:
    return analyse(trace, Options(family=family, rated_Ah=rated, instrument=METER, **more))


def verdict(
    claim: Claim | str, method: str, *logs: Analysis, family: Family = LFP, rated: float = 100.0, school=School.STRICT
) -> Verdict:
    kept = parse_claim(claim) if isinstance(claim, str) else claim
    names = tuple(f"log {n}" for n in range(len(logs)))
    return judge(family, rated, [kept], [LogEvidence(method, names, logs)], school)[0]


def claim(
    kind: str, value: float | None, unit: str, direction: str, tolerance: float = 0.0, **conditions: float
) -> Claim:
    return Claim(kind, value, unit, Direction(direction), tolerance, conditions)


def with_temperature(trace: Trace, temperature: object) -> Trace:
    return Trace(
        trace.time_s, trace.voltage_V, trace.current_A, temperature_C=np.broadcast_to(temperature, (len(trace),)).astype(float),
        resolution=trace.resolution,
    )  # fmt: skip


def overload(amps: float, seconds: float, after_V: float = 0.2, interval_s: float = 0.5) -> Trace:
    return piecewise(
        (20, 0.0, 13.2), (30, 100.0, 12.9), (seconds, amps, 12.2), (60, 0.0, after_V), interval_s=interval_s
    )


# --- trips ---


def test_an_over_current_trip_with_its_latency() -> None:
    # T13, common practice: 300 ± 50 A covers 250 to 350 A; opened after about 60 s at 300 A is inside the window
    found = analysed(overload(300.0, 60.0)).trips
    assert [trip.kind for trip in found] == ["over-current"]
    assert found[0].latency_s == pytest.approx(60.0, abs=0.5) and found[0].current_A == pytest.approx(300.0)
    assert found[0].voltage_V == pytest.approx(12.2) and found[0].at_s == pytest.approx(110.0, abs=0.5)


@pytest.mark.parametrize("seconds", [12.5, 60.0, 61.7])
def test_a_load_switched_off_while_the_pack_still_shows_itself_is_no_trip(seconds: float) -> None:
    by_hand = analysed(overload(260.0, seconds, after_V=13.1))
    assert by_hand.trips == () and any(remark.code == "end-unclear" for remark in by_hand.remarks)
    assert [result.ended_by for result in by_hand.stages][-2] == "operator"
    found = verdict(claim("over-current-trip", 300.0, "A", "within", 50.0, duration_s=90.0), "overload", by_hand)
    assert found.outcome is Outcome.NOT_TESTED and "leave the load on" in (found.advice or "")


def test_an_empty_pack_trips_on_its_voltage() -> None:
    found = analysed(discharge(8.0, 5.0, opened=True, end_V=9.8), rated=40.0).trips
    assert [trip.kind for trip in found] == ["low-voltage"]
    # the curve of the maker crosses the family's 10 V shortly before it opens at 9.8 V
    assert 0 < found[0].latency_s < 120


def test_an_over_voltage_trip_counts_from_the_family_s_limit() -> None:
    trace = piecewise((20, 0.0, 13.2), (600, -20.0, 14.0), (4, -20.0, 14.65), (60, 0.0, 15.4))
    found = analysed(trace).trips
    assert [trip.kind for trip in found] == ["over-voltage"]
    assert found[0].latency_s == pytest.approx(4.0, abs=1.1) and found[0].voltage_V == pytest.approx(14.65)


def test_a_charger_s_voltage_that_stands_without_current_is_a_protection() -> None:
    stands = analysed(piecewise((20, 0.0, 13.2), (600, -20.0, 14.2), (60, 0.0, 14.2)))
    assert [result.ended_by for result in stands.stages][1] == "charge-protection"
    falls = analysed(piecewise((20, 0.0, 13.2), (600, -20.0, 14.2), (60, 0.0, 13.7)))
    assert [result.ended_by for result in falls.stages][1] == "operator"


def test_a_cold_block_is_seen_with_and_without_a_first_current() -> None:
    for first_A in (-4.0, 0.0):
        trace = with_temperature(piecewise((20, 0.0, 12.9), (3, first_A, 14.4), (60, 0.0, 14.4)), -9.0)
        found = analysed(trace).trips
        assert [trip.kind for trip in found] == ["low-temperature"], first_A
        assert found[0].at_s == pytest.approx(23.0 if first_A else 19.5, abs=1.0)
    warm = with_temperature(piecewise((20, 0.0, 12.9), (3, -4.0, 14.4), (60, 0.0, 14.4)), 22.0)
    assert [trip.kind for trip in analysed(warm).trips] == ["over-voltage"]


# --- hold, surge, overload ---


@pytest.mark.parametrize(
    ("amps", "seconds", "after_V", "expected"),
    [
        (100.0, 300.0, 13.0, "met"),  # set to the claim and carried to the end
        (104.0, 420.0, 13.0, "met"),
        (100.0, 140.0, 0.2, "missed"),  # opened early at the claimed current
        (80.0, 140.0, 0.2, "missed"),  # and at less
        (130.0, 140.0, 0.2, "not-tested"),  # opened at more than is claimed
        (100.0, 150.0, 13.0, "not-tested"),  # somebody stopped early
        (60.0, 600.0, 13.0, "not-tested"),  # asked for too little
    ],
)
def test_continuous_discharge(amps: float, seconds: float, after_V: float, expected: str) -> None:
    log = analysed(piecewise((30, 0.0, 13.2), (seconds, amps, 12.8), (60, 0.0, after_V)))
    found = verdict(claim("continuous-discharge", 100.0, "A", "at-least", duration_s=300.0), "hold", log)
    assert found.outcome == expected
    assert found.measured is not None and found.measured.value == pytest.approx(amps, rel=1e-3)


def test_a_current_that_wanders_holds_nothing() -> None:
    parts = [(30, 60.0 if n % 2 else 150.0, 12.8) for n in range(12)]
    log = analysed(piecewise((30, 0.0, 13.2), *parts, (60, 0.0, 13.0)))
    found = verdict(claim("continuous-discharge", 100.0, "A", "at-least", duration_s=300.0), "hold", log)
    assert found.outcome is Outcome.TOO_CLOSE and "varied" in (found.advice or "")


def test_a_surge_for_its_seconds() -> None:
    log = analysed(piecewise((30, 0.0, 13.2), (60, 50.0, 12.9), (6, 210.0, 12.1), (60, 0.0, 13.0), interval_s=0.2))
    assert verdict(claim("surge", 200.0, "A", "at-least", duration_s=5.0), "surge", log).outcome is Outcome.MET
    assert verdict(claim("surge", 200.0, "A", "at-least", duration_s=30.0), "surge", log).outcome is Outcome.NOT_TESTED
    assert verdict(claim("surge", 300.0, "A", "at-least", duration_s=5.0), "surge", log).outcome is Outcome.NOT_TESTED


@pytest.mark.parametrize(
    ("amps", "seconds", "after_V", "within_s", "expected"),
    [
        (300.0, 58.7, 0.2, 90.0, "met"),
        (300.0, 58.7, 0.2, 20.0, "missed"),  # too late
        (220.0, 40.0, 0.2, 90.0, "missed"),  # opened below the window
        (249.0, 40.0, 0.2, 90.0, "too-close"),
        (360.0, 120.0, 13.0, 90.0, "missed"),  # carried more than the window without opening
        (310.0, 120.0, 13.0, 90.0, "not-tested"),  # inside the window, switched off before it opened
        (120.0, 120.0, 13.0, 90.0, "not-tested"),
    ],
)
def test_over_current_trip(amps: float, seconds: float, after_V: float, within_s: float, expected: str) -> None:
    log = analysed(overload(amps, seconds, after_V))
    found = verdict(claim("over-current-trip", 300.0, "A", "within", 50.0, duration_s=within_s), "overload", log)
    assert found.outcome == expected


def test_a_discharge_ended_above_the_cut_says_what_is_missing() -> None:
    log = analysed(discharge(20.0, 1.0, opened=False), cutoff_V=10.3)
    found = verdict("cuts at 10 V", "capacity", log)
    assert found.outcome is Outcome.NOT_TESTED and "until the pack opened itself" in str(found.advice)
    assert verdict("cuts at 10 V", "charge", log).advice == "run a capacity test"


def test_the_low_voltage_cut_and_release() -> None:
    log = analysed(discharge(8.0, 5.0, opened=True, end_V=10.0), rated=40.0)
    # the reading before the opening lies a little above: the last fall is part of the doubt
    assert verdict("cuts at 10 V", "capacity", log).outcome is Outcome.MET
    assert verdict("cuts at 11.2 V", "capacity", log).outcome is Outcome.MISSED
    again = piecewise(
        (30, 0.0, 13.2), (600, 8.0, 12.8), (5, 8.0, 10.05), (60, 0.0, 0.3), (30, 0.0, 12.0), (60, 8.0, 11.8)
    )
    assert (
        verdict(claim("low-voltage-release", 12.0, "V", "within"), "capacity", analysed(again)).outcome is Outcome.MET
    )
    held = analysed(discharge(8.0, 5.0, opened=False), rated=40.0)
    assert verdict("cuts at 10 V", "capacity", held).outcome is Outcome.NOT_TESTED


def test_a_surge_that_opens_is_judged_by_what_was_asked_not_by_an_average_over_steps() -> None:
    step = piecewise((30, 0.0, 13.2), (60, 50.0, 12.9), (1, 200.0, 12.1), (60, 0.0, 0.1), interval_s=0.2)
    for wanted_A, outcome in ((200.0, "missed"), (230.0, "missed"), (180.0, "not-tested")):
        found = verdict(claim("surge", wanted_A, "A", "at-least", duration_s=3.0), "surge", analysed(step))
        assert found.outcome == outcome, wanted_A


@pytest.mark.parametrize(
    ("seconds", "after_V", "duration_s", "expected"),
    [
        (3.0, 14.3, None, "missed"),  # the charger's voltage stands, nothing flows: refused
        (3.0, 13.4, None, "not-tested"),  # taken off by hand
        (75.0, 14.3, None, "met"),  # a minute is a charge, where no time is claimed
        (75.0, 14.3, 600.0, "missed"),
        (700.0, 13.4, 600.0, "met"),
    ],
)
def test_a_charge_current_is_taken_when_it_flowed_for_its_time(
    seconds: float, after_V: float, duration_s: float | None, expected: str
) -> None:
    log = analysed(piecewise((60, 0.0, 12.9), (seconds, -50.0, 14.3), (60, 0.0, after_V), interval_s=0.5))
    conditions = {} if duration_s is None else {"duration_s": duration_s}
    found = verdict(claim("charge-current", 50.0, "A", "at-least", **conditions), "charge", log)
    assert found.outcome == expected
    full = analysed(piecewise((60, 0.0, 13.5), (seconds, -50.0, 14.3), (60, 0.0, after_V), interval_s=0.5))
    again = verdict(claim("charge-current", 50.0, "A", "at-least", **conditions), "charge", full)
    assert again.outcome == expected.replace("missed", "not-tested"), "a full one refuses whatever is claimed"


# --- charge ---


def charged(amps: float = 20.0, limit: float = 14.4) -> Trace:
    steady = np.full(int(4.5 * 360), amps)
    taper = amps * np.exp(-np.arange(0, 3600, 10) / 900.0)
    current = np.concatenate([[0.0] * 6, steady, taper, np.zeros(60)])
    volts = np.concatenate(
        [
            [13.0] * 6,
            13.2 + (limit - 13.2) * np.linspace(0, 1, len(steady)) ** 6,
            np.full(len(taper), limit),
            np.full(60, 13.5),
        ]
    )
    return Trace(
        np.arange(len(current)) * 10.0, volts.round(3), -current.round(3),
        resolution={"voltage_V": 0.001, "current_A": 0.001},
    )  # fmt: skip


def test_charge_claims() -> None:
    log = analysed(charged())
    # 4.5 h at 20 A, then 20 A e^(-t/900 s) down to 5 A: 900 s × ln 4 = 1248 s
    # 94 of 100 Ah went in: what may have been in it before would take 19 minutes more at most
    assert verdict(claim("charge-time", 5.2 * 3600, "s", "at-most"), "charge", log).outcome is Outcome.MET
    open_yet = verdict(claim("charge-time", 5.0 * 3600, "s", "at-most"), "charge", log)
    assert (open_yet.outcome, open_yet.bound) == (Outcome.NOT_TESTED, "at-least")
    assert verdict(claim("charge-time", 4.0 * 3600, "s", "at-most"), "charge", log).outcome is Outcome.MISSED
    assert verdict(claim("charge-current", 20.0, "A", "at-least"), "charge", log).outcome is Outcome.MET
    assert verdict(claim("charge-current", 50.0, "A", "at-least"), "charge", log).outcome is Outcome.NOT_TESTED
    told = verdict(claim("charge-current", 15.0, "A", "at-most"), "charge", log)
    assert told.outcome is Outcome.NOT_TESTED and "limit for the charger" in told.advice
    # of two charges the one that got full counts, whichever came last
    short = analysed(piecewise((600, 0.0, 12.2), (3600, -20.0, 13.6), (600, 0.0, 13.4), interval_s=10.0))
    for logs in ((log, short), (short, log)):
        both = [LogEvidence("charge", (f"{n}",), (one,)) for n, one in enumerate(logs)]
        wanted = claim("charge-time", 5.2 * 3600, "s", "at-most")
        assert judge(LFP, 100.0, [wanted], both, School.STRICT)[0].outcome is Outcome.MET
    # and of one that may have begun with something in it and one from empty, the one that settles it, whichever is first
    low = charged()
    low.voltage_V[:6] = 12.2
    empty = analysed(low)
    for logs in ((log, empty), (empty, log)):
        both = [LogEvidence("charge", (f"{n}",), (one,)) for n, one in enumerate(logs)]
        found = judge(LFP, 100.0, [claim("charge-time", 5.0 * 3600, "s", "at-most")], both, School.STRICT)[0]
        assert found.outcome is Outcome.MET and found.measured.value == pytest.approx(4.5 * 3600 + 1248, rel=0.01)
    assert verdict(claim("charge-voltage", 14.4, "V", "within", 0.2), "charge", log).outcome is Outcome.MET
    assert verdict(claim("charge-voltage", 14.0, "V", "within", 0.2), "charge", log).outcome is Outcome.MISSED
    assert verdict(claim("over-voltage-cut", 14.8, "V", "within", 0.1), "charge", log).outcome is Outcome.NOT_TESTED


def test_the_over_voltage_cut_and_release() -> None:
    trace = piecewise(
        (20, 0.0, 13.2), (600, -20.0, 14.0), (4, -20.0, 14.8), (60, 0.0, 15.4), (60, 0.0, 13.9), (60, -20.0, 14.1)
    )
    log = analysed(trace)
    assert verdict(claim("over-voltage-cut", 14.8, "V", "within", 0.1), "charge", log).outcome is Outcome.MET
    assert verdict(claim("over-voltage-cut", 14.2, "V", "within", 0.1), "charge", log).outcome is Outcome.MISSED
    assert verdict(claim("over-voltage-release", 13.9, "V", "within", 0.1), "charge", log).outcome is Outcome.MET
    # the lowest reading between opening and taking again: a voltage under charge is no part of it, before or behind
    dips = piecewise(
        (20, 0.0, 13.2), (600, -20.0, 13.0), (4, -20.0, 14.8), (60, 0.0, 15.4), (60, 0.0, 13.9), (10, 0.0, 13.8), (60, -20.0, 13.5)
    )  # fmt: skip
    found = verdict(claim("over-voltage-release", 13.8, "V", "within", 0.05), "charge", analysed(dips))
    assert found.measured is not None and found.measured.value == 13.8 and found.outcome is Outcome.MET
    # one that climbs back from its lowest carries how far as a doubt
    climbs = piecewise(
        (20, 0.0, 13.2), (600, -20.0, 13.0), (4, -20.0, 14.8), (60, 0.0, 15.4), (60, 0.0, 13.7), (10, 0.0, 13.9), (60, -20.0, 14.1)
    )  # fmt: skip
    found = verdict(claim("over-voltage-release", 13.8, "V", "within", 0.05), "charge", analysed(climbs))
    assert found.measured is not None and found.measured.value == 13.7
    terms = {term.name: term.standard for term in found.measured.terms}
    assert terms["between readings"] == pytest.approx(0.2 / np.sqrt(3.0), abs=1e-6)
    never = analysed(piecewise((20, 0.0, 13.2), (600, -20.0, 14.0), (300, -20.0, 15.2), (60, 0.0, 13.9)))
    assert verdict(claim("over-voltage-cut", 14.8, "V", "within", 0.1), "charge", never).outcome is Outcome.MISSED


# --- cold ---


def warming(blocked: bool = True, release_C: float = 4.0) -> Trace:
    """A charger on a pack that warms from -10 °C by a kelvin a minute."""
    time_s = np.arange(0.0, 1800.0, 1.0)
    temperature = -10.0 + time_s / 60.0
    on = time_s >= 60
    flows = on & ((temperature >= release_C) | (not blocked) | (time_s < 63))
    current = np.where(flows, -5.0, 0.0)
    volts = np.where(on, np.where(flows, 13.6, 14.4), 12.9)
    return Trace(time_s, volts, current, temperature_C=temperature, resolution={"voltage_V": 0.001, "current_A": 0.001})


def test_a_cold_block_and_its_release() -> None:
    log = analysed(warming())
    block = claim("cold-charge-block", 0.0, "°C", "within")
    found = verdict(block, "charge-block", log)
    assert (
        found.outcome is Outcome.MET
        and found.measured is not None
        and found.measured.value == pytest.approx(-9, abs=0.2)
    )
    assert verdict(claim("cold-charge-release", 5.0, "°C", "within", 3.0), "charge-block", log).outcome is Outcome.MET
    assert (
        verdict(claim("cold-charge-release", 12.0, "°C", "within", 2.0), "charge-block", log).outcome is Outcome.MISSED
    )
    open_ = verdict(block, "charge-block", analysed(warming(blocked=False)))
    assert open_.outcome is Outcome.MISSED and "no block seen" in (open_.advice or "")
    plain = piecewise((20, 0.0, 12.9), (3, -4.0, 14.4), (60, 0.0, 14.4))
    assert verdict(block, "charge-block", analysed(plain)).outcome is Outcome.NOT_TESTED
    assert verdict(block, "charge-block", analysed(plain, ambient_C=-18.0)).outcome is Outcome.MET


def test_a_heater_s_power_time_and_stop() -> None:
    # T18, common practice: 14.3 V and a small current on a self-heating pack is the heater, not the cells
    shape = piecewise((60, 0.0, 12.9), (1500, -4.6, 14.3), (1800, -18.2, 13.37), (300, 0.0, 13.2))
    temperature = np.interp(shape.time_s, [0, 60, 1560, 4000], [-12.0, -12.0, 5.0, 12.0])
    log = analysed(with_temperature(shape, temperature))
    assert verdict(claim("heater-power", 60.0, "W", "at-least"), "heater", log).outcome is Outcome.MET
    assert verdict(claim("heater-power", 80.0, "W", "at-least"), "heater", log).outcome is Outcome.MISSED
    assert verdict(claim("heater-time", 1800.0, "s", "at-most"), "heater", log).outcome is Outcome.MET
    assert verdict(claim("heater-time", 1200.0, "s", "at-most"), "heater", log).outcome is Outcome.MISSED
    assert verdict(claim("heater-stop", 5.0, "°C", "within", 3.0), "heater", log).outcome is Outcome.MET
    # the hand-over in a gap: at least so long, and nobody knows how warm
    whole = with_temperature(shape, temperature)
    unread = analysed(whole.taking((whole.time_s < 1500.0) | (whole.time_s > 2000.0)))
    assert verdict(claim("heater-time", 1800.0, "s", "at-most"), "heater", unread).bound == "at-least"
    assert verdict(claim("heater-time", 1200.0, "s", "at-most"), "heater", unread).outcome is Outcome.MISSED
    assert verdict(claim("heater-stop", 5.0, "°C", "within", 3.0), "heater", unread).outcome is Outcome.NOT_TESTED
    # no half of the gap is heating that anybody saw: 1440 s it shows, though it may have been over half an hour
    seen = verdict(claim("heater-time", 1500.0, "s", "at-most"), "heater", unread)
    assert seen.outcome is Outcome.NOT_TESTED and seen.measured is not None
    assert seen.measured.value == pytest.approx(1440.0, abs=3.0)
    # nor is what came before its first reading: it may have been on for seven minutes more
    begun = analysed(whole.taking((whole.time_s < 50.0) | (whole.time_s > 480.0)))
    late = verdict(claim("heater-time", 1200.0, "s", "at-most"), "heater", begun)
    assert late.outcome is Outcome.NOT_TESTED and "when the charger was put on" in (late.advice or "")
    assert verdict(claim("heater-time", 1000.0, "s", "at-most"), "heater", begun).outcome is Outcome.MISSED
    assert verdict(claim("heater-stop", 5.0, "°C", "within", 3.0), "heater", begun).outcome is Outcome.MET
    # the cells took nothing while it was cold: a block of its own kind
    assert verdict(claim("cold-charge-block", 0.0, "°C", "within"), "heater", log).outcome is Outcome.MET
    alone = analysed(with_temperature(piecewise((60, 0.0, 12.9), (900, -4.6, 14.3)), -10.0))
    assert alone.charge is not None and alone.charge.heating is not None and alone.charge.count.charge.value == 0.0


def test_the_loss_in_the_cold_cancels_the_meter_s_gain() -> None:
    # T5, common practice: 10 h 53 min warm, 9 h 37 min cold: -11.6 %
    warm = analysed(discharge(0.9, 10 + 53 / 60, opened=True), rated=10.0)
    cold = analysed(discharge(0.9, 9 + 37 / 60, opened=True), rated=10.0)
    found = verdict(claim("cold-loss", 15.0, "%", "at-most"), "cold-loss", cold, warm, rated=10.0)
    assert found.measured is not None and found.measured.value == pytest.approx(11.6, abs=0.1)
    # each charge alone is known to 0.6 %; the difference to far better than the 0.9 % of two independent ones
    assert found.measured.expanded is not None and found.measured.expanded < 0.5
    assert found.outcome is Outcome.MET
    assert (
        verdict(claim("cold-loss", 10.0, "%", "at-most"), "cold-loss", cold, warm, rated=10.0).outcome is Outcome.MISSED
    )


@pytest.mark.parametrize(
    ("cold_h", "warm_h", "stopped", "at_15", "at_5", "bound"),
    [
        (5.0, 10.0, "cold", "not-tested", "not-tested", "at-most"),
        (9.9, 10.0, "cold", "met", "met", "at-most"),
        (8.0, 9.8, "warm", "missed", "missed", "at-least"),
        (9.8, 9.9, "warm", "not-tested", "not-tested", "at-least"),
        (9.0, 9.2, "both", "not-tested", "not-tested", None),
    ],
)
def test_a_cold_run_or_its_twin_stopped_by_hand_bounds_the_loss(
    cold_h: float, warm_h: float, stopped: str, at_15: str, at_5: str, bound: str | None
) -> None:
    # common practice, no published source: what was not drawn is not lost
    # what is stopped by hand is stopped on the plateau
    cold = analysed(
        discharge(0.9, cold_h, opened=stopped == "warm", end_V=10.3 if stopped == "warm" else 12.7), rated=10.0
    )
    warm = analysed(
        discharge(0.9, warm_h, opened=stopped == "cold", end_V=10.3 if stopped == "cold" else 12.7), rated=10.0
    )
    for percent, outcome in ((15.0, at_15), (5.0, at_5)):
        found = verdict(claim("cold-loss", percent, "%", "at-most"), "cold-loss", cold, warm, rated=10.0)
        assert (found.outcome, found.bound) == (outcome, bound), (percent, found.advice)
        assert outcome != "not-tested" or "somebody or something" in str(found.advice)


@pytest.mark.parametrize(
    ("cold_V", "warm_V", "outcome"),
    [(10.33, 10.33, "met"), (10.33, 10.28, "met"), (10.33, 11.34, "not-tested"), (12.7, 12.7, "not-tested")],
)
def test_a_cold_run_and_its_twin_that_fell_to_one_voltage_are_compared(
    cold_V: float, warm_V: float, outcome: str
) -> None:
    # common practice, no published source: whatever ended both on their falling ends, it was one cut-off
    cold, warm = (
        analysed(discharge(0.9, hours, opened=False, end_V=volts), rated=10.0)
        for hours, volts in ((9.0, cold_V), (10.0, warm_V))
    )
    assert {test.ended_by for test in (cold.capacity, warm.capacity) if test} == {"operator"}
    found = verdict(claim("cold-loss", 15.0, "%", "at-most"), "cold-loss", cold, warm, rated=10.0)
    assert found.outcome == outcome, found.advice


@pytest.mark.parametrize(
    ("at", "claimed_C", "outcome", "effect"),
    [
        ((-10.0, 25.0), -10.0, "missed", None),
        ((25.0, -10.0), -10.0, "missed", None),  # named the other way round: the colder one is the cold one
        ((-10.0, 25.0), -13.0, "missed", None),
        ((0.0, 25.0), -10.0, "missed", 20.0 * 10.0 / 25.0),
        ((-30.0, 20.0), -10.0, "too-close", -20.0 * 20.0 / 50.0),
    ],
)
def test_the_cold_twin_is_the_colder_one_and_its_loss_is_carried_to_the_claims_temperature(
    at: tuple[float, float], claimed_C: float, outcome: str, effect: float | None
) -> None:
    # common practice, no published source: so much a kelvin as was found, to half of it
    hours = {min(at): 8.0, max(at): 10.0}
    logs = [analysed(with_temperature(discharge(0.9, hours[one]), one), rated=10.0) for one in at]
    found = verdict(claim("cold-loss", 15.0, "%", "at-most", temperature_C=claimed_C), "cold-loss", *logs, rated=10.0)
    assert found.measured is not None and found.measured.value == pytest.approx(20.0, abs=0.1)
    assert found.outcome == outcome and ("is taken as the cold one" in str(found.advice)) == (at[0] > at[1])
    (condition,) = (condition for condition in found.conditions if condition.name == "temperature")
    assert condition.actual == min(at) and (condition.effect is None) == (effect is None)
    if condition.effect is not None:
        assert condition.effect.value == pytest.approx(effect, rel=0.01)
        assert condition.effect.standard == pytest.approx(abs(condition.effect.value) / 2)


@pytest.mark.parametrize(("ambient", "told"), [((-10.0, 25.0), True), ((24.0, 24.0), False), ((None, 24.0), False)])
def test_one_temperature_said_of_both_twins_says_nothing_of_either(
    ambient: tuple[float | None, float | None], told: bool
) -> None:
    cold, warm = (
        replace(log, options=replace(log.options, ambient_C=celsius))
        for log, celsius in zip((analysed(discharge(0.9, 8.0), rated=10.0), analysed(discharge(0.9, 10.0), rated=10.0)), ambient, strict=True)
    )  # fmt: skip
    found = verdict(claim("cold-loss", 15.0, "%", "at-most", temperature_C=-10.0), "cold-loss", cold, warm, rated=10.0)
    assert [condition.actual for condition in found.conditions if condition.name == "temperature"] == (
        [-10.0] if told else []
    )


@pytest.mark.parametrize(("cold_C", "outcome"), [(20.1, "not-tested"), (19.9, "met"), (24.0, "not-tested")])
def test_two_runs_in_one_room_show_no_loss_in_the_cold(cold_C: float, outcome: str) -> None:
    cold, warm = (analysed(with_temperature(discharge(0.9, 10.0), at), rated=10.0) for at in (cold_C, 25.0))
    found = verdict(claim("cold-loss", 15.0, "%", "at-most"), "cold-loss", cold, warm, rated=10.0)
    assert found.outcome == outcome and ("neither was the cold one" in str(found.advice)) == (outcome == "not-tested")


def test_a_cut_lies_up_to_one_more_fall_below_its_last_reading() -> None:
    # a rectangular term of that half-width: JCGM 100:2008, 4.3.7
    trace = piecewise((60, 0.0, 13.2), (600, 8.0, 12.0), interval_s=10.0)
    volts = np.append(trace.voltage_V, [11.4, 10.4, 0.1, 0.1, 0.1])
    amps = np.append(trace.current, [8.0, 8.0, 0.0, 0.0, 0.0])
    log = Trace(np.arange(len(volts)) * 10.0, volts, amps, resolution=trace.resolution)
    wanted = claim("low-voltage-cut", 10.0, "V", "within", 0.5)
    found = verdict(wanted, "capacity", analysed(log, rated=40.0), rated=40.0)
    assert found.measured is not None and found.measured.value == 10.4
    (fall,) = (term.standard for term in found.measured.terms if term.name == "one more fall")
    assert fall == pytest.approx(1.0 / 3.0**0.5)


def test_a_cold_one_that_gave_more_settles_nothing() -> None:
    for cold_h, outcome in ((8.2, "met"), (8.3, "not-tested"), (10.0, "not-tested")):
        cold, warm = (analysed(discharge(0.9, hours), rated=10.0) for hours in (cold_h, 8.0))
        found = verdict(claim("cold-loss", 15.0, "%", "at-most"), "cold-loss", cold, warm, rated=10.0)
        assert found.outcome == outcome, cold_h


def test_a_battery_that_gained_on_its_shelf_settles_nothing() -> None:
    for before_h, outcome in ((5.0, "met"), (4.97, "met"), (4.7, "not-tested")):
        before, after = (
            analysed(discharge(8.0, hours, seed=one), rated=40.0) for one, hours in ((1, before_h), (2, 5.0))
        )
        wanted = claim("self-discharge", 3.0, "%/month", "at-most", months=1.0)
        assert verdict(wanted, "self-discharge", before, after, rated=40.0).outcome == outcome, before_h


# --- time ---


def test_reserve_by_both_rules() -> None:
    # T11, common practice: 25 A, rated 96 min; 10.56 V at the 96th minute passes at 10.5 V; 25 A × 96 min = 40 Ah
    time_s = np.arange(0.0, 97 * 60.0, 10.0)
    volts = np.interp(time_s, [0, 96 * 60, 97 * 60], [12.4, 10.56, 10.54])
    current = np.full(len(time_s), 25.0)
    held = Trace(time_s, volts.round(3), current, resolution={"voltage_V": 0.001, "current_A": 0.01})
    log = analysed(held, AGM, 60.0, ambient_C=25.0)
    found = verdict(claim("reserve", 96 * 60.0, "s", "at-least"), "reserve", log, family=AGM, rated=60.0)
    assert found.outcome is Outcome.MET and "at least" in str(found.working)
    short = verdict(claim("reserve", 120 * 60.0, "s", "at-least"), "reserve", log, family=AGM, rated=60.0)
    assert short.outcome is Outcome.NOT_TESTED


def test_runtime_is_charge_above_the_drop_out_over_the_draw() -> None:
    # T12, common practice: 10.45 Ah / 0.8 A = 13.1 h against a printed 18 h
    log = analysed(discharge(0.8, 20.0, top_V=13.0, end_V=9.0), rated=16.0)
    printed = claim("runtime", 18 * 3600.0, "s", "at-least", device_A=0.8, dropout_V=12.2)
    found = verdict(printed, "runtime", log, rated=16.0)
    assert found.outcome is Outcome.MET and found.measured is not None
    assert found.measured.value < 20 * 3600
    higher = claim("runtime", 18 * 3600.0, "s", "at-least", device_A=0.8, dropout_V=12.6)
    assert verdict(higher, "runtime", log, rated=16.0).outcome is Outcome.MISSED
    assert pytest.approx(13.1, abs=0.05) == 10.45 / 0.8


def test_self_discharge_by_recharge() -> None:
    # T6, common practice: 0.7 Ah back into a 100 Ah pack after 13 months: 0.054 % a month
    back = piecewise((20, 0.0, 13.3), (126, -20.0, 14.0), (30, -4.0, 14.4), (10, 0.0, 13.6), interval_s=1.0)
    log = analysed(back)
    assert log.charge is not None and log.charge.count.charge.value == pytest.approx(0.733, abs=0.01)
    stored = claim("self-discharge", 3.0, "%/month", "at-most", months=13.0)
    found = verdict(stored, "self-discharge", log)
    assert found.outcome is Outcome.MET and found.measured is not None
    assert found.measured.value == pytest.approx(100 * 0.733 * 0.995 / 100 / 13, abs=1e-3)
    unsaid = verdict(claim("self-discharge", 3.0, "%/month", "at-most"), "self-discharge", log)
    assert unsaid.outcome is Outcome.NOT_TESTED and "how long" in (unsaid.advice or "")


def test_self_discharge_by_two_discharges() -> None:
    before = analysed(discharge(8.0, 5.0), rated=40.0)
    after = analysed(discharge(8.0, 4.7), rated=40.0)
    found = verdict(
        claim("self-discharge", 1.0, "%/month", "at-most", months=3.0), "self-discharge", before, after, rated=40.0
    )
    assert found.measured is not None and found.measured.value == pytest.approx(2.0, abs=0.02)
    assert found.outcome is Outcome.MISSED


# --- all ---


def test_every_kind_has_a_way_or_a_reason() -> None:
    from wintry_tally.core.battery import CLAIM_KINDS

    for kind in CLAIM_KINDS.values():
        assert kind.key in SETTLERS or kind.evidence == "measured" or kind.beyond, kind.key


def test_a_reading_awaiting_a_decision_settles_no_kind() -> None:
    trace = overload(300.0, 60.0)
    current = trace.current.copy()
    current[120:160] *= 1000.0
    log = analysed(Trace(trace.time_s, trace.voltage_V, current, resolution=trace.resolution))
    found = verdict(claim("continuous-discharge", 100.0, "A", "at-least", duration_s=20.0), "hold", log)
    assert found.outcome is Outcome.TOO_CLOSE and "wait for a decision" in (found.advice or "")
