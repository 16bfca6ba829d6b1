"""Dossiers as they are worked out: which are known, which are being worked out, which no longer hold."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from wintry_tally.app.dossiers import Gathered
    from wintry_tally.book import Book
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.verdict.outcome import Outcome, School
    from wintry_tally.report.dossier import Dossier, RunReport


class Jobs(Protocol):
    """Whoever does work beside everything else and delivers it on the thread that asked."""

    def start(
        self, work: Callable[[Any], Any], done: Callable[[Any], None], failed: Callable[[str], None] | None = None
    ) -> object:
        """Do `work`; one of the two others is called with what came of it."""


class Shelf:
    """The dossiers of one open book. All of it is used on one thread; only the working out is not."""

    def __init__(
        self, book: Book, jobs: Jobs, ready: Callable[[int], None], failed: Callable[[str], None],
        outcomes: Mapping[int, tuple[Outcome, ...]],
    ) -> None:  # fmt: skip
        self._book, self._jobs, self._ready, self._failed = book, jobs, ready, failed
        self._known: dict[int, Dossier] = {}
        self._outcomes = dict(outcomes)
        self._reports: dict[tuple[Any, ...], RunReport] = {}
        self._pending: set[int] = set()
        self._outdated: set[int] = set()
        self._gathered: Gathered | None = None
        self._changed: set[int] | None = None
        """Samples of which something changed since everything was gathered; None: all of them."""
        self._closed = False
        self.at_work = False
        """Nothing is worked out before this is set: what is on the screen comes first."""

    def dossier(self, sample: Sample, school: School) -> Dossier | None:
        """Everything on a sample; None while it is being worked out, `ready` follows."""
        known = self._known.get(sample.id)
        if known is None and self.at_work and sample.id not in self._pending and not self._closed:
            self._pending.add(sample.id)
            self._jobs.start(
                lambda _job: self._work_out(sample, school),
                lambda made: self._worked_out(sample.id, made),
                lambda text: self._not_worked_out(sample.id, text),
            )
        return known

    def outcomes(self, sample_id: int) -> tuple[Outcome, ...] | None:
        """How each claim of a sample stands, where that is known, though its dossier may not be there yet."""
        return self._outcomes.get(sample_id)

    def every_outcome(self) -> dict[int, tuple[Outcome, ...]]:
        """Of every sample of which they are known."""
        return dict(self._outcomes)

    def work_out(self, samples: Sequence[Sample], school: School) -> None:
        """Have all of them worked out, from what the book holds of them read in one go."""
        if not self.at_work or self._closed:
            return
        self._changed = set()
        self._jobs.start(lambda _job: self._gather(), lambda _none: None, self._failed)
        for sample in samples:
            self.dossier(sample, school)
        self._jobs.start(lambda _job: None, lambda _none: self._let_go())

    def _gather(self) -> None:
        from wintry_tally.app.dossiers import gathered

        self._gathered = gathered(self._book)

    def _let_go(self) -> None:
        self._gathered = self._changed = None

    def forget(self, sample_id: int | None = None) -> None:
        """What was worked out of a sample, or of all, no longer holds, nor what is being worked out just now."""
        if sample_id is None:
            self._known.clear()
            self._outcomes.clear()
            self._outdated |= self._pending
            return  # what was read of the book still holds
        if self._changed is not None:
            self._changed.add(sample_id)
        self._known.pop(sample_id, None)
        self._outcomes.pop(sample_id, None)
        if sample_id in self._pending:
            self._outdated.add(sample_id)

    def close(self) -> None:
        """Nothing that is still being worked out is wanted."""
        self._closed = True

    def _work_out(self, sample: Sample, school: School) -> Dossier:
        from wintry_tally.app.dossiers import dossier_of

        # a set that grows on another thread: whoever is in it by now is read anew, whoever comes later is outdated
        changed = self._changed
        holds = changed is not None and sample.id not in changed
        return dossier_of(self._book, sample, school, self._reports, self._gathered if holds else None)

    def _worked_out(self, sample_id: int, made: Dossier) -> None:
        if self._closed:
            return
        self._pending.discard(sample_id)
        if sample_id not in self._outdated:
            self._known[sample_id] = made
            self._outcomes[sample_id] = tuple(verdict.outcome for verdict in made.verdicts)
        self._outdated.discard(sample_id)
        self._ready(sample_id)

    def _not_worked_out(self, sample_id: int, text: str) -> None:
        self._pending.discard(sample_id)
        self._outdated.discard(sample_id)
        if not self._closed:
            self._failed(text)
