"""What is to come of a run, foretold from where it stands: against the run itself on the stand-in bench."""

from __future__ import annotations

import pytest

from wintry_tally.bench.simulated import STAND_IN_METER, SimulatedChannel
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.engine import LIVE, Observation, Phase, Request, RunState, begin, step
from wintry_tally.core.plan import forecast, onward
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.exchange.recipe_file import shipped_recipe

HOUR = 3600.0


@pytest.mark.parametrize(
    ("family", "name", "full"),
    [
        ("lfp", "charge-lithium-usual", 0.3),
        ("nmc", "charge-lithium-usual", 0.2),
        ("agm", "charge-lead-acid", 0.3),
        ("lfp", "reference-cycle", 0.5),
        ("agm", "capacity-slow-night", 1.0),
        ("flooded", "staged-discharge", 1.0),
    ],
)
def test_the_end_is_foretold_from_every_step(family: str, name: str, full: float) -> None:
    kind = FAMILIES[family]
    recipe, parameters = fill(shipped_recipe(name), Facts(kind, 40.0)), parameters_for(kind, 40.0)
    whole = forecast(recipe, parameters, full=full)
    channel = SimulatedChannel(parameters, STAND_IN_METER, 1, state_of_charge=full, current_A=60.0, power_W=900.0)
    begun = begin(recipe)
    state, commands, now, told = begun.state, begun.commands, 0.0, []
    ends: dict[int, float] = {}
    while state.phase is not Phase.ENDED and now < 60 * HOUR:
        for command in commands:
            if command.kind != "ask":
                channel.carry_out(command)
        if state.phase in LIVE and now % (HOUR / 2) < 10.0:
            found = onward(recipe, state, now, channel.read(), parameters, full=full, whole=whole)
            assert found is not None
            told.append((now, state.index, found))
        channel.wait(10.0)
        now += 10.0
        seen = Request("answer") if state.phase is Phase.PROMPTING else channel.read()
        result = step(recipe, state, seen, now)
        if state.phase in LIVE and (result.state.index != state.index or result.state.phase is Phase.ENDED):
            ends[state.index] = now
        state, commands = result.state, result.commands
    last = max(ends.values())
    assert len(told) > 2
    for at, index, found in told:
        slack = 0.06 * (last - at) + 0.25 * HOUR  # the plan's own steps are a quarter of an hour's worth
        assert at + found.end_s == pytest.approx(last, abs=slack), f"foretold at {at / HOUR:.2f} h in step {index}"
        assert found.early_s <= found.end_s <= found.late_s
        assert at + found.step_s == pytest.approx(ends[index], abs=0.06 * (ends[index] - at) + 0.25 * HOUR)
        assert len(found.time_s) == len(found.voltage_V) and all(t >= -1.0 for t in found.time_s)


def test_prompts_count_as_answered_and_an_end_has_nothing_to_come() -> None:
    recipe = fill(shipped_recipe("two-rates"), Facts(FAMILIES["agm"], 40.0))
    parameters = parameters_for(FAMILIES["agm"], 40.0)
    state = begin(recipe).state
    while state.phase is not Phase.PROMPTING:
        state = step(recipe, state, Request("skip"), 10.0).state
    seen = Observation(12.5, 0.0, None)
    found = onward(recipe, state, 20.0, seen, parameters)
    assert found is not None and found.end_s > HOUR, "the discharge after the prompt"
    assert onward(recipe, step(recipe, state, Request("stop"), 30.0).state, 30.0, seen, parameters) is None
    assert onward(recipe, RunState(), 0.0, seen, parameters) is None


def test_a_pause_counts_as_over() -> None:
    recipe = fill(shipped_recipe("charge-lithium-usual"), Facts(FAMILIES["lfp"], 40.0))
    parameters = parameters_for(FAMILIES["lfp"], 40.0)
    state = begin(recipe).state
    going = onward(recipe, state, 0.0, Observation(13.2, -8.0), parameters, full=0.3)
    paused = step(recipe, state, Request("pause"), 1.0).state
    still = onward(recipe, paused, 1.0, Observation(13.2, 0.0), parameters, full=0.3)
    assert going is not None and still is not None and still.end_s == pytest.approx(going.end_s, rel=0.01)
