"""Small things of judging that a small change to the code would move, each worked out beside it.

Rules of common practice, no published source; the interval's uncertainty is JCGM 100:2008, 4.3.7 (triangular: a/√6).
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from tests.core.test_kinds import LFP, analysed, claim, discharge, verdict, with_temperature
from tests.making import piecewise
from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import Claim, Direction
from wintry_tally.core.battery.families import charge_state_at
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import Outcome, School, judge
from wintry_tally.core.verdict.effects import _chart_share
from wintry_tally.core.verdict.evidence import CapacityEvidence, capacity_evidence, evidence_from_log
from wintry_tally.core.verdict.settle_capacity import _combined
from wintry_tally.core.verdict.settle_cold import _below
from wintry_tally.core.verdict.settle_load import _beyond, _inside
from wintry_tally.core.verdict.twins import begun_at


@pytest.mark.parametrize("kind", ["ingress", "warranty", "cycles", "shelf-life", "high-temperature-cut"])
def test_what_no_bench_tests_says_so_and_not_that_a_test_is_missing(kind: str) -> None:
    value = None if kind == "ingress" else 100.0
    told = judge(LFP, 100.0, [Claim(kind, value, "", Direction.IS, wanted=True)], [], School.STRICT)[0]
    assert told.outcome is Outcome.CANNOT_TEST and told.advice
    missing = judge(LFP, 100.0, [claim("capacity", 100.0, "Ah", "at-least")], [], School.STRICT)[0]
    assert missing.outcome is Outcome.NOT_TESTED and missing.advice == "run a capacity test"


def _run(name: str, charge_Ah: float, standard: float = 0.02) -> CapacityEvidence:
    found = capacity_evidence(name, analysed(discharge(1.0, 2.0, opened=True), rated=10.0))
    assert found is not None
    return replace(found, charge=Quantity(charge_Ah, standard, "Ah"))


@pytest.mark.parametrize(
    ("values", "conflicts"),
    [((40.0, 40.05), False), ((40.0, 40.39), False), ((40.0, 40.42), True), ((38.0, 42.0), True)],
)
def test_runs_conflict_where_they_lie_more_than_a_hundredth_apart(values: tuple[float, ...], conflicts: bool) -> None:
    runs = [_run(f"run {place}", value) for place, value in enumerate(values)]
    mean, _, notes = _combined(runs, lambda run: run.charge, lambda run: run.charge_step)
    assert mean.value == pytest.approx(sum(values) / 2) and bool(notes) is conflicts
    assert not notes or all(f"run {place}" in notes[0] for place in range(2))


def test_what_lies_between_an_end_and_a_cut_off_is_read_from_the_chart() -> None:
    chart = LFP.charge_state
    for end_V, cutoff_V in ((12.9, 10.0), (13.0, 12.0)):
        between = (charge_state_at(chart, end_V + 0.3) - charge_state_at(chart, cutoff_V)) / 100.0
        assert _chart_share(LFP, end_V, cutoff_V) == pytest.approx(max(0.01, between))


def test_a_time_to_full_is_known_to_an_interval() -> None:
    # never full after two hours, read every 30 s: missed, and the time known to 30/√6 s
    log = analysed(piecewise((600, 0.0, 12.8), (7200, -10.0, 13.6), (60, 0.0, 13.4), interval_s=30.0), rated=100.0)
    told = verdict(claim("charge-time", 3600.0, "s", "at-most"), "charge", log)
    assert told.measured is not None and told.measured.standard == pytest.approx(30.0 / math.sqrt(6.0), rel=1e-6)


# --- the cold ---


def _cold(*parts: tuple[float, float, float], celsius: float | None) -> object:
    trace = piecewise(*parts, interval_s=1.0)
    return analysed(trace if celsius is None else with_temperature(trace, celsius))


REFUSED = ((120, 0.0, 13.1), (1, -8.0, 13.4), (120, 0.0, 14.4))
TAKEN = ((120, 0.0, 13.1), (600, -8.0, 13.5), (60, 0.0, 13.3))


def test_a_pack_that_was_never_let_warm_has_no_release() -> None:
    wanted = claim("cold-charge-release", 5.0, "°C", "within", 1.0)
    for parts in (REFUSED, TAKEN):  # refused and not let warm; or never refused at all
        told = verdict(wanted, "charge-block", _cold(*parts, celsius=-10.0))
        assert told.outcome is Outcome.NOT_TESTED and "let warm" in told.advice
    other = verdict(wanted, "heater", _cold(*TAKEN, celsius=-10.0))
    assert other.outcome is Outcome.NOT_TESTED and "let warm" not in other.advice, (
        "a heater's log is about something else"
    )


def test_a_block_is_judged_by_a_temperature_that_is_known() -> None:
    wanted = claim("cold-charge-block", 0.0, "°C", "within")
    told = verdict(wanted, "charge-block", _cold(*TAKEN, celsius=None))
    assert told.outcome is Outcome.NOT_TESTED and "no temperature is known" in told.advice
    told = verdict(wanted, "charge-block", _cold((300, 0.0, 13.1), (60, 0.01, 13.1), celsius=-10.0))
    assert told.outcome is Outcome.NOT_TESTED and "no charger was put on" in told.advice
    aside = verdict(wanted, "", _cold(*TAKEN, celsius=None))
    assert aside.outcome is Outcome.NOT_TESTED and "no temperature" not in (aside.advice or ""), (
        "nobody said that it is one"
    )
    # without a printed width: what flows at 0.05 °C below the mark is within its last digit, at -3 °C it is not
    assert verdict(wanted, "charge-block", _cold(*TAKEN, celsius=-3.0)).outcome is Outcome.MISSED
    assert verdict(wanted, "charge-block", _cold(*REFUSED, celsius=-3.0)).outcome is Outcome.MET


def test_the_working_tells_what_conditions_do_to_a_probability() -> None:
    warm = with_temperature(discharge(20.0, 5.0, opened=True), np.float64(5.0))
    log = analysed(warm)
    run = capacity_evidence("run", log, 5.0)
    assert run is not None
    told = judge(LFP, 100.0, [claim("capacity", 99.0, "Ah", "at-least", temperature_C=25.0)], [run], School.STRICT)[0]
    inputs = told.working.inputs
    assert "p with the conditions' effect" in inputs and "p as measured" in inputs
    plain = judge(
        LFP, 100.0, [claim("capacity", 99.0, "Ah", "at-least")], [replace(run, temperature_C=None)], School.STRICT
    )[0]
    assert "p with the conditions' effect" not in plain.working.inputs


# --- round-trip efficiency: η = out / in (common practice, no published source) ---


def _cycle(out_A: float = 10.0, in_A: float = 5.0, rest_V: float = 13.4, extra_h: float = 0.0) -> object:
    """A full discharge of 2 h and the charge to full behind it: 20 Ah at 12.8 V out, 20 + in_A·extra_h Ah at 13.6 V in."""
    hours = 20.0 / in_A + extra_h
    trace = piecewise(
        (3600, 0.0, rest_V), (7200, out_A, 12.8), (2, out_A, 10.0), (1800, 0.0, 11.0), (3600 * hours, -in_A, 13.6),
        (1200, -0.2, 14.4), (600, 0.0, 13.5), interval_s=2.0,
    )  # fmt: skip
    return analysed(trace, rated=20.0, cutoff_V=10.0)


def test_efficiency_is_energy_out_over_energy_in() -> None:
    log = _cycle()
    out_Wh, in_Wh = 20.0 * 12.8, 20.0 * 13.6 + 14.4 * 0.2 / 3.0
    for claimed, outcome in ((90.0, Outcome.MET), (97.0, Outcome.MISSED)):
        told = verdict(claim("efficiency", claimed, "%", "at-least"), "cycle", log, rated=20.0)
        assert told.outcome is outcome and told.bound is None
        assert told.measured is not None and told.measured.value == pytest.approx(100.0 * out_Wh / in_Wh, rel=3e-3)
    assert verdict(claim("efficiency", 90.0, "%", "at-least"), "hold", log, rated=20.0).outcome is Outcome.NOT_TESTED


def test_what_did_not_begin_at_the_same_end_bounds_it() -> None:
    # a discharge that rested too low to be full gives less than what is put in again: at least
    low = verdict(claim("efficiency", 97.0, "%", "at-least"), "capacity", _cycle(rest_V=12.6), rated=20.0)
    assert (low.outcome, low.bound) == (Outcome.NOT_TESTED, "at-least") and "rested at 12.60 V" in low.advice
    # a charge first, of a battery that nobody saw empty, may have had something in it: at most
    parts = (
        (15_000, -5.0, 13.6),
        (1200, -0.2, 14.4),
        (3600, 0.0, 13.5),
        (7200, 10.0, 12.8),
        (2, 10.0, 10.0),
        (600, 0.0, 11.5),
    )
    for before, bound in (((3600, 0.0, 13.1), "at-most"), ((3600, 0.0, 11.0), None)):
        log = analysed(piecewise(before, *parts, interval_s=2.0), rated=20.0, cutoff_V=10.0)
        told = verdict(claim("efficiency", 80.0, "%", "at-least"), "charge", log, rated=20.0)
        assert told.bound == bound and told.outcome is (Outcome.MET if bound is None else Outcome.NOT_TESTED), (
            told.advice
        )
    under_way = analysed(piecewise(*parts, interval_s=2.0), rated=20.0, cutoff_V=10.0)
    told = verdict(claim("efficiency", 80.0, "%", "at-least"), "charge", under_way, rated=20.0)
    assert (told.outcome, told.bound) == (Outcome.NOT_TESTED, "at-most")


# --- loads and their openings ---


def test_the_chance_within_a_window_is_the_share_of_it_that_says_least() -> None:
    # carried 90 A, opened 110 A; a window of 98 to 101 A and a meter good to 1 A there: 3, and 7 of 20 A
    assert _inside(98.0, 101.0, 90.0, 110.0, 0.0) == pytest.approx(3 / 20)
    assert _inside(98.0, 101.0, 90.0, 110.0, 1.0) == pytest.approx(7 / 20)
    assert _inside(80.0, 120.0, 90.0, 110.0, 1.0) == 1.0 and _inside(111.5, 120.0, 90.0, 110.0, 0.5) == 0.0


def test_a_hold_without_an_accuracy_is_as_sure_as_the_figures_are() -> None:
    log = analyse(discharge(101.0, 0.1, opened=False), Options(family=LFP, rated_Ah=100.0))
    told = verdict(claim("continuous-discharge", 100.0, "A", "at-least", duration_s=300.0), "hold", log)
    assert told.probability == 1.0 and "accuracy" in (told.advice or "")
    less = verdict(claim("continuous-discharge", 102.0, "A", "at-least", duration_s=300.0), "hold", log)
    assert less.probability is None and less.outcome is not Outcome.MET


def test_a_setting_within_3_percent_of_the_claim_is_a_test_of_it() -> None:
    for amps, outcome in ((98.5, Outcome.MET), (96.5, Outcome.NOT_TESTED)):
        log = analysed(discharge(amps, 0.1, opened=False), rated=100.0)
        told = verdict(claim("continuous-discharge", 100.0, "A", "at-least", duration_s=300.0), "hold", log)
        assert told.outcome is outcome, (amps, told.advice)


def test_what_nobody_called_a_block_counts_where_it_shows_one() -> None:
    wanted = claim("cold-charge-block", 0.0, "°C", "within")
    assert verdict(wanted, "", _cold(*REFUSED, celsius=-10.0)).outcome is Outcome.MET
    assert verdict(wanted, "", _cold(*TAKEN, celsius=-10.0)).outcome is Outcome.MISSED
    other = verdict(wanted, "", _cold(*TAKEN, celsius=20.0))
    assert other.outcome is Outcome.NOT_TESTED and "below the claimed temperature" not in (other.advice or "")


# --- evidence of a capacity ---


def _drawn(*parts: tuple[float, float, float], rated: float = 100.0) -> CapacityEvidence:
    found = capacity_evidence("run", analysed(piecewise(*parts, interval_s=10.0), rated=rated))
    assert found is not None
    return found


def test_readings_that_wait_for_a_decision_leave_a_capacity_undecided() -> None:
    clean = _drawn((600, 0.0, 13.3), (18000, 20.0, 12.9), (20, 20.0, 9.9), (600, 0.0, 11.0))
    assert clean.undecided == "" and clean.bridged_Ah == 0.0
    slipped = _drawn(
        (600, 0.0, 13.3),
        (9000, 20.0, 12.9),
        (600, 20000.0, 12.9),
        (8400, 20.0, 12.8),
        (20, 20.0, 9.9),
        (600, 0.0, 11.0),
    )
    assert "look like mA" in slipped.undecided


def test_what_a_long_gap_bridges_is_by_the_readings_at_its_ends() -> None:
    trace = piecewise(
        (600, 0.0, 13.3), (6000, 20.0, 13.0), (12000, 10.0, 12.8), (20, 10.0, 9.9), (600, 0.0, 11.0), interval_s=10.0
    )
    at = np.flatnonzero(trace.current == 20.0)[-1]  # the last at 20 A, and one at 10 A, then 3000 s of nothing
    keep = np.ones(len(trace), bool)
    keep[at + 2 : at + 302] = False
    current = trace.current.copy()
    current[at + 303 :][current[at + 303 :] == 10.0] = (
        8.0  # the reading behind the gap is at 10 A, those after it at 8 A
    )
    cut = Trace(trace.time_s[keep], trace.voltage_V[keep], current[keep], resolution=trace.resolution)
    found = capacity_evidence("run", analysed(cut))
    assert found is not None and "a gap of" in found.undecided
    assert found.bridged_Ah == pytest.approx(10.0 * 3010.0 / 3600.0, rel=1e-6)


def test_runs_under_other_conditions_are_named_and_not_averaged_in() -> None:
    like, harsh = (capacity_evidence(name, analysed(discharge(amps, hours, opened=True))) for name, amps, hours in
                   (("gentle", 20.0, 5.0), ("harsh", 100.0, 0.9)))  # fmt: skip
    assert like is not None and harsh is not None
    wanted = claim("capacity", 95.0, "Ah", "at-least", c_rate=0.2)
    told = judge(LFP, 100.0, [wanted], [like, harsh], School.STRICT)[0]
    assert told.evidence == ("gentle",) and told.measured is not None
    assert told.measured.value == pytest.approx(like.charge.value)
    words = "harsh left aside: unlike conditions (rate)"
    assert told.working.inputs["left aside"] == words and words in (told.advice or "")
    both = judge(LFP, 100.0, [wanted], [like, replace(like, name="again")], School.STRICT)[0]
    assert both.evidence == ("gentle", "again") and "left aside" not in both.working.inputs


@pytest.mark.parametrize(("says", "stands"), [(97.0, True), (95.2, True), (104.8, True), (94.8, False), (105.2, False)])
def test_a_run_of_an_unknown_meter_takes_nothing_from_a_known_one(says: float, stands: bool) -> None:
    known = capacity_evidence("known", analysed(discharge(20.0, 5.0, opened=True)))
    assert known is not None and known.charge.value == pytest.approx(100.0, abs=0.1)
    unknown = replace(known, name="unknown", charge=Quantity(says, None, "Ah"))
    wanted = claim("capacity", 98.0, "Ah", "at-least")
    for runs in ([known, unknown], [unknown, known]):
        told = judge(LFP, 100.0, [wanted], list(runs), School.STRICT)[0]
        assert (told.outcome is Outcome.MET) is stands
        if stands:
            assert told.evidence == ("known",) and told.measured == known.charge
            assert "unknown left aside: it says" in told.working.inputs["left aside"]
        else:
            assert told.outcome is Outcome.TOO_CLOSE and set(told.evidence) == {"known", "unknown"}


# --- uncertainties of times: JCGM 100:2008, 5.1.2 and 4.3.7 ---


def test_a_time_read_from_a_clock_is_as_sure_as_two_readings_of_it() -> None:
    log = analyse(
        discharge(8.0, 5.0, opened=True),
        Options(family=LFP, rated_Ah=40.0, instrument=Instrument(None, None, "hand", 30.0)),
    )
    told = verdict(claim("runtime", 4.0 * 3600.0, "s", "at-least"), "runtime", log, rated=40.0)
    usual_s = log.scale.usual_s
    assert told.measured is not None and told.measured.value == pytest.approx(5.0 * 3600.0, rel=1e-3)
    assert told.measured.standard == pytest.approx(
        math.hypot(usual_s / math.sqrt(6.0), math.sqrt(2.0) * 30.0), rel=1e-6
    )


def test_the_time_to_a_share_of_full_has_the_count_s_doubt() -> None:
    log = analysed(
        piecewise((600, 0.0, 12.8), (7200, -10.0, 13.6), (1200, -0.2, 14.4), (600, 0.0, 13.5), interval_s=10.0),
        rated=20.0,
    )
    told = verdict(claim("charge-time", 7200.0, "s", "at-most", end_share=0.5), "charge", log, rated=20.0)
    count = log.charge.count
    by_count = 0.5 * 3600.0 * count.charge.standard / count.mean_current.value
    assert told.measured is not None and told.measured.value == pytest.approx(3600.0, rel=0.02)
    assert told.measured.standard == pytest.approx(math.hypot(log.scale.usual_s / math.sqrt(6.0), by_count), rel=1e-6)


def test_a_refusal_that_is_sure_needs_no_advice() -> None:
    wanted = claim("cold-charge-block", 0.0, "°C", "within")
    assert verdict(wanted, "charge-block", _cold(*REFUSED, celsius=-10.0)).advice is None
    warm = verdict(wanted, "charge-block", _cold(*REFUSED, celsius=4.0))
    assert warm.outcome is Outcome.MISSED and "refused above the claimed temperature" in (warm.advice or "")


# --- what is missing is said, and is no verdict ---


def test_one_log_alone_says_no_loss_in_the_cold() -> None:
    cold = with_temperature(discharge(4.0, 2.0, opened=True), -10.0)
    wanted = claim("cold-loss", 30.0, "%", "at-most", temperature_C=-10.0)
    told = verdict(wanted, "cold-loss", analysed(cold, rated=10.0))
    assert told.outcome is Outcome.NOT_TESTED and "two logs" in str(told.advice)


def test_how_warm_it_was_is_read_where_its_discharge_began() -> None:
    # soaked to −10 °C, the first reading taken while the probe was still warm
    trace = with_temperature(discharge(4.0, 2.0, opened=True), -10.0)
    warm = trace.temperature_C.copy()
    begins = int(np.flatnonzero(trace.current > 0.1)[0])
    warm[: max(1, begins // 2)] = 20.0
    assert begun_at(analysed(replace(trace, temperature_C=warm), rated=10.0)) == pytest.approx(-10.0, abs=0.1)
    resting = piecewise((600, 0.0, 13.1), (600, 0.0, 13.1))
    cooled = replace(resting, temperature_C=np.linspace(5.0, 15.0, len(resting)))
    # without a discharge: where its log begins
    assert begun_at(analysed(cooled, rated=10.0)) == pytest.approx(float(cooled.temperature_C[0]), abs=0.02)


@pytest.mark.parametrize(("lasted_s", "enough"), [(200.0, False), (285.0, False), (295.0, True)])
def test_a_load_switched_off_too_soon_tests_no_hold(lasted_s: float, enough: bool) -> None:
    # 97 % of the time claimed are as good as all of it: 291 of 300 s
    log = analysed(piecewise((60, 0.0, 13.2), (lasted_s, 50.0, 12.8), (60, 0.0, 13.1)), rated=100.0)
    told = verdict(claim("continuous-discharge", 50.0, "A", "at-least", duration_s=300.0), "hold", log)
    assert (told.outcome is Outcome.MET) == enough
    assert enough or "of the 5 min 00 s claimed" in str(told.advice)


def test_an_overload_in_which_nothing_was_drawn_says_so() -> None:
    log = analysed(piecewise((60, 0.0, 13.2), (300, 0.0, 13.2)), rated=100.0)
    told = verdict(claim("over-current-trip", 150.0, "A", "within", 20.0, duration_s=10.0), "overload", log)
    assert told.outcome is Outcome.NOT_TESTED and "nothing was drawn" in str(told.advice)


def test_a_charge_that_never_got_full_says_no_charge_voltage() -> None:
    short = analysed(piecewise((600, 0.0, 12.8), (3600, -10.0, 13.4), (60, 0.0, 13.3)), rated=100.0)
    told = verdict(claim("charge-voltage", 14.4, "V", "within"), "charge", short)
    assert told.outcome is Outcome.NOT_TESTED and told.measured is None


def test_the_working_says_how_uncertain_what_was_measured_is() -> None:
    log = analysed(discharge(5.0, 2.0, opened=True), rated=10.0)
    evidence = evidence_from_log("capacity", "a.csv", log)
    (told,) = judge(LFP, 10.0, [claim("capacity", 9.9, "Ah", "at-least")], evidence, School.STRICT)
    assert told.measured is not None and told.measured.standard and told.working is not None
    assert told.working.inputs["u"] == f"{told.measured.standard:.3g} Ah"


@pytest.mark.parametrize("gap_s", [0.0, 200.0])
def test_a_gap_before_the_protection_opened_bounds_its_efficiency(gap_s: float) -> None:
    trace = piecewise(
        (3600, 0.0, 13.4), (7200, 10.0, 12.8), (1800, 0.0, 0.2), (14_400, -5.0, 13.6),
        (1200, -0.2, 14.4), (600, 0.0, 13.5), interval_s=2.0,
    )  # fmt: skip
    seen = trace.taking(np.flatnonzero((trace.time_s < 10_700.0) | (trace.time_s > 10_700.0 + gap_s)))
    for claimed, outcome in ((80.0, Outcome.MET), (97.0, Outcome.NOT_TESTED if gap_s else Outcome.MISSED)):
        told = verdict(claim("efficiency", claimed, "%", "at-least"), "cycle", analysed(seen, rated=20.0), rated=20.0)
        assert (told.bound, told.outcome) == ("at-least" if gap_s else None, outcome)


@pytest.mark.parametrize(("end_V", "bound"), [(10.0, None), (10.1, None), (10.2, "at-least"), (10.4, "at-least")])
def test_a_run_cut_off_above_the_claims_cut_off_is_a_bound(end_V: float, bound: str | None) -> None:
    # 0.15 V: a load's cut-off is set to a tenth or so
    log = analysed(discharge(5.0, 2.0, opened=False, end_V=end_V), rated=10.0, cutoff_V=end_V)
    run = capacity_evidence("run", log)
    assert run is not None
    run = replace(run, end_V=end_V, ended_by="set-cutoff")
    wanted = claim("capacity", 11.0, "Ah", "at-least", cutoff_V=10.0)
    assert judge(LFP, 10.0, [wanted], [run], School.STRICT)[0].bound == bound


def test_more_than_claimed_was_asked_beyond_doubt() -> None:
    # without an accuracy by more than a load's setting is off, 3 %; else beyond the expanded uncertainty
    assert not _beyond(Quantity(102.0, None, "A"), 100.0) and _beyond(Quantity(104.0, None, "A"), 100.0)
    assert not _beyond(Quantity(104.0, 2.5, "A"), 100.0) and _beyond(Quantity(104.0, 1.5, "A"), 100.0)


def test_the_chance_that_it_was_colder_is_the_normal_distributions() -> None:
    # Φ(0) = 1/2, Φ(1.96) = 0.975 (JCGM 100:2008, table G.2 for infinite degrees of freedom)
    assert _below(Quantity(0.0, 0.5, "°C"), 0.0) == pytest.approx(0.5)
    assert _below(Quantity(-0.98, 0.5, "°C"), 0.0) == pytest.approx(0.975, abs=1e-4)
    assert _below(Quantity(0.98, 0.5, "°C"), 0.0) == pytest.approx(0.025, abs=1e-4)
    assert _below(Quantity(-1.0, None, "°C"), 0.0) == 1.0
