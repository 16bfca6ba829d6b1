"""Families, claims as printed, label arithmetic, and the checks on arrival."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wintry_tally.core.battery import (
    CLAIM_KINDS,
    FAMILIES,
    Arrival,
    Direction,
    Sample,
    arrival_findings,
    family_named,
    label_findings,
    parse_claim,
)
from wintry_tally.core.battery.claims import NOTED
from wintry_tally.core.battery.families import charge_state_band, likely_families
from wintry_tally.core.battery.printed.vocabulary import shipped
from wintry_tally.core.battery.sample import first_value
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity.units import KEPT


def sample(family: str, claims: tuple[str, ...] = (), **arrival: object) -> Sample:
    return Sample(1, "B1", "M", "X", family, tuple(parse_claim(text) for text in claims), Arrival(**arrival))


def codes(item: Sample) -> list[str]:
    return [finding.code for finding in arrival_findings(item)]


def test_nominal_voltages() -> None:
    # T1, common practice, no published source: 4 × 3.2 V = 12.8 V; 3 × 3.7 V = 11.1 V; lead-acid 6 × 2 V
    assert FAMILIES["lfp"].nominal_V == 12.8
    assert FAMILIES["nmc"].nominal_V == 11.1
    assert {FAMILIES[key].nominal_V for key in ("agm", "gel", "flooded")} == {12.0}


def test_families_are_sound() -> None:
    for family in FAMILIES.values():
        volts = [point[0] for point in family.charge_state]
        states = [point[1] for point in family.charge_state]
        assert volts == sorted(volts, reverse=True) and states == sorted(states, reverse=True)
        assert family.cutoff_floor_V <= family.cutoff_V < family.mean_V[0] < family.mean_V[1] < family.charge_V[0]
        assert family.plausible_V[0] < family.cutoff_V and family.plausible_V[1] > family.charge_V[2]
        assert family_named(family.key.upper()) is family
    with pytest.raises(InputError, match="lfp, agm, gel"):
        family_named("lipo")


def test_rested_voltage_gives_a_band_never_a_number() -> None:
    # handbook charts: common practice, no published source
    low, high = charge_state_band(FAMILIES["lfp"], 13.1)
    assert low <= 40 <= high and high - low > 20
    # T17: AGM 12.59 V about 80 %, 12.33 V about 70 %, 12.05 V 50 % (one maker's chart)
    for volts, state in ((12.59, 80), (12.33, 70), (12.05, 50)):
        low, high = charge_state_band(FAMILIES["agm"], volts)
        assert low <= state <= high
    assert charge_state_band(FAMILIES["flooded"], 13.2) == (100.0, 100.0)
    assert charge_state_band(FAMILIES["nmc"], 5.0) == (0.0, 0.0)


def test_lead_acid_full_agrees_with_the_density_rule() -> None:
    # P20, handbook rule (from memory): rested cell voltage ≈ density + 0.84; 1.265 g/cm³ → 2.105 V, 12.63 V
    assert pytest.approx(12.63) == 6 * (1.265 + 0.84)
    low, high = charge_state_band(FAMILIES["flooded"], 12.63)
    assert low <= 100.0 <= high


@given(st.sampled_from(sorted(FAMILIES)), st.floats(7.0, 15.0))
def test_the_band_rises_with_voltage(key: str, volts: float) -> None:
    family = FAMILIES[key]
    low, high = charge_state_band(family, volts)
    low2, high2 = charge_state_band(family, volts + 0.1)
    assert 0 <= low <= high <= 100 and low2 >= low and high2 >= high


@pytest.mark.parametrize(
    ("text", "kind", "value", "unit", "direction"),
    [
        ("40 Ah", "capacity", 40.0, "Ah", "at-least"),
        ("40000 mAh", "capacity", 40.0, "Ah", "at-least"),
        ("512 Wh", "energy", 512.0, "Wh", "at-least"),
        ("1.28 kWh", "energy", 1280.0, "Wh", "at-least"),
        ("cuts at 10 V", "low-voltage-cut", 10.0, "V", "within"),
        ("cut-off 10,5V", "low-voltage-cut", 10.5, "V", "within"),
        ("trips at 300 ± 50 A", "over-current-trip", 300.0, "A", "within"),
        ("100 A continuous", "continuous-discharge", 100.0, "A", "at-least"),
        ("4.3 kg", "mass", 4.3, "kg", "within"),
        ("€ 289", "price", 289.0, "EUR", "is"),
        ("RC 96 min", "reserve", 5760.0, "s", "at-least"),
        ("self-discharge < 3 %/month", "self-discharge", 3.0, "%/month", "at-most"),
        ("C20 80 Ah", "capacity", 80.0, "Ah", "at-least"),
        ("12V 40 Ah", "capacity", 40.0, "Ah", "at-least"),
        ("6000 cycles", "cycles", 6000.0, "", "at-least"),
        ("up to 20 A charge", "charge-current", 20.0, "A", "at-least"),
        ("5 years warranty", "warranty", 5 * 365.25 * 86400, "s", "is"),
        ("charge voltage 14.4 V", "charge-voltage", 14.4, "V", "within"),
    ],
)
def test_claims_as_printed(text: str, kind: str, value: float, unit: str, direction: str) -> None:
    claim = parse_claim(text)
    assert (claim.kind, claim.unit, claim.direction.value) == (kind, unit, direction)
    assert claim.value == pytest.approx(value)
    assert claim.text == text


def test_conditions_on_a_claim() -> None:
    claim = parse_claim("capacity 40 Ah at 0.2C to 10 V", "manual")
    assert claim.conditions == {"c_rate": 0.2, "cutoff_V": 10.0} and claim.source == "manual"
    assert parse_claim("75 Ah at C/20").conditions["c_rate"] == pytest.approx(0.05)
    assert parse_claim("100 A surge for 5 s").conditions == {"duration_s": 5.0}
    assert parse_claim("40 Ah at 25 °C").conditions == {"temperature_C": 25.0}


def test_trip_window_covers_its_tolerance() -> None:
    # T13, common practice, no published source: 300 ± 50 A means 250 to 350 A
    claim = parse_claim("trips at 300 ± 50 A")
    assert claim.value is not None
    assert (claim.value - claim.tolerance, claim.value + claim.tolerance) == (250.0, 350.0)


@pytest.mark.parametrize("text", ["", "40", "a battery", "40 parsec", "cuts", "12 V"])
def test_claims_that_cannot_be_told(text: str) -> None:
    with pytest.raises(InputError) as caught:
        parse_claim(text)
    assert caught.value.mend


@given(st.text(max_size=40))
def test_any_claim_text_parses_or_is_refused(text: str) -> None:
    try:
        claim = parse_claim(text)
    except InputError:
        return
    assert claim.kind in CLAIM_KINDS


def test_yes_no_claims() -> None:
    assert parse_claim("carrying handle").wanted is True
    assert parse_claim("no app").wanted is False
    assert parse_claim("IP67").kind == "ingress"


def test_the_table_of_kinds_is_whole() -> None:
    for kind in CLAIM_KINDS.values():
        assert kind.key == NOTED or kind.key in set(shipped().phrases.values()), kind.key
        assert not kind.dimension or kind.dimension in KEPT
        assert bool(kind.evidence) != bool(kind.beyond), kind.key
        assert isinstance(kind.direction, Direction)


def test_label_arithmetic() -> None:
    # T1: 12.8 V × 100 Ah = 1280 Wh
    good = [parse_claim("100 Ah"), parse_claim("1280 Wh")]
    assert [finding.code for finding in label_findings(FAMILIES["lfp"], good)] == ["label-agrees"]
    bad = [parse_claim("100 Ah"), parse_claim("1200 Wh", "web page")]
    found = label_findings(FAMILIES["lfp"], bad)
    assert found[0].code == "label-arithmetic" and found[0].weight == "contradiction"
    assert "1280 Wh" in found[0].message and "12 V" in found[0].message
    assert found[0].working is not None and found[0].working.result == "1280 Wh"
    # an NMC pack labelled as a 12.8 V one
    assert label_findings(FAMILIES["nmc"], good)[0].code == "label-arithmetic"
    assert label_findings(FAMILIES["nmc"], good, nominal_V=12.8)[0].code == "label-agrees"


def test_contradictions_are_kept_and_named() -> None:
    claims = [parse_claim("60 Ah"), parse_claim("62 Ah", "manual"), parse_claim("768 Wh")]
    found = [finding for finding in label_findings(FAMILIES["lfp"], claims) if finding.code == "contradiction"]
    assert len(found) == 1 and "on the label" in found[0].message and "in the manual" in found[0].message
    same_kind_other_conditions = [parse_claim("60 Ah at 0.2C"), parse_claim("55 Ah at 1C")]
    assert not label_findings(FAMILIES["lfp"], same_kind_other_conditions)


def test_the_label_wins_over_other_sources() -> None:
    claims = (parse_claim("62 Ah", "manual"), parse_claim("60 Ah", "label"))
    assert first_value(claims, "capacity") == 60.0
    assert first_value(claims, "mass") is None


@pytest.mark.parametrize(
    ("family", "volts", "expected", "not_expected"),
    [
        ("lfp", 13.14, "charge-state", "family-doubt"),
        ("lfp", 12.6, "family-doubt", "voltage-outside-family"),
        ("lfp", 0.4, "asleep", "charge-state"),
        ("lfp", 1.314, "asleep", "charge-state"),
        ("lfp", 131.4, "voltage-outside-family", "charge-state"),
        ("agm", 12.78, "charge-state", "arrival-window"),
        ("agm", 12.2, "arrival-window", "family-doubt"),
        ("flooded", 13.3, "family-doubt", "asleep"),
        ("nmc", 11.4, "charge-state", "family-doubt"),
        ("nmc", 13.2, "voltage-outside-family", "charge-state"),
        ("lfp", 13.45, "arrival-window", "family-doubt"),
    ],
)
def test_as_received_voltage(family: str, volts: float, expected: str, not_expected: str) -> None:
    found = codes(sample(family, rested_V=volts))
    assert expected in found and not_expected not in found


def test_a_voltage_that_has_not_rested_is_kept_and_said_so() -> None:
    found = arrival_findings(sample("lfp", rested_V=13.9, rested=False))
    assert [finding.code for finding in found if finding.code != "no-protection-data"] == ["not-rested"]
    assert "13.90 V" in found[0].message


def test_a_drop_in_that_is_no_lfp_shows_in_its_charge_limit() -> None:
    # handbook 2: NMC is sold as a plain "lithium" substitute; 12.6 V is its limit, 14.6 V LFP's
    found = [
        f for f in arrival_findings(sample("nmc", ("charge voltage 14.6 V",))) if f.code == "charge-voltage-family"
    ]
    assert found and "lithium iron phosphate" in found[0].message
    assert "charge-voltage-family" in codes(sample("lfp", ("charge voltage 12.6 V",)))
    assert "charge-voltage-family" not in codes(sample("lfp", ("charge voltage 14.4 V",)))
    assert "cutoff-family" in codes(sample("agm", ("cuts at 8 V",)))


def test_mass_and_price() -> None:
    found = {f.code: f for f in arrival_findings(sample("lfp", ("40 Ah", "4.4 kg", "€ 230"), mass_kg=4.9))}
    assert "+11.4 %" in found["mass"].message and found["mass"].weight == "note"
    assert found["specific-energy"].weight == "good" and "104 Wh" in found["specific-energy"].message
    assert "5.75 per Ah" in found["price"].message
    light = {f.code: f for f in arrival_findings(sample("agm", ("80 Ah",), mass_kg=6.0))}
    assert light["specific-energy"].weight == "warning"


def test_protection_data_missing_is_a_note_for_lithium_only() -> None:
    assert "no-protection-data" in codes(sample("lfp", ("40 Ah",)))
    assert "no-protection-data" not in codes(sample("lfp", ("cuts at 10 V",)))
    assert "no-protection-data" not in codes(sample("agm", ("75 Ah",)))


def test_likely_families() -> None:
    assert [family.key for family in likely_families(13.2)] == ["lfp"]
    assert "nmc" in [family.key for family in likely_families(11.3)]


def test_sample_words() -> None:
    item = sample("lfp", ("40 Ah", "cuts at 9.6 V"))
    assert (item.title, item.rated_Ah, item.cutoff_V) == ("M X", 40.0, 9.6)
    assert sample("agm").cutoff_V == 10.5
    assert Sample(1, "B", "", "", "lfp").title == "maker and model not noted"


def _codes(*texts: str) -> list[str]:
    claims = [parse_claim(text) for text in texts]
    return [finding.code for finding in label_findings(FAMILIES["lfp"], claims)]


def test_limits_that_leave_each_other_no_room() -> None:
    """What opens below what is to flow, or closes where it would open again: common practice, no published source."""
    rated = "continuous discharge 100 A"
    assert _codes(rated, "trips at 110 ± 9 A") == [] and _codes(rated, "trips at 110 ± 10 A") == ["trip-holds-rating"]
    (held,) = label_findings(
        FAMILIES["lfp"], [parse_claim(rated), parse_claim("trips at 110 ± 15 A after 5 s", "manual")]
    )
    assert held.weight == "contradiction" and held.message == (
        "Over-current trip 110 A ± 15 A after 5 s in the manual, Continuous discharge 100 A on the label: the trip's window holds "
        "what is to flow for good. Both are kept and judged."
    )
    (below,) = label_findings(FAMILIES["lfp"], [parse_claim(rated), parse_claim("trips at 80 ± 10 A")])
    assert "lies below" in below.message
    assert _codes(rated, "surge 99 A for 5 s") == ["surge-below-rating"] and _codes(rated, "surge 100 A for 5 s") == []
    assert _codes("continuous discharge 150 A for 300 s", "trips at 120 A") == []  # not for good
    assert _codes("surge 200 A for 5 s", "trips at 150 A after 2 s") == ["surge-outlasts-trip"]
    assert _codes("surge 200 A for 2 s", "trips at 150 A after 2 s") == []
    assert _codes("surge 200 A for 5 s", "trips at 150 A") == []  # when it trips is not printed
    assert _codes("surge 150 A for 5 s", "trips at 150 A after 2 s") == []
    for cut, release, code in (
        ("cuts at 10 V", "LVR 12.5 V", []), ("cuts at 12.6 V", "LVR 12.5 V", ["cut-above-release"]), ("cuts at 12.5 V", "LVR 12.5 V", []),
        ("HVD 15 V", "over voltage release 14.2 V", []), ("HVD 14 V", "over voltage release 14.2 V", ["cut-above-release"]),
        ("charge voltage 14.4 ± 0.2 V", "HVD 14.2 V", []), ("charge voltage 14.4 ± 0.2 V", "HVD 14.1 V", ["charge-above-cut"]),
        ("charge voltage 14.6 V", "HVD 14.4 ± 0.2 V", []), ("price 100 EUR", "price 120 USD", []), ("price 100", "price 120 EUR", ["contradiction"]),
        ("price 100 EUR", "price 120 EUR", ["contradiction"]), ("charge block 0 °C", "charge release 5 °C", []), ("charge block 6 °C", "charge release 5 °C", ["cut-above-release"]),
    ):  # fmt: skip
        assert _codes(cut, release) == code, (cut, release)


def test_a_rating_for_a_while_does_not_contradict_the_one_for_good() -> None:
    assert _codes("continuous discharge 100 A", "continuous discharge 150 A for 300 s") == []
    assert _codes("continuous discharge 100 A", "continuous discharge 150 A") == ["contradiction"]
    assert _codes("continuous discharge 140 A for 300 s", "continuous discharge 150 A for 300 s") == ["contradiction"]
