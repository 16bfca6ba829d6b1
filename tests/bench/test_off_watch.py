"""Whether what was told to go off is seen to be off: its own answer, the current, the voltage coming back."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import pytest

from tests.bench.benches import STOPS, Bench
from wintry_tally.bench.off_watch import FLOWS, NOT_OFF, OffWatch
from wintry_tally.core.engine import OFF, Command, Observation, Phase
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step

DRAW, CHARGE = Command("draw", "current", 5.0), Command("charge", "charge", 5.0, 14.4)
LOST = Observation(math.nan, math.nan)


def after_draw(*, zero_A: float = 0.05, apart: bool = True, loaded_V: float = 12.9) -> OffWatch:
    """A rest at 13.2 V, ten seconds of 5 A, then OFF at 20 s."""
    watch = OffWatch(zero_A, 0.001, apart, {"load": "the load's lead"})
    watch.told(OFF, 0.0)
    watch.see(Observation(13.2, 0.0), {"load": False}, 1.0)
    watch.told(DRAW, 2.0)
    for at in range(3, 13):
        watch.see(Observation(loaded_V, 5.0), {"load": True}, float(at))
    watch.told(OFF, 20.0)
    return watch


def test_its_own_answer_and_a_current_within_the_meter_s_zero() -> None:
    watch = after_draw()
    assert not watch.seen_off
    assert watch.see(Observation(13.15, 0.04), {"load": False}, 20.2) is None and watch.seen_off
    # one reading beyond the zero undoes it, two are trouble
    assert watch.see(Observation(13.15, 0.11), {"load": False}, 20.4) is None and not watch.seen_off
    trouble = watch.see(Observation(13.15, -0.11), {"load": False}, 20.6)
    assert trouble is not None and trouble.code == FLOWS and "0.11 A" in trouble.words
    assert watch.see(Observation(13.15, 0.01), {"load": False}, 20.8) is None and watch.seen_off


def test_a_load_that_says_it_is_on_is_not_off_whatever_flows() -> None:
    watch = after_draw()
    watch.see(Observation(13.15, 0.0), {"load": True}, 20.2)
    trouble = watch.see(Observation(13.15, 0.0), {"load": True}, 20.4)
    assert (
        trouble is not None
        and trouble.code == NOT_OFF
        and trouble.words == "load says that it is still on: unplug the load's lead at the battery"
    )
    assert watch.see(Observation(13.15, 0.0), {"load": False}, 20.6) is None and watch.seen_off


def test_without_an_answer_three_zeros_of_another_meter_stand_for_it() -> None:
    apart, own = after_draw(), after_draw(apart=False)
    for at in (20.2, 20.4):
        apart.see(Observation(13.15, 0.0), {"load": None}, at)
        assert not apart.seen_off
    apart.see(Observation(13.15, 0.0), {"load": None}, 20.6)
    assert apart.seen_off
    # a reading beyond the zero, and three are wanted anew
    for at, amps, off in ((20.8, 0.06, False), (21.0, 0.0, False), (21.2, 0.0, False), (21.4, 0.0, True)):
        apart.see(Observation(13.15, amps), {"load": None}, at)
        assert apart.seen_off is off
    for at in range(21, 40):
        own.see(Observation(13.15, 0.0), {"load": None}, float(at))
    assert not own.seen_off and "nothing here can see" in own.overdue(40.0), "what is switched is no witness of itself"


def test_a_silent_meter_leaves_the_answer_to_count() -> None:
    watch = after_draw()
    watch.see(LOST, {"load": False}, 20.5)
    assert watch.seen_off
    nobody = after_draw()
    for at in range(21, 40):
        nobody.see(LOST, {}, float(at))
    assert not nobody.seen_off and nobody.overdue(40.0) and not nobody.overdue(25.0)


def test_where_only_the_switched_instrument_counts_the_voltage_is_the_witness() -> None:
    # the load says off and reads no current; on going on the voltage had fallen by 0.3 V
    liar = after_draw(apart=False)
    for at in range(21, 30):
        assert liar.see(Observation(12.91, 0.0), {"load": False}, float(at)) is None and not liar.seen_off
    trouble = liar.see(Observation(12.91, 0.0), {"load": False}, 30.5)
    assert trouble is not None and trouble.code == FLOWS and "has not come back" in trouble.words
    honest = after_draw(apart=False)
    honest.see(Observation(13.04, 0.0), {"load": False}, 21.0)
    assert not honest.seen_off, "less than half of it is not enough"
    honest.see(Observation(13.06, 0.0), {"load": False}, 22.0)
    assert honest.seen_off
    drowned = after_draw(apart=False, loaded_V=13.197)
    drowned.see(Observation(13.197, 0.0), {"load": False}, 21.0)
    assert drowned.seen_off, "a step of three digits shows nothing"


def test_a_charge_that_has_tapered_owes_only_its_last_current() -> None:
    watch = OffWatch(0.05, 0.001, False, {"charger": "the charger's lead"})
    watch.told(OFF, 0.0)
    watch.see(Observation(13.2, 0.0), {"charger": False}, 1.0)
    watch.told(CHARGE, 2.0)
    for at in range(3, 13):
        watch.see(Observation(13.5, -5.0), {"charger": True}, float(at))
    watch.see(Observation(14.4, -0.5), {"charger": True}, 5000.0)
    watch.told(OFF, 5001.0)
    watch.see(Observation(14.39, 0.0), {"charger": False}, 5002.0)
    assert not watch.seen_off
    watch.see(Observation(14.38, 0.0), {"charger": False}, 5003.0)
    assert watch.seen_off, "half of a tenth of 0.3 V"


def test_people_who_switch_by_hand_are_given_their_time() -> None:
    watch = after_draw()
    for at in range(21, 30):
        assert watch.see(Observation(13.0, 3.0), {"load": False}, float(at), people=True) is None
    watch.failed("no line")
    assert watch.see(LOST, {}, 31.0) is not None, "what could not be said stays trouble until it is seen off"
    assert watch.see(Observation(13.1, 0.0), {"load": False}, 32.0) is None


def stepped(*steps: Step) -> Recipe:
    return Recipe("r", "R", 1, steps, STOPS)


SHORT, LONG = (EndRule("time", 20.0, EndCause.TIME),), (EndRule("time", 600.0, EndCause.TIME),)
REST, DRAW = Step("rest", "Rest", ends=LONG), Step("discharge", "Draw", "current", 2.0, SHORT)


def test_a_load_that_says_it_is_off_and_draws_on_is_told_in_the_rest_that_follows(tmp_path: Path) -> None:
    """A rest as recipes have it, which is nobody's hand: within four seconds, and the run ends."""
    bench = Bench(tmp_path)
    try:
        loop, _, _ = bench.loop(stepped(DRAW, REST))
        loop.start()
        bench.tick(loop, 15)
        assert bench.world.load_on
        bench.world.fault("load", "lies-off")
        for _ in range(30):
            if loop.state.phase is not Phase.RESTING:
                bench.tick(loop)
        seen = bench.tick(loop, 8)
        assert bench.world.true_current_A > 1.9 and "unplug" in seen.trouble and seen.state.phase is Phase.ENDED
        assert seen.state.cause is EndCause.TIME and seen.state.over is EndCause.INSTRUMENT
    finally:
        bench.stand_ins.stop()


