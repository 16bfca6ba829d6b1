"""What a charge or a discharge began with bounds what it can say; a charge to a share is timed to that share."""

from __future__ import annotations

import pytest

from tests.core.test_kinds import AGM, LFP, analysed, charged, claim, verdict
from tests.making import discharge, piecewise
from wintry_tally.core.battery import Family, parse_claim
from wintry_tally.core.verdict import Outcome, School, Verdict, judge
from wintry_tally.core.verdict.evidence import LogEvidence, capacity_evidence
from wintry_tally.report.words import claim_words


def test_a_charge_that_did_not_begin_empty_is_a_bound_on_its_time() -> None:
    # common practice, no published source: what was in it already took no time
    shape = ((2.5 * 3600, -20.0, 13.8), (3600, -3.0, 14.4), (600, 0.0, 13.8))
    half = analysed(piecewise((600, 0.0, 13.2), *shape, interval_s=10.0))
    assert half.charge is not None and half.charge.time_to_full_s == pytest.approx(12600.0, abs=20.0)
    slow, quick = claim("charge-time", 5.0 * 3600, "s", "at-most"), claim("charge-time", 2.0 * 3600, "s", "at-most")
    told = verdict(slow, "charge", half)
    assert told.outcome is Outcome.NOT_TESTED and told.bound == "at-least"
    assert "only 53 of 100 Ah went in" in told.advice and "from empty" in told.advice
    # longer than claimed even so: it would have been longer still from empty
    assert verdict(quick, "charge", half).outcome is Outcome.MISSED
    # the reading just beyond: 85 % of the rating may be a weak battery from empty, 84 % is not taken for one
    for rated, outcome in ((62.0, Outcome.MET), (62.8, Outcome.NOT_TESTED)):
        log = analysed(piecewise((600, 0.0, 13.2), *shape, interval_s=10.0), rated=rated)
        assert verdict(slow, "charge", log, rated=rated).outcome is outcome, rated
    # rested at what only an empty battery rests at, it was empty, and is worse than its label
    empty = analysed(piecewise((600, 0.0, 12.2), *shape, interval_s=10.0))
    assert verdict(slow, "charge", empty).outcome is Outcome.MET
    # emptied in the same log it was empty, whatever it rebounds to
    emptied = piecewise(
        (600, 0.0, 13.2), (9000, 20.0, 12.9), (600, 0.0, 0.2), (3600, 0.0, 13.0), *shape, interval_s=10.0
    )
    log = analysed(emptied)
    assert log.capacity is not None and log.capacity.ended_by == "battery-protection"
    assert verdict(slow, "charge", log).outcome is Outcome.MET
    # what it is known to give counts before what the label says
    given = discharge(20.0, 50.0 / 20.0)
    run = capacity_evidence("run", analysed(given, cutoff_V=float(given.voltage_V.min()) + 0.2), 25.0)
    assert run is not None and run.ended_by in {"set-cutoff", "battery-protection"}
    both = [run, LogEvidence("charge", ("charge",), (half,))]
    assert judge(LFP, 100.0, [slow], both, School.STRICT)[0].outcome is Outcome.MET


def test_a_charge_to_a_share_is_timed_to_that_share() -> None:
    log = analysed(charged())
    assert log.charge is not None
    # 20 A from the first: 80 % of all that went in, at 20 A
    hours = 0.8 * log.charge.count.charge.value / 20.0
    found = verdict(claim("charge-time", 4.2 * 3600, "s", "at-most", end_share=0.8), "charge", log)
    assert found.measured is not None and found.measured.value == pytest.approx(3600.0 * hours, abs=15.0)
    assert found.outcome is Outcome.MET and hours < 4.1
    assert "'Time to 80 % of full'" in str(found.working) and f"'{found.measured.value:.0f} s'" in str(found.working)
    assert (
        verdict(claim("charge-time", 3.9 * 3600, "s", "at-most", end_share=0.9), "charge", log).outcome
        is Outcome.MISSED
    )
    whole = verdict(claim("charge-time", 5.0 * 3600, "s", "at-most"), "charge", log)
    assert whole.measured is not None and whole.measured.value > found.measured.value + 3600.0
    # of a charge that never got full nobody can say what 80 % of it is
    stopped = analysed(piecewise((600, 0.0, 12.2), (4 * 3600, -20.0, 13.6), (600, 0.0, 13.4), interval_s=10.0))
    for share, outcome in ((0.8, Outcome.NOT_TESTED), (1.0, Outcome.MISSED)):
        wanted = claim("charge-time", 3.0 * 3600, "s", "at-most", end_share=share)
        told = verdict(wanted, "charge", stopped)
        assert told.outcome is outcome and (share == 1.0 or "80 % of it is not known" in told.advice)
    read = parse_claim("charges to 80 % in 2 h")
    assert read.conditions == {"end_share": 0.8} and claim_words(read) == "Charge time at most 2 h to 80 % of full"


