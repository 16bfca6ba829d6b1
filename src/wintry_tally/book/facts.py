"""A run of the book as the facts a report needs."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from wintry_tally.book.records import Run


def facts_values(run: Run) -> dict[str, Any]:
    """The values of `report.dossier.RunFacts` for a run; the layers above join the two.

    A run whose instrument nobody named shares its errors with no other.
    """
    options = run.settings.options(repair=run.repair)
    if not options.instrument.name:
        options = replace(options, instrument=replace(options.instrument, name=f"of run {run.id}"))
    return {
        "id": run.id,
        "title": run.title,
        "method": run.method,
        "started": run.started,
        "cause": run.cause,
        "detail": run.detail,
        "left_out": run.left_out,
        "options": options,
        "original_name": run.original_name,
        "test": str(run.recipe.get("method", "")),
        "recipe": str(run.recipe.get("name", "")),
        "cautions": tuple(str(text) for text in run.recipe.get("cautions", ())),
    }
