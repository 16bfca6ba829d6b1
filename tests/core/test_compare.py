"""Side by side: differences cover, P(better) is calibrated, unlike conditions are told and sized; needs come true.

Common practice, no published source, but where a line names one of tests/SOURCES.md.
"""

from __future__ import annotations

import itertools
import json
import math
import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path

import pytest
from click.testing import CliRunner

from tests.amount import some
from wintry_tally.app.comparison import currents_of
from wintry_tally.bench.simulated import MeterSpec
from wintry_tally.bench.simulation import SimulatedBattery, simulate
from wintry_tally.cli.main import cli, invoke
from wintry_tally.core.analysis import Instrument, Options, analyse
from wintry_tally.core.battery import Arrival, Sample, family_named, parse_claim
from wintry_tally.core.compare import (
    QUANTITIES,
    Conditions,
    Device,
    Figure,
    Need,
    Tested,
    compare_samples,
    figures_of,
    judge_need,
)
from wintry_tally.core.compare.like import apart
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.quantity import Quantity, Term, parse_accuracy
from wintry_tally.core.verdict.outcome import Outcome
from wintry_tally.demo import scratch_copy
from wintry_tally.exchange.need_file import read_needs
from wintry_tally.exchange.recipe_file import shipped_recipe
from wintry_tally.report.words import bill_lines

LFP, AGM = family_named("lfp"), family_named("agm")
AT = Conditions(0.2, 23.0, 3600.0, "protection", 10.0, 18000.0)
SPEC = MeterSpec("0.1%+2d", "0.3%+2d")


def _row(one: Figure, other: Figure, family: str = "lfp"):
    key = one.quantity
    found = compare_samples(
        ["A", "B"], dict.fromkeys("AB", family_named(family)), {"A": {key: [one]}, "B": {key: [other]}}
    )
    return found.rows[0]


def _seen(true: float, gain: float, own: float, chance: random.Random, meter: str) -> Quantity:
    """A figure as read: a gain error of the meter, and an error of its own; the terms say how large both may be."""
    value = true * (1.0 + gain) + own * chance.gauss(0.0, 1.0)
    return Quantity.from_terms(value, "Ah", [Term("gain", 0.01 * value, f"{meter}:gain"), Term("own", own)])


@pytest.mark.parametrize("same", [True, False])
def test_differences_cover_and_probabilities_come_true(same: bool) -> None:
    chance = random.Random(11)
    inside, said = 0, dict[int, list[tuple[float, bool]]]()
    for _ in range(3000):
        a = 40.0
        b = a + chance.uniform(-2.0, 2.0)
        gains = [chance.gauss(0.0, 0.01) for _ in range(2)]
        one = Figure("charge", _seen(a, gains[0], 0.15, chance, "m0"), "r", AT)
        other = Figure("charge", _seen(b, gains[0 if same else 1], 0.15, chance, "m0" if same else "m1"), "r", AT)
        row = _row(one, other)
        difference = row.differences["B"]
        assert difference.value == pytest.approx(other.value.value - one.value.value)
        inside += abs(difference.value - (b - a)) <= (difference.expanded or 0.0)
        p = row.better["B"]
        assert p is not None
        said.setdefault(min(4, int(5 * p)), []).append((p, b > a))
    assert 0.94 <= inside / 3000 <= 0.97  # k = 2 is 95.4 %
    for own in said.values():
        mean = sum(p for p, _ in own) / len(own)
        assert abs(sum(came for _, came in own) / len(own) - mean) < 3.0 * math.sqrt(0.25 / len(own))
    # what two share cancels
    assert _row(one, other).differences["B"].standard == pytest.approx(0.21 if same else 0.6, abs=0.05)


