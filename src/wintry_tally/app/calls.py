"""Calling a person: once for each thing of a live run that needs one, and for its end."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wintry_tally.core.engine import LIVE, Phase
from wintry_tally.core.protocol import EndCause
from wintry_tally.core.protocol.recipe import CAUSE_WORDS

if TYPE_CHECKING:
    from wintry_tally.app.listening import Listener
    from wintry_tally.app.live_run import LiveRun

SOON_S, SOON_AFTER_S = 300.0, 1800.0
"""A run of more than half an hour calls five minutes before its end."""
TOLD_IN_FULL = frozenset({EndCause.NOT_PROVEN, EndCause.DISTURBED, EndCause.PROGRAM, EndCause.INSTRUMENT})


class Calls:
    """What was called out of each run; asks no book."""

    def __init__(self, listener: Listener) -> None:
        self._listener = listener
        self._told: dict[tuple[int, str], str] = {}

    def ended(self, item: LiveRun) -> None:
        """It has ended: why, and what is left to do by hand."""
        ended = item.latest.state
        cause: str = "it ended" if ended.cause is None else CAUSE_WORDS[ended.cause]
        if ended.cause in TOLD_IN_FULL and ended.detail:
            cause = f"{cause}: {ended.detail}"
            self._listener.failed(f"{item.run.title} has ended: {cause}")
        by_hand = " Switch everything off now, at the load and at the charger." if item.guide else ""
        self._listener.said(f"{item.run.title} has ended: {cause}.{by_hand}")
        if by_hand:  # nothing here can switch it off: said until it is dismissed
            self._listener.failed(f"{item.run.title} has ended: {cause}.{by_hand}")
        self._listener.rang(f"{item.run.title} has ended", f"{cause}.{by_hand}" if by_hand else cause)

    def for_what_it_wants(self, item: LiveRun) -> None:
        """Call a person once for each thing that needs one: trouble, a prompt, an end that comes near."""
        number, seen = item.run.id, item.latest
        now = " ".join(part.code for part in seen.troubles)
        if seen.trouble and now != self._told.get((number, "trouble")):
            # wherever one looks just now: this cannot wait
            self._listener.failed(f"{item.run.title}: {seen.trouble}")
            self._listener.rang("Needs your hands now", seen.trouble, grave=True)
        self._told[number, "trouble"] = now
        stood = item.worker.stood_still
        if stood and stood != self._told.get((number, "stood")):
            self._told[number, "stood"] = stood
            self._listener.failed(f"{item.run.title} is paused: {stood}")
            self._listener.rang("Paused", f"{item.run.title}: {stood}", grave=True)
        place = str(seen.state.index)
        for key, words in seen.state.warned:
            if (number, f"warned {place} {key}") not in self._told:
                self._told[number, f"warned {place} {key}"] = "told"
                self._listener.rang("Warning", f"{item.run.title}: {words}", grave=True)
        if seen.state.phase is Phase.PROMPTING and self._told.get((number, "prompt")) != place:
            step = item.recipe.steps[seen.state.index]
            self._told[number, "prompt"] = place
            self._listener.rang("Needs your hands", f"{item.run.title}: {step.words or step.title}")
        self._for_reading(item)
        lasted = seen.state.load_s + seen.state.charge_s
        near = seen.state.phase in LIVE and lasted > SOON_AFTER_S and item.worker.speed == 1.0
        if near and (number, "soon") not in self._told:
            remaining = item.remaining_s()
            if remaining is not None and remaining < SOON_S:
                self._told[number, "soon"] = "told"
                words = f"{item.run.title} ends in about {remaining / 60:.0f} min"
                self._listener.rang("Ends soon", words)

    def _for_reading(self, item: LiveRun) -> None:
        """Call once for each reading that is due on a run by hand."""
        due = item.guide.due_in_s if item.guide is not None else None
        key = (item.run.id, "reading")
        if due is None or due > 0:
            self._told.pop(key, None)
        elif key not in self._told:
            self._told[key] = "told"
            self._listener.rang("A reading is due", f"{item.run.title}: {item.latest.asks}")
