"""The rest of a test that is under way: what its readings so far leave open, and how surely the end can be told.

Members of the family (`ensemble`) are weighed by how they fit the readings, drawn anew where the weight lies, and followed
to the end; the band holds 95 % of the weight. Source: adaptive importance sampling (Cappé et al., J. Comp. Graph. Stat. 13
(2004), from memory); the priors and the model's own error are common practice.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from wintry_tally.core.battery.families import Family, charge_state_band
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.plan.ensemble import NAMES, Ensemble, Members
from wintry_tally.core.room import ROOM_C

SIZE = 900
ROUNDS = 4
LEAST_WEIGHT = 60.0
"""Members that count at least, while it is not yet the last round: the fit is tempered to it."""
LEAST_REMEMBERED = 5.0
STUDENT = 6.0
WIDER = 1.4
FIRST_WIDER = {"full": 2.5, "capacity": 1.5}
"""What the first members are spread wider in than is likely: where readings may deny what was said."""
POINTS = 30
PAST, FUTURE = 90, 260
APART_V, ALONG_V, OWN_V, LENGTH = 0.02, 0.035, 0.008, 0.25
"""What a model of a 12 V battery is off by: all along, from stretch to stretch of a quarter of the charge, and by itself."""
GAVE_SHARE, RATE_SHARE, ALIKE_K = 0.008, 0.015, 8.0
"""How far a model that gave what a battery gave before may be off, one standard deviation, and by how much more at e times the
rate; and from how much colder or warmer a test says nothing. Common practice."""
KNEE_V = 1.0
"""So far above the family's cut-off a pack of 12 V falls steeply: one that a device let go of higher up says little of its charge."""
STATED, GUESSED = 0.03, 0.35
LOW, HIGH = 0.025, 0.975
MOST_BESIDE, AT_LIMIT_V = 0.7, 0.05
TAIL_S = 2 * 3600.0
"""Nobody foretells the tail of a lead-acid charge better than this; common practice."""
MOST_STEPS = 4 * FUTURE
"""A member that has not ended by then (a charger below what it floats at) ends there."""


@dataclass(frozen=True)
class SoFar:
    """A stage under way, from its first reading on.

    Parts:
        time_s, voltage_V, current_A (drawn positive): its readings, time from the stage's start.
        doing: "discharge" or "charge"; mode, setting: how a load draws on; amps, limit_V: what a charger gives on.
        end_V: where a discharge ends; mark_A: where a charge is full; full: the charge at the start, None for unknown.
        limit_doubt_V: how uncertain the limit is; celsius; rested_V: just before it, or NaN.
        meter_V: what the voltage may be off by, full_doubt: and a stated charge; standard uncertainties.
        since: of an earlier test, how far the capacity may be off by now, as a share.
    """

    time_s: NDArray[np.float64]
    voltage_V: NDArray[np.float64]
    current_A: NDArray[np.float64]
    doing: str
    mode: str = "current"
    setting: float = 0.0
    amps: float = 0.0
    limit_V: float = 0.0
    limit_doubt_V: float = 0.0
    end_V: float = 0.0
    mark_A: float = 0.0
    full: float | None = None
    celsius: float = ROOM_C
    rested_V: float = math.nan
    meter_V: float = 0.01
    full_doubt: float = STATED
    since: float = 0.0


@dataclass(frozen=True)
class Band:
    """The likeliest value and the ends of a band of 95 %."""

    value: float
    low: float
    high: float

    def as_dict(self) -> dict[str, float]:
        """For JSON."""
        return {"value": self.value, "low": self.low, "high": self.high}


@dataclass(frozen=True)
class Outlook:
    """From the stage's start: when it ends, s, what it moved by then, Ah, and Wh.

    `members`: how many count; `full`: the charge it began with, 0 to 1, by the readings; `remembered`: how many earlier
    discharges of the battery it stands on.
    """

    ends_s: Band
    charge_Ah: Band
    energy_Wh: Band
    members: float
    full: Band
    remembered: int = 0