def test_less_is_better_of_some() -> None:
    def q(value: float, unit: str) -> Quantity:
        return Quantity.from_terms(value, unit, [Term("own", 0.01 * abs(value))])

    for key, unit, way in (
        ("resistance", "Ω", -1),
        ("recharge-time", "s", -1),
        ("charge", "Ah", 1),
        ("mass", "kg", -1),
        ("energy-mass", "Wh/kg", 1),
    ):
        better = _row(Figure(key, q(10.0, unit), "a"), Figure(key, q(11.0, unit), "b")).better["B"]
        assert better is not None and (better > 0.99 if way > 0 else better < 0.01)
    exact = _row(Figure("price", Quantity(229.0, 0.0, "EUR"), "a"), Figure("price", Quantity(139.0, 0.0, "EUR"), "b"))
    assert exact.better["B"] == 1.0
    assert (
        _row(Figure("price", Quantity(5.0, 0.0, ""), "a"), Figure("price", Quantity(5.0, 0.0, ""), "b")).better["B"]
        == 0.5
    )
    unknown = _row(Figure("charge", Quantity(40.0, None, "Ah"), "a"), Figure("charge", q(41.0, "Ah"), "b"))
    assert unknown.better["B"] is None and unknown.differences["B"].expanded is None
    # two units say little of two models
    near = _row(
        Figure("charge", Quantity(40.0, 0.05, "Ah"), "a", AT), Figure("charge", Quantity(40.4, 0.05, "Ah"), "b", AT)
    )
    assert near.better["B"] > 0.999 and 0.6 < near.models["B"] < 0.75
    two = compare_samples(
        "AB",
        dict.fromkeys("AB", LFP),
        {
            "A": {"price": [Figure("price", Quantity(5, 0.0, "EUR"), "")]},
            "B": {"price": [Figure("price", Quantity(5, 0.0, "NOK"), "")]},
        },
    )
    assert not two.rows  # two currencies


def test_what_differs_is_told_and_sized() -> None:
    base = Figure("charge", Quantity(60.0, 0.1, "Ah"), "a", AT)

    def told(**changes: object) -> dict[str, object]:
        return {
            one.condition: one
            for one in apart(AGM, base, Figure("charge", Quantity(60.0, 0.1, "Ah"), "b", replace(AT, **changes)))
        }

    assert told() == {} and told(c_rate=0.21) == {} and told(temperature_C=25.5) == {}
    slow = told(c_rate=0.05)["rate"]
    # the slower one got more: at the first's rate it would have given less, by Peukert's law with k = 1.15
    assert slow.effect.value == pytest.approx(60.0 * (0.25**0.15 - 1.0)) and slow.first == "0.2 C"
    cold = told(temperature_C=10.0)["temperature"]
    assert cold.effect.value > 0 and cold.effect.standard > 0
    assert set(told(rest_s=24 * 3600.0)) == {"rest"} and set(told(rest_s=7000.0)) == set()
    ended = told(end="mark", end_V=11.4)["end of discharge"]
    assert ended.effect.value > 0 and "11.40 V" in ended.second
    deeper = told(end="mark", end_V=9.0)["end of discharge"]
    assert deeper.effect.value < 0
    assert told(end="protection", end_V=10.6) == {}  # its own end, wherever that lies
    unknown = told(temperature_C=None)["temperature"]
    assert unknown.effect.value == 0.0 and unknown.effect.standard > 0 and unknown.second == "not known"
    old = told(started=datetime(2027, 1, 1, tzinfo=UTC))
    assert old == {}
    aged = replace(base, at=replace(AT, started=datetime(2027, 1, 1, tzinfo=UTC)))
    later = replace(base, at=replace(AT, started=datetime(2027, 1, 1, tzinfo=UTC) + timedelta(days=200)))
    assert [one.condition for one in apart(AGM, aged, later)] == ["age"]
    # P9: IEEE 485 asks for 1.11 times the cells at 15.6 °C, and 1.19 times at 10 °C, of what 25 °C asks
    warm = replace(base, at=replace(AT, temperature_C=25.0, duration_s=3600.0))
    for celsius, factor in ((15.6, 1.11), (10.0, 1.19)):
        chill = replace(base, at=replace(AT, temperature_C=celsius, duration_s=3600.0))
        (effect,) = [one.effect for one in apart(AGM, warm, chill)]
        assert abs(1.0 + effect.value / 60.0 - factor) < 2.0 * effect.standard / 60.0


