"""What a verdict is made of."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from wintry_tally.core.battery import Claim
from wintry_tally.core.message import NOTHING, Message
from wintry_tally.core.quantity import Quantity, format_plain, format_quantity
from wintry_tally.core.working import Working


class Outcome(StrEnum):
    """What can be said of a claim."""

    MET = "met"
    MISSED = "missed"
    TOO_CLOSE = "too-close"
    NOT_TESTED = "not-tested"
    CANNOT_TEST = "cannot-test"


OUTCOME_WORDS = {
    Outcome.MET: "Met",
    Outcome.MISSED: "Missed",
    Outcome.TOO_CLOSE: "Too close to call",
    Outcome.NOT_TESTED: "Not tested",
    Outcome.CANNOT_TEST: "Cannot be tested here",
}


class School(StrEnum):
    """How strictly numbers are turned into outcomes."""

    STRICT = "strict"
    PLAIN = "plain"
    LENIENT = "lenient"


RULE_NAMES = {School.STRICT: "guarded", School.PLAIN: "plain", School.LENIENT: "lenient"}
"""What each decision rule is called on the screen and on paper; files and options keep the older keys."""

SCHOOL_WORDS = {
    School.STRICT: "met at 95 % probability, missed at 5 %, else too close to call",
    School.PLAIN: "the two numbers compared, uncertainty left aside",
    School.LENIENT: "within 5 % of the rating counts as met, as is common for first cycles",
}


BOUND_WORDS = {None: "", "at-least": "at least ", "at-most": "at most "}


@dataclass(frozen=True)
class Condition:
    """A condition under which the claim was made or is usual, and the one the test had (None where nobody knows), with its
    likely effect; `most`: where that may be anything from nothing to so much, so that both ends are looked at."""

    name: str
    claimed: float | str | None
    actual: float | str | None
    effect: Quantity | None = None
    most: float = 0.0


def up_to(most: float, unit: str, name: str, claimed: float | str | None, actual: float | str | None) -> Condition:
    """A condition whose effect may be anything from nothing to the most: no limit between the two is decided.

    Source: a uniform distribution, JCGM 100:2008 (GUM), 4.3.7.
    """
    return Condition(name, claimed, actual, Quantity(most / 2.0, abs(most) / math.sqrt(12.0), unit), most)


@dataclass(frozen=True)
class Verdict:
    """One claim judged.

    `bound`: what was measured is a bound only, "at-least" or "at-most"; None where it is the value. `barred`: what of the
    readings waits for a decision, or hides in a gap; empty where nothing does.
    """

    claim: Claim
    outcome: Outcome
    measured: Quantity | None = None
    probability: float | None = None
    conditions: tuple[Condition, ...] = ()
    evidence: tuple[str, ...] = ()
    advice: Message | None = None
    working: Working | None = None
    bound: str | None = None
    barred: Message = NOTHING

    @property
    def shown(self) -> Quantity | None:
        """What was measured, in the claim's own unit."""
        return None if self.measured is None else self.claim.shown(self.measured)

    def as_dict(self) -> dict[str, Any]:
        """The shape of the command-line contract."""
        claim = self.claim
        wanted = None if claim.value is None else claim.shown(Quantity(claim.value, 0.0, claim.unit))
        claimed = f"{claim.wanted}" if wanted is None else format_plain(wanted.value, wanted.unit)
        return {
            "kind": claim.kind,
            "source": claim.source,
            "required": {
                "direction": claim.direction.value,
                "value": claim.wanted if claim.value is None else claim.value,
                "tolerance": claim.tolerance,
                "unit": claim.unit,
                "shown": claimed,
            },
            "shown": "" if self.shown is None else f"{BOUND_WORDS[self.bound]}{format_quantity(self.shown)}",
            "measured": None if self.measured is None else {**self.measured.as_dict(), "bound": self.bound},
            "outcome": self.outcome.value,
            "probability": self.probability,
            "conditions": [
                {
                    "name": condition.name,
                    "claimed": condition.claimed,
                    "actual": condition.actual,
                    "effect": None if condition.effect is None else condition.effect.as_dict(),
                }
                for condition in self.conditions
            ],
            "evidence": list(self.evidence),
            "advice": self.advice,
            "working": [] if self.working is None else [step.as_dict() for _, step in self.working.walk()],
        }