def outlook(so_far: SoFar, family: Family, rated_Ah: float, seed: int = 1, earlier: Sequence[SoFar] = ()) -> Outlook:
    """How a stage under way ends. The same seed gives the same band.

    `earlier`: whole discharges of the same battery: how much it gave then, it gives now, but for what changes between two
    tests. Where the readings alone deny that, or no battery fits both, nothing is remembered: it has lost a cell since.
    """
    random = np.random.default_rng(seed)
    knee_V = family.cutoff_V + KNEE_V * family.share
    earlier = [one for one in earlier if abs(one.celsius - so_far.celsius) <= ALIKE_K and one.end_V <= knee_V]
    raw, counting = _drawn_to_fit((so_far,), family, rated_Ah, random, earlier)
    begun = _members(raw, so_far, family, rated_Ah)
    members = _members(raw, so_far, family, rated_Ah)
    _fit(members, so_far, _grid(so_far), family, rated_Ah)  # follows them through the readings
    found = replace(_onward(members, so_far, counting), full=_band(begun.state), remembered=len(earlier))
    if not earlier:
        return found
    alone = outlook(so_far, family, rated_Ah, seed)
    denied = not alone.charge_Ah.low <= found.charge_Ah.value <= alone.charge_Ah.high
    return alone if denied or counting < LEAST_REMEMBERED else found


def fitted(stages: Sequence[SoFar], family: Family, rated_Ah: float, seed: int = 1) -> Members:
    """What batteries that fit all these stages differ in: standard normal numbers, a row a member; see `Ensemble.of`."""
    return _drawn_to_fit(tuple(stages), family, rated_Ah, np.random.default_rng(seed))[0]


def _drawn_to_fit(
    stages: tuple[SoFar, ...],
    family: Family,
    rated_Ah: float,
    random: np.random.Generator,
    earlier: Sequence[SoFar] = (),
) -> tuple[Members, float]:
    """Members drawn where the weight lies, each as often as it weighs; and how many of them count."""
    size = len(NAMES)
    grids = [_grid(stage) for stage in stages]
    weights: Members = np.full(SIZE, 1.0 / SIZE)
    centre: Members = np.zeros(size)
    root: Members = np.diag([FIRST_WIDER.get(name, 1.0) for name in NAMES])
    raw: Members = np.zeros((SIZE, size))
    for turn in range(ROUNDS):
        shocks: Members = random.standard_normal((SIZE, size))
        scale = np.sqrt(STUDENT / random.chisquare(STUDENT, SIZE))[:, None] if turn else 1.0
        raw = centre + (shocks * scale) @ root.T
        height = _normal(raw) - (_student(raw, centre, root) if turn else _normal(shocks))
        for stage, grid in zip(stages, grids, strict=True):
            height = height + _fit(_members(raw, stage, family, rated_Ah), stage, grid, family, rated_Ah)
        for stage in earlier:
            height = height + _gave(_members(raw, stage, family, rated_Ah), stage, stages[-1])
        last = turn == ROUNDS - 1
        weights = _weights(height if last else _tempered(height) * height)
        if not last:
            centre = _middle(weights, raw)
            apart = raw - centre
            root = _root(WIDER * ((apart * weights[:, None]).T @ apart + 1e-3 * np.eye(size)))
    counting = 1.0 / float(np.sum(weights**2))
    if counting < LEAST_WEIGHT:
        weights = _weights(_tempered(np.log(weights + 1e-300)) * np.log(weights + 1e-300))
    kept = random.choice(len(weights), SIZE, p=weights)
    return raw[kept], counting


def _middle(weights: Members, raw: Members) -> Members:
    found: Members = weights @ raw
    return found


def _root(spread: Members) -> Members:
    found: Members = np.asarray(np.linalg.cholesky(spread), dtype=np.float64)
    return found


def _grid(so_far: SoFar) -> NDArray[np.int64]:
    """Readings that the past is followed by: evenly spread, more of them at both ends."""
    last = len(so_far.time_s) - 1
    even = np.linspace(0, last, PAST)
    ends = np.concatenate([np.geomspace(1, max(2, last), 20), last - np.geomspace(1, max(2, last), 20)])
    return np.unique(np.clip(np.concatenate([even, ends]), 0, last).astype(np.int64))


def _members(raw: Members, so_far: SoFar, family: Family, rated_Ah: float) -> Ensemble:
    usual = parameters_for(family, rated_Ah)
    if so_far.full is not None:
        start = (so_far.full, so_far.full_doubt)
    elif math.isfinite(so_far.rested_V):
        low, high = charge_state_band(family, so_far.rested_V, 0.06)
        start = (0.005 * (low + high) + 0.02, max(0.08, 0.0035 * (high - low)))
    else:
        start = (0.95, GUESSED) if so_far.doing == "discharge" else (0.35, GUESSED)
    return Ensemble.of(
        raw, family, rated_Ah, usual, start, (so_far.limit_V, so_far.limit_doubt_V), so_far.celsius, so_far.since
    )


