"""The battery model against closed forms, charts and facts of the trade; differences are stated."""

from __future__ import annotations

import itertools
import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.amount import some
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.battery.families import charge_state_band
from wintry_tally.core.cell import BatteryModel, Protection, parameters_for
from wintry_tally.core.cell.ageing import health_after, worn
from wintry_tally.core.cell.parameters import aged


def drawn(model: BatteryModel, amps: float, until_V: float, step_s: float = 10.0) -> float:
    charge = 0.0
    while True:
        seen = model.advance(amps, step_s)
        if seen.open or seen.voltage_V <= until_V or charge > 1000:
            return charge
        charge += amps * step_s / 3600.0


@settings(max_examples=some(10, 30))
@given(st.floats(1.0, 60.0), st.floats(0.05, 0.9), st.integers(1, 40))
def test_two_wells_follow_the_closed_form(amps: float, hours: float, steps: int) -> None:
    # P18: Manwell & McGowan, Solar Energy 50 (1993), constant-current solution (from memory)
    parameters = replace(parameters_for(FAMILIES["agm"], 100.0), self_discharge_month=0.0)
    model = BatteryModel(parameters)
    q1, q2 = model.free_Ah, model.bound_Ah
    k, c = parameters.exchange_per_h, parameters.available
    total = q1 + q2
    fade = math.exp(-k * hours)
    expected = q1 * fade + (total * k * c - amps) * (1 - fade) / k - amps * c * (k * hours - 1 + fade) / k
    if expected <= 0:
        return
    for _ in range(steps):
        model.advance(amps, hours * 3600 / steps)
    assert model.free_Ah == pytest.approx(expected, rel=1e-6)
    assert model.free_Ah + model.bound_Ah == pytest.approx(total - amps * hours, rel=1e-9)


def test_the_available_well_empties_first_and_recovers_at_rest() -> None:
    # P18 in shape
    model = BatteryModel(parameters_for(FAMILIES["flooded"], 100.0))
    drawn(model, 60.0, 10.5)
    empty, left = model.free_Ah, model.free_Ah + model.bound_Ah
    assert empty < 0.2 * left
    low = model.inner_V()
    for _ in range(24):
        model.advance(0.0, 300.0)
    assert model.free_Ah > 2 * empty and model.inner_V() > low + 0.4
    assert drawn(model, 5.0, 10.5) > 10.0


def test_lead_acid_rate_effect_is_near_peukert() -> None:
    # P4: t = H (C/(I H))^k; C = 100 Ah at H = 20 h, k = 1.2, I = 10 A: 8.7 h
    assert pytest.approx(8.7, abs=0.01) == 20 * (100 / (10 * 20)) ** 1.2
    family = FAMILIES["flooded"]
    slow, mid, fast = (drawn(BatteryModel(parameters_for(family, 100.0)), amps, 10.5) for amps in (5.0, 10.0, 30.0))
    assert slow == pytest.approx(100.0, rel=0.03)
    assert slow > mid > fast
    exponent = 1 + math.log(slow / fast) / math.log(30 / 5)
    # stated difference: two wells bend more softly than Peukert's straight line, so k comes out a little lower
    assert 1.08 < exponent < 1.3


def test_lfp_hardly_minds_the_rate() -> None:
    family = FAMILIES["lfp"]
    slow, fast = (drawn(BatteryModel(parameters_for(family, 100.0)), amps, 10.0) for amps in (20.0, 80.0))
    assert slow == pytest.approx(100.0, rel=0.02)
    assert 1 + math.log(slow / fast) / math.log(4) < 1.05


@pytest.mark.parametrize("key", sorted(FAMILIES))
def test_a_fresh_battery_gives_its_rating_at_the_reference_rate(key: str) -> None:
    family = FAMILIES[key]
    charge = drawn(BatteryModel(parameters_for(family, 50.0)), 50.0 * family.reference_rate_C, family.cutoff_V)
    assert charge == pytest.approx(50.0, rel=0.04)


@pytest.mark.parametrize("key", ["lfp", "nmc", "flooded"])
@pytest.mark.parametrize("state", [0.9, 0.6, 0.3])
def test_rested_voltage_lies_on_the_charts(key: str, state: float) -> None:
    # handbook charts: common practice, no published source; the band is theirs, 12 points are allowed beside it
    family = FAMILIES[key]
    volts = BatteryModel(parameters_for(family, 50.0), state).rested_V()
    low, high = charge_state_band(family, volts)
    assert low - 12 <= 100 * state <= high + 12