def test_a_discharge_that_did_not_begin_full_is_a_bound() -> None:
    # charts of lead-acid (P1's neighbours differ by 0.05 V): 12.4 V rested is 75 % at the most, 12.7 V may be full; loaded it is 0.1 V less
    def told(loaded_V: float, family: Family, wanted: float, rest_s: float = 1800.0, **more: object) -> Verdict:
        log = analysed(
            discharge(3.0, 10.0, top_V=loaded_V, end_V=10.4, rest_s=rest_s), family, 40.0, cutoff_V=10.5, **more
        )
        run = capacity_evidence("run", log, more.get("ambient_C"))
        assert run is not None
        both = [run, LogEvidence("capacity", ("run",), (log,))]
        return judge(family, 40.0, [claim("capacity", wanted, "Ah", "at-least")], both, School.STRICT)[0]

    low = told(12.3, AGM, 40.0)
    assert low.outcome is Outcome.NOT_TESTED and low.bound == "at-least"
    assert "rested at 12.40 V" in low.advice and "fully charged" in low.advice
    assert told(12.3, AGM, 25.0).outcome is Outcome.MET  # it gives that much even so
    assert told(12.6, AGM, 40.0).outcome is Outcome.MISSED
    # no rest to read it from, or the cold, in which no chart holds: nobody can say
    assert told(12.3, AGM, 40.0, rest_s=30.0).outcome is Outcome.MISSED
    assert told(12.3, AGM, 40.0, ambient_C=-10.0).bound is None
    # lithium's flat chart says so only far down
    assert told(13.1, LFP, 40.0).outcome is Outcome.MISSED and told(12.5, LFP, 40.0).outcome is Outcome.NOT_TESTED

    hours = claim("runtime", 12 * 3600.0, "s", "at-least", device_A=3.0, dropout_V=10.5)
    for rest_V, outcome in ((12.3, Outcome.NOT_TESTED), (12.9, Outcome.MISSED)):
        log = analysed(discharge(3.0, 10.0, top_V=rest_V, end_V=10.4), AGM, 40.0)
        assert verdict(hours, "runtime", log, family=AGM, rated=40.0).outcome is outcome
        reserve = analysed(discharge(25.0, 1.5, top_V=rest_V, end_V=9.9), AGM, 60.0, ambient_C=25.0)
        told_reserve = verdict(
            claim("reserve", 120 * 60.0, "s", "at-least"), "reserve", reserve, family=AGM, rated=60.0
        )
        assert told_reserve.outcome is outcome


def test_nothing_came_before_a_log_that_was_kept_from_its_beginning() -> None:
    # common practice, no published source: rested at 12.75 V a lead-acid battery may be full, and 5 to 10 % off it
    trace = discharge(2.5, 18.0, top_V=12.80, end_V=10.5, rest_s=0.0)
    log, own = (analysed(trace, AGM, 50.0, begun_here=here) for here in (False, True))
    assert log.capacity is not None and 0.0 < log.capacity.lacking < 0.15
    assert own.capacity is not None and own.capacity.lacking == 0.0
    assert not [remark for remark in own.remarks if remark.code == "begins-under-load"]
    # but one that could not have been full then was not
    low = analysed(discharge(2.5, 12.0, top_V=12.2, end_V=10.5, rest_s=0.0), AGM, 50.0, begun_here=True)
    assert low.capacity is not None and low.capacity.begun_low


def test_it_is_told_that_something_may_have_flowed_before_a_reserve_log() -> None:
    long = claim("reserve", 120 * 60.0, "s", "at-least")
    for rest_s, told in ((0.0, True), (600.0, False)):
        trace = discharge(25.0, 2.6, top_V=12.6, end_V=9.9, rest_s=rest_s)
        found = verdict(long, "reserve", analysed(trace, AGM, 80.0, ambient_C=25.0), family=AGM, rated=80.0)
        assert found.measured is not None and found.outcome in {Outcome.MET, Outcome.NOT_TESTED, Outcome.TOO_CLOSE}
        assert ("flowed before is in no figure" in (found.advice or "")) is told, found.advice
