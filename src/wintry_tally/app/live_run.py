"""One run under way: its worker, what it is doing, and what is to come of it."""

from __future__ import annotations

import contextlib
import math
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING

from wintry_tally.app.launch import ambient_of, full_of
from wintry_tally.book import Run
from wintry_tally.core.engine import LIVE, Phase
from wintry_tally.core.errors import WintryError
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.quantity.moments import later

if TYPE_CHECKING:
    from wintry_tally.app.outlooks import LiveOutlook
    from wintry_tally.bench.guided import GuidedLoop
    from wintry_tally.bench.snapshot import Snapshot
    from wintry_tally.bench.worker import RunWorker
    from wintry_tally.book import Book
    from wintry_tally.core.cell import Parameters
    from wintry_tally.core.plan import Forecast, LiveForecast, Onward, Outlook
    from wintry_tally.core.protocol.recipe import Step
    from wintry_tally.report.dossier import Dossier

RATED_SHARE, TESTED_SHARE = 0.08, 0.03
"""How far a battery may be from what its rating, or its last test, says before its readings tell: one standard deviation, as a
share; common practice."""
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
    before: Callable[[], Dossier | None] = lambda: None
    held: float = 1.0
    handing: bool = False
    _outlook: LiveOutlook | None = None
    _onward: Onward | None = None
    _onward_for: tuple[object, ...] = ()
    _onward_at: tuple[float, float] = (0.0, 0.0)
    _held_ahead: tuple[int, LiveForecast | None] = (-1, None)
    _held_onward: tuple[int, Onward | None, float] = (-1, None, 0.0)
    """What was told last while current flowed: of which step, and how long ago. It holds while the run is paused."""

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
        """The forecast of the end of its one discharge, from now, by what was drawn until its last reading; else None."""
        from wintry_tally.core.plan import live_forecast

        self._as_tested()
        seen = self.latest
        if self.one_discharge and seen.state.phase is Phase.PAUSED and self._held_ahead[0] == seen.state.index:
            return self._held_ahead[1]
        if not self.one_discharge or seen.state.phase is not Phase.DISCHARGING:
            return None
        known = self.outlook()
        if known is not None and _runs_out(self.recipe.steps[seen.state.index], known[0]):
            found: LiveForecast | None = _as_live(*known, seen, self.unread_s if seen.fresh else 0.0)
        else:
            doubt = TESTED_SHARE if self.held != 1.0 else RATED_SHARE
            found = live_forecast(
                self.run.settings.rated_Ah or 0.0,
                seen.state.charge_Ah,
                seen.current_A,
                seen.voltage_V,
                self.curve,
                doubt,
            )
            found = None if found is None else found.later(self.unread_s)
        self._held_ahead = (seen.state.index, found)
        return found

    def _as_tested(self) -> None:
        """The forecast made at the start, anew once it is worked out what the battery gave before."""
        from wintry_tally.app.comparison import held_by

        held = held_by(self.before())
        if held not in {1.0, self.held}:
            self.held, (self.parameters, self.curve) = held, foretold(self.run, self.recipe, held)

    def outlook(self) -> tuple[Outlook, float] | None:
        """How the stage in progress will end by its readings so far, and when it began; None while there is none."""
        if self._outlook is None:
            from wintry_tally.app.outlooks import LiveOutlook

            self._outlook = LiveOutlook(self.run, self.recipe, self.before)
        return self._outlook.newest(self.latest, self.worker.curve())

    @property
    def unread_s(self) -> float:
        """How long the last reading of a run by hand is ago while current flows; 0 for any other run."""
        return self.guide.unread_s if self.guide is not None else 0.0

    def ends_at(self) -> datetime | None:
        """When it will likely end, on the wall clock, at the speed it runs."""
        remaining = self.remaining_s()
        if remaining is None:
            return None
        return later(datetime.now().astimezone(), remaining / max(1.0, self.worker.speed))

    def onward(self) -> tuple[Onward | None, float]:
        """The model's way on, for runs of several steps and charges, and how long ago it began, s of the run's time.

        Worked out anew with each step, and every few seconds of the wall's clock or minutes of the run's.
        """
        from wintry_tally.core.engine import Observation
        from wintry_tally.core.plan import onward

        self._as_tested()
        seen = self.latest
        if seen.state.phase is Phase.PAUSED and self._held_onward[0] == seen.state.index:
            return self._held_onward[1:]
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
        known = self.outlook() if seen.state.phase is Phase.CHARGING else None
        found = self._onward
        if known is not None and found is not None:
            found = _as_onward(*known, seen, found, ago, self.recipe.steps[seen.state.index])
        if seen.state.phase in LIVE:
            self._held_onward = (seen.state.index, found, ago)
        return found, ago

    def remaining_s(self) -> float | None:
        """Seconds of its own time until its last current flows, or until its last rest is over."""
        ahead = self.ahead()
        if ahead is not None:
            return ahead.remaining_s
        if self.latest.ended or not self.recipe.live:
            return None
        to_come, ago = self.onward()
        if to_come is None:
            return None
        return max(0.0, (to_come.end_s if to_come.end_s > 0 else to_come.step_s) - ago)


