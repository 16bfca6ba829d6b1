"""Where a discharge ended, beside a claim's own cut-off or drop-out: counted to it, reached it, or left it open."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.making import RESOLUTION, discharge
from wintry_tally.cli.logs import analyse_log, options_from, parse_given
from wintry_tally.cli.options import SAW_END
from wintry_tally.core.analysis import Analysis, Instrument, Options, analyse, down_to
from wintry_tally.core.analysis.analyse import SEEN
from wintry_tally.core.battery import FAMILIES, Claim, Direction, parse_claim
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import parse_accuracy
from wintry_tally.core.trace import Trace
from wintry_tally.core.verdict import School, Verdict, judge
from wintry_tally.core.verdict.evidence import LogEvidence, evidence_from_log
from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.exchange.analysis_json import analysis_dict
from wintry_tally.exchange.writer import write_log

METER = Instrument(parse_accuracy("0.1%+2d"), parse_accuracy("0.2%+2d"))


def sloping(end_V: float, ends: str = "off", amps: float = 5.0, begins_V: float = 12.9, fell_V: float = 0.05) -> Trace:
    """A lead-acid discharge whose volts fall evenly, 0.1 V in 24 minutes: 5 A is 2 Ah a tenth."""
    size = round((begins_V - end_V) / 0.1 * 144)
    volts = np.linspace(begins_V, end_V, size + 1)
    parts = [(np.full(360, begins_V + fell_V), 0.0), (volts, amps), (np.full(30, end_V + 0.6), 0.0)]
    if ends == "log":
        parts = parts[:2]
    if ends == "plateau":
        parts[2] = (np.full(30, end_V + 0.02), 0.0)
    voltage = np.concatenate([part for part, _ in parts])
    current = np.concatenate([np.full(len(part), amps) for part, amps in parts])
    return Trace(np.arange(len(voltage)) * 10.0, voltage.round(3), current, resolution=RESOLUTION)


def analysed(trace: Trace, family: str = "agm", rated: float = 50.0, **more: object) -> Analysis:
    return analyse(trace, Options(FAMILIES[family], rated, METER, ambient_C=25.0, **more))


def judged(text: str | Claim, *logs: Analysis, family: str = "agm", method: str = "capacity") -> Verdict:
    claim = parse_claim(text) if isinstance(text, str) else text
    evidence = [one for n, log in enumerate(logs) for one in evidence_from_log(method, f"{n}.csv", log, 25.0)]
    return judge(FAMILIES[family], 50.0, [claim], evidence, School.STRICT)[0]


def test_what_was_drawn_below_the_claim_s_cut_off_does_not_count() -> None:
    # common practice, no published source: 24 tenths of a volt to 10.5 V at 2 Ah each, 19 to 11 V
    log = analysed(sloping(10.5), cutoff_V=10.5)
    assert log.capacity is not None and log.capacity.count.charge.value == pytest.approx(48.0, rel=1e-3)
    for words, value, outcome in (
        ("40 Ah at 0.1 C to 11.0 V", 38.0, Outcome.MISSED),
        ("37 Ah at 0.1 C to 11.0 V", 38.0, Outcome.MET),
        ("40 Ah at 0.1 C to 10.5 V", 48.0, Outcome.MET),
        ("40 Ah at 0.1 C", 48.0, Outcome.MET),
    ):
        found = judged(words, log)
        assert found.measured is not None and found.measured.value == pytest.approx(value, rel=2e-3), words
        assert found.outcome is outcome, (words, found.advice)
    told = judged("40 Ah at 0.1 C to 11.0 V", log).working
    assert told is not None and "counted down to" in told.steps[0].inputs


def test_an_energy_too_and_what_is_known_of_its_beginning_stays() -> None:
    log = analysed(sloping(10.5).taking(np.arange(360 + 144 * 2, 360 + 30 + 144 * 24)))
    assert log.capacity is not None and log.capacity.begun_low
    above = down_to(log, 11.0)
    assert above.capacity is not None and above.capacity.begun_low == log.capacity.begun_low
    assert above.capacity.voltage_end == pytest.approx(11.0)
    assert down_to(log, 9.0) is log and down_to(log, 10.5) is log
    found = judged("400 Wh at 0.1 C to 11.0 V", log)
    # the mean of 12.7 and 11 V over 34 Ah
    assert found.measured is not None and found.measured.value == pytest.approx(34.0 * 11.85, rel=3e-3)


@pytest.mark.parametrize(("end_V", "outcome"), [(11.015, Outcome.MISSED), (11.03, Outcome.NOT_TESTED)])
@pytest.mark.parametrize("ends", ["log", "plateau"])
def test_down_to_the_claim_s_own_cut_off_nobody_asks_who_ended_it(end_V: float, outcome: Outcome, ends: str) -> None:
    # 0.015 V more are 4 minutes of 7.5 h, 0.03 V would be more than a hundredth of them
    log = analysed(sloping(end_V, ends))
    assert log.capacity is not None and log.capacity.ended_by in {"log-end", "operator"}
    found = judged("40 Ah at 0.1 C to 11.0 V", log)
    assert found.outcome is outcome, found.advice
    assert judged("40 Ah at 0.1 C", log).outcome is Outcome.NOT_TESTED, "of its own end nothing is known"


@pytest.mark.parametrize(
    ("end_V", "outcome"), [(11.015, Outcome.MISSED), (11.03, Outcome.NOT_TESTED), (11.2, Outcome.NOT_TESTED)]
)
def test_a_run_that_fell_to_the_drop_out_reached_it(end_V: float, outcome: Outcome) -> None:
    # 9 h of the 5 A claimed, 7.6 h or less seen
    log = analysed(sloping(end_V, "plateau"))
    claim = Claim("runtime", 9.0 * 3600.0, "s", Direction.AT_LEAST, 0.0, {"device_A": 5.0, "dropout_V": 11.0})
    found = judged(claim, log, method="runtime")
    assert found.outcome is outcome, (found.advice, found.claim)


@pytest.mark.parametrize(("fell_V", "most"), [(0.05, 0.0), (0.6, 11.4)])
def test_an_end_read_at_the_load_leaves_in_what_the_leads_took(fell_V: float, most: float) -> None:
    # Ohm's law: of 0.6 V that fell as the load came on the battery's own are some 0.03; over as many volts before its end
    # it gave 2 Ah a tenth
    log = analysed(sloping(10.5, fell_V=fell_V), cutoff_V=10.5)
    found = [one for one in judged("50 Ah at 0.1 C", log).conditions if one.name == "voltage at the end"]
    assert [one.most for one in found] == ([pytest.approx(most, abs=1.0)] if most else [])
    outcome = judged("50 Ah at 0.1 C", log).outcome
    assert outcome is (Outcome.TOO_CLOSE if most else Outcome.MISSED)
    gone = replace(sloping(10.5, fell_V=fell_V), voltage_V=_asleep(sloping(10.5, fell_V=fell_V)))
    opened = analysed(gone, "lfp")
    assert opened.capacity is not None and opened.capacity.ended_by == "battery-protection"
    verdict = judged("50 Ah at 0.1 C", opened, family="lfp")
    assert not [one for one in verdict.conditions if one.name == "voltage at the end"]
    # a lead-acid battery has nothing that opens: a clamp came off, or a relay before the meter did
    assert analysed(gone).capacity.ended_by == "operator"  # type: ignore[union-attr]
    assert analysed(gone, cutoff_V=10.5).capacity.ended_by == "set-cutoff"  # type: ignore[union-attr]


def _asleep(trace: Trace) -> np.ndarray:
    volts = trace.voltage_V.copy()
    volts[-30:] = 0.2
    return volts


@pytest.mark.parametrize(("volts", "ended"), [(10.8, "set-cutoff"), (10.83, "set-cutoff"), (10.9, "operator")])
def test_a_load_is_set_to_a_lead_battery_s_gentle_end_too(volts: float, ended: str) -> None:
    # common practice, no published source: 1.80 V a cell beside 1.75
    trace = discharge(2.5, 10.0, opened=False, top_V=12.8, end_V=volts, noise_V=0.0)
    found = analysed(trace).capacity
    assert found is not None and found.ended_by == ended


def test_between_two_readings_the_load_goes_off_lower_than_the_last_of_them() -> None:
    # a load cuts at 11 V; of a log a minute apart the last reading is 11.05 V, and it has come back to 11.08 V by the next
    trace = discharge(2.5, 6.0, opened=False, top_V=12.8, end_V=10.88, interval_s=60.0, noise_V=0.0)
    volts = trace.voltage_V.copy()
    volts[np.flatnonzero(trace.current > 0.0)[-1] + 1 :] = 11.08
    found = analysed(replace(trace, voltage_V=volts)).capacity
    assert found is not None and found.ended_by == "set-cutoff"


@pytest.mark.parametrize(("accuracy", "ended"), [("0.1%+2d", "operator"), ("0.5%+2d", "set-cutoff")])
def test_a_meter_may_be_off_by_its_limit_at_the_load_s_setting(accuracy: str, ended: str) -> None:
    trace = discharge(8.0, 5.0, opened=False, end_V=10.44, top_V=13.2, interval_s=1.0, noise_V=0.0)
    options = Options(FAMILIES["lfp"], 40.0, Instrument(parse_accuracy(accuracy), parse_accuracy("0.2%+2d")))
    found = analyse(trace, options).capacity
    assert found is not None and found.ended_by == ended


@pytest.mark.parametrize(("end_V", "reached"), [(10.49, True), (10.52, True), (10.56, False)])
def test_a_reserve_test_that_ends_next_to_its_mark_came_to_it(end_V: float, reached: bool) -> None:
    # 0.02 V at 0.1 V in 2 minutes are 24 s; how far the meter may be off there stands in the minutes' uncertainty
    trace = sloping(end_V, "off", amps=25.0)
    trace = replace(trace, time_s=trace.time_s / 12.0)
    reserve = analysed(trace, "flooded", 60.0).reserve
    assert reserve is not None and reserve.reached is reached
    assert reserve.minutes.value == pytest.approx((12.9 - end_V) / 0.05, rel=0.01)
    slack_min = (0.0106 + 0.002 + 0.03) / 3.0**0.5 / 0.05
    if end_V > 10.5 and reached:
        assert reserve.minutes.standard == pytest.approx(slack_min, rel=0.2)


def shelf(before: Analysis, after: Analysis, at_most: float, months: float = 2.0) -> Verdict:
    claim = Claim("self-discharge", at_most, "%/month", Direction.AT_MOST, 0.0, {"months": months})
    evidence = [LogEvidence("self-discharge", ("before.csv", "after.csv"), (before, after))]
    return judge(FAMILIES["lfp"], 10.0, [claim], evidence, School.STRICT)[0]


def lfp(hours: float, celsius: float = 25.0, **more: object) -> Analysis:
    trace = discharge(1.0, hours, interval_s=30.0, **more)
    return analyse(trace, Options(FAMILIES["lfp"], 10.0, METER, ambient_C=celsius))


def test_over_a_shelf_a_discharge_cut_short_bounds_the_loss() -> None:
    # common practice, no published source: 10 h before and 9 h after are 5 % a month
    whole, kept = lfp(10.0), lfp(9.0)
    assert (shelf(whole, kept, 6.0).outcome, shelf(whole, kept, 4.0).outcome) == (Outcome.MET, Outcome.MISSED)
    stopped = {"opened": False, "end_V": 12.7}
    for before, after, bound, met, missed in (
        (lfp(10.0, **stopped), kept, "at-least", Outcome.NOT_TESTED, Outcome.MISSED),
        (whole, lfp(9.0, **stopped), "at-most", Outcome.MET, Outcome.NOT_TESTED),
    ):
        found = [shelf(before, after, at_most) for at_most in (6.0, 4.0)]
        assert [one.outcome for one in found] == [met, missed]
        assert found[0].bound == bound and "somebody or something" in str(found[1].advice or found[0].advice)
    assert shelf(lfp(10.0, **stopped), lfp(9.0, **stopped), 6.0).bound is None


def test_what_was_warmer_before_the_shelf_lost_less_than_it_seems() -> None:
    apart = shelf(lfp(10.0, celsius=35.0), lfp(9.0, celsius=15.0), 4.0)
    slope, doubt = FAMILIES["lfp"].per_kelvin
    warmth = next(one for one in apart.conditions if one.name == "temperature of the first")
    assert warmth.effect is not None and warmth.effect.value == pytest.approx(-45.0 * slope * 20.0, rel=1e-3)
    assert warmth.effect.standard == pytest.approx(45.0 * doubt * 20.0, rel=1e-3)
    near = shelf(lfp(10.0), lfp(9.0, celsius=24.0), 4.0)
    assert [one.effect for one in near.conditions if one.name == "temperature of the first"] == [None]


def test_two_discharges_whose_loss_does_not_stand_out_say_at_most() -> None:
    # 10.00 and 9.99 h are 0.05 % a month, less than a discharge repeats by
    found = shelf(lfp(10.0), lfp(9.99), 6.0)
    assert found.outcome is Outcome.MET and "at most" in str(found.advice)


@pytest.mark.parametrize(
    ("interval_s", "readings", "below_V", "ended"),
    [
        (10.0, 6, 0.3, "operator"),  # five intervals below it, 50 s
        (10.0, 5, 0.3, "set-cutoff"),
        (5.0, 7, 0.3, "set-cutoff"),  # 30 s: loads take a while
        (5.0, 8, 0.3, "operator"),
        (10.0, 40, 0.2, "set-cutoff"),  # two meters may be so far apart
    ],
)
def test_a_load_that_stayed_on_well_below_its_cutoff_did_not_switch_off_by_it(
    interval_s: float, readings: int, below_V: float, ended: str
) -> None:
    """A cut-off of 12 V: the load's leads make it switch off above it by the battery's own volts, never minutes below."""
    before = 400
    volts = np.concatenate([np.linspace(13.1, 12.1, before), np.full(readings, 12.0 - below_V), np.full(30, 12.9)])
    amps = np.concatenate([np.full(before + readings, 8.0), np.zeros(30)])
    trace = Trace(interval_s * np.arange(len(volts)), volts, amps, resolution={"voltage_V": 0.01, "current_A": 0.01})
    found = analyse(trace, Options(family=FAMILIES["lfp"], rated_Ah=40.0, cutoff_V=12.0))
    assert [stage.ended_by for stage in found.stages] == [ended, None]
    told = [str(remark.message) for remark in found.remarks if remark.code == "past-cutoff"]
    assert bool(told) is (ended == "operator")
    if told:
        lasted = (readings - 1) * interval_s / 60.0
        assert f"{lasted:.3g} min below the 12 V" in told[0] and f"down to {12.0 - below_V:.2f} V" in told[0]
        assert "not-to-protection" not in {remark.code for remark in found.remarks}
    # what was drawn down to there is counted all the same, and no more
    assert found.capacity is not None and found.capacity.ended_by == "set-cutoff"


def test_a_pack_that_its_protection_ended_far_below_a_cutoff_is_not_told_that_the_cutoff_did() -> None:
    volts = np.concatenate([np.linspace(13.1, 12.1, 400), np.linspace(11.9, 9.4, 40), np.zeros(20)])
    amps = np.concatenate([np.full(440, 8.0), np.zeros(20)])
    trace = Trace(10.0 * np.arange(len(volts)), volts, amps, resolution=RESOLUTION)
    found = analyse(trace, Options(family=FAMILIES["lfp"], rated_Ah=40.0, cutoff_V=12.0))
    codes = {remark.code for remark in found.remarks}
    assert (
        found.stages[0].ended_by == "battery-protection" and "past-cutoff" in codes and "not-to-protection" not in codes
    )


def lithium(
    last_V: float = 13.1,
    fell_V: float = 0.1,
    amps: float = 10.0,
    every_s: float = 10.0,
    hours: float = 2.0,
    warm_C: float = 25.0,
) -> Trace:
    """50 Ah of LFP: an hour's rest, a load at volts that hardly fall, and then nothing at all."""
    size = round(hours * 3600.0 / every_s)
    voltage = np.concatenate([np.full(60, 13.35), np.linspace(last_V + fell_V, last_V, size), np.full(30, 0.3)])
    current = np.concatenate([np.zeros(60), np.full(size, amps), np.zeros(30)])
    return Trace(np.arange(len(voltage)) * every_s, voltage.round(3), current, np.full(len(voltage), warm_C), resolution=RESOLUTION)  # fmt: skip