def test_the_most_alike_are_held_against_each_other() -> None:
    def at(rate: float, celsius: float) -> Conditions:
        return replace(AT, c_rate=rate, temperature_C=celsius)

    def charge(value: float, name: str, at_: Conditions) -> Figure:
        return Figure("charge", Quantity(value, 0.1, "Ah"), name, at_)

    a = [
        charge(36.0, "cold", at(0.2, -18.0)),
        charge(41.0, "warm", at(0.2, 23.0)),
        charge(40.0, "quick", at(1.0, 23.0)),
    ]
    b = [charge(39.0, "b quick", at(1.0, 23.0)), charge(35.0, "b cold", at(0.2, -17.0))]
    (row,) = compare_samples("AB", dict.fromkeys("AB", LFP), {"A": {"charge": a}, "B": {"charge": b}}).rows
    assert set(row.runs.values()) in ({"quick", "b quick"}, {"cold", "b cold"}) and not row.unlike
    (row,) = compare_samples("AB", dict.fromkeys("AB", LFP), {"A": {"charge": a[1:2]}, "B": {"charge": b[1:]}}).rows
    assert [one.condition for one in row.unlike] == ["temperature"] and row.unlike[0].values == {
        "A": "23 °C",
        "B": "-17 °C",
    }
    assert row.differences["B"].value == -6.0 and row.like["B"].value > -6.0
    assert row.like["B"].standard > row.differences["B"].standard
    (row,) = compare_samples("AB", dict.fromkeys("AB", LFP), {"A": {"charge": a[1::-1]}, "B": {"charge": []}}).rows
    assert row.runs == {"A": "warm"} and row.missing == {
        "B": "run a capacity test"
    }  # not the latest, which is the cold one
    (row,) = compare_samples("AB", dict.fromkeys("AB", LFP), {"A": {"charge": []}, "B": {"charge": b}}).rows
    assert row.values["A"] is None and row.differences == {} and row.missing == {"A": "run a capacity test"}


@cache
def _tested(
    family: str, rated: float, health: float = 1.0, seed: int = 1, interval: float = 30.0
) -> tuple[Sample, list[Tested]]:
    claims = (parse_claim(f"{rated:g} Ah"),)
    sample = Sample(1, "S", "", "", family, claims, Arrival(mass_kg=4.0, mass_limit_kg=0.01))
    battery = SimulatedBattery(family_named(family), rated, health=health)
    recipe = fill(shipped_recipe("capacity-reference"), Facts(sample.family, rated, claims))
    found = simulate(recipe, battery, seed, interval, SPEC)
    meter = Instrument(parse_accuracy(SPEC.voltage_accuracy), parse_accuracy(SPEC.current_accuracy), name="m")
    analysis = analyse(found.trace, Options(family=sample.family, rated_Ah=rated, instrument=meter, ambient_C=23.0))
    from wintry_tally.core.verdict.evidence import capacity_evidence

    return sample, [Tested("Capacity", "capacity", None, analysis, capacity_evidence("Capacity", analysis, 23.0))]


@pytest.fixture(scope="module")
def forty() -> tuple[Sample, list[Tested]]:
    return _tested("lfp", 40.0)


def test_figures_of_a_run(forty: tuple[Sample, list[Tested]]) -> None:
    sample, runs = forty
    found = figures_of(sample, runs, (), (11.4, 12.4))
    assert {
        "charge",
        "energy",
        "mean-voltage",
        "usable 11.4",
        "usable 12.4",
        "resistance",
        "mass",
        "energy-mass",
    } <= set(found)
    charge, usable = found["charge"][0], found["usable 12.4"][0]
    assert charge.at.c_rate == pytest.approx(0.2, abs=0.003) and charge.at.end == "protection"
    assert 0 < usable.value.value < charge.value.value
    assert found["energy-mass"][0].value.value == pytest.approx(found["energy"][0].value.value / 4.0)
    # a test that a person stopped is no figure
    stopped = replace(
        runs[0], analysis=replace(runs[0].analysis, capacity=replace(runs[0].analysis.capacity, ended_by="operator"))
    )
    assert "charge" not in figures_of(sample, [stopped], ())
    hidden = replace(
        runs[0], analysis=replace(runs[0].analysis, capacity=replace(runs[0].analysis.capacity, hidden_s=60.0))
    )
    assert "charge" not in figures_of(sample, [hidden], ())


