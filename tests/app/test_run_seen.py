"""What a run under way shows, as data: figures worked out by hand, and which keys can be pressed in which phase."""

from __future__ import annotations

import time
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import pytest

from wintry_tally.app.live_run import LiveRun
from wintry_tally.app.run_seen import Keys, figures_of, keys_of
from wintry_tally.bench.snapshot import Snapshot
from wintry_tally.book.records import RunSettings
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import BatteryModel, parameters_for
from wintry_tally.core.engine import Phase, RunState
from wintry_tally.core.plan import forecast
from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, capacity_recipe
from wintry_tally.desk.views.run_outlook import outlook_of


def _live(
    phase: Phase,
    volts: float = 12.5,
    amps: float = 8.0,
    steps: int = 2,
    index: int = 0,
    mode: str = "current",
    **state: Any,
) -> Any:
    made = replace(RunState(), phase=phase, index=index, **state)
    return SimpleNamespace(
        latest=SimpleNamespace(state=made, voltage_V=volts, current_A=amps),
        run=SimpleNamespace(settings=SimpleNamespace(voltage_accuracy="0.5%", current_accuracy="1%")),
        recipe=SimpleNamespace(steps=[SimpleNamespace(mode=mode)] * steps),
    )


def test_a_discharge_counts_what_was_drawn() -> None:
    found = figures_of(_live(Phase.DISCHARGING, charge_Ah=3.2104, energy_Wh=40.26, load_s=1445.0, put_in_Ah=9.0))
    assert {name: (one.title, one.text, one.unit) for name, one in found.items()} == {
        "Voltage": ("Voltage", "12.50", "V"), "Current": ("Current", "8.00", "A"), "Charge": ("Charge drawn", "3.21", "Ah"),
        "Charge so far": ("Charge drawn", "3.21", "Ah"), "Power": ("Power", "100.0", "W"), "Energy": ("Energy drawn", "40.3", "Wh"),
        "Under load": ("Under load", "24 min 05 s", ""),
    }  # fmt: skip
    assert found["Charge"].working.result == "3.210 Ah" and found["Charge"].working.inputs["meter"].startswith("0.5%")
    assert found["Power"].working.result == "100.00 W" and found["Energy"].working.label == "Energy drawn so far"


def test_a_charge_counts_what_was_put_in_and_its_current_has_a_minus_sign() -> None:
    state = {"put_in_Ah": 2.0, "put_in_Wh": 27.0, "charge_s": 900.0, "charge_Ah": 5.0}
    found = figures_of(_live(Phase.CHARGING, 13.5, -8.03, **state))
    assert found["Current"].text == "−8.03" and found["Power"].text == "−108.4"
    assert (found["Charge"].title, found["Charge"].text) == ("Charge put in", "2.00")
    assert (found["Under load"].title, found["Under load"].text) == ("On charge", "15 min 00 s")
    # resting after a charge still shows what went in; after a discharge and a charge what was drawn
    assert figures_of(_live(Phase.RESTING, **{**state, "charge_Ah": 0.0}))["Charge"].title == "Charge put in"
    assert figures_of(_live(Phase.RESTING, **state))["Charge"].title == "Charge drawn"
    unread = figures_of(_live(Phase.DISCHARGING, float("nan"), float("nan")))
    assert unread["Voltage"].text == unread["Current"].text == unread["Power"].text == "–"


@pytest.mark.parametrize(
    ("phase", "index", "keys"),
    [
        (Phase.DISCHARGING, 0, Keys("Pause", True, True, True, True)),
        (Phase.CHARGING, 1, Keys("Pause", True, True, True, False)),
        (Phase.PAUSED, 0, Keys("Resume", True, True, True, False)),
        (Phase.READY, 0, Keys("Pause", False, True, True, False)),
        (Phase.RESTING, 0, Keys("Pause", False, True, True, True)),
    ],
)
def test_which_keys_can_be_pressed(phase: Phase, index: int, keys: Keys) -> None:
    assert keys_of(_live(phase, index=index)) == keys


def test_another_current_is_set_where_a_current_is_and_one_step_cannot_be_skipped() -> None:
    assert (
        not keys_of(_live(Phase.DISCHARGING, mode="power")).settable
        and keys_of(_live(Phase.CHARGING, mode="charge")).settable
    )
    assert keys_of(_live(Phase.DISCHARGING, steps=1)) == Keys("Pause", True, True, False, False)


@pytest.mark.parametrize("readings", [4, 40])
@pytest.mark.parametrize("fresh", [True, False])
def test_what_is_to_come_counts_from_now_however_long_the_last_reading_is_ago(readings: int, fresh: bool) -> None:
    family = family_named("lfp")
    usual = parameters_for(family, 40.0)
    recipe = capacity_recipe(family, 40.0, CapacityPlan("current", 8.0, 10.0, 0.0), LoadLimits(300.0, 30.0))
    model, rows = BatteryModel(usual, 1.0, 23.0), []
    for n in range(readings + 1):
        seen = model.advance(8.0 if n else 0.0, 4.0 * 3600.0 / readings if n else 0.0)
        rows.append((n * 4.0 * 3600.0 / readings, seen.voltage_V, seen.current_A, 32.0 * n / readings))
    settings = RunSettings(rated_Ah=40.0, family="lfp", voltage_accuracy="0.5%+2d", voltage_resolution=0.01)
    index = next(n for n, part in enumerate(recipe.steps) if part.kind == "discharge")
    state = RunState(phase=Phase.DISCHARGING, index=index, charge_Ah=32.0, step_Ah=32.0, setting=8.0)
    unread_s = 1500.0
    latest = Snapshot(state, rows[-1][0] + (0.0 if fresh else unread_s), rows[-1][1], 8.0, None, fresh=fresh)
    worker = SimpleNamespace(latest=latest, speed=1.0, curve=lambda: rows)
    run = SimpleNamespace(settings=settings, id=1)
    live = LiveRun(run, recipe, worker, forecast(recipe, usual), usual, guide=SimpleNamespace(unread_s=unread_s))  # type: ignore[arg-type]
    live.outlook()
    if readings > 8:
        for _ in range(600):
            if live.outlook() is None:
                time.sleep(0.1)  # it thinks beside the window
    ahead, told = live.ahead(), outlook_of(live)
    assert ahead is not None and (live.outlook() is not None) is (readings > 8)
    assert ahead.early_s <= ahead.remaining_s <= ahead.late_s and live.remaining_s() == ahead.remaining_s
    # 8 A went on all the time: what is left of its total, less what has flowed unread
    assert ahead.remaining_s == pytest.approx((ahead.total_Ah - 32.0) / 8.0 * 3600.0 - unread_s, rel=0.05)
    early, late = told.between.split(" to ")
    assert early <= told.ends <= late or "at" in told.between
