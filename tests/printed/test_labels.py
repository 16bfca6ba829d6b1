"""What is printed is read as it is meant: phrases of labels, manuals and web pages, with what each says.

The phrases are of invented batteries, in the habits that the trade's labels have; common practice, no published source.
"""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as some

from tests import amount
from wintry_tally.cli.claiming import claims_dict
from wintry_tally.cli.judging import judge_file
from wintry_tally.cli.main import invoke
from wintry_tally.core.battery.printed import Printed, Sense, read_printed
from wintry_tally.core.battery.printed.commas import MOST, parted
from wintry_tally.core.battery.printed.one import claim_of_kind, typed_claims
from wintry_tally.core.battery.printed.own import line_for, said_line
from wintry_tally.core.battery.printed.sense import currency_of
from wintry_tally.core.battery.printed.vocabulary import shipped, with_own

LINES = [
    line.split("=>")
    for line in (Path(__file__).parent / "labels.txt").read_text(encoding="utf-8").splitlines()
    if line and not line.startswith("#")
]
DIRECTIONS = {"at-least", "at-most", "within", "is"}


def told(found: Printed) -> list[str]:
    """A reading as its parts in words."""
    parts = [] if found.pack.nominal_V is None else [f"pack {found.pack.nominal_V:g}"]
    for read in found.claims:
        claim = read.claim
        if claim.value is None:
            parts.append(f"{claim.kind} {'yes' if claim.wanted else 'no'}")
            continue
        words = f"{claim.kind} {claim.value:.10g} {claim.direction.value} ±{claim.tolerance:g}"
        words += f" {currency_of(claim.text)}" if claim.kind == "price" else ""
        parts.append(" ".join([words, *(f"{name}={value:g}" for name, value in sorted(claim.conditions.items()))]))
    return parts + (["left"] if found.left else [])


def agrees(said: str, wanted: str) -> bool:
    """Whether a part says what is wanted of it; a direction and a width that are not named may be any but odd ones."""
    have, want = said.split(), wanted.split()
    if have[0] != want[0]:
        return False
    if want[0] in {"pack", "left"} or want[1:2] in (["yes"], ["no"]):
        return have == want
    if abs(float(have[1]) - float(want[1])) > 1e-6 * max(1.0, abs(float(want[1]))):
        return False
    conditions = {part for part in have if "=" in part}
    if conditions != {part for part in want if "=" in part}:
        return False
    width = next((part for part in want if part.startswith("±")), "±0")
    named = [part for part in want if part in DIRECTIONS or part in {"USD", "EUR", "GBP"}]
    return width in have and all(part in have for part in named)


@pytest.mark.parametrize(("text", "wanted"), LINES, ids=[line[0].strip() for line in LINES])
def test_as_it_is_meant(text: str, wanted: str) -> None:
    family = re.match(r"\{(\w+)\} ", text)
    found = told(read_printed(text.split("} ")[-1].strip(" "), family=family[1] if family else "lfp"))
    parts = [part.strip() for part in wanted.split(";") if part.strip()]
    assert len(found) == len(parts) and all(agrees(*pair) for pair in zip(found, parts, strict=True)), found


def test_a_whole_label_is_read_with_its_lines_and_nothing_is_lost() -> None:
    label = (
        "NORTHLAMP LiFePO4 battery\n12.8V 100Ah  1,280Wh\nMax. continuous discharge: 100A\nPeak: 200A (5s)\n"
        "Charge: 14.4-14.6V, max 50A\n\nLow temp. charging protection: 0°C\n4,000+ cycles @80% DOD\nCCA 900\n"
    )
    found = read_printed(label)
    assert found.pack.nominal_V == 12.8 and found.pack.family == "lfp"
    kinds = [(read.claim.kind, read.line) for read in found.claims]
    assert ("energy", 2) in kinds and ("continuous-discharge", 3) in kinds and ("surge", 4) in kinds
    assert ("cold-charge-block", 7) in kinds and ("cycles", 8) in kinds
    assert [left.line for left in found.left if "CCA" in left.text] == [9]
    for read in found.claims:
        assert (read.claim.text and read.claim.text in label.replace("\n", " ")) or read.claim.text in label


def test_what_is_ambiguous_is_settled_by_the_product_or_asked_about() -> None:
    assert read_printed("12.8 V 100 Ah\n1.280 Wh").claims[1].claim.value == 1280.0
    assert read_printed("energy 2,500 kWh").claims[0].claim.value == pytest.approx(2500.0), "2.5 kWh, not 2.5 MWh"
    asked = read_printed("continuous discharge 1,200 A")
    assert not asked.claims and "could be 1200 or 1.2" in asked.left[0].reason
    rate = read_printed("0.5C charge")
    assert not rate.claims and "needs the capacity" in rate.left[0].reason
    cells = read_printed("2.5 V/cell cut-off")
    assert not cells.claims and "number of cells" in cells.left[0].reason


