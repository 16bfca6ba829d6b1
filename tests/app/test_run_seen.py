"""What a run under way shows, as data: figures worked out by hand, and which keys can be pressed in which phase."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import pytest

from wintry_tally.app.run_seen import Keys, figures_of, keys_of
from wintry_tally.core.engine import Phase, RunState


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
