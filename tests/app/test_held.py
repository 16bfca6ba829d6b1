"""What a battery's own tests say that it holds, and what follows for the forecasts made before a run. Invented batteries."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from wintry_tally.app.comparison import health_of_stand_in, held_by, held_words
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import BatteryModel, aged, parameters_for
from wintry_tally.core.compare import Tested, share_held
from wintry_tally.core.plan.programme import recipe_hours
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.trace.trace import Trace
from wintry_tally.core.verdict.evidence import capacity_evidence
from wintry_tally.exchange.recipe_file import shipped_recipe


def discharged(key: str, health: float, rate_C: float, celsius: float = 23.0, hours: float = 99.0) -> Tested:
    """A test of a battery that holds a share of 40 Ah, from full to its cut-off, or stopped after some hours."""
    family = family_named(key)
    model = BatteryModel(replace(aged(parameters_for(family, 40.0), health), protection=None), 1.0, celsius)
    rows = [(10.0 * n, model.terminal_V(0.0), 0.0) for n in range(60)]
    while rows[-1][1] > family.cutoff_V and len(rows) < 60 + 360 * hours:
        rows.append((10.0 * len(rows), model.advance(40.0 * rate_C, 10.0).voltage_V, 40.0 * rate_C))
    rows += [(10.0 * (len(rows) + n), model.advance(0.0, 10.0).voltage_V, 0.0) for n in range(30)]
    time_s, volts, amps = np.array(rows).T
    trace = Trace(time_s, volts.round(3), amps, resolution={"voltage_V": 0.001, "current_A": 0.001})
    options = Options(family=family, rated_Ah=40.0, cutoff_V=family.cutoff_V, ambient_C=celsius)
    analysis = analyse(trace, options)
    return Tested("", "capacity", None, analysis, capacity_evidence("", analysis, celsius))


@pytest.mark.parametrize("key", ["lfp", "nmc", "agm"])
@pytest.mark.parametrize("health", [0.55, 0.8, 1.0])
@pytest.mark.parametrize("rate_C", [0.05, 0.2])
def test_at_whatever_rate_it_was_drawn_the_share_is_the_batterys(key: str, health: float, rate_C: float) -> None:
    run = discharged(key, health, rate_C)
    assert share_held([run], run.analysis.options.family, 40.0) == pytest.approx(health, abs=0.025)


def test_the_newest_that_says_it_counts() -> None:
    old, new = discharged("lfp", 0.9, 0.2), discharged("lfp", 0.7, 0.2)
    family = new.analysis.options.family
    stopped, cold = discharged("lfp", 0.7, 0.2, hours=2.0), discharged("lfp", 0.7, 0.2, celsius=-10.0)
    surge = replace(new, method="surge")
    assert share_held([old, new, stopped, cold, surge], family, 40.0) == share_held([new], family, 40.0) < 0.75
    low = replace(new, evidence=replace(new.evidence, begun_low=new.evidence.undecided or "rested too low"))
    unread = replace(new, evidence=replace(new.evidence, unread_Ah=0.5))
    assert share_held([old, low, unread], family, 40.0) == share_held([old], family, 40.0) > 0.85
    assert (
        share_held([stopped, cold, replace(new, evidence=None)], family, 40.0) == 1.0 == share_held([new], family, None)
    )
    assert share_held([new], family, 400.0) == 0.1 and share_held([new], family, 4.0) == 1.3


def test_a_programme_takes_as_long_as_the_battery_does() -> None:
    family = family_named("lfp")
    reference, charge = shipped_recipe("capacity-reference"), shipped_recipe("charge-lithium-usual")
    (drawn, worn), (put_in, less) = (
        [recipe_hours(template, Facts(family, 40.0, held=held), full, 0.0)[1] for held in (1.0, 0.6)]
        for template, full in ((reference, 1.0), (charge, 0.0))
    )
    # what ends by the battery is as much shorter, what ends by the clock (rests) is not
    assert drawn - worn == pytest.approx(0.4 * 40.0 / 8.0, rel=0.1)
    assert 0.3 * put_in < put_in - less < 0.45 * put_in


def test_a_stand_in_is_the_battery_as_its_tests_have_it() -> None:
    new = discharged("lfp", 0.7, 0.2)
    facts = SimpleNamespace(left_out=False, test="capacity", title="Capacity 1", started=None)
    known: Any = SimpleNamespace(
        runs=[SimpleNamespace(analysis=new.analysis, evidence=new.evidence, facts=facts)],
        sample=SimpleNamespace(family=new.analysis.options.family, rated_Ah=40.0),
    )
    often = [health_of_stand_in(known, seed) for seed in range(200)]
    assert np.mean(often) == pytest.approx(held_by(known), abs=0.002) and 0.002 < np.std(often) < 0.006
    unknown = [health_of_stand_in(None, seed) for seed in range(200)]
    assert 0.95 <= min(unknown) < 0.96 and 1.03 < max(unknown) <= 1.04 and held_words(None, 40.0) == ""
    assert "it holds 70 % of what is usual" in held_words(known, 20.0) and held_words(known, 3.0) == ""
    known.runs[0].facts.left_out = True
    assert held_by(known) == 1.0, "a run that was left out says nothing"