def test_cells_follow_the_pack() -> None:
    assert read_printed("25.6 V\ncut-off 2.5 V/cell", family="lfp").claims[0].claim.value == 20.0
    assert read_printed("8S\ncut-off 2.5 V/cell", family="lfp").claims[0].claim.value == 20.0
    assert read_printed("AGM 24 V battery\nend voltage 1.75 V/cell").claims[0].claim.value == 21.0


def test_what_is_known_of_the_battery_settles_what_its_text_leaves_open() -> None:
    known = Sense(25.6, 60.0, 8)
    assert read_printed("charge 0.5C", known_of=known).claims[0].claim.value == 30.0
    assert read_printed("100 Ah; charge 0.5C", known_of=known).claims[1].claim.value == 50.0, "the text goes before"
    assert read_printed("cut-off 2.5 V/cell", family="lfp", known_of=known).claims[0].claim.value == 20.0
    assert read_printed("12.8 V; cut-off 2.5 V/cell", family="lfp", known_of=known).claims[0].claim.value == 10.0
    asked = read_printed("low-voltage cut 28.8 V", known_of=known)
    assert not asked.claims and "far above" in asked.left[0].reason
    # whoever chose the kind means it
    assert claim_of_kind("low-voltage-cut", "28.8 V", known_of=known).value == 28.8
    assert claim_of_kind("low-voltage-cut", "2.5 V/cell", family="lfp", known_of=known).value == 20.0


def test_whatever_is_read_may_be_judged(tmp_path: Path) -> None:
    # contract: judge takes every kind and condition key that claims prints
    path, keys = tmp_path / "claims.json", ("kind", "value", "unit", "direction", "tolerance", "conditions", "source")
    for text, _ in LINES:
        family = re.match(r"\{(\w+)\} ", text)
        key = family[1] if family else "lfp"
        printed = claims_dict(read_printed(text.split("} ")[-1].strip(), family=key))["claims"]
        claims = [{name: claim[name] for name in keys} for claim in printed]
        path.write_text(json.dumps({"battery": {"family": key}, "claim": claims}), encoding="utf-8")
        for claim, verdict in zip(claims, judge_file(path)["claims"], strict=True):
            required = {**verdict["required"], "kind": verdict["kind"]}
            same = ("kind", "unit", "direction", "tolerance", *(() if claim["value"] in (True, False) else ("value",)))
            assert {name: required[name] for name in same} == {name: claim[name] for name in same}, text


def test_the_shell_takes_what_is_known(tmp_path: Path, capsys) -> None:
    path = tmp_path / "label.txt"
    path.write_text("cut-off 2.5 V/cell\ncharge 0.2C\n", encoding="utf-8")
    known = ["--family", "lfp", "--nominal-v", "25.6", "--rated-ah", "60"]
    assert invoke(["claims", str(path), *known, "--json"]) == 0
    assert [one["value"] for one in json.loads(capsys.readouterr().out)["claims"]] == [20.0, 12.0]
    assert invoke(["claims", str(path), "--family", "lfp", "--nominal-v", "5", "--json"]) == 2
    assert invoke(["claims", str(path), "--rated-ah", "0", "--json"]) == 2 and "cannot be" in capsys.readouterr().err


def test_a_persons_own_words_are_read() -> None:
    assert not read_printed("hummer 40 A").claims
    own = with_own(["hummer = continuous-discharge", "nonsense", "x = no kind"])
    assert read_printed("hummer 40 A", vocabulary=own).claims[0].claim.kind == "continuous-discharge"
    assert len(own.phrases) == len(shipped().phrases) + 1


@pytest.mark.parametrize(
    ("text", "kind", "value", "line"),
    [
        ("Kickout level 9.8 V", "low-voltage-cut", "9.8 V", "kickout level = low-voltage-cut"),
        ("Chill-stop: 0 °C", "cold-charge-block", "0 °C", "chill-stop = cold-charge-block"),
        ("max. gulp 60 A", "surge", "up to 60 A", "gulp = surge"),
        ("Its winter kickout comes in at 9.8 V", "low-voltage-cut", "9.8 V", None),
        ("40 Ah", "capacity", "40 Ah", ""),  # is read so already
        ("9.8 V", "low-voltage-cut", "9.8 V", ""),  # no word to hang it on
        ("Kickout level 9.8 V and 40 Ah", "low-voltage-cut", "9.8 V", ""),  # two claims stand there
        ("Kickout level 9.8 V", "low-voltage-cut", "9.6 V", ""),  # not what stands there
    ],
)
def test_a_correction_is_a_line_of_ones_own_words(text: str, kind: str, value: str, line: str | None) -> None:
    claim = claim_of_kind(kind, value)
    offered = line_for(text, claim)
    if line is not None:
        assert offered == line
        if not line:
            return
    read = read_printed(text, vocabulary=with_own([offered]))
    assert not read.left and [one.claim.kind for one in read.claims] == [kind]
    assert read.claims[0].claim.value == claim.value
    assert line_for(text, claim, own=(offered,)) == ""
    assert said_line(offered).startswith(f"“{offered.partition(' =')[0]}” is ")