def test_a_current_in_the_first_rest_is_told_too(tmp_path: Path) -> None:
    bench = Bench(tmp_path, ("other-load",))
    try:
        loop, _, _ = bench.loop(stepped(REST, DRAW))
        loop.start()
        assert "though everything was switched off" in bench.tick(loop, 8).trouble
    finally:
        bench.stand_ins.stop()


def test_a_current_is_a_hand_s_while_a_person_is_asked_and_from_a_step_switched_by_hand_to_the_next(
    tmp_path: Path,
) -> None:
    bench = Bench(tmp_path)
    try:
        by_hand = Step("discharge", "By hand", "hand", 0.0, SHORT, attended=True)
        asked = Step("prompt", "Connect it", words="Connect it.", ends=(EndRule("confirm", 1.0, EndCause.CONFIRMED),))
        loop, _, _ = bench.loop(stepped(REST, DRAW, REST, asked, by_hand, REST, DRAW, REST))
        found = []
        for index, part in enumerate(loop.recipe.steps):
            phase = {"rest": Phase.RESTING, "discharge": Phase.DISCHARGING, "prompt": Phase.PROMPTING}[part.kind]
            loop.state = replace(loop.state, index=index, phase=phase)
            found.append(loop._people_switch())
        assert found == [False, False, False, True, True, True, False, False]
    finally:
        bench.stand_ins.stop()


@pytest.mark.parametrize(
    ("amps", "after"),
    [
        ([0.81, 0.81], 2), ([0.79] * 8, 8), ([0.41] * 8, 8), ([0.39] * 30, None), ([0.5, 0.45, 0.0] * 10, None),
        ([0.81, 0.3] * 4 + [0.41, 0.41], 10), ([-0.81, -0.81], 2), ([-0.41] * 8, 8), ([0.81, -0.81], 2), ([0.6, -0.6] * 10, None),
    ],
)  # fmt: skip
def test_a_current_is_twice_what_its_meter_may_read_at_zero_or_its_mean_more_than_that(
    amps: list[float], after: int | None
) -> None:
    """A clamp good to 0.4 A at zero whose noise goes beyond it; two readings, or the mean of the last eight."""
    watch = after_draw(zero_A=0.4)
    found = [watch.see(Observation(13.2, one), {"load": False}, 20.0 + at) for at, one in enumerate(amps, 1)]
    told = [at for at, one in enumerate(found, 1) if one is not None]
    assert (told[0] if told else None) == after
