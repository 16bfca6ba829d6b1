"""Leads against published tables, and the pre-flight list of any recipe on any bench."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.battery import FAMILIES, parse_claim
from wintry_tally.core.errors import InputError
from wintry_tally.core.protocol.leads import CLASS_5_OHM_PER_KM, Leads, ampacity_A, ohm_per_m
from wintry_tally.core.protocol.preflight import Bench, bars, preflight_recipe
from wintry_tally.core.protocol.recipe import Step, most_amps
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import ends_from_text, ends_text, fill
from wintry_tally.core.quantity.wires import awg_area_mm2, awg_diameter_mm
from wintry_tally.exchange.recipe_file import shipped_recipe

LFP = FAMILIES["lfp"]
BENCH = Bench(1800.0, 150.0, 50.0, 16.0, Leads(16.0, 1.0))


@pytest.mark.parametrize(("gauge", "diameter", "area"), [(10, 2.588, 5.26), (16, 1.291, 1.31), (36, 0.127, 0.01267)])
def test_gauges(gauge: int, diameter: float, area: float) -> None:
    # ASTM B258: d = 0.127 mm × 92^((36 − n)/39)
    assert awg_diameter_mm(gauge) == pytest.approx(diameter, abs=0.001)
    assert awg_area_mm2(gauge) == pytest.approx(area, rel=0.003)


@pytest.mark.parametrize(("area", "ohm_km"), [(2.5, 7.98), (6.0, 3.30), (16.0, 1.21), (35.0, 0.554)])
def test_resistance_of_fine_stranded_copper(area: float, ohm_km: float) -> None:
    # IEC 60228, class 5, at 20 °C; × [1 + 0.00393 (T − 20)]
    assert 1000 * ohm_per_m(area) == pytest.approx(ohm_km)
    assert ohm_per_m(area, 70.0) / ohm_per_m(area) == pytest.approx(1 + 0.00393 * 50)


def test_every_size_has_the_resistance_of_its_copper() -> None:
    # copper of 17.24 nΩm (IEC 60028, from memory) in strands: 10 to 17 % more, by their lay and their tin
    for area, ohm_km in CLASS_5_OHM_PER_KM.items():
        assert 1.10 < ohm_km * area / 17.24 < 1.17, area
    between = [size * 1.2 for size in CLASS_5_OHM_PER_KM]
    assert all(1.10 < 1e3 * ohm_per_m(area) * area / 17.24 < 1.17 for area in between)


def test_what_a_step_draws_at_the_most() -> None:
    # I = P / V at the lowest voltage of a discharge, I = V / R at the highest of all (Ohm's law)
    def drawn(
        kind: Literal["discharge", "rest"], mode: Literal["current", "power", "resistance"], setting: float
    ) -> float:
        return most_amps(Step(kind, "x", mode, setting), LFP)

    assert drawn("discharge", "current", 8.0) == 8.0 and drawn("rest", "current", 8.0) == 0.0
    assert drawn("discharge", "power", 120.0) == pytest.approx(120.0 / LFP.cutoff_V)
    assert drawn("discharge", "resistance", 2.0) == pytest.approx(LFP.plausible_V[1] / 2.0)
    assert drawn("discharge", "resistance", 0.0) == 0.0


@pytest.mark.parametrize(
    ("gauge", "amps"), [(14, 15), (12, 20), (10, 30), (8, 40), (6, 55), (4, 70), (2, 95), (0, 125)]
)
def test_ampacity(gauge: int, amps: float) -> None:
    # NFPA 70 (NEC), table 310.16, copper, 60 °C column; local codes rule
    assert ampacity_A(awg_area_mm2(gauge)) == amps
    assert ampacity_A(0.9 * awg_area_mm2(gauge)) < amps


def test_drop_and_warmth() -> None:
    leads = Leads(6.0, 1.5)
    assert leads.drop_V(20.0) == pytest.approx(20 * 2 * 1.5 * 0.0033)
    # 30 A in 6 mm² warms it by some tens of kelvin in still air; common practice, no published source
    assert 10 < leads.rise_K(30.0) < 40


@given(st.floats(0.5, 70.0), st.floats(0.1, 10.0), st.floats(0.0, 200.0))
def test_more_current_loses_more_and_warms_more(area: float, length: float, amps: float) -> None:
    leads = Leads(area, length)
    assert leads.drop_V(amps + 1.0) > leads.drop_V(amps) and leads.rise_K(amps + 1.0) >= leads.rise_K(amps)
    assert Leads(1.5 * area, length).rise_K(amps) <= leads.rise_K(amps) + 1e-9 or area < 1.0


@pytest.mark.parametrize(("area", "length"), [(0.0, 1.0), (1e4, 1.0), (6.0, 0.0), (6.0, 1e4), (float("nan"), 1.0)])
def test_leads_that_cannot_be(area: float, length: float) -> None:
    with pytest.raises(InputError):
        Leads(area, length)


def listed(name: str, bench: Bench = BENCH, family: str = "lfp", *claims: str, rated: float = 40.0):
    facts = Facts(FAMILIES[family], rated, tuple(parse_claim(text) for text in claims), bench.limits)
    template = shipped_recipe(name)
    return preflight_recipe(template, fill(template, facts), facts, bench, 13.3, 3600.0)


def words(checks) -> str:
    return " ".join(f"{check.name}: {check.message}" for check in checks)


def test_a_good_bench_bars_nothing() -> None:
    checks = listed("capacity-reference")
    assert not bars(checks) and "16 mm²" in words(checks)


@pytest.mark.parametrize(
    ("name", "bench", "claims", "says"),
    [
        ("capacity-reference", replace(BENCH, load_W=50.0), (), "above the load's"),
        ("capacity-reference", replace(BENCH, load_W=0.0), (), "needs a load"),
        ("charge-lithium-usual", replace(BENCH, charger_A=0.0), (), "needs a charger"),
        ("charge-lithium-usual", replace(BENCH, charger_A=2.0), (), "above the charger's"),
        ("charge-lithium-usual", replace(BENCH, charger_V=14.0), (), "above the charger's"),
        ("hold", BENCH, (), "withheld"),
        ("hold", replace(BENCH, leads=Leads(1.5, 1.0)), ("100 A continuous",), "thicker leads"),
    ],
)
def test_what_bars_a_start(name: str, bench: Bench, claims: tuple[str, ...], says: str) -> None:
    found = bars(listed(name, bench, "lfp", *claims))
    assert found and says in words(found)


def test_a_load_and_a_charger_that_give_just_what_is_asked_do() -> None:
    for most_A, barred in ((8.0, False), (7.9, True)):
        assert bool(bars(listed("capacity-reference", replace(BENCH, load_A=most_A)))) == barred
        assert bool(bars(listed("charge-lithium-usual", replace(BENCH, charger_A=most_A)))) == barred


def test_what_is_to_be_heeded() -> None:
    assert "gauge is not entered" in words(listed("capacity-reference", replace(BENCH, leads=None)))
    far = replace(BENCH, leads=Leads(16.0, 8.0, sensed=False))
    assert "at the battery itself" in words(listed("capacity-reference", far))
    assert "above 0 °C" in words(listed("charge-lithium-usual", replace(BENCH, measures_temperature=False)))
    assert "Stay with it" in words(listed("hold", BENCH, "lfp", "40 A continuous"))
    assert "No capacity is claimed" in words(
        preflight_recipe(
            shipped_recipe("rest-hour"),
            fill(shipped_recipe("rest-hour"), Facts(LFP, 0.0)),
            Facts(LFP, 0.0),
            BENCH,
            None,
            None,
        )
    )


def test_a_step_without_an_end_and_a_cut_off_too_low_are_barred() -> None:
    template = shipped_recipe("capacity-reference")
    facts = Facts(LFP, 40.0, (), BENCH.limits)
    for text, says in (
        ("protection open; voltage cutoff", "might never end"),
        ("voltage 6 V; time 40 h", "below the floor"),
    ):
        steps = tuple(
            replace(part, ends=ends_from_text(text, part.ends)) if part.kind == "discharge" else part
            for part in template.steps
        )
        edited = replace(template, steps=steps)
        assert says in words(bars(preflight_recipe(edited, fill(edited, facts), facts, BENCH, 13.3, None)))


def test_end_rules_as_a_line_of_text() -> None:
    ends = shipped_recipe("overload-trip").steps[1].ends
    assert ends_from_text(ends_text(ends), ends) == ends
    assert ends_from_text("", ends) == ()
    for text in ("moonrise 3", "voltage", "time  ; voltage "):
        with pytest.raises(InputError):
            ends_from_text(text)


def test_every_thick_lead_of_the_table_carries_its_own_current_from_a_twentieth_below_its_size_on() -> None:
    # NFPA 70, table 310.16, copper, 60 °C column (from memory); 1 kcmil is 0.5067 mm²
    table = [(250, 215), (300, 240), (350, 260), (400, 280), (500, 320), (600, 355), (750, 400), (1000, 455)]
    below = 195.0
    for kcmil, amps in table:
        area = 0.5067075 * kcmil
        assert (ampacity_A(0.9501 * area), ampacity_A(0.9499 * area)) == (amps, below)
        below = amps


@pytest.mark.parametrize(("area", "amps", "weight"), [(5.0, 30.0, "heed"), (5.0, 25.0, "good")])
def test_leads_that_warm_by_more_than_25_kelvin_are_to_be_heeded(area: float, amps: float, weight: str) -> None:
    leads = Leads(area, 0.2)
    assert leads.rise_K(amps) > 25.0 if weight == "heed" else leads.rise_K(amps) < 25.0
    assert amps <= ampacity_A(area) and leads.rise_K(30.0) < 37.0
    told = listed("hold", replace(BENCH, leads=leads), "lfp", f"{amps:g} A continuous")
    (found,) = [one for one in told if one.message.code in {"leads-lose", "leads-good"}]
    assert found.state == weight


def test_where_the_switched_instrument_alone_counts_the_least_current_has_to_move_the_voltage() -> None:
    # a rest before the draw is no current that could be the least; 8 A of a 40 Ah battery move it by some 0.1 V
    alone = replace(BENCH, counted_apart=False)
    for digit_V, unseen in ((0.001, False), (0.05, True)):
        told = listed("capacity-reference", replace(alone, digit_V=digit_V))
        assert any(one.message.code == "off-unseen" for one in told) is unseen
    assert not any(
        one.message.code == "off-unseen" for one in listed("capacity-reference", replace(BENCH, digit_V=0.05))
    )
