"""What a label says of itself: its arithmetic, and printed claims that contradict each other."""

from __future__ import annotations

from collections.abc import Sequence

from wintry_tally.core.battery.claims import CLAIM_KINDS, Claim
from wintry_tally.core.battery.families import Family
from wintry_tally.core.battery.finding import Finding
from wintry_tally.core.quantity.display import format_plain
from wintry_tally.core.quantity.units import in_unit
from wintry_tally.core.working import Working


def label_findings(
    family: Family, claims: Sequence[Claim], nominal_V: float | None = None, chosen: bool = True
) -> list[Finding]:
    """Check V × Ah against Wh, and every kind claimed twice with different values.

    Args:
        family: the declared family; its nominal voltage is used where none is printed.
        claims: as printed, all kept whatever is found.
        nominal_V: a printed nominal voltage.
        chosen: whether `family` was declared; otherwise its nominal voltage is not relied on.

    Source: common practice, no published source (4 × 3.2 V = 12.8 V; × 100 Ah = 1280 Wh).
    """
    findings = contradictions(claims)
    nominal = nominal_V if nominal_V is not None else (family.nominal_V if chosen else None)
    if nominal is None:
        return findings
    for capacity in (claim for claim in claims if claim.kind == "capacity" and claim.value):
        for energy in (claim for claim in claims if claim.kind == "energy" and claim.value):
            assert capacity.value is not None and energy.value is not None
            computed = nominal * capacity.value
            # a label rounds: half a unit of the printed Wh, or a point of a percent
            slack = max(0.01 * computed, 0.5)
            implied = energy.value / capacity.value
            working = Working(
                "Energy from the label's own figures",
                "E = V_nominal × C",
                {
                    "V_nominal": f"{format_plain(nominal)} V",
                    f"C ({capacity.source})": f"{format_plain(capacity.value)} Ah",
                    f"E printed ({energy.source})": f"{format_plain(energy.value)} Wh",
                },
                f"{format_plain(computed)} Wh",
                "common practice",
            )
            if abs(computed - energy.value) <= slack:
                findings.append(
                    Finding(
                        "label-agrees",
                        f"{format_plain(nominal)} V × {format_plain(capacity.value)} Ah = {format_plain(computed)} Wh: agrees with the "
                        f"{format_plain(energy.value)} Wh {printed(energy.source)}.",
                        "good",
                        working,
                    )
                )
            else:
                findings.append(
                    Finding(
                        "label-arithmetic",
                        f"{format_plain(nominal)} V × {format_plain(capacity.value)} Ah ({capacity.source}) = {format_plain(computed)} Wh, "
                        f"but {format_plain(energy.value)} Wh is printed {printed(energy.source)}; "
                        f"that would need {format_plain(implied)} V.",
                        "contradiction",
                        working,
                    )
                )
    return findings


def contradictions(claims: Sequence[Claim]) -> list[Finding]:
    """Claims of one kind and like conditions, printed with different values; each pair is a finding."""
    findings = []
    for kind in CLAIM_KINDS.values():
        same = [claim for claim in claims if claim.kind == kind.key and claim.value is not None]
        if kind.repeatable:
            continue
        for index, first in enumerate(same):
            for second in same[index + 1 :]:
                assert first.value is not None and second.value is not None
                if dict(first.conditions) != dict(second.conditions) and first.conditions and second.conditions:
                    continue
                span = first.tolerance + second.tolerance
                if abs(first.value - second.value) > span + 1e-9 * abs(first.value):
                    findings.append(
                        Finding(
                            "contradiction",
                            f"{kind.label}: {_claimed(first)} {printed(first.source)}, "
                            f"{_claimed(second)} {printed(second.source)}. Both are kept and judged.",
                            "contradiction",
                        )
                    )
    return findings


def printed(source: str) -> str:
    """Where, in words: on the label, in the manual."""
    return f"in the {source}" if source.startswith("manual") else f"on the {source}"


def _claimed(claim: Claim) -> str:
    assert claim.value is not None
    unit = claim.definition.shown_unit
    return format_plain(in_unit(claim.value, unit), unit)
