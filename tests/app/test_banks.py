"""Banks: sums, checks before joining, what their units say of them, and what shares a battery with what.

Series adds V, strings side by side add Ah; units are joined within 0.05 V: common practice, no published source. T20 of
tests/SOURCES.md gives 4 × 12.8 V, 100 Ah as 51.2 V, 400 Ah.
"""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pytest

from wintry_tally.app.banks import bank_of, expected_of, judge_on_units, kin_of, through_units
from wintry_tally.app.campaign import draw_up, standings_of
from wintry_tally.app.comparison import judge_one
from wintry_tally.app.dossiers import dossier_of
from wintry_tally.app.edits import Edits
from wintry_tally.app.launch import battery_things
from wintry_tally.app.wishes import Wishes
from wintry_tally.bench.equipment import Equipment
from wintry_tally.book import Book
from wintry_tally.cli.main import invoke
from wintry_tally.core.battery import Arrival, Sample, label_findings, parse_claim
from wintry_tally.core.battery.banks import bank_claims, expected, join_findings, joined
from wintry_tally.core.compare import Device, Need
from wintry_tally.core.errors import InputError
from wintry_tally.core.quantity import Quantity, Term
from wintry_tally.core.verdict import School
from wintry_tally.demo import scratch_copy

CLAIMS = ("100 Ah", "1280 Wh", "continuous discharge 100 A", "charge voltage 14.4 V", "11 kg", "cuts at 10 V")


def _units(count: int, *more: str, volts: float | None = 13.2, **arrival: object) -> tuple[Sample, ...]:
    claims = tuple(parse_claim(text) for text in (*CLAIMS, *more))
    return tuple(
        Sample(n, f"U{n}", "Firn", "100", "lfp", claims, Arrival(rested_V=volts, **arrival))  # type: ignore[arg-type]
        for n in range(1, count + 1)
    )


def test_series_adds_volts_and_strings_add_amperes() -> None:
    bank = joined(_units(16), 4, 4)
    assert bank.nominal_V == pytest.approx(51.2) and len(bank.strings) == 4
    assert [unit.code for unit in bank.strings[1]] == ["U5", "U6", "U7", "U8"]
    assert bank.words.startswith("4 strings of 4: U1 + U2 + U3 + U4, U5 + ")
    found = {claim.kind: claim for claim in bank_claims(bank)}
    assert {kind: claim.value for kind, claim in found.items()} == {
        "capacity": 400.0, "energy": 16 * 1280.0, "continuous-discharge": 400.0, "charge-voltage": pytest.approx(57.6),
        "mass": 176.0, "low-voltage-cut": pytest.approx(40.0),
    }  # fmt: skip
    assert found["capacity"].text == "16 × 100 Ah" and found["capacity"].source == "its units"
    said = label_findings(bank.units[0].family, bank_claims(joined(_units(2), 1, 2)))
    assert [one.message for one in said] == ["12.8 V × 200 Ah = 2560 Wh: agrees with the 2560 Wh by its units."]
    timed = joined(_units(4, "runs a logger (0.85 A, drops out at 11 V) for 48 h", "RC 125 min"), 2, 2)
    assert not {"runtime", "reserve"} & {claim.kind for claim in bank_claims(timed)}
    assert {"reserve"} <= {claim.kind for claim in bank_claims(joined(_units(2, "RC 125 min"), 2, 1))}
    one, other = _units(2)
    odd = Sample(3, "U3", "Firn", "100", "lfp", (parse_claim("90 Ah"),), Arrival(13.2))
    assert "capacity" not in {claim.kind for claim in bank_claims(joined((one, odd), 1, 2))}
    assert joined((one, other), 1, 2).words == "2 side by side: U1, U2"
    assert joined((one, other), 2, 1).words == "2 in series: U1 + U2"


