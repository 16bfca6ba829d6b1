"""What is measured without a log: prices in their currency, masses and sizes read to their last digit; the contract, to the letter."""

from __future__ import annotations

import json
import math
from pathlib import Path

import pytest

from wintry_tally.cli.judging import judge_file
from wintry_tally.cli.main import invoke
from wintry_tally.core.battery import Sample, parse_claim
from wintry_tally.core.battery.sample import Arrival
from wintry_tally.core.compare.comparing import compare_samples
from wintry_tally.core.compare.figures import figures_of
from wintry_tally.core.verdict import Outcome, judge
from wintry_tally.files import last_digit
from wintry_tally.report.dossier import arrival_evidence, entered_evidence
from wintry_tally.report.words import claim_words


def judged(folder: Path, claim: str, measured: str, kind: str) -> dict:
    path = folder / "claims.toml"
    path.write_text(
        f'[battery]\nfamily = "lfp"\n[[claim]]\nkind = "{kind}"\n{claim}\n'
        f'[[evidence]]\nmethod = "measured"\nclaim = "{kind}"\nmeasured = {{{measured}}}\n'
    )
    return judge_file(path)["claims"][0]


@pytest.mark.parametrize(
    ("claim", "paid", "outcome", "p"),
    [
        ('value = 229\nunit = "EUR"', "value = 229.0, unit = '€'", "met", 1.0),
        ('value = 229\nunit = "EUR"', "value = 229.5, unit = 'EUR'", "met", 1.0),
        ('value = 229\nunit = "EUR"', "value = 230, unit = 'EUR'", "missed", 0.0),
        ('value = 229\nunit = "EUR"\ndirection = "at-most"', "value = 228.99, unit = 'eur'", "met", 1.0),
        ('value = 229\nunit = "EUR"\ndirection = "at-most"', "value = 229.01", "missed", 0.0),
        ('value = 2290\nunit = "NOK"', "value = 2290, unit = 'NOK'", "met", 1.0),
        ('value = 229\nunit = "EUR"', "value = 229, unit = 'USD'", "not-tested", None),
        ('value = 229\nunit = "XYZ"', "value = 229, unit = 'USD'", "not-tested", None),
        ('value = 229', "value = 229, unit = 'USD'", "met", 1.0),
        ('value = 229\nunit = "EUR"\ndirection = "at-most"', "value = 229.01, unit = 'EUR', expanded = 2.0", "too-close", 0.496),
    ],
)  # fmt: skip
def test_a_price_is_exact_and_in_its_currency(
    tmp_path: Path, claim: str, paid: str, outcome: str, p: float | None
) -> None:
    found = judged(tmp_path, claim, paid, "price")
    assert found["outcome"] == outcome and (
        found["probability"] == p if p is None else found["probability"] == pytest.approx(p, abs=1e-3)
    )
    unit = claim.partition('unit = "')[2].partition('"')[0]
    assert found["required"]["unit"] == (unit or "money") and "money" not in found["required"]["shown"]
    if outcome == "not-tested":
        assert "USD" in found["advice"] and unit in found["advice"] and found["measured"]["unit"] == "USD"
    elif "expanded" not in paid:
        assert found["measured"]["expanded"] == 0.0 and found["measured"]["unit"] == (unit or "USD")


