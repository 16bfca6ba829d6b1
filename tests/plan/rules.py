"""The rules of a plan, checked on what is printed, apart from everything that made it: plain dates and minutes.

Common practice, no published source: the rules are those of the trade as the command line's contract words them.
"""

from __future__ import annotations

import itertools
from datetime import UTC, date, datetime, timedelta
from functools import partial
from typing import Any
from zoneinfo import ZoneInfo

from wintry_tally.app.solver_apart import APART
from wintry_tally.core.plan.planning import plan

plan_apart = partial(plan, solver=APART)
"""For what is thought about for seconds: the solver's library ends its process where it finds itself at fault."""
GRID = timedelta(minutes=5)


def there(moment: datetime, week: dict[int, list[tuple[str, str]]], away: set[date], leaving: bool) -> bool:
    """Whether somebody is there at a local moment; `leaving`: their last moment counts too."""
    if moment.date() in away:
        return False
    clock = f"{moment:%H:%M}"
    return any(a <= clock < b or (leaving and clock == b) for a, b in week.get(moment.weekday(), []))


def broken(
    printed: dict[str, Any], tasks: list[dict[str, Any]], places: dict[str, int], week: dict[int, list[tuple[str, str]]],
    away: set[date], zone: ZoneInfo,
) -> list[str]:  # fmt: skip
    """Every rule that a printed plan breaks, in words; `tasks` as in the file."""
    found: list[str] = []
    by_id = {task["id"]: task for task in tasks}
    at = {
        one["id"]: tuple(datetime.fromisoformat(one[key]).astimezone(UTC) for key in ("begins", "ends"))
        for one in printed["tasks"]
    }
    begins = datetime.fromisoformat(printed["begins"]).astimezone(UTC)
    for name in by_id:
        if (name in at) == any(one["id"] == name for one in printed["unplaced"]):
            found.append(f"{name} is neither placed nor told, or both")
    for name, (start, end) in at.items():
        task = by_id[name]
        hours = timedelta(hours=task["hours"])
        if not hours - timedelta(seconds=1) <= end - start < hours + GRID:
            found.append(f"{name} lasts {end - start}")
        if start < begins or (start - begins) % GRID:
            found.append(f"{name} begins at {start}")
        if "not_before" in task and start < datetime.fromisoformat(task["not_before"]).replace(tzinfo=zone):
            found.append(f"{name} begins too early")
        for wait in task.get("after", []):
            if wait["id"] not in at:
                found.append(f"{name} is placed, {wait['id']} is not")
                continue
            rest = (start - at[wait["id"]][1]).total_seconds() / 3600.0
            least, most = (*wait["rest_h"], None)[:2]
            if rest < least - 1e-6 or (most is not None and rest > most + 1e-6):
                found.append(f"{name} rests {rest} h after {wait['id']}")
        local = (start.astimezone(zone), end.astimezone(zone))
        attended = task.get("attended", "none")
        if attended in {"start", "ends", "throughout"} and not there(local[0], week, away, leaving=False):
            found.append(f"nobody starts {name}")
        if attended in {"ends", "throughout"} and not there(local[1], week, away, leaving=True):
            found.append(f"nobody ends {name}")
        if attended == "throughout":
            minute = local[0].astimezone(UTC)
            while minute < end:
                if not there(minute.astimezone(zone), week, away, leaving=False):
                    found.append(f"{name} is left alone at {minute}")
                    break
                minute += timedelta(minutes=1)
    for one, other in itertools.combinations(at, 2):
        together = at[one][0] < at[other][1] and at[other][0] < at[one][1]
        if together and by_id[one]["sample"] == by_id[other]["sample"]:
            found.append(f"{one} and {other} run on one sample")
    takes = {one["id"]: one["uses"] for one in printed["tasks"]}
    for name, taken in takes.items():
        wanted = by_id[name].get("uses", [])
        sure = {use for use in wanted if isinstance(use, str)}
        several = [use for use in wanted if not isinstance(use, str)]
        if not sure <= set(taken) or any(not set(one) & set(taken) for one in several):
            found.append(f"{name} takes {taken} of {wanted}")
        if len(set(taken)) > len(sure) + len(several):
            found.append(f"{name} takes more than it needs: {taken}")
    for place, count in places.items():
        using = [span for name, span in at.items() if place in takes[name]]
        for moment in {span[0] for span in using}:
            if sum(a <= moment < b for a, b in using) > count:
                found.append(f"more than {count} at {place} at {moment}")
    ends = max((end for _, end in at.values()), default=begins)
    if datetime.fromisoformat(printed["ends"]).astimezone(UTC) != ends:
        found.append("its end is not the last one's")
    if datetime.fromisoformat(printed["bound_ends"]).astimezone(UTC) > ends:
        found.append("its bound lies after its end")
    return found
