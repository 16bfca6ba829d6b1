"""What the day asks for ahead of time: a call before something needs hands, and who of the bench does not answer today."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING

from wintry_tally.core.errors import InputError

if TYPE_CHECKING:
    from wintry_tally.app.campaign import Drawn
    from wintry_tally.app.listening import Background
    from wintry_tally.bench.equipment import Equipment, Instrument

AHEAD = timedelta(minutes=10)
"""So long before it needs hands something is called out."""
PAST = timedelta(minutes=10)
"""What was due so long ago is no longer called out: it stands on the page."""
ROLL_S = 20.0
"""So long after a book is opened its instruments are asked for the first time; later at the first look of a day."""


class Ahead:
    """Calls each thing that will need hands once, shortly before."""

    def __init__(self) -> None:
        self._told: set[tuple[str, str]] = set()

    def due(self, drawn: Drawn | None, now: datetime) -> list[str]:
        """What is to be called out now, in words; each once, however the plan is drawn anew."""
        if drawn is None:
            return []
        from wintry_tally.app.campaign import UNDER_WAY
        from wintry_tally.core.plan.hands import all_hands
        from wintry_tally.core.quantity.moments import clock_words

        found = []
        for one in all_hands(drawn.plan):
            at = drawn.moment(one.slot)
            key = (one.task.id, one.what)
            # what runs calls by itself when it wants somebody
            if one.task.id.startswith(UNDER_WAY) or not now - PAST <= at <= now + AHEAD or key in self._told:
                continue
            self._told.add(key)
            found.append(f"{one.task.sample}: {one.what}, {clock_words(at, now)}")
        return found


class RollCall:
    """Asks every instrument of the bench once a day, beside everything else; never one that a run has."""

    def __init__(self, equipment: Callable[[], Equipment], background: Background, heard: Callable[[], None]) -> None:
        self._equipment, self._background, self._heard = equipment, background, heard
        self.silent: dict[str, str] = {}
        self._asked: date | None = None

    def follow(self, now: datetime, open_for_s: float) -> None:
        """Ask where nobody was asked today."""
        if self._asked == now.date() or open_for_s < ROLL_S:
            return
        self._asked = now.date()
        instruments = self._equipment().instruments
        if not instruments:
            self.silent = {}
            return
        found: dict[str, str] = {}

        def job() -> str:
            for instrument in instruments:
                problem = asked(instrument)
                if problem:
                    found[instrument.name] = problem
            return ""

        def done(_words: str) -> None:
            changed, self.silent = self.silent != found, found
            if changed:
                self._heard()

        self._background(job, done, lambda _words: None)

    def again(self) -> None:
        """The bench was changed: what was heard of it no longer holds."""
        self._asked = None


def asked(instrument: Instrument) -> str:
    """Why an instrument does not answer; nothing where it does, or where a run has it."""
    from wintry_tally.app.bench_book import look_at

    try:
        return look_at(instrument, "the roll call").problem
    except InputError:
        return ""
