"""Proof of connection: wrong wirings named, right ones let be, and what a run does with what is found."""

from __future__ import annotations

import math
import struct
from collections.abc import Callable, Iterator
from dataclasses import replace
from itertools import cycle
from pathlib import Path
from random import Random

import pytest
from benchmarks.proof import RESOLVED, _resolved, drawn, proved

from tests.amount import some
from tests.bench.benches import RATED, Bench, hold
from wintry_tally.bench.proving import Proving, plan_proof
from wintry_tally.bench.stand_ins.registers import RegisterStandIn
from wintry_tally.bench.stand_ins.wiring import WIRINGS
from wintry_tally.bench.vigil import Body, Vigil
from wintry_tally.core.battery import family_named
from wintry_tally.core.battery.families import CHART_DOUBT_V
from wintry_tally.core.cell import BatteryModel, parameters_for
from wintry_tally.core.engine import Observation, Phase
from wintry_tally.core.engine.kind_band import KindBand
from wintry_tally.core.engine.proof import Expected, Level, Ohms, at_rest, level_of
from wintry_tally.core.engine.pulse import judge_pulse
from wintry_tally.core.protocol import EndCause
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.exchange.recipe_file import shipped, shipped_recipe

LFP = family_named("lfp")
KNOWN = Expected(LFP, 0.010, (8.0, 14.8), lead_ohm=0.010)


def test_right_benches_are_let_be() -> None:
    random = Random(99)
    for _ in range(60):
        trial = drawn(random)
        proof = proved(trial)
        assert not proof.findings, (trial, [str(item) for item in proof.findings])


NAMED = {
    "meter-turned": "meter-turned", "meter-open": "no-voltage", "battery-off": "no-voltage", "meter-half": "another-pack", "shunt-turned": "turned-shunt",
    "shunt-tenfold": "shunt-scale", "shunt-double": "shunt-scale", "shunt-half": "shunt-scale", "shunt-out": "shunt-out",
    "shunt-elsewhere": "current-at-rest", "load-turned": "turned", "load-open": "not-connected", "charger-turned": "turned",
    "clamp-loose": "leads", "leads-thin": "leads", "second-elsewhere": "second-elsewhere", "pack-elsewhere": "pack-elsewhere",
    "thermometer-out": "thermometer", "thermometer-elsewhere": "thermometer-elsewhere", "other-family": "not-full",
    "two-in-series": "another-pack", "other-load": "current-at-rest", "other-battery": "another-battery",
    "meter-at-clamps": "sense-at-clamps", "meter-elsewhere": "", "shunt-tenth": "", "load-elsewhere": "",
    "charger-elsewhere": "load-elsewhere", "charger-open": "load-elsewhere",
}  # fmt: skip


@pytest.mark.parametrize("wiring", sorted(WIRINGS))
def test_every_wrong_wiring_is_named_with_its_mend(wiring: str) -> None:
    random = Random(7)
    trial = drawn(random, wiring)
    while wiring in RESOLVED and not _resolved(trial, wiring):
        trial = drawn(random, wiring)
    before = proved(replace(trial, wiring=())).ohms if wiring == "other-battery" else None
    found = proved(trial, before).findings
    codes = [item.code for item in found]
    assert NAMED[wiring] in codes or (not NAMED[wiring] and codes), codes
    assert all(item.what and item.mend and item.message == f"{item.what}: {item.mend}" for item in found)


def pulse(**changes: object) -> list[str]:
    """Findings of a good pulse of 4 and 8 A through 10 mΩ, with some of it changed."""
    parts = {
        "rest": Level(0.0, 13.20, 0.0, 13.20, 0.0), "low": Level(4.0, 13.16, 4.0, 13.12, 4.0),
        "high": Level(8.0, 13.12, 8.0, 13.04, 8.0), "known": KNOWN,
    }  # fmt: skip
    for place, value in changes.items():
        part, _, name = place.partition("_")
        parts[part] = replace(parts[part], **{name: value}) if name else value
    proof = judge_pulse(parts["rest"], parts["low"], parts["high"], parts["known"])
    return [item.code for item in proof.findings]


