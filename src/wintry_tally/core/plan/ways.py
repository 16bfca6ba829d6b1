"""Which of several places each task takes: those that run at one moment never more of a thing than there is."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from wintry_tally.core.plan.campaign import Campaign, Task

MOST_TRIED = 200_000


def chosen_ways(campaign: Campaign, starts: Mapping[str, int]) -> dict[str, int] | None:
    """For every placed task with a choice which of its `choices` it takes, the better ones for those that begin first.

    None where these starts leave no sound choice (or none was found in `MOST_TRIED` tries).
    """
    placed = sorted((task for task in campaign.tasks if task.id in starts), key=lambda task: (starts[task.id], task.id))
    ends = {task.id: starts[task.id] + task.lasts(starts) for task in placed}
    over = [
        [other for other in placed[:number] if ends[other.id] > starts[task.id]] for number, task in enumerate(placed)
    ]
    chosen: dict[str, int] = {}
    trying = [0] * len(placed)
    at = tried = 0
    while at < len(placed):
        task, found = placed[at], None
        for way in range(trying[at], len(task.choices)):
            tried += 1
            if _free(campaign, task.choices[way], over[at], chosen):
                found = way
                break
        if tried > MOST_TRIED:
            return None
        if found is not None:
            chosen[task.id], trying[at] = found, found + 1
            at += 1
            continue
        trying[at] = 0
        at -= 1
        if at < 0:
            return None
        del chosen[placed[at].id]
    return {task.id: chosen[task.id] for task in placed if len(task.choices) > 1}


def _free(campaign: Campaign, choice: tuple[str, ...], over: list[Task], chosen: Mapping[str, int]) -> bool:
    """Whether what runs when a task begins leaves it these places; what begins later is looked at in its own turn."""
    taken = Counter(name for other in over for name in other.choices[chosen[other.id]])
    return all(taken[name] < campaign.places.get(name, 0) for name in choice)
