"""What a label says of itself: its arithmetic, and printed claims that contradict each other."""

from __future__ import annotations

from collections.abc import Sequence

from wintry_tally.core.battery.claims import CLAIM_KINDS, Claim
from wintry_tally.core.battery.families import Family
from wintry_tally.core.battery.finding import Finding
from wintry_tally.core.message import Message, said
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
    findings = contradictions(claims) + overlaps(claims)
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
            figures = {"volts": nominal, "charge_Ah": capacity.value, "energy_Wh": computed, "stated_Wh": energy.value}
            where = printed(energy.source)
            if abs(computed - energy.value) <= slack:
                told = said("label-sums", where=where, **figures)
                findings.append(Finding("label-agrees", told, "good", working))
            else:
                told = said("label-does-not-sum", where=where, source=capacity.source, needed=implied, **figures)
                findings.append(Finding("label-arithmetic", told, "contradiction", working))
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
                if first.conditions.get("duration_s") != second.conditions.get("duration_s"):
                    continue  # what flows for five minutes says nothing against what flows for good
                if first.currency != second.currency and first.currency and second.currency:
                    continue  # each in its own country
                span = first.tolerance + second.tolerance
                if abs(first.value - second.value) > span + 1e-9 * abs(first.value):
                    told = said(
                        "two-values", claim=kind.label, first=_claimed(first), first_where=printed(first.source),
                        second=_claimed(second), second_where=printed(second.source),
                    )  # fmt: skip
                    findings.append(Finding("contradiction", told, "contradiction"))
    return findings


RELEASES = (
    ("low-voltage-cut", "low-voltage-release", 1.0),
    ("over-voltage-cut", "over-voltage-release", -1.0),
    ("cold-charge-block", "cold-charge-release", 1.0),
)
"""What opens, what closes it again, and on which side of it: a low cut is released above itself, a high one below."""


def overlaps(claims: Sequence[Claim]) -> list[Finding]:
    """Limits that leave no room for each other.

    A trip's window that holds the continuous rating or lies below it, a surge below that rating, a surge that outlasts the
    delay of a trip it is above, a cut beyond its release, a charge above the cut that ends it. Source: common practice, no published source.
    """
    by_kind: dict[str, list[Claim]] = {}
    for claim in claims:
        if claim.value is not None:
            by_kind.setdefault(claim.kind, []).append(claim)
    rated = [one for one in by_kind.get("continuous-discharge", []) if "duration_s" not in one.conditions]
    found = []
    for trip in by_kind.get("over-current-trip", []):
        for one in rated:
            if _value(trip) - trip.tolerance <= _value(one):
                held = _value(one) <= _value(trip) + trip.tolerance
                why = said("window-holds-rating" if held else "window-below-rating")
                found.append(_at_odds("trip-holds-rating", trip, one, why))
    for surge in by_kind.get("surge", []):
        found += [
            _at_odds("surge-below-rating", surge, one, said("surge-not-above"))
            for one in rated
            if _value(surge) < _value(one)
        ]
        for trip in by_kind.get("over-current-trip", []):
            delay, lasts = trip.conditions.get("delay_s"), surge.conditions.get("duration_s")
            if (
                delay is not None
                and lasts is not None
                and lasts > delay
                and _value(surge) > _value(trip) + trip.tolerance
            ):
                found.append(_at_odds("surge-outlasts-trip", surge, trip, said("surge-too-long")))
    for cut_kind, release_kind, way in RELEASES:
        for cut in by_kind.get(cut_kind, []):
            found += [
                _at_odds("cut-above-release", cut, release, said("cut-at-once-again"))
                for release in by_kind.get(release_kind, [])
                if way * (_value(cut) - _value(release)) > 0.0
            ]
    for charge in by_kind.get("charge-voltage", []):
        found += [
            _at_odds("charge-above-cut", charge, cut, said("cut-before-full"))
            for cut in by_kind.get("over-voltage-cut", [])
            if _value(charge) - charge.tolerance > _value(cut) + cut.tolerance + 1e-9
        ]
    return found


def _value(claim: Claim) -> float:
    assert claim.value is not None
    return claim.value


def _at_odds(code: str, one: Claim, other: Claim, why: Message) -> Finding:
    return Finding(code, said("at-odds", one=_as_printed(one), other=_as_printed(other), why=why), "contradiction")


def _as_printed(claim: Claim) -> Message:
    value: str = _claimed(claim)
    if claim.tolerance:
        value = said("value-within", value=value, tolerance=format_plain(claim.tolerance, claim.unit))
    lasts = claim.conditions.get("duration_s", claim.conditions.get("delay_s"))
    if lasts is not None:
        value = said(
            "value-for" if claim.kind == "surge" else "value-after", value=value, time=format_plain(lasts, "s")
        )
    return said("claim-printed", claim=claim.definition.label, value=value, where=printed(claim.source))


def printed(source: str) -> Message:
    """Where, in words: on the label, in the manual, by its units."""
    if source.startswith("its "):
        return said("printed-by", source=source)
    return said("printed-in" if source.startswith("manual") else "printed-on", source=source)


def _claimed(claim: Claim) -> str:
    assert claim.value is not None
    unit = claim.currency if claim.kind == "price" else claim.definition.shown_unit
    return format_plain(in_unit(claim.value, unit), unit)
