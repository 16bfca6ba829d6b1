"""A claim with everything a judging function may look at."""

from __future__ import annotations

from dataclasses import dataclass

from wintry_tally.core.battery import Claim, Family
from wintry_tally.core.verdict.evidence import (
    CapacityEvidence,
    Evidence,
    LogEvidence,
    MeasuredEvidence,
    counted_down_to,
)
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
        """The capacity tests among the evidence, each counted down to the claim's own cut-off where it went on below."""
        runs = [item for item in self.evidence if isinstance(item, CapacityEvidence)]
        cutoff_V = self.claim.conditions.get("cutoff_V")
        return runs if cutoff_V is None else [self.counted_down_to(run, cutoff_V) for run in runs]

    def counted_down_to(self, run: CapacityEvidence, cutoff_V: float) -> CapacityEvidence:
        """One of them counted no further than to a cut-off, where its log is there and goes on below."""
        logs = (one.analysis for one in self.evidence if isinstance(one, LogEvidence) and one.names == (run.name,))
        analysis = next(logs, None)
        return run if analysis is None else counted_down_to(run, analysis, cutoff_V)

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