@pytest.mark.parametrize(
    ("changes", "foretold"),
    [
        ({}, False), ({"last_V": 12.75}, False), ({"last_V": 12.6}, True), ({"fell_V": 0.0}, True), ({"warm_C": 44.9}, False), ({"warm_C": 45.1}, True),
        ({"amps": 59.0, "hours": 0.3}, False), ({"amps": 61.0, "hours": 0.3}, True), ({"every_s": 89.0}, False),
        ({"every_s": 91.0}, True), ({"amps": 59.0, "hours": 0.16, "every_s": 2.0}, True),
    ],
)  # fmt: skip
def test_a_pack_that_is_gone_with_much_left_in_it_is_not_judged_by_what_it_gave(changes: dict, foretold: bool) -> None:
    """Its protection, or a clamp that came off: no reading tells. Common practice, no published source.

    At 12.75 V rested LFP has 15.8 % left, at 12.6 V 14.3 %; 10 A for 90 s is half a percent of 50 Ah, 60 A is
    1.2 C. From 45 °C a pack may open for its warmth, within ten minutes for its current.
    """
    log = analysed(lithium(**changes), "lfp")
    assert log.capacity is not None and log.endings[log.capacity.last] == ("battery-protection" if foretold else "gone")
    codes = {remark.code for remark in log.remarks}
    assert ("end-unclear" in codes) is not foretold
    assert foretold or "not-to-protection" not in codes  # which would say that it was something else
    verdict = judged("45 Ah", log, family="lfp")
    assert verdict.outcome is (Outcome.MISSED if foretold else Outcome.NOT_TESTED)
    assert verdict.bound == (None if foretold else "at-least")
    low = [trip for trip in log.trips if trip.kind == "low-voltage"]
    assert foretold or not low  # no low-voltage cut at such a voltage