WORDS = [line[0].split("} ")[-1].strip() for line in LINES]


ALONE = [
    (text.strip(), wanted.strip())
    for text, wanted in LINES
    if re.fullmatch(r"[^{;|\t.]*(\.\d[^{;|\t.]*)*", text)
    and re.fullmatch(r" (?!pack|left)[^;]+", wanted)
    and text.strip() != "300 A (3 seconds)"
    and "heater off" not in text  # go on with what stands before them; part nothing
]
"""Phrases that make one claim and stand for themselves."""


@settings(max_examples=amount.some(133, 400))
@given(some.sampled_from(ALONE), some.sampled_from(ALONE), some.sampled_from(["; ", ".  ", "\n", ", "]))
def test_two_phrases_apart_say_what_each_says_alone(one: tuple[str, str], other: tuple[str, str], apart: str) -> None:
    assume(one[1].split()[0] != other[1].split()[0])
    # a word or a unit that is shortened may have a point of its own
    assume(apart[0] != "." or re.search(r"(\.|\b(?:kr|lbs?|hrs?|in|mins?|mos?|yrs?|secs?|oz))$", one[0]) is None)
    second = other[0] if apart[0] != "." else other[0][0].upper() + other[0][1:]
    found = told(read_printed(one[0] + apart + second, family="lfp"))
    wanted = [one[1], other[1]]
    assert len(found) == 2 and any(all(map(agrees, found, order)) for order in (wanted, wanted[::-1])), found


MARKS = "0123456789.,/' ½%°CAhVWS±-()$"
"""What figures are written with, in any order."""
BITS = ["1", "0", "12", "1,2", "1.2.3", "1/0", "½", ".", ",", "±", "-", "to", "h", "min", "s", "Ah", "V", "A", "C", "C20", "%", "lb", "oz", "in", "'", '"', "kg", "$", "°C", "@", "(", ")", "x", "4S", "IP67", "charge", "surge", "cut", "cycles", "cell", "months", "reserve", "per month"]  # fmt: skip


@settings(max_examples=amount.some(67, 200))
@given(
    some.lists(some.one_of(some.sampled_from(WORDS), some.text(max_size=30), some.text(MARKS, max_size=16)), max_size=6)
)
def test_whatever_is_pasted_is_read_or_left_and_nothing_is_invented(parts: list[str]) -> None:
    text = "\n".join(parts)
    found = read_printed(text)
    lines = text.splitlines()
    for read in found.claims:
        assert 1 <= read.line <= len(lines)
        if read.claim.value is not None:
            assert any(sign.isdigit() or sign in "½¼¾⅛⅜⅝⅞" for sign in lines[read.line - 1]), "no number from nowhere"
    touched = {read.line for read in found.claims} | {left.line for left in found.left}
    for number, line in enumerate(lines, 1):
        if re.search(r"\d\s?(Ah|Wh|kg)\b", line) and line in WORDS:
            assert number in touched, line


def test_the_shell_prints_them(tmp_path: Path, capsys) -> None:
    path = tmp_path / "label.txt"
    path.write_text("12.8V 100Ah 1,280Wh\nSurge 200 A (5 s)\nCCA 900 A\n", encoding="utf-8")
    assert invoke(["claims", str(path), "--source", "manual", "--json"]) == 0
    said = json.loads(capsys.readouterr().out)
    assert said["schema"] == "wintry-tally.claims/1" and set(said) == {"schema", "claims", "pack", "left"}
    assert said["claims"][0] == {
        "kind": "capacity", "value": 100.0, "unit": "Ah", "direction": "at-least", "tolerance": 0.0, "conditions": {},
        "source": "manual", "text": "12.8V 100Ah 1,280Wh", "line": 1,
    }  # fmt: skip
    assert said["claims"][2]["conditions"] == {"duration_s": 5.0}
    assert said["pack"] == {"nominal_V": 12.8, "family": None, "cells": None}
    assert said["left"] == [{"line": 3, "text": "CCA 900 A", "reason": said["left"][0]["reason"]}]
    assert invoke(["claims", str(path)]) == 0
    shown = capsys.readouterr().out
    assert "line 1" in shown and "Capacity" in shown and "CCA 900 A" in shown
    assert invoke(["claims", str(tmp_path / "none")]) == 2 and "no such file" in capsys.readouterr().err
    assert invoke(["claims", str(path), "--family", "nicd"]) == 2 and "nicd" in capsys.readouterr().err


