"""Where a battery stood before a run, and what its place was like: from the log of the places to a verdict's evidence."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import numpy as np

from wintry_tally.core.analysis.place import GAP_S, LOOK_BACK_S, PlaceHistory, place_history
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.protocol.method import Method
from wintry_tally.exchange.recipe_file import shipped
from wintry_tally.report.dossier import ENDS_SHELF, STARTS_SHELF

if TYPE_CHECKING:
    from wintry_tally.book import Book, Run
    from wintry_tally.core.battery import Sample


def history(book: Book, place: str, begin: datetime, end: datetime, tau_s: float = 0.0) -> PlaceHistory:
    """What a place was like from one moment to another."""
    margin = timedelta(seconds=GAP_S)
    seen = book.places.between(place, begin - margin, end + margin)
    at = np.array([(one.at - begin).total_seconds() for one in seen], float)
    temperature = np.array([one.temperature_C for one in seen], float)
    return place_history(place, at, temperature, 0.0, (end - begin).total_seconds(), tau_s)


def stood_before(book: Book, sample: Sample, run: Run, earlier: list[Run]) -> PlaceHistory | None:
    """What it was like where a battery stood before a run that a soak or a shelf comes before; None for any other.

    What is simulated stood nowhere, unless somebody logged a place for it all the same.
    """
    found = _stood_before(book, sample, run, earlier)
    return None if found is None or (run.method is Method.SIMULATED and not found.readings) else found


def _stood_before(book: Book, sample: Sample, run: Run, earlier: list[Run]) -> PlaceHistory | None:
    name = str(run.recipe.get("name", ""))
    template = shipped().get(name)
    if name == ENDS_SHELF:
        start = next((one for one in reversed(earlier) if one.recipe.get("name") == STARTS_SHELF and one.ended), None)
        return None if start is None or start.ended is None else history(book, "shelf", start.ended, run.started)
    if template is None or template.programme is None or not template.programme.soak_h or not sample.rated_Ah:
        return None
    body = parameters_for(sample.family, sample.rated_Ah)
    tau_s = body.mass_kg * body.heat_J_kgK / body.loss_W_K
    return history(book, "freezer", run.started - timedelta(seconds=LOOK_BACK_S), run.started, tau_s)
