"""The best plan by constraint programming (OR-Tools CP-SAT); imported when a plan is wanted, for it takes a second."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from wintry_tally.core.plan.calendar import PER_HOUR
from wintry_tally.core.plan.campaign import After, Campaign, Task, score
from wintry_tally.core.plan.placing import Allowed

FIRST_S, TURN_SHARE, LEAST_S = 0.8, 0.2, 0.3
"""How long the first search lasts; each later one as a share of all, and at least `TURN_S`; a shorter one is not begun."""
TURN_S = 3.0
WORKERS, NEAR_WORKERS = 2, 3
NEAR = "quick_restart_no_lp"
"""The one searcher of the whole that is left to the later turns: the others look near the best plan, and find more."""
LATER_SHARE = 0.05
"""How much later than the best a plan may end so that less of the next days is moved."""


@dataclass(frozen=True)
class Solved:
    """Starts by task, a bound for the end, whether the end is proven the soonest and the whole the best."""

    starts: dict[str, int]
    bound_end: int
    end_proven: bool
    proven: bool


@dataclass(frozen=True)
class Keep:
    """A plan before: where its tasks of the next days stand, which a new one moves only where it must."""

    starts: Mapping[str, int]
    until: int


class _Model:
    def __init__(self, campaign: Campaign, tasks: list[Task], allowed: Allowed, latest: int, optional: bool) -> None:
        from ortools.sat.python import cp_model

        self.cp, self.tasks, self.campaign = cp_model, tasks, campaign
        self.model = model = cp_model.CpModel()
        self.start: dict[str, Any] = {}
        self.here: dict[str, Any] = {}
        self.size: dict[str, Any] = {}
        spans: dict[str, list[Any]] = {}
        for task in tasks:
            within = allowed[task.id].until(max(latest - task.slots, task.fixed or 0))
            domain = cp_model.Domain.FromIntervals([list(span) for span in within.spans])
            self.start[task.id] = model.new_int_var_from_domain(domain, task.id)
            if optional:
                self.here[task.id] = model.new_bool_var(f"{task.id} is placed")
            self.size[task.id] = (
                model.new_int_var(task.slots, task.slots + task.stretch, f"{task.id} lasts")
                if task.until
                else task.slots
            )
            span = self._span(task)
            for name in (f"sample {task.sample}", *sorted(task.surely)):
                spans.setdefault(name, []).append(span)
            if len(task.choices) > 1:
                self._one_of(task, spans)
        for name, taken in spans.items():
            places = campaign.places.get(name, 1)
            if places == 1:
                model.add_no_overlap(taken)
            elif len(taken) > places:
                model.add_cumulative(taken, [1] * len(taken), places)
        by_id = {task.id: task for task in tasks}
        for task in tasks:
            for wait in task.after:
                if wait.task in by_id:
                    self._follows(task, by_id[wait.task], wait)
        self.end = model.new_int_var(0, latest, "end")
        self.late = []
        for task in tasks:
            if not optional:
                model.add(self.end >= self.start[task.id] + self.size[task.id])
            if task.due is not None:
                late = model.new_int_var(0, max(0, latest - task.due), f"{task.id} late")
                model.add(late >= self.start[task.id] + self.size[task.id] - task.due)
                self.late.append(late)

    def _span(self, task: Task, here: Any = None) -> Any:
        start, size, here = self.start[task.id], self.size[task.id], self.here.get(task.id) if here is None else here
        if task.until:
            end = self.model.new_int_var(-1_000_000, 10_000_000, f"{task.id} is over")
            if here is not None:
                return self.model.new_optional_interval_var(start, size, end, here, f"{task.id} on")
            return self.model.new_interval_var(start, size, end, f"{task.id} on")
        if here is not None:
            return self.model.new_optional_fixed_size_interval_var(start, size, here, f"{task.id} on")
        return self.model.new_fixed_size_interval_var(start, size, f"{task.id} on")

    def _one_of(self, task: Task, spans: dict[str, list[Any]]) -> None:
        """One of its ways is taken; each is a span of its own that may be there."""
        taken = [self.model.new_bool_var(f"{task.id} by {number}") for number in range(len(task.choices))]
        if self.here:
            self.model.add(sum(taken) == self.here[task.id])
        else:
            self.model.add_exactly_one(taken)
        for choice, here in zip(task.choices, taken, strict=True):
            span = self._span(task, here)
            for name in sorted(set(choice) - task.surely):
                spans.setdefault(name, []).append(span)

    def _follows(self, task: Task, before: Task, wait: After) -> None:
        begins, earlier = self.start[task.id], self.start[before.id]
        rules = [self.model.add(begins >= earlier + before.slots + wait.least)]
        if before.until == task.id:
            rules.append(self.model.add(begins == earlier + self.size[before.id]))
        elif wait.most is not None:
            rules.append(self.model.add(begins <= earlier + before.slots + wait.most))
        if self.here:
            for rule in rules:
                rule.only_enforce_if(self.here[task.id])
            self.model.add_implication(self.here[task.id], self.here[before.id])

    def hint(self, starts: Mapping[str, int]) -> None:
        self.model.clear_hints()  # type: ignore[no-untyped-call]
        for name, slot in starts.items():
            if name in self.start:
                self.model.add_hint(self.start[name], slot)

    def solve(
        self, goal: Any, seconds: float, cancelled: Callable[[], bool], turn: int = 0, down: bool = True, luck: int = 0,
        told: Callable[[dict[str, int]], None] | None = None,
    ) -> tuple[str, dict[str, int], int]:  # fmt: skip
        """Status ("best", "some", "none"), starts, and the bound of the goal. `told`: the starts of each plan on the way."""
        if seconds < LEAST_S:
            return "none", {}, 0
        if down:
            self.model.minimize(goal)
        else:
            self.model.maximize(goal)
        solver = self.cp.CpSolver()
        solver.parameters.max_time_in_seconds = seconds
        near = turn % 2 == 1
        solver.parameters.num_workers = NEAR_WORKERS if near else WORKERS
        if near:
            solver.parameters.subsolvers.append(NEAR)
        solver.parameters.random_seed = 20 + turn + 100 * luck
        solver.parameters.linearization_level = 0
        solver.parameters.max_size_to_create_precedence_literals_in_disjunctive = 0  # ends 1 % sooner: benchmarks.plans
        solver.parameters.repair_hint = turn > 0
        watch = _Watch(self.cp, cancelled, self.start, told)
        status = solver.solve(self.model, watch.callback)
        if status not in (self.cp.OPTIMAL, self.cp.FEASIBLE):
            return "none", {}, 0
        here = {name for name, var in self.here.items() if solver.boolean_value(var)} if self.here else set(self.start)
        starts = {name: int(solver.value(var)) for name, var in self.start.items() if name in here}
        return ("best" if status == self.cp.OPTIMAL else "some"), starts, round(solver.best_objective_bound)


class _Watch:
    """Tells each plan found, and ends the search at the next one once it is cancelled."""

    def __init__(
        self, cp: Any, cancelled: Callable[[], bool], start: Mapping[str, Any],
        told: Callable[[dict[str, int]], None] | None,
    ) -> None:  # fmt: skip
        class Callback(cp.CpSolverSolutionCallback):  # type: ignore[misc]
            def on_solution_callback(self) -> None:
                if told is not None:
                    told({name: int(self.value(var)) for name, var in start.items()})
                if cancelled():
                    self.stop_search()

        self.callback = Callback()


def most_placed(
    campaign: Campaign, tasks: list[Task], allowed: Allowed, latest: int, seconds: float,
    cancelled: Callable[[], bool] = lambda: False, luck: int = 0,
) -> dict[str, int]:  # fmt: skip
    """As many tasks as can be placed together, none without what it waits for; another `luck` searches elsewhere."""
    model = _Model(campaign, tasks, allowed, latest, optional=True)
    # what is pinned counts for more: a person has set it there
    weight = {task.id: 1 if task.fixed is None else 1 + len(tasks) for task in tasks}
    goal = sum(weight[name] * here for name, here in model.here.items())
    return model.solve(goal, seconds, cancelled, down=False, luck=luck)[1]


def solve(
    campaign: Campaign, tasks: list[Task], allowed: Allowed, known: Mapping[str, int], seconds: float,
    clock: Callable[[], float], cancelled: Callable[[], bool] = lambda: False, keep: Keep | None = None,
    told: Callable[[Solved], None] | None = None, luck: int = 0,
) -> Solved:  # fmt: skip
    """A plan at least as good as the one known: least lateness, then the earliest end, then the least sum of starts.

    `told` is called with each better one on the way; another `luck` searches elsewhere. With `keep`, of all plans of the least lateness that end at most LATER_SHARE later than the best, one that moves the
    fewest of the tasks which stood before `keep.until`.
    """
    until = clock() + seconds
    late, end, _ = score(campaign, known)
    bound_end = 0
    latest = max(end, max((task.slots + (task.fixed or 0) for task in tasks), default=0))
    if late:  # less lateness may ask for a later end
        latest = 2 * latest + 7 * 24 * PER_HOUR
    model = _Model(campaign, tasks, allowed, latest, optional=False)
    best, proven = dict(known), True

    def better(found: Mapping[str, int]) -> bool:
        return bool(found) and score(campaign, found) < score(campaign, best)

    def tell(found: dict[str, int]) -> None:
        if told is not None and better(found):
            told(Solved(found, bound_end, False, False))

    def left(share: float) -> float:
        return share * (until - clock())

    if model.late:
        best, proven = _least_late(model, best, left(0.4), cancelled)
    status, turn = "", 0
    stop = clock() + left(0.94)
    while status != "best" and clock() < stop and not cancelled():
        # a short look at the whole, then mostly near the best so far; and again with other luck
        model.hint(best)
        length = FIRST_S if not turn else max(TURN_S, TURN_SHARE * seconds)
        status, found, bound = model.solve(
            model.end, min(length, stop - clock()), cancelled, turn, luck=luck, told=tell
        )
        turn += 1
        if better(found):
            best = found
        if status == "none":
            break
        bound_end = max(bound_end, bound)
    end_proven = status == "best" and proven
    end = score(campaign, best)[1]
    if keep is not None:
        return _kept(model, best, bound_end, end_proven, keep, until - clock(), cancelled)
    model.model.add(model.end <= end)
    model.hint(best)
    status, found, _ = model.solve(sum(model.start.values()), left(1.0), cancelled)
    if better(found):
        best = found
    return Solved(best, bound_end, end_proven, end_proven and status == "best")


def _least_late(
    model: _Model, best: dict[str, int], seconds: float, cancelled: Callable[[], bool]
) -> tuple[dict[str, int], bool]:
    """A plan of less lateness where there is one, whether it is the least; no later plan is looked for from here on."""
    proven, late = True, score(model.campaign, best)[0]
    if late:
        model.hint(best)
        status, found, _ = model.solve(sum(model.late), seconds, cancelled)
        proven = status == "best"
        if found and score(model.campaign, found) < score(model.campaign, best):
            best = found
        late = score(model.campaign, best)[0]
    model.model.add(sum(model.late) <= late)
    return best, proven


def _kept(
    model: _Model, best: dict[str, int], bound_end: int, end_proven: bool, keep: Keep, seconds: float,
    cancelled: Callable[[], bool],
) -> Solved:  # fmt: skip
    """Of the plans that are nearly as good, one that moves the fewest of the next days' tasks."""
    near = {name: slot for name, slot in keep.starts.items() if name in model.start and slot < keep.until}
    end = score(model.campaign, best)[1]
    model.model.add(model.end <= int(end * (1.0 + LATER_SHARE)))
    moved = []
    for name, slot in near.items():
        stays = model.model.new_bool_var(f"{name} stays")
        model.model.add(model.start[name] == slot).only_enforce_if(stays)
        moved.append(1 - stays)
    model.hint({**best, **near})
    status, found, _ = model.solve(sum(moved), 0.5 * seconds, cancelled)
    chosen = found or best
    count = sum(chosen[name] != slot for name, slot in near.items())
    model.model.add(sum(moved) <= count)
    model.hint(chosen)
    _, tidied, _ = model.solve(sum(model.start.values()), 0.5 * seconds, cancelled)
    return Solved(tidied or chosen, bound_end, end_proven, False if status != "best" else end_proven)


@dataclass(frozen=True)
class Solver:
    """What a plan asks where the quick way does not do: `solve` and `most_placed`, or what asks them elsewhere."""

    best: Callable[..., Solved]
    most: Callable[..., dict[str, int]]


HERE = Solver(solve, most_placed)
"""In this process, which its library ends where it finds itself at fault; `app.solver_apart` has them in another."""
