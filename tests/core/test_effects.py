"""What unlike conditions are said to do, number by number, against the published relations they come from.

P4: W. Peukert, ETZ 18 (1897). P6: IEC 60095-1. P7: IEC 60896-11/-21. P10: IEC 61960-3. All from memory; what is common
practice without a published source is named so. Invented figures.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from tests.core.test_kinds import METER, analysed, claim, verdict
from tests.making import discharge, piecewise
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.battery import FAMILIES, parse_claim
from wintry_tally.core.quantity import Quantity, Term
from wintry_tally.core.verdict import Outcome, School, judge
from wintry_tally.core.verdict.effects import cutoff_condition, rate_condition, temperature_condition, warmth_condition
from wintry_tally.core.verdict.evidence import CapacityEvidence, evidence_from_log
from wintry_tally.core.verdict.leads import LEADS_OF_A_CUT, Sag, beyond_own_of, beyond_own_V, leads_condition, sag_of
from wintry_tally.core.verdict.settle_capacity import scatter_beyond
from wintry_tally.core.working import Working

HOUR = 3600.0


def run(amps: float = 20.0, hours: float = 5.0, celsius: float | None = 25.0, **more: object) -> CapacityEvidence:
    made = CapacityEvidence(
        "run", Quantity(amps * hours, 0.1, "Ah"), Quantity(12.8 * amps * hours, 1.0, "Wh"), amps, hours * HOUR, 10.0,
        "set-cutoff", celsius, (amps,), "", Working("Q"), Working("E"),
    )  # fmt: skip
    return replace(made, **more)


@pytest.mark.parametrize("key", sorted(FAMILIES))
def test_the_rate_s_effect_is_peukert_s(key: str) -> None:
    # P4: t = H (C / (I H))^k, so the charge at another current is × (I / I')^(k - 1)
    family, (exponent, doubt) = FAMILIES[key], FAMILIES[key].peukert
    wanted = parse_claim("100 Ah at 0.1 C")
    found = rate_condition(family, wanted, run(40.0), 100.0, 100.0)
    assert found is not None and found.effect is not None and found.name == "rate"
    charge = lambda amps, k: amps * 20.0 * (100.0 / (amps * 20.0)) ** k  # noqa: E731
    assert 100.0 + found.effect.value == pytest.approx(100.0 * charge(10.0, exponent) / charge(40.0, exponent))
    # as uncertain as the exponent: the slope there, d/dk of 4^(k - 1) is ln 4 × 4^(k - 1)
    assert found.effect.standard == pytest.approx(100.0 * math.log(4.0) * 4.0 ** (exponent - 1.0) * doubt)


def test_common_exponents_are_those_of_the_trade() -> None:
    # common practice, no published source: lithium next to 1, AGM 1.1 to 1.2, flooded 1.2 and more (P4 quotes 1.2)
    assert all(1.0 < FAMILIES[key].peukert[0] < 1.05 for key in ("lfp", "nmc"))
    assert 1.1 <= FAMILIES["agm"].peukert[0] <= FAMILIES["gel"].peukert[0] <= FAMILIES["flooded"].peukert[0] <= 1.3


@pytest.mark.parametrize(("amps", "effect"), [(21.9, False), (22.1, True), (18.1, False), (17.9, True)])
def test_a_tenth_of_the_rate_is_alike(amps: float, effect: bool) -> None:
    found = rate_condition(FAMILIES["lfp"], parse_claim("100 Ah at 0.2 C"), run(amps), 100.0, 100.0)
    assert found is not None and (found.effect is not None) is effect


def test_stages_at_unlike_rates_are_mixed_and_their_spread_is_doubt() -> None:
    wanted = parse_claim("100 Ah at 0.2 C")
    plain = rate_condition(FAMILIES["agm"], wanted, run(20.0, rates=(20.0, 21.9)), 100.0, 100.0)
    mixed = rate_condition(FAMILIES["agm"], wanted, run(20.0, rates=(5.0, 45.0)), 100.0, 100.0)
    assert plain is not None and (plain.name, plain.effect) == ("rate", None)
    assert mixed is not None and mixed.effect is not None and mixed.name == "mixed rates"
    assert mixed.effect.standard == pytest.approx(100.0 * math.log(9.0) * (FAMILIES["agm"].peukert[0] - 1.0) / 2.0)


@pytest.mark.parametrize("key", ["agm", "gel", "flooded"])
@pytest.mark.parametrize("celsius", [0.0, 10.0, 35.0])
def test_lead_acid_in_the_cold_lies_between_the_two_standards(key: str, celsius: float) -> None:
    # P6: C25 = C [1 - 0.01 (T - 25)]. P7: C = C_a [1 + λ (θ - θref)], λ 0.006 /K from 3 h on, 0.01 /K below
    short = temperature_condition(FAMILIES[key], parse_claim("100 Ah"), run(hours=2.0, celsius=celsius), 100.0)
    assert short is not None and short.effect is not None
    assert 100.0 + short.effect.value == pytest.approx(100.0 * (1.0 - 0.01 * (celsius - 25.0)))
    long = temperature_condition(FAMILIES[key], parse_claim("100 Ah"), run(hours=10.0, celsius=celsius), 100.0)
    assert long is not None and long.effect is not None and long.effect.expanded is not None
    for by_standard in (1.0 - 0.01 * (celsius - 25.0), 1.0 / (1.0 + 0.006 * (celsius - 25.0))):
        assert abs(100.0 + long.effect.value - 100.0 * by_standard) <= 1.7 * long.effect.expanded, by_standard
    assert short.effect.standard == pytest.approx(0.3 * abs(celsius - 25.0))
    assert long.effect.standard == pytest.approx(0.15 * abs(celsius - 25.0))


def test_three_hours_are_long_and_lithium_knows_no_difference() -> None:
    for hours, slope in ((2.999, 0.01), (3.0, 0.008)):
        found = warmth_condition(FAMILIES["gel"], parse_claim("100 Ah"), 15.0, hours * HOUR, 100.0)
        assert found is not None and found.effect is not None and found.effect.value == pytest.approx(1000.0 * slope)
    for hours in (1.0, 10.0):
        found = warmth_condition(FAMILIES["nmc"], parse_claim("100 Ah"), 15.0, hours * HOUR, 100.0)
        assert found is not None and found.effect is not None
        assert found.effect.value == pytest.approx(1000.0 * FAMILIES["nmc"].per_kelvin[0])


def test_three_kelvin_are_alike_and_an_unknown_temperature_is_a_rooms() -> None:
    family, wanted = FAMILIES["lfp"], parse_claim("100 Ah at 20 °C")
    assert temperature_condition(family, parse_claim("100 Ah"), run(celsius=None), 100.0) is None
    unknown = temperature_condition(family, wanted, run(celsius=None), 100.0)
    assert unknown is not None and unknown.actual is None and unknown.effect is not None
    # from 22 °C down to 20 °C it would give 0.3 % a kelvin less; a room is known to 3.5 K, the slope to 0.2 %
    assert unknown.effect.value == pytest.approx(-0.6)
    assert unknown.effect.standard == pytest.approx(math.hypot(0.3 * 3.5, 0.2 * 2.0))
    alike, apart = (temperature_condition(family, wanted, run(celsius=at), 100.0) for at in (23.0, 23.1))
    assert alike is not None and alike.effect is None and apart is not None and apart.effect is not None
    assert apart.effect.value < 0.0, "warmer than claimed: at the claim's temperature it would give less"


def test_an_end_above_the_cut_off_leaves_some_in() -> None:
    family, wanted = FAMILIES["agm"], parse_claim("100 Ah to 10.5 V")
    at_end = cutoff_condition(family, wanted, run(end_V=10.6), 100.0)
    above = cutoff_condition(family, wanted, run(end_V=11.8), 100.0)
    opened = cutoff_condition(family, wanted, run(end_V=11.8, ended_by="battery-protection"), 100.0)
    assert at_end is not None and at_end.effect is None and opened is not None and opened.effect is None
    assert above is not None and above.effect is not None and above.effect.value > 0.0
    # anything between nothing and all that the chart allows: a uniform distribution (P1)
    assert above.effect.standard == pytest.approx(above.effect.value / math.sqrt(3.0))
    assert above.most == pytest.approx(2.0 * above.effect.value)


def test_the_current_of_a_charge_moves_its_time_for_the_share_it_ruled() -> None:
    # common practice, no published source: half the current, twice the time, as long as the charger sets it
    shape = piecewise((600, 0.0, 12.9), (4 * HOUR, -20.0, 13.8), (HOUR, -3.0, 14.4), (600, 0.0, 13.8), interval_s=10.0)
    log = analysed(shape, rated=100.0)
    assert log.charge is not None and log.charge.time_to_full_s is not None
    found = verdict(claim("charge-time", 9.0 * HOUR, "s", "at-most", current_A=10.0), "charge", log)
    effect = found.conditions[0].effect
    assert effect is not None and effect.standard == pytest.approx(0.2 * effect.value)
    assert effect.value == pytest.approx(log.charge.time_to_full_s * log.charge.share_constant_current, rel=0.02)
    near = verdict(claim("charge-time", 9.0 * HOUR, "s", "at-most", current_A=20.5), "charge", log)
    assert near.conditions[0].effect is None and near.conditions[0].claimed == 20.5


def test_reserve_at_another_current() -> None:
    log = analyse(discharge(20.0, 2.0, end_V=10.4), Options(FAMILIES["flooded"], 75.0, METER, ambient_C=25.0))  # fmt: skip
    told = claim("reserve", 5000.0, "s", "at-least", current_A=25.0)
    found = verdict(told, "reserve", log, family=FAMILIES["flooded"], rated=75.0)
    effect = found.conditions[0].effect
    assert effect is not None and effect.value < 0.0 and found.measured is not None
    # P4 with k - 1 of about a fifth in time: (20 / 25)^1.2 of the minutes
    assert 1.0 + effect.value / found.measured.value == pytest.approx((20.0 / 25.0) ** 1.2, abs=0.05)
    unmeant = verdict(told, "", log, family=FAMILIES["flooded"], rated=75.0)
    assert unmeant.outcome is Outcome.NOT_TESTED, "a log nobody called a reserve test, at another current"


def test_the_scatter_of_runs_is_student_s() -> None:
    # JCGM 100:2008, 4.2.3 and G.3 (from memory): s/√n, t of 2 degrees of freedom at 95 % is 4.303
    runs = [Quantity.from_terms(v, "Ah", [Term("own", 0.01)]) for v in (99.0, 100.0, 101.0)]
    found = scatter_beyond(runs, Quantity(100.0, 0.01, "Ah"))
    assert found is not None and found == (pytest.approx(1.0 / math.sqrt(3.0)), pytest.approx(4.303, abs=0.001))
    calm = [Quantity.from_terms(v, "Ah", [Term("own", 1.0)]) for v in (99.0, 100.0, 101.0)]
    assert scatter_beyond(calm, Quantity(100.0, 0.6, "Ah")) is None


def test_a_shelf_of_so_many_seconds_is_so_many_months() -> None:
    log = analysed(
        piecewise((600, 0.0, 13.2), (HOUR, -2.0, 13.9), (HOUR, -0.5, 14.4), (600, 0.0, 13.6), interval_s=10.0)
    )
    by_months = verdict(claim("self-discharge", 3.0, "%/month", "at-most", months=2.0), "self-discharge", log)
    by_seconds = verdict(
        claim("self-discharge", 3.0, "%/month", "at-most", duration_s=2.0 * 30.44 * 86_400.0), "self-discharge", log
    )
    assert by_months.measured is not None and by_months.measured == by_seconds.measured


def test_a_loss_within_its_own_doubt_is_told_as_at_most() -> None:
    log = analysed(piecewise((600, 0.0, 13.4), (600, -0.2, 14.4), (600, 0.0, 13.6), interval_s=10.0))
    found = verdict(claim("self-discharge", 3.0, "%/month", "at-most", months=2.0), "self-discharge", log)
    assert found.outcome is Outcome.MET and "at most" in str(found.advice) and "does not stand out" in str(found.advice)


def test_resistance_by_two_steps_is_the_standard_s() -> None:
    # P10, IEC 61960-3: R = (U1 - U2) / (I2 - I1), I1 = 0.2 It for 10 s, I2 = 1.0 It for 1 s
    ohm, rest = 0.012, 13.28
    amps = np.concatenate([np.zeros(100), np.full(100, 4.0), np.full(10, 20.0), np.zeros(100)])
    volts = rest - ohm * amps
    trace = replace(piecewise((31.0, 0.0, 13.0), interval_s=0.1), voltage_V=volts.round(4), current_A=amps)
    found = analyse(trace, Options(FAMILIES["lfp"], 20.0, METER)).resistance
    step = next(item for item in found if (round(item.from_A), round(item.to_A)) == (4, 20))
    assert step.ohm.value == pytest.approx((volts[150] - volts[205]) / (20.0 - 4.0), rel=0.005)
    assert step.ohm.value == pytest.approx(ohm, rel=0.005)


def test_rated_capacity_of_lithium_is_taken_at_a_fifth_of_it() -> None:
    # P10 and P11 (IEC 61960-3, IEC 62620): 0.2 It; P6 (IEC 60095-1): C20 at C/20
    assert all(FAMILIES[key].reference_rate_C == 0.2 for key in ("lfp", "nmc"))
    assert all(FAMILIES[key].reference_rate_C == 0.05 for key in ("agm", "gel", "flooded"))


def test_retention_after_four_weeks_is_a_rate_a_month() -> None:
    # P10: retention after 28 days at 20 °C; 96 % kept are 4 % in 28 of 30.44 days
    before, after = analysed(discharge(20.0, 5.0, opened=True)), analysed(discharge(20.0, 4.8, opened=True))
    told = claim("self-discharge", 5.0, "%/month", "at-most", duration_s=28 * 86_400.0)
    found = verdict(told, "self-discharge", before, after)
    assert found.measured is not None and found.measured.value == pytest.approx(4.0 * 30.44 / 28.0, rel=0.01)


@pytest.mark.parametrize(
    ("sag", "celsius", "beyond"),
    [
        # 0.6 Ω·Ah / 100 Ah × 20 A: 0.12 V by itself; a fresh charge loses 0.25 V more within five seconds
        ((0.30, 0.5), 25.0, 0.18), ((0.26, 0.5), 25.0, None), ((0.48, 5.0), 25.0, None), ((0.50, 5.0), 25.0, 0.38),
        ((0.48, 10.0), 25.0, None), ((0.50, 10.0), 25.0, 0.38), ((0.50, 5.0), -5.0, None), ((0.50, 5.0), None, 0.38), (None, 25.0, None),
    ],
)  # fmt: skip
def test_a_fall_beyond_a_batterys_own_may_be_leads(
    sag: tuple[float, float] | None, celsius: float | None, beyond: float | None
) -> None:
    found = beyond_own_V(FAMILIES["lfp"], 100.0, None if sag is None else Sag(*sag), 20.0, celsius)
    assert (found is None) == (beyond is None)
    if found is not None and beyond is not None:
        assert (found.own_V, found.most_V) == pytest.approx((0.12, beyond)) and found.fell_V == sag[0]
        told = leads_condition(parse_claim("1280 Wh"), found, 102.0)
        # Ohm's law: from nothing to all of it, alike (P1)
        assert told is not None and told.effect is not None and told.effect.value == pytest.approx(51.0 * beyond)
        assert told.effect.standard == pytest.approx(102.0 * beyond / math.sqrt(12.0))
        assert told.most == pytest.approx(102.0 * beyond)


@pytest.mark.parametrize(("ohm", "outcome"), [(0.0, "met"), (0.05, "too-close")])
def test_an_energy_read_at_the_load_is_not_missed_for_its_leads(ohm: float, outcome: str) -> None:
    trace = discharge(8.0, 5.0, interval_s=5.0, opened=True)
    read = replace(trace, voltage_V=np.round(trace.voltage_V - ohm * trace.current, 3))
    at_terminals = analysed(trace, rated=40.0).capacity
    assert at_terminals is not None
    wanted = claim("energy", 0.99 * at_terminals.count.energy.value, "Wh", "at-least")
    evidence = evidence_from_log("capacity", "a.csv", analysed(read, rated=40.0))
    amount = claim("capacity", 39.0, "Ah", "at-least")
    found, charge = judge(FAMILIES["lfp"], 40.0, [wanted, amount], evidence, School.STRICT)
    assert found.outcome == outcome and charge.outcome is Outcome.MET, "charge needs no volts"
    assert ("own terminals" in str(found.advice)) == (ohm > 0.0)


def test_a_cut_and_a_reserve_read_at_the_load_are_open_where_leads_may_have_taken_the_rest() -> None:
    trace = discharge(8.0, 5.0, interval_s=5.0)
    read = replace(trace, voltage_V=np.round(trace.voltage_V - 0.06 * trace.current, 3))
    for log, outcome in ((trace, "met"), (read, "too-close")):
        cut = verdict(
            claim("low-voltage-cut", 10.3, "V", "within", 0.4), "capacity", analysed(log, rated=40.0), rated=40.0
        )
        assert cut.outcome == outcome
        assert ("voltage under load" in [one.name for one in cut.conditions]) == (outcome == "too-close")
    flooded = discharge(25.0, 1.845, interval_s=5.0, top_V=12.9, end_V=10.5, opened=False)
    for ohm, outcome in ((0.0, "met"), (0.04, "not-tested")):
        shown = replace(
            flooded,
            voltage_V=np.round(flooded.voltage_V - ohm * flooded.current, 3),
            temperature_C=np.full(len(flooded), 25.0),
        )
        log = analyse(shown, Options(FAMILIES["flooded"], 60.0, METER, rated_minutes=110.0, cutoff_V=10.5))
        found = verdict(
            claim("reserve", 6570.0, "s", "at-least"), "reserve", log, family=FAMILIES["flooded"], rated=60.0
        )
        assert found.outcome == outcome, found.advice
        assert outcome == "met" or (found.bound == "at-least" and "read at the load" in str(found.advice))


@pytest.mark.parametrize(("ohm", "beyond"), [(0.0, None), (0.03, 0.24)])
def test_where_a_log_begins_under_load_another_step_says_what_leads_take(ohm: float, beyond: float | None) -> None:
    # 0.6 Ω·Ah / 40 Ah = 15 mΩ by itself: 0.12 V at 8 A
    parts = ((600, 8.0, 13.0), (3600, 0.0, 13.12), (600, 4.0, 13.06), (600, 0.0, 13.12))
    read = piecewise(*((seconds, amps, volts - ohm * amps) for seconds, amps, volts in parts))
    log = analysed(read, rated=40.0)
    sag = sag_of(log)
    assert sag is not None and sag.fell_V == pytest.approx(
        (0.015 + ohm) * log.capacity.count.mean_current.value, rel=0.01
    )
    found = beyond_own_of(log, FAMILIES["lfp"], 40.0, 8.0, LEADS_OF_A_CUT)
    assert (found is None) == (beyond is None)
    assert found is None or (found.own_V, found.most_V) == pytest.approx((0.12, beyond), rel=0.02)


@pytest.mark.parametrize(("at", "outcome"), [("", "too-close"), ("terminals", "missed"), ("load", "too-close")])
def test_who_says_where_the_volts_were_read_is_believed(at: str, outcome: str) -> None:
    """A worn battery falls as far as leads make it: read at its terminals the energy is missed, else it is open."""
    trace = discharge(8.0, 5.0, interval_s=5.0, opened=True)
    worn = replace(trace, voltage_V=np.round(trace.voltage_V - 0.05 * trace.current, 3))
    log = analyse(worn, Options(FAMILIES["lfp"], 40.0, METER, volts_at=at))
    assert log.capacity is not None
    wanted = claim("energy", 1.01 * log.capacity.count.energy.value, "Wh", "at-least")
    (found,) = judge(FAMILIES["lfp"], 40.0, [wanted], evidence_from_log("capacity", "a.csv", log), School.STRICT)
    assert found.outcome == outcome
    leads = [one for one in found.conditions if one.name == "voltage under load"]
    assert bool(leads) == (at != "terminals")
    assert ["read at the load" in one.actual for one in leads] == [at == "load"] * len(leads)


def test_volts_read_at_the_load_may_all_have_fallen_in_leads() -> None:
    at_load = Sag(0.10, 5.0, at_load=True)
    found = beyond_own_V(FAMILIES["lfp"], 100.0, at_load, 20.0, -5.0)
    # less than the battery's own 0.12 V, and in the cold: what leads take is not known, and may be the battery's own again
    assert found is not None and (found.own_V, found.fell_V, found.most_V) == pytest.approx((0.12, 0.10, 0.12))
    untold = beyond_own_V(FAMILIES["lfp"], 100.0, Sag(math.nan, 0.0, at_load=True), 20.0, 25.0)
    assert untold is not None and untold.most_V == pytest.approx(4.0 * 0.12)