def test_figures_of_price_and_size(forty: tuple[Sample, list[Tested]]) -> None:
    sample, runs = forty
    printed = ("3000 cycles", "price 229", "size: length 200 mm", "size: width 100 mm", "size: height 150 mm")
    claims = (*sample.claims, *(parse_claim(text) for text in printed))
    claims = tuple(replace(claim, unit="EUR") if claim.kind == "price" else claim for claim in claims)
    found = {key: own[0].value for key, own in figures_of(replace(sample, claims=claims), runs, ()).items()}
    charge, energy = found["charge"].value, found["energy"].value
    assert found["price"] == Quantity(229.0, 0.0, "EUR")
    assert (found["price-charge"].value, found["price-charge"].unit) == (pytest.approx(229.0 / charge), "EUR/Ah")
    assert (found["price-energy"].value, found["price-energy"].unit) == (pytest.approx(229.0 / energy), "EUR/Wh")
    assert found["energy-volume"].value == pytest.approx(energy / 3.0) and found["energy-volume"].unit == "Wh/L"
    # 3000 times 80 % of it, fading evenly to 80 %: nine tenths of that on average
    assert found["price-delivered"].value == pytest.approx(229.0 / (3000 * 0.8 * energy * 0.9 / 1000.0))
    assert found["price-delivered"].standard / found["price-delivered"].value == pytest.approx(
        found["energy"].standard / energy
    )
    assert found["cycle-years"].value == pytest.approx(3000 / 365.25)  # as T8 counts them
    plain = figures_of(replace(sample, claims=(*sample.claims, parse_claim("price 229"))), runs, ())
    assert plain["price-charge"][0].value.unit == "/Ah" and "price-delivered" not in plain


def test_which_way_is_better_and_how_far_units_are_apart() -> None:
    more = {"charge", "energy", "mean-voltage", "usable", "energy-mass", "energy-volume", "cycle-years", "acceptance"}
    assert {key for key, kind in QUANTITIES.items() if kind.better > 0} == more
    assert all(kind.better == -1 for key, kind in QUANTITIES.items() if key not in more)
    for family, spread in (("lfp", 0.015), ("nmc", 0.02), ("agm", 0.03), ("gel", 0.03), ("flooded", 0.04)):
        one, other = (Figure("charge", Quantity(value, 0.1, "Ah"), "r", AT) for value in (60.0, 61.0))
        wide = math.hypot(0.1 * math.sqrt(2.0), spread * math.hypot(60.0, 61.0))
        assert _row(one, other, family).models["B"] == pytest.approx(
            0.5 * math.erfc(-1.0 / wide / math.sqrt(2.0)), rel=1e-6
        )
    for key, spread in (("mean-voltage", 0.002), ("resistance", 0.08), ("mass", 0.01), ("cycle-years", 0.0)):
        one, other = (Figure(key, Quantity(value, 0.01, "x"), "r") for value in (10.0, 10.1))
        wide = math.hypot(0.01 * math.sqrt(2.0), spread * math.hypot(10.0, 10.1))
        way = QUANTITIES[key].better
        assert _row(one, other).models["B"] == pytest.approx(
            0.5 * math.erfc(-way * 0.1 / wide / math.sqrt(2.0)), rel=1e-6
        )


def test_effects_on_prices_and_voltages_go_the_other_way() -> None:
    def told(key: str, unit: str, **changes: object) -> dict[str, object]:
        one = Figure(key, Quantity(10.0, 0.1, unit), "a", AT)
        return {a.condition: a.effect for a in apart(AGM, one, replace(one, at=replace(AT, **changes)))}

    assert (
        told("charge", "Ah", c_rate=0.05)["rate"].value < 0 < told("price-charge", "EUR/Ah", c_rate=0.05)["rate"].value
    )
    assert (
        told("charge", "Ah", temperature_C=0.0)["temperature"].value
        > 0
        > told("price-energy", "x", temperature_C=0.0)["temperature"].value
    )
    # a slower one stands higher by half a volt for each C: brought to the first's rate it would stand lower
    sag = told("mean-voltage", "V", c_rate=0.05)["rate"]
    assert sag.value == pytest.approx(0.5 * AGM.nominal_V / 12.8 * (0.05 - 0.2)) and sag.standard == pytest.approx(
        0.5 * abs(sag.value)
    )
    ohm = told("resistance", "Ω", c_rate=0.05, temperature_C=0.0)
    assert ohm["rate"].value == 0.0 and ohm["rate"].standard == pytest.approx(0.5)
    assert ohm["temperature"].value == pytest.approx(-10.0 * 0.015 * 23.0)
    assert told("mass", "kg", c_rate=0.05, rest_s=1e6, end="mark", end_V=12.0) == {"rate": None}
    assert set(told("resistance", "Ω", step_s=1.0)) == set() and AT.step_s is None


