"""A run of the book as the facts a report needs."""

from __future__ import annotations

from typing import Any

from wintry_tally.book.records import Run


def facts_values(run: Run) -> dict[str, Any]:
    """The values of `report.dossier.RunFacts` for a run; the layers above join the two."""
    return {
        "id": run.id,
        "title": run.title,
        "method": run.method,
        "started": run.started,
        "cause": run.cause,
        "detail": run.detail,
        "left_out": run.left_out,
        "options": run.settings.options(repair=run.repair),
        "original_name": run.original_name,
        "test": str(run.recipe.get("method", "")),
        "cautions": tuple(str(text) for text in run.recipe.get("cautions", ())),
    }