def _fit(members: Ensemble, so_far: SoFar, grid: NDArray[np.int64], family: Family, rated_Ah: float) -> Members:
    """Logarithm of how well each fits the readings.

    A model's error changes smoothly along the charge (Matérn's covariance of smoothness 5/2, after Rasmussen & Williams,
    Gaussian Processes for Machine Learning (2006), eq. 4.17, from memory): a step that the readings show is the battery's.
    """
    charging = so_far.doing == "charge"
    steps = np.diff(so_far.time_s[grid])
    rows = np.unique(np.linspace(1, len(steps) - 1, POINTS).astype(np.int64)) if len(steps) > 1 else np.array([], dtype=np.int64)  # fmt: skip
    wanted, misses, moved, drawn = set(rows.tolist()), [], [], 0.0
    for n, seconds in enumerate(steps):
        part = slice(grid[n], grid[n + 1] + 1)
        amps = float(np.mean(so_far.current_A[part]))
        members.go(amps, float(seconds))
        drawn += abs(amps) * float(seconds) / 3600.0
        if n in wanted:
            here = slice(max(0, grid[n + 1] - 2), grid[n + 1] + 1)
            last_A, seen_V = float(np.median(so_far.current_A[here])), float(np.median(so_far.voltage_V[here]))
            misses.append(seen_V - (members.inner_V(charging) - last_A * members.met_ohm(charging)))
            moved.append(drawn / rated_Ah)
    if not misses:
        return np.zeros(len(members.ohm))
    volts = family.plausible_V[1] / 14.6
    apart = np.subtract.outer(moved, moved)
    away = math.sqrt(5.0) * np.abs(apart) / LENGTH
    alike = (1.0 + away + away**2 / 3.0) * np.exp(-away)
    cover = APART_V**2 + ALONG_V**2 * alike + np.eye(len(moved)) * OWN_V**2
    cover = cover * volts**2 + so_far.meter_V**2
    miss = np.array(misses)
    found: Members = -0.5 * np.sum(miss * np.linalg.solve(cover, miss), axis=0)
    return found


def _normal(raw: Members) -> Members:
    found: Members = -0.5 * np.sum(raw**2, axis=1)
    return found


def _student(raw: Members, centre: NDArray[np.float64], root: NDArray[np.float64]) -> Members:
    standard = np.linalg.solve(root, (raw - centre).T)
    square = np.sum(standard**2, axis=0)
    size = raw.shape[1]
    found: Members = -0.5 * (STUDENT + size) * np.log1p(square / STUDENT) - float(np.log(np.diag(root)).sum())
    return found


def _weights(logs: Members) -> Members:
    heights = np.exp(logs - float(np.max(logs)))
    shares: Members = heights / float(np.sum(heights))
    return shares


def _tempered(logs: Members) -> float:
    """The power at which as many members count as are wanted; 1 where they do anyway."""
    low, high = 0.0, 1.0
    if 1.0 / float(np.sum(_weights(logs) ** 2)) >= LEAST_WEIGHT:
        return 1.0
    for _ in range(30):
        middle = 0.5 * (low + high)
        low, high = (
            (middle, high) if 1.0 / float(np.sum(_weights(middle * logs) ** 2)) >= LEAST_WEIGHT else (low, middle)
        )
    return low


def _gave(members: Ensemble, before: SoFar, now: SoFar) -> Members:
    """Logarithm of how well what each would have given matches what the battery gave in a whole discharge before."""
    hours = float(before.time_s[-1] - before.time_s[0]) / 3600.0
    given = float(np.trapezoid(before.current_A, before.time_s)) / 3600.0
    begun = replace(before, time_s=before.time_s[:1], voltage_V=before.voltage_V[:1], current_A=before.current_A[:1])
    _, charge, _ = _to_the_end(members, replace(begun, mode="current", setting=given / hours))
    faster = abs(math.log(max(float(np.mean(np.abs(now.current_A))), 1e-3) * hours / given))
    found: Members = (
        -0.5 * (np.log(np.maximum(charge, 1e-6) / given) / math.hypot(GAVE_SHARE, RATE_SHARE * faster)) ** 2
    )
    return found