LOGGER = Device("logger", A=0.8, least_V=11.4)


def test_a_need_is_met_missed_or_too_close(forty: tuple[Sample, list[Tested]]) -> None:
    sample, runs = forty
    holds = [judge_need(Need("n", hours, (LOGGER,)), sample, runs) for hours in (40.0, 49.0, 70.0)]
    assert [one.outcome for one in holds][::2] == [Outcome.MET, Outcome.MISSED]
    probabilities = [one.probability for one in holds]
    assert probabilities == sorted(probabilities, reverse=True)
    assert holds[0].in_parallel == 1 and holds[2].in_parallel == 2 and holds[2].mass_kg == 8.0
    # 40 Ah at 0.8 A: fifty hours, less what lies below the drop-out
    assert holds[2].hours is not None and 44.0 < holds[2].hours.value < 51.0 and holds[2].bound is None
    assert "11.4 V" in holds[2].limited_by
    assert holds[0].left_Ah is not None and 5.0 < holds[0].left_Ah.value < 9.5
    short = judge_need(Need("n", 3.0, (LOGGER,)), sample, runs)
    assert short.bound == "at-least" and short.hours == Quantity(pytest.approx(6.0), 0.0, "h")
    quick = (replace(LOGGER, A=4.0),)
    warm, cold = (judge_need(Need("n", 9.8, quick, coldest_C=celsius), sample, runs).hours for celsius in (None, -20.0))
    measured = judge_need(Need("n", 9.8, quick, coldest_C=-20.0), sample, runs, (0.30, -20.0)).hours
    assert warm is not None and cold is not None and measured is not None
    assert measured.value < cold.value < warm.value
    assert measured.value == pytest.approx(0.70 * warm.value, rel=0.08)
    # a slow draw gets part of what the cold holds back of a quick one
    slow = judge_need(Need("n", 49.0, (LOGGER,), coldest_C=-20.0), sample, runs, (0.30, -20.0)).hours
    assert (
        slow is not None and holds[1].hours is not None and slow.standard is not None and measured.standard is not None
    )
    assert 0.75 * holds[1].hours.value < slow.value < 0.95 * holds[1].hours.value
    nothing = judge_need(Need("n", 5.0, (LOGGER,)), sample, [])
    assert (nothing.outcome, nothing.probability, nothing.hours) == (Outcome.NOT_TESTED, None, None)


def test_starts_inverters_chargers_and_money(forty: tuple[Sample, list[Tested]]) -> None:
    sample, runs = forty
    watts = judge_need(Need("n", 5.0, (Device("lamp", W=100.0, inverter=0.5),)), sample, runs)
    amps = judge_need(Need("n", 5.0, (Device("lamp", A=100.0 / 0.5 / 12.9),)), sample, runs)
    assert watts.hours is not None and amps.hours is not None
    assert watts.hours.value == pytest.approx(amps.hours.value, rel=0.04)
    behind = judge_need(Need("n", 5.0, (Device("lamp", A=8.0, inverter=0.5),)), sample, runs)
    plain = judge_need(Need("n", 5.0, (Device("lamp", A=16.0),)), sample, runs)
    assert behind.hours == plain.hours and plain.hours is not None and plain.hours.value == pytest.approx(2.5, rel=0.06)
    sure = judge_need(Need("n", 2.0, (Device("lamp", A=1.0),), charger_A=10.0), sample, runs).probability
    assert sure is not None and 0.999 < sure < 1.0  # nothing is quite sure
    half = judge_need(Need("n", 60.0, (Device("lamp", A=1.0, duty=0.5),)), sample, runs)
    assert half.hours is not None and half.hours.value == pytest.approx(80.0, rel=0.05)
    start = Device("pump", A=5.0, least_V=11.0, surge_A=900.0, surge_s=1.0)
    assert judge_need(Need("n", 2.0, (start,)), sample, runs).outcome is Outcome.MISSED
    assert judge_need(Need("n", 2.0, (replace(start, surge_A=20.0),)), sample, runs).outcome is Outcome.MET
    load = (Device("lamp", A=4.0),)
    quick = judge_need(Need("n", 5.0, load, charger_A=10.0, full_again_h=6.0), sample, runs)
    slow = judge_need(Need("n", 5.0, load, charger_A=2.0, full_again_h=6.0), sample, runs)
    assert quick.outcome is Outcome.MET and slow.outcome is Outcome.MISSED and "charger" in slow.limited_by
    # T8: 3500 cycles, one a day, last 9.6 years: within ten it is replaced once
    priced = replace(
        sample, claims=(*sample.claims, parse_claim("3500 cycles"), replace(parse_claim("price 200"), unit="EUR"))
    )
    need = Need("n", 5.0, load, charger_price=50.0, cycles_a_year=365.25, years=10.0)
    judged = judge_need(need, priced, runs)
    assert (judged.cost, judged.currency) == (2 * 200.0 + 50.0, "EUR")
    assert judge_need(replace(need, years=9.0), priced, runs).cost == 250.0