def foretold(run: Run, recipe: Recipe, held: float) -> tuple[Parameters, Forecast]:
    """The battery model of a run, holding a share of what is usual for its rating, and its forecast at the start."""
    from wintry_tally.core.cell import aged, parameters_for
    from wintry_tally.core.plan import forecast

    settings = run.settings
    parameters = aged(parameters_for(settings.pack, settings.rated_Ah or 1.0), held)
    return parameters, forecast(recipe, parameters, ambient_of(settings), full=full_of(settings))


def _runs_out(part: Step, found: Outlook) -> bool:
    """Whether a step ends by what the battery gives: a hold ends by its time, and the model's curve knows that."""
    timed = min((rule.value for rule in part.ends if rule.kind == "time"), default=math.inf)
    return timed > found.ends_s.high and not any(rule.kind == "moved" for rule in part.ends)


def _as_live(found: Outlook, begun_s: float, seen: Snapshot, since_s: float) -> LiveForecast:
    """The end of a discharge from now, `since_s` after the snapshot, and what it will have drawn."""
    from wintry_tally.core.plan import LiveForecast

    gone, drawn = seen.elapsed_s + since_s - begun_s, seen.state.charge_Ah
    left = (max(0.0, at - gone) for at in (found.ends_s.value, found.ends_s.low, found.ends_s.high))
    total = (max(drawn, Ah) for Ah in (found.charge_Ah.value, found.charge_Ah.low, found.charge_Ah.high))
    return LiveForecast(*left, *total)


def _as_onward(found: Outlook, begun_s: float, seen: Snapshot, model: Onward, ago: float, part: Step) -> Onward:
    """The model's way on with this step's end as the readings tell it; what comes after it stays the model's."""
    gone = seen.elapsed_s - begun_s - ago
    longest = min((rule.value for rule in part.ends if rule.kind == "time"), default=math.inf)
    value, early, late = (
        max(0.0, min(at, longest) - gone) for at in (found.ends_s.value, found.ends_s.low, found.ends_s.high)
    )
    after = max(0.0, model.end_s - model.step_s)
    return replace(
        model, step_s=value, end_s=value + after, early_s=early + after, late_s=late + after,
        step_Ah=max(0.0, found.charge_Ah.value - seen.state.step_Ah),
    )  # fmt: skip


def show_past(worker: RunWorker, book: Book, run_id: int) -> None:
    """Give a run that was taken up the curve of its past, however long that takes to read."""
    from wintry_tally.bench.worker import CURVE_POINTS

    with contextlib.suppress(WintryError):  # the book may be closed by then; the curve begins where the run goes on
        worker.seed_curve(book.runs.past(run_id, CURVE_POINTS))