def test_lfp_shape_plateau_and_knees(reference) -> None:
    # against the independent model (PyBaMM Prada2013) in shape: flat in the middle, a knee at the end; ours is a pack of
    # four with leads and protection, so it lies lower and its plateau has two steps
    rows = np.loadtxt(reference / "lfp_0_2C.csv", delimiter=",", skiprows=1)
    live = rows[rows[:, 2] > 0]
    share = live[:, 3] / live[-1, 3]
    theirs = np.interp([0.2, 0.5, 0.8, 0.98], share, live[:, 1] * 4)
    model = BatteryModel(parameters_for(FAMILIES["lfp"], 100.0))
    ours, points = [], [0.2, 0.5, 0.8, 0.98]
    charge, total = 0.0, 100.0
    while points:
        seen = model.advance(20.0, 10.0)
        charge += 20.0 * 10 / 3600
        if charge / total >= points[0]:
            ours.append(seen.voltage_V)
            points.pop(0)
    for a, b in zip(theirs, ours, strict=True):
        assert abs(a - b) < 0.9
    assert theirs[0] - theirs[2] < 0.6 and ours[0] - ours[2] < 0.6
    assert ours[2] - ours[3] > 0.8 and theirs[2] - theirs[3] > 0.3


@pytest.mark.parametrize("key", ["agm", "flooded"])
def test_lead_acid_shape_against_an_independent_model(reference, key: str) -> None:
    # against PyBaMM's leading-order lead-acid model (Sulzer2019) in shape. Stated differences: it has denser acid and so
    # begins higher; it keeps the acid even through the cell and so hardly minds the rate, where ours loses to it as
    # Peukert's rule and practice say; ours bends down at the end, theirs falls straight
    at = [0.05, 0.2, 0.5, 0.8, 0.95]
    ours, theirs, given = {}, {}, {}
    for rate, name in ((0.05, "lead_0_05C.csv"), (0.5, "lead_0_5C.csv")):
        rows = np.loadtxt(reference / name, delimiter=",", skiprows=1)
        theirs[rate] = np.interp(at, rows[:, 3] / rows[-1, 3], rows[:, 1])
        model, charge, volts = BatteryModel(parameters_for(FAMILIES[key], 100.0)), [], []
        while not volts or volts[-1] > 10.5:
            volts.append(model.advance(100.0 * rate, 20.0).voltage_V)
            charge.append(100.0 * rate * 20.0 * len(volts) / 3600.0)
        ours[rate] = np.interp(at, np.array(charge) / charge[-1], volts)
        given[rate] = charge[-1], rows[-1, 3]
        assert np.all(np.abs(ours[rate] - theirs[rate]) < 0.75)
        assert np.all(np.diff(ours[rate]) < 0) and np.all(np.diff(theirs[rate]) < 0)
    assert np.all(ours[0.5] < ours[0.05]) and np.all(theirs[0.5] < theirs[0.05])
    assert given[0.5][0] < 0.75 * given[0.05][0] and 0.9 < given[0.5][1] / given[0.05][1] < 1.0


def test_cold_raises_resistance_and_takes_capacity() -> None:
    # P9 in shape (IEEE 485 factors for lead-acid: 1.19 at 10 °C, 1.52 at -3.9 °C; from memory)
    family = FAMILIES["agm"]
    warm = drawn(BatteryModel(parameters_for(family, 100.0), 1.0, 25.0), 20.0, 10.5)
    cool = drawn(BatteryModel(parameters_for(family, 100.0), 1.0, 10.0), 20.0, 10.5)
    cold = drawn(BatteryModel(parameters_for(family, 100.0), 1.0, -4.0), 20.0, 10.5)
    assert 1.08 < warm / cool < 1.35 and 1.2 < warm / cold < 1.8
    # stated difference: near the published factors, not on them


def test_the_lumped_body_warms_and_cools_exponentially() -> None:
    # P17: Incropera & DeWitt, lumped capacitance: T(t) = T∞ + (T0 - T∞) exp(-t/τ)
    parameters = parameters_for(FAMILIES["lfp"], 40.0)
    model = BatteryModel(parameters, 1.0, 20.0)
    model.ambient_C = -18.0
    tau = parameters.mass_kg * parameters.heat_J_kgK / parameters.loss_W_K
    model.advance(0.0, tau)
    assert model.temperature_C == pytest.approx(-18 + 38 * math.exp(-1), abs=0.01)


def test_protection_opens_after_its_delay_and_the_terminals_read_next_to_nothing() -> None:
    parameters = replace(parameters_for(FAMILIES["lfp"], 40.0), protection=Protection(low_cut_V=10.0, delay_s=2.0))
    model = BatteryModel(parameters, 0.02)
    seen = model.advance(8.0, 1.0)
    while not seen.open:
        before = seen
        seen = model.advance(8.0, 1.0)
    assert before.voltage_V < 10.4 and seen.voltage_V == 0.0 and seen.current_A == 0.0
    # handbook 4.11: an empty pack whose protection has opened reads 0 to 1 V
    assert 0.0 < model.advance(0.0, 60.0).voltage_V < 1.0
    for _ in range(6):
        woken = model.advance(-4.0, 600.0)
    assert not model.open_discharge and woken.voltage_V > 11.0
    assert model.terminal_V(0.0) > 11.0