@pytest.mark.parametrize(
    ("count", "series", "parallel", "words"),
    [(4, 3, 1, "not 4"), (1, 1, 1, "two units"), (2, 0, 2, "not 2"), (66, 1, 66, "66 units"), (5, 5, 1, "more than the 4"), (3, 1, 3, "more than the 2")],
)  # fmt: skip
def test_what_is_not_joined(count: int, series: int, parallel: int, words: str) -> None:
    more = ("up to 4 in series, 2 in parallel",) if words.startswith("more") else ()
    units = _units(count)
    if more:
        claim = parse_claim(CLAIMS[0])
        units = tuple(
            replace(u, claims=(*u.claims, replace(claim, text="up to 4 in series, 2 in parallel"))) for u in units
        )
    with pytest.raises(InputError, match=words):
        joined(units, series, parallel)


def test_unlike_ones_and_one_twice_are_not_joined() -> None:
    one = _units(1)[0]
    agm = Sample(5, "A", "", "", "agm", (), Arrival())
    small = Sample(6, "S", "", "", "lfp", (), Arrival(), 25.6)
    for units, words in (((one, one), "twice"), ((one, agm), "unlike family"), ((one, small), "unlike voltage")):
        with pytest.raises(InputError, match=words):
            joined(units, 1, 2)


def test_checks_before_joining_at_their_edges() -> None:
    def codes(*volts: float | None, **arrival: object) -> set[str]:
        units = tuple(_units(len(volts), volts=v, **arrival)[n] for n, v in enumerate(volts))
        return {one.code for one in join_findings(joined(units, 1, len(units)))}

    assert codes(13.20, 13.25) == {"bank-matched", "bank-allowed"}
    assert codes(13.20, 13.26) == {"bank-apart", "bank-allowed"}
    assert codes(13.20, None) == {"bank-unread", "bank-allowed"}
    a, b = _units(1, received="2026-01-01")[0], _units(2, received="2026-07-01")[1]
    assert "bank-age" in {one.code for one in join_findings(joined((a, b), 1, 2))}
    c = _units(2, received="2026-06-30")[1]
    assert "bank-age" not in {one.code for one in join_findings(joined((a, c), 1, 2))}
    bank = joined(_units(2), 1, 2)
    assert "bank-cycles" in {one.code for one in join_findings(bank, {"U1": 10.0, "U2": 61.0})}
    assert "bank-cycles" not in {one.code for one in join_findings(bank, {"U1": 10.0, "U2": 60.0})}


def test_unlike_models_ratings_and_what_a_maker_allows() -> None:
    one, other = _units(2)

    def codes(*units: Sample) -> list[str]:
        return [finding.code for finding in join_findings(joined(units, 1, len(units)))]

    assert codes(one, other) == ["bank-matched", "bank-allowed"]
    assert codes(one, replace(other, model="200")) == ["bank-models", "bank-matched", "bank-allowed"]
    assert codes(one, replace(other, maker="FIRN")) == ["bank-matched", "bank-allowed"]
    small = replace(other, claims=(replace(one.claims[0], value=90.0), *one.claims[1:]))
    assert codes(one, small) == ["bank-ratings", "bank-matched", "bank-allowed"]
    said = replace(one, claims=(*one.claims, replace(one.claims[1], text="up to 4 units in parallel")))
    assert codes(said, other) == ["bank-matched"]
    bare = tuple(replace(unit, claims=()) for unit in (one, other))
    assert joined(bare, 2, 1).nominal_V == pytest.approx(25.6) and bank_claims(joined(bare, 2, 1)) == []
    assert len(joined(_units(64), 1, 64).units) == 64
    with pytest.raises(InputError, match="65 units"):
        joined(_units(65), 1, 65)
    numbered = tuple(replace(unit, claims=tuple(replace(c, id=7) for c in unit.claims)) for unit in (one, other))
    assert all(claim.id is None for claim in bank_claims(joined(numbered, 1, 2)))
    voltage = next(c for c in bank_claims(joined(numbered, 1, 2)) if c.kind == "charge-voltage")
    assert voltage.value == 14.4 and voltage.text == "charge voltage 14.4 V"


