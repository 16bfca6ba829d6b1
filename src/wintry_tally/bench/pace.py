"""How soon the next reading follows: quicker round switching and near an end, and at the usual pace between."""

from __future__ import annotations

from wintry_tally.core.engine import LIVE, Observation, RunState
from wintry_tally.core.engine.rules import at_limit, lasted_s
from wintry_tally.core.protocol import Recipe

QUICK_SHARE, QUICKEST_S, QUICK_S, QUICK_READINGS = 0.25, 0.2, 1.0, 5
"""Near an end readings follow at a quarter of the usual interval (no finer than a fifth of a second; a log whose usual
interval is far longer would read as full of gaps), and just after every switching by a second at the most."""
NEAR, NEAR_TAPER, NEAR_S = 1.012, 1.03, 3.0
"""An end is near at this share of a cut-off, this share of the taper current, so many seconds of a time."""


class Pace:
    """The pace of one run; `switched` and `doubted` make the next few readings quick."""

    def __init__(self, recipe: Recipe, usual_s: float) -> None:
        self._recipe, self.usual_s = recipe, usual_s
        self._quick = 0

    @property
    def quick(self) -> bool:
        """Whether readings follow quickly just now."""
        return self._quick > 0

    def switched(self) -> None:
        """Something was switched."""
        self._quick = QUICK_READINGS

    def doubted(self) -> None:
        """A reading could not be used."""
        self._quick = max(self._quick, 2)

    def taken(self) -> None:
        """A reading was taken."""
        self._quick = max(0, self._quick - 1)

    def next_s(self, state: RunState, seen: Observation, now_s: float) -> float:
        """Seconds until the next reading in a step under way."""
        usual = self._recipe.steps[state.index].every_s or self.usual_s
        fine = min(usual, max(QUICKEST_S, QUICK_SHARE * usual))
        if self.quick:
            return min(fine, QUICK_S)
        return fine if self._near_end(state, seen, now_s) else usual

    def _near_end(self, state: RunState, seen: Observation, now_s: float) -> bool:
        """Whether a rule of this step is about to hold."""
        if state.phase not in LIVE:
            return False
        part, volts, amps = self._recipe.steps[state.index], seen.voltage_V, abs(seen.current_A)
        for rule in part.ends:
            if rule.kind == "voltage" and volts <= NEAR * rule.value and amps > 0.0:
                return True
            if rule.kind == "taper" and at_limit(volts, part.limit_V) and amps <= NEAR_TAPER * rule.value:
                return True
            if rule.kind == "time" and rule.value - lasted_s(state, now_s) <= NEAR_S:
                return True
        return False
