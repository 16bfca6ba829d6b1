"""Checks made when a battery arrives: its voltage, its charge state, whether it is the family it says."""

from __future__ import annotations

from wintry_tally.core.battery.families import FAMILIES, Family, charge_state_band, likely_families
from wintry_tally.core.battery.finding import Finding
from wintry_tally.core.battery.label import label_findings
from wintry_tally.core.battery.sample import Sample, first_value
from wintry_tally.core.message import Message, said
from wintry_tally.core.working import Working

__all__ = ["Finding", "arrival_findings"]


def arrival_findings(sample: Sample) -> list[Finding]:
    """Everything the arrival data says at once: label arithmetic, rested voltage, family, mass, price."""
    family = sample.family
    findings = label_findings(family, sample.claims, sample.nominal_V)
    if sample.arrival.rested_V is not None:
        findings += _voltage_findings(family, sample.arrival.rested_V, sample.arrival.rested)
    findings += _claimed_voltage_findings(sample)
    findings += _mass_findings(sample)
    findings += _price_findings(sample)
    if family.lithium and not any(
        claim.kind in {"over-current-trip", "low-voltage-cut", "over-voltage-cut"} for claim in sample.claims
    ):
        findings.append(Finding("no-protection-data", said("protection-unprinted"), "note"))
    return findings


def _voltage_findings(family: Family, volts: float, rested: bool) -> list[Finding]:
    low, high = family.plausible_V
    if not rested:
        return [Finding("not-rested", said("voltage-not-rested", volts=volts), "note")]
    if family.lithium and -0.1 <= volts < 2.0:
        return [Finding("asleep", said("pack-asleep", volts=volts), "warning")]
    if not low <= volts <= high:
        told = _no_family("rested-outside", "rested-outside-fits", family, volts, low, high)
        return [Finding("voltage-outside-family", told, "warning")]
    findings = []
    state_low, state_high = charge_state_band(family, volts)
    working = Working(
        "Charge state from a rested voltage",
        "read every chart of the family at V ± 0.07 V; the answer is the widest band",
        {"V rested": f"{volts:.2f} V", "family": family.words},
        f"{state_low:.0f} to {state_high:.0f} %",
        "common practice, no published source; makers' charts disagree by 10 to 20 points",
    )
    charged = said("rested-charged", volts=volts, low=state_low, high=state_high)
    findings.append(Finding("charge-state", charged, "good", working))
    findings += _family_fit(family, volts)
    if family.arrival_V is not None and not family.arrival_V[0] <= volts <= family.arrival_V[1]:
        bottom, top = family.arrival_V
        side = "received-below" if volts < bottom else "received-above"
        findings.append(Finding("arrival-window", said(side, low=bottom, high=top, family=family.words), "note"))
    return findings


def _no_family(none: str, some: str, family: Family, volts: float, low: float, high: float) -> Message:
    """That a voltage is not one of this family's; by the second code where it would fit another."""
    others = tuple(other.words for other in likely_families(volts) if other.key != family.key)
    if not others:
        return said(none, volts=volts, low=low, high=high, family=family.words)
    return said(some, volts=volts, low=low, high=high, family=family.words, others=others)


def _family_fit(family: Family, volts: float) -> list[Finding]:
    """A rested voltage that this family can hold only nearly empty or above full, and another holds easily."""
    top, bottom = family.charge_state[0][0], family.charge_state[-1][0]
    if family.doubtful_below_V is not None and volts < family.doubtful_below_V:
        low_state = charge_state_band(family, volts)[1]
        code = "perhaps-three-cells" if family.share == 1.0 else "perhaps-other-family"
        return [Finding("family-doubt", said(code, volts=volts, family=family.words, most=low_state), "warning")]
    if not bottom - 0.3 <= volts <= top + 0.3:
        told = _no_family("rested-no-family", "rested-other-family", family, volts, bottom, top)
        return [Finding("family-doubt", told, "warning")]
    return []


def _claimed_voltage_findings(sample: Sample) -> list[Finding]:
    """Typed voltages that do not fit the declared family: the charge limit above all."""
    findings = []
    family = sample.family
    charge_V = first_value(sample.claims, "charge-voltage") or first_value(sample.claims, "over-voltage-cut")
    if charge_V is not None and not family.charge_V[0] - 0.5 <= charge_V <= family.charge_V[2] + 1.5:
        fits = tuple(
            other.words
            for other in FAMILIES.values()
            if other.key != family.key and other.charge_V[0] - 0.2 <= charge_V <= other.charge_V[2] + 0.2
        )
        low, high = family.charge_V[0], family.charge_V[2]
        told = said("charge-limit-unfit", volts=charge_V, low=low, high=high, family=family.words)
        if fits:
            told = said("charge-limit-fits", volts=charge_V, low=low, high=high, family=family.words, others=fits)
        findings.append(Finding("charge-voltage-family", told, "warning"))
    cut = first_value(sample.claims, "low-voltage-cut")
    if cut is not None and not family.cutoff_floor_V <= cut < family.charge_state[0][0]:
        floor, full = family.cutoff_floor_V, family.charge_state[0][0]
        told = said("cutoff-unfit", volts=cut, family=family.words, floor=floor, full=full)
        findings.append(Finding("cutoff-family", told, "warning"))
    return findings


def _mass_findings(sample: Sample) -> list[Finding]:
    claimed, weighed = first_value(sample.claims, "mass"), sample.arrival.mass_kg
    if weighed is None:
        return []
    findings = []
    if claimed:
        apart = 100.0 * (weighed - claimed) / claimed
        findings.append(
            Finding(
                "mass",
                said("weighed", mass=weighed, claimed=claimed, share=apart),
                "good" if abs(apart) <= 5 else "note",
                Working(
                    "Mass against the claim",
                    "(m − m_claimed) / m_claimed",
                    {"m": f"{weighed:g} kg", "m_claimed": f"{claimed:g} kg"},
                    f"{apart:+.1f} %",
                    "common practice",
                ),
            )
        )
    rated = sample.rated_Ah
    if rated and weighed > 0:
        density = rated * sample.family.nominal_V / weighed
        usual = (70.0, 180.0) if sample.family.lithium else (20.0, 50.0)
        unlike = not usual[0] <= density <= usual[1]
        told = said("holds-per-mass", density=density)
        if unlike:
            told = said("holds-per-mass-unusual", density=density, low=usual[0], high=usual[1])
        findings.append(
            Finding(
                "specific-energy",
                told,
                "warning" if unlike else "good",
                Working(
                    "Specific energy by the label",
                    "V_nominal × C / m",
                    {"V_nominal": f"{sample.family.nominal_V:g} V", "C": f"{rated:g} Ah", "m": f"{weighed:g} kg"},
                    f"{density:.0f} Wh/kg",
                    "common practice, no published source (window from experience)",
                ),
            )
        )
    return findings


def _price_findings(sample: Sample) -> list[Finding]:
    price, rated = first_value(sample.claims, "price"), sample.rated_Ah
    if not price or not rated:
        return []
    per_Ah = price / rated
    per_Wh = price / (rated * sample.family.nominal_V)
    return [
        Finding(
            "price",
            said("price-of-rating", per_Ah=per_Ah, per_Wh=per_Wh),
            "good",
            Working(
                "Price of the rating",
                "price / C, price / (V_nominal × C)",
                {"price": f"{price:g}", "C": f"{rated:g} Ah", "V_nominal": f"{sample.family.nominal_V:g} V"},
                f"{per_Ah:.2f} per Ah, {per_Wh:.3f} per Wh",
                "arithmetic",
            ),
        )
    ]
