"""What a verdict is made of."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from wintry_tally.core.battery import Claim
from wintry_tally.core.quantity import Quantity
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


SCHOOL_WORDS = {
    School.STRICT: "met at 95 % probability, missed at 5 %, else too close to call",
    School.PLAIN: "the two numbers compared, doubt left aside",
    School.LENIENT: "within 5 % of the rating counts as met, as is common for first cycles",
}


@dataclass(frozen=True)
class Condition:
    """A condition under which the claim was made or is usual, and the one the test had, with its likely effect."""

    name: str
    claimed: float | str | None
    actual: float | str | None
    effect: Quantity | None = None


@dataclass(frozen=True)
class Verdict:
    """One claim judged."""

    claim: Claim
    outcome: Outcome
    measured: Quantity | None = None
    probability: float | None = None
    conditions: tuple[Condition, ...] = ()
    evidence: tuple[str, ...] = ()
    advice: str | None = None
    working: Working | None = None

    def as_dict(self) -> dict[str, Any]:
        """The shape of the command-line contract."""
        claim = self.claim
        return {
            "kind": claim.kind,
            "source": claim.source,
            "required": {
                "direction": claim.direction.value,
                "value": claim.wanted if claim.value is None else claim.value,
                "tolerance": claim.tolerance,
                "unit": claim.unit,
            },
            "measured": None if self.measured is None else self.measured.as_dict(),
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
