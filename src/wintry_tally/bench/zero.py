"""What a current may read with nothing flowing: by the meter's specification, or learned by looking at it at rest."""

from __future__ import annotations

import math

from wintry_tally.bench.watch import FREE_A
from wintry_tally.core.engine import Observation
from wintry_tally.core.protocol import Recipe

LOOKED = 8
LEAST_A, MOST_A, MOST_SHARE = 0.01, 0.05, 0.02
"""What is learned lies between these, or this share of the recipe's largest current: more is a current."""


class Zero:
    """The zero of one run's meter. `specified` is None where nothing is known; `real`: it can be looked at."""

    def __init__(self, specified: float | None, recipe: Recipe, *, real: bool) -> None:
        self._known = specified is not None
        self._learns = specified is None and real
        self.amps = FREE_A if specified is None else specified
        settings = [part.setting for part in recipe.steps if part.mode in {"current", "charge"}]
        self._most = max(MOST_A, MOST_SHARE * max(settings, default=0.0))
        self._looked: list[float] = []

    @property
    def for_rules(self) -> float:
        """What no end rule takes for a current; 0 where nothing is known."""
        return self.amps if self._known else 0.0

    def look(self, seen: Observation) -> bool:
        """A usable reading with everything off; whether the zero has changed."""
        if not self._learns:
            return False
        self._looked = [*self._looked, seen.current_A][-LOOKED:]
        mean = math.fsum(self._looked) / len(self._looked)
        spread = max(self._looked) - min(self._looked)
        self._known = True
        self.amps = min(self._most, max(LEAST_A, abs(mean) + 2.0 * spread + 0.005))
        return True