def charged(last_V: float, after_V: float, family: str = "lfp", every_s: float = 10.0) -> Analysis:
    """Two hours at 25 A, from one reading to the next none, and the charger's own voltage after it."""
    size = round(7200.0 / every_s)
    voltage = np.concatenate([np.full(30, last_V - 0.5), np.linspace(last_V - 0.3, last_V, size), np.full(60, after_V)])
    current = np.concatenate([np.zeros(30), np.full(size, -25.0), np.zeros(60)])
    return analysed(Trace(np.arange(len(voltage)) * every_s, voltage.round(3), current, resolution=RESOLUTION), family)


@pytest.mark.parametrize(("last_V", "full"), [(13.42, False), (13.69, False), (13.71, True), (14.1, True)])
def test_an_opening_in_the_midst_of_a_charge_is_no_full(last_V: float, full: bool) -> None:
    """Handbook tables of common practice, no published source: an LFP pack opens for being full near its gentle limit, 14.0 V
    or 0.3 V less where one cell runs ahead; at 13.4 V a clamp came off, or it opened for another reason."""
    log = charged(last_V, 14.45)
    assert log.charge is not None and log.charge.ended_by == "charge-protection"
    assert (log.charge.time_to_full_s is not None) is full
    found = judged(Claim("charge-time", 3.0 * 3600.0, "s", Direction.AT_MOST), log, family="lfp", method="charge")
    assert found.outcome is (Outcome.MET if full else Outcome.NOT_TESTED), (found.outcome, found.advice)


