"""Following up: what was done to a battery between its tests, what it lost from test to test, and which re-tests are asked for."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from wintry_tally.app.wishes import MOST_CYCLES
from wintry_tally.book.records import plain_of, read_as
from wintry_tally.core.battery.economy import USUAL_END
from wintry_tally.core.battery.sample import CyclesHad
from wintry_tally.core.errors import InputError

if TYPE_CHECKING:
    from wintry_tally.book import Book, Run
    from wintry_tally.core.compare.trend import Trend
    from wintry_tally.core.protocol.template import Template
    from wintry_tally.report.dossier import Dossier

CYCLES = "cycles"
"""Name of the book's small facts of a sample: cycles that it had elsewhere, as they were noted."""


@dataclass(frozen=True)
class Noted:
    """Cycles that a battery had elsewhere: how many, noted when."""

    at: datetime
    cycles: float


def noted_of(book: Book, sample_id: int) -> tuple[Noted, ...]:
    """What was noted of a sample, oldest first."""
    kept = book.meta(f"{CYCLES}:{sample_id}")
    if not kept:
        return ()
    with read_as("the cycles kept in the book"):
        found = [Noted(datetime.fromisoformat(str(one["at"])), float(one["cycles"])) for one in plain_of(kept)["noted"]]
        return tuple(sorted(found, key=lambda one: one.at))


def noted_text(noted: Iterable[Noted]) -> str:
    """As it is kept.

    Raises:
        InputError: a count that cannot be.
    """
    made = list(noted)
    wrong = next((one for one in made if not 0 < one.cycles <= MOST_CYCLES), None)
    if wrong is not None:
        raise InputError(f"{wrong.cycles:g} cycles cannot be", mend="note how many it had since it was noted last")
    return json.dumps(
        {"noted": [{"at": one.at.astimezone(UTC).isoformat(timespec="seconds"), "cycles": one.cycles} for one in made]}
    )


def cycles_had(dossier: Dossier, noted: Sequence[Noted]) -> CyclesHad:
    """How many whole cycles a battery has had before each of its runs (by title), and by now."""
    rated, here = dossier.sample.rated_Ah, 0.0
    found = {}
    for run in sorted(dossier.runs, key=lambda one: one.facts.started):
        found[run.facts.title] = here + sum(one.cycles for one in noted if one.at <= run.facts.started)
        if rated and run.analysis is not None and run.analysis.capacity is not None:
            here += run.analysis.capacity.count.charge.value / rated
    return CyclesHad(found, here + sum(one.cycles for one in noted))


def made_before(runs: Iterable[Run]) -> list[Template]:
    """The recipes by which a sample was tested, or the usual one of the method where a run had another; each once."""
    from wintry_tally.exchange.recipe_file import shipped

    known, found = shipped(), {}
    for run in runs:
        template = known.get(str(run.recipe.get("name", "")))
        if template is None or template.programme is None:
            method = str(run.recipe.get("method", "") or "capacity")
            own = [t for t in known.values() if t.method == method and t.station == run.station]
            usual = [t for t in own if t.programme is not None and t.programme.usual]
            template = min(usual, key=lambda t: (t.programme.order if t.programme else 0, t.name), default=None)
        if template is not None:
            found[template.name] = template
    return list(found.values())


def trends_of(dossier: Dossier) -> tuple[Trend, ...]:
    """What changed from test to test; nothing for a sample that was tested once."""
    if sum(run.analysis is not None and not run.facts.left_out for run in dossier.runs) < 2:
        return ()
    from wintry_tally.app.comparison import tested
    from wintry_tally.core.compare import figures_of
    from wintry_tally.core.compare.trend import FOLLOWED, trend

    sample, cycles = dossier.sample, dossier.had.before
    figures = figures_of(sample, tested(dossier), dossier.verdicts)
    claimed = next((claim.conditions for claim in sample.claims if claim.kind == "cycles"), None)
    end = claimed.get("end_share", USUAL_END) * sample.rated_Ah if claimed is not None and sample.rated_Ah else None
    made = [
        trend(key, figures.get(key, []), sample.family, cycles, end if key == "charge" else None) for key in FOLLOWED
    ]
    return tuple(one for one in made if one is not None)