def test_over_current_and_over_voltage() -> None:
    model = BatteryModel(parameters_for(FAMILIES["lfp"], 40.0))
    for _ in range(3):
        seen = model.advance(150.0, 1.0)
    assert seen.open
    full = BatteryModel(parameters_for(FAMILIES["lfp"], 40.0), 0.99)
    for _ in range(600):
        seen = full.advance(-20.0, 10.0)
    assert full.open_charge and seen.current_A == 0.0


def test_the_cold_blocks_a_charge_and_not_a_discharge() -> None:
    # handbook 4.9: below 0 °C current into the cells is blocked within seconds; it comes back with warmth
    model = BatteryModel(parameters_for(FAMILIES["lfp"], 40.0), 0.5, -10.0)
    model.advance(-8.0, 1.0)
    assert model.advance(-8.0, 1.0).current_A == 0.0
    assert model.advance(8.0, 1.0).current_A == 8.0
    model.temperature_C = model.ambient_C = 15.0
    model.advance(0.0, 1.0)
    assert model.advance(-8.0, 1.0).current_A == -8.0


def test_loads_in_every_mode() -> None:
    model = BatteryModel(parameters_for(FAMILIES["lfp"], 40.0))
    amps = model.current_for("power", 100.0)
    assert amps * model.terminal_V(amps) == pytest.approx(100.0)
    amps = model.current_for("resistance", 2.0)
    assert model.terminal_V(amps) / amps == pytest.approx(2.0)
    assert model.current_for("power", 1e6) > 0
    with pytest.raises(ValueError, match="voodoo"):
        model.current_for("voodoo", 1.0)


def test_state_is_kept_and_taken_up_again() -> None:
    model = BatteryModel(parameters_for(FAMILIES["gel"], 80.0))
    model.advance(10.0, 5000.0)
    other = BatteryModel(parameters_for(FAMILIES["gel"], 80.0))
    other.restore({**model.snapshot(), "unknown": 1})
    assert other.advance(10.0, 60.0) == model.advance(10.0, 60.0)


def test_an_aged_battery_gives_less_and_sags_more() -> None:
    fresh = parameters_for(FAMILIES["flooded"], 100.0)
    old = aged(fresh, 0.6)
    assert old.capacity_Ah == pytest.approx(0.6 * fresh.capacity_Ah) and old.resistance_ohm > fresh.resistance_ohm


@pytest.mark.parametrize("key", sorted(FAMILIES))
def test_a_life_leaves_80_percent_and_shallow_or_cool_use_leaves_more(key: str) -> None:
    # P8, IEEE 450 / 1188 (from memory): 80 % of its rating is the end of a stationary battery's life
    ageing = FAMILIES[key].ageing
    assert health_after(ageing, ageing.cycles, depth=ageing.depth) == pytest.approx(0.8)
    assert health_after(ageing, 0.0, ageing.years) == pytest.approx(0.8)
    assert health_after(ageing, 0.0) == 1.0
    half, whole = (health_after(ageing, 200.0, depth=depth) for depth in (0.5, 1.0))
    assert half > whole
    warm, cool = (health_after(ageing, 0.0, 2.0, mean_C=mean) for mean in (35.0, 5.0))
    assert cool > health_after(ageing, 0.0, 2.0) > warm
    assert health_after(ageing, 1e5) == 0.05
    steps = [health_after(ageing, n) for n in range(0, 3000, 100)]
    assert all(later <= earlier for earlier, later in itertools.pairwise(steps))


def test_wear_shows_in_a_capacity_test_and_lithium_of_the_nmc_type_fades_sooner() -> None:
    # T8's 3500 cycles for LFP (common practice, no published source); NMC packs are printed with 500 to 1000
    after = {}
    for key, cutoff in (("lfp", 10.0), ("nmc", 9.0)):
        family = FAMILIES[key]
        fresh = parameters_for(family, 40.0)
        tired = worn(fresh, key, 600.0)
        new, old = (drawn(BatteryModel(p), 8.0, cutoff) for p in (fresh, tired))
        after[key] = old / new
        assert tired.resistance_ohm > fresh.resistance_ohm
        assert old / new == pytest.approx(health_after(FAMILIES[key].ageing, 600.0), abs=0.015)
    assert after["nmc"] < after["lfp"] - 0.05
