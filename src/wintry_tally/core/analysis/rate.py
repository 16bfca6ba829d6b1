"""How the rate changes what a battery gives: Peukert's exponent, and the two-well model as the second school."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wintry_tally.core.battery.two_wells import hours_to_empty, two_wells
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import Quantity, Term, format_quantity
from wintry_tally.core.working import Working

REPEAT = 0.005
"""How well one battery repeats a discharge, as a relative standard uncertainty; common practice."""
BENT_SHARE, BENT_LEAST = 0.5, 0.005
"""How far a battery bends off the straight line of ln Q over ln I between two rates, as a standard uncertainty: this
share of its exponent's excess over one (and at least the second) times the logarithmic distances to both. Common
practice, no published source; the two-well model (P18) bends by as much."""


@dataclass(frozen=True)
class RatePoint:
    """One discharge from full to its end: its mean current, A, and its charge."""

    name: str
    current_A: float
    charge: Quantity

    @property
    def hours(self) -> float:
        """How long it lasted at that current, h."""
        return self.charge.value / self.current_A


@dataclass(frozen=True)
class RateLaw:
    """t = H (C / (I H))^k fitted to discharges.

    Parts:
        exponent: k with its doubt.
        lowest_A, highest_A: the currents it was fitted between; beyond them it is a guess.
        tested_A: all of them.
        at_A, charge_Ah: the centre of the fit, where its doubt is least.
        relative: relative standard uncertainty of the charge at the centre (None if unknown).
    """

    exponent: Quantity
    lowest_A: float
    highest_A: float
    at_A: float
    charge_Ah: float
    relative: float | None
    working: Working
    tested_A: tuple[float, ...] = ()

    def charge_at(self, current_A: float) -> Quantity:
        """What the battery gives at a constant current, Ah: Q = Q0 (I / I0)^(1 - k)."""
        lean = math.log(current_A / self.at_A)
        value = self.charge_Ah * math.exp((1.0 - self.exponent.value) * lean)
        if self.relative is None or self.exponent.standard is None:
            return Quantity(value, None, "Ah")
        return Quantity.from_terms(
            value,
            "Ah",
            [
                Term("charge at the middle of the fit", value * self.relative),
                Term("exponent", value * lean * self.exponent.standard),
                Term("the law itself", value * self._bent(current_A)),
            ],
        )

    def _bent(self, current_A: float) -> float:
        """How far from the straight line the battery may lie at a current; nothing at a rate that was tested."""
        apart = sorted(math.log(current_A / tested) for tested in self.tested_A)
        above, below = [item for item in apart if item >= 0.0], [item for item in apart if item < 0.0]
        near = (above[0], below[-1]) if above and below else (above[:2] or below[-2:])
        return max(BENT_LEAST, BENT_SHARE * abs(self.exponent.value - 1.0)) * abs(math.prod(near))

    def holds_at(self, current_A: float) -> bool:
        """Whether a current lies between the rates tested."""
        return 0.95 * self.lowest_A <= current_A <= 1.05 * self.highest_A


def rate_law(points: Sequence[RatePoint]) -> RateLaw:
    """Peukert's exponent by weighted regression of ln t on ln I, k = -slope.

    The gain of one meter shifts all points alike and cannot tilt the line; weights are the errors that remain,
    and how well a battery repeats. With more than two points a scatter beyond that widens the doubt.

    Raises:
        InputError: fewer than two points, or all at one rate.

    Source: W. Peukert, ETZ 18 (1897), common form (from memory); JCGM 100:2008, 5.2.
    """
    currents = [point.current_A for point in points]
    if len(points) < 2 or max(currents) < 1.15 * min(currents):
        raise InputError(
            "the rates are too much alike to show an effect",
            mend="give two or more full discharges whose currents differ by 15 % or more",
        )
    x = np.log(np.array(currents))
    y = np.log(np.array([point.hours for point in points]))
    known = all(point.charge.standard is not None for point in points)
    own = np.array([math.hypot(_unshared(point.charge) / point.charge.value, REPEAT) for point in points])
    weight = 1.0 / own**2
    centre = float(np.sum(weight * x) / np.sum(weight))
    spread = float(np.sum(weight * (x - centre) ** 2))
    level = float(np.sum(weight * y) / np.sum(weight))
    slope = float(np.sum(weight * (x - centre) * y) / spread)
    residual = y - level - slope * (x - centre)
    scatter = 1.0
    if len(points) > 2:
        scatter = max(1.0, float(np.sum(weight * residual**2)) / (len(points) - 2))
    exponent = Quantity(-slope, math.sqrt(scatter / spread) if known else None, "")
    shared = max((_shared(point.charge) / point.charge.value for point in points), default=0.0)
    relative = math.hypot(math.sqrt(scatter / float(np.sum(weight))), shared) if known else None
    at_A = math.exp(centre)
    charge = math.exp(level) * at_A
    working = Working(
        "Peukert exponent",
        "t = H (C / (I H))^k: k = −slope of ln t on ln I, weighted",
        {
            point.name: f"{point.current_A:.4g} A for {point.hours:.4g} h, {format_quantity(point.charge)}"
            for point in points
        },
        f"k = {format_quantity(exponent)}, from {min(currents):.3g} to {max(currents):.3g} A",
        "W. Peukert, ETZ 18 (1897); common form (from memory)",
    )
    return RateLaw(exponent, min(currents), max(currents), at_A, charge, relative, working, tuple(currents))


def _unshared(charge: Quantity) -> float:
    if not charge.terms:
        return charge.standard or 0.0
    return math.sqrt(math.fsum(term.standard**2 for term in charge.terms if not term.shared.endswith("current-gain")))


def _shared(charge: Quantity) -> float:
    return math.sqrt(math.fsum(term.standard**2 for term in charge.terms if term.shared.endswith("current-gain")))


def effective_current(pieces: Sequence[tuple[float, float]], exponent: float) -> float:
    """The one current that would empty a battery in the time of these (amperes, hours) pieces, by Peukert.

    I_eff = (Σ I^k t / Σ t)^(1/k). Source: common practice, from P4's relation.
    """
    hours = math.fsum(duration for _, duration in pieces)
    weighed = math.fsum(current**exponent * duration for current, duration in pieces)
    return float((weighed / hours) ** (1.0 / exponent))


@dataclass(frozen=True)
class TwoWellFit:
    """The kinetic model fitted to discharges, each one or more (amperes, hours) in a row, empty at every end.

    Parts: capacity_Ah at no current; share of the available well; rate_per_h between the wells;
    misfit: the largest share of the capacity left in the available well where it should be empty.
    """

    capacity_Ah: float
    share: float
    rate_per_h: float
    misfit: float

    def charge_at(self, current_A: float) -> float:
        """What a full battery gives at a constant current, Ah."""
        return current_A * hours_to_empty(self.capacity_Ah, current_A, self.share, self.rate_per_h)


def fit_two_wells(discharges: Sequence[Sequence[tuple[float, float]]]) -> TwoWellFit:
    """Fit the two-well model: the available well is empty at the end of every stage.

    Args:
        discharges: each from full; stages in order as (A, h); a rest is (0, h) and need not end empty.

    Raises:
        InputError: fewer than two stage ends, or all at one rate.

    Source: Manwell & McGowan, Solar Energy 50 (1993) (from memory); least squares by SciPy.
    """
    ends = [(current, hours) for stages in discharges for current, hours in stages if current > 0]
    rates = [current for current, _ in ends]
    if len(ends) < 2 or max(rates) < 1.15 * min(rates):
        raise InputError(
            "one rate alone cannot show two wells", mend="give a heavy and a light discharge, or a staged one"
        )
    from scipy.optimize import least_squares

    most = max(math.fsum(current * hours for current, hours in stages) for stages in discharges)

    def misfits(values: np.ndarray) -> np.ndarray:
        capacity, share, rate = most * math.exp(values[0]), 1.0 / (1.0 + math.exp(-values[1])), math.exp(values[2])
        left = []
        for stages in discharges:
            available, bound = share * capacity, (1.0 - share) * capacity
            for current, hours in stages:
                available, bound = two_wells(available, bound, current, hours, share, rate)
                if current > 0:
                    left.append(available / capacity)
        # where there are as many unknowns as ends, the usual shape of lead-acid holds them
        return np.array([*left, 1e-3 * (values[0] - 0.05), 1e-3 * (values[1] + 0.4), 1e-3 * values[2]])

    best = least_squares(misfits, np.array([0.05, -0.4, 0.0]), method="lm")
    capacity, share, rate = most * math.exp(best.x[0]), 1.0 / (1.0 + math.exp(-best.x[1])), math.exp(best.x[2])
    worst = float(np.max(np.abs(misfits(best.x)[: len(ends)])))
    return TwoWellFit(float(capacity), float(share), float(rate), worst)
