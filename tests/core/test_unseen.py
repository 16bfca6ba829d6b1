"""What a log does not show: its beginning, a pause, a meter that stood still, what lay between two readings.

Rules of common practice, no published source; the truth of each log is how it was made (invented data).
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from random import Random

import numpy as np
import pytest
from benchmarks.verdicts import KINDS, judged

from tests.core.test_kinds import AGM, LFP, analysed, charged, claim, verdict
from tests.making import discharge, piecewise
from wintry_tally.core.analysis import Analysis, Options, analyse
from wintry_tally.core.battery import FAMILIES, Sample
from wintry_tally.core.battery.families import charge_state_band
from wintry_tally.core.compare.figures import Tested, figures_of
from wintry_tally.core.trace.standing import LEAST, stood_still
from wintry_tally.core.trace.trace import Trace
from wintry_tally.core.verdict import Outcome, School, Verdict, judge
from wintry_tally.core.verdict.evidence import capacity_evidence
from wintry_tally.exchange.analysis_json import analysis_dict


def cut(trace: Trace, share: float) -> Trace:
    """The log without its rest before, and without so much of its discharge."""
    under = np.flatnonzero(trace.current > 0.05)
    return trace.taking(np.arange(under[0] + int(share * (under[-1] - under[0])), len(trace)))


def codes(log: Analysis) -> set[str]:
    return {remark.code for remark in log.remarks}


@pytest.mark.parametrize("kind, seeds", [("capacity", range(501, 502)), ("reserve", range(502, 503))])
def test_what_begins_under_load_late_is_never_missed(kind: str, seeds: range, tmp_path: Path) -> None:
    for seed in seeds:
        trial = KINDS[kind](Random(1000 * seed + len(kind)), seed)
        trace = trial.log.trace
        whole = judged(trial, tmp_path)["outcome"]
        if (
            kind == "capacity"
        ):  # begun with the load itself its first volts are a full one's, to some percent and no more
            at_once = cut(trace, 0.0)
            anew = replace(at_once, time_s=at_once.time_s - at_once.time_s[0])
            begun = judged(replace(trial, log=replace(trial.log, trace=anew)), tmp_path)
            assert begun["outcome"] == whole or begun["outcome"] == "too-close", (seed, begun["advice"])
            lacks = next(one for one in begun["conditions"] if one["name"] == "charge at the beginning")
            assert 0.0 < lacks["effect"]["value"] < 0.05 * begun["measured"]["value"], seed
            # where its clock counted on, the rest may have been load: never missed for that
            begun = judged(replace(trial, log=replace(trial.log, trace=at_once)), tmp_path)
            assert begun["outcome"] in {"met", "too-close", "not-tested"}, (seed, begun["advice"])
        late = judged(replace(trial, log=replace(trial.log, trace=cut(trace, 0.4))), tmp_path)
        assert late["outcome"] == "not-tested" and late["measured"]["bound"] == "at-least", (seed, late)
        assert "begins while" in late["advice"] and "fully charged" in late["advice"]


def test_a_clock_that_counted_on_says_that_the_beginning_is_missing(tmp_path: Path) -> None:
    # where the voltage cannot tell (lead-acid at 25 A): a tenth of the test before the first row
    trial = KINDS["reserve"](Random(1000 * 502 + len("reserve")), 502)
    late = cut(trial.log.trace, 0.1)
    told = {}
    for name, trace in (("counts on", late), ("anew", replace(late, time_s=late.time_s - late.time_s[0]))):
        told[name] = judged(replace(trial, log=replace(trial.log, trace=trace)), tmp_path)
    assert told["counts on"]["measured"]["bound"] == "at-least" and "its clock at" in told["counts on"]["advice"]
    anew = told["anew"]
    assert anew["measured"]["bound"] is None and anew["outcome"] in {"met", "too-close"}, "it may be, and may not"
    assert "charge at the beginning" in [condition["name"] for condition in anew["conditions"]]
    # a second, or a reading or two, of delay is none; nor is a time of day
    for first_s, interval_s, volts, bound in (
        (20.0, 5.0, 12.0, False), (90.0, 5.0, 12.0, True), (90.0, 30.0, 12.6, False), (200.0, 30.0, 12.6, True),
    ):  # fmt: skip
        steady = np.full(400, 25.0 / interval_s)  # the same charge in each
        log = analyse(
            Trace(first_s + interval_s * np.arange(400), np.linspace(volts, 10.4, 400), steady),
            Options(family=FAMILIES["agm"], rated_Ah=5.0),
        )
        assert log.capacity is not None and bool("its clock" in log.capacity.begun_low) is bound, (first_s, interval_s)


def late_agm(first_V: float, lasted_h: float = 4.0) -> Analysis:
    """10 A of a 40 Ah battery (0.25 C) from its log's first row down to 10.5 V; a usual one falls by 0.138 V under it."""
    size = int(lasted_h * 360)
    volts = np.concatenate([np.linspace(first_V, 10.5, size), np.full(60, 11.6)]).round(3)
    current = np.concatenate([np.full(size, 10.0), np.zeros(60)])
    trace = Trace(np.arange(size + 60) * 10.0, volts, current, resolution={"voltage_V": 0.001, "current_A": 0.001})
    return analysed(trace, AGM, 40.0, cutoff_V=10.5)


