"""A claim with everything a judging function may look at."""

from __future__ import annotations

from dataclasses import dataclass

from wintry_tally.core.battery import Claim, Family
from wintry_tally.core.verdict.evidence import CapacityEvidence, Evidence, LogEvidence, MeasuredEvidence
from wintry_tally.core.verdict.outcome import School


@dataclass(frozen=True)
class Case:
    """Everything a judging function may look at."""

    claim: Claim
    family: Family
    rated_Ah: float | None
    evidence: tuple[Evidence, ...]
    school: School

    @property
    def capacity_runs(self) -> list[CapacityEvidence]:
        """The capacity tests among the evidence."""
        return [item for item in self.evidence if isinstance(item, CapacityEvidence)]

    def measured(self, kind: str) -> list[MeasuredEvidence]:
        """Direct measurements of a kind."""
        return [
            item
            for item in self.evidence
            if isinstance(item, MeasuredEvidence) and item.kind == kind and item.of in {"", self.claim.text}
        ]

    def logs(self, *methods: str) -> list[LogEvidence]:
        """Logs taken by one of these methods, in their order, the latest of each first.

        A log whose method nobody named may be any, and comes after those taken for it; one whose readings wait for a
        decision comes after the others of its method.
        """
        found = [item for item in self.evidence if isinstance(item, LogEvidence)]
        fit = [item for item in reversed(found) if not item.method or item.method in methods]
        return sorted(fit, key=lambda item: (methods.index(item.method) if item.method else 0.5, bool(item.waiting)))