@pytest.mark.parametrize(
    ("kind", "claim", "measured", "expanded"),
    [
        ("mass", 'value = 4.4\nunit = "kg"', "value = 4.31, unit = 'kg'", 0.01 / math.sqrt(3)),
        ("mass", 'value = 4.4\nunit = "kg"', "value = 4.30, unit = 'kg'", 0.01 / math.sqrt(3)),
        ("mass", 'value = 4.4\nunit = "kg"', "value = 4.3, unit = 'kg'", 0.1 / math.sqrt(3)),
        ("mass", 'value = 4.4\nunit = "kg"', "value = 4310, unit = 'g'", 0.001 / math.sqrt(3)),
        ("length", 'value = 200\nunit = "mm"', "value = 20.1, unit = 'cm'", 1.0 / math.sqrt(3)),
        ("height", 'value = 200\nunit = "mm"', "value = 200", 1.0 / math.sqrt(3)),
        ("mass", 'value = 4.4\nunit = "kg"', "value = 4.31, unit = 'kg', expanded = 0.2", 0.2),
    ],
)
def test_a_mass_or_a_size_is_read_to_its_last_digit(
    tmp_path: Path, kind: str, claim: str, measured: str, expanded: float
) -> None:
    # JCGM 100:2008, F.2.2.1: a digital indication of resolution d has u = d/(2√3), so U = d/√3 (from memory)
    found = judged(tmp_path, claim, measured, kind)
    assert found["measured"]["expanded"] == pytest.approx(expanded) and found["outcome"] != "not-tested"


def test_what_a_number_is_written_with(tmp_path: Path) -> None:
    assert [last_digit(value) for value in (4, 4.25, 1e-3, 330)] == [1.0, 0.01, pytest.approx(1e-3), 1.0]
    assert last_digit(True) is None and last_digit("4") is None and last_digit(math.inf) is None
    path = tmp_path / "c.json"
    path.write_text(json.dumps({
        "battery": {"family": "lfp"}, "claim": [{"kind": "mass", "value": 4.4, "unit": "kg"}],
        "evidence": [{"method": "measured", "claim": "mass", "measured": {"value": 4.3, "unit": "kg"}}],
    }).replace("4.3,", "4.3000,"))  # fmt: skip
    found = judge_file(path)["claims"][0]
    assert found["measured"]["expanded"] == pytest.approx(1e-4 / math.sqrt(3))
    assert invoke(["judge", str(path), "--json"]) == 0
    path.write_text(path.read_text().replace('"unit": "kg"}}', '"unit": "kg", "digit": 1}}'))
    assert invoke(["judge", str(path), "--json"]) == 2, "nobody says what it was written with"


def test_a_book_goes_by_the_same(tmp_path: Path) -> None:
    heavy = Sample(
        1, "A", "", "", "lfp", (parse_claim("price 229 EUR"), parse_claim("at most 7 kg")), Arrival(mass_kg=6.97)
    )
    claims = heavy.claims
    evidence = [*arrival_evidence(heavy), *entered_evidence([{"kind": "price", "value": 240.0, "unit": "money"}])]
    price, mass = judge(heavy.family, 40.0, claims, evidence)
    assert price.outcome is Outcome.MISSED and price.measured is not None and price.measured.unit == "EUR"
    assert mass.measured is not None and mass.measured.expanded == pytest.approx(0.01 / math.sqrt(3))
    # of several the latest in its own currency
    paid = [
        {"kind": "price", "value": value, "unit": unit}
        for value, unit in ((240.0, "EUR"), (229.0, "EUR"), (300.0, "USD"))
    ]
    assert judge(heavy.family, 40.0, claims[:1], entered_evidence(paid))[0].outcome is Outcome.MET
    # a mass typed in pounds does not tell what it was read to
    pounds = arrival_evidence(Sample(1, "A", "", "", "lfp", (), Arrival(mass_kg=15.4 * 0.45359237)))
    assert pounds[0].as_read().standard is None
    assert claim_words(claims[0]) == "Price 229 EUR" and claim_words(parse_claim("price 229")) == "Price 229"


def test_two_currencies_are_not_compared() -> None:
    def figures(*prices: str) -> list[str]:
        samples = [Sample(n, f"S{n}", "", "", "lfp", (parse_claim(text),)) for n, text in enumerate(prices)]
        family = {one.code: one.family for one in samples}
        found = {one.code: figures_of(one, [], []) for one in samples}
        return [row.quantity for row in compare_samples([one.code for one in samples], family, found).rows]

    assert figures("price 229 EUR", "€ 240") == ["price"] and figures("price 229 EUR", "price 229 USD") == []
