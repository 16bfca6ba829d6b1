"""The plan of an open book, drawn up beside everything else and again whenever something it stands on has changed."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Mapping
from datetime import datetime, timedelta
from functools import partial
from typing import TYPE_CHECKING

from wintry_tally.app.apart import HELPER
from wintry_tally.app.opening import attended_of
from wintry_tally.app.safety import quarantines_of
from wintry_tally.app.shelf import Jobs
from wintry_tally.book.feed import Topic
from wintry_tally.core.errors import WintryError

# what draws up a plan needs NumPy: it is loaded once something stands on the screen
if TYPE_CHECKING:
    from wintry_tally.app.campaign import Drawn
    from wintry_tally.app.open_book import OpenBook
    from wintry_tally.book import Run
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.plan.standing import Standing

SECONDS = 4.0
QUIET_S = 2.0
"""The solver is asked once nothing was changed for so long: a plan is sound without it."""
STALE = timedelta(minutes=15)
"""After so long a plan is drawn up anew even where nothing was told: a running test may have slipped."""
STANDS_ON = {Topic.SAMPLES, Topic.SAMPLE, Topic.ENTERED, Topic.RUNS, Topic.BENCH, Topic.RULE, Topic.PLAN}


class Planner:
    """The newest plan of one open book. All of it is used on one thread; only the drawing up is not."""

    def __init__(self, opened: OpenBook, jobs: Jobs, ready: Callable[[], None], failed: Callable[[str], None]) -> None:
        self._open, self._jobs, self._ready, self._failed = opened, jobs, ready, failed
        self.drawn: Drawn | None = None
        self._stale, self._busy, self._closed = True, False, False
        self._changed_at = 0.0
        self._next: Drawn | None = None
        """The plan that the solver is to better."""

    @property
    def at_work(self) -> bool:
        """Whether one is being drawn up."""
        return self._busy

    def changed(self, topic: Topic) -> None:
        """Something was told of the book."""
        if topic in STANDS_ON:
            self.outdated()

    def outdated(self) -> None:
        """Whatever is known no longer holds."""
        self._stale, self._next = True, None
        self._changed_at = time.monotonic()

    def ask(self) -> Drawn | None:
        """The newest plan; where it no longer holds, another is drawn up and `ready` follows."""
        if not self._open.shelf.at_work:
            return None
        now = datetime.now().astimezone()
        old = self.drawn is not None and now - self.drawn.made > STALE
        if (self._stale or old) and not self._busy and not self._closed:
            standings = self._gathered(now)
            if standings is not None:
                self._stale = False
                self._draw(standings, now, thorough=False)
        return self.drawn

    def go_on(self) -> None:
        """Call now and then: the solver is asked for a better one while somebody looks on and nothing changes."""
        if self._next is None or self._busy or self._closed or time.monotonic() - self._changed_at < QUIET_S:
            return
        quick, self._next = self._next, None
        self._draw(lambda: quick.standings, quick.made, thorough=True)

    def what_if(self, more: str, told: Callable[[str], None]) -> None:
        """Draw it up once as if there were one more of something; `told` is called with what that would change."""
        from wintry_tally.app.campaign import draw_up, what_if_words

        drawn, now = self.drawn, datetime.now().astimezone()
        if drawn is None or self._closed:
            told("There is no plan yet.")
            return
        equipment, attended = self._open.equipment, attended_of(self._open.book)

        def work(_job: object) -> str:
            other = HELPER.call(
                draw_up, drawn.standings, equipment, attended, drawn.wishes, {}, now, SECONDS, True, more,
                cancelled=lambda: self._closed,
            )  # fmt: skip
            return what_if_words(drawn, other, more, now)

        self._jobs.start(work, told, self._failed)

    def close(self) -> None:
        """Nothing more is wanted."""
        self._closed = True

    def _gathered(self, now: datetime) -> Callable[[], Mapping[int, Standing]] | None:
        """What says where every sample stands, to be called on any thread; None while verdicts are still being worked out."""
        from wintry_tally.app.campaign import foretold_end, standings_of
        from wintry_tally.app.wishes import wishes_of

        opened = self._open
        dossiers = {sample.id: opened.dossier(sample.id) for sample in opened.samples}
        if any(dossiers[sample.id] is None and sample.claims for sample in opened.samples):
            return None

        live = {sample.id: one.ends_at() for sample in opened.samples if (one := opened.live.of_sample(sample.id))}

        def ends_of(run: Run, sample: Sample) -> datetime | None:
            return live[sample.id] if sample.id in live else foretold_end(run, sample)

        held = quarantines_of(opened.book)  # nobody plans for what may not be used
        return partial(
            standings_of, [sample for sample in opened.samples if sample.id not in held], opened.runs_by_sample(),
            lambda sample: dossiers[sample.id], ends_of, wishes_of(opened.book), opened.equipment, now, opened.known.banks,
        )  # fmt: skip

    def _draw(self, standings: Callable[[], Mapping[int, Standing]], now: datetime, thorough: bool) -> None:
        from wintry_tally.app.campaign import draw_up, keep_plan, kept_plan
        from wintry_tally.app.wishes import wishes_of

        book, equipment = self._open.book, self._open.equipment
        attended, wishes = attended_of(book), wishes_of(book)
        self._busy = True

        def drawn(made: Drawn) -> None:
            self._busy = False
            if self._closed:
                return
            if not thorough:
                self.drawn = made
                self._next = None if self._stale else made
                self._ready()
                return
            if self._stale:
                return
            self.drawn = made
            self._ready()

        def failed(words: str) -> None:
            self._busy = False
            # what was broken off because something changed is drawn up again, and nobody has to know
            if not self._closed and not self._stale:
                self._failed(words)

        seconds = SECONDS if thorough else 0.0

        def work(_job: object) -> Drawn:
            given = (standings(), equipment, attended, wishes, kept_plan(book, now), now, seconds, thorough)
            made: Drawn = HELPER.call(draw_up, *given, cancelled=lambda: self._closed or self._stale)
            if thorough and not (self._closed or self._stale):
                with contextlib.suppress(WintryError):  # one that is not kept only moves more the next time
                    keep_plan(book, made)
            return made

        self._jobs.start(work, drawn, failed)
