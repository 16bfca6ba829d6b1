"""The course of a proof of connection: what is tried, in which order, and what keeps it from being tried.

What its readings say is judged elsewhere (test_proof); here they are right ones. Common practice, no published source.
"""

from __future__ import annotations

import math
from dataclasses import replace

import pytest

from tests.bench.test_bench_small import one_step
from wintry_tally.bench.proving import LOOKS, PULSES, ProofPlan, Proving, plan_proof
from wintry_tally.core.battery import family_named
from wintry_tally.core.engine import OFF, Command, Observation
from wintry_tally.core.engine.proof import Expected
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits
from wintry_tally.core.protocol.preflight import Bench

LFP = family_named("lfp")
KNOWN = Expected(LFP, 0.010, (8.0, 15.0))
ANY = Bench(1e9, 1e9, 1e9, 60.0)
HOUR = (EndRule("time", 3600.0, EndCause.TIME),)
FREE = StopLimits(8.0, 15.0, 1e9, 1e9, -20.0, 60.0, charge_high_A=1e9)


def recipe(*steps: tuple[str, float], mode: str = "current", stops: StopLimits = FREE) -> Recipe:
    made = tuple(
        Step(kind, "it", mode if kind == "discharge" else kind, amps, HOUR, limit_V=14.4 if kind == "charge" else 0.0)  # type: ignore[arg-type]
        for kind, amps in steps
    )
    return Recipe("r", "R", 1, made, stops)


DRAW, CHARGE = ("discharge", 20.0), ("charge", 20.0)


@pytest.mark.parametrize(
    ("steps", "bench", "stops", "rated", "draw_A", "charge_A"),
    [
        # the recipe's own highest current, of whatever step, and what it is a share of
        ((DRAW,), ANY, FREE, 1000.0, 20.0, 0.0), ((DRAW, ("discharge", 30.0)), ANY, FREE, 1000.0, 30.0, 0.0),
        ((CHARGE,), ANY, FREE, 1000.0, 20.0, 20.0), ((("rest", 0.0), DRAW), ANY, FREE, 1000.0, 20.0, 0.0),
        # two fifths of the capacity an hour, one fifth on charge
        ((DRAW,), ANY, FREE, 40.0, 16.0, 0.0), ((CHARGE,), ANY, FREE, 40.0, 16.0, 8.0),
        # nine tenths of what load and charger can, at the highest volts, and of the stop limits
        ((DRAW, CHARGE), replace(ANY, load_A=10.0), FREE, 1000.0, 9.0, 20.0),
        ((DRAW, CHARGE), replace(ANY, load_W=150.0), FREE, 1000.0, 9.0, 20.0),
        ((DRAW, CHARGE), replace(ANY, load_W=0.0), FREE, 1000.0, 0.0, 20.0),
        ((DRAW, CHARGE), replace(ANY, charger_A=10.0), FREE, 1000.0, 20.0, 9.0),
        ((DRAW, CHARGE), replace(ANY, charger_A=0.0), FREE, 1000.0, 20.0, 0.0),
        ((DRAW, CHARGE), ANY, replace(FREE, current_high_A=10.0), 1000.0, 9.0, 20.0),
        ((DRAW, CHARGE), ANY, replace(FREE, charge_high_A=10.0), 1000.0, 20.0, 9.0),
    ],
)  # fmt: skip
def test_what_may_be_tried_is_the_least_of_what_all_of_them_can(
    steps: tuple, bench: Bench, stops: StopLimits, rated: float, draw_A: float, charge_A: float
) -> None:
    made = plan_proof(recipe(*steps, stops=stops), bench, rated, KNOWN)
    assert (made.draw_A, made.charge_A) == (pytest.approx(draw_A), pytest.approx(charge_A)) and not made.left_out
    limit = 14.4 if CHARGE in steps else 0.0
    assert made.limit_V == limit and made.expected.limit_V == (limit or math.inf)
    assert made.least_V == pytest.approx(11.0)


