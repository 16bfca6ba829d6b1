"""Claims against what was found: outcomes with probability, the effect of unlike conditions, and the working."""

from wintry_tally.core.verdict.evidence import CapacityEvidence, MeasuredEvidence
from wintry_tally.core.verdict.judge import judge
from wintry_tally.core.verdict.outcome import Condition, Outcome, School, Verdict
from wintry_tally.core.verdict.probability import conformity

__all__ = ["CapacityEvidence", "Condition", "MeasuredEvidence", "Outcome", "School", "Verdict", "conformity", "judge"]