def test_a_text_made_to_hurt_is_told_and_not_read() -> None:
    long = read_printed("100 Ah\n" + "1 Ah, " * 200 + "\n4.3 kg")
    assert [read.claim.kind for read in long.claims] == ["capacity", "mass"] and long.left[-1].line == 2
    many = read_printed("\n".join(["100 Ah"] * 2001))
    assert len(many.claims) == 2000 and many.left[-1].line == 2001 and "2000 lines" in many.left[-1].reason


@pytest.mark.parametrize(
    "text", ["length 8½ in; 512 Wh; surge 80 A (5 s)", "½ C charge; 8 ½ in long; 40 Ah", "10¾ lb;40 Ah"]
)
def test_what_is_read_is_where_it_is_printed_behind_a_fraction_too(text: str) -> None:
    parts = [part.strip() for part in text.split(";")]
    found = typed_claims(text)
    assert sorted(text[mark.begin : mark.end] for mark in found.marks) == sorted(parts)
    assert sorted(claim.text for claim in found.claims) == sorted(parts)


@pytest.mark.parametrize(
    ("text", "read"),
    [
        ("Max. discharge current: 160200 A", False), ("Max. discharge current: 15000 A", True), ("Max. discharge current: 15001 A", False),
        ("Capacity 100000 Ah", False), ("Capacity 0.025 Ah", True), ("Capacity 0.024 Ah", False), ("Weight 4310 kg", False),
        ("Weight 1800 kg", True), ("Length 32900 mm", False), ("Charge at 0 °C: no", True),
    ],
)  # fmt: skip
def test_a_number_far_beyond_any_battery_is_asked_about(text: str, read: bool) -> None:
    found = read_printed(text, family="lfp")
    asked = [left for left in found.left if "a dash, a point or a unit may be missing" in left.reason]
    assert bool(asked) != read and (read or not found.claims)


@pytest.mark.parametrize(
    ("text", "unit"),
    [
        ("runs 14 hrs at 4 A", "h"), ("RC 120 minutes @ 25 A", "min"), ("runs for two days at 1 A", "d"), ("charges in 5 hours", "h"),
        ("shelf life 12 months", "months"), ("runs 90 mins at 10 A", "min"), ("surge 200 A (5 s)", "A"), ("40 Ah", "Ah"),
    ],
)  # fmt: skip
def test_a_result_stands_in_its_claim_s_unit_however_that_was_spelt(text: str, unit: str) -> None:
    assert typed_claims(text).claims[0].printed_unit == unit


@pytest.mark.parametrize("text", ["length 8 1/0 in", "1.299,00.0 Wh", "1,28.5 Ah", "charge 1.2.3C, 100 Ah", "charge C/0, 100 Ah", "100 Ah (0HR)"])  # fmt: skip
def test_figures_that_are_no_numbers_are_told_and_taken_for_nothing(text: str) -> None:
    found = read_printed(text, family="lfp")
    assert found.left and all(dict(read.claim.conditions) == {} for read in found.claims)
    assert [read.claim.value for read in found.claims] == ([100.0] if "100 Ah" in text else [])


def test_what_is_left_of_a_clause_is_told_without_what_was_read_of_it() -> None:
    # the window's field keeps what is left: what was added would be added again
    found = read_printed("charged in 5 h, charging at 6 A, 1.299,00.0 Wh", family="lfp")
    assert [read.claim.kind for read in found.claims] == ["charge-time"] and [one.text for one in found.left] == ["1.299,00.0 Wh"]  # fmt: skip
    assert read_printed("Energy 1.299,00.0 Wh", family="lfp").left[0].text == "Energy 1.299,00.0 Wh"


def test_a_line_of_very_many_commas_is_read_as_it_stands() -> None:
    many = ", ".join(["4000 cycles", "11 kg", "price $ 500"] * 5)
    assert {read.claim.kind for read in read_printed(many).claims} >= {"cycles", "mass", "price"}
    asked = []

    def read(words: str) -> bool:
        asked.append(words)
        return True

    assert parted(", ".join("x" * (MOST + 1)), read).count(";") == MOST and asked
    asked.clear()
    assert parted(", ".join("x" * (MOST + 2)), read).count(",") == MOST + 1 and not asked
    assert parted("a (b, c), d", read) == "a (b, c); d" and parted("1,280", read) == "1,280"
