"""The runs of an open book as they are known: read once, and again when the feed speaks of them.

What is running changes without a note (its state, who holds it), so a sample with a running test is read each time.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from wintry_tally.book.records import RunStatus

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from wintry_tally.book import Book, Run
    from wintry_tally.core.battery import Sample


class KnownRuns:
    """The runs of every sample, oldest first. Used on one thread."""

    def __init__(self, book: Book, samples: Callable[[], Iterable[Sample]]) -> None:
        self._book, self._samples = book, samples
        self._known: dict[int, tuple[Run, ...]] | None = None

    def of(self, sample_id: int) -> list[Run]:
        """Those of a sample."""
        known = self._all()
        found = known.get(sample_id)
        if found is None or any(run.status is RunStatus.RUNNING for run in found):
            found = known[sample_id] = tuple(self._book.runs.all(sample_id))
        return list(found)

    def forget(self, sample_id: int | None = None) -> None:
        """Something about the runs of a sample, or of any, has changed."""
        if sample_id is None:
            self._known = None
        elif self._known is not None:
            self._known.pop(sample_id, None)

    def _all(self) -> dict[int, tuple[Run, ...]]:
        if self._known is None:
            every: dict[int, list[Run]] = {sample.id: [] for sample in self._samples()}
            for run in self._book.runs.all():
                every.setdefault(run.sample_id, []).append(run)
            self._known = {number: tuple(runs) for number, runs in every.items()}
        return self._known
