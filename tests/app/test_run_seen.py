"""What a run under way shows, as data: figures worked out by hand, and which keys can be pressed in which phase."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from tests.core.test_so_far import half
from wintry_tally.app.live_run import LiveRun
from wintry_tally.app.outlooks import LiveOutlook
from wintry_tally.app.run_seen import Keys, figures_of, keys_of
from wintry_tally.bench.snapshot import Snapshot
from wintry_tally.book.records import RunSettings
from wintry_tally.core.analysis import Options, analyse
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import BatteryModel, parameters_for
from wintry_tally.core.engine import Phase, RunState
from wintry_tally.core.plan import forecast
from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, capacity_recipe
from wintry_tally.core.verdict.evidence import capacity_evidence
from wintry_tally.desk.views.run_outlook import outlook_of
from wintry_tally.exchange import Choices, read_log


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
        (Phase.DISCHARGING, 0, Keys("Pause", True, True, True, True, True)),
        (Phase.CHARGING, 1, Keys("Pause", True, True, True, False, False)),
        (Phase.PAUSED, 0, Keys("Resume", True, True, True, False, False)),
        (Phase.READY, 0, Keys("Pause", False, True, True, False, False)),
        (Phase.RESTING, 0, Keys("Pause", False, True, True, True, False)),
    ],
)
def test_which_keys_can_be_pressed(phase: Phase, index: int, keys: Keys) -> None:
    assert keys_of(_live(phase, index=index)) == keys


def test_another_current_is_set_where_a_current_is_and_one_step_cannot_be_skipped() -> None:
    assert (
        not keys_of(_live(Phase.DISCHARGING, mode="power")).settable
        and keys_of(_live(Phase.CHARGING, mode="charge")).settable
    )
    assert keys_of(_live(Phase.DISCHARGING, steps=1)) == Keys("Pause", True, True, False, False, False)


def _read(live: LiveRun | LiveOutlook, *given: Any) -> Any:
    """The outlook, once it is thought out beside the window."""
    for _ in range(600):
        found = live.outlook() if isinstance(live, LiveRun) else live.newest(*given)
        if found is not None:
            return found
        time.sleep(0.1)
    raise AssertionError("no outlook in a minute")


FAMILY = family_named("lfp")
USUAL = parameters_for(FAMILY, 40.0)
SETTINGS = RunSettings(rated_Ah=40.0, family="lfp", voltage_accuracy="0.5%+2d", voltage_resolution=0.01)
RUN: Any = SimpleNamespace(settings=SETTINGS, id=1)


@pytest.mark.parametrize(("readings", "taken_up"), [(4, False), (40, False), (40, True)])
@pytest.mark.parametrize("fresh", [True, False])
def test_what_is_to_come_counts_from_now_however_long_the_last_reading_is_ago(
    readings: int, taken_up: bool, fresh: bool
) -> None:
    recipe = capacity_recipe(FAMILY, 40.0, CapacityPlan("current", 8.0, 10.0, 0.0), LoadLimits(300.0, 30.0))
    model, rows, each_s = BatteryModel(USUAL, 1.0, 23.0), [], 4.0 * 3600.0 / readings
    for n in range(readings + 1):
        seen = model.advance(8.0 if n else 0.0, each_s if n else 0.0)
        rows.append((n * each_s, seen.voltage_V, seen.current_A, 32.0 * n / readings))
    rows = rows[readings // 2 :] if taken_up else rows
    index = next(n for n, part in enumerate(recipe.steps) if part.kind == "discharge")
    since = rows[0][0] if taken_up else 0.0
    state = RunState(phase=Phase.DISCHARGING, index=index, charge_Ah=32.0, step_Ah=32.0, setting=8.0, step_since_s=since)  # fmt: skip
    unread_s = 1500.0
    latest = Snapshot(state, rows[-1][0] + (0.0 if fresh else unread_s), rows[-1][1], 8.0, None, fresh=fresh)
    worker: Any = SimpleNamespace(latest=latest, speed=1.0, curve=lambda: rows)
    guide: Any = SimpleNamespace(unread_s=unread_s)
    live = LiveRun(RUN, recipe, worker, forecast(recipe, USUAL), USUAL, guide=guide)
    known = _read(live) if readings > 8 else live.outlook()
    ahead, told = live.ahead(), outlook_of(live)
    assert ahead is not None and (known is not None) is (readings > 8)
    assert ahead.early_s <= ahead.remaining_s <= ahead.late_s and live.remaining_s() == ahead.remaining_s
    # 8 A went on all the time: what is left of its total, less what has flowed unread
    assert ahead.remaining_s == pytest.approx((ahead.total_Ah - 32.0) / 8.0 * 3600.0 - unread_s, rel=0.05)
    assert 36.0 < ahead.total_Ah < 44.0 and told.to_come == f"{ahead.total_Ah - 32.0:.1f}"
    assert told.ends != "–" and " to " in told.between
    if known is None:  # a battery that was tested before is known better from the first reading on
        known_better = replace(live, held=0.99, _outlook=None).ahead()
        assert known_better.high_Ah - known_better.low_Ah < 0.6 * (ahead.high_Ah - ahead.low_Ah)
    # while it is paused that holds, and the end on the clock goes on with the clock
    worker.latest = replace(latest, state=replace(state, phase=Phase.PAUSED), elapsed_s=latest.elapsed_s + 3600.0)
    assert live.ahead() == ahead and live.remaining_s() == ahead.remaining_s
    assert outlook_of(live).to_come == told.to_come
    worker.latest = replace(worker.latest, state=replace(worker.latest.state, index=index + 1))
    assert live.ahead() is None, "of another step it says nothing"


def test_what_a_charge_that_was_taken_up_has_put_in_before_counts() -> None:
    recipe: Any = SimpleNamespace(
        steps=[SimpleNamespace(mode="current", limit_V=14.4, ends=(), kind="charge")], one_discharge=False
    )
    model, rows, now, put_in = BatteryModel(USUAL, 0.2, 23.0), [], 0.0, 0.0
    while put_in < 16.0:
        seen = model.charge(8.0, 14.4, 60.0)
        now, put_in = now + 60.0, put_in + abs(seen.current_A) / 60.0
        rows.append((now, seen.voltage_V, seen.current_A, 0.0))
    state = RunState(phase=Phase.CHARGING, put_in_Ah=put_in, step_Ah=put_in, setting=8.0, step_since_s=rows[60][0])
    latest = Snapshot(state, now, rows[-1][1], -8.0, None)
    run: Any = SimpleNamespace(settings=replace(SETTINGS, state_of_charge=0.2), id=1)
    found, begun_s = _read(LiveOutlook(run, recipe, lambda: None), latest, rows[60:])
    while abs(seen.current_A) > 0.05 * 40.0:
        seen = model.charge(8.0, 14.4, 60.0)
        put_in += abs(seen.current_A) / 60.0
    assert begun_s == rows[60][0]
    assert found.charge_Ah.low < put_in < found.charge_Ah.high and found.charge_Ah.value == pytest.approx(put_in, rel=0.1)  # fmt: skip
    assert found.full.low < (0.2 + 8.0 * 61 / 60 / 40.0) < found.full.high


def test_what_was_drawn_and_put_in_before_tells_the_charge_it_begins_with() -> None:
    # from full, 16 Ah out, 8 Ah in, and then 4 Ah of this step: it began at 80 % of 40 Ah
    recipe: Any = SimpleNamespace(steps=[SimpleNamespace(mode="current", limit_V=0.0, ends=(), kind="discharge")])
    model, rows = BatteryModel(USUAL, 0.8, 23.0), [(0.0, 13.25, 0.0, 16.0), (30.0, 13.25, 0.0, 16.0)]
    for n in range(1, 31):
        rows.append((30.0 + 60.0 * n, model.advance(8.0, 60.0).voltage_V, 8.0, 16.0 + n * 8.0 / 60.0))
    state = RunState(phase=Phase.DISCHARGING, charge_Ah=20.0, put_in_Ah=8.0, step_Ah=4.0, setting=8.0)
    latest = Snapshot(state, rows[-1][0], rows[-1][1], 8.0, None)
    asked = LiveOutlook(RUN, recipe, lambda: None)
    found, begun_s = _read(asked, latest, rows)
    assert begun_s == 90.0 and 0.6 < found.full.low < 0.8 < found.full.high < 0.95
    assert found.charge_Ah.value == pytest.approx(32.0, rel=0.15)
    # of another step, at rest, or after a pause, it says nothing yet
    assert asked.newest(replace(latest, state=replace(state, phase=Phase.RESTING)), rows) is None
    assert asked.newest(replace(latest, state=replace(state, step_since_s=5400.0)), rows) is None
    assert asked.newest(replace(latest, state=replace(state, index=1)), rows) is None


def test_what_the_battery_gave_before_is_remembered_once_it_is_worked_out(tmp_path: Path) -> None:
    recipe = capacity_recipe(FAMILY, 40.0, CapacityPlan("current", 8.0, 10.0, 0.0), LoadLimits(300.0, 30.0))
    model = BatteryModel(USUAL, 1.0, 23.0)
    rows = [(60.0 * n, model.advance(8.0, 60.0).voltage_V, 8.0, 8.0 * n / 60.0) for n in range(150)]
    index = next(n for n, part in enumerate(recipe.steps) if part.kind == "discharge")
    state = RunState(phase=Phase.DISCHARGING, index=index, charge_Ah=20.0, step_Ah=20.0, setting=8.0)
    latest = Snapshot(state, rows[-1][0], rows[-1][1], 8.0, None)
    worker: Any = SimpleNamespace(latest=latest, speed=1.0, curve=lambda: rows)
    analysis = analyse(read_log(half(tmp_path, 1.0, 600.0), Choices()).trace, Options(family=FAMILY, rated_Ah=40.0))
    facts = SimpleNamespace(left_out=False, test="capacity", title="Capacity 1", started=None)
    evidence = capacity_evidence("", analysis, 23.0)
    dossier = SimpleNamespace(
        runs=[SimpleNamespace(analysis=analysis, facts=facts, evidence=evidence)],
        sample=SimpleNamespace(family=FAMILY, rated_Ah=44.0),  # of which it holds ten elevenths
    )
    known: list[Any] = [None]
    live = LiveRun(RUN, recipe, worker, forecast(recipe, USUAL), USUAL, before=lambda: known[0])
    alone, _ = _read(live)
    assert alone.remembered == 0 and "and they fit" not in outlook_of(live).working.inputs
    known[0] = dossier
    worker.latest = replace(latest, elapsed_s=latest.elapsed_s + 600.0)
    deadline = time.monotonic() + 60.0
    while (found := live.outlook()[0]) == alone and time.monotonic() < deadline:
        time.sleep(0.1)
    assert found.remembered == 1 and outlook_of(live).working.inputs["and they fit"] == "its last whole discharge too"
    assert outlook_of(live).working.inputs["holds, by its last whole discharge"].startswith("91 % of what is usual")
    assert live.held == pytest.approx(40.0 / 44.0, abs=0.01), "the forecast made at its start is made anew"
    assert live.curve.charge_Ah == pytest.approx(live.held * forecast(recipe, USUAL).charge_Ah, rel=0.02)
    width, before = (band.high - band.low for band in (found.charge_Ah, alone.charge_Ah))
    assert width < 0.4 * before and found.charge_Ah.low < 40.1 < found.charge_Ah.high