def test_what_may_have_come_before_the_first_row_is_read_off_the_chart() -> None:
    lacking = {volts: late_agm(volts).capacity.lacking for volts in (12.85, 12.6, 12.55, 12.5)}
    family = FAMILIES["agm"]
    sag = family.build.ohm_Ah * 0.25 * family.share
    for volts, share in lacking.items():
        # the handbook's chart (section 3), the least fall that is usual above the volts under load
        least = charge_state_band(family, volts + sag / 1.7)[0]
        assert share == pytest.approx(0.0 if least >= 98.0 else 1.0 - least / 100.0), volts
    assert lacking[12.85] == 0.0 < lacking[12.55] < lacking[12.5] < 0.4
    # a clock that counted on for an hour of four, and one that counted a charge too: half of it gone would show
    for begins_s, share in ((4800.0, 0.25), (14_400.0, 0.0)):
        counted = analysed(replace(late_agm(12.85).trace, begins_s=begins_s), AGM, 40.0, cutoff_V=10.5).capacity
        assert counted is not None and counted.lacking == pytest.approx(share, abs=0.01), begins_s
    # who read it by the hour at first, however often at its end, may have begun to an hour late; not who was there at first
    whole, hourly = late_agm(12.85).trace, np.arange(0, 1080, 360)
    for rows, share in (
        ([*hourly, *range(1080, 1500)], 0.2), ([*range(0, 180, 6), *range(360, 1440, 360), *range(1439, 1500)], 0.0),
    ):  # fmt: skip
        seen = analysed(replace(whole.taking(np.array(rows)), row=None), AGM, 40.0, cutoff_V=10.5).capacity
        assert seen is not None and seen.lacking == pytest.approx(share, abs=0.01), rows[:4]
    assert not late_agm(12.2).capacity.lacking and late_agm(12.2).capacity.begun_low, "no full battery's: a bound"
    rested = analysed(discharge(10.0, 4.0, top_V=12.6, end_V=10.5), AGM, 40.0, cutoff_V=10.5)
    assert rested.capacity is not None and rested.capacity.lacking == 0.0, "its rest says how it began"