def _charge(value: float, own: float = 0.1) -> Quantity:
    return Quantity.from_terms(value, "Ah", [Term("gain", 0.002 * value, shared="m"), Term("own", own)])


def test_a_string_gives_what_its_weakest_gives_and_the_weak_one_is_named() -> None:
    bank = joined(_units(4), 2, 2)
    found = expected(bank, {"U1": _charge(101.0), "U2": _charge(100.0), "U3": _charge(90.0), "U4": _charge(99.0)})
    assert found is not None and found.charge.value == pytest.approx(190.0) and found.weak == "U3"
    # one meter's gain is in all of them alike: it adds up, and does not average out
    assert found.charge.standard == pytest.approx((190.0**2 * 0.002**2 + 2 * 0.1**2) ** 0.5)
    assert found.costs is not None and found.costs.value == pytest.approx(9.0)
    even = expected(bank, {"U1": _charge(101.0), "U2": _charge(100.0), "U3": _charge(98.5), "U4": _charge(99.0)})
    assert even is not None and even.weak == "" and even.costs is None
    unsure = {code: _charge(value, 8.0) for code, value in (("U1", 101.0), ("U2", 100.0), ("U3", 94.0), ("U4", 99.0))}
    assert expected(bank, unsure).weak == ""  # type: ignore[union-attr]
    assert expected(bank, {"U1": _charge(100.0)}) is None
    assert [step.label for _, step in found.working.walk()][1:] == ["What U3 costs its string"]
    assert found.working.result.endswith("Ah: U2 + U3") and found.working.inputs["U4"].startswith("99.00 ±")
    unknown = {c: Quantity(v, None, "Ah") for c, v in (("U1", 101.0), ("U2", 100.0), ("U3", 80.0), ("U4", 99.0))}
    assert expected(bank, unknown).weak == ""  # type: ignore[union-attr]
    two = expected(joined(_units(2), 1, 2), {"U1": _charge(100.0), "U2": _charge(80.0)})
    assert two is not None and two.weak == "" and two.charge.value == 180.0  # of two nobody is accused


@pytest.fixture
def book(tmp_path: Path, own_places: Path):
    with Book.open(scratch_copy(tmp_path)) as made:
        yield made


def test_a_bank_in_a_book_its_kin_and_its_need(book: Book) -> None:
    by_code = {sample.code: sample for sample in book.samples.all()}
    units, made = (by_code["M1"], by_code["M2"]), list[int]()
    edit = Edits(book).add_bank(joined(units, 2, 1), made)
    edit.do()
    bank, sample = bank_of(book, made[0]), book.samples.get(made[0])
    assert bank is not None and sample.code == "B1" and sample.rated_Ah == 40.0 and sample.family.cells == 8
    assert sample.family.nominal_V == pytest.approx(25.6) and sample.cutoff_V == pytest.approx(20.0)
    assert kin_of(book, made[0]) == {units[0].id, units[1].id} and kin_of(book, units[0].id) == {made[0]}
    assert kin_of(book, by_code["M4"].id) == set() and bank_of(book, units[0].id) is None
    names = {thing.name for thing in battery_things(book, sample)}
    assert names == {"battery B1", "battery M1", "battery M2"}
    assert {thing.name for thing in battery_things(book, units[0])} == {"battery B1", "battery M1"}
    dossiers = {unit.id: dossier_of(book, unit, School.STRICT) for unit in units}
    found = expected_of(bank, dossiers)
    assert found is not None and found.charge.value == pytest.approx(39.8, abs=0.6)  # M2's
    need = Need("hut", 30.0, (Device("radio", W=24.0, least_V=21.0),))
    assert through_units(need, bank).devices == (Device("radio", W=12.0, least_V=10.5),)
    judged = judge_on_units(need, "B1", bank, dossiers)
    alone = judge_one(Need("hut", 30.0, (Device("radio", W=12.0, least_V=10.5),)), dossiers[units[1].id])
    assert judged is not None and judged.code == "B1" and judged.probability == alone.probability
    assert judged.mass_kg == pytest.approx(8.73) and "M2" in judged.steps[-1]
    # the tag of a unit comes off the rack: the bank is still made of it
    off = Edits(book).remove_sample(units[1].id)
    off.do()
    still = bank_of(book, made[0])
    assert still is not None and [unit.code for unit in still.units] == ["M1", "M2"]
    off.undo()
    edit.undo()
    assert "B1" not in {one.code for one in book.samples.all()}
    edit.do()
    assert bank_of(book, made[0]) is not None


