"""What a recipe that goes on through the night is given for a run that begins now."""

from __future__ import annotations

from collections.abc import Iterable

from wintry_tally.book import Run, RunStatus
from wintry_tally.core.battery import Sample
from wintry_tally.core.plan.calendar import Calendar
from wintry_tally.core.plan.over_night import over_night_A
from wintry_tally.core.protocol.attended import Attendance

LOOKS_AHEAD = 9
"""Days: a week's nights, and the days behind the last of them."""


def says_what_it_holds(runs: Iterable[Run]) -> bool:
    """Whether a run of a battery that came to its end says what it holds."""
    return any(
        run.recipe.get("method", "capacity") == "capacity" and run.status is RunStatus.FINISHED and not run.left_out
        for run in runs
    )


def given_over_night(sample: Sample, runs: Iterable[Run], attendance: Attendance) -> dict[str, float]:
    """Until when by day and how long by night it goes on (s), and the rate at which it ends on another day (A)."""
    given: dict[str, float] = {}
    if night := attendance.night():
        # by day until somebody leaves, less the rest before; then slowly until somebody comes
        given = {"until_night": max(900.0, night[0] - sample.family.rest_s), "night": night[1]}
    calendar = Calendar(attendance.begins, attendance.hours, days=LOOKS_AHEAD)
    rated_Ah = sample.rated_Ah or 0.0
    if rated_Ah and (amps := over_night_A(sample.family, rated_Ah, says_what_it_holds(runs), calendar)):
        given["over_night"] = amps
    return given