@pytest.mark.parametrize(
    ("lasted_h", "outcome"), [(4.2, "met"), (3.9, "too-close"), (3.3, "too-close"), (2.0, "missed")]
)
def test_what_may_have_come_before_is_no_reason_for_a_miss(lasted_h: float, outcome: str) -> None:
    log = late_agm(12.52, lasted_h)
    run = capacity_evidence("run", log, 25.0)
    assert run is not None and 0.15 < log.capacity.lacking < 0.4
    amount, energy = judge(
        AGM, 40.0, [claim("capacity", 40.0, "Ah", "at-least", hours=4.0), claim("energy", 12.0 * 40.0, "Wh", "at-least", hours=4.0)],
        [run], School.STRICT,
    )  # fmt: skip
    assert amount.outcome == outcome, amount.advice
    (unseen,) = (one for one in amount.conditions if one.name == "charge at the beginning")
    most = 10.0 * lasted_h * log.capacity.lacking / (1.0 - log.capacity.lacking)
    assert unseen.most == pytest.approx(most, rel=0.01) and f"{100 - 100 * log.capacity.lacking:.0f} to 100 %" in str(
        unseen.actual
    )
    assert ("full battery's rest" in str(amount.advice)) == (outcome == "too-close")
    assert {one.name for one in energy.conditions} >= {"charge at the beginning"}
    ran = verdict(claim("runtime", 4.0 * 3600, "s", "at-least", device_A=10.0), "runtime", log, family=AGM, rated=40.0)
    assert ran.outcome == outcome and "charge at the beginning" in [one.name for one in ran.conditions]


def test_of_a_late_log_a_loss_in_the_cold_is_bounded_on_its_own_side() -> None:
    late, whole = (
        late_agm(12.52, 3.0),
        analysed(discharge(10.0, 4.0, top_V=12.85, end_V=10.5), AGM, 40.0, cutoff_V=10.5),
    )
    wanted = claim("cold-loss", 15.0, "%", "at-most")
    for logs, bound in (((late, whole), "at-most"), ((whole, replace(late, held=whole.held)), "at-least")):
        found = verdict(wanted, "cold-loss", *logs, family=AGM, rated=40.0)
        assert found.bound == bound or "gave more" in str(found.advice), found.advice
    assert verdict(wanted, "cold-loss", late, whole, family=AGM, rated=40.0).bound == "at-most"


def capacity(log: Analysis, claimed_Ah: float) -> Verdict:
    run = capacity_evidence("run", log, 25.0)
    assert run is not None
    return judge(LFP, 100.0, [claim("capacity", claimed_Ah, "Ah", "at-least")], [run], School.STRICT)[0]


def test_what_a_late_log_shows_all_the_same_is_met() -> None:
    late = lfp_from(13.15, 0.0)
    assert late.capacity is not None and late.capacity.begun_low
    for claimed, outcome in ((95.0, Outcome.MET), (105.0, Outcome.NOT_TESTED)):
        found = capacity(late, claimed)
        assert (found.outcome, found.bound) == (outcome, "at-least")


def lfp_from(top_V: float, first_fall: float, at: float = 0.0) -> Analysis:
    """20 A for 5 h from the log's first row; `first_fall` V lie in the first tenth, from `at` of that tenth on."""
    share = np.linspace(0.0, 1.0, 1801)
    within = np.clip((10.0 * share - at) / 0.2, 0.0, 1.0)
    volts = top_V - first_fall * within - 0.3 * np.exp((share - 1.0) / 0.02) * 8.0
    current = np.full(1801, 20.0)
    after = np.full(60, 0.4)
    trace = Trace(
        np.arange(1861) * 10.0, np.round(np.concatenate([volts, after]), 3), np.concatenate([current, np.zeros(60)]),
        resolution={"voltage_V": 0.001, "current_A": 0.001},
    )  # fmt: skip
    return analysed(trace)


def test_a_flat_curve_tells_by_the_fall_of_its_first_tenth() -> None:
    # 0.2 C: 15 mV + 100 mV/C × 0.2 C = 35 mV at the least, and at once; 50 mV + that only at the top of the curve
    for fall, at, low, told in (
        (0.03, 0.0, True, True), (0.04, 0.0, False, True), (0.065, 0.0, False, True), (0.075, 0.0, False, False),
        (0.08, 0.02, False, False), (0.08, 0.5, True, True),
    ):  # fmt: skip
        log = lfp_from(13.15, fall, at)
        assert log.capacity is not None and bool(log.capacity.begun_low) is low, (fall, at, log.capacity.begun_low)
        assert ("begins-under-load" in codes(log)) is told, (fall, at)
        assert low or (0.0 < log.capacity.lacking <= 0.08) is not told, (fall, at, log.capacity.lacking)
    # so high under load it was full, whatever it does next
    assert not lfp_from(13.32, 0.0).capacity.begun_low
    told = next(remark for remark in lfp_from(13.15, 0.0).remarks if remark.code == "begins-under-load")
    assert told.place == "row 1" and told.message.startswith(
        "The log begins while 20 A already flow, at 13.15 V, and does not"
    )
    # a rest before says how it began: no remark
    assert "begins-under-load" not in codes(analysed(discharge(20.0, 5.0)))