def test_money_over_years_and_what_overtakes_what(forty: tuple[Sample, list[Tested]]) -> None:
    """Worked by hand: common practice, no published source."""
    from wintry_tally.core.compare.money import bill, lost_kWh, overtakes

    cheap, dear = bill(100.0, 10.0, 3.0, 20.0), bill(250.0, 10.0, None)
    assert cheap.totals == (120.0,) * 4 + (220.0,) * 3 + (320.0,) * 3 + (420.0,)
    assert cheap.replaced == (4, 7, 10) and cheap.total == 420.0 and dear.totals == (250.0,) * 11
    assert overtakes(cheap.totals, dear.totals) == 7 and overtakes(dear.totals, cheap.totals) is None
    assert overtakes((100.0, 100.0), (120.0, 120.0)) is None and overtakes((), ()) is None
    assert bill(100.0, 0.0, 3.0, 20.0).totals == (120.0,) and bill(100.0, 3.0, 3.0).replaced == ()
    assert bill(100.0, 2.5, 1.0, energy=10.0).totals == (100.0, 110.0, 220.0, 325.0)
    # 400 Wh 100 times: at 80 % a quarter more goes in
    assert lost_kWh(400.0, 100.0, LFP, 0.8) == pytest.approx(10.0)
    assert lost_kWh(400.0, 100.0, LFP) < lost_kWh(400.0, 100.0, family_named("agm"))
    sample, runs = forty
    claims = (*sample.claims, parse_claim("3000 cycles"), replace(parse_claim("price 200"), unit="EUR"))
    priced = replace(sample, claims=claims)
    need = Need("n", 5.0, (Device("lamp", A=4.0),), charger_price=50.0, cycles_a_year=600.0, years=9.0, kWh_price=0.5)
    judged = judge_need(need, priced, runs)
    lost = 600 * 5.0 * 4.0 * 12.8 * (1 / 0.94 - 1) / 1000 * 0.5
    assert judged.bill is not None and judged.halved is not None
    assert judged.bill.energy == pytest.approx(lost) and judged.bill.life_years == 5.0 and judged.bill.replaced == (6,)
    assert judged.cost == judged.bill.total == pytest.approx(450.0 + 9 * lost)
    assert judged.halved.replaced == (3, 6, 8) and judged.halved.total == pytest.approx(850.0 + 9 * lost)
    tested = judge_need(need, priced, runs, None, 5400.0)  # its own tests say more than the claim
    assert tested.bill is not None and tested.bill.replaced == () and tested.halved is None
    lines = bill_lines(
        [replace(judged, code="A"), replace(tested, code="B", bill=bill(300.0, 9.0, None), currency="EUR")]
    )
    assert (
        lines[0].startswith("A: 250 EUR at once, ")
        and "bought again in year 6" in lines[0]
        and "half of the cycles" in lines[0]
    )
    assert lines[1].endswith("nobody says how many cycles it lasts")
    assert lines[2] == "By the end of year 6, A has cost more than B, dearer at first."
    assert bill_lines([replace(judged, currency="NOK"), replace(tested, currency="EUR")])[2:] == []


