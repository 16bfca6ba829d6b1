"""One run under way: its worker, what it is doing, and what is to come of it."""

from __future__ import annotations

import time
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from wintry_tally.book import Run, RunSettings
from wintry_tally.core.engine import Phase
from wintry_tally.core.protocol import Recipe

if TYPE_CHECKING:
    from wintry_tally.bench.guided import GuidedLoop
    from wintry_tally.bench.loop import Snapshot
    from wintry_tally.bench.worker import RunWorker
    from wintry_tally.core.cell import Parameters
    from wintry_tally.core.plan import Forecast, LiveForecast, Onward

ONWARD_EVERY_S, ONWARD_MOST_S = 10.0, 300.0
"""The model's way on is worked out anew so often, s of the wall's clock: it takes some tens of milliseconds."""


@dataclass
class LiveRun:
    """A live run with its worker and its forecast; `guide` takes the readings of one that is walked through by hand."""

    run: Run
    recipe: Recipe
    worker: RunWorker
    curve: Forecast
    parameters: Parameters
    guide: GuidedLoop | None = None
    handing: bool = False
    _onward: Onward | None = None
    _onward_for: tuple[object, ...] = ()
    _onward_at: tuple[float, float] = (0.0, 0.0)

    @property
    def latest(self) -> Snapshot:
        """What it is doing."""
        return self.worker.latest

    @property
    def one_discharge(self) -> bool:
        """Whether its one live step is a discharge: then the curve so far says how far along it is."""
        live = [part.kind for part in self.recipe.steps if part.kind in {"discharge", "charge"}]
        return live == ["discharge"]

    def ahead(self) -> LiveForecast | None:
        """The forecast of the end of its one discharge, from what was drawn so far; None at any other time."""
        from wintry_tally.core.plan import live_forecast

        seen = self.latest
        if not self.one_discharge or seen.state.phase is not Phase.DISCHARGING:
            return None
        return live_forecast(
            self.run.settings.rated_Ah or 0.0, seen.state.charge_Ah, seen.current_A, seen.voltage_V, self.curve
        )

    @property
    def unread_s(self) -> float:
        """How long the last reading of a run by hand is ago while current flows; 0 for any other run."""
        return self.guide.unread_s if self.guide is not None else 0.0

    def ends_at(self) -> datetime | None:
        """When it will likely end, on the wall clock, at the speed it runs."""
        remaining = self.remaining_s()
        if remaining is None:
            return None
        return datetime.now().astimezone() + timedelta(seconds=remaining / max(1.0, self.worker.speed))

    def onward(self) -> tuple[Onward | None, float]:
        """The model's way on, for runs of several steps and charges, and how long ago it began, s of the run's time.

        Worked out anew with each step, and every few seconds of the wall's clock or minutes of the run's.
        """
        from wintry_tally.core.engine import Observation
        from wintry_tally.core.plan import onward

        seen = self.latest
        now = (seen.state.index, seen.state.phase, seen.state.setting)
        elapsed = seen.elapsed_s - self.unread_s
        ago, age = seen.elapsed_s - self._onward_at[0], time.monotonic() - self._onward_at[1]
        if now != self._onward_for or age > ONWARD_EVERY_S or (ago > ONWARD_MOST_S and age > 0.5):
            reading = Observation(seen.voltage_V, seen.current_A, seen.temperature_C)
            settings = self.run.settings
            self._onward = onward(
                self.recipe, seen.state, elapsed, reading, self.parameters, ambient_of(settings), full_of(settings),
                self.curve,
            )  # fmt: skip
            self._onward_for, self._onward_at, ago = now, (elapsed, time.monotonic()), self.unread_s
        return self._onward, ago

    def remaining_s(self) -> float | None:
        """Seconds of its own time until its last current flows, or until its last rest is over."""
        ahead = self.ahead()
        if ahead is not None:
            return max(0.0, ahead.remaining_s - self.unread_s)
        if self.latest.ended or not self.recipe.live:
            return None
        to_come, ago = self.onward()
        if to_come is None:
            return None
        return max(0.0, (to_come.end_s if to_come.end_s > 0 else to_come.step_s) - ago)


def ambient_of(settings: RunSettings) -> float:
    return 23.0 if settings.ambient_C is None else settings.ambient_C


def full_of(settings: RunSettings) -> float:
    """The stand-in's state of charge at the start, 0 to 1."""
    return float(settings.extra.get("state_of_charge", 1.0))