def test_the_top_of_a_flat_curve_tells_more_than_a_clock_that_counted_on() -> None:
    """A programme's clock counts its charge and its rest too: what begins full has lost nothing by it."""
    sure = analysed(replace(lfp_from(13.15, 0.09, 0.0).trace, begins_s=18_000.0)).capacity
    assert sure is not None and sure.lacking == pytest.approx(0.08) and not sure.begun_low
    perhaps = analysed(replace(lfp_from(13.15, 0.04, 0.0).trace, begins_s=18_000.0)).capacity
    assert perhaps is not None and "its clock at 5 h 00 min" in perhaps.begun_low
    high = lfp_from(13.65, 0.09, 0.0).trace
    assert analysed(replace(high, begins_s=18_000.0)).capacity.lacking == 0.0


@pytest.mark.parametrize(
    "key, volts, low",
    # 5 A of 40 Ah for 8 h: a usual fall of 0.069 V, at most 1.7 times that; charts of the handbook (section 3)
    [("agm", 12.75, False), ("agm", 12.30, True), ("flooded", 12.60, False), ("flooded", 12.00, True), ("nmc", 12.40, False), ("nmc", 11.80, True)],
)  # fmt: skip
def test_the_first_voltage_under_load_tells_a_battery_that_was_not_full(key: str, volts: float, low: bool) -> None:
    family = FAMILIES[key]
    share = np.linspace(0.0, 1.0, 2881)
    current = np.concatenate([np.full(2881, 5.0), np.zeros(60)])
    voltage = np.concatenate([volts - (volts - 10.5) * share, np.full(60, 11.6)])
    trace = Trace(
        np.arange(2941) * 10.0, np.round(voltage, 3), current, resolution={"voltage_V": 0.001, "current_A": 0.001}
    )
    for celsius, told in ((25.0, low), (-15.0, low)):
        log = analyse(trace, Options(family=family, rated_Ah=40.0, ambient_C=celsius, cutoff_V=10.5))
        assert log.capacity is not None and bool(log.capacity.begun_low) is told, (celsius, log.capacity.begun_low)


def test_a_charge_whose_log_begins_with_it_was_empty_only_where_its_voltage_says_so() -> None:
    shape = ((4.75 * 3600, -20.0, 13.9), (3600, -3.0, 14.4), (600, 0.0, 13.8))
    slow = claim("charge-time", 7.0 * 3600, "s", "at-most")
    for volts, outcome in ((12.4, Outcome.MET), (13.6, Outcome.NOT_TESTED)):
        log = analysed(piecewise((600, -20.0, volts), *shape, interval_s=10.0))
        told = verdict(slow, "charge", log)
        assert told.outcome is outcome, told.advice
        assert ("begins-under-load" in codes(log)) is (volts > 13.0)
    # a recharge after the shelf must be seen from its beginning: nothing says how much went in before
    months = claim("self-discharge", 5.0, "%/month", "at-most", months=3.0)
    recharge = ((2 * 3600, -4.0, 14.0), (3600, -1.0, 14.4), (600, 0.0, 13.8))
    seen = verdict(months, "self-discharge", analysed(piecewise((600, 0.0, 13.3), *recharge, interval_s=10.0)))
    cut_off = verdict(months, "self-discharge", analysed(piecewise(*recharge, interval_s=10.0)))
    assert seen.outcome is Outcome.MET
    assert (cut_off.outcome, cut_off.bound) == (
        Outcome.NOT_TESTED,
        "at-least",
    ) and "before the charger" in cut_off.advice