def test_the_course_of_a_need_goes_down_to_its_end(forty: tuple[Sample, list[Tested]]) -> None:
    sample, runs = forty
    one = judge_need(Need("n", 40.0, (LOGGER,)), sample, runs)
    hours, low, middle, high = (list(part) for part in zip(*one.course, strict=True))
    assert one.hours is not None and hours[0] == 0.0 and hours[-1] == pytest.approx(one.hours.value, abs=0.6)
    assert all(a <= b <= c for a, b, c in zip(low, middle, high, strict=True))
    assert middle[-1] == pytest.approx(11.45, abs=0.25) and middle[0] > 13.0
    assert all(b <= a + 0.02 for a, b in itertools.pairwise(middle[3:]))


def test_sag_at_a_need_s_current_and_what_a_charge_still_takes(forty: tuple[Sample, list[Tested]]) -> None:
    """R × I, and the further from the step's own current the less surely; common practice, no published source."""
    sample, runs = _tested("lfp", 40.0, interval=1.0)
    found = figures_of(sample, runs, (), (), (8.0, 80.0))
    ohm, near, far = (found[key][0].value for key in ("resistance", "sag 8", "sag 80"))
    assert near.value == pytest.approx(8.0 * ohm.value) and near.unit == "V"
    assert near.standard == pytest.approx(8.0 * ohm.standard, rel=1e-3)
    own = 0.1 * math.log(10.0) * 80.0 * ohm.value
    assert far.standard == pytest.approx(math.hypot(80.0 * ohm.standard, own), rel=1e-2)
    (row,) = [
        r
        for r in compare_samples("AB", dict.fromkeys("AB", LFP), {"A": found, "B": found}).rows
        if r.quantity == "sag 80"
    ]
    assert row.label == "Sag at 80 A" and row.better["B"] == pytest.approx(0.5)
    assert "acceptance" not in found
    family = family_named("agm")
    claims = (parse_claim("40 Ah"),)
    recipe = fill(shipped_recipe("charge-lead-acid"), Facts(family, 40.0, claims))
    log = simulate(recipe, SimulatedBattery(family, 40.0, state_of_charge=0.05), 5, 30.0, SPEC)
    analysis = analyse(log.trace, Options(family=family, rated_Ah=40.0, ambient_C=23.0))
    charged = Tested("Charge", "charge", None, analysis, None)
    lead = replace(sample, family_key="agm")
    (taken,) = figures_of(lead, [charged], ())["acceptance"]
    assert (
        taken.value.value == pytest.approx(100.0 * dict(analysis.acceptance)[45]) and 5.0 < taken.value.value <= 110.0
    )
    assert currents_of(
        [Need("n", 5.0, (Device("a", A=3.0), Device("b", W=128.0, inverter=0.8), Device("c", A=1.0, surge_A=9.0)))]
    ) == [24.0]


def test_a_measured_resistance_says_what_a_start_takes() -> None:
    sample, runs = _tested("lfp", 40.0, interval=1.0)
    (figure,) = figures_of(sample, runs, ())["resistance"]
    limit = (13.2 - 11.0) / figure.value.value  # at so many amperes it would fall to 11 V
    start = Device("pump", A=5.0, least_V=11.0, surge_s=1.0)
    low, high = (
        judge_need(Need("n", 2.0, (replace(start, surge_A=share * limit),)), sample, runs) for share in (0.6, 1.5)
    )
    assert (low.outcome, high.outcome) == (Outcome.MET, Outcome.MISSED)