def test_what_is_switched_by_hand_and_what_the_recipe_forbids_is_not_tried() -> None:
    by_hand = plan_proof(recipe(DRAW, mode="hand"), ANY, 40.0, KNOWN)
    assert "hand" in by_hand.left_out and not by_hand.draw_A
    assert plan_proof(recipe(DRAW, CHARGE, mode="hand"), ANY, 40.0, KNOWN).charge_A == pytest.approx(8.0)
    resting = plan_proof(recipe(("rest", 0.0)), ANY, 40.0, KNOWN)
    assert resting.left_out and resting.left_out != by_hand.left_out
    assert plan_proof(replace(recipe(DRAW), no_proof="not this one"), ANY, 40.0, KNOWN).left_out == "not this one"


class Meters:
    """What a channel says beside the reading."""

    def __init__(self, own: bool = False) -> None:
        self.own = own

    def pack_voltage(self) -> float | None:
        return None

    def own_voltage(self, doing: str) -> float | None:
        return self.battery.voltage_V - 0.01 * self.battery.current_A if self.own else None

    def own_current(self, doing: str) -> float | None:
        return self.battery.current_A if self.own else None

    battery = Observation(13.2, 0.0)


def tried(plan: ProofPlan, rests_V: float = 13.2, celsius: float | None = 20.0, ohm: float = 0.010) -> tuple[Proving, list[tuple[Command, int]]]:  # fmt: skip
    """The commands of a proof of a battery of 10 mΩ, each with how many readings it was held for."""
    meters = Meters()
    proving, held, now = Proving(plan, meters), [(OFF, 0)], 0.0  # type: ignore[arg-type]
    assert proving.command == OFF
    while not proving.done:
        command = held[-1][0]
        amps = {"draw": 1.0, "charge": -1.0}.get(command.kind, 0.0) * command.setting
        meters.battery = Observation(rests_V - ohm * amps, amps, celsius)
        following = proving.see(meters.battery, now)
        held[-1] = (command, held[-1][1] + 1)
        if following is not None:
            assert proving.done or following == proving.command
            held.append((following, 0))
        now += 0.25
    assert held[-1] == (OFF, 0), "it ends with everything off"
    return proving, held[:-1]


def usual(**more: object) -> ProofPlan:
    return replace(ProofPlan(KNOWN, 8.0, 4.0, 14.4, least_V=11.0), **more)  # type: ignore[arg-type]


def pulse(kind: str, amps: float) -> list[tuple[Command, int]]:
    def command(share: float) -> Command:
        if kind == "draw":
            return Command("draw", "current", share * amps)
        return Command("charge", "charge", share * amps, 14.4)

    return [(command(0.5), 5), (command(1.0), 5), (OFF, 4)]


def test_off_and_a_look_then_a_pulse_of_two_levels_each_way() -> None:
    assert (LOOKS, PULSES) == (4, 5)
    proving, held = tried(usual())
    assert held == [(OFF, 4), *pulse("draw", 8.0), *pulse("charge", 4.0)]
    assert not proving.proof.findings and proving.proof.ohm == pytest.approx(0.010) and not proving.left_out
    # 8 and 4 A drawn, 4 and 2 A charged, 1.25 s each
    assert proving.moved_Ah == pytest.approx(1.25 * (4.0 + 8.0 - 2.0 - 4.0) / 3600.0, rel=1e-6)
    assert "10" in proving.words and set(proving.proof.ohms) == {"draw", "charge"}


