"""The probability that a claim holds, and the outcome a school draws from it."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wintry_tally.core.battery import Direction
from wintry_tally.core.verdict.outcome import Outcome, School

MET_AT = 0.95
MISSED_AT = 0.05
LENIENCE = 0.05


def _phi(z: float) -> float:
    return 0.5 * math.erfc(-z / math.sqrt(2.0))


@dataclass(frozen=True)
class Chance:
    """How likely it is that a claim `holds`, and that the truth lies beyond it: on the one side where that is likelier.

    They add up to 1 for a claim with one end. What is claimed within a band may be unlikely only because the band is narrow
    beside what a measurement can tell: neither side is shown then, and the claim is not refuted.
    """

    holds: float
    beyond: float


def chance_of(value: float, standard: float, required: float, direction: Direction, tolerance: float = 0.0) -> Chance:
    """Both, for a normal error; see `conformity`."""
    holds = conformity(value, standard, required, direction, tolerance)
    if standard <= 0.0 or direction in {Direction.AT_LEAST, Direction.AT_MOST}:
        return Chance(holds, 1.0 - holds)
    below = conformity(value, standard, required - tolerance, Direction.AT_MOST)
    above = conformity(value, standard, required + tolerance, Direction.AT_LEAST)
    return Chance(holds, max(below, above))


def conformity(value: float, standard: float, required: float, direction: Direction, tolerance: float = 0.0) -> float:
    """Probability that the true value conforms, for a normal error.

    At least T: p = Φ((y - T)/u); mirrored for at most; the difference of two for within T ± tolerance.
    Source: JCGM 106:2012, clause 7. With u = 0 it is 0, 1, or 0.5 on the limit itself.
    """
    if standard <= 0.0:
        margin = {Direction.AT_LEAST: value - required, Direction.AT_MOST: required - value}.get(
            direction, tolerance - abs(value - required)
        )
        if direction in {Direction.WITHIN, Direction.IS} and margin == 0.0:
            return 1.0
        return 0.5 if margin == 0.0 else float(margin > 0.0)
    if direction is Direction.AT_LEAST:
        return _phi((value - required) / standard)
    if direction is Direction.AT_MOST:
        return _phi((required - value) / standard)
    upper = (required + tolerance - value) / standard
    lower = (required - tolerance - value) / standard
    return _phi(upper) - _phi(lower)


def outcome_by(
    school: School, value: float, chance: Chance | None, required: float, direction: Direction, tolerance: float
) -> Outcome:
    """The outcome a school draws; strict needs a probability, without one it is too close to call."""
    if school is School.STRICT:
        if chance is None:
            return Outcome.TOO_CLOSE
        if chance.holds >= MET_AT:
            return Outcome.MET
        return Outcome.MISSED if chance.beyond >= 1.0 - MISSED_AT else Outcome.TOO_CLOSE
    slack = LENIENCE * abs(required) if school is School.LENIENT else 0.0
    if direction is Direction.AT_LEAST:
        holds = value >= required - slack
    elif direction is Direction.AT_MOST:
        holds = value <= required + slack
    else:
        holds = abs(value - required) <= tolerance + slack
    return Outcome.MET if holds else Outcome.MISSED
