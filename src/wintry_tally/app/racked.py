"""Which tags of a rack are shown, and in which order they hang."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

from wintry_tally.core.verdict.outcome import Outcome

if TYPE_CHECKING:
    from wintry_tally.book import Run
    from wintry_tally.core.battery import Sample

WHICH = {
    "": "all", "running": "running", "hands": "waits for hands", "open": "unfinished", "missed": "with a miss", "off": "taken off",
}  # fmt: skip
"""Tags that may be asked for, each in words; `off`: those that hang no longer."""
ORDERS = {"": "as hung", "code": "by code", "newest": "newest test", "model": "by model", "family": "by family"}
OPEN = frozenset({Outcome.NOT_TESTED, Outcome.TOO_CLOSE})


def is_asked_for(which: str, outcomes: Sequence[Outcome] | None, runs: Sequence[Run], waits: bool) -> bool:
    """Whether a tag is one of those asked for; `waits`: its test wants hands. What is not known yet is shown as unfinished."""
    last = runs[-1] if runs else None
    if which == "running":
        return last is not None and last.status == "running"
    if which == "hands":
        return waits
    if which == "open":
        return not outcomes or any(one in OPEN for one in outcomes)
    if which == "missed":
        return outcomes is not None and Outcome.MISSED in outcomes
    return True


def in_order(samples: Sequence[Sample], order: str, runs: Mapping[int, Sequence[Run]]) -> Iterable[tuple[str, Sample]]:
    """The tags as they hang, each with the heading it hangs under ("" for none); those alike as they came."""
    if order == "code":
        return [("", one) for one in sorted(samples, key=lambda one: (one.code.lower(), one.id))]
    if order == "newest":
        return [("", one) for one in sorted(samples, key=lambda one: -_newest(runs.get(one.id, ())))]
    if order == "model":
        return [(one.title, one) for one in sorted(samples, key=lambda one: one.title.lower())]
    if order == "family":
        return [(one.family.words, one) for one in sorted(samples, key=lambda one: one.family.words)]
    return (("", one) for one in samples)  # as they come: none is looked at before it hangs


def _newest(runs: Sequence[Run]) -> float:
    return max(((run.ended or run.started).timestamp() for run in runs), default=0.0)
