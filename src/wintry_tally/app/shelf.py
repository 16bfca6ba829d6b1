"""Dossiers as they are worked out: which are known, which are being worked out, which no longer hold."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from wintry_tally.book import Book
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.verdict.outcome import School
    from wintry_tally.report.dossier import Dossier, RunReport


class Jobs(Protocol):
    """Whoever does work beside everything else and delivers it on the thread that asked."""

    def start(
        self, work: Callable[[Any], Any], done: Callable[[Any], None], failed: Callable[[str], None] | None = None
    ) -> object:
        """Do `work`; one of the two others is called with what came of it."""


class Shelf:
    """The dossiers of one open book. All of it is used on one thread; only the working out is not."""

    def __init__(self, book: Book, jobs: Jobs, ready: Callable[[int], None], failed: Callable[[str], None]) -> None:
        self._book, self._jobs, self._ready, self._failed = book, jobs, ready, failed
        self._known: dict[int, Dossier] = {}
        self._reports: dict[tuple[Any, ...], RunReport] = {}
        self._pending: set[int] = set()
        self._outdated: set[int] = set()
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

    def forget(self, sample_id: int | None = None) -> None:
        """What was worked out of a sample, or of all, no longer holds, nor what is being worked out just now."""
        if sample_id is None:
            self._known.clear()
            self._outdated |= self._pending
            return
        self._known.pop(sample_id, None)
        if sample_id in self._pending:
            self._outdated.add(sample_id)

    def close(self) -> None:
        """Nothing that is still being worked out is wanted."""
        self._closed = True

    def _work_out(self, sample: Sample, school: School) -> Dossier:
        from wintry_tally.app.dossiers import dossier_of

        return dossier_of(self._book, sample, school, self._reports)

    def _worked_out(self, sample_id: int, made: Dossier) -> None:
        if self._closed:
            return
        self._pending.discard(sample_id)
        if sample_id not in self._outdated:
            self._known[sample_id] = made
        self._outdated.discard(sample_id)
        self._ready(sample_id)

    def _not_worked_out(self, sample_id: int, text: str) -> None:
        self._pending.discard(sample_id)
        self._outdated.discard(sample_id)
        if not self._closed:
            self._failed(text)
