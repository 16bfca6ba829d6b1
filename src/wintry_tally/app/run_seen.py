"""What a run under way shows: its figures with their workings, and which of its keys can be pressed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from wintry_tally.core.engine import LIVE, Phase
from wintry_tally.core.quantity import format_duration, format_number
from wintry_tally.core.working import Working

if TYPE_CHECKING:
    from wintry_tally.app.live_run import LiveRun

LATER = "common practice; the uncertainty is worked out when the run ends"


@dataclass(frozen=True)
class Reading:
    """One figure: its title, its text and unit, how it comes about."""

    title: str
    text: str
    unit: str
    working: Working


@dataclass(frozen=True)
class Keys:
    """What a person can do now: pause or resume it, set another current, skip the step (shown, and pressed).

    `ends`: to skip it ends a discharge or a charge, which nothing takes back.
    """

    pause: str
    pausing: bool
    settable: bool
    skipping: bool
    skip: bool
    ends: bool


def figures_of(live: LiveRun) -> dict[str, Reading]:
    """The figures of a run, by name: what is read, and what was moved, drawn or put in."""
    seen, settings = live.latest, live.run.settings
    state = seen.state
    meter = f"{settings.voltage_accuracy} of voltage, {settings.current_accuracy} of current"
    raw = Working("Reading", "as shown by the meter", {"accuracy": meter}, "", "the meter's manual")
    filling = state.phase is Phase.CHARGING or (state.charge_Ah == 0.0 and state.put_in_Ah > 0.0)
    way = "put in" if filling else "drawn"
    moved, energy, lasted = (
        (state.put_in_Ah, state.put_in_Wh, state.charge_s)
        if filling
        else (state.charge_Ah, state.energy_Wh, state.load_s)
    )
    watts = seen.voltage_V * seen.current_A
    counted = Working(
        f"Charge {way} so far", "Q = Σ ½ (I₁ + I₂) Δt over the readings with current",
        {"with current": format_duration(lasted), "meter": meter}, f"{moved:.3f} Ah", LATER,
    )  # fmt: skip
    power = Working(
        "Power", "P = V × I", {"V": f"{seen.voltage_V:.3f} V", "I": f"{seen.current_A:.3f} A"}, f"{watts:.2f} W",
        "the reading just taken",
    )  # fmt: skip
    spent = Working(
        f"Energy {way} so far", "E = Σ ½ (V₁ I₁ + V₂ I₂) Δt over the readings with current",
        {"with current": format_duration(lasted)}, f"{energy:.2f} Wh", LATER,
    )  # fmt: skip
    timed = Working(
        "Time with current", "time between readings while current flows; pauses do not count", {}, f"{lasted:.0f} s",
        "the run's own clock",
    )  # fmt: skip
    charge = Reading(f"Charge {way}", f"{moved:.2f}", "Ah", counted)
    return {
        "Voltage": Reading("Voltage", format_number(seen.voltage_V, 2), "V", raw),
        "Current": Reading("Current", format_number(seen.current_A, 2), "A", raw),
        "Charge": charge,
        "Charge so far": charge,
        "Power": Reading("Power", format_number(watts, 1), "W", power),
        "Energy": Reading(f"Energy {way}", f"{energy:.1f}", "Wh", spent),
        "Under load": Reading("On charge" if filling else "Under load", format_duration(lasted), "", timed),
    }


def keys_of(live: LiveRun) -> Keys:
    """What can be done to a run now."""
    state, steps = live.latest.state, live.recipe.steps
    pausing = state.phase is Phase.PAUSED or state.phase in LIVE
    skip = state.phase not in {Phase.PAUSED, Phase.READY} and state.index + 1 < len(steps)
    return Keys(
        "Resume" if state.phase is Phase.PAUSED else "Pause",
        pausing,
        steps[state.index].mode in {"current", "charge"},
        len(steps) > 1,
        skip,
        skip and state.phase in LIVE,
    )
