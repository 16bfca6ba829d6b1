"""A run of the book as the facts that its report needs."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from wintry_tally.core.protocol.method import Method
from wintry_tally.report.dossier import RunFacts

if TYPE_CHECKING:
    from wintry_tally.book import Run
    from wintry_tally.core.analysis.place import PlaceHistory


def facts_of(run: Run, stood: PlaceHistory | None = None) -> RunFacts:
    """The facts of a run; `stood`: what it was like where its battery stood before.

    A run whose instrument nobody named shares its errors with no other.
    """
    options = run.settings.options(repair=run.repair)
    if not options.instrument.name:
        options = replace(options, instrument=replace(options.instrument, name=f"of run {run.id}"))
    options = replace(options, begun_here=run.method not in {Method.IMPORTED, Method.HAND})
    if run.method is Method.HAND:
        options = replace(options, ended_by=run.settings.saw_end or run.cause)
    return RunFacts(
        id=run.id,
        title=run.title,
        method=run.method,
        started=run.started,
        cause=run.cause,
        detail=run.detail,
        left_out=run.left_out,
        options=options,
        original_name=run.original_name,
        test=str(run.recipe.get("method", "")),
        recipe=str(run.recipe.get("name", "")),
        cautions=tuple(str(text) for text in run.recipe.get("cautions", ())),
        stood=stood,
    )
