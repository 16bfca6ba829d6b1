"""How a live run's stage will end, worked out beside the window from its readings so far; see `core.plan.so_far`."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from wintry_tally.app.launch import ambient_of, full_of
from wintry_tally.core.battery import Family
from wintry_tally.core.engine import Phase
from wintry_tally.core.errors import WintryError
from wintry_tally.core.quantity import parse_accuracy

if TYPE_CHECKING:
    from wintry_tally.bench.snapshot import Snapshot
    from wintry_tally.book import Run
    from wintry_tally.core.plan import Outlook, SoFar
    from wintry_tally.core.protocol import Recipe
    from wintry_tally.core.protocol.recipe import Step
    from wintry_tally.report.dossier import Dossier

EVERY_S, SOONEST_S, MOVED, PAUSE = 60.0, 1.0, 0.03, 8.0
"""Anew after so long on the wall's clock, or sooner when so large a share more of the stage has passed; but not before so
many times as long as the last one took to work out has gone by: eight runs share one machine with the window."""
LEAST_POINTS, MOST_POINTS = 8, 1200
STATED_DOUBT = 0.08
"""A charge that a person states may be off by this much (one standard deviation); common practice."""
_POOL = ThreadPoolExecutor(max_workers=1, thread_name_prefix="outlook")

Point = tuple[float, float, float, float]
Before = Callable[[], "Dossier | None"]
"""What is known of the battery from before the run; None while that is not worked out."""


class LiveOutlook:
    """The newest outlook of one run's stage; `newest` never waits."""

    def __init__(self, run: Run, recipe: Recipe, before: Before) -> None:
        self._run, self._recipe, self._before = run, recipe, before
        self._dossier: Dossier | None = None
        self._earlier: list[SoFar] | None = None
        self._work: Future[Outlook] | None = None
        self._for: tuple[int, Phase, float] | None = None
        self._begun_s = self._before_Ah = self._asked_at = self._asked_s = self._took_s = 0.0
        """Of the stage that was asked for last; a new one begins when a pause is over."""
        self._known: tuple[Outlook, float] | None = None

    def newest(self, seen: Snapshot, points: list[Point]) -> tuple[Outlook, float] | None:
        """The outlook of the stage in progress and when the stage began, s of the run's time; None while there is none."""
        phase = seen.state.phase
        if phase not in {Phase.DISCHARGING, Phase.CHARGING}:
            return None
        stretch = (
            seen.state.index,
            phase,
            seen.state.step_since_s,
        )  # what was foretold before a pause knows nothing of it
        if stretch != self._for:
            self._for, self._known, self._work = stretch, None, None
        if self._work is not None and self._work.done():
            if self._work.exception() is None:
                self._known = _moved_before(self._work.result(), self._before_Ah), self._begun_s
            self._work = None
        if self._work is None and self._stale(seen):
            self._ask(seen, points)
        return self._known

    def _stale(self, seen: Snapshot) -> bool:
        age = time.monotonic() - self._asked_at
        if self._known is None:
            return age > SOONEST_S
        lasted = max(1.0, seen.elapsed_s - self._begun_s)
        moved = age > EVERY_S or seen.elapsed_s - self._asked_s > MOVED * lasted
        return moved and age > max(SOONEST_S, PAUSE * self._took_s)

    def _ask(self, seen: Snapshot, points: list[Point]) -> None:
        from wintry_tally.core.plan import outlook

        self._asked_at, self._asked_s = time.monotonic(), seen.elapsed_s
        sign = 1.0 if seen.state.phase is Phase.DISCHARGING else -1.0
        own = [point for point in points if point[0] >= seen.state.step_since_s and sign * point[2] > 0.0]
        rated = self._run.settings.rated_Ah
        if len(own) < LEAST_POINTS or not rated:
            return
        self._begun_s = own[0][0]
        drawn_Ah = _drawn_Ah(own)
        self._before_Ah = max(0.0, seen.state.step_Ah - abs(drawn_Ah))
        family = self._run.settings.pack
        rested = [point[1] for point in points if point[0] < self._begun_s][-3:]
        stage = self._stage(seen, own, drawn_Ah, rested, family, rated)
        self._dossier = self._dossier or self._before()

        def work() -> Outlook:
            begun = time.monotonic()
            try:
                return outlook(stage, family, rated, earlier=self._whole_discharges())
            finally:
                self._took_s = time.monotonic() - begun

        self._work = _POOL.submit(work)

    def _whole_discharges(self) -> list[SoFar]:
        """This battery's earlier ones; their readings may have to be fetched from the book."""
        from wintry_tally.app.comparison import tested
        from wintry_tally.core.compare import whole_discharges

        if self._earlier is None and self._dossier is not None:
            try:
                self._earlier = whole_discharges(tested(self._dossier))
            except WintryError:  # nothing is remembered, then
                self._earlier = []
        return self._earlier or []

    def _stage(
        self, seen: Snapshot, own: list[Point], drawn_Ah: float, rested: list[float], family: Family, rated_Ah: float
    ) -> SoFar:
        from wintry_tally.core.plan import SoFar

        step, settings = self._recipe.steps[seen.state.index], self._run.settings
        rows = np.array(own[:: max(1, len(own) // MOST_POINTS)] + own[-1:])
        so_far_Ah = seen.state.charge_Ah - seen.state.put_in_Ah - drawn_Ah
        meter = settings.voltage_accuracy
        charging = seen.state.phase is Phase.CHARGING
        return SoFar(
            rows[:, 0] - rows[0, 0], rows[:, 1], rows[:, 2], "charge" if charging else "discharge",
            step.mode if step.mode in {"current", "power", "resistance"} else "current",
            seen.state.setting or abs(seen.current_A), seen.state.setting or abs(seen.current_A),
            step.limit_V, 0.01, _ends_V(step, family), _mark_A(step, family, rated_Ah),
            min(1.0, max(0.0, full_of(settings) - so_far_Ah / rated_Ah)),
            ambient_of(settings) if seen.temperature_C is None else seen.temperature_C,
            float(np.median(rested)) if rested else float("nan"),
            parse_accuracy(meter).limit(13.0, settings.voltage_resolution) / 3**0.5 if meter else 0.02,
            STATED_DOUBT,
        )  # fmt: skip


def _drawn_Ah(own: list[Point]) -> float:
    """What flowed between the first and the last of a stage's readings; negative where it was put in."""
    times, _, amps, _ = np.array(own).T
    return float(np.trapezoid(amps, times)) / 3600.0


def _moved_before(found: Outlook, moved_Ah: float) -> Outlook:
    """With what the step had moved before the first reading that the outlook counts from."""
    band = found.charge_Ah
    return replace(
        found, charge_Ah=replace(band, value=band.value + moved_Ah, low=band.low + moved_Ah, high=band.high + moved_Ah)
    )


def _ends_V(step: Step, family: Family) -> float:
    return next((rule.value for rule in step.ends if rule.kind == "voltage"), family.cutoff_V)


def _mark_A(step: Step, family: Family, rated_Ah: float) -> float:
    return next((rule.value for rule in step.ends if rule.kind == "taper"), family.full_taper_C * rated_Ah)
