"""The solver in a process of its own: it takes both cores for seconds, and the window goes on meanwhile.

Its library ends its process where it finds itself at fault; then the best plan that it told until then stands.
"""

from __future__ import annotations

import io
import pickle
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from wintry_tally.core.errors import WintryError
from wintry_tally.core.plan.calendar import PLAIN
from wintry_tally.core.plan.campaign import Campaign, Task
from wintry_tally.core.plan.placing import Allowed
from wintry_tally.core.plan.solver import Keep, Solved, Solver

if TYPE_CHECKING:
    from subprocess import Popen

GRACE_S = 8.0
"""So long it may take to load its library beyond the time it is given to think."""
LOOK_S = 0.05
MOST_BEGUN, LEAST_S = 4, 1.5
"""So many processes at the most, and none for less time than this: its library takes a second to load."""


def solve_apart(
    campaign: Campaign, tasks: list[Task], allowed: Allowed, known: Mapping[str, int], seconds: float,
    clock: Callable[[], float], cancelled: Callable[[], bool] = lambda: False, keep: Keep | None = None,
) -> Solved:  # fmt: skip
    """As `core.plan.solver.solve`, elsewhere; where that process fails, the plan that is known stands.

    Where it ended itself before its time, another goes on from the best plan that it told.

    Raises:
        WintryError: it was cancelled.
    """
    until, best = time.monotonic() + seconds, Solved(dict(known), 0, False, False)
    given = replace(campaign, calendar=PLAIN), tasks, dict(allowed)
    for luck in range(MOST_BEGUN):
        left = until - time.monotonic()
        if luck and left < LEAST_S:
            break
        found, whole = _asked("best", (*given, best.starts, left, keep, luck), left, cancelled)
        best = found or best
        if whole:
            break
    return best


def most_placed_apart(
    campaign: Campaign, tasks: list[Task], allowed: Allowed, latest: int, seconds: float,
    cancelled: Callable[[], bool] = lambda: False,
) -> dict[str, int]:  # fmt: skip
    """As `core.plan.solver.most_placed`, elsewhere; none is placed where every process fails.

    Raises:
        WintryError: it was cancelled.
    """
    until = time.monotonic() + max(seconds, LEAST_S)
    for luck in range(MOST_BEGUN):
        given = replace(campaign, calendar=PLAIN), tasks, dict(allowed), latest, seconds, luck
        found, whole = _asked("most", given, seconds, cancelled)
        if found or whole or time.monotonic() > until:
            return found.starts if found else {}
    return {}


APART = Solver(solve_apart, most_placed_apart)


def _asked(
    what: str, given: tuple[Any, ...], seconds: float, cancelled: Callable[[], bool]
) -> tuple[Solved | None, bool]:
    """The best that one process told, and whether it came to its end.

    Raises:
        WintryError: it was cancelled.
    """
    asked = pickle.dumps((what, given))
    try:
        # by a file: a pipe takes only so much before somebody reads it
        with tempfile.TemporaryFile() as file:
            file.write(asked)
            file.seek(0)
            process = subprocess.Popen(
                [sys.executable, "-m", "wintry_tally.app.solver_apart"], stdin=file, stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
            )  # fmt: skip
    except OSError:
        return None, True
    try:
        _wait(process, seconds + GRACE_S, cancelled)
    finally:
        process.kill()
        out, _ = process.communicate()
    if cancelled():
        raise WintryError("the plan was no longer wanted")
    return _last(out), process.returncode == 0


def _wait(process: Popen[bytes], seconds: float, cancelled: Callable[[], bool]) -> None:
    """Until it is done, or no longer wanted."""
    until = time.monotonic() + seconds
    while time.monotonic() < until and not cancelled():
        try:
            process.communicate(timeout=LOOK_S)
            return
        except subprocess.TimeoutExpired:
            continue


def _last(out: bytes) -> Solved | None:
    """The last whole answer of those that follow each other."""
    stream, found = io.BytesIO(out), None
    while True:
        try:
            one = pickle.load(stream)
        except (pickle.PickleError, EOFError, AttributeError, IndexError, ValueError):
            return found
        found = one if isinstance(one, Solved) else found


def main() -> None:
    """Read what is asked, answer, be gone."""
    from wintry_tally.core.plan.solver import most_placed, solve

    def tell(found: Solved) -> None:
        sys.stdout.buffer.write(pickle.dumps(found))
        sys.stdout.buffer.flush()

    what, given = pickle.loads(sys.stdin.buffer.read())
    if what == "most":
        campaign, tasks, allowed, latest, seconds, luck = given
        tell(Solved(most_placed(campaign, tasks, allowed, latest, seconds, luck=luck), 0, False, False))
    else:
        campaign, tasks, allowed, known, seconds, keep, luck = given
        tell(solve(campaign, tasks, allowed, known, seconds, time.monotonic, keep=keep, told=tell, luck=luck))


if __name__ == "__main__":
    main()