def test_said_of_needs_comes_true() -> None:
    """A short run of benchmarks/needs.py: what is said surely comes so."""
    from benchmarks.needs import truth

    dice, sure, wrong = random.Random(3), 0, 0
    for number in range(some(5, 20)):
        health = dice.uniform(0.85, 1.1)
        sample, runs = _tested("lfp", 20.0, health, number)
        hours = health * 20.0 * dice.uniform(0.7, 1.2)
        need = Need("n", hours, (Device("d", A=1.0, least_V=dice.choice([0.0, 11.0])),), dice.choice([None, 5.0]))
        result = judge_need(need, sample, runs)
        held = truth(need, SimulatedBattery(LFP, 20.0, health=health), number, 10.0) >= hours
        if result.outcome is not Outcome.TOO_CLOSE:
            sure += 1
            wrong += held is not (result.outcome is Outcome.MET)
    assert sure >= 3 and wrong == 0


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("", "need"), ('[need]\nname = "n"\nhours = 5\n', "need.device"), ('[need]\nname = "n"\nhours = 0\n[[need.device]]\nname = "d"\nA = 1\n', "need.hours"),
        ('[need]\nname = "n"\nhours = 5\n[[need.device]]\nname = "d"\n', "need.device[1]: it draws A or W"),
        ('[need]\nname = "n"\nhours = 5\n[[need.device]]\nname = "d"\nA = 1\nW = 2\n', "need.device[1]: it draws A or W"),
        ('[need]\nname = "n"\nhours = 5\n[[need.device]]\nname = "d"\nA = 1\nduty = 2\n', "need.device[1].duty"),
        ('[need]\nname = "n"\nhours = 5\n[[need.device]]\nname = "d"\nA = 1\nsurge_A = 4\n', "least voltage"),
        ('[need]\nname = "n"\nhours = 5\ncharger_A = 4\n[[need.device]]\nname = "d"\nA = 1\n', "full_again_h"),
        ('[need]\nname = "n"\nhours = 5\nwatts = 4\n[[need.device]]\nname = "d"\nA = 1\n', "need.watts"),
        ('[need]\nname = "n"\nhours = 5\n[[need.device]]\nname = "d"\nA = 1\n[more]\n', "more"),
    ],
)  # fmt: skip
def test_a_need_in_a_file(text: str, place: str, tmp_path: Path) -> None:
    path = tmp_path / "need.toml"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(InputError) as told:
        read_needs(path)
    assert place in str(told.value)


def test_the_shell_compares_a_book(tmp_path: Path, own_places: Path) -> None:
    book, need = scratch_copy(tmp_path), tmp_path / "need.toml"
    need.write_text(
        '[need]\nname = "mast"\nhours = 30\n[[need.device]]\nname = "logger"\nA = 0.85\nleast_V = 11.4\n',
        encoding="utf-8",
    )
    out = CliRunner().invoke(cli, ["compare", "--book", str(book), "M1", "M2", "M5", "--need", str(need), "--json"])
    assert out.exit_code == 0, out.output
    found = json.loads(out.output)
    assert found["schema"] == "wintry-tally.comparison/2"
    rows = {(row["quantity"], row["dropout_V"]): row for row in found["rows"]}
    assert {("charge", None), ("energy", None), ("mean-voltage", None), ("resistance", None), ("usable", 11.4)} <= set(
        rows
    )
    assert found["model"] is None, "M5 is another model"
    charge = rows["charge", None]
    assert set(charge["values"]) == {"M1", "M2", "M5"} and charge["values"]["M5"] is None
    assert set(charge["differences"]) == set(charge["better"]) == {"M2"}
    assert charge["differences"]["M2"]["value"] == pytest.approx(
        charge["values"]["M2"]["value"] - charge["values"]["M1"]["value"]
    )
    assert charge["missing"] == {"M5": "run a capacity test"} and not charge["unlike"]
    assert 0.0 <= charge["better"]["M2"] < 0.01
    needs = {one["code"]: one for one in found["needs"]}
    assert needs["M1"]["outcome"] == "met" and needs["M1"]["in_parallel"] == 1 and needs["M1"]["hours"]["unit"] == "h"
    assert needs["M5"]["outcome"] == "not-tested" and needs["M5"]["probability"] is None
    text = CliRunner().invoke(cli, ["compare", "--book", str(book), "M1", "M4"]).output
    assert "unlike rate: M1 0.2 C" in text and "these two units" in text
    for wrong in (["M1"], ["M1", "M1"], ["M1", "M9"]):
        assert invoke(["compare", "--book", str(book), *wrong]) == 2
    assert invoke(["compare", "--need", str(need), "a.csv", "b.csv"]) == 2
    assert math.isfinite(charge["differences"]["M2"]["expanded"])
