"""`judge`: a claims file to verdicts."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from wintry_tally.cli.logs import analyse_log, options_from, parse_given
from wintry_tally.core.battery import CLAIM_KINDS, Family, family_named, label_findings, pack_of
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.quantity import Quantity
from wintry_tally.core.verdict import MeasuredEvidence, School, judge
from wintry_tally.core.verdict.evidence import Evidence, LogEvidence, evidence_from_log
from wintry_tally.exchange.claims_file import ClaimsFile, EvidencePart, claim_of, read_claims, to_kept

PAIRED = ("cold-loss", "self-discharge")
"""Methods whose logs belong together; the logs of any other are evidence each of its own."""

VERDICT_SCHEMA = "wintry-tally.verdict/1"


def judge_file(path: Path, school: str | None = None) -> dict[str, Any]:
    """Judge a claims file; the object of the command-line contract.

    Raises:
        InputError: anything the file says that cannot be understood, with its place.
    """
    parsed = read_claims(path)
    name = str(path)
    family = pack_of(family_named(parsed.battery.family), parsed.battery.nominal_V)
    claims = [claim_of(part, index, name) for index, part in enumerate(parsed.claim, 1)]
    rated = parsed.battery.rated_Ah
    if rated is None:
        rated = next((claim.value for claim in claims if claim.kind == "capacity" and claim.value), None)
    evidence = [
        item for index, part in enumerate(parsed.evidence, 1) for item in _evidence(part, index, parsed, rated, path)
    ]
    if parsed.battery.nominal_V is None:
        family = _pack_shown(family, evidence)
    chosen = School(school or parsed.school or "strict")
    verdicts = judge(family, rated, claims, evidence, chosen)
    findings = [
        finding.message
        for finding in label_findings(family, claims, parsed.battery.nominal_V)
        if finding.weight == "contradiction"
    ]
    return {
        "schema": VERDICT_SCHEMA,
        "school": chosen.value,
        "battery": {
            "maker": parsed.battery.maker,
            "model": parsed.battery.model,
            "family": parsed.battery.family,
            "nominal_V": parsed.battery.nominal_V if parsed.battery.nominal_V else family.nominal_V,
            "rated_Ah": rated,
        },
        "claims": [verdict.as_dict() for verdict in verdicts],
        "findings": findings,
    }


def _pack_shown(family: Family, evidence: list[Evidence]) -> Family:
    """The pack that every log shows alike, where none was named."""
    shown = {
        analysis.options.family for item in evidence if isinstance(item, LogEvidence) for analysis in item.analyses
    }
    only = next(iter(shown)) if len(shown) == 1 else None
    return family if only is None else only


def _evidence(part: EvidencePart, index: int, parsed: ClaimsFile, rated: float | None, path: Path) -> list[Evidence]:
    place = f"evidence[{index}]"
    if part.method == "measured":
        assert part.measured is not None
        kind = CLAIM_KINDS[part.claim]
        if isinstance(part.measured.value, bool):
            return [MeasuredEvidence(place, kind.key, Quantity(float(part.measured.value), 0.0, ""))]
        if not kind.dimension:
            return [MeasuredEvidence(place, kind.key, Quantity(part.measured.value, 0.0, ""))]
        value, unit = to_kept(part.measured.value, part.measured.unit, kind.dimension, f"{place}.measured", str(path))
        zero, _ = to_kept(0.0, part.measured.unit, kind.dimension, f"{place}.measured", str(path))
        standard = None
        if part.measured.expanded is not None:
            wide, _ = to_kept(part.measured.expanded, part.measured.unit, kind.dimension, place, str(path))
            standard = (wide - zero) / part.measured.k
        step, _ = to_kept(part.measured.digit or 0.0, part.measured.unit, kind.dimension, place, str(path))
        return [MeasuredEvidence(place, kind.key, Quantity(value, standard, unit), digit=step - zero)]
    names = [part.log] if part.log else part.logs
    analyses = []
    for name in names:
        assert name is not None
        where = path.parent / name
        if not where.exists():
            raise InputError(
                f'{place}.log: there is no file "{name}"', str(path), "paths are relative to the claims file"
            )
        given = {"family": parsed.battery.family, "rated_ah": rated, "nominal_v": parsed.battery.nominal_V}
        given |= part.options
        try:
            choices, options = options_from(parse_given(given, f"{place}.options: "))
            analyses.append((name, analyse_log(where, choices, options)[1]))
        except WintryError as error:
            raise InputError(f"{place}: {error}", str(path)) from None
    if part.method in PAIRED:
        return [LogEvidence(part.method, tuple(name for name, _ in analyses), tuple(item for _, item in analyses))]
    return [
        item
        for name, analysis in analyses
        for item in evidence_from_log(part.method, name, analysis, analysis.options.ambient_C)
    ]