def reserve(*parts: tuple[float, bool]) -> Analysis:
    """25 A in parts of (minutes, whether the load was on), at 25 °C; 12.2 V falling to 10.4 V over the loaded time."""
    total = sum(minutes for minutes, on in parts if on)
    volts, amps, done = [np.full(60, 12.7)], [np.zeros(60)], 0.0
    for minutes, on in parts:
        size = int(6 * minutes)
        share = (done + np.arange(size) / 6.0 * on) / total
        volts.append(12.2 - 1.8 * share if on else np.full(size, 12.0))
        amps.append(np.full(size, 25.0 * on))
        done += minutes * on
    volts.append(np.full(60, 11.8))
    amps.append(np.zeros(60))
    voltage, current = np.concatenate(volts), np.concatenate(amps)
    trace = Trace(
        np.arange(len(voltage)) * 10.0, np.round(voltage, 3), current, resolution={"voltage_V": 0.001, "current_A": 0.001}
    )  # fmt: skip
    return analysed(trace, family=AGM, rated=60.0, ambient_C=25.0)


def test_a_reserve_test_that_was_paused_is_no_more_than_a_bound() -> None:
    # down to 10.5 V after 17/18 of the loaded 72 min: 68 min; the battery recovers while the load is off
    for minutes, outcome, bound in ((75.0, Outcome.MISSED, "at-most"), (60.0, Outcome.NOT_TESTED, "at-most"), (25.0, Outcome.MET, None)):  # fmt: skip
        log = reserve((36.0, True), (30.0, False), (36.0, True))
        told = verdict(claim("reserve", 60.0 * minutes, "s", "at-least"), "reserve", log, family=AGM, rated=60.0)
        assert (told.outcome, told.bound) == (outcome, bound), (minutes, told.advice)
        assert told.measured is not None and told.measured.value == pytest.approx(68.0 * 60.0, abs=20.0)
    # in one go it is what it is
    whole = reserve((72.0, True))
    told = verdict(claim("reserve", 3600.0, "s", "at-least"), "reserve", whole, family=AGM, rated=60.0)
    assert (told.outcome, told.bound) == (Outcome.MET, None)


def test_a_reserve_is_held_only_as_long_as_readings_under_load_show() -> None:
    # switched off at 11 V after 60 min: the last reading before lies at 60 min; half an interval more is nobody's
    for interval, minutes, outcome in ((10.0, 60.0, Outcome.MET), (300.0, 62.0, Outcome.NOT_TESTED)):
        parts = ((600, 0.0, 12.7), (3600, 25.0, 11.2), (1200, 0.0, 12.3))
        log = analysed(piecewise(*parts, interval_s=interval), family=AGM, rated=60.0, ambient_C=25.0)
        told = verdict(claim("reserve", 60.0 * minutes, "s", "at-least"), "reserve", log, family=AGM, rated=60.0)
        assert told.outcome is outcome, (interval, told.advice)


def test_a_charge_switched_off_for_a_while_misses_only_by_the_time_its_current_flowed() -> None:
    whole = charged()
    at, step = 400, 10.0
    pause = np.arange(1, 361) * step
    time = np.concatenate([whole.time_s[:at], whole.time_s[at - 1] + pause, whole.time_s[at:] + pause[-1]])
    volts = np.concatenate([whole.voltage_V[:at], np.full(360, 13.3), whole.voltage_V[at:]])
    amps = np.concatenate([whole.current[:at], np.zeros(360), whole.current[at:]])
    log = analysed(replace(whole, time_s=time, voltage_V=volts, current_A=amps))
    assert log.charge is not None and log.charge.time_to_full_s == pytest.approx(17455.0 + 3600.0, abs=20.0)
    for hours, outcome, bound in ((6.3, Outcome.MET, "at-most"), (5.3, Outcome.NOT_TESTED, "at-most"), (4.5, Outcome.MISSED, "at-least")):  # fmt: skip
        told = verdict(claim("charge-time", hours * 3600, "s", "at-most"), "charge", log)
        assert (told.outcome, told.bound) == (outcome, bound), told.advice