def test_two_strings_share_what_is_drawn(book: Book) -> None:
    by_code = {sample.code: sample for sample in book.samples.all()}
    units = (by_code["M1"], by_code["M2"])
    dossiers = {unit.id: dossier_of(book, unit, School.STRICT) for unit in units}
    need = Need("hut", 60.0, (Device("radio", A=1.0),))
    beside = judge_on_units(need, "B1", joined(units, 1, 2), dossiers)
    alone = judge_one(need, dossiers[units[1].id])
    assert beside is not None and beside.hours is not None and alone.hours is not None
    assert beside.hours.value == pytest.approx(2 * alone.hours.value, rel=0.03)
    assert beside.in_parallel == 1 and alone.in_parallel == 2


def test_a_bank_and_its_units_are_never_planned_together(book: Book) -> None:
    by_code = {sample.code: sample for sample in book.samples.all()}
    made: list[int] = []
    Edits(book).add_bank(joined((by_code["M1"], by_code["M2"]), 1, 2), made).do()
    now = datetime(2027, 1, 11, 8, tzinfo=UTC)
    samples = [book.samples.get(number) for number in (by_code["M1"].id, by_code["M2"].id, made[0])]
    wishes = Wishes().repeated("M1", "capacity-reference", 9).repeated("M2", "capacity-reference", 9)
    standings = standings_of(
        samples, {s.id: book.runs.all(s.id) for s in samples}, lambda _s: None, lambda *_: None, wishes, Equipment(), now,
        book.banks.all(),
    )  # fmt: skip
    assert standings[made[0]].shares == ("battery M1", "battery M2")
    plan = draw_up(standings, Equipment(), "always", wishes, {}, now, 1.0).plan
    spans = {
        code: [
            (plan.starts[t.id], plan.ends(t)) for t in plan.campaign.tasks if t.sample == code and t.id in plan.starts
        ]
        for code in ("M1", "M2", "B1")
    }
    assert all(spans.values())
    for a, b in spans["B1"]:
        assert all(d <= a or b <= c for c, d in spans["M1"] + spans["M2"])
    assert any(c < b and a < d for a, b in spans["M1"] for c, d in spans["M2"])


def test_from_a_shell(book: Book, capsys: pytest.CaptureFixture[str]) -> None:
    path = str(book.path)
    assert invoke(["bank", path, "M1", "M2", "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert (found["code"], found["parallel"], found["units"]) == ("B1", 2, ["M1", "M2"])
    assert found["expected"]["charge"]["value"] == pytest.approx(81.2, abs=1.2) and found["expected"]["weak"] is None
    assert invoke(["bank", path, "B1"]) == 0
    assert "2 side by side: M1, M2; 12.8 V" in capsys.readouterr().out
    for wrong, words in (
        (["M1"], "is no bank"),
        (["M1", "M4"], "unlike family"),
        (["M1", "M9"], "no sample"),
        (["M1", "M2", "--series", "3"], "not 2"),
    ):
        assert invoke(["bank", path, *wrong]) == 2
        assert words in capsys.readouterr().err
