"""What is drawn of runs: worked out once for each axis, beside everything else where a run is long."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wintry_tally.core.analysis import Integral
from wintry_tally.core.trace.outline import MANY, Outline, outline
from wintry_tally.report.views_of_trace import Against, Drawn, drawn

if TYPE_CHECKING:
    from wintry_tally.app.shelf import Jobs
    from wintry_tally.core.analysis import Analysis

AT_ONCE = 200_000
"""A run of so many readings is drawn at once; a longer one is worked out first."""
MOST = 16
"""So many are kept: a long one holds much."""
HIGHEST = 0.9999
"""This share of the voltages lies below the top of what is looked at: single leaps do not press a curve flat."""


@dataclass(frozen=True)
class Shape:
    """One run against one axis.

    Parts:
        drawn: its curves; integral: of its trace; outlines: of those curves that are long, by "voltage", "current".
        low_V, high_V: what to look at; None where hardly anything was connected.
    """

    drawn: Drawn
    integral: Integral
    outlines: Mapping[str, Outline]
    low_V: float | None
    high_V: float | None


def shape_of(analysis: Analysis, axis: Against) -> Shape:
    """Worked out here and now.

    Raises:
        WintryError: its trace cannot be read.
    """
    volts, family = analysis.trace.voltage_V, analysis.options.family
    alive = volts[volts > 0.5 * family.nominal_V] if family is not None else volts[np.isfinite(volts)]
    seen = len(alive) >= 3
    low, high = (float(np.min(alive)), float(np.quantile(alive, HIGHEST))) if seen else (None, None)
    curves = drawn(analysis, axis)
    many = len(curves.x) > MANY
    each = (("voltage", curves.voltage), ("current", curves.current)) if many else ()
    return Shape(curves, Integral(analysis.trace), {name: outline(curves.x, y) for name, y in each}, low, high)


class Shapes:
    """Those of one view. Used on one thread; only the working out is not."""

    def __init__(self, jobs: Jobs, failed: Callable[[str], None]) -> None:
        self._jobs, self._failed = jobs, failed
        self._known: dict[tuple[int, Against], tuple[Analysis, Shape]] = {}
        self._waiting: set[tuple[int, Against]] = set()

    def forget(self) -> None:
        """Other runs are looked at: what was worked out of a long one holds much."""
        self._known = {}

    def of(self, number: int, axis: Against) -> Shape:
        """A run's; only after `ready` said so."""
        return self._known[number, axis][1]

    def ready(self, runs: Sequence[tuple[int, Analysis]], axis: Against, again: Callable[[], None]) -> bool:
        """Whether those of all runs (by number) are there; where one is not, `again` is called once it is.

        A run that was analysed anew is worked out anew.
        """
        missing = {
            (number, axis): analysis
            for number, analysis in runs
            if (number, axis) not in self._known or self._known[number, axis][0] is not analysis
        }
        for key in [key for key in self._known if key not in {(number, axis) for number, _ in runs}][:-MOST]:
            del self._known[key]
        for key, analysis in list(missing.items()):
            if analysis.at_hand and len(analysis.trace) <= AT_ONCE:
                self._known[key] = analysis, shape_of(missing.pop(key), axis)
        for key, analysis in missing.items():
            if key not in self._waiting:
                self._work_out(key, analysis, again)
        return not missing

    def _work_out(self, key: tuple[int, Against], analysis: Analysis, again: Callable[[], None]) -> None:
        self._waiting.add(key)

        def done(found: Shape) -> None:
            self._waiting.discard(key)
            self._known[key] = analysis, found
            again()

        def failed(words: str) -> None:
            self._waiting.discard(key)
            self._failed(words)

        self._jobs.start(lambda _job: shape_of(analysis, key[1]), done, failed)