def _onward(members: Ensemble, so_far: SoFar, counting: float) -> Outlook:
    """How they end."""
    ends, charge, work = _to_the_end(members, so_far)
    ends_s = _band(ends)
    if so_far.doing == "charge" and members.usual.gassing:
        ends_s = replace(ends_s, high=max(ends_s.high, float(so_far.time_s[-1]) + TAIL_S))
    return Outlook(ends_s, _band(charge), _band(work), counting, Band(0.0, 0.0, 1.0))


def _to_the_end(members: Ensemble, so_far: SoFar) -> tuple[Members, Members, Members]:
    """Every member to its end: when, s, and the charge and energy moved by then, Ah and Wh."""
    charging = so_far.doing == "charge"
    size = len(members.ohm)
    now, amps_so_far = float(so_far.time_s[-1]), so_far.current_A
    moved = abs(float(np.trapezoid(amps_so_far, so_far.time_s))) / 3600.0
    energy = abs(float(np.trapezoid(amps_so_far * so_far.voltage_V, so_far.time_s))) / 3600.0
    ends, charge, work = np.full(size, np.nan), np.full(size, moved), np.full(size, energy)
    time, live = np.full(size, now), np.ones(size, dtype=bool)
    usual_A = max(abs(so_far.amps if charging else float(members.drawn_at(so_far.mode, so_far.setting).mean())), 1e-3)
    stride = 3600.0 * 1.3 * float(members.capacity_Ah.max()) / usual_A / FUTURE
    if (
        charging
        and members.usual.gassing
        and float(np.median(so_far.voltage_V[-3:])) >= so_far.limit_V - AT_LIMIT_V * members.usual.share
    ):
        _stand_by_taper(members, so_far)
    before = members.inner_V(charging)
    for _ in range(MOST_STEPS):
        amps = members.charged_at(so_far.amps) if charging else members.drawn_at(so_far.mode, so_far.setting)
        shown = members.inner_V(charging) - amps * members.met_ohm(charging)
        # what gas takes at the limit flows beside, and is no charge
        gas = np.minimum(members.leak_A(), MOST_BESIDE * so_far.mark_A)
        beside = np.where(charging & (shown >= members.limit_V - 0.02 * members.usual.share), gas, 0.0)
        over = (np.abs(amps) + beside <= so_far.mark_A) if charging else (shown <= so_far.end_V)
        fresh = live & over
        if fresh.any():
            # between two steps it went through: a straight line says where
            fall = np.where(fresh, before - shown, 1.0)
            back = np.clip((so_far.end_V - shown) / np.where(fall > 1e-6, fall, 1.0), 0.0, 1.0) if not charging else 0.0
            late = np.where(time > now, back * stride, 0.0)
            ends[fresh] = (time - late)[fresh]
            charge[fresh] -= (np.abs(amps) * late / 3600.0)[fresh]
            work[fresh] -= (np.abs(amps * shown) * late / 3600.0)[fresh]
            live &= ~fresh
            if not live.any():
                break
        before = shown
        steps = stride if not charging else stride * 0.5
        members.go(amps, steps)
        flows = np.abs(amps) + beside
        charge[live] += (flows * steps / 3600.0)[live]
        work[live] += (flows * np.abs(shown) * steps / 3600.0)[live]
        time = time + steps
    ends = np.where(np.isfinite(ends), ends, time)
    return np.maximum(ends, now), np.maximum(charge, moved), np.maximum(work, energy)


def _stand_by_taper(members: Ensemble, so_far: SoFar) -> None:
    """At its limit the current that flows now says how full each one's plates are; looked for by halving."""
    flows = abs(float(np.median(so_far.current_A[-3:])))
    own = np.maximum(0.0, flows - np.minimum(members.leak_A(), MOST_BESIDE * so_far.mark_A))
    wanted = members.limit_V - own * members.met_ohm(True)
    low, high = np.zeros(len(members.ohm)), members.capacity_Ah * members.wells
    for _ in range(30):
        members.free = 0.5 * (low + high)
        below = members.inner_V(True) < wanted
        low, high = np.where(below, members.free, low), np.where(below, high, members.free)


def _band(values: Members) -> Band:
    low, middle, high = np.quantile(values, [LOW, 0.5, HIGH])
    return Band(float(middle), float(low), float(high))