def test_a_good_pulse_tells_the_resistances() -> None:
    assert not pulse()
    proof = judge_pulse(Level(0.0, 13.20, 0.0, 13.20, 0.0), Level(4.0, 13.16, 4.0, 13.12, 4.0), Level(8.0, 13.12, 8.0, 13.04, 8.0), KNOWN)  # fmt: skip
    assert proof.ohm == pytest.approx(0.010, rel=1e-6) and proof.lead_ohm == pytest.approx(0.010, rel=1e-6)


def test_the_reading_just_beyond() -> None:
    """Each rule on both sides of its mark."""
    assert pulse(high_amps=8.0 * 1.2, low_amps=4.0 * 1.2) == [] and pulse(high_amps=8.0 * 1.4, low_amps=4.0 * 1.4) == [
        "shunt-scale"
    ]
    assert "turned-shunt" in pulse(high_amps=-8.0, low_amps=-4.0) and "shunt-out" in pulse(high_amps=0.01, low_amps=0.0)
    assert pulse(high_own_V=13.095) == [] and pulse(high_own_V=13.115) == ["sense-at-clamps"]
    assert pulse(high_own_V=12.80) == [] and pulse(high_own_V=12.60) == ["leads"]
    assert "voltage-turned" in pulse(low_volts=13.22, high_volts=13.25, high_own_V=13.17, low_own_V=13.18)
    assert pulse(low_volts=13.20, high_volts=13.20, low_own_V=13.16, high_own_V=13.12) == ["meter-elsewhere"]
    had = [pulse(known=replace(KNOWN, before={"draw": Ohms(0.0, most)})) for most in (0.0030, 0.0024)]
    assert had == [[], ["another-battery"]], "the least it can be now, beside the most it was"
    had = [pulse(known=replace(KNOWN, before={"draw": Ohms(least, 1.0)})) for least in (0.035, 0.038)]
    assert had == [[], ["another-battery"]]
    assert pulse(high_celsius=20.0, known=replace(KNOWN, before={"draw": Ohms(0.0, 0.002, 7.9)})) == []
    assert pulse(high_celsius=20.0, known=replace(KNOWN, before={"draw": Ohms(0.0, 0.002, 8.1)})) == ["another-battery"]
    assert pulse(known=replace(KNOWN, before={"charge": Ohms(0.0, 0.002)})) == [], "each way by its own"
    # a tenth of what it should be moved by is nothing; 100 mΩ beside twelve times the usual and 20 mΩ more
    assert [pulse(known=replace(KNOWN, ohm=ohm)) for ohm in (0.098, 0.102)] == [[], ["meter-elsewhere"]]
    steep = {"low_volts": 12.80, "high_volts": 12.40, "low_own_V": 12.76, "high_own_V": 12.32}
    assert [pulse(**steep, known=replace(KNOWN, ohm=ohm)) for ohm in (0.0075, 0.005)] == [[], ["resistance-high"]]
    cold = pulse(**steep, high_celsius=-10.0, known=replace(KNOWN, ohm=0.005))
    assert cold == [], "twice as much in the cold"


def test_a_shunt_reads_nothing_within_the_meter_s_zero_or_a_tenth_of_what_was_set() -> None:
    wide = replace(KNOWN, zero_A=1.0)
    assert pulse(known=wide, low_amps=0.4, high_amps=0.79) == ["shunt-out"]
    assert pulse(known=wide, low_amps=0.45, high_amps=0.9) == ["shunt-scale"]
    assert pulse(known=replace(KNOWN, zero_A=0.4), low_amps=0.2, high_amps=0.39) == ["shunt-out"]


def test_a_charge_at_its_limit_tells_the_resistance_by_what_came_to_flow() -> None:
    known = replace(KNOWN, limit_V=14.4)
    for zero_A in (0.0, 0.5):  # what the meter shows with nothing flowing is no part of it
        rest, high = Level(0.0, 13.20, zero_A), Level(-8.0, 14.40, zero_A - 1.0)
        proof = judge_pulse(rest, high, high, known, "charge")
        assert not proof.findings and proof.ohms["charge"].least < 1.2 < proof.ohms["charge"].most
    near = Level(0.0, 13.45, 0.0)
    assert judge_pulse(near, near, Level(-8.0, 14.40, -1.0), known, "charge").ohms == {}, "begun too close to tell"
    still = Level(-8.0, 14.40, -4.0 * known.digit_A)
    assert judge_pulse(Level(0.0, 13.2, 0.0), still, still, known, "charge").ohms == {}, "nothing came to flow"