@pytest.mark.parametrize(("every_s", "full"), [(70.0, False), (75.0, True)])
def test_between_readings_far_apart_it_may_have_risen(every_s: float, full: bool) -> None:
    """A hundredth of 50 Ah is 72 s at 25 A."""
    log = charged(13.42, 14.45, every_s=every_s)
    assert log.charge is not None and (log.charge.time_to_full_s is not None) is full


def test_a_lead_acid_battery_opens_nothing_on_charge() -> None:
    log = charged(13.6, 14.4, "agm")
    assert log.charge is not None and log.charge.ended_by == "operator" and log.charge.time_to_full_s is None
    assert not log.trips


def test_who_saw_how_it_ended_settles_it() -> None:
    log = analysed(lithium(), "lfp", ended_by="battery-protection")
    assert judged("45 Ah", log, family="lfp").outcome is Outcome.MISSED
    assert judged("15 Ah", analysed(lithium(), "lfp"), family="lfp").outcome is Outcome.MET


def test_the_command_line_names_it_an_opening_and_a_bound(tmp_path: Path) -> None:
    """Its contract has no other word for terminals that show nothing."""
    write_log(lithium(), tmp_path / "log.csv")
    given = parse_given({"family": "lfp", "rated_ah": 50.0})
    made = analysis_dict(*analyse_log(tmp_path / "log.csv", *options_from(given)))
    assert [stage["ended_by"] for stage in made["stages"]] == [None, "battery-protection", None]
    assert made["capacity"]["ended_by"] == "battery-protection" and made["capacity"]["bound"] == "at-least"
    for saw, bound in (("battery-protection", None), ("operator", "at-least")):
        given = parse_given({"family": "lfp", "rated_ah": 50.0, "saw-end": saw})
        made = analysis_dict(*analyse_log(tmp_path / "log.csv", *options_from(given)))
        assert (made["capacity"]["ended_by"], made["capacity"]["bound"]) == (saw, bound)
        assert "end-unclear" not in {remark["code"] for remark in made["remarks"]}
    assert set(SAW_END) == SEEN
    with pytest.raises(
        InputError, match='saw-end: "a clamp" is not known; use battery-protection, set-cutoff, operator'
    ):
        parse_given({"saw-end": "a clamp"})


def test_a_battery_without_a_protection_that_is_gone_was_stopped() -> None:
    """Lead-acid at 12.4 V under load, and then nothing: a clamp, a lead, a fuse."""
    gone = replace(sloping(12.4), voltage_V=_asleep(sloping(12.4)))
    log = analysed(gone)
    assert log.capacity is not None and log.capacity.ended_by == "operator"
    told = [str(remark.message) for remark in log.remarks if remark.code == "end-unclear"]
    assert len(told) == 1 and "no protection that opens" in told[0]
    assert judged("50 Ah at 0.1 C", log).outcome is Outcome.NOT_TESTED
