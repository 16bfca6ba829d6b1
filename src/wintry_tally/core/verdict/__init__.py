"""Claims against what was found: outcomes with probability, the effect of unlike conditions, and the working.

The parts that compute are loaded when first asked for, so that showing an outcome does not load NumPy.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from wintry_tally.core.verdict.outcome import Condition, Outcome, School, Verdict
from wintry_tally.core.verdict.probability import conformity

if TYPE_CHECKING:
    from wintry_tally.core.verdict.evidence import CapacityEvidence, MeasuredEvidence
    from wintry_tally.core.verdict.judging import judge

__all__ = ["CapacityEvidence", "Condition", "MeasuredEvidence", "Outcome", "School", "Verdict", "conformity", "judge"]


def __getattr__(name: str) -> Any:
    if name == "judge":
        from wintry_tally.core.verdict.judging import judge

        return judge
    if name in {"CapacityEvidence", "MeasuredEvidence"}:
        from wintry_tally.core.verdict import evidence

        return getattr(evidence, name)
    raise AttributeError(name)
