"""Checks made when a battery arrives: its voltage, its charge state, whether it is the family it says."""

from __future__ import annotations

from wintry_tally.core.battery.families import FAMILIES, Family, charge_state_band, likely_families
from wintry_tally.core.battery.finding import Finding
from wintry_tally.core.battery.label import label_findings
from wintry_tally.core.battery.sample import Sample, first_value
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
        findings.append(
            Finding(
                "no-protection-data",
                "No protection data is printed for this lithium pack: overload steps stay withheld until someone "
                "takes that decision and writes down why.",
                "note",
            )
        )
    return findings


def _voltage_findings(family: Family, volts: float, rested: bool) -> list[Finding]:
    low, high = family.plausible_V
    if not rested:
        words = "was taken on charge, under load or too soon after: it is kept, but it does not tell the charge state."
        return [Finding("not-rested", f"{volts:.2f} V {words}", "note")]
    if family.lithium and -0.1 <= volts < 2.0:
        words = (
            "the pack's protection is probably open, which is no proof of a dead battery. It must be woken before any "
            "test; follow its manual."
        )
        return [Finding("asleep", f"{volts:.2f} V: {words}", "warning")]
    if not low <= volts <= high:
        others = [other.words for other in likely_families(volts) if other.key != family.key]
        words = (
            f"{volts:.2f} V lies outside {low:g} to {high:g} V, where a {family.words} battery can be. "
            + (f"It would fit {' or '.join(others)}. " if others else "")
            + "Check the meter's range, the leads and the digits; a decimal mark may have slipped."
        )
        return [Finding("voltage-outside-family", words, "warning")]
    findings = []
    state_low, state_high = charge_state_band(family, volts)
    working = Working(
        "Charge state from a rested voltage",
        "read every chart of the family at V ± 0.07 V; the answer is the widest band",
        {"V rested": f"{volts:.2f} V", "family": family.words},
        f"{state_low:.0f} to {state_high:.0f} %",
        "common practice, no published source; makers' charts disagree by 10 to 20 points",
    )
    findings.append(
        Finding(
            "charge-state",
            f"{volts:.2f} V rested: about {state_low:.0f} to {state_high:.0f} % charged. Charge fully before the "
            "capacity test; it never starts from the as-received state.",
            "good",
            working,
        )
    )
    findings += _family_fit(family, volts)
    if family.arrival_V is not None and not family.arrival_V[0] <= volts <= family.arrival_V[1]:
        bottom, top = family.arrival_V
        side = "below" if volts < bottom else "above"
        findings.append(
            Finding(
                "arrival-window",
                f"As received it is {side} the usual {bottom:.1f} to {top:.1f} V for a {family.words} battery in its "
                "box: a remark, not a failure.",
                "note",
            )
        )
    return findings


def _family_fit(family: Family, volts: float) -> list[Finding]:
    """A rested voltage that this family can hold only nearly empty or above full, and another holds easily."""
    top, bottom = family.charge_state[0][0], family.charge_state[-1][0]
    if family.doubtful_below_V is not None and volts < family.doubtful_below_V:
        low_state = charge_state_band(family, volts)[1]
        full = " (3 cells: 12.6 V is its full)" if family.share == 1.0 else ""
        return [
            Finding(
                "family-doubt",
                f"{volts:.2f} V rested is nearly empty for {family.words} (under {low_state:.0f} %), but normal "
                f"for lead-acid, and for a lithium-ion pack of the NMC type sold as a drop-in{full}. "
                "Make sure of the family before connecting a charger: the wrong setting is dangerous.",
                "warning",
            )
        ]
    if not bottom - 0.3 <= volts <= top + 0.3:
        others = [other.words for other in likely_families(volts) if other.key != family.key]
        fits = f"; it would fit {' or '.join(others)}" if others else ""
        return [
            Finding(
                "family-doubt",
                f"{volts:.2f} V rested is outside {bottom:.1f} to {top:.1f} V, the rested range of a {family.words} "
                f"battery{fits}. Make sure of the family before connecting a charger.",
                "warning",
            )
        ]
    return []


def _claimed_voltage_findings(sample: Sample) -> list[Finding]:
    """Typed voltages that do not fit the declared family: the charge limit above all."""
    findings = []
    family = sample.family
    charge_V = first_value(sample.claims, "charge-voltage") or first_value(sample.claims, "over-voltage-cut")
    if charge_V is not None and not family.charge_V[0] - 0.5 <= charge_V <= family.charge_V[2] + 1.5:
        fits = [
            other.words
            for other in FAMILIES.values()
            if other.key != family.key and other.charge_V[0] - 0.2 <= charge_V <= other.charge_V[2] + 0.2
        ]
        hint = f"; it would fit {' or '.join(fits)}" if fits else ""
        findings.append(
            Finding(
                "charge-voltage-family",
                f"A charge limit of {charge_V:g} V does not fit a {family.words} battery "
                f"({family.charge_V[0]:g} to {family.charge_V[2]:g} V){hint}.",
                "warning",
            )
        )
    cut = first_value(sample.claims, "low-voltage-cut")
    if cut is not None and not family.cutoff_floor_V <= cut < family.charge_state[0][0]:
        findings.append(
            Finding(
                "cutoff-family",
                f"A cut-off of {cut:g} V does not fit a {family.words} battery: its floor is "
                f"{family.cutoff_floor_V:g} V and full is {family.charge_state[0][0]:g} V.",
                "warning",
            )
        )
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
                f"Weighed {weighed:g} kg against {claimed:g} kg claimed: {apart:+.1f} %.".replace("-", "−"),
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
        findings.append(
            Finding(
                "specific-energy",
                f"By its label it holds {density:.0f} Wh per kg"
                + (
                    f": outside {usual[0]:.0f} to {usual[1]:.0f} Wh/kg, usual for such a battery. "
                    "Check the weighing, the family and the rating."
                    if unlike
                    else "."
                ),
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
            f"{per_Ah:.2f} per Ah and {per_Wh:.3f} per Wh of its rating.",
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