def test_one_torn_reading_tells_nothing() -> None:
    """A number of two registers read in two moments: -1 mA beside 0 mA is 65.535 A. (Modbus words, from memory.)"""
    seen = [Observation(13.2, amps) for amps in (0.0, 65.535, -0.001)]
    rest = level_of(0.0, seen, [{"own_A": -65.536}, {"own_A": 0.001}, {"own_V": 13.19}, {"own_A": 0.0}])
    assert (rest.amps, rest.own_A, rest.own_V, rest.second_V) == (0.0, 0.0, 13.19, None)


def test_the_registers_answer_of_one_moment(bench: Bench) -> None:
    register = RegisterStandIn(bench.world, "meter")
    shown = cycle((Observation(13.2, -0.001), Observation(13.2, 0.0)))
    bench.world.read = lambda _: next(shown)  # type: ignore[method-assign]
    answers = [register.answer(struct.pack(">BHH", 4, 2, 2)) for _ in range(4)]
    register.stop()
    assert [struct.unpack(">i", answer[2:])[0] for answer in answers if answer] == [-1, 0, -1, 0]


def rested(known: Expected = KNOWN, **values: object) -> list[str]:
    return [item.code for item in at_rest(Level(0.0, **({"volts": 13.2, "amps": 0.0} | values)), known)]  # type: ignore[arg-type]


def test_at_rest() -> None:
    assert rested() == [] and rested(volts=-13.2) == ["meter-turned"] and rested(volts=0.4) == ["no-voltage"]
    assert (
        rested(volts=26.4) == ["another-pack"]
        and rested(volts=40.0) == ["another-pack"]
        and rested(volts=7.0) == ["another-pack"]
        and rested(volts=15.2) == ["another-family"]
    )
    assert rested(amps=0.06) == [] and rested(amps=0.2) == ["current-at-rest"]
    assert (
        rested(own_V=13.3) == [] and rested(own_V=12.9) == ["two-batteries"] and rested(own_V=0.1) == ["not-connected"]
    )
    warm = replace(KNOWN, ambient_C=23.0)
    assert rested(warm, celsius=32.0) == [] and rested(warm, celsius=40.0) == ["thermometer-elsewhere"]
    assert rested(warm, celsius=850.0) == ["thermometer"] and rested(celsius=-12.0) == []
    assert (
        rested(replace(KNOWN, full=1.0), volts=12.9) == ["not-full"]
        and rested(replace(KNOWN, full=1.0), volts=13.3) == []
    )