def living(size: int = 4000, resolution: float = 0.001, noise: float = 0.001, seed: int = 3) -> Trace:
    """A rest and a discharge read by a meter whose last digit flickers."""
    dice = np.random.default_rng(seed)
    current = np.where(np.arange(size) < 400, 0.0, 8.0)
    voltage = 13.3 - np.where(current > 0, 0.15 + 0.0002 * np.arange(size), 0.0) + noise * dice.standard_normal(size)
    current = np.round((current + noise * dice.standard_normal(size)) / resolution) * resolution
    return Trace(
        np.arange(size) * 5.0, np.round(voltage / resolution) * resolution, current,
        resolution={"voltage_V": resolution, "current_A": resolution},
    )  # fmt: skip


def held(trace: Trace, first: int, last: int) -> Trace:
    """The log with its readings repeated from `first` up to `last`."""
    voltage, current = trace.voltage_V.copy(), trace.current.copy()
    voltage[first : last + 1], current[first : last + 1] = voltage[first], current[first]
    return replace(trace, voltage_V=voltage, current_A=current)


def test_a_meter_that_stood_still_is_found_to_the_row() -> None:
    alive = living()
    assert stood_still(alive, 0.0) == []
    for first, last in ((1000, 1300), (3500, 3999), (100, 280), (350, 900)):
        assert stood_still(held(alive, first, last), 0.0) == [(first, last)], (first, last)
    two = held(held(alive, 1000, 1200), 2000, 2500)
    assert stood_still(two, 0.0) == [(1000, 1200), (2000, 2500)]
    assert stood_still(held(alive, 1000, 1000 + LEAST // 2), 0.0) == []


@pytest.mark.parametrize("resolution, noise", [(0.01, 0.0), (0.1, 0.0), (0.1, 0.002)])
def test_a_coarse_meter_that_creeps_did_not_stand_still(resolution: float, noise: float) -> None:
    # steps of a last digit with no flicker between them: nothing tells a living meter from a dead one
    assert stood_still(living(resolution=resolution, noise=noise), 0.0) == []


def test_no_living_meter_is_taken_for_one_that_stood_still() -> None:
    # meters of every resolution, with and without flicker, on slopes from steep to flat: a quiet digit is no dead meter
    dice = np.random.default_rng(7)
    for _ in range(150):
        volt, amp = (dice.choice([0.001, 0.01, 0.1]) for _ in range(2))
        noise_V, noise_A = volt * dice.choice([0.0, 0.1, 0.2, 0.3, 1.0]), amp * dice.choice([0.0, 0.1, 0.3, 1.0])
        size = int(dice.choice([400, 2000]))
        slope = volt * 10.0 ** dice.uniform(-3.5, -0.3) * min(1.0, 2.0 / size / volt)
        at = np.arange(size)
        voltage = 13.3 - slope * at + noise_V * dice.standard_normal(size)
        current = 8.0 + noise_A * dice.standard_normal(size)
        trace = Trace(
            at * 5.0, np.round(np.round(voltage / volt) * volt, 6), np.round(np.round(current / amp) * amp, 6),
            resolution={"voltage_V": volt, "current_A": amp},
        )  # fmt: skip
        assert stood_still(trace, 0.0) == [], (volt, noise_V, amp, noise_A, slope, size)


def staircase(dice: np.random.Generator, amp: float, noise_A: float) -> Trace:
    """An overload test: currents raised step by step, each held for 4 to 80 s."""
    count = int(dice.integers(3, 14))
    level = dice.uniform(5, 80) + np.cumsum(dice.uniform(0.0, 12.0, count))
    current = np.concatenate([np.zeros(100), np.repeat(level, dice.integers(20, 400, count)), np.zeros(100)])
    at = np.arange(len(current))
    volts = 13.4 - 0.01 * current - dice.uniform(0, 2e-4) * at + 0.001 * dice.standard_normal(len(at))
    current = current + noise_A * dice.standard_normal(len(at))
    return Trace(
        at * 0.2, np.round(volts, 3), np.round(np.round(current / amp) * amp, 6),
        resolution={"voltage_V": 0.001, "current_A": amp},
    )  # fmt: skip


def test_steps_of_an_overload_test_are_few_neighbours_and_enough() -> None:
    dice = np.random.default_rng(11)
    for _ in range(100):
        amp = dice.choice([0.001, 0.01, 0.1])
        assert stood_still(staircase(dice, amp, amp * dice.choice([0.0, 0.1, 0.3, 0.5, 1.0])), 0.0) == []
    # 14 s at 90 A with a digit that flickers over four values, then 36 s of one and the same
    seen = np.concatenate([np.zeros(100), np.full(70, 90.1), np.full(180, 90.1), np.zeros(200)])
    noise = 0.001 * np.round(1.2 * dice.standard_normal(len(seen)))
    alive = Trace(np.arange(len(seen)) * 0.2, np.round(13.4 - 0.01 * seen + noise, 3), np.round(seen + noise, 3))
    dead = held(alive, 170, 349)
    assert [rows[1] for rows in stood_still(dead, 0.0)] == [349] and stood_still(alive, 0.0) == []


def test_readings_that_stood_still_are_left_out_and_what_they_hide_is_a_gap() -> None:
    whole = discharge(20.0, 5.0)
    dead = held(whole, 1000, 1500)
    for repair, kept in (("safe", len(whole) - 500), ("none", len(whole))):
        log = analysed(dead, repair=repair)
        assert "readings-stand-still" in codes(log) and len(log.trace) == kept
    log = analysed(dead)
    told = next(remark for remark in log.remarks if remark.code == "readings-stand-still")
    assert (
        told.rows == (1001, 1501)
        and told.message.startswith("500 rows after row 1001 (5000 s)")
        and "gap" in codes(log)
    )
    # over the end of the test the end is unseen: a bound, never a miss
    ended = analysed(held(whole, 1500, len(whole) - 1))
    found = capacity(ended, 105.0)
    assert (found.outcome, found.bound) == (Outcome.NOT_TESTED, "at-least")


def test_one_reading_of_a_surge_does_not_show_that_it_lasted() -> None:
    rest, after = (60, 0.0, 13.4), (60, 0.0, 13.3)
    wanted = claim("surge", 160.0, "A", "at-least", duration_s=5.0)
    coarse = analysed(piecewise(rest, (12, 160.0, 11.0), after, interval_s=12.0), rated=40.0)
    assert verdict(wanted, "surge", coarse, rated=40.0).outcome is Outcome.NOT_TESTED
    fine = analysed(piecewise(rest, (5, 160.0, 11.0), after, interval_s=1.0), rated=40.0)
    assert verdict(wanted, "surge", fine, rated=40.0).outcome is Outcome.MET
    # dead terminals in the first reading after it: the protection opened, though it let go by itself
    opened = analysed(piecewise(rest, (2, 160.0, 11.0), (1, 0.0, 0.3), (60, 0.0, 13.3), interval_s=0.5), rated=40.0)
    assert verdict(wanted, "surge", opened, rated=40.0).outcome is Outcome.MISSED


def test_a_step_seen_once_is_where_the_time_to_open_begins() -> None:
    window = claim("over-current-trip", 110.0, "A", "within", 15.0, duration_s=10.0)
    # steps of 10 s, logged every 2 s; the last is seen once before it opened
    log = analysed(
        piecewise((60, 0.0, 13.4), (30, 80.0, 12.4), (2, 108.0, 11.9), (60, 0.0, 0.3), interval_s=2.0), rated=40.0
    )
    told = verdict(window, "overload", log, rated=40.0)
    assert log.trips[0].current_A == 108.0 and log.trips[0].latency_s <= 3.0
    assert told.outcome is not Outcome.MISSED, told.advice


@pytest.mark.parametrize(
    "interval, last_s, outcome",
    [
        (1.0, 12.0, Outcome.MET),
        (2.0, 4.0, Outcome.MET),
        (2.0, 10.0, Outcome.NOT_TESTED),
        (6.0, 6.0, Outcome.NOT_TESTED),
    ],
)
def test_a_step_that_no_reading_shows_may_have_opened_it(interval: float, last_s: float, outcome: Outcome) -> None:
    # 60 A, then 108 A until it opened: after its ten seconds the next step may have come between two readings
    window = claim("over-current-trip", 110.0, "A", "within", 15.0, duration_s=20.0)
    parts = ((60, 0.0, 13.4), (30, 60.0, 12.4), (last_s, 108.0, 11.9), (60, 0.0, 0.3))
    log = analysed(piecewise(*parts, interval_s=interval), rated=40.0)
    told = verdict(window, "overload", log, rated=40.0)
    assert told.outcome is outcome and (outcome is Outcome.MET or "may have been raised" in told.advice), told.advice
    # a current that stood from the first was not being raised
    held = piecewise((60, 0.0, 13.4), (last_s + 30, 108.0, 11.9), (60, 0.0, 0.3), interval_s=interval)
    slow = claim("over-current-trip", 110.0, "A", "within", 15.0, duration_s=60.0)
    assert verdict(slow, "overload", analysed(held, rated=40.0), rated=40.0).outcome is Outcome.MET


def test_what_did_not_begin_full_is_compared_with_nothing_and_told_as_a_bound() -> None:
    for log, bound, compared in ((lfp_from(13.15, 0.0), "at-least", False), (lfp_from(13.32, 0.0), None, True)):
        assert analysis_dict(None, log)["capacity"]["bound"] == bound
        run = Tested("run", "capacity", None, log, capacity_evidence("run", log, 25.0))
        found = figures_of(Sample(0, "A", "", "", "lfp"), [run], [])
        assert ("charge" in found) is compared, sorted(found)


def test_a_warm_twin_that_rested_too_low_before_bounds_the_cold_loss() -> None:
    def drawn(rested_V: float, hours: float) -> Analysis:
        share = np.linspace(0.0, 1.0, int(360 * hours))
        volts = np.concatenate([np.full(180, rested_V), rested_V - (rested_V - 10.5) * share, np.full(60, 11.5)])
        amps = np.concatenate([np.zeros(180), np.full(len(share), 5.0), np.zeros(60)])
        trace = Trace(np.arange(len(volts)) * 10.0, np.round(volts, 3), amps, resolution={"voltage_V": 0.001, "current_A": 0.001})  # fmt: skip
        return analysed(trace, family=AGM, rated=40.0, cutoff_V=10.5, ambient_C=25.0)

    wanted = claim("cold-loss", 15.0, "%", "at-most")
    cold = drawn(12.9, 5.0)
    for twin_V, outcome, bound in ((12.9, Outcome.MISSED, None), (12.2, Outcome.MISSED, "at-least")):
        told = verdict(wanted, "cold-loss", cold, drawn(twin_V, 7.0), family=AGM, rated=40.0)
        assert (told.outcome, told.bound) == (outcome, bound), told.advice
    low = verdict(wanted, "cold-loss", drawn(12.2, 5.0), drawn(12.9, 7.0), family=AGM, rated=40.0)
    assert (low.outcome, low.bound) == (Outcome.NOT_TESTED, "at-most")


def test_the_working_of_a_trip_shows_what_was_carried_before_it() -> None:
    window = claim("over-current-trip", 110.0, "A", "within", 15.0, duration_s=10.0)
    parts = ((60, 0.0, 13.4), (12, 96.0, 12.2), (4, 112.0, 11.9), (60, 0.0, 0.3))
    told = verdict(window, "overload", analysed(piecewise(*parts, interval_s=0.5), rated=40.0), rated=40.0)
    assert told.outcome is Outcome.MET and told.working is not None
    inputs = told.working.inputs
    assert inputs["carried before"] == "96 A" and inputs["window"] == "95 to 125 A" and "share" in told.working.formula