@pytest.mark.parametrize(
    ("plan", "rests_V", "celsius", "ways"),
    [
        (usual(charge_A=0.0), 13.2, 20.0, ["draw"]), (usual(draw_A=0.0), 13.2, 20.0, ["charge"]),
        (usual(), 13.2, 4.9, ["draw"]), (usual(), 13.2, 5.0, ["draw", "charge"]), (usual(), 13.2, None, ["draw", "charge"]),
        (usual(expected=replace(KNOWN, ambient_C=4.9)), 13.2, None, ["draw"]),
        (usual(expected=replace(KNOWN, ambient_C=4.9)), 13.2, 6.0, ["draw", "charge"]),
        (usual(), 10.99, 20.0, ["charge"]), (usual(), 11.0, 20.0, ["draw", "charge"]),
        (usual(), 14.16, 20.0, ["draw"]), (usual(), 14.15, 20.0, ["draw", "charge"]), (usual(draw_A=0.0), 9.99, 20.0, []),
        (usual(draw_A=0.0), 10.0, 20.0, ["charge"]), (usual(charge_A=0.0), 10.9, 20.0, []),
    ],
)  # fmt: skip
def test_what_is_not_tried_on_the_cold_the_full_the_empty_and_the_asleep(
    plan: ProofPlan, rests_V: float, celsius: float | None, ways: list[str]
) -> None:
    """None is charged below 5 °C or at 98.3 % of its 14.4 V, nor below the family's cut-off; none drawn from below 11 V."""
    proving, held = tried(plan, rests_V, celsius)
    parts = {"draw": pulse("draw", 8.0), "charge": pulse("charge", 4.0)}
    assert held == [(OFF, 4), *(part for way in ways for part in parts[way])]
    assert bool(proving.left_out) is not ways
    assert ways or str(proving.left_out) in proving.words


def test_what_is_left_out_is_looked_at_and_no_more() -> None:
    proving, held = tried(usual(left_out="not on this one"), rests_V=-13.2)
    assert held == [(OFF, 4)] and not proving.proof.findings and "not on this one" in proving.words


def test_what_bars_at_rest_ends_it_before_anything_flows_unless_somebody_took_it_on() -> None:
    proving, held = tried(usual(), rests_V=40.0)
    assert held == [(OFF, 4)] and [item.code for item in proving.proof.bars] == ["another-pack"]
    taken, held = tried(usual(override="they are three in series"), rests_V=40.0)
    assert held[:4] == [(OFF, 4), *pulse("draw", 8.0)] and taken.proof.bars
    assert str(taken.proof.findings[0].message) in taken.words


def test_what_bars_in_the_first_pulse_leaves_out_the_second() -> None:
    """Leads of the meter on another battery: nothing moves its volts."""
    proving, held = tried(usual(), ohm=0.0)
    assert held == [(OFF, 4), *pulse("draw", 8.0)] and proving.proof.bars
    taken, held = tried(usual(override="it is meant so"), ohm=0.0)
    assert held == [(OFF, 4), *pulse("draw", 8.0), *pulse("charge", 4.0)]
    assert len(taken.proof.findings) == 2


def test_the_pack_s_resistance_is_that_of_the_load_s_pulse() -> None:
    for plan, ohm in ((usual(), 0.010), (usual(draw_A=0.0), None)):  # a charge tells the leads', and no pack's
        meters = Meters(own=True)
        proving, command, now = Proving(plan, meters), OFF, 0.0  # type: ignore[arg-type]
        while not proving.done:
            amps = {"draw": 1.0, "charge": -1.0}.get(command.kind, 0.0) * command.setting
            own = 0.010 if command.kind == "draw" else 0.012
            meters.battery = Observation(13.2 - own * amps, amps, 20.0)
            command = proving.see(meters.battery, now) or command
            now += 0.25
        assert proving.proof.ohm == (None if ohm is None else pytest.approx(ohm))
        assert proving.proof.lead_ohm == pytest.approx(0.010) and "clamps 10.0 mΩ" in proving.words
        assert ("10.0 mΩ at" in proving.words) is (ohm is not None)


def test_a_reading_of_a_level_that_comes_late_does_not_count() -> None:
    """Of five the last three do: an instrument that takes two readings to follow is right."""
    meters = Meters()
    proving, command, now, since = Proving(usual(charge_A=0.0), meters), OFF, 0.0, 0  # type: ignore[arg-type]
    while not proving.done:
        amps = command.setting if since >= 2 else 0.0
        meters.battery = Observation(13.2 - 0.010 * amps, amps, 20.0)
        following = proving.see(meters.battery, now)
        command, since, now = (following or command), (0 if following else since + 1), now + 0.25
    assert not proving.proof.findings and proving.proof.ohm == pytest.approx(0.010)


def test_a_run_of_one_step_may_be_proved() -> None:
    assert plan_proof(one_step("discharge", *HOUR), Bench(300.0, 30.0), 40.0, KNOWN).draw_A == pytest.approx(8.0)