@pytest.fixture
def bench(tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[Bench]:
    made = Bench(tmp_path, getattr(request, "param", ()), 0.9)
    yield made
    made.stand_ins.stop()


def proving(bench: Bench, channel: object, override: str = "") -> Proving:
    limits = bench.equipment.limits(bench.equipment.channel("one"))
    plan = plan_proof(hold(), limits, RATED, replace(KNOWN, ohm=0.2, lead_ohm=None, zero_A=0.01))
    return Proving(replace(plan, override=override), channel)  # type: ignore[arg-type]


def test_a_run_begins_only_once_its_connection_is_proved(bench: Bench) -> None:
    channel = bench.channel()
    loop, kept, _ = bench.loop(hold(), proving=proving(bench, channel))
    loop.channel = channel
    loop.start()
    seen = bench.tick(loop, 3, 0.25)
    assert seen.state.phase is Phase.READY and seen.proving and bench.world.true_current_A == 0.0, (
        "OFF and a look first"
    )
    seen = bench.tick(loop, 40, 0.25)
    assert seen.state.phase is Phase.DISCHARGING and kept.kinds.index("proof") < kept.kinds.index("start-discharge")
    assert kept.rows[0][0] > 3.0 and loop.state.charge_Ah < 0.01, "what it moved stands in the record, not in the count"
    channel.close()


@pytest.mark.parametrize("bench", [("load-elsewhere",), ("shunt-turned",)], indirect=True)
def test_a_wrong_wiring_ends_it_before_it_begins_or_is_gone_on_with_in_writing(bench: Bench) -> None:
    channel = bench.channel()
    loop, kept, _ = bench.loop(hold(), proving=proving(bench, channel))
    loop.channel = channel
    loop.start()
    seen = bench.tick(loop, 60, 0.25)
    assert seen.ended and seen.settled and seen.state.cause is EndCause.NOT_PROVEN and not kept.rows
    assert "is on another battery" in seen.state.detail or "turn it" in seen.state.detail
    assert not bench.world.load_on
    again, told, _ = bench.loop(hold(), proving=proving(bench, channel, "the shunt is meant to be so"))
    again.channel = channel
    again.start()
    bench.tick(again, 40, 0.25)
    assert again.state.phase is not Phase.READY and "override" in told.kinds
    assert any("meant to be so" in event.message for event in told.told)
    channel.close()


def test_a_meter_that_is_lost_in_the_pulse_switches_it_off(bench: Bench) -> None:
    channel = bench.channel()
    loop, _, _ = bench.loop(hold(), proving=proving(bench, channel))
    loop.channel = channel
    loop.start()
    while not bench.world.load_on:
        bench.tick(loop, 1, 0.25)
    bench.world.fault("meter", "garbage")
    seen = bench.tick(loop, 8, 0.25)
    assert seen.ended and seen.state.cause is EndCause.INSTRUMENT and not bench.world.load_on
    channel.close()


def test_recipes_that_forbid_it_say_why() -> None:
    forbidding = {name: template.no_proof for name, template in shipped().items() if template.no_proof}
    assert set(forbidding) == {
        "abuse",
        "charge-block",
        "cold-capacity",
        "heater",
        "revive-lead-acid",
        "shelf-end",
        "wake-up",
    }
    recipe = fill(shipped_recipe("wake-up"), Facts(LFP, 40.0))
    assert "sleeping" in recipe.no_proof
    from wintry_tally.core.protocol.preflight import Bench as Limits

    plan = plan_proof(recipe, Limits(300.0, 30.0, 50.0, 16.0), 40.0, KNOWN)
    assert plan.left_out == recipe.no_proof and not plan.draw_A and not plan.charge_A


# --- within a run ---


def seen(volts: float, amps: float, celsius: float | None = None) -> Observation:
    return Observation(volts, amps, celsius)


def test_a_clamp_that_works_loose_is_told_then_stops_it() -> None:
    vigil = Vigil(Body(5000.0, 40.0), 0.05)
    vigil.see(seen(13.2, 0.0), Phase.RESTING, 0.0, 13.2)
    codes = []
    for at in range(60):
        ohm = 0.010 if at < 20 else 0.025 if at < 40 else 0.080
        found = vigil.see(seen(13.1, 8.0), Phase.DISCHARGING, 1.0 + at, 13.1 - 8.0 * ohm)
        codes.append([(alarm.key, alarm.stop) for alarm in found])
    assert not any(codes[:20]) and ("leads", False) in codes[35] and ("leads-bad", True) in codes[55]


def test_heat_that_the_current_explains_is_none() -> None:
    vigil = Vigil(Body(5000.0, 40.0), 0.05)
    vigil.see(seen(13.2, 0.0, 20.0), Phase.RESTING, 0.0, None)
    told: list[tuple[str, bool]] = []
    for minute in range(1, 240):
        honest = 20.0 + 10.0**2 * 0.010 * 60.0 * minute / 5000.0
        told += [(a.key, a.stop) for a in vigil.see(seen(13.1, 10.0, honest), Phase.DISCHARGING, 60.0 * minute, None)]
    assert not told
    for minute in range(240, 300):
        odd = 23.0 + 1.0 * (minute - 240)
        told += [(a.key, a.stop) for a in vigil.see(seen(13.1, 10.0, odd), Phase.DISCHARGING, 60.0 * minute, None)]
    assert (
        ("heat", False) in told
        and ("heat-unexplained", True) in told
        and told.index(("heat", False)) < told.index(("heat-unexplained", True))
    )


@pytest.mark.parametrize(("volts", "charging", "code"), [(14.6, False, "above-band-draw"), (12.0, True, "below-band")])  # fmt: skip
def test_on_which_side_of_its_kind_s_band_a_voltage_lies_is_told(volts: float, charging: bool, code: str) -> None:
    family = family_named("lfp")
    vigil = Vigil(None, 0.05, KindBand(family, 40.0, parameters_for(family, 40.0)))
    vigil.see(seen(13.2, 0.0, 23.0), Phase.RESTING, 0.0, None)
    told: list[str] = []
    for at in range(10, 2000, 10):
        phase = Phase.CHARGING if charging else Phase.DISCHARGING
        alarms = vigil.see(seen(volts, -8.0 if charging else 8.0, 23.0), phase, float(at), None)
        told += [alarm.words.code for alarm in alarms if alarm.key == "off-band"]
    assert set(told) == {code}


def test_a_voltage_that_goes_where_none_of_its_kind_goes() -> None:
    vigil = Vigil(None, 0.05)
    vigil.see(seen(13.0, 0.0), Phase.RESTING, 0.0, None)
    assert not vigil.see(seen(13.1, 5.0), Phase.DISCHARGING, 100.0, None)
    assert not vigil.see(seen(13.1, 5.0), Phase.DISCHARGING, 200.0, None), "a little above may be two meters"
    assert [alarm.key for alarm in vigil.see(seen(13.2, 5.0), Phase.DISCHARGING, 300.0, None)] == ["above-rest"]
    other = Vigil(None, 0.05)
    other.see(seen(13.0, 0.0), Phase.RESTING, 0.0, None)
    other.see(seen(13.1, -5.0), Phase.CHARGING, 10.0, None)
    assert [alarm.key for alarm in other.see(seen(12.8, -5.0), Phase.CHARGING, 300.0, None)] == ["below-rest"]


def following(random: Random, spoil: Callable[[float, float], float]) -> set[str]:
    """Alarms while a battery of chance, new or worn, is drawn from or charged; `spoil` changes what the meter reads."""
    family, rated = (
        family_named(random.choice(("lfp", "nmc", "agm", "gel", "flooded"))),
        random.choice((5.0, 40.0, 200.0)),
    )
    usual, ages = parameters_for(family, rated), random.uniform(0.7, 2.5)
    here = replace(
        usual,
        capacity_Ah=usual.capacity_Ah * random.uniform(0.6, 1.25),
        resistance_ohm=usual.resistance_ohm * ages,
        slow_ohm=usual.slow_ohm * ages,
    )
    charging = random.random() < 0.4
    celsius = random.uniform(12.0, 38.0) if charging else random.uniform(-15.0, 38.0)
    model = BatteryModel(here, random.uniform(0.15, 0.7) if charging else random.uniform(0.5, 1.0), celsius)
    phase, rate = (Phase.CHARGING, 0.2) if charging else (Phase.DISCHARGING, random.choice((0.05, 0.2, 1.0)))
    vigil = Vigil(None, 0.05, KindBand(family, rated, usual))
    vigil.see(seen(model.terminal_V(0.0), 0.0, celsius), Phase.RESTING, 0.0, None)
    told: set[str] = set()
    for at in range(20, 40_000, 20):
        state = model.charge(rate * rated, family.charge_V[1], 20.0) if charging else model.advance(rate * rated, 20.0)
        if abs(state.current_A) < 0.03 * rated or state.voltage_V < family.cutoff_V:
            break
        shown = spoil(state.voltage_V, family.cell_nominal_V if at > 600 else 0.0)
        told |= {alarm.key + "!" * alarm.stop for alarm in vigil.see(seen(shown, state.current_A, celsius), phase, float(at), None)}  # fmt: skip
    return told


def test_a_healthy_battery_stays_within_its_kinds_band_and_one_with_a_failed_cell_does_not() -> None:
    random = Random(4)
    assert not set.union(*(following(random, lambda volts, cell: volts) for _ in range(some(20, 100))))
    failed = [following(random, lambda volts, cell: volts - 0.9 * cell) for _ in range(some(16, 60))]
    assert sum("cell-failed!" in told for told in failed) >= 0.25 * len(failed)
    assert sum(bool(told) for told in failed) >= 0.45 * len(failed)


def test_the_band_moves_with_what_flows() -> None:
    agm = family_named("agm")
    band = KindBand(agm, 100.0, parameters_for(agm, 100.0))
    band.rested(12.75)
    full = band.limits(5.0, 25.0, math.nan)
    # beside the charts' own doubt a fiftieth of the highest volts of the kind
    assert full[1] == pytest.approx(band._rested_V(1.0, max) + 0.02 * agm.plausible_V[1] + CHART_DOUBT_V)
    band.flowed(5.0, 10 * 3600.0)
    half = band.limits(5.0, 25.0, math.nan)
    assert full[0] > 11.0 and full[1] > half[1] > 12.3 and half[0] == -math.inf, "half of it may be all of a weak one"
    band.rested(12.75)
    assert band.limits(5.0, 25.0, 0.1)[0] == pytest.approx(band.limits(0.0, 25.0, 0.1)[0] - 3 * 0.1 * 5.0)
    assert band.limits(5.0, -15.0, math.nan)[0] < full[0], "the cold"
    warm = [band.limits(5.0, celsius, math.nan) for celsius in (25.0, 26.0, 35.0)]
    assert warm[0] == warm[1] == warm[2] and band.limits(5.0, 24.0, math.nan)[0] < warm[0][0], "none above 25 °C"
    assert band.limits(-5.0, 25.0, math.nan)[1] == math.inf, "a full one rises as it likes"
    band.rested(11.7)
    assert 12.4 < band.limits(-5.0, 25.0, math.nan)[1] < 13.9
    band.rested(10.6)
    empty_V = band._rested_V(0.0, min) - 0.02 * agm.plausible_V[1] - CHART_DOUBT_V
    assert band.limits(-5.0, 25.0, math.nan)[0] == pytest.approx(empty_V), "charged from empty"
    vigil = Vigil(None, 0.05, band)
    vigil.see(seen(12.75, 0.0), Phase.RESTING, 0.0, None)
    told = [
        [alarm.key for alarm in vigil.see(seen(volts, 1.0), Phase.DISCHARGING, at, None)]
        for volts, at in ((12.7, 0.0), (12.65, 6.0), (11.0, 60.0), (11.0, 70.0), (11.0, 80.5))
    ]
    assert told == [[], [], [], [], ["cell-failed"]], "three readings and twenty seconds, after the first minute"


def test_marks_between_the_codes() -> None:
    """A lead that hangs loose against another battery, a shunt turned with any of its scales, a charger at its limit."""
    assert rested(own_V=0.45 * 13.2) == ["not-connected"] and "two-batteries" in rested(own_V=0.55 * 13.2)
    assert "not-connected" not in rested(own_V=0.55 * 13.2)
    for share in (0.75, 1.0, 1.28):
        assert "turned-shunt" in pulse(high_amps=-8.0 * share, low_amps=-4.0 * share), share
    for share in (0.5, 1.6):
        assert "turned-shunt" not in pulse(high_amps=-8.0 * share, low_amps=-4.0 * share), share
    # near its limit a charger gives less than was set, and that is no fault of the leads
    charging = replace(KNOWN, limit_V=14.4)
    levels = [Level(0.0, 13.6, 0.0), Level(4.0, 13.9, -0.3)]
    at, below = (judge_pulse(*levels, Level(8.0, volts, -0.6), charging, "charge") for volts in (14.12, 14.1))
    assert [one.code for one in at.findings] != [one.code for one in below.findings] and below.findings


def test_lead_acid_may_rise_as_it_likes_from_half_full_and_lithium_from_three_quarters() -> None:
    """Charged from empty (a rest at the chart's lowest) by so much of the rating; 1.3 times the rating is the largest it may be,
    half of it the smallest, so that a half is full of the one and less than half of the other."""
    for key, rises, held in (("agm", 0.27, 0.23), ("lfp", 0.40, 0.35)):
        family = family_named(key)
        for share, free in ((rises, True), (held, False)):
            band = KindBand(family, 40.0, parameters_for(family, 40.0))
            band.rested(family.charge_state[-1][0] - 1.0)
            band.flowed(-40.0 * share, 3600.0)
            assert math.isinf(band.limits(-8.0, 25.0, math.nan)[1]) is free, (key, share)
